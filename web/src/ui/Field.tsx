import { type ReactNode, useEffect, useId, useRef, useState } from 'react'
import type { Problem, Reckoned } from '../api/client'
import { round } from '../state'

/** A row of a sheet: label on the left, control on the right, what follows from it below. */
export function Row({ label, children, below }: { label: string; children: ReactNode; below?: ReactNode }) {
  return (
    <div className="grid grid-cols-[6.2rem_1fr] items-baseline gap-x-3 border-t border-rule py-1.5">
      <div className="text-soft">{label}</div>
      <div>{children}</div>
      {below && <div className="col-start-2 mt-1">{below}</div>}
    </div>
  )
}

/** Understood: 12, 12.5, 3/16, with mm or in behind. */
function understood(text: string): number | null {
  const match = /^\s*(-?[\d.,]+)(?:\s*\/\s*([\d.,]+))?\s*(mm|in|°|s|rpm)?\s*$/i.exec(text)
  if (!match) return null
  const number =
    Number((match[1] ?? '').replace(',', '.')) / (match[2] ? Number(match[2].replace(',', '.')) : 1)
  if (!Number.isFinite(number)) return null
  return match[3]?.toLowerCase() === 'in' ? number * 25.4 : number
}

type NumberFieldProps = {
  label: string
  value: number | null | undefined
  unit: string
  commit: (value: number) => Promise<Problem | null>
  /** What an emptied field means; without it an empty field is refused. */
  clear?: () => Promise<Problem | null>
  placeholder?: string
  digits?: number
}

/** A number with its unit. Enter or leaving the field commits; what is refused stays as typed, with the reason. */
export function NumberField({
  label,
  value,
  unit,
  commit,
  clear,
  placeholder,
  digits = 4,
}: NumberFieldProps) {
  const id = useId()
  const shown = value === null || value === undefined ? '' : round(value, digits)
  const [text, setText] = useState(shown)
  const [error, setError] = useState<string | null>(null)
  const was = useRef(shown)
  useEffect(() => {
    if (was.current !== shown) {
      was.current = shown
      setText(shown)
      setError(null)
    }
  }, [shown])
  const done = async () => {
    if (text.trim() === shown) return setError(null)
    if (text.trim() === '' && clear) {
      const problem = await clear()
      return setError(problem && sentence(problem))
    }
    const number = understood(text)
    if (number === null) return setError(`“${text}” is not a number: type something like 12.5, 3/16 in`)
    const problem = await commit(number)
    setError(problem && problem.code !== 'plan.stale' ? sentence(problem) : null)
    if (problem?.code === 'plan.stale') setText(shown)
    else if (!problem) setText(round(number, digits))
  }
  const inches = /in\s*$/i.test(text) ? understood(text) : null
  return (
    <div>
      <div
        className={`flex items-center rounded-[3px] border bg-white ${error ? 'border-trouble' : 'border-rule'} focus-within:border-action`}
      >
        <input
          id={id}
          aria-label={label}
          aria-invalid={!!error}
          aria-describedby={error ? `${id}-error` : undefined}
          className="figures w-full min-w-0 bg-transparent px-2 py-1 outline-none"
          value={text}
          placeholder={placeholder}
          inputMode="decimal"
          onChange={(event) => setText(event.target.value)}
          onBlur={() => void done()}
          onKeyDown={(event) => {
            if (event.key === 'Enter') void done()
            if (event.key === 'Escape') {
              setText(shown)
              setError(null)
            }
            event.stopPropagation()
          }}
        />
        <span className="figures whitespace-nowrap pr-2 text-soft">
          {inches !== null ? `= ${round(inches)} ${unit}` : unit}
        </span>
      </div>
      {error && (
        <div id={`${id}-error`} role="alert" className="mt-0.5 text-[12.5px] leading-tight text-trouble">
          {error}
        </div>
      )}
    </div>
  )
}

/** A row of a sheet that holds one number. */
export function NumberRow({
  below,
  name,
  ...field
}: NumberFieldProps & { below?: ReactNode; name?: string }) {
  return (
    <Row label={field.label} below={below}>
      <NumberField {...field} label={name ?? field.label} />
    </Row>
  )
}

/** A refusal as one sentence. */
export const sentence = (problem: Problem) =>
  `${problem.what.charAt(0).toUpperCase()}${problem.what.slice(1)}. ${problem.mend.charAt(0).toUpperCase()}${problem.mend.slice(1)}.`

/** A computed value in action colour; “why” opens its formula with the values in it. */
export function Computed({ children, why }: { children: ReactNode; why?: Reckoned | null | undefined }) {
  const [open, setOpen] = useState(false)
  return (
    <div className="figures text-action">
      <span className="flex justify-between gap-2">
        <span>{children}</span>
        {why && (
          <button
            type="button"
            className="text-soft underline decoration-dotted underline-offset-2"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            why
          </button>
        )}
      </span>
      {open && why && (
        <div className="mt-1 border-l-2 border-action/40 pl-2 text-[11.5px] leading-snug text-ink">
          <div>{why.formula}</div>
          <div>= {why.with_values}</div>
          <div className="font-words text-soft">{why.source}</div>
        </div>
      )}
    </div>
  )
}
