import { useEffect } from 'react'
import { answered, api, type Measured, type Part, Refusal, type Target } from '../api/client'
import { useAsking } from '../state/asking'
import { tell } from '../state/editing'
import { useFields } from '../state/fields'
import { round } from '../ui/words'

const called = (target: Target, part: Part | undefined) => {
  if (target.kind === 'point') return `point ${target.at?.map((c) => round(c, 2)).join(', ')}`
  const own = target.kind === 'face' ? part?.faces[target.number ?? -1] : part?.edges[target.number ?? -1]
  return `${target.kind === 'face' ? 'F' : 'E'}${target.number} ${own?.kind ?? ''}`
}

/** What was picked for measuring, and what it comes to; a click keeps a value for the next field. */
export function Measure({ part, sha256 }: { part: Part | undefined; sha256: string | null | undefined }) {
  const { measuring, measured } = useFields(useAsking, 'measuring', 'measured')
  const targets = measuring?.targets ?? []
  useEffect(() => {
    const [first, second] = targets
    if (!first || !sha256 || measuring?.values.length) return
    let alive = true
    answered<Measured[]>(
      api.POST('/api/parts/{sha256}/measure', {
        params: { path: { sha256 } },
        body: { first, ...(second ? { second } : {}) },
      }),
    )
      .then((values) => {
        if (!alive) return
        const length = values.find((one) => one.unit !== 'mm²')
        useAsking.setState({ measuring: { targets, values }, ...(length ? { measured: length.value } : {}) })
      })
      .catch((refusal: unknown) => {
        if (refusal instanceof Refusal) tell(refusal.problem)
        useAsking.setState({ measuring: null })
      })
    return () => {
      alive = false
    }
  }, [measuring, sha256]) // eslint-disable-line react-hooks/exhaustive-deps
  return (
    <section
      aria-label="Measure"
      className="absolute bottom-10 left-2.5 w-56 border border-action bg-sheet px-2.5 py-1.5 text-[12.5px] shadow"
    >
      <div className="flex items-baseline justify-between">
        <h3 className="font-head text-[14px] font-semibold">Measure</h3>
        <button
          type="button"
          className="text-soft underline"
          onClick={() => useAsking.setState({ asked: null, measuring: null })}
        >
          leave
        </button>
      </div>
      {targets.length === 0 && <p className="text-soft">Pick a face, an edge or a corner, then another.</p>}
      <div className="figures text-soft">{targets.map((one) => called(one, part)).join(' → ')}</div>
      <ul className="figures mt-1">
        {measuring?.values.map((value) => (
          <li key={value.name} className="flex justify-between gap-2">
            <span className="text-soft">{value.name}</span>
            <button
              type="button"
              aria-label={`Keep ${value.name}`}
              className={`text-action ${measured === value.value ? 'font-semibold underline' : ''}`}
              onClick={() => useAsking.setState({ measured: value.value })}
            >
              {round(value.value, 4)} {value.unit}
            </button>
          </li>
        ))}
      </ul>
      {measured !== null && (
        <p className="mt-1 border-t border-rule pt-1 text-soft">
          <kbd className="figures">F2</kbd> in a field writes {round(measured, 4)}
        </p>
      )}
    </section>
  )
}
