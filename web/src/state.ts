import { create } from 'zustand'
import type { EdgeRef, FaceRef, Problem, Vec } from './api/client'

export const STAGES = ['incoming', 'seat', 'hold', 'reach', 'cut', 'outgoing'] as const
export type Stage = (typeof STAGES)[number]
export type Look = 'spindle' | 'operator' | 'left' | 'right' | 'back' | 'pick'
export const LAYERS = ['part', 'stock', 'holding', 'paths'] as const
export type Layer = (typeof LAYERS)[number]
export type DockTab = 'time' | 'program' | 'findings'
/** What is chosen in the rail: the billet, a setup by its number, or the finished part. */
export type Card = 'billet' | 'part' | number

/** A question to the picture: which face, or which edge? */
export type Asked =
  | { kind: 'face'; prompt: string; many?: boolean; take: (ref: FaceRef) => void }
  | { kind: 'edge'; prompt: string; take: (ref: EdgeRef) => void }

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
  compare: boolean
  notice: Problem | null
  keys: boolean
  choose: (card: Card, stage?: Stage) => void
  set: (change: Partial<View>) => void
  /** Start or stop the time; from the end it starts anew. */
  play: () => void
  lookFrom: (look: Look) => void
  toggle: (layer: Layer) => void
  tell: (notice: Problem | null) => void
}

export const useView = create<View>((set) => ({
  card: 0,
  stage: 'incoming',
  tab: 'time',
  look: 'operator',
  lookCount: 0,
  shown: { part: true, stock: true, holding: true, paths: false },
  time: Infinity,
  playing: false,
  speed: 10,
  operation: null,
  asked: null,
  picked: null,
  marked: null,
  compare: false,
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
  lookFrom: (look) => set((view) => ({ look, lookCount: view.lookCount + 1 })),
  toggle: (layer) => set((view) => ({ shown: { ...view.shown, [layer]: !view.shown[layer] } })),
  tell: (notice) => set({ notice }),
}))

/** Setup hues in order: the Okabe–Ito palette. */
export const HUES = ['#009E73', '#CC79A7', '#E69F00', '#56B4E9', '#D55E00', '#0072B2', '#F0E442']
export const hueOf = (setup: number) => HUES[setup % HUES.length] ?? '#009E73'

export const clock = (seconds: number) => {
  const whole = Math.round(seconds)
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}
export const round = (value: number, digits = 3) => String(Number(value.toFixed(digits)))
