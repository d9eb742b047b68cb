import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import {
  answered,
  api,
  type Fixture,
  type FixtureForm,
  type Plan,
  type Problem,
  problemOf,
} from '../../api/client'
import { posted, sendFile, useFixtures, useLibrary } from '../../api/hooks'
import { FileInput } from '../../ui/FileInput'
import { freeId } from '../../ui/free'
import { LibraryDialog } from '../../ui/LibraryDialog'
import { Form, schemaOf, type Write } from '../../ui/Form'
import { formOf, sizes } from './fixtures'

/** The shop's fixtures with pictures and sizes: take one, copy and change one, bring in and save the library. */
export function FixtureLibrary(props: { plan: Plan; take: (fixture: Fixture) => void; close: () => void }) {
  const { data } = useFixtures()
  const { data: library } = useLibrary()
  const queries = useQueryClient()
  const [kind, setKind] = useState('all')
  const [text, setText] = useState('')
  const [editing, setEditing] = useState<Fixture | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const taken = (rows: Fixture[]) => {
    queries.setQueryData(['fixtures'], rows)
    setProblem(null)
    setEditing(null)
  }
  const put = async (rows: Fixture[]) => {
    try {
      taken(await answered<Fixture[]>(api.PUT('/api/fixtures', { body: rows })))
    } catch (refusal) {
      setProblem(problemOf((refusal as { problem?: unknown }).problem))
    }
  }
  const bring = async (file: File | undefined) => {
    if (!file) return
    const rows = await posted<Fixture[]>('/api/fixtures.json', file)
    if (Array.isArray(rows)) taken(rows)
    else setProblem(rows)
  }
  const bringSolid = async (file: File | undefined) => {
    if (!file || !data) return
    const sent = await sendFile(file)
    if ('what' in sent) {
      setProblem(sent)
      return
    }
    let state = sent
    for (let i = 0; i < 120 && state.status === 'reading'; i += 1) {
      await new Promise((done) => setTimeout(done, 500))
      state = await answered(api.GET('/api/parts/{sha256}', { params: { path: { sha256: state.sha256 } } }))
    }
    if (state.status !== 'ready') {
      setProblem(
        state.problem ?? {
          code: 'part.several_solids',
          where: file.name,
          what: `the file holds ${state.choices?.length ?? 'no'} solids`,
          mend: 'save the one fixture by itself',
        },
      )
      return
    }
    const id =
      file.name
        .replace(/\.[^.]*$/, '')
        .replace(/[^A-Za-z0-9_.-]/g, '-')
        .slice(0, 40) || 'own'
    await put([
      ...data.filter((one) => one.id !== id),
      { kind: 'own', id, name: file.name.slice(0, 60), maker: '', file: file.name, sha256: state.sha256 },
    ])
  }
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const shown = data?.filter(
    (one) =>
      (kind === 'all' || one.kind === kind) &&
      words.every((word) => `${one.name} ${one.id} ${sizes(library, one)}`.toLowerCase().includes(word)),
  )
  const kinds = [...new Set(data?.map((one) => one.kind))]
  const form = editing && formOf(library, editing.kind)
  const file = (label: string, accept: string, then: (file: File | undefined) => Promise<void>) => (
    <label className="cursor-pointer text-action underline">
      {label}
      <FileInput label={label} accept={accept} take={then} />
    </label>
  )
  return (
    <LibraryDialog
      title="What is there to hold with"
      wide="1040px"
      columns="9.5rem minmax(0, 1fr)"
      close={props.close}
      problem={problem}
      search={{ label: 'Search fixtures', hint: '120°, M12, soft …', text, type: setText }}
      kinds={{
        label: 'Kinds',
        all: kinds.map((one) => ({ value: one, called: formOf(library, one)?.several ?? one })),
        chosen: kind,
        choose: setKind,
      }}
      actions={
        <>
          <a
            className="text-[12.5px] text-action underline"
            href="/api/fixtures.json"
            download="fixtures.json"
          >
            save the library
          </a>
          <span className="text-[12.5px]">{file('bring in a library', '.json', bring)}</span>
          <span className="text-[12.5px]">{file('bring in a solid', '.step,.stp,.stl', bringSolid)}</span>
        </>
      }
    >
      <div className="h-[520px] overflow-auto p-3">
        {editing && form ? (
          <EditFixture
            fixture={editing}
            form={form}
            ids={(data ?? []).map((one) => one.id)}
            save={(next) => void put([...(data ?? []).filter((one) => one.id !== next.id), next])}
            remove={() => void put((data ?? []).filter((one) => one.id !== editing.id))}
            leave={() => setEditing(null)}
          />
        ) : (
          <ul aria-label="Fixtures" className="grid grid-cols-4 gap-2.5">
            {shown?.map((one) => (
              <li key={one.id} className="flex flex-col border border-rule bg-white">
                <button
                  type="button"
                  aria-label={`Take ${one.name}`}
                  className="text-left hover:bg-rail"
                  onClick={() => props.take(one)}
                >
                  <img
                    src={`/api/fixtures/${one.id}/picture.png?${encodeURIComponent(sizes(library, one))}`}
                    alt=""
                    loading="lazy"
                    className="h-28 w-full bg-rail object-contain"
                  />
                  <span className="block px-2 pt-1 font-semibold leading-tight">{one.name}</span>
                  <span className="figures block px-2 pb-1 text-[11.5px] leading-snug text-soft">
                    {sizes(library, one)}
                  </span>
                </button>
                <button
                  type="button"
                  className="mt-auto px-2 pb-1 text-left text-[12px] text-action underline"
                  onClick={() => setEditing(one)}
                >
                  change a copy
                </button>
              </li>
            ))}
            {shown?.length === 0 && <li className="text-soft">Nothing like that is here.</li>}
          </ul>
        )}
      </div>
    </LibraryDialog>
  )
}

