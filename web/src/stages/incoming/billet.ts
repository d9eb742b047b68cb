import type { Billet, Problem } from '../../api/client'

export type Kind = Billet['kind']
export type Of<K extends Kind> = Extract<Billet, { kind: K }>
/** Kinds that are read from a file. */
export type FromFile = 'extrusion' | 'model' | 'stock'
export const FILES = { extrusion: '.dxf', model: '.step,.stp,.stl,.3mf', stock: '.rays' } as const
export const UPLOADED = { extrusion: 'outline', model: 'part', stock: 'stock' } as const
/** The sides of a block: its field, the margin of that side, what people call it. */
export const SIDES = [
  ['x_minus', 'x-', 'Left  x−'],
  ['x_plus', 'x+', 'Right  x+'],
  ['y_minus', 'y-', 'Front  y−'],
  ['y_plus', 'y+', 'Back  y+'],
  ['z_minus', 'z-', 'Under  z−'],
  ['z_plus', 'z+', 'Top  z+'],
] as const

/** How the fields of a kind change their billet. */
export type Hand<B extends Billet> = {
  change: (what: string, next: (own: B) => void) => Promise<Problem | null>
  /** For a number of it: kept when it is left, drawn while it is typed. */
  number: (
    what: string,
    next: (own: B, value: number) => void,
  ) => { commit: (value: number) => Promise<Problem | null>; typing: (value: number | null) => void }
}
