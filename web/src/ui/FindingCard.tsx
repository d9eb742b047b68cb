import { type Finding, type ProjectState, placeOf } from '../api/client'
import { useCure } from '../api/hooks'
import { Tryable } from './Tryable'
import { useShown } from '../state/picture'
import { STAGES, type Stage, choose, useRoute } from '../state/route'

const WORDS = { error: 'Error', warning: 'Warning', note: 'Note' }

/** One finding: what, how much against which limit, where, and what would cure it. */
export function FindingCard({ finding, project }: { finding: Finding; project: ProjectState }) {
  const cured = useCure(project)
  const grave = finding.severity !== 'note'
  const show = () => {
    const setup = project.plan.setups.findIndex((one) => one.name === finding.setup)
    const stage = STAGES.includes(finding.stage as Stage) ? (finding.stage as Stage) : 'incoming'
    if (finding.code.startsWith('billet')) choose('billet', 'incoming')
    else if (setup >= 0) choose(setup, stage)
    useRoute.setState({ operation: finding.operation ?? null })
    useShown.setState({ marked: placeOf(finding) })
  }
  return (
    <div
      className={`border px-3 py-2 ${grave ? 'border-l-4 border-trouble' : 'border-rule'} ${finding.severity === 'error' ? 'hatch' : ''} bg-sheet`}
    >
      <div className="flex items-baseline justify-between gap-3">
        <span className={`font-semibold ${grave ? 'text-trouble' : ''}`}>
          {WORDS[finding.severity]}
          {finding.setup && <span className="font-normal text-soft"> · {finding.setup}</span>}
        </span>
        {finding.measured != null && (
          <span className="figures">
            {finding.measured} {finding.unit}
            {finding.limit != null && (
              <span className="text-soft">
                {' '}
                / {finding.limit} {finding.unit}
              </span>
            )}
          </span>
        )}
      </div>
      <div>{finding.sentence}</div>
      <div className="mt-1 flex flex-wrap gap-1.5">
        {finding.cures.map((cure) => (
          <Tryable
            key={cure.label}
            project={project}
            setup={finding.setup ?? null}
            cure={cure}
            take={() => void cured(cure)}
          />
        ))}
        <button type="button" className="knob text-[12.5px]" onClick={show}>
          Show
        </button>
      </div>
    </div>
  )
}
