import type { Setup } from '../../api/client'

export type Position = Setup['positions'][number]

/** A position beside some others, named apart from them. */
export function freshPosition(others: readonly Position[], own: Partial<Position>): Position {
  const taken = new Set(others.map((one) => one.name))
  let number = 1
  while (taken.has(`P${number}`)) number += 1
  return {
    direction: null,
    face: null,
    angles: null,
    offset_register: null,
    change: 'turn',
    message: '',
    zero: null,
    name: `P${number}`,
    ...own,
  }
}
