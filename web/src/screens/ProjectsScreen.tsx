import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import {
  answered,
  api,
  type PartState,
  pieceUrl,
  type Problem,
  problemOf,
  type ProjectLine,
  type ProjectState,
  Refusal,
} from '../api/client'
import { posted, sendFile, usePart, useProjects, useUpload } from '../api/hooks'
import { clock, round } from '../ui/words'
import { sentence } from '../ui/Field'
import { FileInput } from '../ui/FileInput'

/** The list of projects and the way in for a new part. */
export function ProjectsScreen() {
  const [archived, setArchived] = useState(false)
  const { data: projects } = useProjects(archived)
  return (
    <div className="mx-auto flex h-full max-w-5xl flex-col px-8 py-10">
      <h1 className="font-head text-3xl font-semibold">Pelvrak</h1>
      <p className="mb-8 text-soft">
        One part, its whole route: billet, setups, stock carried from each to the next.
      </p>
      <div className="grid grid-cols-[minmax(0,1fr)_20rem] gap-10">
        <section aria-label="Projects">
          <div className="mb-2 flex items-baseline justify-between">
            <h2 className="font-head text-lg font-semibold">{archived ? 'Put away' : 'On the bench'}</h2>
            <button type="button" className="text-action underline" onClick={() => setArchived(!archived)}>
              {archived ? 'back to the bench' : 'what was put away'}
            </button>
          </div>
          <ul className="border-t border-rule">
            {projects?.map((project) => (
              <ProjectRow key={project.id} project={project} />
            ))}
          </ul>
          {projects?.length === 0 && (
            <p className="py-3 text-soft">
              {archived ? 'Nothing was put away.' : 'Nothing yet. Bring in a part on the right.'}
            </p>
          )}
        </section>
        <div>
          <NewPart />
          <NewPlan />
        </div>
      </div>
    </div>
  )
}

/** One project of the list, with what can be done with it as a whole. */
function ProjectRow({ project }: { project: ProjectLine }) {
  const queries = useQueryClient()
  const [naming, setNaming] = useState<string | null>(null)
  const [sure, setSure] = useState(false)
  const [problem, setProblem] = useState<Problem | null>(null)
  const path = { params: { path: { project_id: project.id } } }
  const done = async (call: Promise<{ data?: unknown; error?: unknown; response: Response }>) => {
    const { error, response } = await call
    setProblem(response.ok ? null : problemOf(error))
    setNaming(null)
    setSure(false)
    await queries.invalidateQueries({ queryKey: ['projects'] })
    await queries.invalidateQueries({ queryKey: ['project', project.id] })
  }
  const change = (body: { name?: string; archived?: boolean }) =>
    void done(api.PATCH('/api/projects/{project_id}', { ...path, body }))
  return (
    <li className="border-b border-rule">
      <div className="flex items-center gap-1">
        <Link
          to={`/project/${project.id}`}
          className="flex min-w-0 grow items-center gap-4 py-2 hover:bg-rail"
        >
          <span className="h-20 w-20 shrink-0 overflow-hidden bg-rail">
            {project.still && (
              <img src={pieceUrl(project.still, 'still.png')} alt="" className="h-full w-full object-cover" />
            )}
          </span>
          <span className="min-w-0 grow">
            <span className="block text-[15px] font-semibold">{project.name}</span>
            <span className="figures block truncate text-soft">{project.part}</span>
          </span>
          <span className="figures shrink-0 whitespace-nowrap pr-2 text-right text-soft">
            {project.setups} {project.setups === 1 ? 'setup' : 'setups'}
            {project.positions > 0 && ` · ${project.positions} turned`}
            {project.registers > 0 &&
              ` · ${project.registers} ${project.registers === 1 ? 'register' : 'registers'}`}
            <br />
            {project.time_s != null && `${clock(project.time_s)} min`}
            {project.left_mm3 != null && ` · ${round(project.left_mm3 / 1000, 2)} cm³ left`}
            <br />
            plan revision {project.revision}
            {project.status === 'running' && ' · computing'}
            {project.status === 'queued' && ' · waiting'}
          </span>
        </Link>
        <Menu>
          <MenuButton aria-label={`More for ${project.name}`} className="knob shrink-0 !px-2">
            ⋯
          </MenuButton>
          <MenuItems
            anchor="bottom end"
            className="z-30 min-w-40 rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
          >
            <Item act={() => setNaming(project.name)}>Rename</Item>
            <Item act={() => void done(api.POST('/api/projects/{project_id}/copy', path))}>Copy</Item>
            <Item act={() => change({ archived: !project.archived })}>
              {project.archived ? 'Back to the bench' : 'Put away'}
            </Item>
            {project.archived && <Item act={() => setSure(true)}>Delete for good …</Item>}
          </MenuItems>
        </Menu>
      </div>
      {naming !== null && (
        <form
          className="flex gap-2 pb-2"
          onSubmit={(event) => {
            event.preventDefault()
            change({ name: naming.trim() })
          }}
        >
          <input
            autoFocus
            aria-label={`New name of ${project.name}`}
            className="grow rounded-[3px] border border-rule bg-white px-2 py-1"
            value={naming}
            maxLength={80}
            onChange={(event) => setNaming(event.target.value)}
          />
          <button type="submit" className="knob-go" disabled={!naming.trim()}>
            Rename
          </button>
          <button type="button" className="knob" onClick={() => setNaming(null)}>
            Leave it
          </button>
        </form>
      )}
      {sure && (
        <div
          role="alert"
          className="mb-2 flex items-center gap-2 border border-l-4 border-trouble bg-sheet px-3 py-2"
        >
          <span className="grow">
            {project.name} and its {project.revision} revisions go for good.
          </span>
          <button
            type="button"
            className="knob"
            onClick={() => void done(api.DELETE('/api/projects/{project_id}', path))}
          >
            Delete it
          </button>
          <button type="button" className="knob" onClick={() => setSure(false)}>
            Keep it
          </button>
        </div>
      )}
      {problem && <Trouble problem={problem} />}
    </li>
  )
}

