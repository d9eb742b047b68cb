import { useState } from 'react'
import type { Billet, Part, Problem, ProjectState, Setup, Stand } from '../api/client'
import { ShapeFields } from '../stages/incoming/ShapeFields'
import { Choice, Segments } from '../ui/Choice'
import { NumberField, Row } from '../ui/Field'
import { Added } from './Added'

type Different = Stand['different'][number]
type Write = (what: string, edit: (stand: Stand) => void) => Promise<Problem | null>

const asTheOthers = (place: number): Different => ({
  place,
  empty: false,
  by_x: 0,
  by_y: 0,
  offset_register: null,
  left_out: [],
  added: [],
  stock: null,
})

/** What is told of a place says nothing. */
const idle = (one: Different) => {
  const { empty, by_x, by_y, offset_register, left_out, added, stock } = one
  return !empty && !by_x && !by_y && !offset_register && !left_out.length && !added.length && !stock
}

/** What of a setup stays once, and one of its places treated otherwise than the others. */
export function PlaceEditor(props: {
  project: ProjectState
  part: Part | undefined
  setup: Setup
  stand: Stand
  registers: string[]
  change: Write
}) {
  const { project, part, setup, stand, change } = props
  const [chosen, setChosen] = useState(0)
  const count = stand.columns * stand.rows
  const number = Math.min(chosen, count)
  const told = stand.different.find((one) => one.place === number)
  const own = told ?? asTheOthers(number)
  const edit = (what: string, next: (mine: Different) => void) =>
    change(`place ${number} ${what}`, (draft) => {
      const mine = structuredClone(own)
      next(mine)
      draft.different = draft.different.filter((one) => one.place !== number)
      if (!idle(mine)) draft.different.push(mine)
    })
  const items = setup.hold.items
  return (
    <div className="text-[12.5px]">
      {items.length > 0 && count > 1 && (
        <Row label="There once" help="Of what holds it: what all its places have in common, a plate say">
          <span className="flex flex-wrap gap-x-2" role="group" aria-label={`${setup.name} there once`}>
            {items.map((item) => {
              const on = stand.stays.includes(item.id)
              return (
                <label key={item.id} className="flex items-center gap-1">
                  <input
                    type="checkbox"
                    className="accent-action"
                    checked={on}
                    onChange={() =>
                      void change(`${item.id} ${on ? 'each' : 'once'}`, (draft) => {
                        draft.stays = on
                          ? draft.stays.filter((one) => one !== item.id)
                          : [...draft.stays, item.id]
                      })
                    }
                  />
                  {item.id}
                </label>
              )
            })}
          </span>
        </Row>
      )}
      <Row label="One place" help="A place that is not treated like the others">
        <Choice
          label={`${setup.name} place`}
          value={String(number)}
          options={[
            { value: '0', label: 'all alike' },
            ...Array.from({ length: count }, (_, n) => ({
              value: String(n + 1),
              label: `place ${n + 1}`,
              ...(stand.different.some((one) => one.place === n + 1) ? { note: 'differs' } : {}),
            })),
          ]}
          choose={(value) => setChosen(Number(value))}
        />
      </Row>
      {number > 0 && (
        <div className="mb-1 border-l-2 border-rule pl-2">
          <label className="flex items-center gap-1.5 py-0.5">
            <input
              type="checkbox"
              className="accent-action"
              checked={own.empty}
              onChange={(event) => {
                const { checked } = event.target
                void edit(checked ? 'empty' : 'taken', (mine) => (mine.empty = checked))
              }}
            />
            nothing stands there
          </label>
          {!own.empty && (
            <Differently {...props} own={own} edit={edit} project={project} part={part} number={number} />
          )}
        </div>
      )}
    </div>
  )
}

