import type { Face, Setup } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { machineOf, registersOf } from '../reach/registers'
import { Head, type SheetProps } from '../sheet'
import { Rests, ZeroEditor } from './ZeroEditor'

const DIRECTIONS: { value: string; label: string; direction: [number, number, number] }[] = [
  { value: '0,0,1', label: '+z, as modelled', direction: [0, 0, 1] },
  { value: '0,0,-1', label: '−z', direction: [0, 0, -1] },
  { value: '1,0,0', label: '+x', direction: [1, 0, 0] },
  { value: '-1,0,0', label: '−x', direction: [-1, 0, 0] },
  { value: '0,1,0', label: '+y', direction: [0, 1, 0] },
  { value: '0,-1,0', label: '−y', direction: [0, -1, 0] },
]
const NUDGES = [-90, -5, -1, 1, 5, 90]
const round1 = (face: Face) =>
  face.kind === 'cylinder' || face.kind === 'cone' ? null : `a ${face.kind} has no axis`

const upText = (up: Setup['seat']['up']) =>
  up.rule === 'face'
    ? `face ${up.face.face} looks up`
    : up.rule === 'edge'
      ? `edge ${up.edge.edge} points up`
      : null
const xText = (x: Setup['seat']['x']) =>
  ({
    turn: null,
    edge: x.rule === 'edge' ? `along edge ${x.edge.edge}` : null,
    face: x.rule === 'face' ? `face ${x.face.face} looks along X` : null,
    holes: x.rule === 'holes' ? `from F${x.first.face} to F${x.second.face}` : null,
  })[x.rule]

