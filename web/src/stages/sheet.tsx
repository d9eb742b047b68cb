import type { ReactNode } from 'react'
import type { Part, Plan, ProjectState, Setup, SetupReport } from '../api/client'
import type { Commit } from '../api/hooks'

/** What every stage's sheet is given. */
export type SheetProps = {
  project: ProjectState
  plan: Plan
  setup: Setup
  index: number
  report: SetupReport | undefined
  part: Part | undefined
  commit: Commit
  /** Change this setup in the plan. */
  edit: (what: string, change: (setup: Setup) => void) => ReturnType<Commit>
}

/** Head of a sheet. */
export function Head({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="mb-2.5">
      <h2 className="font-head text-[19px] font-semibold leading-tight">{title}</h2>
      <p className="text-soft">{children}</p>
    </div>
  )
}
