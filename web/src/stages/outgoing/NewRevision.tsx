import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Problem, type ProjectState, Refusal, type Revising } from '../../api/client'
import { answeredWith, sendFile, useUpload } from '../../api/hooks'
import { saving } from '../../state/editing'
import { round } from '../../ui/words'
import { FileInput } from '../../ui/FileInput'
import { Refused } from '../../ui/Refused'

/** Bring in a new revision of the part: what becomes of every reference, and which of them may follow. */
export function NewRevision({ project }: { project: ProjectState }) {
  const queries = useQueryClient()
  const [sha256, setSha256] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [take, setTake] = useState<string[]>([])
  const own = project.plan.part.revision
  const [name, setName] = useState(own.length === 1 ? String.fromCharCode(own.charCodeAt(0) + 1) : `${own}+`)
  const { data: upload } = useUpload(sha256)
  const ready = upload?.status === 'ready'
  const { data: table } = useQuery({
    queryKey: ['revise', project.id, project.revision, sha256],
    queryFn: () =>
      answered<Revising>(
        api.GET('/api/projects/{project_id}/revise', {
          params: { path: { project_id: project.id }, query: { sha256: sha256 ?? '' } },
        }),
      ),
    enabled: ready,
  })
  const use = async () => {
    try {
      const post = api.POST('/api/projects/{project_id}/revise', {
        params: { path: { project_id: project.id } },
        body: { based_on: project.revision, sha256: sha256 ?? '', revision: name, take },
      })
      await saving(answeredWith(queries, project.id, answered<ProjectState>(post)))
      setSha256(null)
      setTake([])
    } catch (refusal) {
      if (refusal instanceof Refusal) setProblem(refusal.problem)
    }
  }
  const refused = problem ?? (upload?.status === 'refused' ? upload.problem : null)
  const left = table?.references.filter(
    (one) => one.match.state !== 'kept' && !take.includes(one.path),
  ).length
  return (
    <section aria-label="New revision">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">New revision</h3>
      <label className="knob inline-block cursor-pointer">
        Choose its file
        <FileInput
          label="New revision’s file"
          take={async (file) => {
            if (!file) return
            setProblem(null)
            setTake([])
            const state = await sendFile(file)
            if ('sha256' in state) setSha256(state.sha256)
            else setProblem(state)
          }}
        />
      </label>
      {upload?.status === 'reading' && <span className="ml-2 text-soft">reading {upload.name} …</span>}
      <Refused problem={refused} />
      {ready && table && (
        <div className="mt-2 border border-rule bg-sheet px-2 py-1.5 text-[12.5px]">
          <p className="figures">
            {table.same
              ? 'Every face is as it was.'
              : `Faces: ${Object.entries(table.faces)
                  .filter(([, count]) => count)
                  .map(([state, count]) => `${count} ${state}`)
                  .join(', ')}${table.new_faces ? `, ${table.new_faces} new` : ''}`}
          </p>
          {table.old_size.join() !== table.new_size.join() && (
            <p className="figures text-soft">
              {table.old_size.map((c) => round(c, 2)).join(' × ')} →{' '}
              {table.new_size.map((c) => round(c, 2)).join(' × ')} mm
            </p>
          )}
          <ul aria-label="References" className="mt-1">
            {table.references.map((one) => {
              const { match } = one
              const sure = match.state === 'kept'
              return (
                <li key={one.path} className="grid grid-cols-[1fr_auto] gap-2 border-t border-rule py-0.5">
                  <label className="flex gap-1.5">
                    <input
                      type="checkbox"
                      className="accent-action"
                      aria-label={`Take ${one.what}`}
                      disabled={sure || match.new == null}
                      checked={sure || take.includes(one.path)}
                      onChange={(event) =>
                        setTake(
                          event.target.checked
                            ? [...take, one.path]
                            : take.filter((path) => path !== one.path),
                        )
                      }
                    />
                    <span>
                      {one.what}{' '}
                      <span className="figures text-soft">
                        {one.kind === 'face' ? 'F' : 'E'}
                        {one.old}
                        {match.new != null && ` → ${one.kind === 'face' ? 'F' : 'E'}${match.new}`}
                      </span>
                    </span>
                  </label>
                  <span className={sure ? 'text-action' : 'text-trouble'}>
                    {sure ? 'kept' : `${match.state}: ${match.sentence}`}
                  </span>
                </li>
              )
            })}
          </ul>
          <div className="mt-1.5 flex items-center gap-2">
            <input
              aria-label="Revision’s name"
              className="figures w-14 border border-rule bg-white px-1"
              value={name}
              onChange={(event) => setName(event.target.value)}
              onKeyDown={(event) => event.stopPropagation()}
            />
            <button type="button" className="knob-go" disabled={!name.trim()} onClick={() => void use()}>
              Plan on revision {name}
            </button>
          </div>
          {!!left && (
            <p className="mt-1 text-trouble">
              {left} {left === 1 ? 'reference stays' : 'references stay'} where{' '}
              {left === 1 ? 'it was' : 'they were'}, and will be found lost: tick what is meant, or pick it
              anew afterwards.
            </p>
          )}
        </div>
      )}
    </section>
  )
}
