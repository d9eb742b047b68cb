import { useState } from 'react'
import type { MachineData, Problem } from '../../api/client'
import { posted, useLibrary } from '../../api/hooks'
import { round } from '../../ui/words'
import { Choice } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Head, type SheetProps } from '../sheet'
import { Offsets } from './Offsets'
import { MachineEditor } from './MachineEditor'
import { Positions } from './Positions'
import { registersOf } from './registers'
import { Jog } from './Jog'
import { ToolReach } from './ToolReach'
import { Refused } from '../../ui/Refused'

/** Which machine, where on its table, which register, and whether the paths stay within its travels. */
export function ReachSheet(props: SheetProps) {
  const { setup, plan, report, edit } = props
  const { data: library } = useLibrary()
  const [wrong, setWrong] = useState<Problem | null>(null)
  const [editing, setEditing] = useState(false)
  const known = [
    ...plan.machines,
    ...(library?.machines ?? []).filter((one) => !plan.machines.some((own) => own.id === one.id)),
  ]
  const machine = known.find((one) => one.id === setup.machine)
  const bring = async (file: File | undefined) => {
    if (!file) return
    const read = await posted<MachineData>('/api/machines.json', file)
    if (!('axes' in read)) {
      setWrong(read)
      return
    }
    setWrong(null)
    await props.commit(`machine ${read.name} brought in`, (draft) => {
      draft.machines = [...draft.machines.filter((one) => one.id !== read.id), read]
      const own = draft.setups[props.index]
      if (own) own.machine = read.id
    })
  }
  const first = setup.hold.items.findIndex((one) => one.on === 'table')
  const standing = setup.hold.items[first]
  const place = (field: 'x' | 'y', value: number) =>
    edit(`${standing?.id} ${field} on the table`, (own) => {
      const item = own.hold.items[first]
      if (item) item[field] = value
    })
  const register = report?.register_value
  const registers = registersOf(machine)
  const extents = [0, 1, 2].map((d) => {
    const ends = (report?.operations ?? []).flatMap((one) =>
      one.travel ? [one.travel[0][d] ?? 0, one.travel[1][d] ?? 0] : [],
    )
    return ends.length ? [Math.min(...ends), Math.max(...ends)] : null
  })
  return (
    <>
      <Head title="Reach">Where {setup.name} stands on the machine</Head>
      <Row label="Machine">
        <Choice
          label="Machine"
          value={setup.machine}
          options={known.map((one) => ({ value: one.id, label: one.name }))}
          choose={(id) => void edit(`machine ${id}`, (own) => (own.machine = id))}
        />
        <div className="flex gap-3 pt-0.5 text-[12.5px]">
          <label className="cursor-pointer text-action underline">
            bring in
            <FileInput label="Machine file" accept=".json" take={bring} />
          </label>
          {machine && (
            <a
              className="text-action underline"
              download={`${machine.id}.json`}
              href={`data:application/json,${encodeURIComponent(JSON.stringify(machine, null, 1))}`}
            >
              save
            </a>
          )}
          {machine && (
            <button
              type="button"
              className="text-action underline"
              aria-expanded={editing}
              onClick={() => setEditing(!editing)}
            >
              {editing ? 'close' : 'edit'}
            </button>
          )}
        </div>
        <Refused problem={wrong} where />
      </Row>
      {machine && report?.hold?.zero_on_table && <Jog {...{ ...props, machine }} />}
      {editing && machine && <MachineEditor {...props} machine={machine} />}
      {standing ? (
        <>
          <NumberRow
            label={`${standing.id} X`}
            name="On the table X"
            value={standing.x}
            unit="mm"
            commit={(value) => place('x', value)}
          />
          <NumberRow
            label={`${standing.id} Y`}
            name="On the table Y"
            below={<span className="text-soft">from the table’s front left corner</span>}
            value={standing.y}
            unit="mm"
            commit={(value) => place('y', value)}
          />
        </>
      ) : setup.makes ? (
        <p className="py-2 text-soft">Stands where {setup.makes.setup} stands: the jaws are cut in place.</p>
      ) : (
        <p className="py-2 text-soft">Without a holding the work has no place on the table.</p>
      )}
      {(machine?.setter || setup.set_tools) && (
        <Row label="Tool lengths" help="touched on the machine’s setter before anything is cut">
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="accent-action"
              checked={setup.set_tools ?? false}
              onChange={(event) => {
                const sets = event.target.checked
                void edit(sets ? 'tools set by the program' : 'tools set beside the machine', (own) => {
                  own.set_tools = sets
                })
              }}
            />
            are set by the program
          </label>
        </Row>
      )}
      <Row label="Register">
        <Choice
          label="Register"
          value={setup.offset_register}
          options={registers.map((name) => ({
            value: name,
            label: name,
            note: plan.setups
              .filter((one) => one.offset_register === name)
              .map((one) => one.name)
              .join(' '),
          }))}
          choose={(name) => void edit(`register ${name}`, (own) => (own.offset_register = name))}
        />
      </Row>
      {register?.map((value, d) => (
        <Row key={d} label={`${setup.offset_register} ${'XYZ'[d]}`}>
          <Computed why={value}>{value.value.toFixed(3)}</Computed>
        </Row>
      ))}
      {machine &&
        !setup.makes &&
        (setup.positions.length > 0 || machine.axes.some((axis) => 'ABC'.includes(axis.name))) && (
          <Positions {...{ ...props, machine }} />
        )}
      {!!report?.offsets.length && <Offsets {...props} rows={report.offsets} />}
      {!setup.makes && <ToolReach {...props} />}
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Travels used, machine coordinates</h3>
      {machine &&
        extents.map((extent, d) => {
          const axis = machine.axes.find((one) => one.name === 'XYZ'[d])
          const low = axis?.low ?? 0
          const high = axis?.high ?? 0
          const share = (at: number) => `${(100 * (at - low)) / (high - low)}%`
          const out = extent && ((extent[0] ?? 0) < low || (extent[1] ?? 0) > high)
          return (
            <Row key={d} label={'XYZ'[d] ?? ''}>
              <div className="relative h-3 overflow-hidden border border-soft bg-white" aria-hidden="true">
                {extent && (
                  <div
                    className={`absolute inset-y-0 ${out ? 'hatch border-x border-trouble bg-trouble/30' : 'bg-action/70'}`}
                    style={{ left: share(extent[0] ?? 0), right: `calc(100% - ${share(extent[1] ?? 0)})` }}
                  />
                )}
              </div>
              <div className="figures flex justify-between text-[11.5px] text-soft">
                <span>{low}</span>
                <span className={out ? 'font-semibold text-trouble' : 'text-action'}>
                  {extent ? `${round(extent[0] ?? 0, 1)} … ${round(extent[1] ?? 0, 1)}` : 'no path yet'}
                </span>
                <span>{high}</span>
              </div>
            </Row>
          )
        })}
    </>
  )
}
