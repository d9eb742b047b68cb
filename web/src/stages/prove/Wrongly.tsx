import { useState } from 'react'
import { answered, api, type Problem, problemInstead, type Proof } from '../../api/client'
import { showMoment } from '../../state/route'
import { useShown } from '../../state/picture'
import { Computed, NumberField, Row } from '../../ui/Field'
import { Refused } from '../../ui/Refused'
import { clock, round } from '../../ui/words'
import type { SheetProps } from '../sheet'

/** As it is meant: nothing is off, and nothing turned. */
const RIGHTLY = { left: 0, back: 0, turned: 0, feed: 100, spindle: 100, begins: 0 }
type Told = keyof typeof RIGHTLY
const WHOLE: Told[] = ['feed', 'spindle', 'begins']
type Field = { name: Told; label: string; field: string; unit: string; help?: string }
const WORK: Field[] = [
  { name: 'left', label: 'work to left', field: 'work to the left', unit: 'mm' },
  { name: 'back', label: 'to the back', field: 'work to the back', unit: 'mm' },
  { name: 'turned', label: 'turned', field: 'work turned', unit: '°' },
]
const HAND: Field[] = [
  { name: 'feed', label: 'feed', field: 'feed turned to', unit: '%' },
  { name: 'spindle', label: 'spindle', field: 'spindle turned to', unit: '%' },
  {
    name: 'begins',
    label: 'begin at line',
    field: 'begin at line',
    unit: '',
    help: 'Searched for: what comes before is worked out and not done. 0 is the first.',
  },
]

/** The machine set up wrongly on purpose, or run otherwise: what the cuts would leave then. */
export function Wrongly({ project, plan, setup, report }: SheetProps) {
  const [told, setTold] = useState(RIGHTLY)
  const [deletes, setDeletes] = useState(true)
  const [short, setShort] = useState<Record<number, number>>({})
  const [found, setFound] = useState<{ proof: Proof; said: string } | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [busy, setBusy] = useState(false)
  if (!report?.proof?.key || report.proof.equal == null || setup.text) return null
  const tools = plan.tools.filter((tool) => report.operations.some((one) => one.tool === tool.id))
  const put = (name: keyof typeof told) => (value: number) => {
    setTold({ ...told, [name]: WHOLE.includes(name) ? Math.round(value) : value })
    setFound(null)
    return null
  }
  const rows = (fields: Field[]) =>
    fields.map(({ name, label, field, unit, help }) => (
      <Row key={name} label={label} help={help}>
        <NumberField label={field} value={told[name]} unit={unit} commit={put(name)} />
      </Row>
    ))
  const see = async () => {
    setBusy(true)
    const how = {
      ...told,
      block_delete: deletes,
      short: Object.entries(short)
        .filter(([, by]) => by !== 0)
        .map(([number, by]) => ({ number: Number(number), by })),
    }
    const came = await answered<Proof>(
      api.POST('/api/projects/{project_id}/wrongly/{setup}', {
        params: { path: { project_id: project.id, setup: setup.name } },
        body: how,
      }),
    ).catch(problemInstead)
    setBusy(false)
    setProblem('code' in came ? came : null)
    if ('code' in came) return
    const said = `${setup.name} run otherwise`
    setFound({ proof: came, said })
    showMoment(Infinity)
    if (came.key)
      useShown.setState({
        beside: { key: came.key, name: said },
        marked: came.equal ? null : (came.place ?? null),
      })
  }
  const leave = () => {
    setFound(null)
    useShown.setState({ beside: null, marked: null })
  }
  return (
    <section aria-label="Run it otherwise" className="mt-5">
      <h3 className="font-head text-[15px] font-semibold">Run it otherwise</h3>
      <p className="mb-1 text-soft">set up wrongly, or by another hand: what would the cuts do?</p>
      {rows(WORK)}
      {tools.map((tool) => (
        <Row key={tool.id} label={`H${tool.place} short by`}>
          <NumberField
            label={`H${tool.place} too short by`}
            value={short[tool.place] ?? 0}
            unit="mm"
            commit={(value) => {
              setShort({ ...short, [tool.place]: value })
              setFound(null)
              return null
            }}
          />
        </Row>
      ))}
      {rows(HAND)}
      <Row label="lines with /">
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            className="accent-action"
            checked={deletes}
            onChange={() => {
              setDeletes(!deletes)
              setFound(null)
            }}
          />
          left out
        </label>
      </Row>
      <div className="mt-2 flex gap-2">
        <button type="button" className="knob" disabled={busy} onClick={() => void see()}>
          {busy ? 'cutting …' : 'see what it does'}
        </button>
        {found && (
          <button type="button" className="knob" onClick={leave}>
            set it right again
          </button>
        )}
      </div>
      <Refused problem={problem} />
      {found && (
        <div className="mt-2" role="status" aria-label="What it does">
          <Computed>
            {round(found.proof.most_mm ?? 0, 3)} mm from the plan at most,{' '}
            {round((found.proof.left_mm3 ?? 0) / 1000, 3)} cm³ too much,{' '}
            {round((found.proof.gouged_mm3 ?? 0) / 1000, 3)} cm³ too little
          </Computed>
          <div>
            <Computed>
              {clock(found.proof.time_s ?? 0)} by the control, {found.proof.stops} stops
              {found.proof.optional_stops > 0 && ` and ${found.proof.optional_stops} where they are wanted`}
            </Computed>
            {told.feed !== told.spindle && (
              <div>
                <Computed>chips {round(told.feed / told.spindle, 2)} times as thick</Computed>
              </div>
            )}
          </div>
          {found.proof.met_mm != null && (
            <div className="text-trouble">
              In line {found.proof.met_line} a rapid, or what does not cut, comes{' '}
              {round(found.proof.met_mm, 2)} mm into the stock.
            </div>
          )}
        </div>
      )}
    </section>
  )
}
