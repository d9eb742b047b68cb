import {
  closestCenter,
  DndContext,
  type DragEndEvent,
  KeyboardSensor,
  PointerSensor,
  pointerWithin,
  rectIntersection,
  useDroppable,
  useSensor,
  useSensors,
} from '@dnd-kit/core'
import {
  arrayMove,
  SortableContext,
  sortableKeyboardCoordinates,
  verticalListSortingStrategy,
} from '@dnd-kit/sortable'
import { useState } from 'react'
import type { CutFeature, Operation, Problem } from '../../api/client'
import { useCutBy, useLibrary } from '../../api/hooks'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { useRoute } from '../../state/route'
import { Segments } from '../../ui/Choice'
import type { SheetProps } from '../sheet'
import { GroupHead } from './GroupHead'
import { drafted, OperationEditor } from './OperationEditor'
import { CarriedRow, SortedRow, useOpen } from './OperationRow'
import { able } from './ToolChoice'
import { Refused } from '../../ui/Refused'

const LISTS = [
  { value: 'order', label: 'In order' },
  { value: 'tool', label: 'By tool' },
  { value: 'feature', label: 'By feature' },
  { value: 'finish', label: 'By finish' },
] as const
type List = (typeof LISTS)[number]['value']

const useHolding = () =>
  useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 4 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  )

/** The operations of a setup, looked at from four sides: as they run, by what they are cut with, by what they cut, by how fine. */
export function OperationLists(props: SheetProps) {
  const [list, setList] = useState<List>('order')
  const [problem, setProblem] = useState<Problem | null>(null)
  const common = { ...props, refuse: setProblem }
  return (
    <>
      <Segments
        label="Operations as a list"
        value={list}
        options={[...LISTS]}
        choose={(value) => {
          setList(value)
          setProblem(null)
        }}
      />
      {list === 'order' && <InOrder {...common} />}
      {list === 'tool' && <ByTool {...common} />}
      {list === 'feature' && <ByFeature {...common} />}
      {list === 'finish' && <ByFinish {...common} />}
      <Refused problem={problem} />
    </>
  )
}

type ListProps = SheetProps & { refuse: (problem: Problem | null) => void }

/** What came of an operation, at each of its places. */
const runsOf = ({ report }: SheetProps, operation: Operation) =>
  report?.operations.filter((one) => one.id === operation.id) ?? []

/** What a row of a list is told of its operation. */
function rowOf(props: SheetProps, operation: Operation) {
  return {
    setup: props.setup,
    index: props.index,
    operation,
    runs: runsOf(props, operation),
    flip: (on: boolean) =>
      void props.edit(`${operation.name} ${on ? 'on' : 'off'}`, (setup) => {
        const mine = setup.operations.find((one) => one.id === operation.id)
        if (mine) mine.off = !on
      }),
  }
}

/** The editor under a row that is open. */
function Opened(props: SheetProps & { operation: Operation }) {
  const { setup, operation } = props
  if (!useOpen(operation.id)) return null
  return (
    <OperationEditor
      {...props}
      position={setup.operations.findIndex((one) => one.id === operation.id)}
      runs={runsOf(props, operation)}
    />
  )
}

/** As they run: dragged to another place; a group stands over its operations. */
function InOrder(props: ListProps) {
  const { setup, edit } = props
  const sensors = useHolding()
  const drop = ({ active, over }: DragEndEvent) => {
    const from = setup.operations.findIndex((one) => one.id === active.id)
    const to = setup.operations.findIndex((one) => one.id === over?.id)
    const moved = setup.operations[from]
    if (from < 0 || to < 0 || from === to || !moved) return
    void edit(`${moved.name} ${to < from ? 'earlier' : 'later'}`, (own) => {
      own.operations = arrayMove(own.operations, from, to)
    })
  }
  return (
    <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={drop}>
      <SortableContext items={setup.operations.map((one) => one.id)} strategy={verticalListSortingStrategy}>
        <ol aria-label="Operations" className="mt-1">
          {setup.operations.map((operation, i) => {
            const group = setup.groups.find((one) => one.id === operation.group)
            const begins = group && setup.operations[i - 1]?.group !== group.id
            return (
              <li key={operation.id} className="border-t border-rule">
                {begins && <GroupHead {...props} group={group} />}
                <div className={group ? 'border-l-4 border-rail pl-1' : ''}>
                  <SortedRow {...rowOf(props, operation)} />
                  <Opened {...props} operation={operation} />
                </div>
              </li>
            )
          })}
        </ol>
      </SortableContext>
    </DndContext>
  )
}

