import { create } from 'zustand'
import type { Edge, EdgeRef, Face, FaceRef, Measured, Target, Vec } from '../api/client'

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
  | { kind: 'vertex'; prompt: string; take: (ref: EdgeRef, end: 0 | 1, at: Vec) => void }
  | {
      /** A place of the holding; `of`: only of that item, `beside`: of any other. */
      kind: 'piece'
      prompt: string
      of?: string
      beside?: string
      take: (piece: number, at: Vec, way: Vec) => void
    }
  | { kind: 'measure'; prompt: string }

/** What has been picked to be measured, and what came out. */
export type Measuring = { targets: Target[]; values: Measured[] }

/** What is asked of the picture, and what was picked in it. */
type Asking = {
  asked: Asked | null
  picked: { face: number; normal: Vec | null; centre: Vec } | null
  measuring: Measuring | null
  /** The value that F2 writes into a field. */
  measured: number | null
}

export const useAsking = create<Asking>(() => ({
  asked: null,
  picked: null,
  measuring: null,
  measured: null,
}))

/** Begin measuring, or leave it. */
export const measure = () =>
  useAsking.setState(({ asked }) => ({
    asked: asked?.kind === 'measure' ? null : { kind: 'measure', prompt: 'Measure' },
    measuring: null,
  }))
