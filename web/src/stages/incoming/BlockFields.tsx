import type { Billet, Library, Part } from '../../api/client'
import { SIDES } from '../../bench/Pulling'
import { round } from '../../ui/words'
import { Segments } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { Form, schemaOf } from '../../ui/Form'
import { allowanceOn, type Hand, type Lies, type Of } from './billet'
import { type Span, SpanRow } from './SpanRow'

type Sizing = Of<'block'>['sizing']

/** As much all round the part as a block has that says nothing. */
const roundPart = (part: Part): Lies => ({
  low: part.low.map((one) => one - SPARE_MM),
  high: part.high.map((one) => one + SPARE_MM),
  margins: Object.fromEntries(SIDES.map((side) => [side, SPARE_MM])),
})
const SPARE_MM = 5

/** Margins and size along an axis. */
function along(lies: Lies, axis: string) {
  const d = 'xyz'.indexOf(axis)
  return {
    below: lies.margins[`${axis}-`] ?? 0,
    size: (lies.high[d] ?? 0) - (lies.low[d] ?? 0),
    above: lies.margins[`${axis}+`] ?? 0,
  }
}

/** A rectangular block: by allowances, by its size, or by its corners. */
export function BlockFields(props: {
  /** How it lies round the part, where that is computed. */
  lies: Lies | undefined
  part: Part | undefined
  billet: Of<'block'>
  library: Library | undefined
  hand: Hand
}) {
  const { part, library, hand, lies } = props
  const { sizing } = props.billet
  const form = library?.sizings.find((one) => one.rule === sizing.rule)
  const sized = (what: string, next: (own: Sizing) => Sizing) =>
    hand.change(what, (own) => {
      if (own.kind === 'block') own.sizing = next(own.sizing)
    })
  const swap = (rule: Sizing['rule']) => {
    if (!part) return
    const { low, high, margins } = lies ?? roundPart(part)
    const three = (values: number[]) => values.map((one) => Number(round(one))) as [number, number, number]
    void sized(`sized by ${rule}`, () => {
      // As it lies now; what is not said is the core's to say.
      if (rule === 'size') return { rule, size: three(high.map((one, d) => one - (low[d] ?? 0))) } as Sizing
      if (rule === 'sides') {
        const span = (axis: string) => ({
          size: null,
          below: Number(round(margins[`${axis}-`] ?? 0)),
          above: Number(round(margins[`${axis}+`] ?? 0)),
        })
        return { rule, x: span('x'), y: span('y'), z: span('z') }
      }
      if (rule === 'corners') return { rule, low: three(low), high: three(high) }
      const sides = Object.entries(margins).map(([side, one]) => [allowanceOn(side), Number(round(one))])
      return { rule, ...Object.fromEntries(sides) } as Sizing
    })
  }
  return (
    <>
      <Row label="Sized by">
        <Segments
          label="Sized by"
          value={sizing.rule}
          options={(library?.sizings ?? []).map((one) => ({
            value: one.rule as Sizing['rule'],
            label: one.called,
          }))}
          choose={swap}
        />
      </Row>
      {form && (
        <Form
          schema={schemaOf(form.fields)}
          values={sizing}
          widgets={{
            span: (name, field) => (
              <SpanRow
                label={field.title ?? name}
                help={field.description}
                signs={[`${name}−`, `${name}+`]}
                value={(sizing as unknown as Record<string, Span>)[name] ?? {}}
                lies={lies && along(lies, name)}
                write={(value) => sized(`${name} size and margins`, (own) => ({ ...own, [name]: value }))}
              />
            ),
          }}
          write={(field, value) => sized(field.replace('_', ' '), (own) => ({ ...own, [field]: value }))}
          typing={(field, value) =>
            hand.typing(
              value === null
                ? null
                : (own: Billet) => {
                    if (own.kind === 'block') own.sizing = { ...own.sizing, [field]: value }
                  },
            )
          }
        />
      )}
    </>
  )
}
