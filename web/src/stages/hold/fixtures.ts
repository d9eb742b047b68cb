import type { Fixture, FixtureForm, HoldItem, Library } from '../../api/client'

/** What a kind of fixture says of itself. */
export const formOf = (library: Library | undefined, kind: string): FixtureForm | undefined =>
  library?.fixtures.find((one) => one.kind === kind)

/** The sizes a machinist asks for first, as the kind says them. */
export function sizes(library: Library | undefined, fixture: Fixture): string {
  const values = fixture as unknown as Record<string, unknown>
  return (formOf(library, fixture.kind)?.sizes ?? '').replace(/\{(\w+)\}/g, (_, field: string) => {
    const value = values[field]
    if (Array.isArray(value))
      return `${Math.min(...(value as number[]))} … ${Math.max(...(value as number[]))}`
    if (typeof value === 'boolean') return value ? ` · ${field}` : ''
    return String(value)
  })
}

/** A new item for a holding, standing on what suits it, or where it goes on the table. */
export function added(
  items: HoldItem[],
  fixture: Fixture,
  all: Fixture[],
  form: FixtureForm | undefined,
  middle: readonly [number, number],
): HoldItem[] {
  const kindOf = (item: HoldItem) => all.find((one) => one.id === item.fixture)?.kind
  const base = [...items].reverse().find((one) => form?.stands_on.includes(kindOf(one) ?? ''))?.id ?? 'table'
  let id = fixture.kind.replace('_', '-')
  for (let n = 2; items.some((one) => one.id === id); n += 1) id = `${fixture.kind.replace('_', '-')}-${n}`
  const free = base === 'table'
  return [
    {
      id,
      fixture: fixture.id,
      on: base,
      x: free ? middle[0] : 0,
      y: free ? middle[1] : 0,
      z: 0,
      turn_deg: 0,
      side: 'left',
      ...('heights' in fixture && { height: fixture.heights[0] ?? 10 }),
    },
  ]
}

/** Cut to the work as is usual: what is not said here is the core's to say. */
export const AS_USUAL = {} as NonNullable<HoldItem['cut']>
