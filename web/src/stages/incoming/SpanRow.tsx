import type { Problem } from '../../api/client'
import { round } from '../../ui/words'
import { NumberField, Row } from '../../ui/Field'

export type Span = { size?: number | null; below?: number | null; above?: number | null }
const PARTS = ['below', 'size', 'above'] as const
type Name = (typeof PARTS)[number]

/** Which number follows when one that followed is typed: the size that was bought stays, and of two margins the lower gives way. */
const givesWay = (typed: Name): Name => ({ below: 'above', size: 'below', above: 'below' })[typed] as Name

/** What a length along an axis says: two of size and margins; the third follows and is shown as computed. */
export function SpanRow(props: {
  label: string
  help: string | undefined
  signs: [string, string]
  value: Span
  /** Margins and size as they come to, where that is computed. */
  lies: { below: number; size: number; above: number } | undefined
  write: (value: Span) => Promise<Problem | null>
}) {
  const { label, value, lies } = props
  const given = PARTS.filter((name) => value[name] != null)
  const next = (name: Name, typed: number): Span => {
    const kept = given.filter((one) => one !== name)
    const stays = kept.length < 2 ? kept : kept.filter((one) => one !== givesWay(name))
    const told = [name, ...stays].slice(0, 2)
    return Object.fromEntries(
      PARTS.map((one) => [one, one === name ? typed : told.includes(one) ? value[one] : null]),
    )
  }
  const called = { below: props.signs[0], size: 'size', above: props.signs[1] }
  return (
    <Row label={label} help={props.help}>
      <div className="grid grid-cols-3 gap-1">
        {PARTS.map((name) => {
          const own = value[name] ?? null
          const follows = own === null
          return (
            <div key={name} className={follows ? '[&_input]:text-action' : ''}>
              <NumberField
                label={`${label} ${called[name]}`}
                value={own ?? (lies && Number(round(lies[name], 4)))}
                unit=""
                measure="mm"
                digits={3}
                commit={(typed) => props.write(next(name, typed))}
              />
              <div className="pl-1 text-[11px] leading-tight text-soft">
                {follows && '= '}
                {called[name]}
              </div>
            </div>
          )
        })}
      </div>
    </Row>
  )
}
