import { useState } from 'react'
import type { FaceRef, Library, Operation, OperationReport } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { clock, round, useView } from '../../state'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import type { SheetProps } from '../StageSheet'

type Numbers = { field: string; label: string; unit: string }
const FIELDS: Record<Operation['kind'], Numbers[]> = {
  facing: [
    { field: 'step_down', label: 'Step down', unit: 'mm' },
    { field: 'step_over', label: 'Step over', unit: '× DC' },
    { field: 'leave', label: 'Leave', unit: 'mm' },
  ],
  outline: [
    { field: 'below', label: 'Below bottom', unit: 'mm' },
    { field: 'step_down', label: 'Step down', unit: 'mm' },
    { field: 'step_over', label: 'Step over', unit: '× DC' },
    { field: 'leave', label: 'Leave', unit: 'mm' },
    { field: 'ramp_deg', label: 'Ramp', unit: '°' },
  ],
  pocket: [
    { field: 'below', label: 'Below bottom', unit: 'mm' },
    { field: 'step_down', label: 'Step down', unit: 'mm' },
    { field: 'step_over', label: 'Step over', unit: '× DC' },
    { field: 'leave_side', label: 'Leave side', unit: 'mm' },
    { field: 'leave_floor', label: 'Leave floor', unit: 'mm' },
    { field: 'ramp_deg', label: 'Ramp', unit: '°' },
  ],
  wrapped: [
    { field: 'step_down', label: 'Step down', unit: 'mm' },
    { field: 'step_over', label: 'Step over', unit: '× DC' },
    { field: 'ramp_deg', label: 'Ramp', unit: '°' },
  ],
  drilling: [
    { field: 'peck', label: 'Peck', unit: 'mm' },
    { field: 'below', label: 'Below through', unit: 'mm' },
    { field: 'short', label: 'Short of bottom', unit: 'mm' },
  ],
}
/** The kinds of tool that can do an operation; the rule is the core's. */
export const toolKinds = (
  library: Library | undefined,
  operation: { kind: Operation['kind']; cycle?: string },
) => library?.tool_kinds[operation.cycle ?? operation.kind] ?? []

