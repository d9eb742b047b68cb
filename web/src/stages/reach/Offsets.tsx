import { useState } from 'react'
import type { Found, OffsetRow } from '../../api/client'
import { round } from '../../ui/words'
import { Choice, Segments } from '../../ui/Choice'
import { NumberRow, Row } from '../../ui/Field'
import { TextField } from '../../ui/TextField'
import type { SheetProps } from '../sheet'
import { FoundMark, NAMES } from './FoundMark'

/** The registers of this load as they are typed into the control: what each stands on, how it is found, what uses it. */
export function Offsets(props: SheetProps & { rows: readonly OffsetRow[] }) {
  const { rows, setup } = props
  const [open, setOpen] = useState<string | null>(null)
  const states = [...new Set(rows.map((row) => row.state))]
  return (
    <section aria-label="Offsets">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">
        Registers of {setup.load ? `load ${setup.load}` : 'this load'}
      </h3>
      {rows.length > 1 && <Graph rows={rows} />}
      <div className="flex gap-3 pb-1 text-[11.5px] text-soft">
        {states.map((state) => (
          <span key={state} className="flex items-center gap-1">
            <FoundMark row={{ state }} /> {NAMES[state]}
          </span>
        ))}
      </div>
      <ul className="text-[12px]">
        {rows.map((row) => {
          const own = row.found !== 'derived'
          return (
            <li key={row.register_name} className="border-t border-rule py-1">
              {own ? (
                <button
                  type="button"
                  className="w-full text-left"
                  aria-expanded={open === row.register_name}
                  aria-label={`Register ${row.register_name}`}
                  onClick={() => setOpen(open === row.register_name ? null : row.register_name)}
                >
                  <RegisterRow {...props} row={row} />
                </button>
              ) : (
                <RegisterRow {...props} row={row} />
              )}
              {open === row.register_name && <FoundEditor {...props} row={row} />}
            </li>
          )
        })}
      </ul>
      <Load {...props} />
    </section>
  )
}

function RegisterRow(props: SheetProps & { row: OffsetRow }) {
  const { row } = props
  return (
    <div className="grid grid-cols-[4.2rem_minmax(0,1fr)] items-baseline">
      <span className="figures flex items-center gap-1 font-semibold">
        <FoundMark row={row} />
        {row.register_name}
      </span>
      <span className="figures text-action">
        {row.value
          ? row.value.map((one, d) => (
              <span key={d} className="whitespace-nowrap">{`${'XYZ'[d]}${one.value.toFixed(3)} `}</span>
            ))
          : 'no layout'}
      </span>
      <span className="col-start-2 text-soft">
        {row.zero}, {row.found}
        {row.comes_from && ` ${row.found === 'derived' ? 'from' : 'in'} ${row.comes_from}`}
        {row.before && `, before ${nameOf(props, row.before)}`}
        {settersOf(props, row)}
        {Object.entries(row.angles).map(([name, angle]) => ` · ${name}${round(angle, 3)}`)}
      </span>
      {row.off_mm != null && (
        <span className={`col-start-2 ${row.off_mm > 1 ? 'text-trouble' : 'text-soft'}`}>
          set {round(row.off_mm, 3)} mm from the layout
        </span>
      )}
      <span className="col-start-2 text-soft">{row.stands_on.join(' → ')}</span>
      <span className="col-start-2 text-soft">{row.operations.join(', ') || 'nothing counts from it'}</span>
    </div>
  )
}

/** Which operations set which of its axes by what they touch. */
const settersOf = (props: SheetProps, row: OffsetRow) =>
  (props.report?.operations ?? [])
    .filter((one) => one.probe?.sets === row.register_name)
    .map((one) => `, ${one.probe?.axes.join(' ')} by “${one.name}”`)
    .join('')

const nameOf = (props: SheetProps, id: string) =>
  props.setup.operations.find((one) => one.id === id)?.name ?? id

