import type { Setup } from '../../api/client'
import { round, useView } from '../../state'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, Row } from '../../ui/Field'
import { Head, type SheetProps } from '../StageSheet'

const DIRECTIONS: { value: string; label: string; direction: [number, number, number] }[] = [
  { value: '0,0,1', label: '+z, as modelled', direction: [0, 0, 1] },
  { value: '0,0,-1', label: '−z', direction: [0, 0, -1] },
  { value: '1,0,0', label: '+x', direction: [1, 0, 0] },
  { value: '-1,0,0', label: '−x', direction: [-1, 0, 0] },
  { value: '0,1,0', label: '+y', direction: [0, 1, 0] },
  { value: '0,-1,0', label: '−y', direction: [0, -1, 0] },
]
type Zero = Setup['seat']['zero']

/** How the work lies and where zero is. */
export function SeatSheet({ setup, part, report, edit }: SheetProps) {
  const set = useView((view) => view.set)
  const { seat } = setup
  const { up, x, zero } = seat
  const direction = up.rule === 'direction' ? up.direction.join(',') : 'face'
  const known = DIRECTIONS.some((one) => one.value === direction)
  const change = (what: string, next: (own: Zero) => void) => void edit(what, (own) => next(own.seat.zero))
  const rotation = report?.zero_from_work
  return (
    <>
      <Head title="Seat">How the work lies in {setup.name}, and where zero is</Head>
      <Row label="Up" below={up.rule === 'face' && <Computed>face {up.face.face} looks up</Computed>}>
        <div className="flex flex-col items-start gap-1.5">
          <div className="w-full">
            <Choice
              label="Up"
              value={direction}
              options={[
                ...DIRECTIONS,
                ...(known
                  ? []
                  : [{ value: direction, label: up.rule === 'face' ? 'picked face' : direction }]),
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
          <button
            type="button"
            className="knob"
            onClick={() =>
              set({
                asked: {
                  kind: 'face',
                  prompt: 'Pick the plane face that looks up',
                  take: (face) => void edit('up by face', (own) => (own.seat.up = { rule: 'face', face })),
                },
              })
            }
          >
            Pick up face
          </button>
        </div>
      </Row>
      <Row label="Turned over">
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
      <Row label="X" below={x.rule === 'edge' && <Computed>along edge {x.edge.edge}</Computed>}>
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
            className="knob"
            onClick={() =>
              set({
                asked: {
                  kind: 'edge',
                  prompt: 'Pick the straight edge that lies along X',
                  take: (edge) => void edit('x by edge', (own) => (own.seat.x = { rule: 'edge', edge })),
                },
              })
            }
          >
            Pick X edge
          </button>
        </div>
      </Row>
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
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Work zero</h3>
      <Row label="On">
        <Choice
          label="Zero on"
          value={zero.of}
          options={[
            { value: 'incoming', label: 'incoming stock' },
            { value: 'billet', label: 'billet' },
            { value: 'part', label: 'part' },
            { value: 'hole', label: 'a hole’s centre' },
          ]}
          choose={(of) => {
            if (of !== 'hole') return change(`zero on ${of}`, (own) => Object.assign(own, { of, hole: null }))
            set({
              asked: {
                kind: 'face',
                prompt: 'Pick the wall of the hole that zero is over',
                take: (hole) => change('zero on hole', (own) => Object.assign(own, { of, hole })),
              },
            })
          }}
        />
      </Row>
      {zero.of !== 'hole' && (
        <Row label="Where">
          <ZeroPad
            zero={zero}
            choose={(sx, sy) => change('zero place', (own) => Object.assign(own, { x: sx, y: sy }))}
          />
        </Row>
      )}
      {zero.of === 'hole' && zero.hole && part && (
        <Row label="Hole">
          <Computed>{holeText(part, zero.hole.face)}</Computed>
        </Row>
      )}
      <Row label="Height">
        <Segments
          label="Zero height"
          value={zero.z}
          options={[
            { value: 1, label: 'top' },
            { value: 0, label: 'middle' },
            { value: -1, label: 'bottom' },
          ]}
          choose={(z) => change('zero height', (own) => (own.z = z as Zero['z']))}
        />
      </Row>
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
    </>
  )
}

function holeText(part: NonNullable<SheetProps['part']>, face: number) {
  const hole = part.holes.find((one) => one.faces.includes(face))
  return hole
    ? `Ø${round(hole.diameter, 2)} at ${hole.start.map((c) => round(c, 2)).join(', ')}`
    : `face ${face}`
}

/** Nine places seen from the spindle: corners, edge middles, centre. */
function ZeroPad({ zero, choose }: { zero: Zero; choose: (x: number, y: number) => void }) {
  const names: Record<number, string> = { [-1]: 'low', 0: 'middle', 1: 'high' }
  return (
    <div
      role="radiogroup"
      aria-label="Zero place"
      className="relative grid h-16 w-24 grid-cols-3 grid-rows-3 border border-soft"
    >
      {[1, 0, -1].flatMap((sy) =>
        [-1, 0, 1].map((sx) => {
          const on = zero.x === sx && zero.y === sy
          return (
            <button
              key={`${sx}${sy}`}
              type="button"
              role="radio"
              aria-checked={on}
              aria-label={`x ${names[sx]}, y ${names[sy]}`}
              className="grid place-items-center hover:bg-rail"
              onClick={() => choose(sx, sy)}
            >
              <span className={on ? 'h-2.5 w-2.5 bg-ink' : 'h-1.5 w-1.5 rounded-full bg-rule'} />
            </button>
          )
        }),
      )}
    </div>
  )
}
