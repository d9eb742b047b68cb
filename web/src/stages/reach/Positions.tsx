import { useState } from 'react'
import type { MachineData, PositionReport, Setup } from '../../api/client'
import { useAsking } from '../../state/asking'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { useRoute } from '../../state/route'
import { round } from '../../ui/words'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { onTopOf } from '../seat/zero'
import { ZeroEditor } from '../seat/ZeroEditor'
import type { SheetProps } from '../sheet'
import { Fewest } from './Fewest'
import { freshPosition, type Position } from './fresh'
import { registersOf } from './registers'

/** The ways the work is turned to the spindle, what each needs of the machine, and how the program runs them. */
export function Positions(props: SheetProps & { machine: MachineData }) {
  const { setup, report, edit, machine } = props
  const rotary = machine.axes.filter((axis) => 'ABC'.includes(axis.name))
  const add = (what: string, own: Partial<Position>) =>
    edit(`index position ${what}`, (mine) => void mine.positions.push(freshPosition(mine.positions, own)))
  return (
    <section aria-label="Index positions">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">
        Index positions
        <span className="font-words text-[12.5px] font-normal text-soft">
          {' '}
          · {rotary.map((axis) => axis.name).join(', ') || 'this machine has no rotary axis'}
        </span>
      </h3>
      <ol aria-label="Positions">
        {setup.positions.map((one, i) => (
          <PositionCard
            key={one.name}
            {...props}
            position={one}
            number={i}
            told={report?.positions.find((other) => other.name === one.name)}
          />
        ))}
      </ol>
      <div className="mt-1.5 flex flex-wrap gap-1.5">
        <button
          type="button"
          className="knob text-[12.5px]"
          onClick={() =>
            useAsking.setState({
              asked: {
                kind: 'face',
                prompt: 'Pick a face to be looked at squarely, or the wall of a hole to be looked into',
                serves: (face) => (face.normal || face.axis ? null : 'it has neither a normal nor an axis'),
                take: (ref) => void add('by a face', { face: ref }),
              },
            })
          }
        >
          + from a face
        </button>
        <button
          type="button"
          className="knob text-[12.5px]"
          onClick={() => void add('by a direction', { direction: [0, 0, 1] })}
        >
          + by a direction
        </button>
        {rotary.length > 0 && (
          <button
            type="button"
            className="knob text-[12.5px]"
            onClick={() =>
              void add('by angles', {
                angles: Object.fromEntries(rotary.map((axis) => [axis.name, axis.home])),
              })
            }
          >
            + by angles
          </button>
        )}
      </div>
      {rotary.length > 0 && <Fewest {...props} />}
      {setup.positions.length > 0 && (
        <Row
          label="Run by"
          below={<span className="text-[12px] leading-tight text-soft">{RUNS[setup.rotary_run].needs}</span>}
        >
          <Segments
            label="How the program runs the positions"
            value={setup.rotary_run}
            options={(['register_each', 'centre', 'tilted_plane'] as const).map((value) => ({
              value,
              label: RUNS[value].label,
            }))}
            choose={(way) => void edit(`run by ${RUNS[way].label}`, (own) => (own.rotary_run = way))}
          />
        </Row>
      )}
      {setup.positions.length > 0 && (
        <Row
          label="In order of"
          below={
            <span className="text-[12px] leading-tight text-soft">
              {setup.order === 'operations'
                ? 'Each operation goes through all its positions before the next: fewest tool changes.'
                : 'All that is cut at one position before the work turns to the next: fewest turns.'}
            </span>
          }
        >
          <Segments
            label="Order of the program"
            value={setup.order}
            options={[
              { value: 'operations', label: 'operations' },
              { value: 'positions', label: 'positions' },
            ]}
            choose={(order) => void edit(`in order of ${order}`, (own) => (own.order = order))}
          />
        </Row>
      )}
      {report?.wrong_centre_mm != null && setup.positions.length > 0 && (
        <Row label="Centre off">
          <Computed>{round(report.wrong_centre_mm, 3)} mm</Computed>
          <div className="text-[12px] text-soft">
            at the position turned furthest, when the rotary centre is set 0.02 mm wrong
          </div>
        </Row>
      )}
    </section>
  )
}

const RUNS: Record<Setup['rotary_run'], { label: string; needs: string }> = {
  register_each: {
    label: 'a register each',
    needs: 'Any control: each position’s zero, turned about the rotary centre, in a register of its own.',
  },
  centre: {
    label: 'rotary centre',
    needs:
      'Any control: one register at the rotary centre; the program counts from there, so the place of the work is in it.',
  },
  tilted_plane: {
    label: 'tilted plane',
    needs: 'A control that turns the plane itself and knows its rotary centre: one register, found once.',
  },
}

