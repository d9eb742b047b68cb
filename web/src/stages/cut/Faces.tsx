import type { EdgeRef, FaceRef, Problem } from '../../api/client'
import { type Asked, useAsking } from '../../state/asking'
import { Row } from '../../ui/Field'
import type { FormField } from '../../ui/Form'

/** What of the part a field names, each to be dropped, and more to be picked. */
function Picked(props: {
  field: FormField
  word: 'face' | 'edge'
  numbers: number[]
  drop: (number: number) => void
  asked: (prompt: string) => Asked
}) {
  const { field, word, numbers, drop, asked } = props
  const empty = field['x-empty']
  return (
    <Row label={field.title ?? ''} help={field.description}>
      <div className="flex flex-wrap items-center gap-1">
        {numbers.length === 0 && <span className="text-soft">{empty ?? 'none'}</span>}
        {numbers.map((number) => (
          <span key={number} className="figures border border-rule bg-white pl-1.5">
            {word === 'face' ? 'F' : 'E'}
            {number}
            <button
              type="button"
              aria-label={`Drop ${word} ${number}`}
              className="px-1 text-soft hover:text-trouble"
              disabled={numbers.length === 1 && empty === undefined}
              onClick={() => drop(number)}
            >
              ×
            </button>
          </span>
        ))}
        <button
          type="button"
          className="knob !px-2 text-[12.5px]"
          onClick={() => useAsking.setState({ asked: asked(field['x-pick'] ?? `Pick a ${word}`) })}
        >
          Pick
        </button>
      </div>
    </Row>
  )
}

/** Faces of the part that a field names: one, or several. */
export function Faces(props: {
  field: FormField
  value: FaceRef | FaceRef[] | null
  write: (value: FaceRef | FaceRef[] | null) => Promise<Problem | null>
}) {
  const { field, value, write } = props
  const single = !Array.isArray(value)
  const refs = Array.isArray(value) ? value : value ? [value] : []
  const put = (next: FaceRef[]) => void write(single ? (next[0] ?? null) : next)
  return (
    <Picked
      field={field}
      word="face"
      numbers={refs.map((ref) => ref.face)}
      drop={(number) => put(refs.filter((one) => one.face !== number))}
      asked={(prompt) => ({
        kind: 'face',
        prompt,
        take: (ref) => put(single ? [ref] : [...refs.filter((one) => one.face !== ref.face), ref]),
      })}
    />
  )
}

/** Edges of the part that a field names. */
export function Edges(props: {
  field: FormField
  value: EdgeRef[]
  write: (value: EdgeRef[]) => Promise<Problem | null>
}) {
  const { field, value, write } = props
  return (
    <Picked
      field={field}
      word="edge"
      numbers={value.map((ref) => ref.edge)}
      drop={(number) => void write(value.filter((one) => one.edge !== number))}
      asked={(prompt) => ({
        kind: 'edge',
        prompt,
        take: (ref) => void write([...value.filter((one) => one.edge !== ref.edge), ref]),
      })}
    />
  )
}
