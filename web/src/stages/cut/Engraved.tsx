import { useState } from 'react'
import type { Problem } from '../../api/client'
import { posted } from '../../api/hooks'
import { FileInput } from '../../ui/FileInput'
import { Row, sentence } from '../../ui/Field'
import type { FormField } from '../../ui/Form'

/** A text of several lines; kept when the field is left. */
export function LinesOfText(props: {
  field: FormField
  value: string
  commit: (text: string) => Promise<Problem | null>
}) {
  const { field, value, commit } = props
  const [typed, setTyped] = useState<string | null>(null)
  const [wrong, setWrong] = useState<Problem | null>(null)
  const take = async () => {
    if (typed === null || typed === value) {
      setTyped(null)
      return
    }
    const problem = await commit(typed)
    setWrong(problem)
    if (!problem) setTyped(null)
  }
  return (
    <Row
      label={field.title ?? ''}
      help={field.description}
      below={
        wrong && (
          <p role="alert" className="text-[12.5px] text-trouble">
            {sentence(wrong)}
          </p>
        )
      }
    >
      <textarea
        aria-label={field.title}
        className="figures block w-full resize-y border border-rule bg-white px-1.5 py-0.5"
        rows={Math.max(2, (typed ?? value).split('\n').length)}
        value={typed ?? value}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={() => void take()}
        onKeyDown={(event) => {
          if (event.key === 'Escape') {
            setTyped(null)
            setWrong(null)
          }
        }}
      />
    </Row>
  )
}

type Read = { lines: [number, number][][]; unit: string }

/** The lines of a drawing: brought in from a DXF file, told by their number and size, taken out again. */
export function DrawingLines(props: {
  field: FormField
  value: [number, number][][]
  write: (lines: [number, number][][]) => Promise<Problem | null>
}) {
  const { field, value, write } = props
  const [wrong, setWrong] = useState<Problem | null>(null)
  const [unit, setUnit] = useState('')
  const bring = async (file: File | undefined) => {
    if (!file) return
    const read = await posted<Read>('/api/drawings/read', file)
    if ('what' in read) {
      setWrong(read)
      return
    }
    setUnit(read.unit)
    setWrong(await write(read.lines))
  }
  const xs = value.flat().map(([x]) => x)
  const ys = value.flat().map(([, y]) => y)
  const size = (those: number[]) => (Math.max(...those) - Math.min(...those)).toFixed(2)
  return (
    <Row
      label={field.title ?? ''}
      help={field.description}
      below={
        wrong && (
          <p role="alert" className="text-[12.5px] text-trouble">
            {wrong.where}: {sentence(wrong)}
          </p>
        )
      }
    >
      <span className="flex flex-wrap items-baseline gap-2 text-[12.5px]">
        {value.length > 0 && (
          <span className="figures">
            {value.length} {value.length === 1 ? 'line' : 'lines'}, {size(xs)} × {size(ys)} mm
            {unit && ` (${unit})`}
          </span>
        )}
        <label className="relative cursor-pointer text-action underline">
          {value.length ? 'another DXF' : 'bring in a DXF'}
          <FileInput label="Drawing file" accept=".dxf" take={bring} />
        </label>
        {value.length > 0 && (
          <button type="button" className="text-action underline" onClick={() => void write([])}>
            back to the text
          </button>
        )}
      </span>
    </Row>
  )
}
