import type { HoldItem, NestReport } from '../../api/client'
import { round } from '../../ui/words'
import { Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import type { SheetProps } from '../sheet'

type Cut = NonNullable<HoldItem['cut']>
type Typed = 'turn_deg' | 'angle_deg' | 'grip' | 'gap' | 'split' | 'fill'
const TYPED: Record<string, Typed> = {
  turn: 'turn_deg',
  angle: 'angle_deg',
  grip: 'grip',
  gap: 'gap',
  split: 'split',
  fill: 'fill',
}

/** The solved jaws from above, and every choice of the solver with its reason; what is typed takes its place. */
export function SoftJaws(props: SheetProps & { nest: NestReport }) {
  const { nest, plan, commit, project } = props
  const target = plan.setups.findIndex((one) => one.name === nest.setup)
  const item = plan.setups[target]?.hold.items.find((one) => one.id === nest.item)
  const cut = item?.cut
  if (!cut) return null
  const change = (what: string, then: (own: Cut) => void) =>
    commit(`${nest.setup}: jaws ${what}`, (draft) => {
      const mine = draft.setups[target]?.hold.items.find((one) => one.id === nest.item)?.cut
      if (mine) then(mine)
    })
  const plain = (
    label: string,
    field:
      | 'cutter'
      | 'clearance'
      | 'shift'
      | 'edge_break'
      | 'least_wall'
      | 'step'
      | 'slip'
      | 'corner_radius'
      | 'edge_chamfer'
      | 'mouth',
  ) => (
    <NumberRow
      label={label}
      name={`Jaws ${label.toLowerCase()}`}
      value={cut[field]}
      unit="mm"
      commit={(value) => change(label.toLowerCase(), (own) => (own[field] = value))}
    />
  )
  // A vee or a profile is cut with the block standing on its end, and drawn as seen then.
  const onEnd = nest.gap === 0 && cut.shape !== 'nest'
  const files = `/api/projects/${project.id}/files/${nest.setup}`
  return (
    <section aria-label="Soft jaws">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">
        {nest.gap > 0 ? 'Jaws as solved' : 'Nest as solved'}
      </h3>
      <Plan nest={nest} onEnd={onEnd} />
      {nest.gap === 0 && (
        <Row label="Cut as">
          <Segments
            label="Shape of the block"
            value={cut.shape}
            options={[
              { value: 'nest', label: 'nest' },
              { value: 'vee', label: 'vee' },
              { value: 'profile', label: 'profile' },
            ]}
            choose={(shape) => void change(`cut as a ${shape}`, (own) => (own.shape = shape))}
          />
        </Row>
      )}
      {nest.reasons.map((one) => {
        const field = TYPED[one.name]
        const why = (
          <div className="text-[12px] leading-tight text-soft">
            {!one.solved && <span className="font-semibold text-ink">typed · </span>}
            {one.why}
          </div>
        )
        return field ? (
          <NumberRow
            key={one.name}
            label={one.name}
            name={`Jaws ${one.name}`}
            value={one.value}
            unit={one.unit}
            measure={one.unit === '°' ? '°' : 'mm'}
            below={why}
            clear={() => change(`${one.name} solved`, (own) => (own[field] = null))}
            commit={(value) => change(`${one.name} ${value}`, (own) => (own[field] = value))}
          />
        ) : (
          <Row key={one.name} label={one.name} below={why}>
            <Computed>
              {round(one.value, 2)} {one.unit}
            </Computed>
          </Row>
        )
      })}
      {plain('Cutter', 'cutter')}
      {!onEnd && plain('Clearance', 'clearance')}
      {plain(onEnd ? 'Along the block' : 'Along the jaws', 'shift')}
      <Row label="Corners">
        <Segments
          label="Corner relief"
          value={cut.relief}
          options={[
            { value: 'round', label: 'round' },
            { value: 'slot', label: 'along one wall' },
            { value: 'none', label: 'none' },
          ]}
          choose={(relief) => void change(`relief ${relief}`, (own) => (own.relief = relief))}
        />
      </Row>
      {!onEnd && (
        <>
          <Row label="Stands on">
            <Segments
              label="Nest floor"
              value={cut.floor}
              options={[
                { value: 'floor', label: 'the floor' },
                { value: 'step', label: 'a step' },
              ]}
              choose={(floor) => void change(floor, (own) => (own.floor = floor))}
            />
          </Row>
          {cut.floor === 'step' && plain('Step', 'step')}
          {plain('Rim groove', 'edge_break')}
        </>
      )}
      {!onEnd && plain('Opening chamfer', 'mouth')}
      {plain('Least wall', 'least_wall')}
      {nest.gap === 0 && (
        <>
          {plain('Block corners', 'corner_radius')}
          {plain('Block edges', 'edge_chamfer')}
        </>
      )}
      {nest.gap === 0 && !onEnd && (
        <>
          {plain('Slip fit', 'slip')}
          <Row label="Screwed down">
            <Segments
              label="Block screwed down"
              value={cut.screwed ? 'yes' : 'no'}
              options={[
                { value: 'yes', label: 'to its plate' },
                { value: 'no', label: 'not here' },
              ]}
              choose={(way) =>
                void change(
                  way === 'yes' ? 'screwed down' : 'not screwed down',
                  (own) => (own.screwed = way === 'yes'),
                )
              }
            />
          </Row>
        </>
      )}
      <Row label="Cut in">
        {nest.cut_in ?? <span className="text-trouble">no setup of the route yet</span>}
      </Row>
      <Row label="Files">
        <span className="flex flex-wrap gap-x-2.5 text-[12.5px]">
          {(['step', 'stl', 'dxf'] as const).map((kind) => (
            <a key={kind} className="text-action underline" href={`${files}/jaws.${kind}`} download>
              {kind === 'dxf' ? 'outline DXF' : `jaws ${kind.toUpperCase()}`}
            </a>
          ))}
        </span>
      </Row>
    </section>
  )
}

/** Jaws, gap, nest and work, seen from above; a block that stands on its end, seen along it. */
function Plan({ nest, onEnd }: { nest: NestReport; onEnd: boolean }) {
  const [long, , thick] = nest.blank
  const [frontLong, , frontThick] = nest.front ?? nest.blank
  const jaws = nest.gap > 0
  const length = Math.max(long, jaws ? frontLong : 0)
  const boxes: [number, number, number][] = jaws
    ? [
        [-thick, 0, nest.walls[0]],
        [-thick - nest.gap - frontThick, -thick - nest.gap, nest.walls[1]],
      ]
    : [[-thick / 2, thick / 2, nest.walls[0]]]
  const low = Math.min(...boxes.map(([a]) => a))
  const high = Math.max(...boxes.map(([, b]) => b))
  const d = (ring: readonly (readonly [number, number])[]) =>
    `M${ring.map(([x, y]) => `${x} ${-y}`).join('L')}Z`
  return (
    <svg
      role="img"
      aria-label={`${onEnd ? 'Block along its length' : 'Nest from above'}, gap ${nest.gap} mm, walls ${nest.walls.map((one) => round(one, 1)).join(' and ')} mm`}
      viewBox={`${-length / 2 - 4} ${-high - 4} ${length + 8} ${high - low + 8}`}
      className="mb-1 max-h-56 w-full border border-rule bg-white"
    >
      {boxes.map(([a, b], i) => (
        <rect
          key={a}
          x={-(i === 0 ? long : frontLong) / 2}
          y={-b}
          width={i === 0 ? long : frontLong}
          height={b - a}
          fill="#C9CCCC"
          stroke="#1E2A2F"
          strokeWidth="0.5"
        />
      ))}
      <path d={d(nest.opening)} fill="#FCFAF5" stroke="#1E2A2F" strokeWidth="0.5" />
      {jaws && (
        <rect x={-length / 2} y={thick} width={length} height={nest.gap} fill="#FCFAF5" fillOpacity="0.6" />
      )}
      <path d={d(nest.outline)} fill="#12545F" fillOpacity="0.16" stroke="#12545F" strokeWidth="0.7" />
      {boxes.map(([, b, wall], i) => (
        <text
          key={b}
          x={length / 2 - 3}
          y={jaws ? (i === 0 ? 6 : -low - 2) : -high + 7}
          textAnchor="end"
          fontSize="6"
          fontFamily="IBM Plex Mono"
          fill="#1E2A2F"
        >
          {i === 0 ? (jaws ? 'fixed ' : 'wall ') : 'moving '}
          {round(wall, 1)}
        </text>
      ))}
    </svg>
  )
}