/** How the work lies and where zero is. */
export function SeatSheet({ setup, plan, part, report, edit }: SheetProps) {
  const { seen } = useFields(useShown, 'seen')
  const { data: library } = useLibrary()
  const registers = registersOf(machineOf(plan, library?.machines, setup.machine))
  const { seat } = setup
  const { up, x } = seat
  const direction = up.rule === 'direction' ? up.direction.join(',') : up.rule
  const known = DIRECTIONS.some((one) => one.value === direction)
  const rotation = report?.zero_from_work
  const taken = [setup.offset_register, ...seat.zeros.map((one) => one.offset_register)]
  return (
    <>
      <Head title="Seat">How the work lies in {setup.name}, and where zero is</Head>
      <Row label="Up" below={upText(up) && <Computed>{upText(up)}</Computed>}>
        <div className="flex flex-col items-start gap-1.5">
          <div className="w-full">
            <Choice
              label="Up"
              value={direction}
              options={[
                ...DIRECTIONS,
                ...(known
                  ? []
                  : [{ value: direction, label: up.rule === 'direction' ? direction : `picked ${up.rule}` }]),
              ]}
              choose={(value) => {
                const chosen = DIRECTIONS.find((one) => one.value === value)
                if (chosen)
                  void edit(
                    `up ${chosen.label}`,
                    (own) => (own.seat.up = { rule: 'direction', direction: chosen.direction }),
                  )
              }}
            />
          </div>
          <div className="flex gap-1.5">
            <button
              type="button"
              className="knob !px-2 text-[12.5px]"
              aria-label="Pick up face"
              onClick={() =>
                useAsking.setState({
                  asked: {
                    kind: 'face',
                    prompt: 'Pick the face that looks up, or a hole that stands upright',
                    serves: (face) => (face.normal ? null : round1(face)),
                    take: (face) => void edit('up by face', (own) => (own.seat.up = { rule: 'face', face })),
                  },
                })
              }
            >
              by face
            </button>
            <button
              type="button"
              className="knob !px-2 text-[12.5px]"
              aria-label="Pick up edge"
              onClick={() =>
                useAsking.setState({
                  asked: {
                    kind: 'edge',
                    prompt: 'Pick the edge that points up',
                    serves: (edge) => (edge.kind === 'other' ? 'this curve has no one direction' : null),
                    take: (edge) => void edit('up by edge', (own) => (own.seat.up = { rule: 'edge', edge })),
                  },
                })
              }
            >
              by edge
            </button>
          </div>
        </div>
      </Row>
      <Row
        label="Turned over"
        below={
          <span className="text-[12.5px] text-soft">
            after the quarter turn, about the machine’s X; the exact angle comes last
          </span>
        }
      >
        <Segments
          label="Turned over"
          value={seat.flip ? 'yes' : 'no'}
          options={[
            { value: 'no', label: 'as it stands' },
            { value: 'yes', label: 'flipped about X' },
          ]}
          choose={(value) => void edit('flip', (own) => (own.seat.flip = value === 'yes'))}
        />
      </Row>
      <Row label="X" below={xText(x) && <Computed>{xText(x)}</Computed>}>
        <div className="flex flex-wrap gap-1.5">
          <Segments
            label="X turn"
            value={x.rule === 'turn' ? x.quarter_turns : -1}
            options={[0, 1, 2, 3].map((turn) => ({ value: turn, label: `${turn * 90}°` }))}
            choose={(turn) =>
              void edit(`x ${turn * 90}°`, (own) => (own.seat.x = { rule: 'turn', quarter_turns: turn }))
            }
          />
          <button
            type="button"
            className="knob !px-2 text-[12.5px]"
            aria-label="Pick X edge"
            onClick={() =>
              useAsking.setState({
                asked: {
                  kind: 'edge',
                  prompt: 'Pick the straight edge that lies along X',
                  serves: (edge) => (edge.direction ? null : `a ${edge.kind} edge is not straight`),
                  take: (edge) => void edit('x by edge', (own) => (own.seat.x = { rule: 'edge', edge })),
                },
              })
            }
          >
            by edge
          </button>
          <button
            type="button"
            className="knob !px-2 text-[12.5px]"
            aria-label="Pick X face"
            onClick={() =>
              useAsking.setState({
                asked: {
                  kind: 'face',
                  prompt: 'Pick the plane face that looks along X',
                  serves: (face) => (face.normal ? null : `a ${face.kind} is not plane`),
                  take: (face) => void edit('x by face', (own) => (own.seat.x = { rule: 'face', face })),
                },
              })
            }
          >
            by face
          </button>
          <button
            type="button"
            className="knob !px-2 text-[12.5px]"
            onClick={() =>
              useAsking.setState({
                asked: {
                  kind: 'face',
                  prompt: 'Pick the hole X starts at',
                  serves: round1,
                  take: (first) =>
                    useAsking.setState({
                      asked: {
                        kind: 'face',
                        prompt: 'Pick the hole X points to',
                        serves: (face) => (face.number === first.face ? 'it starts there' : round1(face)),
                        take: (second) =>
                          void edit('x by holes', (own) => (own.seat.x = { rule: 'holes', first, second })),
                      },
                    }),
                },
              })
            }
          >
            Hole to hole
          </button>
        </div>
      </Row>
      <NumberRow
        label="Turned on"
        name="Turned further"
        below={
          <div className="flex flex-wrap gap-1">
            {!!report?.nest?.turn_deg && (
              <span className="w-full text-[12.5px] text-action">
                its jaws turn it {round(report.nest.turn_deg, 3)}° more, so that both walls lean alike
              </span>
            )}
            {NUDGES.map((step) => (
              <button
                key={step}
                type="button"
                className="knob figures !px-1.5 text-[11.5px]"
                onClick={() =>
                  void edit(
                    `turned ${step}°`,
                    (own) =>
                      (own.seat.turn_deg = Number(
                        round((((own.seat.turn_deg + step) % 360) + 360) % 360, 6),
                      )),
                  )
                }
              >
                {step > 0 ? '+' : '−'}
                {Math.abs(step)}°
              </button>
            ))}
          </div>
        }
        value={seat.turn_deg}
        unit="°"
        commit={(value) => edit(`turned to ${value}°`, (own) => (own.seat.turn_deg = value))}
      />
      {rotation && (
        <Row label="Part x, y, z">
          <Computed>
            {(['x', 'y', 'z'] as const).map((name, column) => (
              <div key={name}>
                {name} → {[0, 1, 2].map((row) => round(rotation[row]?.[column] ?? 0, 3)).join('  ')}
              </div>
            ))}
          </Computed>
        </Row>
      )}
      {report && report.seen.length > 0 && (
        <Row label="Spindle sees">
          <div className="flex flex-wrap items-center gap-2">
            <Computed>{seenText(report.seen, part?.faces ?? [], rotation)}</Computed>
            <button
              type="button"
              aria-pressed={seen !== null}
              className={`knob ${seen ? 'knob-on' : ''}`}
              onClick={() => useShown.setState({ seen: seen ? null : report.seen })}
            >
              Show
            </button>
          </div>
        </Row>
      )}
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Work zero, {setup.offset_register}</h3>
      <ZeroEditor
        items={setup.hold.items}
        zero={seat.zero}
        part={part}
        change={(what, next) => edit(what, (own) => next(own.seat.zero))}
      />
      <Rests rests={report?.rests ?? []} />
      {report?.low && report.high && (
        <Row label="Stock from zero">
          <Computed>
            {(['X', 'Y', 'Z'] as const).map((axis, d) => (
              <div key={axis}>
                {axis} {round(report.low?.[d] ?? 0, 3)} … {round(report.high?.[d] ?? 0, 3)}
              </div>
            ))}
          </Computed>
        </Row>
      )}
      {report?.cut_z && (
        <Row label="Cutting Z">
          <Computed>
            {round(report.cut_z[0], 3)} … {round(report.cut_z[1], 3)}
            <span className="text-soft">
              {' '}
              · {report.cut_z[1] <= 1e-6 ? 'none above zero' : `above zero in ${report.cut_z_of?.[1]}`}
            </span>
            <div className="text-soft">
              deepest, {report.cut_z_of?.[0]}:{' '}
              {report.below_rest
                ? `${round(report.below_rest, 3)} mm below what the work rests on`
                : 'not below what the work rests on'}
            </div>
          </Computed>
        </Row>
      )}
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Further zeros</h3>
      {seat.zeros.map((one, i) => {
        const own = report?.zeros.find((zero) => zero.name === one.name)
        return (
          <section
            key={one.name}
            aria-label={`Zero ${one.name}`}
            className="mb-3 border-l-2 border-rule pl-2"
          >
            <div className="flex items-baseline justify-between gap-2">
              <input
                aria-label="Zero’s name"
                className="w-32 border-b border-rule bg-transparent font-semibold"
                defaultValue={one.name}
                onBlur={(event) => {
                  const name = event.target.value.trim()
                  if (name && name !== one.name)
                    void edit('zero’s name', (mine) => Object.assign(mine.seat.zeros[i] ?? {}, { name }))
                }}
                onKeyDown={(event) => event.stopPropagation()}
              />
              <div className="w-20">
                <Choice
                  label={`Register of ${one.name}`}
                  value={one.offset_register}
                  options={registers.map((name) => ({ value: name, label: name }))}
                  choose={(register) =>
                    void edit(`${one.name} in ${register}`, (mine) =>
                      Object.assign(mine.seat.zeros[i] ?? {}, { offset_register: register }),
                    )
                  }
                />
              </div>
              <button
                type="button"
                className="text-soft underline"
                onClick={() => void edit(`without ${one.name}`, (mine) => mine.seat.zeros.splice(i, 1))}
              >
                drop
              </button>
            </div>
            <ZeroEditor
              items={setup.hold.items}
              zero={one.zero}
              part={part}
              change={(what, next) =>
                edit(`${one.name}: ${what}`, (mine) => {
                  const zero = mine.seat.zeros[i]?.zero
                  if (zero) next(zero)
                })
              }
            />
            {own && (
              <Row label="From zero">
                <Computed>{own.at.map((c) => round(c, 3)).join(', ')}</Computed>
              </Row>
            )}
            <Rests rests={own?.rests ?? []} />
          </section>
        )
      })}
      <button
        type="button"
        className="knob"
        disabled={!registers.some((one) => !taken.includes(one))}
        onClick={() =>
          void edit('a further zero', (own) => {
            const names = own.seat.zeros.map((one) => one.name)
            let number = names.length + 2
            while (names.includes(`zero ${number}`)) number += 1
            own.seat.zeros.push({
              name: `zero ${number}`,
              offset_register: registers.find((one) => !taken.includes(one)) ?? 'G54',
              zero: structuredClone(own.seat.zero),
              found: {},
            })
          })
        }
      >
        + zero
      </button>
    </>
  )
}

/** How many faces lie square to the spindle, are reached along it, or are hidden from it. */
function seenText(
  seen: readonly number[],
  faces: readonly Face[],
  rotation: readonly (readonly number[])[] | null | undefined,
) {
  const up = rotation?.[2] ?? [0, 0, 1, 0]
  const square = faces.filter(
    (face) =>
      face.normal &&
      face.normal.reduce((sum, c, d) => sum + c * (up[d] ?? 0), 0) > 0.9999 &&
      (seen[face.number] ?? 0) >= 0.97,
  ).length
  const all = seen.filter((share) => share >= 0.97).length
  const none = seen.filter((share) => share < 0.03).length
  return `${all} faces, ${square} of them square · ${seen.length - all - none} in part · ${none} not`
}
