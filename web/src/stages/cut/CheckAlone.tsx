import { useEffect, useState } from 'react'
import { answered, api, type Operation, type Problem, problemOf } from '../../api/client'
import type { components } from '../../api/schema'
import { useShown } from '../../state/picture'
import { clock, round } from '../../ui/words'
import { LongChoice } from '../../ui/Choice'
import { Computed, Row } from '../../ui/Field'
import { FindingCard } from '../../ui/FindingCard'
import { Refused } from '../../ui/Refused'
import { type Chosen, momentsBefore } from '../incoming/moments'
import type { SheetProps } from '../sheet'

type Alone = components['schemas']['Alone']

/** One operation, or a whole setup, run on a stock of one's choice; the plan stays as it is. */
export function CheckAlone(props: SheetProps & { operation?: Operation }) {
  const { project, plan, setup, index, operation } = props
  const [moment, setMoment] = useState('')
  const [found, setFound] = useState<{ of: number; alone: Alone } | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [running, setRunning] = useState(false)
  const moments: { value: string; label: string; chosen: Chosen | null }[] = [
    { value: '', label: 'the stock it comes to', chosen: null },
    ...momentsBefore(plan, index),
  ]
  useEffect(() => () => useShown.setState({ beside: null }), [])
  const fresh = found?.of === project.revision
  useEffect(() => {
    if (!fresh) useShown.setState({ beside: null })
  }, [fresh])
  const run = async () => {
    setRunning(true)
    try {
      const alone = await answered<Alone>(
        api.POST('/api/projects/{project_id}/alone/{setup}', {
          params: { path: { project_id: project.id, setup: setup.name } },
          body: {
            operation: operation?.id ?? null,
            incoming: moments.find((one) => one.value === moment)?.chosen ?? null,
          },
        }),
      )
      setFound({ of: project.revision, alone })
      setProblem(null)
      const name = `${operation?.name ?? setup.name} alone, ${alone.said}`
      useShown.setState({ beside: alone.outgoing_key ? { key: alone.outgoing_key, name } : null })
    } catch (refusal) {
      setProblem(problemOf(refusal))
    }
    setRunning(false)
  }
  return (
    <div className="pb-2">
      <Row
        label="On"
        below={
          <>
            <button
              type="button"
              className="knob"
              disabled={running}
              onClick={() => void run()}
              aria-busy={running}
            >
              {running ? 'running …' : 'Run it alone'}
            </button>
            <Refused problem={problem} />
          </>
        }
      >
        <LongChoice label="Stock it is run on" value={moment} options={moments} choose={setMoment} />
      </Row>
      {found && fresh && (
        <>
          <Row label="Takes off">
            <Computed>
              {round(found.alone.removed_volume_mm3 / 1000, 2)} cm³ of{' '}
              {round(found.alone.incoming_volume_mm3 / 1000, 1)} in {clock(found.alone.time_s)} min
            </Computed>
          </Row>
          <div className="mt-1 flex flex-col gap-1.5">
            {found.alone.findings.length === 0 && <p className="text-soft">Nothing is found.</p>}
            {found.alone.findings.map((one, i) => (
              <FindingCard key={i} finding={{ ...one, cures: [] }} project={project} />
            ))}
          </div>
        </>
      )}
    </div>
  )
}