/** How a place that is taken differs. */
function Differently(props: {
  project: ProjectState
  part: Part | undefined
  setup: Setup
  registers: string[]
  number: number
  own: Different
  edit: (what: string, next: (mine: Different) => void) => Promise<Problem | null>
}) {
  const { project, part, setup, own, edit, number } = props
  const spoken = `${setup.name} place ${number}`
  const ids = [...setup.operations, ...own.added].map((one) => one.id)
  const fresh = (id: string) => {
    for (let n = 2; ; n += 1) if (!ids.includes(`${id}-${n}`)) return `${id}-${n}`
  }
  return (
    <>
      <div className="grid grid-cols-[4.6rem_1fr_1fr] items-center gap-x-2 py-0.5">
        <span className="text-soft">moved by</span>
        {(['by_x', 'by_y'] as const).map((name) => (
          <NumberField
            key={name}
            label={`${spoken} moved along ${name === 'by_x' ? 'X' : 'Y'}`}
            value={own[name]}
            unit="mm"
            commit={(value) => edit('moved', (mine) => (mine[name] = value))}
          />
        ))}
      </div>
      <Row label="Register">
        <Choice
          label={`${spoken} register`}
          value={own.offset_register ?? ''}
          options={[
            { value: '', label: 'the next free' },
            ...props.registers.map((one) => ({ value: one, label: one })),
          ]}
          choose={(value) =>
            void edit(value || 'next register', (mine) => (mine.offset_register = value || null))
          }
        />
      </Row>
      <Row label="Cut there">
        <span className="flex flex-col" role="group" aria-label={`${spoken} operations`}>
          {setup.operations.map((one) => (
            <label key={one.id} className="flex items-center gap-1">
              <input
                type="checkbox"
                className="accent-action"
                checked={!own.left_out.includes(one.id)}
                onChange={() =>
                  void edit(one.name, (mine) => {
                    mine.left_out = mine.left_out.includes(one.id)
                      ? mine.left_out.filter((id) => id !== one.id)
                      : [...mine.left_out, one.id]
                  })
                }
              />
              {one.name}
            </label>
          ))}
        </span>
      </Row>
      {own.added.map((one) => (
        <Added
          key={one.id}
          plan={project.plan}
          operation={one}
          spoken={spoken}
          change={(what, next) =>
            edit(`${one.name}: ${what}`, (mine) => {
              const there = mine.added.find((other) => other.id === one.id)
              if (there) next(there)
            })
          }
          drop={() =>
            void edit(`without ${one.name}`, (mine) => {
              mine.added = mine.added.filter((other) => other.id !== one.id)
            })
          }
        />
      ))}
      <Row label="And again" help="One of any setup’s operations, cut there after the others">
        <Choice
          label={`${spoken} operation more`}
          value=""
          options={[
            { value: '', label: 'nothing more' },
            ...project.plan.setups.flatMap((from) =>
              from.operations.map((one) => ({
                value: `${from.name} ${one.id}`,
                label: one.name,
                note: from.name,
              })),
            ),
          ]}
          choose={(value) => {
            const [from, id] = value.split(' ')
            const one = project.plan.setups
              .find((other) => other.name === from)
              ?.operations.find((other) => other.id === id)
            if (one)
              void edit(`and ${one.name}`, (mine) =>
                mine.added.push({ ...structuredClone(one), id: fresh(one.id), group: null }),
              )
          }}
        />
      </Row>
      <Row label="Begins with">
        <Segments
          label={`${spoken} begins with`}
          value={own.stock ? 'own' : 'carried'}
          options={[
            { value: 'carried', label: 'as the others' },
            { value: 'own', label: 'its own, measured' },
          ]}
          choose={(value) =>
            void edit(`stock ${value}`, (mine) => {
              mine.stock =
                value === 'own' ? ({ kind: 'block', material: project.plan.billet.material } as Billet) : null
            })
          }
        />
      </Row>
      {own.stock && (
        <ShapeFields
          project={project}
          part={part}
          shape={own.stock}
          hand={{
            change: (what, next) =>
              edit(`stock ${what}`, (mine) => {
                if (mine.stock) next(mine.stock)
              }),
            typing: () => undefined,
          }}
          lies={undefined}
          label={`${spoken} kind of stock`}
          replace={(what, next) => edit(`stock ${what}`, (mine) => (mine.stock = next))}
        />
      )}
    </>
  )
}
