import { useState } from 'react'
import type { FaceRef, Fixture, HoldItem } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { useFields } from '../../state/fields'
import { useEditing } from '../../state/editing'
import { useShown } from '../../state/picture'
import { Choice, Segments } from '../../ui/Choice'
import { NumberRow, Row } from '../../ui/Field'
import { Form, type Widget } from '../../ui/Form'
import type { SheetProps } from '../sheet'
import { machineOf } from '../reach/registers'
import { Mates } from './Mates'
import { AS_USUAL, askedOf, formOf, sizes } from './fixtures'

/** The holding in the order it is built up; each line opens to what can be said of it. */
export function BuildList(props: SheetProps & { fixtures: Fixture[] }) {
  const { setup, edit, fixtures } = props
  const view = useFields(useShown, 'litItem')
  const [open, setOpen] = useState<string | null>(null)
  const { items } = setup.hold
  if (items.length === 0)
    return setup.makes ? null : <p className="py-1 text-soft">Nothing holds the work yet.</p>
  const move = (index: number, by: number) =>
    edit('build order', (own) => {
      const [one] = own.hold.items.splice(index, 1)
      if (one) own.hold.items.splice(index + by, 0, one)
    })
  return (
    <ol aria-label="Build order" className="border-b border-rule">
      {items.map((item, index) => {
        const fixture = fixtures.find((one) => one.id === item.fixture)
        const shown = open === item.id
        return (
          <li
            key={item.id}
            className={`border-t border-rule ${view.litItem === item.id ? 'bg-rail' : ''}`}
            onMouseEnter={() => useShown.setState({ litItem: item.id })}
            onMouseLeave={() => useShown.setState({ litItem: null })}
          >
            <button
              type="button"
              aria-expanded={shown}
              className="grid w-full grid-cols-[1.3rem_minmax(0,1fr)_auto] items-baseline gap-x-1 py-1 text-left"
              onClick={() => setOpen(shown ? null : item.id)}
            >
              <span className="figures text-soft">{index + 1}</span>
              <span className="truncate">
                <span className="font-semibold">{fixture?.name ?? item.fixture}</span>
                {item.cut && <span className="text-soft"> cut to the work</span>}
              </span>
              <span className="figures text-[12px] text-soft">
                on {item.on}
                {item.height != null && ` · ${item.height}`}
              </span>
            </button>
            {shown && (
              <div className="mb-2 border-l-2 border-action/40 pl-2">
                <ItemFields {...props} item={item} fixture={fixture} index={index} />
                <div className="mt-1 flex gap-1.5">
                  <button
                    type="button"
                    className="knob text-[12.5px]"
                    disabled={index === 0}
                    onClick={() => void move(index, -1)}
                  >
                    Earlier
                  </button>
                  <button
                    type="button"
                    className="knob text-[12.5px]"
                    disabled={index === items.length - 1}
                    onClick={() => void move(index, 1)}
                  >
                    Later
                  </button>
                  <button
                    type="button"
                    className="knob text-[12.5px]"
                    onClick={() =>
                      void edit(`${item.id} removed`, (own) => {
                        const gone = new Set([item.id])
                        for (const one of own.hold.items) if (gone.has(one.on)) gone.add(one.id)
                        own.hold.items = own.hold.items.filter((one) => !gone.has(one.id))
                        own.hold.work.pinned = own.hold.work.pinned.filter((one) => !gone.has(one.pin))
                        if (own.hold.work.on && gone.has(own.hold.work.on)) own.hold.work.on = null
                      })
                    }
                  >
                    Remove
                  </button>
                </div>
              </div>
            )}
          </li>
        )
      })}
    </ol>
  )
}

/** Kinds that stand where the work or the vise lets them. */
const MOVES = ['jaws', 'parallels', 'clamp', 'bolt', 'stop', 'tailstock']

