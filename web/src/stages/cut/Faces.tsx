import type { EdgeRef, FaceRef, Problem } from '../../api/client'
import { useAsking } from '../../state/asking'
import { Row } from '../../ui/Field'
import type { FormField } from '../../ui/Form'

/** Faces of the part that a field names: one, or several. */
export function Faces(props: {
  field: FormField
  value: FaceRef | FaceRef[] | null
  write: (value: FaceRef | FaceRef[] | null) => Promise<Problem | null>
}) {
  const { field, value, write } = props
  const single = !Array.isArray(value)
  const refs = Array.isArray(value) ? value : value ? [value] : []
  const empty = field['x-empty']
  const put = (next: FaceRef[]) => void write(single ? (next[0] ?? null) : next)
  return (
    <Row label={field.title ?? ''} help={field.description}>
      <div className="flex flex-wrap items-center gap-1">
        {refs.length === 0 && <span className="text-soft">{empty ?? 'none'}</span>}
        {refs.map((ref) => (
          <span key={ref.face} className="figures border border-rule bg-white pl-1.5">
            F{ref.face}
            <button
              type="button"
              aria-label={`Drop face ${ref.face}`}
              className="px-1 text-soft hover:text-trouble"
              disabled={refs.length === 1 && empty === undefined}
              onClick={() => put(refs.filter((one) => one.face !== ref.face))}
            >
              ×
            </button>
          </span>
        ))}
        <button
          type="button"
          className="knob !px-2 text-[12.5px]"
          onClick={() =>
            useAsking.setState({
              asked: {
                kind: 'face',
                prompt: field['x-pick'] ?? 'Pick a face',
                take: (ref) => put(single ? [ref] : [...refs.filter((one) => one.face !== ref.face), ref]),
              },
            })
          }
        >
          Pick
        </button>
      </div>
    </Row>
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
    <Row label={field.title ?? ''} help={field.description}>
      <div className="flex flex-wrap items-center gap-1">
        {value.map((ref) => (
          <span key={ref.edge} className="figures border border-rule bg-white pl-1.5">
            E{ref.edge}
            <button
              type="button"
              aria-label={`Drop edge ${ref.edge}`}
              className="px-1 text-soft hover:text-trouble"
              disabled={value.length === 1}
              onClick={() => void write(value.filter((one) => one.edge !== ref.edge))}
            >
              ×
            </button>
          </span>
        ))}
        <button
          type="button"
          className="knob !px-2 text-[12.5px]"
          onClick={() =>
            useAsking.setState({
              asked: {
                kind: 'edge',
                prompt: field['x-pick'] ?? 'Pick an edge',
                take: (ref) => void write([...value.filter((one) => one.edge !== ref.edge), ref]),
              },
            })
          }
        >
          Pick
        </button>
      </div>
    </Row>
  )
}
