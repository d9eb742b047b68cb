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

/** Cut to the work as is usual: what is not said here is the core's to say. */
export const AS_USUAL = {} as NonNullable<HoldItem['cut']>
