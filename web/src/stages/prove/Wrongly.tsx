import { useState } from 'react'
import { answered, api, type Problem, problemInstead, type Proof } from '../../api/client'
import { showMoment } from '../../state/route'
import { useShown } from '../../state/picture'
import { Computed, NumberField, Row } from '../../ui/Field'
import { Refused } from '../../ui/Refused'
import { clock, round } from '../../ui/words'
import type { SheetProps } from '../sheet'

/** The machine set up wrongly on purpose, or run otherwise: what the cuts would leave then. */
export function Wrongly({ project, plan, setup, report }: SheetProps) {
  const [off, setOff] = useState({ left: 0, back: 0, turned: 0 })
  const [hand, setHand] = useState({ feed: 100, spindle: 100, begins: 0 })
  const [deletes, setDeletes] = useState(true)
  const [short, setShort] = useState<Record<number, number>>({})
  const [found, setFound] = useState<{ proof: Proof; said: string } | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [busy, setBusy] = useState(false)
  if (!report?.proof?.key || report.proof.equal == null || setup.text) return null
  const tools = plan.tools.filter((tool) => report.operations.some((one) => one.tool === tool.id))
  const put = (name: keyof typeof off) => (value: number) => {
    setOff({ ...off, [name]: value })
    setFound(null)
    return null
  }
  const turn = (name: keyof typeof hand) => (value: number) => {
    setHand({ ...hand, [name]: Math.round(value) })
    setFound(null)
    return null
  }
  const see = async () => {
    setBusy(true)
    const how = {
      ...off,
      ...hand,
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
      <Row label="work to left">
        <NumberField label="work to the left" value={off.left} unit="mm" commit={put('left')} />
      </Row>
      <Row label="to the back">
        <NumberField label="work to the back" value={off.back} unit="mm" commit={put('back')} />
      </Row>
      <Row label="turned">
        <NumberField label="work turned" value={off.turned} unit="°" commit={put('turned')} />
      </Row>
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
      <Row label="feed">
        <NumberField label="feed turned to" value={hand.feed} unit="%" commit={turn('feed')} />
      </Row>
      <Row label="spindle">
        <NumberField label="spindle turned to" value={hand.spindle} unit="%" commit={turn('spindle')} />
      </Row>
      <Row
        label="begin at line"
        help="Searched for: what comes before is worked out and not done. 0 is the first."
      >
        <NumberField label="begin at line" value={hand.begins} unit="" commit={turn('begins')} />
      </Row>
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
            {hand.feed !== hand.spindle && (
              <div>
                <Computed>chips {round(hand.feed / hand.spindle, 2)} times as thick</Computed>
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