type Bucket = {
  id: string
  title: string
  note?: string
  below?: string
  operations: Operation[]
}

/** Operations under headings; one that is dragged under another heading is cut with, or as, that says. */
function Buckets(
  props: ListProps & {
    label: string
    buckets: Bucket[]
    assign: (operation: Operation, bucket: string) => Promise<Problem | null>
    point?: (bucket: string | null) => void
  },
) {
  const { buckets, setup } = props
  const sensors = useHolding()
  const view = useFields(useRoute, 'operation')
  // An operation that stands under several headings is opened under the first.
  const first = buckets.find((one) => one.operations.some((own) => own.id === view.operation?.split('@')[0]))
  const drop = async ({ active, over }: DragEndEvent) => {
    const [from, id] = String(active.id).split('|')
    const operation = setup.operations.find((one) => one.id === id)
    if (!operation || over === null || over.id === from) return
    props.refuse(await props.assign(operation, String(over.id)))
  }
  return (
    <DndContext
      sensors={sensors}
      collisionDetection={(given) => {
        const under = pointerWithin(given)
        return under.length ? under : rectIntersection(given)
      }}
      onDragEnd={(event) => void drop(event)}
    >
      <ul aria-label={props.label} className="mt-1">
        {buckets.map((bucket) => (
          <BucketRows key={bucket.id} {...props} bucket={bucket} first={first?.id} />
        ))}
      </ul>
    </DndContext>
  )
}

function BucketRows(
  props: ListProps & { bucket: Bucket; first: string | undefined; point?: (bucket: string | null) => void },
) {
  const { bucket, point } = props
  const { setNodeRef, isOver } = useDroppable({ id: bucket.id })
  return (
    <li
      ref={setNodeRef}
      aria-label={bucket.title}
      className={`border-t border-rule py-1 ${isOver ? 'bg-rail' : ''}`}
      onMouseEnter={() => point?.(bucket.id)}
      onMouseLeave={() => point?.(null)}
    >
      <div className="flex items-baseline gap-2">
        <span className="min-w-0 grow truncate font-medium">{bucket.title}</span>
        {bucket.note && <span className="shrink-0 text-[11.5px] text-soft">{bucket.note}</span>}
      </div>
      {bucket.below && <p className="text-[12.5px] text-soft">{bucket.below}</p>}
      {bucket.operations.map((operation) => (
        <div key={operation.id} className="pl-2">
          <CarriedRow {...rowOf(props, operation)} from={bucket.id} />
          {props.first === bucket.id && <Opened {...props} operation={operation} />}
        </div>
      ))}
    </li>
  )
}

/** By place in the changer; dragged to another tool, an operation is cut with that. */
function ByTool(props: ListProps) {
  const { plan, setup, project, index, commit } = props
  const { data: library } = useLibrary()
  const used = (id: string) => setup.operations.filter((one) => one.tool === id)
  const buckets = [...plan.tools]
    .sort((one, two) => one.place - two.place)
    .map((tool) => ({
      id: tool.id,
      title: `T${tool.place} ${tool.name}`,
      ...(used(tool.id).length === 0 && { note: 'unused here' }),
      operations: used(tool.id),
    }))
  const assign = async (operation: Operation, id: string): Promise<Problem | null> => {
    const tool = plan.tools.find((one) => one.id === id)
    const form = library?.operations.find((one) => one.kind === operation.kind)
    if (!tool) return null
    if (!able(form, operation).includes(tool.kind))
      return {
        code: 'cut.wrong_tool',
        where: operation.name,
        what: `${operation.name} cannot be cut with ${tool.name}`,
        mend: 'drag it to a tool of another kind',
      }
    const made = await drafted(project.id, setup.name, { ...operation, tool: id })
    if ('what' in made) return made
    return commit(`${operation.name}: ${tool.name}`, (draft) => {
      const own = draft.setups[index]
      const at = own?.operations.findIndex((one) => one.id === operation.id) ?? -1
      if (own && at >= 0) own.operations[at] = made.operation
    })
  }
  return <Buckets {...props} label="Operations by tool" buckets={buckets} assign={assign} />
}

