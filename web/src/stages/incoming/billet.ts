import type { Billet, BilletForm, Library, Problem } from '../../api/client'

export type Kind = Billet['kind']
export type Of<K extends Kind> = Extract<Billet, { kind: K }>

/** What a kind of billet says of itself. */
export const formOf = (library: Library | undefined, kind: Kind): BilletForm | undefined =>
  library?.billets.find((one) => one.kind === kind)

/** The field of a block's allowance on a side: x- is x_minus. */
export const allowanceOn = (side: string) => side.replace('-', '_minus').replace('+', '_plus')

/** How the billet is changed: kept when a field is left, drawn while it is typed. */
export type Hand = {
  change: (what: string, next: (own: Billet) => void) => Promise<Problem | null>
  typing: (next: ((own: Billet) => void) | null) => void
}

/** How a stock lies round the part: its box, and what it has to spare on each side, mm. */
export type Lies = { low: number[]; high: number[]; margins: Record<string, number> }

/** Kinds of billet with sides to pull. */
export const PULLED: Kind[] = ['block', 'bar', 'extrusion']
