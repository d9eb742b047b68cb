import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Load, type Problem, type ProjectLine, type ProjectState } from '../api/client'
import { Choice } from '../ui/Choice'
import { Refused } from '../ui/Refused'
import { freshStand } from './fresh'
import { PatternFields } from './PatternFields'

type Guest = Load['guests'][number]

/** Setups of other projects that stand in the load, as they are planned there. */
export function Guests(props: {
  project: ProjectState
  load: Load
  change: (what: string, edit: (load: Load) => void) => Promise<Problem | null>
}) {
  const { project, load, change } = props
  const [asking, setAsking] = useState(false)
  return (
    <section aria-label="Guests" className="mb-2 text-[12.5px]">
      {load.guests.map((guest, n) => (
        <div
          key={guest.name}
          role="group"
          aria-label={`Guest ${guest.name}`}
          className="mb-1 border-l-4 border-rule pl-2"
        >
          <div className="flex items-baseline gap-2">
            <span className="font-semibold">
              {guest.name}.{guest.setup}
            </span>
            <a className="text-action underline" href={`/project/${guest.plan}`}>
              its project
            </a>
            <span className="grow" />
            <button
              type="button"
              className="text-soft underline"
              onClick={() => void change(`without ${guest.name}`, (draft) => draft.guests.splice(n, 1))}
            >
              take out
            </button>
          </div>
          <PatternFields
            called={guest.name}
            stand={guest}
            change={(what, edit) =>
              change(`guest ${what}`, (draft) => {
                const mine = draft.guests[n]
                if (mine) edit(mine)
              })
            }
          />
        </div>
      ))}
      {asking ? (
        <Another project={project} load={load} change={change} leave={() => setAsking(false)} />
      ) : (
        <button type="button" className="knob" onClick={() => setAsking(true)}>
          + a setup of another project
        </button>
      )}
    </section>
  )
}

/** Which project, and which of its setups. */
function Another(props: {
  project: ProjectState
  load: Load
  change: (what: string, edit: (load: Load) => void) => Promise<Problem | null>
  leave: () => void
}) {
  const { project, load, change, leave } = props
  const [chosen, setChosen] = useState(0)
  const [problem, setProblem] = useState<Problem | null>(null)
  const { data: lines } = useQuery({
    queryKey: ['projects', 'for guests'],
    queryFn: () => answered<ProjectLine[]>(api.GET('/api/projects')),
  })
  const { data: other } = useQuery({
    queryKey: ['project', 'guest', chosen],
    queryFn: () =>
      answered<ProjectState>(
        api.GET('/api/projects/{project_id}', { params: { path: { project_id: chosen } } }),
      ),
    enabled: chosen > 0,
  })
  const others = (lines ?? []).filter((one) => one.id !== project.id)
  const take = async (setup: string) => {
    const names = load.guests.map((one) => one.name)
    const name = ['P', 'Q', 'R', 'S', 'T', 'U', 'V', 'W', 'Y', 'Z'].find((one) => !names.includes(one)) ?? 'P'
    const guest: Guest = { ...freshStand(setup), name, plan: String(chosen) }
    const wrong = await change(`guest ${setup}`, (draft) => draft.guests.push(guest))
    setProblem(wrong)
    if (!wrong) leave()
  }
  return (
    <div className="grid gap-1.5 border-l-4 border-rule pl-2">
      <Choice
        label="Project of the guest"
        value={String(chosen)}
        options={[
          { value: '0', label: others.length ? 'which project?' : 'there is no other project' },
          ...others.map((one) => ({ value: String(one.id), label: one.name })),
        ]}
        choose={(value) => setChosen(Number(value))}
      />
      {other?.id === chosen && (
        <Choice
          label="Setup of the guest"
          value=""
          options={[
            { value: '', label: 'which setup?' },
            ...other.plan.setups
              .filter((one) => !one.makes)
              .map((one) => ({ value: one.name, label: one.name, note: one.title })),
          ]}
          choose={(value) => value && void take(value)}
        />
      )}
      <Refused problem={problem} />
      <button type="button" className="knob justify-self-start" onClick={leave}>
        Leave
      </button>
    </div>
  )
}
