import type { ProjectState } from '../api/client'
import { useFields } from '../state/fields'
import { STAGES, type Stage, goToStage, useRoute } from '../state/route'
import { hueOf } from '../ui/words'
import { StageMark } from '../ui/icons'

const NAMES: Record<Stage, string> = {
  incoming: 'Incoming',
  seat: 'Seat',
  hold: 'Hold',
  reach: 'Reach',
  cut: 'Cut',
  outgoing: 'Outgoing',
  prove: 'Prove-out',
}

/** The six stages, the same for every setup, and its program's prove-out, each with its mark. */
export function StageColumn({ project }: { project: ProjectState }) {
  const view = useFields(useRoute, 'card', 'stage')
  const index = view.card
  if (typeof index !== 'number') return <div className="border-r border-rule" />
  const setup = project.plan.setups[index]
  const report = project.report?.setups.find((one) => one.name === setup?.name)
  const found = report ? [...report.findings, ...report.operations.flatMap((one) => one.findings)] : []
  const last = index === project.plan.setups.length - 1
  if (last) found.push(...(project.report?.comparison?.findings ?? []))
  if (index === 0) found.push(...(project.report?.billet.findings ?? []))
  const stateOf = (stage: Stage) => {
    const own = found.filter((one) => one.stage === stage)
    if (own.some((one) => one.severity === 'error')) return 'error'
    if (own.some((one) => one.severity === 'warning')) return 'warning'
    if (!report) return 'open'
    if (stage === 'hold' && !setup?.hold.items.length && !setup?.makes) return 'open'
    if ((stage === 'cut' || stage === 'outgoing') && !setup?.operations.length) return 'open'
    if (stage === 'prove' && (!report.proof || report.proof.unproved)) return 'open'
    return 'done'
  }
  return (
    <ul aria-label="Stages" className="border-r border-rule pt-2">
      {STAGES.map((stage) => (
        <li key={stage} className={stage === 'prove' ? 'mt-2 border-t border-rule pt-2' : ''}>
          <button
            type="button"
            aria-current={view.stage === stage ? 'step' : undefined}
            className={`flex w-full items-center gap-2 border-l-4 py-2 pl-1.5 text-left ${view.stage === stage ? 'bg-sheet font-semibold' : 'border-transparent text-soft'}`}
            style={view.stage === stage ? { borderLeftColor: hueOf(index) } : undefined}
            onClick={() => goToStage(stage)}
          >
            <StageMark state={stateOf(stage)} />
            {NAMES[stage]}
          </button>
        </li>
      ))}
    </ul>
  )
}
