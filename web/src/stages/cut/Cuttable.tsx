import { useState } from 'react'
import { type Offers, problemOf, type StepTime } from '../../api/client'
import { useCure, useCuttable, useStepTimes } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { useShown } from '../../state/picture'
import { clock } from '../../ui/words'
import { sentence } from '../../ui/Field'
import { Chains as ChainsDialog } from './Chains'
import type { SheetProps } from '../sheet'

type Offer = Offers['offered'][number]

/** What can be cut in the setup: each feature that looks to the spindle with its chain of operations, to be taken singly or all. */
export function Cuttable({ project, setup }: SheetProps) {
  const [open, setOpen] = useState(setup.operations.length === 0)
  const [face, setFace] = useState<number | null>(null)
  const [chains, setChains] = useState(false)
  const found = useCuttable(project, setup.name, open)
  const cured = useCure(project)
  const all = found.data?.offered ?? []
  const shown = face === null ? all : all.filter((one) => one.cuttable.all_faces.includes(face))
  const light = (faces: readonly number[]) => useShown.setState({ lit: faces })
  return (
    <section aria-label="What can be cut here" className="mt-5">
      <button
        type="button"
        aria-expanded={open}
        className="flex w-full items-baseline gap-2 text-left font-head text-[15px] font-semibold"
        onClick={() => setOpen(!open)}
      >
        <span className="text-soft">{open ? '–' : '+'}</span> What can be cut here
      </button>
      {open && (
        <>
          {found.error && (
            <p role="alert" className="mt-1 text-[12.5px] text-soft">
              {sentence(problemOf(found.error))}
            </p>
          )}
          {found.data && (
            <div className="mb-1 mt-1 flex flex-wrap items-center gap-1.5 text-[12.5px]">
              {found.data.every && face === null && (
                <button
                  type="button"
                  className="knob-go"
                  onClick={() =>
                    found.data.every && void cured(found.data.every, `${setup.name}: all that can be cut`)
                  }
                >
                  {found.data.every.label}
                </button>
              )}
              <button
                type="button"
                className="knob"
                onClick={() =>
                  face === null
                    ? useAsking.setState({
                        asked: {
                          kind: 'face',
                          prompt: 'Pick a face of what is to be cut',
                          take: (ref) => setFace(ref.face),
                        },
                      })
                    : setFace(null)
                }
              >
                {face === null ? 'Only what I pick' : `Only F${face} ×`}
              </button>
              <button type="button" className="knob" onClick={() => setChains(true)}>
                How holes are made
              </button>
            </div>
          )}
          <ul aria-label="Offered">
            {shown.map((one) => (
              <Row
                key={`${one.cuttable.position} ${one.cuttable.what}`}
                offer={one}
                times={{ project, setup: setup.name }}
                light={light}
                take={cured}
              />
            ))}
          </ul>
          {found.data && shown.length === 0 && (
            <p className="text-soft">
              {face === null
                ? 'Nothing that looks to the spindle is left to cut.'
                : `Nothing offered has face ${face}.`}
            </p>
          )}
          {chains && <ChainsDialog close={() => setChains(false)} />}
          {found.data && face === null && <PassedBy passed={found.data.passed} light={light} />}
        </>
      )}
    </section>
  )
}

function Row(props: {
  offer: Offer
  times: { project: SheetProps['project']; setup: string }
  light: (faces: readonly number[]) => void
  take: (cure: NonNullable<Offer['take']>) => Promise<void>
}) {
  const { cuttable, take } = props.offer
  const times = useStepTimes(props.times.project, props.times.setup, cuttable).data
  const known = times?.every((one) => one.seconds != null)
  const seconds = times?.reduce((sum, one) => sum + (one.seconds ?? 0), 0)
  return (
    <li
      className="border-t border-rule py-1.5"
      onMouseEnter={() => props.light(cuttable.all_faces)}
      onMouseLeave={() => props.light([])}
    >
      <div className="flex items-baseline gap-2">
        <span className="min-w-0 grow">
          {cuttable.count > 1 && `${cuttable.count} × `}
          {cuttable.what}
          {cuttable.position && (
            <span className="figures ml-1 bg-rail px-1 text-[11.5px]">{cuttable.position}</span>
          )}
        </span>
        {take ? (
          <>
            <span className="figures shrink-0 whitespace-nowrap text-[11.5px] text-soft">
              {seconds === undefined ? '…' : known ? clock(seconds) : 'not planned'}
            </span>
            <button
              type="button"
              aria-label={`Take ${cuttable.what}`}
              className="knob !px-2 text-[12.5px]"
              onClick={() => void props.take(take)}
            >
              Take
            </button>
          </>
        ) : (
          <span className="shrink-0 text-[12.5px] text-trouble">no tool</span>
        )}
      </div>
      {cuttable.wanted ? (
        <p className="text-[12.5px] text-trouble">Needs {cuttable.wanted}.</p>
      ) : (
        <ol className="text-[12.5px] text-soft" title={`${cuttable.chain}: ${cuttable.source}`}>
          {cuttable.steps.map((step, number) => (
            <li key={String(step.told.name)} className="flex gap-2">
              <span className="min-w-0 grow truncate">{String(step.told.name)}</span>
              <span className="truncate">{step.tool.name}</span>
              <Time time={times?.[number]} />
            </li>
          ))}
        </ol>
      )}
    </li>
  )
}

/** The time of a step; where it cannot be planned, why. */
function Time({ time }: { time: StepTime | undefined }) {
  return (
    <span
      className={`figures w-10 shrink-0 text-right text-[11.5px] ${time?.why ? 'text-trouble' : ''}`}
      title={time?.why || 'its path planned on the stock that comes in'}
    >
      {time ? (time.seconds == null ? '–' : clock(time.seconds)) : '…'}
    </span>
  )
}

/** What is not offered, by why. */
function PassedBy(props: { passed: Offers['passed']; light: (faces: readonly number[]) => void }) {
  const reasons = [...new Set(props.passed.map((one) => one.why))]
  if (reasons.length === 0) return null
  return (
    <details className="mt-1 text-[12.5px] text-soft">
      <summary className="cursor-pointer">{props.passed.length} more not offered, and why</summary>
      <ul>
        {reasons.map((why) => {
          const own = props.passed.filter((one) => one.why === why)
          return (
            <li
              key={why}
              onMouseEnter={() => props.light(own.flatMap((one) => one.faces))}
              onMouseLeave={() => props.light([])}
            >
              {why}: {[...new Set(own.map((one) => one.what))].join('; ')}
              {own.length > 1 && ` (${own.length})`}
            </li>
          )
        })}
      </ul>
    </details>
  )
}
