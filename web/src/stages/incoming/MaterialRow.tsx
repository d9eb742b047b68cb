import type { Plan } from '../../api/client'
import { type Commit, useLibrary } from '../../api/hooks'
import { Choice } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { freeNumber } from '../../ui/free'
import { Form, schemaOf } from '../../ui/Form'

/** What the billet is of: one that ships, or one of the plan's own with its values and where they are from. */
export function MaterialRow(props: { plan: Plan; change: Commit; choose: (material: string) => void }) {
  const { plan, change } = props
  const { data: library } = useLibrary()
  const shipped = (library?.materials ?? []).filter((one) => plan.materials.every((o) => o.name !== one.name))
  const all = [...plan.materials, ...shipped]
  const own = plan.materials.findIndex((one) => one.name === plan.billet.material)
  const current = all.find((one) => one.name === plan.billet.material)
  const add = () => {
    const name = `Material ${freeNumber((n) => all.some((one) => one.name === `Material ${n}`))}`
    return change(`${name} added`, (draft) => {
      if (current) draft.materials.push({ ...current, name, source: '' })
      draft.billet.material = name
    })
  }
  return (
    <>
      <Row
        label="Material"
        below={
          <button type="button" className="text-[12.5px] text-action underline" onClick={() => void add()}>
            another, like this one
          </button>
        }
      >
        <Choice
          label="Material"
          value={plan.billet.material}
          options={all.map((one) => ({
            value: one.name,
            label: one.name,
            note: `${one.density_g_cm3} g/cm³`,
          }))}
          choose={props.choose}
        />
      </Row>
      {library && own >= 0 && (
        <div role="group" aria-label="Own material" className="mb-2 ml-1 border-l-2 border-rule pl-3">
          <Form
            schema={schemaOf(library.material)}
            place="what"
            prefix="Material"
            values={plan.materials[own] as unknown as Record<string, unknown>}
            write={(field, value) =>
              change(`material: ${field.replaceAll('_', ' ')}`, (draft) => {
                const mine = draft.materials[own]
                if (!mine) return
                if (field === 'name') draft.billet.material = String(value)
                Object.assign(mine, { [field]: value })
              })
            }
          />
          <button
            type="button"
            className="knob mt-1 !px-2 text-[12.5px]"
            onClick={() =>
              void change(`${plan.billet.material} removed`, (draft) => {
                draft.materials.splice(own, 1)
                draft.billet.material = shipped[0]?.name ?? draft.billet.material
              })
            }
          >
            Remove it
          </button>
        </div>
      )}
    </>
  )
}
