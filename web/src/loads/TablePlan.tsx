import { useRef, useState } from 'react'
import type { Fixture, LoadReport, MachineData, PlaceReport, ProjectState, Setup } from '../api/client'
import { useFixtures } from '../api/hooks'
import { hueOf } from '../ui/words'
import { type Standing, standing, staysOf } from './LoadBodies'

/** A dragged place goes by steps of this, mm, where no plate that stays has holes for it to go by. */
const STEP_MM = 5
/** Room round the table, mm. */
const ROOM_MM = 40

/** The table from above, with everything that stands on it; a setup's places are dragged together. */
export function TablePlan(props: {
  project: ProjectState
  machine: MachineData
  told: LoadReport | undefined
  late: boolean
  move: (setup: string, x: number, y: number) => void
}) {
  const { project, machine, told, late, move } = props
  const svg = useRef<SVGSVGElement>(null)
  const from = useRef<{ x: number; y: number } | null>(null)
  const [dragged, setDragged] = useState<{ setup: string; x: number; y: number } | null>(null)
  const { length, depth, slots } = machine.table
  const hues = new Map(project.plan.setups.map((one, n) => [one.name, hueOf(n)]))
  const fixtures = useFixtures(project.plan).data ?? []
  const stays = (setup: string) => staysOf(project, told?.name ?? '', setup)
  const report = (setup: string) => told && standing(project, told, setup)
  const planned = (name: string) => project.plan.setups.find((one) => one.name === name)
  // What stays stands there once, under all places: as the first of them has it.
  const once = new Map<string, Once>()
  for (const place of told?.places ?? []) {
    const setup = planned(place.setup)
    if (setup)
      for (const one of staying(setup, report(place.setup), stays(place.setup), fixtures, place))
        once.set(one.key, one)
  }
  const stepOf = (setup: string) => {
    const own = planned(setup)?.hold.items.filter((one) => stays(setup).includes(one.id)) ?? []
    const plate = own.map((one) => plateOf(fixtures, one.fixture)).find((one) => one !== null)
    return plate?.pitch ?? STEP_MM
  }
  const moved = (event: { clientX: number; clientY: number }, setup: string) => {
    const scale = svg.current?.getScreenCTM()?.a ?? 1
    const start = from.current
    if (!start) return { x: 0, y: 0 }
    const by = stepOf(setup)
    const step = (value: number) => Math.round(value / scale / by) * by
    return { x: step(event.clientX - start.x), y: -step(event.clientY - start.y) }
  }
  return (
    <div className="relative min-h-0 bg-bench p-3" aria-label="Table">
      <svg
        ref={svg}
        role="img"
        aria-label="The table from above"
        className={`h-full w-full ${late ? 'opacity-60' : ''}`}
        viewBox={`${-ROOM_MM} ${-ROOM_MM} ${length + 2 * ROOM_MM} ${depth + 2 * ROOM_MM}`}
      >
        <rect width={length} height={depth} fill="#E4DED2" stroke="#9A9486" strokeWidth={1.5} />
        {slots &&
          Array.from({ length: slots.count }, (_, n) => {
            const y = depth - slots.first - n * slots.pitch
            return <rect key={n} y={y - slots.width / 2} width={length} height={slots.width} fill="#D5CDBD" />
          })}
        {[...once.values()].map((one) => (
          <Stays key={one.key} of={one} depth={depth} />
        ))}
        {told?.places.map((place, n) => (
          <Place
            key={place.key}
            place={place}
            number={n + 1}
            setup={report(place.setup)}
            stays={stays(place.setup)}
            hue={hues.get(place.setup) ?? '#999'}
            depth={depth}
            by={dragged?.setup === place.setup ? dragged : null}
            trouble={told.findings.some((one) => one.severity !== 'note' && one.sentence.includes(place.key))}
            handlers={{
              onPointerDown: (event) => {
                event.currentTarget.setPointerCapture(event.pointerId)
                from.current = { x: event.clientX, y: event.clientY }
              },
              onPointerMove: (event) => {
                if (from.current) setDragged({ setup: place.setup, ...moved(event, place.setup) })
              },
              onPointerUp: (event) => {
                const by = moved(event, place.setup)
                from.current = null
                setDragged(null)
                if (by.x || by.y) move(place.setup, by.x, by.y)
              },
            }}
          />
        ))}
        <text x={0} y={depth + 22} className="figures fill-soft text-[15px]">
          {machine.name} · table {length} × {depth}
        </text>
      </svg>
      {dragged && (
        <div className="figures absolute left-4 top-4 border border-action bg-sheet px-1.5 text-action">
          {dragged.setup} {dragged.x >= 0 ? '+' : ''}
          {dragged.x} X, {dragged.y >= 0 ? '+' : ''}
          {dragged.y} Y
        </div>
      )}
    </div>
  )
}

type Plate = Extract<Fixture, { kind: 'plate' }>
type Once = { key: string; low: number[]; high: number[]; at: number[]; plate: Plate | null }

const plateOf = (fixtures: readonly Fixture[], id: string) => {
  const one = fixtures.find((fixture) => fixture.id === id)
  return one?.kind === 'plate' ? one : null
}

