import type { Fixture, FixtureForm, HoldItem, Library } from '../../api/client'
import { type FormSchema, schemaOf } from '../../ui/Form'

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

/** The fields of an item that its fixture's kind asks for, called as it calls them; a force of its own stands where none is typed. */
export function askedOf(library: Library, form: FixtureForm, fixture: Fixture): FormSchema {
  const { properties } = schemaOf(library.item)
  const usual = 'force_kn' in fixture ? { force_kn: { 'x-empty': String(fixture.force_kn) } } : {}
  return {
    properties: Object.fromEntries(
      Object.entries(form.asks).flatMap(([name, title]) => {
        const field = properties[name]
        return field ? [[name, { ...field, title, ...usual[name as keyof typeof usual] }]] : []
      }),
    ),
  }
}