function Item({ act, children }: { act: () => void; children: ReactNode }) {
  return (
    <MenuItem>
      <button type="button" className="block w-full px-3 py-1 text-left data-focus:bg-rail" onClick={act}>
        {children}
      </button>
    </MenuItem>
  )
}

const Trouble = ({ problem }: { problem: Problem }) => (
  <div role="alert" className="hatch mt-3 mb-2 border border-l-4 border-trouble bg-sheet px-3 py-2">
    <div className="figures text-[12px] text-soft">{problem.where}</div>
    {sentence(problem)}
  </div>
)

/** A plan document from a file; its part has to be here. */
function NewPlan() {
  const queries = useQueryClient()
  const go = useNavigate()
  const [problem, setProblem] = useState<Problem | null>(null)
  const bring = async (file: File | undefined) => {
    if (!file) return
    const state = await posted<ProjectState>('/api/projects/plan.json', file)
    if (!('id' in state)) {
      setProblem(state)
      return
    }
    queries.setQueryData(['project', state.id], state)
    void queries.invalidateQueries({ queryKey: ['projects'] })
    void go(`/project/${state.id}`)
  }
  return (
    <section aria-label="Plan in" className="mt-6">
      <label className="block rounded-[3px] border border-dashed border-soft bg-sheet px-4 py-3 text-center hover:border-action">
        <span className="font-medium text-action">Choose a plan document</span>
        <span className="block text-soft">plan.json of a part that is here</span>
        <FileInput label="Plan document" accept=".json" take={bring} />
      </label>
      {problem && <Trouble problem={problem} />}
    </section>
  )
}

const UNITS = ['mm', 'cm', 'm', 'in', 'ft'] as const

