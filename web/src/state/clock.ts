import { create } from 'zustand'

/** The moment that is shown. */
type Clock = {
  /** Time in the chosen setup, s; Infinity is the end. */
  time: number
  /** Whether time runs, and how many seconds of cutting in one. */
  playing: boolean
  speed: number
}

export const useClock = create<Clock>(() => ({ time: Infinity, playing: false, speed: 10 }))
