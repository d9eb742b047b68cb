import { useState } from 'react'
import { answered, api, type Dialect, type MachineData, type Problem } from '../../api/client'
import { posted, useDialects, useKeptLibrary, useLibrary } from '../../api/hooks'
import { Choice } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Form, schemaOf, type Widget } from '../../ui/Form'
import { freeNumber } from '../../ui/free'
import { Refused } from '../../ui/Refused'
import { TextField } from '../../ui/TextField'
import { ownMachine } from '../reach/registers'
import type { SheetProps } from '../sheet'

const PLACES = [
  ['where', 'The text'],
  ['what', 'Moves and cycles'],
  ['program', 'What the control knows'],
] as const

/** In which dialect a machine's programs are written: one that ships, the shop's, or the plan's own, which can be edited. */
export function Dialects({ plan, commit, machine }: SheetProps & { machine: MachineData }) {
  const { data: library } = useLibrary()
  const { data: shop } = useDialects()
  const keep = useKeptLibrary()
  const [open, setOpen] = useState(false)
  const [problem, setProblem] = useState<Problem | null>(null)
  const shipped = library?.dialects ?? []
  const listed = [
    ...plan.dialects.map((one) => ({ one, from: 'of this plan' })),
    ...(shop ?? [])
      .filter((one) => !plan.dialects.some((own) => own.id === one.id))
      .map((one) => ({ one, from: 'the shop’s' })),
    ...shipped.map((one) => ({ one, from: '' })),
  ]
  const dialect = listed.find(({ one }) => one.id === machine.control.dialect)?.one
  const isOwn = plan.dialects.some((one) => one.id === dialect?.id)
  const take = (taken: Dialect) =>
    commit(`${machine.name}: written in ${taken.name}`, (draft) => {
      ownMachine(draft, machine, draft.setups).control.dialect = taken.id
      if (shipped.some((one) => one.id === taken.id)) return
      draft.dialects = [...draft.dialects.filter((one) => one.id !== taken.id), taken]
    })
  const bring = async (file: File | undefined) => {
    if (!file) return
    const read = await posted<Dialect>('/api/dialects.json', file)
    setProblem('kind' in read ? await take(read) : read)
  }
  /** The first change of one that ships makes the plan's own of it. */
  const change = (what: string, told: Partial<Dialect>) =>
    commit(`${dialect?.name}: ${what}`, (draft) => {
      let mine = draft.dialects.find((one) => one.id === dialect?.id)
      if (!mine && dialect) {
        const number = freeNumber((n) => listed.some(({ one }) => one.id === `${dialect.id}-own${n}`))
        mine = { ...dialect, id: `${dialect.id}-own${number}`, name: `${dialect.name}, ours` }
        draft.dialects.push(mine)
        ownMachine(draft, machine, draft.setups).control.dialect = mine.id
      }
      if (mine) Object.assign(mine, told)
    })
  const keepIt = async () => {
    if (!dialect) return
    const rows = await answered<Dialect[]>(api.GET('/api/dialects'))
    const others = rows.filter((one) => one.id !== dialect.id)
    setProblem(
      await keep('dialects', answered<Dialect[]>(api.PUT('/api/dialects', { body: [...others, dialect] }))),
    )
  }
  const kept = shop?.some((one) => JSON.stringify(one) === JSON.stringify(dialect))
  return (
    <>
      <Row label="Dialect" help="How the machine’s control is programmed; all setups on it are written so.">
        <Choice
          label="Dialect"
          value={dialect?.id ?? machine.control.dialect}
          options={listed.map(({ one, from }) => ({ value: one.id, label: one.name, note: from }))}
          choose={(id) => {
            const chosen = listed.find(({ one }) => one.id === id)?.one
            if (chosen) void take(chosen).then(setProblem)
          }}
        />
        <div className="flex flex-wrap gap-x-3 pt-0.5 text-[12.5px]">
          <button
            type="button"
            className="text-action underline"
            aria-expanded={open}
            aria-label={open ? 'Close the dialect' : 'Edit the dialect'}
            onClick={() => setOpen(!open)}
          >
            {open ? 'close' : 'edit'}
          </button>
          <label className="cursor-pointer text-action underline">
            bring in
            <FileInput label="Dialect file" accept=".json" take={bring} />
          </label>
          {dialect && (
            <a
              className="text-action underline"
              download={`${dialect.id}.json`}
              href={`data:application/json,${encodeURIComponent(JSON.stringify(dialect, null, 1))}`}
            >
              save
            </a>
          )}
          {isOwn && !kept && (
            <button type="button" className="text-action underline" onClick={() => void keepIt()}>
              keep for the shop
            </button>
          )}
        </div>
        <Refused problem={problem} where />
      </Row>
      {open && dialect && <Editor {...{ dialect, isOwn, change }} refused={setProblem} />}
    </>
  )
}