/** How a zero is found, in which register, before which operation, and what was set by hand. */
function FoundEditor(props: SheetProps & { row: OffsetRow }) {
  const { row, setup, edit, report } = props
  const number = setup.seat.zeros.findIndex((one) => one.offset_register === row.register_name)
  const own = row.register_name === setup.offset_register
  const found = own ? setup.seat.found : setup.seat.zeros[number]?.found
  if (!found) return null
  const change = (what: string, next: (mine: Found) => void) =>
    edit(`${row.register_name} ${what}`, (draft) => {
      const mine = own ? draft.seat.found : draft.seat.zeros[number]?.found
      if (mine) next(mine)
    })
  const others = (report?.offsets ?? []).filter((one) => one.register_name !== row.register_name)
  return (
    <div className="ml-1 border-l-2 border-rule pl-3">
      <Row label="Found by">
        <Segments
          label={`${row.register_name} found by`}
          value={found.by ?? ''}
          options={[
            { value: '', label: 'its kind' },
            { value: 'fixed point', label: 'fixed' },
            { value: 'edge', label: 'edge' },
            { value: 'probe', label: 'probe' },
            { value: 'by hand', label: 'hand' },
          ]}
          choose={(by) =>
            void change(`found by ${by || 'its kind'}`, (mine) => (mine.by = (by || null) as Found['by']))
          }
        />
      </Row>
      <Row label="Moving in">
        <Choice
          label={`${row.register_name} found in`}
          value={found.in_register ?? ''}
          options={[
            { value: '', label: 'machine coordinates' },
            ...others.map((one) => ({
              value: one.register_name,
              label: one.register_name,
              note: one.zero,
            })),
          ]}
          choose={(name) =>
            void change(
              `found in ${name || 'machine coordinates'}`,
              (mine) => (mine.in_register = name || null),
            )
          }
        />
      </Row>
      <Row label="Found">
        <Choice
          label={`${row.register_name} found before`}
          value={found.before ?? ''}
          options={[
            { value: '', label: 'before the program starts' },
            ...setup.operations.map((one) => ({ value: one.id, label: `before ${one.name}` })),
          ]}
          choose={(id) =>
            void change(
              `found ${id ? `before ${id}` : 'before the program starts'}`,
              (mine) => (mine.before = id || null),
            )
          }
        />
      </Row>
      {[0, 1, 2].map((d) => (
        <NumberRow
          key={d}
          label={`Set ${'XYZ'[d]}`}
          name={`${row.register_name} set ${'XYZ'[d]}`}
          value={found.value?.[d]}
          unit="mm"
          placeholder="as the layout has it"
          commit={(value) =>
            change(`${'XYZ'[d]} set by hand`, (mine) => {
              mine.value ??= (row.value?.map((one) => one.value) ?? [0, 0, 0]) as [number, number, number]
              mine.value[d] = value
            })
          }
          clear={() => change('as the layout has it', (mine) => (mine.value = null))}
        />
      ))}
    </div>
  )
}

/** Which setups stand on the machine together and share its registers. */
function Load({ setup, plan, edit }: SheetProps) {
  const beside = plan.setups.filter((one) => one.name !== setup.name && setup.load && one.load === setup.load)
  return (
    <Row
      label="Load"
      below={
        <span className="text-[12px] text-soft">
          {beside.length
            ? `together with ${beside.map((one) => one.name).join(', ')}`
            : 'setups with one name here stand on the machine together'}
        </span>
      }
    >
      <TextField
        label="Load"
        placeholder="alone"
        value={setup.load}
        commit={(name) => edit(`load ${name || 'alone'}`, (own) => void (own.load = name))}
      />
    </Row>
  )
}

const WIDE = 92
const TALL = 30

/** What is found in what and derived from what, from the machine's own coordinates on. */
function Graph({ rows }: { rows: readonly OffsetRow[] }) {
  const names = new Set(rows.map((row) => row.register_name))
  const depth = (row: OffsetRow, guard = 0): number => {
    const base = rows.find((one) => one.register_name === row.comes_from)
    return base && guard < rows.length ? 1 + depth(base, guard + 1) : row.comes_from ? 1 : 0
  }
  const columns: string[][] = []
  for (const row of rows) (columns[1 + depth(row)] ??= []).push(row.register_name)
  // A register of another setup of the load, or of this one though nothing uses it.
  for (const row of rows)
    if (row.comes_from && !names.has(row.comes_from)) {
      names.add(row.comes_from)
      ;(columns[1] ??= []).push(row.comes_from)
    }
  columns[0] = ['machine']
  const place = new Map<string, [number, number]>()
  columns.forEach((column, i) => column.forEach((name, k) => place.set(name, [i * WIDE, k * TALL + 4])))
  const high = Math.max(...columns.map((column) => column?.length ?? 0)) * TALL + 2
  return (
    <svg
      role="img"
      aria-label={`Chain of registers: ${rows.map((row) => `${row.register_name} from ${row.comes_from ?? 'machine'}`).join(', ')}`}
      viewBox={`0 0 ${columns.length * WIDE} ${high}`}
      className="my-1 w-full max-w-[330px]"
    >
      {rows.map((row) => {
        const a = place.get(row.comes_from ?? 'machine')
        const b = place.get(row.register_name)
        if (!a || !b) return null
        return (
          <path
            key={row.register_name}
            d={`M${a[0] + 62} ${a[1] + 10}C${a[0] + 78} ${a[1] + 10} ${b[0] - 16} ${b[1] + 10} ${b[0]} ${b[1] + 10}`}
            fill="none"
            stroke="#12545F"
            strokeWidth="1.1"
            strokeDasharray={row.state === 'derived' ? '3 2.4' : undefined}
          />
        )
      })}
      {[...place].map(([name, [x, y]]) => {
        const row = rows.find((one) => one.register_name === name)
        const fixed = name === 'machine' || row?.state === 'known'
        return (
          <g key={name}>
            <rect
              x={x + 0.5}
              y={y}
              width={62}
              height={20}
              fill={fixed ? '#E4E0D3' : '#FCFAF5'}
              stroke="#1E2A2F"
              strokeWidth={row?.state === 'to be found' ? 1.4 : 0.8}
              strokeDasharray={row?.state === 'derived' ? '3 2.4' : undefined}
            />
            <text
              x={x + 31}
              y={y + 14}
              textAnchor="middle"
              className="figures"
              fontSize="10.5"
              fill="#1E2A2F"
            >
              {name}
            </text>
          </g>
        )
      })}
    </svg>
  )
}