function NewPart() {
  const queries = useQueryClient()
  const go = useNavigate()
  const [sha256, setSha256] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [name, setName] = useState('')
  const { data: upload } = useUpload(sha256)
  const bring = async (file: File | undefined) => {
    if (!file) return
    setProblem(null)
    setSha256(null)
    setName(file.name.replace(/\.[^.]*$/, ''))
    took(await sendFile(file))
  }
  const took = (state: PartState | Problem) => {
    if (!('sha256' in state)) {
      setProblem(state)
      return
    }
    queries.setQueryData(['part', state.sha256], state)
    setSha256(state.sha256)
  }
  /** One solid of the file, or the file in another unit, becomes a part of its own. */
  const choose = async (body: { solid?: number; unit?: 'mm' | 'cm' | 'm' | 'in' | 'ft' }) => {
    setProblem(null)
    try {
      took(
        await answered<PartState>(
          api.POST('/api/parts/{sha256}/choose', { params: { path: { sha256: sha256 ?? '' } }, body }),
        ),
      )
    } catch (refusal) {
      if (refusal instanceof Refusal) setProblem(refusal.problem)
    }
  }
  const { data: part } = usePart(upload?.status === 'ready' && upload.kind === 'part' ? sha256 : null)
  const create = async () => {
    try {
      const state = await answered<ProjectState>(
        api.POST('/api/projects', { body: { name, sha256: sha256 ?? '' } }),
      )
      queries.setQueryData(['project', state.id], state)
      void queries.invalidateQueries({ queryKey: ['projects'] })
      void go(`/project/${state.id}`)
    } catch (refusal) {
      if (refusal instanceof Refusal) setProblem(refusal.problem)
    }
  }
  const refused = problem ?? (upload?.status === 'refused' ? upload.problem : null)
  return (
    <section aria-label="New part">
      <h2 className="mb-2 font-head text-lg font-semibold">Part in</h2>
      <label
        className="block rounded-[3px] border border-dashed border-soft bg-sheet px-4 py-6 text-center hover:border-action"
        onDragOver={(event) => event.preventDefault()}
        onDrop={(event) => {
          event.preventDefault()
          void bring(event.dataTransfer.files[0])
        }}
      >
        <span className="font-medium text-action">Choose a part file</span>
        <span className="block text-soft">or drop it here · STEP, STL or 3MF · up to 64 MiB</span>
        <FileInput label="Part file" take={bring} />
      </label>
      {refused && <Trouble problem={refused} />}
      {upload?.status === 'reading' && <p className="mt-3 text-soft">Reading {upload.name} …</p>}
      {upload?.status === 'choose' && (
        <div className="mt-3">
          <p>{upload.name} holds several solids. Which is the part?</p>
          <ul aria-label="Solids" className="mt-1 border-t border-rule">
            {upload.choices?.map((one) => (
              <li key={one.number} className="border-b border-rule">
                <button
                  type="button"
                  className="flex w-full justify-between gap-3 py-1 text-left hover:bg-rail"
                  onClick={() => void choose({ solid: one.number })}
                >
                  <span className="font-medium text-action">{one.name}</span>
                  <span className="figures text-soft">
                    {one.size.map((c) => round(c, 1)).join(' × ')} · {(one.volume_mm3 / 1000).toFixed(2)} cm³
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </div>
      )}
      {part && upload?.status === 'ready' && (
        <p className="figures mt-3 text-action">
          {part.high.map((high, i) => round(high - (part.low[i] ?? 0), 3)).join(' × ')} mm
        </p>
      )}
      {(part?.unit.startsWith('none stated') || refused?.code === 'mesh.size') && (
        <div
          className="mt-1 flex flex-wrap items-center gap-1 text-[12.5px]"
          role="group"
          aria-label="Unit of the mesh"
        >
          <span className="text-soft">The mesh states no unit. It was drawn in</span>
          {UNITS.map((unit) => (
            <button
              key={unit}
              type="button"
              className={`knob !px-2 text-[12.5px] ${unit === 'mm' ? 'knob-on' : ''}`}
              onClick={() => unit !== 'mm' && void choose({ unit })}
            >
              {unit}
            </button>
          ))}
        </div>
      )}
      {upload?.status === 'ready' && upload.kind !== 'part' && (
        <p className="mt-3 text-trouble">
          {upload.name} holds a {upload.kind}: bring it in on the billet’s sheet.
        </p>
      )}
      {upload?.status === 'ready' && upload.kind === 'part' && !problem && (
        <form
          className="mt-3 flex flex-col gap-2"
          onSubmit={(event) => {
            event.preventDefault()
            void create()
          }}
        >
          <p>{upload.name} is read.</p>
          <input
            aria-label="Project name"
            className="rounded-[3px] border border-rule bg-white px-2 py-1"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <button type="submit" className="knob-go self-start" disabled={!name.trim()}>
            Start planning
          </button>
        </form>
      )}
    </section>
  )
}