/** What of a setup's holding stays where it is planned, whatever its places do. */
function staying(
  setup: Setup,
  report: Standing | undefined,
  stays: readonly string[],
  fixtures: readonly Fixture[],
  place: PlaceReport,
): Once[] {
  const at = [place.at[0] - place.shift[0], place.at[1] - place.shift[1]]
  return (report?.hold?.pieces ?? [])
    .filter((one) => stays.includes(one.item))
    .map((one) => {
      const fixture = setup.hold.items.find((item) => item.id === one.item)?.fixture ?? ''
      const low = one.low.map((value, d) => Math.round((value + (at[d] ?? 0)) * 100) / 100)
      return {
        key: `${one.name} ${low.slice(0, 2).join(' ')}`,
        low: [...one.low],
        high: [...one.high],
        at,
        plate: plateOf(fixtures, fixture),
      }
    })
}

/** A plate or another thing that stands there once, with its holes. */
function Stays({ of, depth }: { of: Once; depth: number }) {
  const [x, y] = [(of.at[0] ?? 0) + (of.low[0] ?? 0), (of.at[1] ?? 0) + (of.low[1] ?? 0)]
  const [width, height] = [(of.high[0] ?? 0) - (of.low[0] ?? 0), (of.high[1] ?? 0) - (of.low[1] ?? 0)]
  const { plate } = of
  const along = (long: number) =>
    plate
      ? Array.from(
          { length: Math.floor((long - 2 * plate.edge) / plate.pitch + 1e-9) + 1 },
          (_, n) => plate.edge + n * plate.pitch,
        )
      : []
  return (
    <g pointerEvents="none">
      <rect x={x} y={depth - y - height} width={width} height={height} fill="#D3D8DA" stroke="#6F797E" />
      {along(width).flatMap((dx) =>
        along(height).map((dy) => (
          <circle key={`${dx} ${dy}`} cx={x + dx} cy={depth - y - dy} r={3} fill="#AEB6BA" />
        )),
      )}
    </g>
  )
}

type Handlers = Pick<React.SVGProps<SVGGElement>, 'onPointerDown' | 'onPointerMove' | 'onPointerUp'>

/** What stands at a place, from above: the holding's pieces, the work, its zero and register. */
function Place(props: {
  place: PlaceReport
  number: number
  setup: Standing | undefined
  /** Items that are there once, and drawn under all places. */
  stays: readonly string[]
  hue: string
  depth: number
  by: { x: number; y: number } | null
  trouble: boolean
  handlers: Handlers
}) {
  const { place, setup, depth, by, trouble } = props
  const [x, y] = [place.at[0] + (by?.x ?? 0), place.at[1] + (by?.y ?? 0)]
  const box = (low: readonly number[], high: readonly number[]) => ({
    x: x + (low[0] ?? 0),
    y: depth - y - (high[1] ?? 0),
    width: (high[0] ?? 0) - (low[0] ?? 0),
    height: (high[1] ?? 0) - (low[1] ?? 0),
  })
  const work = setup?.low && setup.high ? box(setup.low, setup.high) : box([0, 0], [0, 0])
  const pieces = (setup?.hold?.pieces ?? []).filter(
    (one) => !['table', 'machine', ...props.stays].includes(one.item),
  )
  const sorted = [...pieces].sort((a, b) => a.high[2] - b.high[2])
  return (
    <g
      role="button"
      tabIndex={0}
      aria-label={`Place ${place.key}`}
      className="cursor-grab touch-none"
      {...props.handlers}
    >
      {sorted.map((one, n) => (
        <rect key={n} {...box(one.low, one.high)} fill="#BFC5C8" stroke="#6F797E" strokeWidth={1} />
      ))}
      {setup?.low && setup.high && (
        <rect
          {...work}
          fill={props.hue}
          fillOpacity={0.85}
          stroke={trouble ? '#A6331F' : '#1E2A2F'}
          strokeWidth={trouble ? 4 : 1.5}
        />
      )}
      <g transform={`translate(${x} ${depth - y})`} stroke="#1E2A2F" strokeWidth={2} fill="#1E2A2F">
        <circle r={3.5} />
        <path d="M0 0 H34 M27 -4 L34 0 L27 4" fill="none" />
        <path d="M0 0 V-34 M-4 -27 L0 -34 L4 -27" fill="none" />
      </g>
      <Label
        work={work}
        number={props.number}
        said={`${place.setup} ${place.registers[0]?.register_name ?? ''}`}
      />
    </g>
  )
}

/** A place's number on the corner of its work, and below it whose it is and its register. */
function Label(props: {
  work: { x: number; y: number; width: number; height: number }
  number: number
  said: string
}) {
  const { work } = props
  return (
    <>
      <rect x={work.x - 1} y={work.y - 1} width={22} height={22} fill="#1E2A2F" />
      <text
        x={work.x + 10}
        y={work.y + 15}
        textAnchor="middle"
        className="figures text-[14px]"
        fill="#FCFBF6"
      >
        {props.number}
      </text>
      <text
        x={work.x + work.width / 2}
        y={work.y + work.height + 17}
        textAnchor="middle"
        className="figures text-[14px]"
        fill="#1E2A2F"
        paintOrder="stroke"
        stroke="#FCFBF6"
        strokeWidth={4}
      >
        {props.said}
      </text>
    </>
  )
}
