import { type ReactNode, useEffect, useId, useRef, useState } from 'react'
import { answered, api, type Problem, problemInstead, type Reckoned } from '../api/client'
import { useAsking } from '../state/asking'
import { round } from './words'

/** A row of a sheet: label on the left, control on the right, what follows from it below. */
export function Row(props: {
  label: string
  children: ReactNode
  below?: ReactNode
  help?: string | undefined
}) {
  const { label, children, below, help } = props
  return (
    <div className="grid grid-cols-[6.2rem_minmax(0,1fr)] items-baseline gap-x-3 border-t border-rule py-1.5">
      <div className="text-soft" title={help}>
        {label}
      </div>
      <div>{children}</div>
      {below && <div className="col-start-2 mt-1">{below}</div>}
    </div>
  )
}

/** What a typed text comes to in a field's unit; the rules of arithmetic and units are the core's. */
const understood = (text: string, unit: string): Promise<number | Problem> =>
  answered<number>(
    api.GET('/api/understood', {
      params: { query: { text, unit: (unit.startsWith('%') ? '%' : unit) as 'mm' } },
    }),
  ).catch(problemInstead)

/** Plain numbers need no reading. */
const plain = (text: string) => (/^\s*-?\d+(\.\d+)?\s*$/.test(text) ? Number(text) : null)

type NumberFieldProps = {
  label: string
  value: number | null | undefined
  unit: string
  /** The unit that is typed, where the field shows something else in its place. */
  measure?: string
  commit: (value: number) => Problem | null | Promise<Problem | null>
  /** Told what the text comes to while it is typed and not yet kept; null: as it is kept. */
  typing?: ((value: number | null) => void) | undefined
  /** What an emptied field means; without it an empty field is refused. */
  clear?: (() => Promise<Problem | null>) | undefined
  placeholder?: string | undefined
  digits?: number
}

/** A number with its unit. Enter or leaving the field commits; what is refused stays as typed, with the reason. */
export function NumberField({
  label,
  value,
  unit,
  measure = unit,
  commit,
  typing,
  clear,
  placeholder,
  digits = 4,
}: NumberFieldProps) {
  const id = useId()
  const shown = value === null || value === undefined ? '' : round(value, digits)
  const [text, setText] = useState(shown)
  // What a text comes to, with the text: what was typed since is not yet read.
  const [read, setRead] = useState<{ of: string; value: number } | null>(null)
  const reading = read?.of === text ? read.value : null
  const [error, setError] = useState<Problem | null>(null)
  const was = useRef(shown)
  // What was sent last as the value, the text it came from, and that text while the answer is on its way.
  const kept = useRef<number | null>(null)
  const of = useRef<string | null>(null)
  const sending = useRef<string | null>(null)
  const tried = useRef(0)
  useEffect(() => {
    if (was.current === shown) return
    const before = was.current
    was.current = shown
    // What was typed stays as long as it means what is shown, and what is being typed or on its way stays too.
    if (kept.current !== null && round(kept.current, digits) === shown) return
    if (text === sending.current || (text !== before && text !== of.current)) return
    kept.current = null
    setText(shown)
    setError(null)
  }, [shown, text, digits])
  useEffect(() => {
    if (text.trim() === '' || text === shown || plain(text) !== null) return
    let alive = true
    const timer = setTimeout(() => {
      void understood(text, measure).then(
        (value) => alive && setRead(typeof value === 'number' ? { of: text, value } : null),
      )
    }, 150)
    return () => {
      alive = false
      clearTimeout(timer)
    }
  }, [text, measure, shown])
  const comes = text === shown ? null : (plain(text) ?? reading)
  const told = useRef(typing)
  told.current = typing
  useEffect(() => {
    if (comes === null || round(comes, digits) === shown) return
    told.current?.(comes)
    return () => told.current?.(null)
  }, [comes, shown, digits])
  const done = async () => {
    // Enter, and then the field is left: once.
    if (text === sending.current) return
    const mine = ++tried.current
    if (text.trim() === shown || (kept.current !== null && reading === kept.current)) {
      setError(null)
      return
    }
    if (text.trim() === '' && clear) {
      setError(await clear())
      return
    }
    const number = plain(text) ?? (await understood(text, measure))
    // What was typed since has the word.
    if (mine !== tried.current) return
    if (typeof number !== 'number') {
      setError(number)
      return
    }
    kept.current = number
    of.current = sending.current = text
    const problem = await commit(number)
    if (sending.current === text) sending.current = null
    if (mine !== tried.current) return
    setError(problem && problem.code !== 'plan.stale' ? problem : null)
    if (problem) kept.current = null
    if (problem?.code === 'plan.stale') setText(shown)
    else if (!problem) setRead({ of: text, value: number })
  }
  const apart = reading !== null && text.trim() !== round(reading, digits)
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
            const measured = useAsking.getState().measured
            if (event.key === 'F2' && measured !== null) {
              const { selectionStart: from, selectionEnd: to } = event.currentTarget
              setText(text.slice(0, from ?? text.length) + round(measured, 4) + text.slice(to ?? text.length))
              event.preventDefault()
            }
            if (event.key === 'Escape') {
              kept.current = null
              setText(shown)
              setError(null)
            }
            event.stopPropagation()
          }}
        />
        <span className="figures whitespace-nowrap pr-2 text-soft">
          {apart && reading !== null ? `= ${round(reading)} ${unit}` : unit}
        </span>
      </div>
      {error && (
        <div id={`${id}-error`} role="alert" className="mt-0.5 text-[12.5px] leading-tight text-trouble">
          {error.at !== undefined && <Pointed text={text} at={Number(error.at)} />}
          {sentence(error)}
        </div>
      )}
    </div>
  )
}

/** The typed text with the character that does not fit marked. */
function Pointed({ text, at }: { text: string; at: number }) {
  return (
    <div className="figures whitespace-pre">
      {text.slice(0, at)}
      <mark className="hatch border-b-2 border-trouble bg-transparent text-trouble">{text[at] ?? '␣'}</mark>
      {text.slice(at + 1)}
    </div>
  )
}

/** A row of a sheet that holds one number. */
export function NumberRow({
  below,
  name,
  help,
  ...field
}: NumberFieldProps & { below?: ReactNode; name?: string; help?: string | undefined }) {
  return (
    <Row label={field.label} below={below} help={help}>
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