/** Everything one operation is told, with what follows from it. */
export function OperationEditor(
  props: SheetProps & { operation: Operation; position: number; runs: OperationReport[] },
) {
  const { operation, position, runs, plan, commit, index, edit } = props
  const own = runs[0]
  const { data: library } = useLibrary()
  const set = useView((view) => view.set)
  const change = (what: string, next: (mine: Operation) => void) =>
    edit(`${operation.name}: ${what}`, (setup) => {
      const mine = setup.operations[position]
      if (mine) next(mine)
    })
  const write = (field: string, value: unknown) =>
    change(field, (mine) => ((mine as unknown as Record<string, unknown>)[field] = value))
  const can = toolKinds(library, operation)
  const shelf = [
    ...plan.tools,
    ...(library?.tools ?? []).filter((tool) => !plan.tools.some((one) => one.id === tool.id)),
  ]
  const choose = (id: string) => {
    const tool = shelf.find((one) => one.id === id)
    if (!tool) return
    void commit(`${operation.name}: ${tool.name}`, (draft) => {
      if (!draft.tools.some((one) => one.id === id)) {
        const taken = new Set(draft.tools.map((one) => one.place))
        let place = tool.place
        while (taken.has(place)) place += 1
        draft.tools.push({ ...tool, place })
      }
      const mine = draft.setups[index]?.operations[position]
      if (mine) mine.tool = id
    })
  }
  const tool = plan.tools.find((one) => one.id === operation.tool)
  const values = operation as unknown as Record<string, number | null>
  return (
    <div className="mb-2 ml-1 border-l-2 border-rule pl-3">
      <Row
        label="Tool"
        below={
          tool && (
            <span className="figures text-[11.5px] text-soft">
              T{tool.place} · DC {tool.DC} · LCF {tool.LCF} · OAL {tool.OAL} · out {tool.overhang} ·{' '}
              {tool.holder.name}
            </span>
          )
        }
      >
        <Choice
          label="Tool"
          value={operation.tool}
          options={shelf
            .filter((one) => can.includes(one.kind))
            .map((one) => ({ value: one.id, label: one.name, note: `LCF ${one.LCF}` }))}
          choose={choose}
        />
      </Row>
      {props.setup.positions.length > 0 && <Places {...props} change={change} />}
      {(props.report?.offsets.length ?? 0) > 1 && (
        <Row label="Counts from">
          <Choice
            label="Register it counts from"
            value={operation.offset_register ?? ''}
            options={[
              { value: '', label: 'its position’s', note: own?.offset_register },
              ...(props.report?.offsets ?? []).map((row) => ({
                value: row.register_name,
                label: row.register_name,
                note: row.zero,
              })),
            ]}
            choose={(name) => void write('offset_register', name || null)}
          />
        </Row>
      )}
      {operation.kind === 'drilling' && (
        <Row label="Cycle">
          <Segments
            label="Cycle"
            value={operation.cycle}
            options={(['spot', 'drill', 'peck', 'ream', 'tap'] as const).map((value) => ({
              value,
              label: value,
            }))}
            choose={(cycle) =>
              void change(cycle, (mine) => {
                if (mine.kind !== 'drilling') return
                mine.cycle = cycle
                if (cycle === 'spot') mine.chamfer ??= 6
                const kind = toolKinds(library, mine)[0]
                mine.tool = plan.tools.find((one) => one.kind === kind)?.id ?? mine.tool
              })
            }
          />
        </Row>
      )}
      {operation.kind === 'outline' && (
        <Row label="Side">
          <Segments
            label="Side"
            value={operation.side}
            options={[
              { value: 'outside', label: 'outside' },
              { value: 'inside', label: 'inside' },
            ]}
            choose={(side) => void write('side', side)}
          />
        </Row>
      )}
      {!(operation.kind === 'wrapped' && operation.line.length > 0) && (
        <Faces operation={operation} write={write} />
      )}
      {operation.kind === 'wrapped' && <WrappedLine operation={operation} change={change} />}
      {own?.wrapped && (
        <>
          <Row label="Once round">
            <Computed why={own.wrapped.flat_length}>{round(own.wrapped.flat_length.value, 4)} mm</Computed>
          </Row>
          <Row label="Centre below">
            <Computed why={own.wrapped.centre_below}>{round(own.wrapped.centre_below.value, 3)} mm</Computed>
          </Row>
          <Row label={`${own.wrapped.axis} goes`}>
            <Computed>
              {round(own.wrapped.turns[0] ?? 0, 2)}° … {round(own.wrapped.turns[1] ?? 0, 2)}°
            </Computed>
          </Row>
        </>
      )}
      {operation.kind === 'outline' && (tool?.kind === 'chamfer_mill' || operation.chamfer != null) && (
        <NumberRow
          label="Chamfer"
          value={operation.chamfer}
          unit="mm"
          placeholder="none"
          commit={(value) => write('chamfer', value)}
          clear={() => write('chamfer', null)}
        />
      )}
      {operation.kind === 'drilling' && operation.cycle === 'spot' && (
        <NumberRow
          label="Chamfer Ø"
          name="Chamfer"
          value={operation.chamfer}
          unit="mm"
          commit={(value) => write('chamfer', value)}
        />
      )}
      {FIELDS[operation.kind].map(({ field, label, unit }) => (
        <NumberRow
          key={field}
          label={label}
          value={values[field]}
          unit={unit}
          commit={(value) => write(field, value)}
        />
      ))}
      <NumberRow
        label="Speed"
        below={own?.speed && <Computed why={own.speed}>{round(own.speed.value, 0)} rpm</Computed>}
        value={operation.speed_rpm}
        unit="rpm"
        placeholder="computed"
        commit={(value) => write('speed_rpm', value)}
        clear={() => write('speed_rpm', null)}
      />
      <NumberRow
        label="Feed"
        below={own?.feed && <Computed why={own.feed}>{round(own.feed.value, 0)} mm/min</Computed>}
        value={operation.feed_mm_min}
        unit="mm/min"
        placeholder="computed"
        commit={(value) => write('feed_mm_min', value)}
        clear={() => write('feed_mm_min', null)}
      />
      {own?.removal && (
        <Row label="Removal">
          <Computed why={own.removal}>{own.removal.value} cm³/min</Computed>
        </Row>
      )}
      <NumberRow
        label="Clearance"
        value={operation.clearance}
        unit="mm"
        commit={(value) => write('clearance', value)}
      />
      <NumberRow
        label="Retract"
        value={operation.retract}
        unit="mm"
        commit={(value) => write('retract', value)}
      />
      {own && (
        <Row label="Takes off">
          <Computed>
            {(runs.reduce((sum, one) => sum + one.removed_volume_mm3, 0) / 1000).toFixed(2)} cm³ in{' '}
            {runs.reduce((sum, one) => sum + one.moves, 0)} moves
          </Computed>
        </Row>
      )}
      <div className="flex gap-1.5 border-t border-rule pt-2">
        <button
          type="button"
          className="knob"
          disabled={position === 0}
          onClick={() =>
            void edit(`${operation.name} earlier`, (setup) => {
              const [mine] = setup.operations.splice(position, 1)
              if (mine) setup.operations.splice(position - 1, 0, mine)
            })
          }
        >
          Earlier
        </button>
        <button
          type="button"
          className="knob"
          onClick={() => {
            set({ operation: null })
            void edit(`${operation.name} removed`, (setup) => void setup.operations.splice(position, 1))
          }}
        >
          Remove
        </button>
      </div>
    </div>
  )
}