function Editor(props: {
  dialect: Dialect
  isOwn: boolean
  change: (what: string, told: Partial<Dialect>) => Promise<Problem | null>
  refused: (problem: Problem | null) => void
}) {
  const { dialect, change } = props
  const { data: library } = useLibrary()
  const form = library?.dialect_forms.find((one) => one.kind === dialect.kind)
  if (!form) return null
  const schema = schemaOf(form.fields)
  const values = dialect as unknown as Record<string, unknown>
  const lines: Widget = (name, field) => (
    <Row label={field.title ?? name} help={field.description}>
      {[...(values[name] as string[]), ''].map((line, at, all) => (
        <TextField
          key={at}
          label={`${field.title} ${at + 1}`}
          value={line}
          placeholder={at === all.length - 1 ? 'one more' : ''}
          commit={(text) => {
            const next = all.slice(0, -1)
            next.splice(at, 1, ...(text ? [text.toUpperCase()] : []))
            return change(field.title ?? name, { [name]: next })
          }}
        />
      ))}
    </Row>
  )
  /** What its calls run on the control, out of a file. */
  const programs: Widget = (name, field) => {
    const held = values[name] as string[]
    const numbers = held.flatMap((line) => /^[O:]\d+/.exec(line)?.[0] ?? [])
    return (
      <Row label={field.title ?? name} help={field.description}>
        <div className="figures">{numbers.join(' ') || 'none'}</div>
        <div className="flex gap-x-3">
          <label className="cursor-pointer text-action underline">
            bring in
            <FileInput
              label="Programs of the control"
              accept=".nc,.txt"
              take={async (file) => {
                if (!file) return
                const lines = (await file.text()).split(/\r?\n/).filter((line) => line.trim() && line !== '%')
                props.refused(await change(field.title ?? name, { [name]: lines }))
              }}
            />
          </label>
          {held.length > 0 && (
            <button
              type="button"
              className="text-action underline"
              onClick={() => void change(field.title ?? name, { [name]: [] })}
            >
              leave out
            </button>
          )}
        </div>
      </Row>
    )
  }
  return (
    <section aria-label="Dialect" className="mb-2 border border-rule bg-white/50 px-2.5 py-2 text-[12.5px]">
      <p className="text-soft">
        {form.called}
        {props.isOwn
          ? ', the plan’s own.'
          : ', as it ships or the shop keeps it: the first change makes a copy of it in this plan.'}
      </p>
      <Row label="Name">
        <TextField label="Dialect name" value={dialect.name} commit={(name) => change('name', { name })} />
      </Row>
      {PLACES.map(([place, title]) => (
        <div key={place}>
          <h4 className="mt-2 font-head font-semibold">{title}</h4>
          <Form
            schema={schema}
            place={place}
            prefix="Dialect"
            values={values}
            write={(field, value) => change(schema.properties[field]?.title ?? field, { [field]: value })}
            widgets={{ lines, programs }}
          />
        </div>
      ))}
    </section>
  )
}
