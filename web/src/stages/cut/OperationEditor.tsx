import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import {
  answered,
  api,
  type Draft,
  type Operation,
  type OperationReport,
  problemInstead,
} from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { tell } from '../../state/editing'
import { useRoute } from '../../state/route'
import { round } from '../../ui/words'
import { Choice } from '../../ui/Choice'
import { Computed, Row } from '../../ui/Field'
import { Form, schemaOf, type Widget, type Write } from '../../ui/Form'
import type { SheetProps } from '../sheet'
import { piecesCutIn } from '../incoming/several'
import { Boundary } from './Boundary'
import { DrawingLines, LinesOfText } from './Engraved'
import { Edges, Faces } from './Faces'
import { CheckAlone } from './CheckAlone'
import { dropEmpty, regroup } from './groups'
import { type Change, Places } from './Places'
import { Points } from './Points'
import { useKeeping } from './templates'
import { ToolChoice } from './ToolChoice'

/** An operation as a whole from what is told of it: its defaults and the tool that suits it are the core's to say, or why there is none. */
export const drafted = (project: number, setup: string, operation: Record<string, unknown>) =>
  answered<Draft>(
    api.POST('/api/projects/{project_id}/draft', {
      params: { path: { project_id: project } },
      body: { setup, operation },
    }),
  ).catch(problemInstead)