type Change = (what: string, next: (mine: Operation) => void) => ReturnType<SheetProps['edit']>

/** Where an operation is cut: at one position or at several, each of which can be left out. */
function Places(props: SheetProps & { operation: Operation; runs: OperationReport[]; change: Change }) {
  const { operation, change, setup, runs } = props
  const every = ['', ...setup.positions.map((one) => one.name)]
  const mine = [operation.position ?? '', ...operation.repeated_at]
  const called = (name: string) => name || 'as it is seated'
  const put = (names: string[]) =>
    change(names.map(called).join(', '), (own) => {
      own.position = names[0] || null
      own.repeated_at = names.slice(1)
      own.left_out = own.left_out.filter((name) => names.includes(name))
    })
  return (
    <Row label="Cut at">
      <ul aria-label="Index positions of this operation" className="text-[12.5px]">
        {every.map((name) => {
          const on = mine.includes(name)
          const out = operation.left_out.includes(name)
          const own = runs.find((one) => (one.position ?? '') === name)
          // "As it is seated" can only come first: the others are named.
          const fixed = on && mine.length === 1
          return (
            <li key={name} className="flex items-baseline gap-2">
              <label className="flex grow items-baseline gap-1.5">
                <input
                  type="checkbox"
                  className="accent-action"
                  checked={on}
                  disabled={fixed}
                  onChange={() =>
                    void put(
                      on ? mine.filter((one) => one !== name) : name ? [...mine, name] : [name, ...mine],
                    )
                  }
                />
                <span className={out ? 'line-through' : ''}>{called(name)}</span>
                {own && <span className="figures text-action">{clock(own.time_s)}</span>}
              </label>
              {on && mine.length === 1 && every.length > 1 && <span className="text-soft">only here</span>}
              {on && mine.length > 1 && (
                <button
                  type="button"
                  className="text-action underline"
                  onClick={() =>
                    void change(out ? `${called(name)} again` : `${called(name)} left out`, (own) => {
                      own.left_out = out
                        ? own.left_out.filter((one) => one !== name)
                        : [...own.left_out, name]
                    })
                  }
                >
                  {out ? 'cut again' : 'leave out'}
                </button>
              )}
            </li>
          )
        })}
      </ul>
    </Row>
  )
}

type WrappedOperation = Extract<Operation, { kind: 'wrapped' }>

