import { useState } from 'react'
import {
  answered,
  api,
  type Cure,
  type Problem,
  problemInstead,
  type ProjectState,
  type Tried,
} from '../api/client'

const counted = (many: number, one: string) => (many === 1 ? `1 ${one}` : `${many} ${one}s`)

/** What is left of a setup's findings, in words. */
function leftOf(tried: Tried) {
  const of = (severity: string) => tried.left.filter((one) => one.severity === severity).length
  return `${counted(of('error'), 'error')}, ${counted(of('warning'), 'warning')}`
}

/** A cure, and before it is taken what it would change and leave. */
export function Tryable(props: {
  project: ProjectState
  setup: string | null
  cure: Cure
  take: () => void
}) {
  const { project, setup, cure, take } = props
  const [told, setTold] = useState<{ revision: number; of: Tried | Problem | null } | null>(null)
  // What was told of another revision says nothing of this one.
  const now = told?.revision === project.revision ? told : null
  const look = async (name: string) => {
    const { revision } = project
    if (now) {
      setTold(null)
      return
    }
    setTold({ revision, of: null })
    const of = await answered<Tried>(
      api.POST('/api/projects/{project_id}/tried/{setup}', {
        params: { path: { project_id: project.id, setup: name } },
        body: { edits: cure.edits },
      }),
    ).catch(problemInstead)
    setTold((asked) => (asked?.revision === revision ? { revision, of } : asked))
  }
  return (
    <>
      <span className="flex">
        <button type="button" className="knob-go text-[12.5px]" onClick={take}>
          {cure.label}
        </button>
        {setup && (
          <button
            type="button"
            aria-expanded={now !== null}
            aria-label="What it would leave"
            title="What it changes, and what it would leave"
            className="knob !border-l-0 !px-1.5 text-[12.5px]"
            onClick={() => void look(setup)}
          >
            ?
          </button>
        )}
      </span>
      {now && (
        <div className="w-full border-l-2 border-action/40 pl-2 text-[12.5px] leading-snug">
          {now.of === null ? (
            <span className="text-soft">being tried …</span>
          ) : 'what' in now.of ? (
            <span className="text-trouble">{now.of.what}</span>
          ) : (
            <>
              {now.of.changes.map((one) => (
                <div key={one}>{one}</div>
              ))}
              <div>
                leaves {leftOf(now.of)} in {setup}
                {now.of.new.length === 0 && <span className="text-soft">, nothing new</span>}
              </div>
              {now.of.new.map((one) => (
                <div key={one.code + one.sentence} className="text-trouble">
                  new: {one.sentence}
                </div>
              ))}
            </>
          )}
        </div>
      )}
    </>
  )
}
