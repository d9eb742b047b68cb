/** A name as it is, or with the first number from 2 on with which nobody else has it. */
export function freeId(id: string, taken: Iterable<string>) {
  const others = new Set(taken)
  let next = id
  for (let number = 2; others.has(next); number += 1) next = `${id.slice(0, 36)}-${number}`
  return next
}

/** The first number from 1 on that is not taken. */
export function freeNumber(taken: (number: number) => boolean) {
  let number = 1
  while (taken(number)) number += 1
  return number
}
