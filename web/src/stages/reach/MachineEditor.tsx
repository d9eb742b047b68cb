import { useState } from 'react'
import type { MachineData } from '../../api/client'
import { Segments } from '../../ui/Choice'
import { NumberField, NumberRow, Row } from '../../ui/Field'
import { TextField } from '../../ui/TextField'
import type { SheetProps } from '../sheet'
import { ownMachine } from './registers'

type Axis = MachineData['axes'][number]
type Change = (what: string, next: (mine: MachineData) => void) => ReturnType<SheetProps['commit']>

/** Everything a machine is: its axes in their chain, spindle, changer, control, table and solids. A shipped one becomes the plan's own. */
export function MachineEditor(props: SheetProps & { machine: MachineData }) {
  const { machine, plan, commit, index } = props
  const own = plan.machines.some((one) => one.id === machine.id)
  const change: Change = (what, next) =>
    commit(`${machine.name}: ${what}`, (draft) => {
      // Another setup may go on with the shipped one.
      next(ownMachine(draft, machine, draft.setups.slice(index, index + 1)))
    })
  const { spindle, changer, control, table } = machine
  return (
    <section aria-label="Machine" className="mb-2 border border-rule bg-white/50 px-2.5 py-2 text-[12.5px]">
      <p className="text-soft">
        {own
          ? 'The plan’s own machine.'
          : 'A shipped machine: the first change makes a copy of it in this plan.'}
      </p>
      <Row label="Name">
        <TextField
          label="Machine name"
          value={machine.name}
          commit={(name) => change('name', (mine) => void (mine.name = name))}
        />
      </Row>
      <h4 className="mt-2 font-head font-semibold">Axes, from what each rides on</h4>
      {machine.axes.map((axis, i) => (
        <AxisEditor
          key={axis.name}
          axis={axis}
          others={['base', ...machine.axes.filter((one) => one.name !== axis.name).map((one) => one.name)]}
          change={(what, next) =>
            change(`${axis.name} ${what}`, (mine) => mine.axes[i] && next(mine.axes[i]))
          }
        />
      ))}
      <h4 className="mt-2 font-head font-semibold">Spindle and changer</h4>
      {(
        [
          ['min_rpm', 'Slowest', 'rpm'],
          ['max_rpm', 'Fastest', 'rpm'],
          ['power_kw', 'Power', 'kW'],
        ] as const
      ).map(([field, label, unit]) => (
        <NumberRow
          key={field}
          label={label}
          name={`Spindle ${label.toLowerCase()}`}
          value={spindle[field]}
          unit={unit}
          commit={(value) =>
            change(`spindle ${label.toLowerCase()}`, (mine) => (mine.spindle[field] = value))
          }
        />
      ))}
      <NumberRow
        label="Places"
        value={changer.places}
        unit=""
        commit={(value) => change('changer places', (mine) => (mine.changer.places = Math.round(value)))}
      />
      <NumberRow
        label="A change"
        name="Tool change time"
        value={changer.seconds}
        unit="s"
        commit={(value) => change('tool change time', (mine) => (mine.changer.seconds = value))}
      />
      <h4 className="mt-2 font-head font-semibold">Control</h4>
      <NumberRow
        label="Extended"
        name="Extended registers"
        value={control.extended}
        unit=""
        below={<span className="text-soft">registers beyond {control.registers.join(', ')}</span>}
        commit={(value) =>
          change('extended registers', (mine) => (mine.control.extended = Math.round(value)))
        }
      />
      <Row label="Reserved">
        <TextField
          label="Machine reserved"
          value={control.reserved.join(', ')}
          commit={(text) =>
            change('reserved registers', (mine) => void (mine.control.reserved = listed(text)))
          }
        />
      </Row>
      {(
        [
          ['tilted_plane', 'programs in a plane it turns itself'],
          ['follows_rotation', 'turns the offset with the table'],
          ['shortest_way', 'turns the shorter way round'],
        ] as const
      ).map(([field, label]) => (
        <label key={field} className="flex items-baseline gap-2 border-t border-rule py-1">
          <input
            type="checkbox"
            className="accent-action"
            checked={control[field]}
            onChange={() => void change(label, (mine) => (mine.control[field] = !control[field]))}
          />
          {label}
        </label>
      ))}
      <h4 className="mt-2 font-head font-semibold">Tool setter</h4>
      {machine.setter ? (
        <>
          {(['X', 'Y', 'Z'] as const).map((axis, d) => (
            <NumberRow
              key={axis}
              label={axis}
              name={`Setter ${axis}`}
              value={machine.setter?.at[d]}
              unit="mm"
              {...(d === 2 && {
                below: <span className="text-soft">its top, from the table’s front left corner</span>,
              })}
              commit={(value) =>
                change(`setter ${axis}`, (mine) => {
                  if (mine.setter) mine.setter.at[d] = value
                })
              }
            />
          ))}
          <button
            type="button"
            className="text-action underline"
            onClick={() => void change('no setter', (mine) => void (mine.setter = null))}
          >
            it has none
          </button>
        </>
      ) : (
        <button
          type="button"
          className="text-action underline"
          onClick={() =>
            void change('a setter', (mine) => {
              const { length, depth } = mine.table
              mine.setter = { at: [length - 50, depth - 50, 60], diameter: 30, feed: 100 }
            })
          }
        >
          add one
        </button>
      )}
      <h4 className="mt-2 font-head font-semibold">Table, on {table.rides}</h4>
      {(['length', 'depth'] as const).map((field) => (
        <NumberRow
          key={field}
          label={field === 'length' ? 'Long' : 'Deep'}
          name={`Table ${field}`}
          value={table[field]}
          unit="mm"
          commit={(value) => change(`table ${field}`, (mine) => (mine.table[field] = value))}
        />
      ))}
      <h4 className="mt-2 font-head font-semibold">Solids</h4>
      <ul>
        {machine.solids.map((solid, i) => (
          <li key={solid.name} className="border-t border-rule py-1">
            <div className="flex justify-between">
              <span>
                {solid.name} <span className="text-soft">on {solid.rides}</span>
              </span>
              <button
                type="button"
                className="text-action underline"
                aria-label={`Take ${solid.name} out`}
                onClick={() => void change(`${solid.name} out`, (mine) => void mine.solids.splice(i, 1))}
              >
                take out
              </button>
            </div>
            {solid.low && solid.high ? (
              <div className="grid grid-cols-3 gap-1">
                {(['low', 'high'] as const).flatMap((end) =>
                  [0, 1, 2].map((d) => (
                    <NumberField
                      key={`${end}${d}`}
                      label={`${solid.name} ${end} ${'XYZ'[d]}`}
                      value={solid[end]?.[d]}
                      unit={'XYZ'[d] ?? ''}
                      measure="mm"
                      commit={(value) =>
                        change(`${solid.name} ${end}`, (mine) => {
                          const box = mine.solids[i]?.[end]
                          if (box) box[d] = value
                        })
                      }
                    />
                  )),
                )}
              </div>
            ) : (
              <div className="figures text-soft">
                Ø{solid.diameter} × {solid.length}
              </div>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}

const NUMBERS: [
  keyof Axis & ('low' | 'high' | 'home' | 'rapid' | 'feed' | 'acceleration' | 'clamp_s'),
  string,
  string,
][] = [
  ['low', 'From', ''],
  ['high', 'To', ''],
  ['home', 'Home', ''],
  ['rapid', 'Rapid', '/min'],
  ['feed', 'Feed', '/min'],
  ['acceleration', 'Acceleration', '/s²'],
  ['clamp_s', 'Clamping', 's'],
]

function AxisEditor(props: {
  axis: Axis
  others: string[]
  change: (what: string, next: (mine: Axis) => void) => ReturnType<SheetProps['commit']>
}) {
  const { axis, change } = props
  const [open, setOpen] = useState(false)
  const rotary = 'ABC'.includes(axis.name)
  const unit = rotary ? '°' : 'mm'
  return (
    <div className="border-t border-rule py-1">
      <button
        type="button"
        aria-expanded={open}
        aria-label={`Axis ${axis.name}`}
        className="flex w-full items-baseline gap-2 text-left"
        onClick={() => setOpen(!open)}
      >
        <span className="figures w-5 font-semibold">{axis.name}</span>
        <span className="grow text-soft">on {axis.rides}</span>
        <span className="figures">
          {axis.low} … {axis.high} {unit}
        </span>
      </button>
      {open && (
        <div className="ml-1 border-l-2 border-rule pl-3">
          <Row label="Rides on">
            <Segments
              label={`${axis.name} rides on`}
              value={axis.rides}
              options={props.others.map((name) => ({ value: name, label: name }))}
              choose={(name) => void change(`on ${name}`, (mine) => (mine.rides = name))}
            />
          </Row>
          {NUMBERS.map(([field, label, per]) => (
            <NumberRow
              key={field}
              label={label}
              name={`${axis.name} ${label.toLowerCase()}`}
              value={axis[field]}
              unit={field === 'clamp_s' ? 's' : `${unit}${per}`}
              commit={(value) => change(label.toLowerCase(), (mine) => (mine[field] = value))}
            />
          ))}
          {(rotary ? (['direction', 'point'] as const) : (['direction'] as const)).map((field) => (
            <Row key={field} label={field === 'point' ? 'Turns about' : 'Direction'}>
              <div className="grid grid-cols-3 gap-1">
                {[0, 1, 2].map((d) => (
                  <NumberField
                    key={d}
                    label={`${axis.name} ${field} ${'XYZ'[d]}`}
                    value={axis[field][d]}
                    unit={'XYZ'[d] ?? ''}
                    measure={field === 'point' ? 'mm' : ''}
                    commit={(value) => change(`${field} ${'XYZ'[d]}`, (mine) => (mine[field][d] = value))}
                  />
                ))}
              </div>
            </Row>
          ))}
          {rotary && (
            <label className="flex items-baseline gap-2 border-t border-rule py-1">
              <input
                type="checkbox"
                className="accent-action"
                checked={axis.endless}
                onChange={() => void change('endless', (mine) => (mine.endless = !axis.endless))}
              />
              goes round without end
            </label>
          )}
        </div>
      )}
    </div>
  )
}

const listed = (text: string) =>
  text
    .split(/[,;]/)
    .map((one) => one.trim())
    .filter(Boolean)
