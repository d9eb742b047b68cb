import type { Zero } from '../../api/client'

/** A zero in the middle of something's top, with nothing picked. */
export const onTopOf = (of: Zero['of']): Zero => ({
  of,
  x: 0,
  y: 0,
  z: 1,
  faces: [],
  end: 0,
  item: '',
  parts: [],
  offset: [0, 0, 0],
})
