import { create } from 'zustand'
import { useShallow } from 'zustand/react/shallow'
import type {
  Billet,
  Edge,
  EdgeRef,
  Face,
  FaceRef,
  Measured,
  Problem,
  StandData,
  Target,
  Vec,
} from './api/client'

export const STAGES = ['incoming', 'seat', 'hold', 'reach', 'cut', 'outgoing'] as const
export type Stage = (typeof STAGES)[number]
export type Look = 'spindle' | 'operator' | 'left' | 'right' | 'back' | 'pick'
export const LAYERS = ['part', 'stock', 'holding', 'machine', 'paths'] as const
export type Layer = (typeof LAYERS)[number]
export type DockTab = 'time' | 'program' | 'findings'
/** What is chosen in the rail: the billet, a setup by its number, or the finished part. */
export type Card = 'billet' | 'part' | number

/** A question to the picture: which face, edge or corner? `serves` says why one cannot serve, or null. */
export type Asked =
  | {
      kind: 'face'
      prompt: string
      many?: boolean
      serves?: (face: Face) => string | null
      take: (ref: FaceRef) => void
    }
  | { kind: 'edge'; prompt: string; serves?: (edge: Edge) => string | null; take: (ref: EdgeRef) => void }
  | { kind: 'vertex'; prompt: string; take: (ref: EdgeRef, end: 0 | 1) => void }
  | { kind: 'measure'; prompt: string }

/** What has been picked to be measured, and what came out. */
export type Measuring = { targets: Target[]; values: Measured[] }

/** A plane through the work: which way it looks, how far along, 0 … 1. */
export type Section = { axis: 0 | 1 | 2 | 'pick'; share: number }

type View = {
  card: Card
  stage: Stage
  tab: DockTab
  look: Look
  lookCount: number
  shown: Record<Layer, boolean>
  /** Time in the chosen setup, s; Infinity is the end. */
  time: number
  /** Whether time runs, and how many seconds of cutting in one. */
  playing: boolean
  speed: number
  operation: string | null
  asked: Asked | null
  picked: { face: number; normal: Vec | null; centre: Vec } | null
  marked: Vec | null
  /** Faces of the part that a sheet points at. */
  lit: readonly number[]
  /** Share of each face that the spindle sees, while the picture shows that. */
  seen: readonly number[] | null
  /** Key of a picture of what a tool reaches, while it is shown. */
  reached: string | null
  /** The machine moved to some values of its axes, at the stage Reach. */
  standing: StandData | null
  measuring: Measuring | null
  /** The value that F2 writes into a field. */
  measured: number | null
  section: Section | null
  /** Whether contact areas are shown at the stage Hold, and the item of the holding that is pointed at. */
  contacts: boolean
  litItem: string | null
  /** The index position that the picture looks at, at the stage Reach. */
  turnedTo: string | null
  compare: boolean
  /** The billet with a number that is being typed, drawn and not yet kept. */
  typedBillet: Billet | null
  /** Edits on their way to the server. */
  saving: number
  notice: Problem | null
  keys: boolean
  choose: (card: Card, stage?: Stage) => void
  set: (change: Partial<View>) => void
  /** Start or stop the time; from the end it starts anew. */
  play: () => void
  /** Begin measuring, or leave it. */
  measure: () => void
  lookFrom: (look: Look) => void
  toggle: (layer: Layer) => void
  tell: (notice: Problem | null) => void
}

/** Do an edit; the screen says that it is being saved until what the server answered is shown. */
export async function saving<T>(edit: Promise<T>): Promise<T> {
  const count = (by: number) => useView.setState((view) => ({ saving: view.saving + by }))
  count(1)
  try {
    return await edit
  } finally {
    // The answer is shown in a task of its own, put off before this one.
    setTimeout(() => count(-1))
  }
}

export const useView = create<View>((set) => ({
  card: 0,
  stage: 'incoming',
  tab: 'time',
  look: 'operator',
  lookCount: 0,
  shown: { part: true, stock: true, holding: true, machine: true, paths: false },
  time: Infinity,
  playing: false,
  speed: 10,
  operation: null,
  asked: null,
  picked: null,
  marked: null,
  lit: [],
  seen: null,
  reached: null,
  standing: null,
  measuring: null,
  measured: null,
  section: null,
  contacts: true,
  litItem: null,
  turnedTo: null,
  compare: false,
  typedBillet: null,
  saving: 0,
  notice: null,
  keys: false,
  choose: (card, stage) =>
    set((view) => ({
      card,
      stage: stage ?? view.stage,
      operation: null,
      time: Infinity,
      playing: false,
      asked: null,
      marked: null,
      lit: [],
      litItem: null,
      turnedTo: null,
      seen: null,
      reached: null,
      compare: false,
    })),
  set: (change) => set(change),
  play: () =>
    set((view) => ({
      playing: !view.playing,
      time: !view.playing && view.time === Infinity ? 0 : view.time,
      compare: false,
      tab: 'time',
    })),
  measure: () =>
    set((view) => ({
      asked: view.asked?.kind === 'measure' ? null : { kind: 'measure', prompt: 'Measure' },
      measuring: null,
    })),
  lookFrom: (look) => set((view) => ({ look, lookCount: view.lookCount + 1 })),
  toggle: (layer) => set((view) => ({ shown: { ...view.shown, [layer]: !view.shown[layer] } })),
  tell: (notice) => set({ notice }),
}))

/** Some fields of the view: who names the time is drawn as it goes, and nobody else. */
export const useFields = <K extends keyof View>(...names: K[]): Pick<View, K> =>
  useView(useShallow((view) => Object.fromEntries(names.map((name) => [name, view[name]])) as Pick<View, K>))

/** Setup hues in order: the Okabe–Ito palette. */
export const HUES = ['#009E73', '#CC79A7', '#E69F00', '#56B4E9', '#D55E00', '#0072B2', '#F0E442']
export const hueOf = (setup: number) => HUES[setup % HUES.length] ?? '#009E73'

export const clock = (seconds: number) => {
  const whole = Math.round(seconds)
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}
export const round = (value: number, digits = 3) => String(Number(value.toFixed(digits)))
