import { type ReactNode, useState } from 'react'
import type { Load, LoadReport, Plan, Problem, ProjectState, Stand } from '../api/client'
import { type Commit, useLibrary, usePart, usePiece } from '../api/hooks'
import { machineOf, registersOf } from '../stages/reach/registers'
import { choose, useRoute } from '../state/route'
import { Choice, Segments } from '../ui/Choice'
import { Computed, NumberField, Row } from '../ui/Field'
import { FindingCard } from '../ui/FindingCard'
import { clock, hueOf, round } from '../ui/words'
import { fresh, freshStand, standIn } from './fresh'
import { Guests } from './Guests'
import { LoadPicture } from './LoadPicture'
import { OrderBar } from './OrderBar'
import { PatternFields } from './PatternFields'
import { PlaceEditor } from './PlaceEditor'
import { TablePlan } from './TablePlan'

const ORDERS: { value: Load['order']; label: string }[] = [
  { value: 'places', label: 'place by place' },
  { value: 'tools', label: 'each tool round' },
  { value: 'fastest', label: 'the fastest' },
  { value: 'hand', label: 'by hand' },
]
type Seen = 'above' | 'before' | 'step' | 'after'
const SEEN_FROM: { value: Seen; label: string }[] = [
  { value: 'above', label: 'from above' },
  { value: 'before', label: 'as it is loaded' },
  { value: 'step', label: 'at a step' },
  { value: 'after', label: 'as it is cut' },
]
const WAYS: { value: Load['between']; label: string }[] = [
  { value: 'top', label: 'by the top of Z' },
  { value: 'over', label: 'just over all' },
]
const SHIFTS: { value: Load['shifts']; label: string }[] = [
  { value: 'no', label: 'nothing' },
  { value: 'places', label: 'places of a setup' },
  { value: 'features', label: 'like features' },
]
const PROGRAMS: { value: Load['program']; label: string }[] = [
  { value: 'one', label: 'one for all' },
  { value: 'each', label: 'one each' },
]

export type ChangeLoad = (what: string, change: (load: Load) => void) => Promise<Problem | null>
export type ChangeStand = (
  setup: string,
  what: string,
  change: (stand: Stand) => void,
) => Promise<Problem | null>

/** The load in a draft of the plan; made where there is none. */
function loadIn(draft: Plan, name: string): Load {
  const there = draft.loads.find((one) => one.name === name)
  if (there) return there
  draft.loads.push(fresh(name))
  return draft.loads.at(-1) as Load
}

