import type { Finding, ProjectState } from '../api/client'
import type { Commit } from '../api/hooks'
import { type DockTab, useView } from '../state'
import { FindingCard } from '../ui/FindingCard'
import { ProgramDock } from './ProgramDock'
import { TimeDock } from './TimeDock'

const TABS: { tab: DockTab; name: string }[] = [
  { tab: 'time', name: 'Time' },
  { tab: 'program', name: 'Program' },
  { tab: 'findings', name: 'Findings' },
]

/** Time, program and findings under the bench. */
export function Dock({
  project,
  commit,
  findings,
}: {
  project: ProjectState
  commit: Commit
  findings: Finding[]
}) {
  const view = useView()
  return (
    <section aria-label="Dock" className="h-[132px] min-w-0 border-t border-rule bg-sheet px-3 pt-1.5">
      <div role="tablist" className="mb-1.5 flex gap-5">
        {TABS.map(({ tab, name }) => (
          <button
            key={tab}
            type="button"
            role="tab"
            aria-selected={view.tab === tab}
            className={`border-b-2 ${view.tab === tab ? 'border-ink font-semibold' : 'border-transparent text-soft'}`}
            onClick={() => view.set({ tab })}
          >
            {name} {tab === 'findings' && findings.length > 0 && findings.length}
          </button>
        ))}
      </div>
      <div role="tabpanel" aria-label={view.tab} className="h-[94px] overflow-auto">
        {view.tab === 'time' && <TimeDock project={project} />}
        {view.tab === 'program' && <ProgramDock project={project} />}
        {view.tab === 'findings' &&
          (findings.length ? (
            <div className="grid grid-cols-2 gap-2 pb-2">
              {findings.map((finding, i) => (
                <FindingCard key={i} finding={finding} plan={project.plan} commit={commit} />
              ))}
            </div>
          ) : (
            <p className="text-soft">No findings.</p>
          ))}
      </div>
    </section>
  )
}
