import { useDraggable } from '@dnd-kit/core'
import { useSortable } from '@dnd-kit/sortable'
import type { CSSProperties, HTMLAttributes } from 'react'
import type { Operation, OperationReport, Setup } from '../../api/client'
import { useClock } from '../../state/clock'
import { useFields } from '../../state/fields'
import { useRoute } from '../../state/route'
import { clock, hueOf } from '../../ui/words'
import { isOn } from './groups'

/** Open an operation in the sheet, or close it. */
export function toggleOperation(id: string, open: boolean) {
  useRoute.setState({ operation: open ? null : id })
  useClock.setState({ time: Infinity })
}

/** Whether an operation is the one that is open. */
export function useOpen(id: string) {
  const view = useFields(useRoute, 'operation')
  return view.operation?.split('@')[0] === id
}

type RowProps = {
  setup: Setup
  index: number
  operation: Operation
  runs: OperationReport[]
  flip: (on: boolean) => void
}

/** Where a row is taken hold of; by keys: space takes it, arrows move it, space lets it go. */
function Grip(props: { name: string; held: HTMLAttributes<HTMLElement> }) {
  return (
    <button
      type="button"
      {...props.held}
      aria-label={`Move ${props.name}`}
      className="shrink-0 cursor-grab touch-none self-center px-0.5 text-[13px] leading-none tracking-[-0.18em] text-soft hover:text-ink"
    >
      ⋮⋮
    </button>
  )
}

/** One operation in a list: its grip, its name, where it is cut, how long, and its switch. */
function Row(props: RowProps & { held: HTMLAttributes<HTMLElement>; picture?: CSSProperties }) {
  const { setup, operation, runs } = props
  const open = useOpen(operation.id)
  const on = isOn(setup, operation)
  const number = setup.operations.indexOf(operation)
  const takes = runs.reduce((sum, one) => sum + one.time_s, 0)
  const grave = runs[0]?.findings.find((one) => one.severity !== 'note')
  return (
    <div className="flex items-baseline gap-1.5">
      <Grip name={operation.name} held={props.held} />
      <button
        type="button"
        aria-label={operation.name}
        aria-expanded={open}
        className="flex min-w-0 grow items-baseline gap-2 py-1.5 text-left"
        onClick={() => toggleOperation(operation.id, open)}
      >
        <span
          className="h-3 w-3 shrink-0 self-center"
          style={{ background: on ? hueOf(props.index) : 'transparent', opacity: number % 2 ? 0.7 : 1 }}
        />
        <span
          className={`min-w-0 grow truncate ${open ? 'font-semibold' : ''} ${on ? '' : 'text-soft line-through'}`}
        >
          {operation.name}
        </span>
        {(operation.position || operation.repeated_at.length > 0) && (
          <span className="figures bg-rail px-1 text-[11.5px]">
            {operation.repeated_at.length ? `${runs.length} places` : operation.position}
          </span>
        )}
        {on && grave && <span className="text-trouble">{grave.severity === 'error' ? '◆' : '▲'}</span>}
        <span className="figures text-[11.5px] text-soft">
          {on ? (runs.length ? clock(takes) : '–') : 'off'}
        </span>
      </button>
      <input
        type="checkbox"
        aria-label={`${operation.name} is cut`}
        title={operation.off ? 'switch it on' : 'switch it off: kept, not cut'}
        className="shrink-0 self-center accent-action"
        checked={!operation.off}
        onChange={(event) => props.flip(event.target.checked)}
      />
    </div>
  )
}

/** A row whose place in the list can be changed. */
export function SortedRow(props: RowProps) {
  const own = useSortable({ id: props.operation.id })
  const moved = own.transform
  return (
    <div
      ref={own.setNodeRef}
      className={own.isDragging ? 'relative z-20 bg-white shadow-lg' : ''}
      style={{
        transform: moved ? `translate3d(0, ${moved.y}px, 0)` : undefined,
        transition: own.transition,
      }}
    >
      <Row {...props} held={{ ...own.attributes, ...own.listeners }} />
    </div>
  )
}

/** A row that can be carried to another heading. `from`: the heading it stands under. */
export function CarriedRow(props: RowProps & { from: string }) {
  const own = useDraggable({ id: `${props.from}|${props.operation.id}` })
  const moved = own.transform
  return (
    <div
      ref={own.setNodeRef}
      className={own.isDragging ? 'relative z-20 bg-white shadow-lg' : ''}
      style={moved ? { transform: `translate3d(${moved.x}px, ${moved.y}px, 0)` } : undefined}
    >
      <Row {...props} held={{ ...own.attributes, ...own.listeners }} />
    </div>
  )
}
