import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import { useLibrary } from '../../api/hooks'
import { freeNumber } from '../../ui/free'
import { Form, schemaOf } from '../../ui/Form'
import type { SheetProps } from '../sheet'

/** Stages of finish of the plan: what each leaves and how fast it goes; operations name one. */
export function Finishes({ plan, commit }: SheetProps) {
  const { data: library } = useLibrary()
  const used = new Set(plan.setups.flatMap((setup) => setup.operations.map((one) => one.finish)))
  if (!library) return null
  return (
    <Disclosure as="section" className="mt-4" aria-label="Finishes">
      <DisclosureButton className="font-head text-[15px] font-semibold">
        {({ open }) => <>{open ? '−' : '+'} Finishes</>}
      </DisclosureButton>
      <DisclosurePanel>
        {plan.finishes.map((finish, i) => (
          <div key={finish.id} className="mb-2 ml-1 border-l-2 border-rule pl-3">
            <Form
              schema={schemaOf(library.finish)}
              place="what"
              prefix={finish.name}
              values={finish}
              write={(field, value) =>
                commit(`${finish.name}: ${field.replaceAll('_', ' ')}`, (draft) => {
                  const mine = draft.finishes[i]
                  if (mine) Object.assign(mine, { [field]: value })
                })
              }
            />
            <button
              type="button"
              className="knob mt-1 !px-2 text-[12.5px]"
              disabled={used.has(finish.id)}
              title={used.has(finish.id) ? 'operations name it' : undefined}
              onClick={() =>
                void commit(`${finish.name} removed`, (draft) => void draft.finishes.splice(i, 1))
              }
            >
              Remove {finish.name}
            </button>
          </div>
        ))}
        <button
          type="button"
          className="knob"
          onClick={() =>
            void commit('a finish added', (draft) => {
              const number = freeNumber((n) => draft.finishes.some((one) => one.id === `own-${n}`))
              const last = draft.finishes[draft.finishes.length - 1]
              draft.finishes.push({
                leave_side: 0,
                leave_floor: 0,
                speed_share: 1,
                feed_share: 1,
                ...last,
                id: `own-${number}`,
                name: `own ${number}`,
              })
            })
          }
        >
          + finish
        </button>
      </DisclosurePanel>
    </Disclosure>
  )
}