/** By stage of finish; dragged to another, an operation takes what that says. */
function ByFinish(props: ListProps) {
  const { plan, setup, edit } = props
  const known = [
    ...plan.finishes.map((one) => ({
      id: one.id,
      title: one.name,
      note: `leaves ${one.leave_side} / ${one.leave_floor} mm`,
    })),
    { id: '', title: 'no finish named', note: '' },
  ]
  const buckets = known.map((one) => ({
    id: `finish ${one.id}`,
    title: one.title,
    note: one.note,
    operations: setup.operations.filter((own) => (own.finish ?? '') === one.id),
  }))
  const assign = (operation: Operation, id: string) => {
    const finish = id.slice('finish '.length)
    return edit(`${operation.name}: ${finish || 'no finish'}`, (own) => {
      const mine = own.operations.find((one) => one.id === operation.id)
      if (mine) mine.finish = finish || null
    })
  }
  return <Buckets {...props} label="Operations by finish" buckets={buckets} assign={assign} />
}

const STATES: Record<string, string> = {
  raw: 'as it came',
  'raw and cut': 'partly as it came',
  'not yet there': 'still in the stock',
  gone: 'cut away',
}

/** By what they cut, over the whole route: what nobody cuts stands first, then what is cut twice. */
function ByFeature(props: ListProps) {
  const { setup, part, edit, project } = props
  const { data: features } = useCutBy(project)
  const here = (feature: CutFeature) =>
    setup.operations.filter((one) =>
      feature.by.some((by) => by.setup === setup.name && by.operation === one.id),
    )
  const rank = (one: CutFeature) => (one.by.length === 0 ? 0 : one.twice.length ? 1 : 2)
  const rows = (features ?? [])
    .map((feature, number) => ({ feature, id: `feature ${number}` }))
    .sort((one, two) => rank(one.feature) - rank(two.feature))
  const buckets = rows.map(({ feature, id }) => {
    const elsewhere = feature.by.filter((by) => by.setup !== setup.name)
    const below = [
      feature.twice.length > 0 && `twice: ${feature.twice.join(', ')}`,
      elsewhere.length > 0 && elsewhere.map((by) => `${by.setup} ${by.name}`).join(', '),
    ]
    return {
      id,
      title: feature.count > 1 ? `${feature.count} × ${feature.what}` : feature.what,
      note: feature.by.length === 0 ? 'not cut yet' : ((feature.state && STATES[feature.state]) ?? ''),
      below: below.filter(Boolean).join(' · '),
      operations: here(feature),
    }
  })
  const assign = (operation: Operation, id: string): Promise<Problem | null> => {
    const feature = rows.find((one) => one.id === id)?.feature
    const own = 'faces' in operation ? operation.faces : []
    const first = part?.faces.find((face) => face.number === own[0]?.face)
    const alike = feature?.faces.filter((ref) => {
      const face = part?.faces.find((one) => one.number === ref.face)
      return (
        first !== undefined &&
        face?.kind === first.kind &&
        (!first.normal || first.normal.every((n, i) => Math.abs(n - (face.normal?.[i] ?? 9)) < 1e-3))
      )
    })
    if (!feature || !alike?.length)
      return Promise.resolve({
        code: 'cut.no_face',
        where: operation.name,
        what: `${feature?.what ?? 'that'} has no face like those ${operation.name} cuts`,
        mend: 'pick its faces in the operation',
      })
    return edit(`${operation.name}: ${feature.what} too`, (setup) => {
      const mine = setup.operations.find((one) => one.id === operation.id)
      if (mine && 'faces' in mine)
        mine.faces = [
          ...mine.faces,
          ...alike.filter((ref) => mine.faces.every((one) => one.face !== ref.face)),
        ]
    })
  }
  const point = (id: string | null) =>
    useShown.setState({
      lit: rows.find((one) => one.id === id)?.feature.faces.map((ref) => ref.face) ?? [],
    })
  return <Buckets {...props} label="Operations by feature" buckets={buckets} assign={assign} point={point} />
}
