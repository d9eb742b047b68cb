import type { ReactNode } from 'react'
import type { Problem, Reckoned } from '../api/client'
import { round } from './words'
import { Segments } from './Choice'
import { Computed, NumberField, NumberRow, Row } from './Field'
import { TextField } from './TextField'

/** A field of a document as its JSON Schema tells it; what begins with x- is ours (core/forms.py says what it means). */
export type FormField = {
  title?: string
  description?: string
  type?: string
  const?: unknown
  enum?: (string | number)[]
  anyOf?: { type?: string }[]
  'x-unit'?: string
  'x-empty'?: string
  'x-below'?: string
  'x-place'?: string
  'x-widget'?: string
  'x-pick'?: string
  'x-when'?: Record<string, string[]>
  'x-parts'?: string[] | Record<string, string[]>
  'x-called'?: Record<string, string>
}
export type FormSchema = { properties: Record<string, FormField> }
/** A schema that came over the wire as plain JSON. */
export const schemaOf = (fields: unknown) => fields as FormSchema
type Values = Record<string, unknown>
export type Write = (field: string, value: unknown) => Promise<Problem | null>
export type Widget = (name: string, field: FormField) => ReactNode

const typeOf = (field: FormField) => field.type ?? field.anyOf?.find((one) => one.type !== 'null')?.type

const said = (value: unknown) =>
  typeof value === 'string' ? value : value == null || (value as unknown[]).length === 0 ? 'none' : 'given'

/** Whether a field is asked for at a place of the form, and has a say as the others stand. */
const wanted = (field: FormField, place: string | undefined, values: Values) =>
  field.const === undefined &&
  field['x-widget'] !== 'none' &&
  (place === undefined || field['x-place'] === place) &&
  (!field['x-when'] ||
    Object.entries(field['x-when']).some(([name, those]) => those.includes(said(values[name]))))

/** Numbers as they are typed one after the other. */
const numbers = (text: string) =>
  text
    .split(/[\s,;]+/)
    .filter(Boolean)
    .map(Number)

/**
 * The fields of one place of a form, or all that are asked for. values: of the document; others: what conditions ask, beside the values;
 * computed: by the name a field gives for what is shown below it; widgets: what a field of their name is edited by.
 */
export function Form(props: {
  schema: FormSchema
  place?: string
  /** What stands before each label for who cannot see which form it is in. */
  prefix?: string
  values: Values
  others?: Values
  computed?: Record<string, Reckoned | null | undefined>
  write: Write
  /** Told what a number comes to while it is typed; null: as it is kept. */
  typing?: (field: string, value: unknown) => void
  widgets?: Record<string, Widget>
}) {
  const { schema, place, values, write } = props
  const others = { ...values, ...props.others }
  return Object.entries(schema.properties)
    .filter(([, field]) => wanted(field, place, others))
    .map(([name, field]) => {
      const label = field.title ?? name
      const spoken = props.prefix ? `${props.prefix} ${label}` : label
      const unit = field['x-unit'] ?? ''
      const widget = props.widgets?.[field['x-widget'] ?? '']
      if (widget) return <div key={name}>{widget(name, field)}</div>
      if (field.enum)
        return (
          <Row key={name} label={label} help={field.description}>
            <Segments
              label={spoken}
              value={String(values[name])}
              options={field.enum.map((value) => ({
                value: String(value),
                label: field['x-called']?.[String(value)] ?? String(value).replaceAll('_', ' '),
              }))}
              choose={(value) =>
                void write(
                  name,
                  field.enum?.find((one) => String(one) === value),
                )
              }
            />
          </Row>
        )
      if (typeOf(field) === 'string')
        return (
          <Row key={name} label={label} help={field.description}>
            <TextField
              label={label}
              value={typeof values[name] === 'string' ? values[name] : ''}
              commit={(text) => write(name, text)}
            />
          </Row>
        )
      if (field.type === 'boolean')
        return (
          <Row key={name} label={label} help={field.description}>
            <input
              type="checkbox"
              aria-label={label}
              className="accent-action justify-self-start"
              checked={!!values[name]}
              onChange={(event) => void write(name, event.target.checked)}
            />
          </Row>
        )
      if (field['x-parts'])
        return (
          <Tuple
            key={name}
            field={field}
            values={values[name] as number[]}
            axis={values.axis}
            write={(value) => write(name, value)}
            typing={(value) => props.typing?.(name, value)}
          />
        )
      if (field.type === 'array')
        return (
          <Row key={name} label={label} help={field.description}>
            <TextField
              label={label}
              value={(values[name] as number[]).join(', ')}
              commit={(text) => write(name, numbers(text))}
            />
          </Row>
        )
      const why = props.computed?.[field['x-below'] ?? '']
      return (
        <NumberRow
          key={name}
          label={label}
          name={spoken}
          help={field.description}
          value={values[name] as number | null}
          unit={unit}
          placeholder={field['x-empty']}
          commit={(value) => write(name, value)}
          typing={props.typing && ((value) => props.typing?.(name, value))}
          clear={field['x-empty'] === undefined ? undefined : () => write(name, null)}
          below={
            why && (
              <Computed why={why}>
                {round(why.value, 0)} {why.unit}
              </Computed>
            )
          }
        />
      )
    })
}

/** Numbers that belong together, each with its name; a share is kept from 0 to 1 and shown in percent. */
export function Tuple(props: {
  field: FormField
  values: number[]
  axis?: unknown
  /** What else can be done about them. */
  below?: ReactNode
  write: (value: number[]) => Promise<Problem | null>
  typing?: (value: number[] | null) => void
}) {
  const { field, values } = props
  const label = field.title ?? ''
  const named = field['x-parts'] ?? []
  const parts = Array.isArray(named) ? named : (named[String(props.axis)] ?? [])
  const share = field['x-widget'] === 'share' ? 100 : 1
  const unit = share === 1 ? (field['x-unit'] ?? '') : '%'
  const next = (at: number, value: number) => values.map((one, d) => (d === at ? value / share : one))
  return (
    <Row label={label} help={field.description} below={props.below}>
      <div className="flex flex-col gap-1">
        {parts.map((part, d) => (
          <NumberField
            key={part}
            label={`${label} ${part}`}
            value={(values[d] ?? 0) * share}
            unit={`${unit} ${part}`}
            measure={unit}
            commit={(value) => props.write(next(d, value))}
            typing={(value) => props.typing?.(value === null ? null : next(d, value))}
          />
        ))}
      </div>
    </Row>
  )
}
