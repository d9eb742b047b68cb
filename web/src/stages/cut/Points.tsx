import { useState } from 'react'
import type { Problem } from '../../api/client'
import { Row, sentence } from '../../ui/Field'
import type { FormField } from '../../ui/Form'

type Point = [number, number]

/** Points as they are typed, two numbers to a line. */
export function Points(props: {
  field: FormField
  value: Point[]
  write: (points: Point[]) => Promise<Problem | null>
}) {
  const { field, value, write } = props
  const text = value.map(([along, around]) => `${along}, ${around}`).join('\n')
  const [typed, setTyped] = useState<string | null>(null)
  const [wrong, setWrong] = useState('')
  const take = async () => {
    if (typed === null || typed.trim() === text) {
      setTyped(null)
      setWrong('')
      return
    }
    const rows = typed.split('\n').filter((line) => line.trim())
    const points = rows.map((line) =>
      line
        .split(/[,;\s]+/)
        .filter(Boolean)
        .map(Number),
    )
    const bad = points.findIndex((point) => point.length !== 2 || point.some((c) => !Number.isFinite(c)))
    if (bad >= 0) {
      setWrong(`Line ${bad + 1} is not two numbers: along the axis, round it.`)
      return
    }
    const problem = await write(points as Point[])
    if (problem) {
      setWrong(sentence(problem))
      return
    }
    setWrong('')
    setTyped(null)
  }
  return (
    <Row label={field.title ?? ''} help={field.description}>
      <textarea
        aria-label={`${field.title} on the flat`}
        className="figures w-full border border-rule bg-white px-1.5 py-1 text-[12px]"
        rows={Math.min(8, Math.max(2, value.length))}
        placeholder={`along, round (${field['x-unit']}), a point to a line; none: ${field['x-empty']}`}
        value={typed ?? text}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={() => void take()}
      />
      {wrong && (
        <div role="alert" className="text-[12px] text-trouble">
          {wrong}
        </div>
      )}
    </Row>
  )
}
