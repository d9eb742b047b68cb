import type { Operation, OperationForm, Plan, Tool } from '../../api/client'
import { useShopTools } from '../../api/hooks'
import { LongChoice } from '../../ui/Choice'
import { Row } from '../../ui/Field'

/** The kinds of tool that can do an operation, as its kind says. */
export const able = (form: OperationForm | undefined, operation: Operation) => {
  const values = operation as unknown as Record<string, string>
  return (form?.tools[form.tools_by ? (values[form.tools_by] ?? '') : ''] ?? []) as string[]
}

/** The tool of an operation: one of the plan's, or, where it is not only those, one from the shelf that comes into the plan with it. */
export function ToolChoice(props: {
  plan: Plan
  operation: Operation
  form: OperationForm | undefined
  choose: (tool: Tool) => void
  only?: boolean
}) {
  const { plan, operation, form, choose, only } = props
  const { data: shop } = useShopTools()
  const shelf = [
    ...plan.tools,
    ...(only ? [] : (shop ?? [])).filter((tool) => !plan.tools.some((one) => one.id === tool.id)),
  ]
  const kinds = able(form, operation)
  const tool = plan.tools.find((one) => one.id === operation.tool)
  return (
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
      <LongChoice
        label="Tool"
        value={operation.tool}
        options={shelf
          .filter((one) => kinds.includes(one.kind))
          .map((one) => ({ value: one.id, label: one.name, note: `LCF ${one.LCF}` }))}
        choose={(id) => {
          const chosen = shelf.find((one) => one.id === id)
          if (chosen) choose(chosen)
        }}
      />
    </Row>
  )
}
