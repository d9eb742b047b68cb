import type { FaceRef, Library, Operation, OperationReport } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { round, useView } from '../../state'
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
  props: SheetProps & { operation: Operation; position: number; own: OperationReport | undefined },
) {
  const { operation, position, own, plan, commit, index, edit } = props
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
      {props.setup.positions.length > 0 && (
        <Row label="Cut at">
          <Choice
            label="Index position"
            value={operation.position ?? ''}
            options={[
              { value: '', label: 'as it is seated' },
              ...props.setup.positions.map((one) => ({ value: one.name, label: one.name })),
            ]}
            choose={(name) => void write('position', name || null)}
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
      <Faces operation={operation} write={write} />
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
            {(own.removed_volume_mm3 / 1000).toFixed(2)} cm³ in {own.moves} moves
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