/** Every size of a fixture as its kind asks for it, and the fixture as it would look. */
function EditFixture(props: {
  fixture: Fixture
  form: FixtureForm
  ids: string[]
  save: (fixture: Fixture) => void
  remove: () => void
  leave: () => void
}) {
  const [draft, setDraft] = useState<Record<string, unknown>>({
    ...props.fixture,
    // The one it is changed from keeps its own.
    id: freeId(props.fixture.id, [...props.ids, props.fixture.id]),
    name: `${props.fixture.name}, changed`.slice(0, 60),
  })
  // Drawn from what is typed: a size that cannot be is told beside its field and stays there.
  const write: Write = async (field, value) => {
    const next = { ...draft, [field]: value }
    try {
      const answer = await fetch(asTyped(next))
      if (!answer.ok) return problemOf(await answer.json())
    } catch (error) {
      return problemOf(error)
    }
    setDraft(next)
    return null
  }
  return (
    // No form of the browser's: Enter keeps a size, and does not put the fixture into the library.
    <div
      role="form"
      aria-label="Change a fixture"
      className="grid grid-cols-[minmax(0,1fr)_15rem] items-start gap-5"
    >
      <div>
        <Form schema={schemaOf(props.form.fields)} values={draft} write={write} />
        <div className="mt-3 flex gap-2">
          <button type="button" className="knob-go" onClick={() => props.save(draft as unknown as Fixture)}>
            Put it into the library
          </button>
          <button type="button" className="knob" onClick={props.remove}>
            Take “{props.fixture.name}” out of the library
          </button>
          <button type="button" className="knob" onClick={props.leave}>
            Back
          </button>
        </div>
      </div>
      <img src={asTyped(draft)} alt="The fixture as typed" className="w-full border border-rule bg-rail" />
    </div>
  )
}

const asTyped = (draft: Record<string, unknown>) =>
  `/api/fixtures/picture.png?fixture=${encodeURIComponent(JSON.stringify(draft))}`