/** Everything one operation is told, with what follows from it. */
export function OperationEditor(
  props: SheetProps & { operation: Operation; position: number; runs: OperationReport[] },
) {
  const { operation, position, runs, plan, project, setup, commit, index, edit } = props
  const own = runs[0]
  const keeping = useKeeping()
  const { data: library } = useLibrary()
  const form = library?.operations.find((one) => one.kind === operation.kind)
  const change: Change = (what, next) =>
    edit(`${operation.name}: ${what}`, (setup) => {
      const mine = setup.operations[position]
      if (mine) next(mine)
    })
  /** The operation in another shape, with a tool that may have to come into the plan. */
  const put = (what: string, draft: Draft) =>
    commit(`${operation.name}: ${what}`, (next) => {
      if (draft.tool) next.tools.push(draft.tool)
      const mine = next.setups[index]?.operations
      if (mine) mine[position] = draft.operation
    })
  const redraft = async (what: string, told: Record<string, unknown>) => {
    const made = await drafted(project.id, setup.name, { ...operation, ...told })
    return 'what' in made ? made : put(what, made)
  }
  const write: Write = (field, value) => {
    const what = form ? (schemaOf(form.fields).properties[field]?.title ?? field) : field
    // Another cycle wants another tool.
    if (field === form?.tools_by) return redraft(String(value), { [field]: value })
    return change(what, (mine) => Object.assign(mine, { [field]: value }))
  }
  const tool = plan.tools.find((one) => one.id === operation.tool)
  const values = operation as unknown as Record<string, unknown>
  const widgets: Record<string, Widget> = {
    tool: () => (
      <ToolChoice
        plan={plan}
        operation={operation}
        form={form}
        choose={(tool) => void redraft(tool.name, { tool: tool.id })}
      />
    ),
    positions: () => setup.positions.length > 0 && <Places {...props} change={change} />,
    pieces: (name, field) => {
      const names = piecesCutIn(plan, setup.name)
      return (
        names.length > 1 && (
          <Row label="At pieces" help={field.description}>
            <span className="flex flex-wrap gap-x-2" role="group" aria-label="Pieces it is cut at">
              {names.map((one) => {
                const out = operation.not_at.includes(one)
                return (
                  <label key={one} className="flex items-center gap-1 text-[12.5px]">
                    <input
                      type="checkbox"
                      className="accent-action"
                      checked={!out}
                      onChange={() =>
                        void write(
                          name,
                          out
                            ? operation.not_at.filter((other) => other !== one)
                            : [...operation.not_at, one],
                        )
                      }
                    />
                    {one}
                  </label>
                )
              })}
            </span>
          </Row>
        )
      )
    },
    register: (name, field) => {
      const offsets = props.report?.offsets ?? []
      return (
        offsets.length > 1 && (
          <Row label={field.title ?? ''} help={field.description}>
            <Choice
              label="Register it counts from"
              value={operation.offset_register ?? ''}
              options={[
                { value: '', label: 'its position’s', ...(own && { note: own.offset_register }) },
                ...offsets.map((row) => ({
                  value: row.register_name,
                  label: row.register_name,
                  note: row.zero,
                })),
              ]}
              choose={(register) => void write(name, register || null)}
            />
          </Row>
        )
      )
    },
    sets: (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Choice
          label={field.title ?? name}
          value={String(values[name])}
          options={(props.report?.offsets ?? []).map((row) => ({
            value: row.register_name,
            label: row.register_name,
            note: row.zero,
          }))}
          choose={(register) => void write(name, register)}
        />
      </Row>
    ),
    corrects: (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Choice
          label={field.title ?? name}
          value={typeof values[name] === 'string' ? values[name] : ''}
          options={plan.tools
            .filter((one) => one.kind !== 'probe')
            .map((one) => ({ value: one.id, label: one.name, note: `D${one.place}` }))}
          choose={(id) => void write(name, id)}
        />
      </Row>
    ),
    finish: (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Choice
          label={field.title ?? name}
          value={typeof values[name] === 'string' ? values[name] : ''}
          options={[
            { value: '', label: 'none' },
            ...plan.finishes.map((one) => ({
              value: one.id,
              label: one.name,
              note: `${one.leave_side} / ${one.leave_floor} mm`,
            })),
          ]}
          choose={(finish) => void write(name, finish || null)}
        />
      </Row>
    ),
    group: (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Choice
          label={field.title ?? name}
          value={operation.group ?? ''}
          options={[
            { value: '', label: 'none' },
            ...setup.groups.map((one) => ({ value: one.id, label: one.name })),
            { value: '+', label: 'a new group' },
          ]}
          choose={(group) =>
            void edit(`${operation.name}: group`, (own) => {
              const mine = own.operations[position]
              if (mine) regroup(own, mine, group)
            })
          }
        />
      </Row>
    ),
    faces: (name, field) => (
      <Faces
        field={field}
        value={values[name] as Parameters<typeof Faces>[0]['value']}
        write={(faces) => write(name, faces)}
      />
    ),
    edges: (name, field) => (
      <Edges
        field={field}
        value={values[name] as Parameters<typeof Edges>[0]['value']}
        write={(edges) => write(name, edges)}
      />
    ),
    text: (name, field) => (
      <LinesOfText field={field} value={values[name] as string} commit={(text) => write(name, text)} />
    ),
    drawing: (name, field) => (
      <DrawingLines
        field={field}
        value={values[name] as [number, number][][]}
        write={(lines) => write(name, lines)}
      />
    ),
    boundary: (name, field) => (
      <Boundary
        field={field}
        value={values[name] as number[]}
        report={props.report}
        position={operation.position ?? ''}
        write={(box) => write(name, box)}
      />
    ),
    points: (name, field) => (
      <Points
        field={field}
        value={values[name] as [number, number][]}
        write={(points) =>
          // Points take the place of what was picked.
          change(field.title ?? name, (mine) =>
            Object.assign(mine, { [name]: points }, points.length ? { faces: [] } : {}),
          )
        }
      />
    ),
  }
  const common = { values, others: { 'tool.kind': tool?.kind }, write, widgets }
  return (
    <div className="mb-2 ml-1 border-l-2 border-rule pl-3">
      {form && (
        <>
          <Form schema={schemaOf(form.fields)} place="where" {...common} />
          <Form schema={schemaOf(form.fields)} place="what" {...common} />
          {own?.wrapped && <WrappedFacts wrapped={own.wrapped} />}
          <Form
            schema={schemaOf(form.fields)}
            place="feeds"
            computed={{ speed: own?.speed, feed: own?.feed }}
            {...common}
          />
          <Disclosure as="div" className="border-t border-rule">
            <DisclosureButton className="w-full py-2 text-left text-[13px] text-soft">
              {({ open }) => <>{open ? '−' : '+'} In the program</>}
            </DisclosureButton>
            <DisclosurePanel>
              <Form schema={schemaOf(form.fields)} place="program" {...common} />
            </DisclosurePanel>
          </Disclosure>
        </>
      )}
      <Disclosure as="div" className="border-t border-rule">
        <DisclosureButton className="w-full py-2 text-left text-[13px] text-soft">
          {({ open }) => <>{open ? '−' : '+'} Alone, on another stock</>}
        </DisclosureButton>
        <DisclosurePanel>
          <CheckAlone {...props} />
        </DisclosurePanel>
      </Disclosure>
      {own?.removal && (
        <Row label="Removal">
          <Computed why={own.removal}>{own.removal.value} cm³/min</Computed>
        </Row>
      )}
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
          onClick={() => {
            useRoute.setState({ operation: null })
            void edit(`${operation.name} removed`, (setup) => {
              setup.operations.splice(position, 1)
              dropEmpty(setup)
            })
          }}
        >
          Remove
        </button>
        <button
          type="button"
          className="knob"
          title="for the next plan, with its tool: under + operation"
          onClick={() =>
            void keeping.keep(operation.name, plan, [operation]).then((problem) => problem && tell(problem))
          }
        >
          Keep as template
        </button>
      </div>
    </div>
  )
}

/** How a wrapped path lies round its axis. */
function WrappedFacts({ wrapped }: { wrapped: NonNullable<OperationReport['wrapped']> }) {
  return (
    <>
      <Row label="Once round">
        <Computed why={wrapped.flat_length}>{round(wrapped.flat_length.value, 4)} mm</Computed>
      </Row>
      <Row label="Centre below">
        <Computed why={wrapped.centre_below}>{round(wrapped.centre_below.value, 3)} mm</Computed>
      </Row>
      <Row label={`${wrapped.axis} goes`}>
        <Computed>
          {round(wrapped.turns[0] ?? 0, 2)}° … {round(wrapped.turns[1] ?? 0, 2)}°
        </Computed>
      </Row>
    </>
  )
}