/** A load as a place of its own: what stands on the machine at once, in which order it is cut, what a cycle gives. */
export function LoadPage(props: { project: ProjectState; commit: Commit; name: string }) {
  const { project, commit, name } = props
  const { plan, report } = project
  const { data: library } = useLibrary()
  const { data: part } = usePart(plan.part.sha256)
  const [seen, setSeen] = useState<Seen>('above')
  const [chosen, setStep] = useState(0)
  const [tab, setTab] = useState<'order' | 'program' | 'findings'>('order')
  const setups = plan.setups.filter((one) => one.load === name)
  const told = report?.loads.find((one) => one.name === name)
  const load = plan.loads.find((one) => one.name === name) ?? fresh(name)
  const machine = machineOf(plan, library?.machines, setups[0]?.machine ?? '')
  const change: ChangeLoad = (what, edit) =>
    commit(`load ${name}: ${what}`, (draft) => edit(loadIn(draft, name)))
  const changeStand: ChangeStand = (setup, what, edit) =>
    change(`${setup} ${what}`, (draft) => {
      let stand = standIn(draft, setup)
      if (!stand) {
        draft.stands.push(freshStand(setup))
        stand = draft.stands.at(-1)
      }
      if (stand) edit(stand)
    })
  const step = Math.min(chosen, Math.max(0, (told?.order.length ?? 0) - 1))
  const late = project.report_revision !== project.revision
  return (
    <div className="grid min-h-0 grid-cols-[420px_1fr] grid-rows-[minmax(0,1fr)]">
      <section
        aria-label="Load"
        className="relative overflow-y-auto border-r border-rule bg-sheet px-3.5 py-3"
      >
        <div className="flex items-baseline gap-2">
          <h2 className="font-head text-[17px] font-semibold">Load {name}</h2>
          <span className="grow" />
          <button
            type="button"
            className="text-action underline"
            onClick={() => useRoute.setState({ load: null })}
          >
            back to the setups
          </button>
        </div>
        <p className="mb-2 text-soft">What stands on {machine?.name ?? 'the machine'} at once</p>
        {setups.map((setup) => {
          const stand = standIn(load, setup.name) ?? freshStand(setup.name)
          const change = (what: string, edit: (own: Stand) => void) => changeStand(setup.name, what, edit)
          return (
            <StandRows
              key={setup.name}
              stand={stand}
              title={`${setup.name} ${setup.title}`}
              hue={hueOf(plan.setups.indexOf(setup))}
              change={change}
              open={() => choose(plan.setups.indexOf(setup))}
            >
              <PlaceEditor
                project={project}
                part={part}
                setup={setup}
                stand={stand}
                registers={registersOf(machine)}
                change={change}
              />
            </StandRows>
          )
        })}
        <Guests project={project} load={load} change={change} />
        <Places told={told} late={late} />
        <h3 className="mt-4 font-head text-[15px] font-semibold">Cut in this order</h3>
        <Segments
          label="Order"
          value={load.order}
          options={ORDERS}
          choose={(value) =>
            void change(value, (draft) => {
              draft.order = value
              if (value === 'hand' && told) draft.hand = told.order.map((one) => `${one.place} ${one.run}`)
            })
          }
        />
        {told && told.places.length > 1 && <Saved told={told} />}
        <Row label="Place to place" help="With one tool and nothing turned; else by the top of Z">
          <Segments
            label="Place to place"
            value={load.between}
            options={WAYS}
            choose={(value) =>
              void change(`from place to place: ${value}`, (draft) => (draft.between = value))
            }
          />
        </Row>
        {told && told.places.length > 1 && <Ways told={told} over={load.between === 'over'} />}
        <Row label="Program">
          <Segments
            label="Program"
            value={load.program}
            options={PROGRAMS}
            choose={(value) => void change(`program: ${value}`, (draft) => (draft.program = value))}
          />
        </Row>
        {load.program === 'one' &&
          (
            [
              ['subprograms', 'like places are called'],
              ['stops', 'may stop between places'],
              ['counts', 'counts its cycles'],
            ] as const
          ).map(([field, label]) => (
            <label key={field} className="flex items-center gap-1.5 py-0.5 pl-[7rem]">
              <input
                type="checkbox"
                className="accent-action"
                checked={load[field]}
                onChange={() => void change(label, (draft) => (draft[field] = !load[field]))}
              />
              {label}
            </label>
          ))}
        {load.program === 'one' && (
          <Row
            label="Shifted"
            help="Called from one register by G52: places without a register each, or what is cut alike at several places of one work"
          >
            <Choice
              label="Shifted"
              value={load.shifts}
              options={SHIFTS}
              choose={(value) => void change(`shifted: ${value}`, (draft) => (draft.shifts = value))}
            />
          </Row>
        )}
        <h3 className="mt-4 font-head text-[15px] font-semibold">Each cycle</h3>
        <Row label="To load one">
          <NumberField
            label="Time to load one"
            value={load.loading_s}
            unit="s"
            commit={(value) => change('loading', (draft) => (draft.loading_s = value))}
          />
        </Row>
        <Row label="Building up" help="The load, once for the whole lot">
          <NumberField
            label="Time to build the load up"
            value={load.setup_min}
            unit="min"
            commit={(value) => change('setting up', (draft) => (draft.setup_min = value))}
          />
        </Row>
        <Row label="Lot">
          <NumberField
            label="Parts wanted"
            value={load.lot}
            unit=""
            placeholder="as many as come"
            clear={() => change('lot', (draft) => (draft.lot = null))}
            commit={(value) => change('lot', (draft) => (draft.lot = Math.round(value)))}
          />
        </Row>
        {told && <Cycle told={told} />}
      </section>
      <div className="grid min-h-0 min-w-0 grid-rows-[minmax(0,1fr)_auto]">
        <div className="relative grid min-h-0 min-w-0">
          <div className="absolute left-2.5 top-2.5 z-10">
            <Segments label="Seen" value={seen} options={SEEN_FROM} choose={setSeen} />
          </div>
          {told && told.places.length > 0 && seen !== 'above' ? (
            <LoadPicture project={project} told={told} when={seen === 'step' ? step : seen} late={late} />
          ) : machine ? (
            <TablePlan
              project={project}
              machine={machine}
              told={told}
              late={late}
              move={(setup, x, y) =>
                void changeStand(setup, 'moved', (stand) => {
                  stand.at_x += x
                  stand.at_y += y
                })
              }
            />
          ) : (
            <p className="p-6 text-soft">Opening …</p>
          )}
        </div>
        <section
          aria-label="Load dock"
          className="flex h-[210px] min-w-0 flex-col border-t border-rule bg-sheet px-3 pt-1.5"
        >
          <div role="tablist" className="flex gap-4">
            {(
              [
                ['order', 'Order'],
                ['program', 'Program'],
                ['findings', `Findings ${told?.findings.length ?? ''}`],
              ] as const
            ).map(([value, label]) => (
              <button
                key={value}
                type="button"
                role="tab"
                aria-selected={tab === value}
                className={`border-b-2 pb-0.5 ${tab === value ? 'border-ink font-semibold' : 'border-transparent text-soft'}`}
                onClick={() => setTab(value)}
              >
                {label}
              </button>
            ))}
          </div>
          <div className="min-h-0 grow overflow-y-auto py-2">
            {tab === 'order' && told && (
              <OrderBar
                told={told}
                at={seen === 'step' ? step : null}
                choose={(n) => {
                  setStep(n)
                  setSeen('step')
                }}
                hues={new Map(plan.setups.map((one, i) => [one.name, hueOf(i)]))}
                byHand={
                  load.order === 'hand'
                    ? (steps) => void change('order by hand', (draft) => (draft.hand = steps))
                    : null
                }
              />
            )}
            {tab === 'program' && <ProgramOf told={told} />}
            {tab === 'findings' && (
              <div className="grid gap-2">
                {told?.findings.map((one, n) => (
                  <FindingCard key={n} finding={one} project={project} />
                ))}
                {told?.findings.length === 0 && <p className="text-soft">Nothing is wrong with the load.</p>}
              </div>
            )}
          </div>
        </section>
      </div>
    </div>
  )
}

