import { create } from 'zustand'

/** The moment that is shown. */
type Clock = {
  /** Time in the chosen setup, s; Infinity is the end. */
  time: number
  /** Whether time runs, and how many seconds of cutting in one. */
  playing: boolean
  speed: number
  /** The line of the program that was gone to, from 0, where no move tells it; null: as the time tells. */
  line: number | null
  /** Lines at which it stops, by the name of their setup. */
  stops: Record<string, readonly number[]>
}

export const useClock = create<Clock>(() => ({
  time: Infinity,
  playing: false,
  speed: 10,
  line: null,
  stops: {},
}))

/** Stop at a line from now on, or no more. */
export const toggleStop = (setup: string, line: number) =>
  useClock.setState(({ stops }) => {
    const own = stops[setup] ?? []
    const next = own.includes(line) ? own.filter((one) => one !== line) : [...own, line]
    return { stops: { ...stops, [setup]: next.sort((a, b) => a - b) } }
  })
