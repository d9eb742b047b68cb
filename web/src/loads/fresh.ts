import type { Load, Stand } from '../api/client'

/** What a load is where the plan tells nothing of it yet. */
export const fresh = (name: string): Load => ({
  name,
  stands: [],
  guests: [],
  order: 'places',
  hand: [],
  between: 'top',
  program: 'one',
  subprograms: true,
  shifts: 'no',
  stops: false,
  counts: false,
  loading_s: 60,
  setup_min: 0,
  lot: null,
})

export const freshStand = (setup: string): Stand => ({
  setup,
  at_x: 0,
  at_y: 0,
  columns: 1,
  rows: 1,
  pitch_x: 0,
  pitch_y: 0,
  stays: [],
  different: [],
})

/** Where a setup stands in a load, by its name or as a guest is called there; undefined where nothing is told of it. */
export const standIn = (load: Load, setup: string): Stand | undefined =>
  load.guests.find((one) => `${one.name}.${one.setup}` === setup) ??
  load.stands.find((one) => one.setup === setup)