function ItemFields(
  props: SheetProps & { item: HoldItem; fixture: Fixture | undefined; fixtures: Fixture[]; index: number },
) {
  const { item, fixture, fixtures, setup, edit } = props
  const { data: library } = useLibrary()
  const form = fixture && formOf(library, fixture.kind)
  const change = (what: string, then: (own: HoldItem) => void) =>
    edit(`${item.id} ${what}`, (own) => {
      const mine = own.hold.items.find((one) => one.id === item.id)
      if (mine) then(mine)
    })
  const same = fixtures.filter((one) => one.kind === fixture?.kind)
  const before = setup.hold.items.slice(
    0,
    setup.hold.items.findIndex((one) => one.id === item.id),
  )
  const table =
    item.on === 'table' && !item.mates?.length
      ? machineOf(props.plan, library?.machines, setup.machine)?.table
      : null
  const slots =
    table?.slots && !MOVES.includes(fixture?.kind ?? '')
      ? Array.from(
          { length: table.slots.count },
          (_, i) => (table.slots?.first ?? 0) + i * (table.slots?.pitch ?? 0),
        )
      : null
  const kindOf = (one: HoldItem) => fixtures.find((f) => f.id === one.fixture)?.kind
  const onPlate = before.some((one) => one.id === item.on && kindOf(one) === 'plate')
  const typed = (field: string, value: unknown) => ({
    ...setup.hold,
    items: setup.hold.items.map((one) => (one.id === item.id ? { ...one, [field]: value } : one)),
  })
  const widgets: Record<string, Widget> = {
    heights: (name, field) =>
      fixture && 'heights' in fixture ? (
        <Row label={field.title ?? name} help={field.description}>
          <Choice
            label={`${item.id} height`}
            value={item.height ?? fixture.heights[0] ?? 0}
            options={fixture.heights.map((one) => ({ value: one, label: `${one} mm` }))}
            choose={(height) => void change(`${height} high`, (own) => (own.height = height))}
          />
        </Row>
      ) : null,
    'other jaw': (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Choice
          label={`${item.id} front jaw`}
          value={item.moving ?? ''}
          options={[
            { value: '', label: 'as at the back' },
            ...same
              .filter((one) => one.id !== item.fixture)
              .map((one) => ({ value: one.id, label: one.name })),
          ]}
          choose={(id) => void change('front jaw', (own) => (own.moving = id || null))}
        />
      </Row>
    ),
    hole: (name, field) => (
      <HoleRow
        label={field.title ?? name}
        prompt={field['x-pick'] ?? ''}
        hole={item.into}
        take={(ref) => void change('into a hole', (own) => (own.into = ref))}
      />
    ),
    cut: (name, field) => (
      <Row label={field.title ?? name} help={field.description}>
        <Segments
          label={`${item.id} shape`}
          value={item.cut ? 'cut' : 'plain'}
          options={[
            { value: 'plain', label: 'as bought' },
            { value: 'cut', label: 'cut to the work' },
          ]}
          choose={(shape) =>
            void change(shape, (own) => (own.cut = shape === 'cut' ? { ...AS_USUAL } : null))
          }
        />
      </Row>
    ),
  }
  return (
    <>
      <Row
        label="Which"
        below={fixture && <span className="figures text-[11.5px] text-soft">{sizes(library, fixture)}</span>}
      >
        <Choice
          label={`${item.id} fixture`}
          value={item.fixture}
          options={same.map((one) => ({ value: one.id, label: one.name }))}
          choose={(id) => void change(`is ${id}`, (own) => (own.fixture = id))}
        />
      </Row>
      <Row label="Stands on">
        <Choice
          label={`${item.id} stands on`}
          value={item.on}
          options={['table', ...before.map((one) => one.id)].map((id) => ({ value: id, label: id }))}
          choose={(id) => void change(`on ${id}`, (own) => (own.on = id))}
        />
      </Row>
      {slots && (
        <Row label="Table slot" help="its origin over the middle of a slot, from the front edge">
          <Choice
            label={`${item.id} slot`}
            value={slots.findIndex((y) => Math.abs(y - (item.y ?? 0)) < 1e-6)}
            options={[
              { value: -1, label: 'beside the slots' },
              ...slots.map((y, i) => ({ value: i, label: `${i + 1}, at Y ${y}` })),
            ]}
            choose={(i) => {
              const y = slots[i]
              if (y !== undefined) void change(`in slot ${i + 1}`, (own) => (own.y = y))
            }}
          />
        </Row>
      )}
      {onPlate && (
        <>
          <NumberRow
            label="Hole column"
            name={`${item.id} hole column`}
            value={item.hole?.[0] ?? null}
            unit=""
            measure="mm"
            clear={() => change('beside the holes', (own) => (own.hole = null))}
            commit={(value) => change('hole', (own) => (own.hole = [Math.round(value), own.hole?.[1] ?? 0]))}
          />
          <NumberRow
            label="Hole row"
            name={`${item.id} hole row`}
            value={item.hole?.[1] ?? null}
            unit=""
            measure="mm"
            commit={(value) => change('hole', (own) => (own.hole = [own.hole?.[0] ?? 0, Math.round(value)]))}
          />
        </>
      )}
      {form && library && (
        <Form
          schema={askedOf(library, form, fixture)}
          prefix={item.id}
          values={item}
          others={fixture}
          widgets={widgets}
          write={(field, value) =>
            change(form.asks[field] ?? field, (own) => Object.assign(own, { [field]: value }))
          }
          typing={(field, value) =>
            useEditing.setState({ typedHold: value === null ? null : typed(field, value) })
          }
        />
      )}
      {fixture && !MOVES.includes(fixture.kind) && <Mates {...props} change={change} />}
      {form?.asks.pinned && (
        <HoleRow
          label={form.asks.pinned}
          prompt="Which hole of the work goes on this pin?"
          hole={setup.hold.work.pinned.find((one) => one.pin === item.id)?.hole}
          take={(ref) =>
            void edit(`hole on ${item.id}`, (own) => {
              own.hold.work.pinned = [
                ...own.hold.work.pinned.filter((one) => one.pin !== item.id),
                { hole: ref, pin: item.id },
              ]
            })
          }
        />
      )}
      {!fixture && <p className="text-trouble">{item.fixture}: not in the library.</p>}
    </>
  )
}

/** A hole of the part, picked in the picture. */
function HoleRow(props: {
  label: string
  prompt: string
  hole: FaceRef | null | undefined
  take: (hole: FaceRef) => void
}) {
  return (
    <Row label={props.label}>
      <button
        type="button"
        className="knob text-[12.5px]"
        onClick={() =>
          useAsking.setState({
            asked: {
              kind: 'face',
              prompt: props.prompt,
              serves: (face) => (face.kind === 'cylinder' && face.hollow ? null : 'not the wall of a hole'),
              take: props.take,
            },
          })
        }
      >
        {props.hole ? `hole F${props.hole.face}` : 'pick a hole'}
      </button>
    </Row>
  )
}
