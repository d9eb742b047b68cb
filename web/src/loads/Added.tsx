import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import type { Operation, Plan, Problem } from '../api/client'
import { useLibrary } from '../api/hooks'
import { ToolChoice } from '../stages/cut/ToolChoice'
import { Form, schemaOf, type Widget } from '../ui/Form'

/** What is picked in the picture of a setup stays as it was there. */
const AS_PICKED = [
  ...['positions', 'pieces', 'register', 'sets', 'corrects', 'finish', 'group', 'faces', 'edges', 'text'],
  ...['drawing', 'boundary', 'points'],
]
const nothing: Widget = () => null

/** An operation that only one place of a setup has: its tool and its numbers are its own. */
export function Added(props: {
  plan: Plan
  operation: Operation
  /** What stands before each label for who cannot see where it is. */
  spoken: string
  change: (what: string, edit: (mine: Operation) => void) => Promise<Problem | null>
  drop: () => void
}) {
  const { plan, operation, spoken, change, drop } = props
  const { data: library } = useLibrary()
  const form = library?.operations.find((one) => one.kind === operation.kind)
  const schema = form && schemaOf(form.fields)
  const widgets: Record<string, Widget> = {
    ...Object.fromEntries(AS_PICKED.map((name) => [name, nothing])),
    tool: () => (
      <ToolChoice
        plan={plan}
        operation={operation}
        form={form}
        only
        choose={(tool) => void change(tool.name, (mine) => (mine.tool = tool.id))}
      />
    ),
  }
  const common = {
    prefix: `${spoken} ${operation.id}`,
    values: operation as unknown as Record<string, unknown>,
    others: { 'tool.kind': plan.tools.find((one) => one.id === operation.tool)?.kind },
    write: (field: string, value: unknown) =>
      change(schema?.properties[field]?.title ?? field, (mine) => Object.assign(mine, { [field]: value })),
    widgets,
  }
  return (
    <Disclosure as="div" className="w-full">
      <span className="flex items-center gap-1">
        <DisclosureButton className="underline" aria-label={`${operation.name} at ${spoken}`}>
          + {operation.name}
        </DisclosureButton>
        <span className="grow" />
        <button
          type="button"
          className="text-soft underline"
          aria-label={`Drop ${operation.name} at ${spoken}`}
          onClick={drop}
        >
          drop
        </button>
      </span>
      <DisclosurePanel>
        {schema &&
          ['where', 'what', 'feeds'].map((place) => (
            <Form key={place} schema={schema} place={place} {...common} />
          ))}
      </DisclosurePanel>
    </Disclosure>
  )
}