function PositionCard(
  props: SheetProps & {
    machine: MachineData
    position: Position
    number: number
    told: PositionReport | undefined
  },
) {
  const { position, number, told, edit, setup } = props
  const view = useFields(useShown, 'seen')
  const [open, setOpen] = useState(false)
  const used = setup.operations.filter(
    (one) => one.position === position.name || one.repeated_at.includes(position.name),
  )
  const change = (what: string, next: (mine: Position) => void) =>
    edit(`${position.name}: ${what}`, (own) => {
      const mine = own.positions[number]
      if (mine) next(mine)
    })
  const seen = told && view.seen === told.seen
  const angles = told && Object.entries(told.angles).map(([name, value]) => `${name}${round(value, 3)}`)
  return (
    <li className="border-t border-rule py-1">
      <button
        type="button"
        aria-expanded={open}
        aria-label={position.name}
        className="flex w-full items-baseline gap-2 text-left"
        onClick={() => {
          useRoute.setState({ turnedTo: open ? null : position.name })
          setOpen(!open)
        }}
      >
        <span className={open ? 'font-semibold' : ''}>{position.name}</span>
        <span className="figures grow text-action">{angles?.join(' ') ?? 'not reached'}</span>
        <span className="figures text-[11.5px] text-soft">
          {told?.offset_register} · {used.length} {used.length === 1 ? 'cut' : 'cuts'}
        </span>
      </button>
      {open && (
        <div className="ml-1 border-l-2 border-rule pl-3">
          {told && <div className="text-[12px] leading-tight text-soft">{told.why}</div>}
          {position.direction &&
            [0, 1, 2].map((d) => (
              <NumberRow
                key={d}
                label={`Towards ${'XYZ'[d]}`}
                name={`${position.name} towards ${'XYZ'[d]}`}
                value={position.direction?.[d] ?? 0}
                unit=""
                commit={(value) =>
                  change(`direction ${'XYZ'[d]}`, (mine) => mine.direction && (mine.direction[d] = value))
                }
              />
            ))}
          {position.angles &&
            Object.entries(position.angles).map(([name, value]) => (
              <NumberRow
                key={name}
                label={name}
                name={`${position.name} ${name}`}
                value={value ?? 0}
                unit="°"
                commit={(next) =>
                  change(
                    `${name}${next}`,
                    (mine) => mine.angles && ((mine.angles as Record<string, number>)[name] = next),
                  )
                }
              />
            ))}
          {told && (
            <>
              <Row label="Looks">
                <Computed>{told.direction.map((c) => round(c, 4)).join(', ')}</Computed>
              </Row>
              <Row label="Its X lies">
                <Computed>{told.x.map((c) => round(c, 4)).join(', ')}</Computed>
              </Row>
              <Row label="Its zero at">
                <Computed>{told.origin.map((c) => round(c, 3)).join(', ')}</Computed>
              </Row>
            </>
          )}
          <Row label="Zero">
            <Segments
              label={`${position.name} zero`}
              value={position.zero ? 'own' : 'setup'}
              options={[
                { value: 'setup', label: 'the setup’s' },
                { value: 'own', label: 'of its own' },
              ]}
              choose={(which) =>
                void change(`zero ${which === 'own' ? 'of its own' : 'the setup’s'}`, (mine) => {
                  mine.zero = which === 'own' ? onTopOf('part') : null
                })
              }
            />
          </Row>
          {position.zero && (
            <ZeroEditor
              zero={position.zero}
              part={props.part}
              change={(what, next) => change(what, (mine) => mine.zero && next(mine.zero))}
            />
          )}
          {told?.register_value?.map((value, d) => (
            <Row key={d} label={`${told.offset_register} ${'XYZ'[d]}`}>
              <Computed why={value}>{value.value.toFixed(3)}</Computed>
            </Row>
          ))}
          {told && told.solutions.length > 1 && (
            <Row label="Else">
              <span className="figures text-[12px] text-soft">
                {told.solutions
                  .slice(1)
                  .map((one) =>
                    Object.entries(one.angles)
                      .map(([k, v]) => `${k}${round(v, 2)}`)
                      .join(' '),
                  )
                  .join(' · ')}
              </span>
            </Row>
          )}
          {setup.rotary_run === 'register_each' && (
            <Row label="Register">
              <Choice
                label={`${position.name} register`}
                value={position.offset_register ?? ''}
                options={[
                  { value: '', label: 'given out', note: told?.offset_register },
                  ...registersOf(props.machine).map((name) => ({ value: name, label: name })),
                ]}
                choose={(name) =>
                  void change(
                    `register ${name || 'given out'}`,
                    (mine) => (mine.offset_register = name || null),
                  )
                }
              />
            </Row>
          )}
          <Row label="Comes by">
            <Segments
              label={`${position.name} change`}
              value={position.change}
              options={[
                { value: 'turn', label: 'turning' },
                { value: 'stop', label: 'a stop' },
              ]}
              choose={(value) => void change(value, (mine) => (mine.change = value))}
            />
          </Row>
          <div className="flex flex-wrap gap-1.5 py-1">
            {told && (
              <button
                type="button"
                aria-pressed={!!seen}
                className={`knob text-[12.5px] ${seen ? 'knob-on' : ''}`}
                onClick={() => useShown.setState({ seen: seen ? null : told.seen })}
              >
                What it sees
              </button>
            )}
            <button
              type="button"
              className="knob text-[12.5px]"
              disabled={number === 0}
              onClick={() =>
                void edit(`${position.name} earlier`, (own) => {
                  const [mine] = own.positions.splice(number, 1)
                  if (mine) own.positions.splice(number - 1, 0, mine)
                })
              }
            >
              Earlier
            </button>
            <button
              type="button"
              className="knob text-[12.5px]"
              disabled={used.length > 0}
              title={used.length ? `${used[0]?.name} is cut here` : ''}
              onClick={() =>
                void edit(`${position.name} taken out`, (own) => void own.positions.splice(number, 1))
              }
            >
              Remove
            </button>
          </div>
        </div>
      )}
    </li>
  )
}