/** The pattern of one setup. */
function StandRows(props: {
  stand: Stand
  title: string
  hue: string
  change: (what: string, edit: (stand: Stand) => void) => Promise<Problem | null>
  open: () => void
  children?: ReactNode
}) {
  const { stand, change } = props
  return (
    <div
      role="group"
      aria-label={`${stand.setup} pattern`}
      className="mb-2 border-l-4 pl-2"
      style={{ borderColor: props.hue }}
    >
      <button type="button" className="font-semibold hover:underline" onClick={props.open}>
        {props.title}
      </button>
      <PatternFields called={stand.setup} stand={stand} change={change} />
      {props.children}
    </div>
  )
}

function Places({ told, late }: { told: LoadReport | undefined; late: boolean }) {
  if (!told?.places.length) return <p className="text-soft">Its places are known once its setups are cut.</p>
  const alike = told.places.filter((one) => one.like != null)
  return (
    <>
      <table className={`figures mt-2 w-full text-[12.5px] ${late ? 'opacity-50' : ''}`} aria-label="Places">
        <thead>
          <tr className="text-left font-sans text-soft">
            <th className="font-normal">place</th>
            <th className="font-normal">register</th>
            <th className="font-normal">X, Y, Z</th>
            <th className="text-right font-normal">time</th>
            <th className="pl-2 text-right font-normal">leaves</th>
          </tr>
        </thead>
        <tbody>
          {told.places.map((place) => (
            <tr key={place.key} className="border-t border-rule align-baseline">
              <td>{place.key}</td>
              <td>{place.registers[0]?.register_name}</td>
              <td>
                {place.shifted
                  ? `shift ${place.shifted.map((one) => round(one, 3)).join(' ')}`
                  : place.registers[0]?.value?.map((one) => round(one.value, 3)).join(' ')}
              </td>
              <td className="text-right">{clock(place.time_s)}</td>
              <td className={`pl-2 text-right ${place.equal === false ? 'text-trouble' : ''}`}>
                {place.equal == null
                  ? '–'
                  : place.equal
                    ? 'as planned'
                    : `${round(place.most_mm ?? 0, 2)} off`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {alike.length > 0 && (
        <p className="pt-0.5 text-[12px] text-soft">
          Computed once: {alike.map((one) => `${one.key} is cut like ${one.like}`).join(', ')}.
        </p>
      )}
    </>
  )
}

/** What it saves, and what the fastest of all orders would. */
function Saved({ told }: { told: LoadReport }) {
  const least = told.fastest_s ?? Math.min(told.tools_s, told.places_s)
  const saves = told.places_s - told.time_s
  return (
    <p className="pb-1">
      <Computed>
        {clock(told.time_s)}, {told.changes} tool changes;{' '}
        {saves > 0.5 && `saves ${clock(saves)} against place by place; `}
        {told.time_s - least > 0.5
          ? `the fastest would save ${clock(told.time_s - least)}`
          : told.fastest_s == null
            ? 'of two that were looked at the better'
            : 'no order is quicker'}
      </Computed>
    </p>
  )
}

/** What the ways from place to place cost, or save. */
function Ways({ told, over }: { told: LoadReport; over: boolean }) {
  const saves = told.top_s - told.over_s
  if (saves < 0.5) return null
  return (
    <p className="pb-1">
      <Computed>
        {over
          ? `saves ${clock(saves)} against the top of Z`
          : `just over all that stands would save ${clock(saves)}`}
      </Computed>
    </p>
  )
}

function Cycle({ told }: { told: LoadReport }) {
  return (
    <>
      <Row label="On the table" help="Works, and holdings as of steel">
        <Computed>{round(told.mass_kg, 1)} kg</Computed>
      </Row>
      <Row label="Finished">
        <Computed>
          {told.finished} parts{told.per_hour != null && `, ${round(told.per_hour, 1)} an hour`}
        </Computed>
      </Row>
      {told.minutes_each != null && (
        <Row label="One takes" help="Its share of the cycle and of building up, loading with it">
          <Computed>{round(told.minutes_each, 2)} min</Computed>
        </Row>
      )}
      {told.cycles != null && (
        <Row label="For the lot">
          <Computed>
            {told.cycles} cycles
            {told.billets != null && `, ${told.billets} billet${told.billets === 1 ? '' : 's'}`}
            {told.of_billet > 1 && ` of ${told.of_billet} parts`}
          </Computed>
        </Row>
      )}
      {told.first_cycle.length > 0 && (
        <Row label="First cycle" help="What has to be there before the load can run whole">
          <Computed>{told.first_cycle.join('; ')}</Computed>
        </Row>
      )}
    </>
  )
}

function ProgramOf({ told }: { told: LoadReport | undefined }) {
  const { data: text } = usePiece(told?.program_key, 'program.nc')
  if (!text) return <p className="text-soft">One program for each setup, as they are.</p>
  return (
    <pre className="figures text-[12px] leading-[1.45]" aria-label="Load program">
      {text}
    </pre>
  )
}