/** The line of a wrapped groove as it is typed: along and round, a point to a line. */
function WrappedLine({ operation, change }: { operation: WrappedOperation; change: Change }) {
  const text = operation.line.map(([along, around]) => `${along}, ${around}`).join('\n')
  const [typed, setTyped] = useState<string | null>(null)
  const [wrong, setWrong] = useState('')
  const put = (what: string, next: (own: WrappedOperation) => void) =>
    change(what, (own) => own.kind === 'wrapped' && next(own))
  const take = () => {
    if (typed === null || typed.trim() === text) return setTyped(null)
    const rows = typed.split('\n').filter((line) => line.trim())
    const points = rows.map((line) =>
      line
        .split(/[,;\s]+/)
        .filter(Boolean)
        .map(Number),
    )
    const bad = points.findIndex((point) => point.length !== 2 || point.some((c) => !Number.isFinite(c)))
    if (bad >= 0) return setWrong(`Line ${bad + 1} is not two numbers: along the axis, round it.`)
    if (points.length === 1) return setWrong('A line needs two points or more.')
    setWrong('')
    setTyped(null)
    void put('line on the flat', (own) => {
      own.line = points as [number, number][]
      if (points.length) {
        own.faces = []
        own.diameter ??= 50
        own.depth ??= 1
      }
    })
  }
  return (
    <>
      <Row label="Line">
        <textarea
          aria-label="Line on the flat"
          className="figures w-full border border-rule bg-white px-1.5 py-1 text-[12px]"
          rows={Math.min(8, Math.max(2, operation.line.length))}
          placeholder="along, round (mm), a point to a line; none: the picked floors"
          value={typed ?? text}
          onChange={(event) => setTyped(event.target.value)}
          onBlur={take}
        />
        {wrong && (
          <div role="alert" className="text-[12px] text-trouble">
            {wrong}
          </div>
        )}
      </Row>
      {operation.line.length > 0 &&
        (
          [
            ['diameter', 'Diameter'],
            ['depth', 'Depth'],
            ['gap', 'Gap'],
          ] as const
        ).map(([field, label]) => (
          <NumberRow
            key={field}
            label={label}
            value={operation[field]}
            unit="mm"
            placeholder="as the cutter"
            commit={(value) => put(`${field} ${value}`, (own) => (own[field] = value))}
            clear={field === 'gap' ? () => put('gap as the cutter', (own) => (own.gap = null)) : undefined}
          />
        ))}
    </>
  )
}

/** The faces an operation works on. */
function Faces({
  operation,
  write,
}: {
  operation: Operation
  write: (field: string, value: unknown) => Promise<unknown>
}) {
  const set = useView((view) => view.set)
  const single = operation.kind === 'facing'
  const refs: FaceRef[] =
    operation.kind === 'facing' ? (operation.face ? [operation.face] : []) : operation.faces
  const none = {
    facing: 'the part’s top',
    outline: 'the part’s silhouette',
    pocket: 'none',
    drilling: 'none',
    wrapped: 'none',
  }[operation.kind]
  const may = operation.kind === 'facing' || operation.kind === 'outline'
  const put = (next: FaceRef[]) => void write(single ? 'face' : 'faces', single ? (next[0] ?? null) : next)
  return (
    <Row label={operation.kind === 'drilling' ? 'Holes' : 'Faces'}>
      <div className="flex flex-wrap items-center gap-1">
        {refs.length === 0 && <span className="text-soft">{none}</span>}
        {refs.map((ref) => (
          <span key={ref.face} className="figures border border-rule bg-white pl-1.5">
            F{ref.face}
            <button
              type="button"
              aria-label={`Drop face ${ref.face}`}
              className="px-1 text-soft hover:text-trouble"
              disabled={refs.length === 1 && !may}
              onClick={() => put(refs.filter((one) => one.face !== ref.face))}
            >
              ×
            </button>
          </span>
        ))}
        <button
          type="button"
          className="knob !px-2 text-[12.5px]"
          onClick={() =>
            set({
              asked: {
                kind: 'face',
                prompt:
                  operation.kind === 'drilling'
                    ? 'Pick the wall of a hole'
                    : 'Pick a face for this operation',
                take: (ref) => put(single ? [ref] : [...refs.filter((one) => one.face !== ref.face), ref]),
              },
            })
          }
        >
          Pick
        </button>
      </div>
    </Row>
  )
}
