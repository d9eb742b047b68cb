import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Load, type Problem, type ProjectLine, type ProjectState } from '../api/client'
import { Choice } from '../ui/Choice'
import { NumberField } from '../ui/Field'
import { Refused } from '../ui/Refused'
import { freshStand } from './fresh'

type Guest = Load['guests'][number]

/** Setups of other projects that stand in the load, as they are planned there. */
export function Guests(props: {
  project: ProjectState
  load: Load
  change: (what: string, edit: (load: Load) => void) => Promise<Problem | null>
}) {
  const { project, load, change } = props
  const [asking, setAsking] = useState(false)
  const edit = (at: number, what: string, next: (guest: Guest) => void) =>
    change(`guest ${what}`, (draft) => {
      const mine = draft.guests[at]
      if (mine) next(mine)
    })
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
          <div className="grid grid-cols-[4.6rem_1fr_1fr] items-center gap-x-2 gap-y-1 py-1">
            {(
              [
                ['along X', 'columns', 'pitch_x'],
                ['along Y', 'rows', 'pitch_y'],
                ['first at', 'at_x', 'at_y'],
              ] as const
            ).map(([label, ...fields]) => (
              <GuestRow key={label} label={label}>
                {fields.map((field) => (
                  <NumberField
                    key={field}
                    label={`${guest.name} ${field.replace('_', ' ')}`}
                    value={guest[field]}
                    unit={field === 'columns' || field === 'rows' ? '' : 'mm'}
                    commit={(value) =>
                      edit(n, field, (mine) => {
                        mine[field] = field === 'columns' || field === 'rows' ? Math.round(value) : value
                        if (field === 'columns' && value > 1 && !mine.pitch_x) mine.pitch_x = 150
                        if (field === 'rows' && value > 1 && !mine.pitch_y) mine.pitch_y = 150
                      })
                    }
                  />
                ))}
              </GuestRow>
            ))}
          </div>
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

const GuestRow = ({ label, children }: { label: string; children: React.ReactNode }) => (
  <>
    <span className="text-soft">{label}</span>
    {children}
  </>
)

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
