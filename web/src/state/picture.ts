import { create } from 'zustand'
import type { JogData, Vec } from '../api/client'

export type Look = 'spindle' | 'operator' | 'left' | 'right' | 'back' | 'pick' | 'corner' | 'fit'
/** The corners that are looked from in turn, and where each is. */
export const CORNERS = ['front right', 'front left', 'back left', 'back right'] as const
export const LAYERS = ['part', 'stock', 'holding', 'machine', 'paths', 'load'] as const
export type Layer = (typeof LAYERS)[number]

/** A plane through the work: which way it looks, how far along, 0 … 1. */
export type Section = { axis: 0 | 1 | 2 | 'pick'; share: number }

/** Whose paths are drawn, and which of their moves. */
export type Drawn = {
  of: 'one' | 'tool' | 'all'
  cuts: boolean
  leads: boolean
  air: boolean
  rapids: boolean
}

/** What the picture shows, and from where. */
type Picture = {
  look: Look
  lookCount: number
  /** Which of the corners was looked from last. */
  corner: number
  shown: Record<Layer, boolean>
  drawn: Drawn
  section: Section | null
  marked: Vec | null
  /** Faces of the part that a sheet points at. */
  lit: readonly number[]
  /** Share of each face that the spindle sees, while the picture shows that. */
  seen: readonly number[] | null
  /** Key of a picture of what a tool reaches, while it is shown. */
  reached: string | null
  /** The machine moved to some values of its axes, at the stage Reach. */
  jogged: JogData | null
  /** Whether contact areas are shown at the stage Hold, and the item of the holding that is pointed at. */
  contacts: boolean
  litItem: string | null
  compare: boolean
  /** All setups beside each other, as stock comes in or goes out. */
  sideBySide: 'in' | 'out' | null
  /** A stock that was computed beside the route, and what it is. */
  beside: { key: string; name: string } | null
}

export const useShown = create<Picture>(() => ({
  look: 'operator',
  lookCount: 0,
  corner: 0,
  shown: { part: true, stock: true, holding: true, machine: true, paths: false, load: false },
  drawn: { of: 'one', cuts: true, leads: true, air: true, rapids: true },
  section: null,
  marked: null,
  lit: [],
  seen: null,
  reached: null,
  jogged: null,
  contacts: true,
  litItem: null,
  compare: false,
  sideBySide: null,
  beside: null,
}))

/** Look from a side, also when it is the one that was looked from before. */
export const lookFrom = (look: Look) =>
  useShown.setState((picture) => ({
    look,
    lookCount: picture.lookCount + 1,
    corner: look !== 'corner' ? picture.corner : picture.look === 'corner' ? (picture.corner + 1) % 4 : 1,
  }))
export const toggle = (layer: Layer) =>
  useShown.setState(({ shown }) => ({ shown: { ...shown, [layer]: !shown[layer] } }))
/** Cut the picture through the middle, or make it whole. */
export const cutThrough = () =>
  useShown.setState(({ section }) => ({ section: section ? null : { axis: 1, share: 0.5 } }))
