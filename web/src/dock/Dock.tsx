import { useState } from 'react'
import type { Finding, ProjectState } from '../api/client'
import { useFields } from '../state/fields'
import { type DockTab, useRoute } from '../state/route'
import { FindingCard } from '../ui/FindingCard'
import { ProgramDock } from './ProgramDock'
import { useRunning } from './running'
import { TimeDock } from './TimeDock'

const TABS: { tab: DockTab; name: string }[] = [
  { tab: 'time', name: 'Time' },
  { tab: 'program', name: 'Program' },
  { tab: 'findings', name: 'Findings' },
]

const KEPT = 'pelvrak-dock'
const SMALL = 132
/** A program wants more lines to be read in. */
const FIRST: Record<DockTab, number> = { time: SMALL, program: 300, findings: SMALL }
const STEP = 40

/** The dock's upper edge: dragged, or moved by the arrow keys. */
function Grip({ height, resize }: { height: number; resize: (height: number) => void }) {
  return (
    <div
      role="separator"
      aria-label="Height of the dock"
      aria-orientation="horizontal"
      aria-valuenow={height}
      tabIndex={0}
      className="absolute inset-x-0 -top-1 h-2 cursor-ns-resize hover:bg-action/30 focus-visible:bg-action/40"
      onPointerDown={(event) => event.currentTarget.setPointerCapture(event.pointerId)}
      onPointerMove={(event) => event.buttons && resize(height - event.movementY)}
      onDoubleClick={() => resize(height > SMALL ? SMALL : 2.4 * SMALL)}
      onKeyDown={(event) => {
        const step = { ArrowUp: STEP, ArrowDown: -STEP }[event.key]
        if (!step) return
        event.preventDefault()
        resize(height + step)
      }}
    />
  )
}

/** Time, program and findings under the bench. */
export function Dock({ project, findings }: { project: ProjectState; findings: Finding[] }) {
  const view = useFields(useRoute, 'tab')
  useRunning(project)
  const kept = `${KEPT}-${view.tab}`
  const [heights, setHeights] = useState<Partial<Record<DockTab, number>>>({})
  const height = heights[view.tab] ?? (Number(localStorage.getItem(kept)) || FIRST[view.tab])
  const resize = (to: number) => {
    const held = Math.round(Math.min(Math.max(to, SMALL), innerHeight * 0.6))
    setHeights({ ...heights, [view.tab]: held })
    localStorage.setItem(kept, String(held))
  }
  return (
    <section
      aria-label="Dock"
      className="relative flex min-w-0 flex-col border-t border-rule bg-sheet px-3 pt-1.5"
      style={{ height }}
    >
      <Grip height={height} resize={resize} />
      <div role="tablist" className="mb-1.5 flex gap-5">
        {TABS.map(({ tab, name }) => (
          <button
            key={tab}
            type="button"
            role="tab"
            aria-selected={view.tab === tab}
            className={`border-b-2 ${view.tab === tab ? 'border-ink font-semibold' : 'border-transparent text-soft'}`}
            onClick={() => useRoute.setState({ tab })}
          >
            {name} {tab === 'findings' && findings.length > 0 && findings.length}
          </button>
        ))}
      </div>
      <div role="tabpanel" aria-label={view.tab} className="min-h-0 grow overflow-x-hidden overflow-y-auto">
        {view.tab === 'time' && <TimeDock project={project} />}
        {view.tab === 'program' && <ProgramDock project={project} />}
        {view.tab === 'findings' &&
          (findings.length ? (
            <div className="grid grid-cols-2 gap-2 pb-2">
              {findings.map((finding, i) => (
                <FindingCard key={i} finding={finding} project={project} />
              ))}
            </div>
          ) : (
            <p className="text-soft">No findings.</p>
          ))}
      </div>
    </section>
  )
}
