import { useLibrary } from '../../api/hooks'
import { round } from '../../state'
import { Choice } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Head, type SheetProps } from '../StageSheet'

const REGISTERS = ['G54', 'G55', 'G56', 'G57', 'G58', 'G59'] as const

/** Which machine, where on its table, which register, and whether the paths stay within its travels. */
export function ReachSheet({ setup, plan, report, edit }: SheetProps) {
  const { data: library } = useLibrary()
  const mill = library?.machines.find((one) => one.id === setup.machine)
  const first = setup.hold.items.findIndex((one) => one.on === 'table')
  const standing = setup.hold.items[first]
  const place = (field: 'x' | 'y', value: number) =>
    edit(`${standing?.id} ${field} on the table`, (own) => {
      const item = own.hold.items[first]
      if (item) item[field] = value
    })
  const register = report?.register_value
  const lengths = new Map(
    plan.tools.map((tool) => [
      tool.id,
      tool.overhang + tool.holder.stack.reduce((sum, [length]) => sum + length, 0),
    ]),
  )
  const extents = [0, 1, 2].map((d) => {
    const ends = (report?.operations ?? []).flatMap((one) => {
      if (!one.low || !one.high || !register) return []
      const nose = d === 2 ? (lengths.get(one.tool) ?? 0) : 0
      const base = (register[d]?.value ?? 0) + nose
      return [base + (one.low[d] ?? 0), base + (one.high[d] ?? 0)]
    })
    return ends.length ? [Math.min(...ends), Math.max(...ends)] : null
  })
  return (
    <>
      <Head title="Reach">Where {setup.name} stands on the machine</Head>
      <Row label="Machine">
        <Choice
          label="Machine"
          value={setup.machine}
          options={(library?.machines ?? []).map((one) => ({ value: one.id, label: one.name }))}
          choose={(id) => void edit(`machine ${id}`, (own) => (own.machine = id))}
        />
      </Row>
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
      <Row label="Register">
        <Choice
          label="Register"
          value={setup.offset_register}
          options={REGISTERS.map((name) => ({
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
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Travels used, machine coordinates</h3>
      {mill &&
        extents.map((extent, d) => {
          const low = mill.travel_low[d] ?? 0
          const high = mill.travel_high[d] ?? 0
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
