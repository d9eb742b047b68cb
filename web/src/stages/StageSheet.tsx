import type { ReactNode } from 'react'
import type { Finding, Part, Plan, ProjectState, Setup, SetupReport } from '../api/client'
import { type Commit, usePart } from '../api/hooks'
import { type Stage, useView } from '../state'
import { FindingCard } from '../ui/FindingCard'
import { CutSheet } from './cut/CutSheet'
import { HoldSheet } from './hold/HoldSheet'
import { BilletSheet } from './incoming/BilletSheet'
import { IncomingSheet } from './incoming/IncomingSheet'
import { OutgoingSheet } from './outgoing/OutgoingSheet'
import { PartSheet } from './outgoing/PartSheet'
import { ReachSheet } from './reach/ReachSheet'
import { SeatSheet } from './seat/SeatSheet'

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

const SHEETS: Record<Stage, (props: SheetProps) => ReactNode> = {
  incoming: IncomingSheet,
  seat: SeatSheet,
  hold: HoldSheet,
  reach: ReachSheet,
  cut: CutSheet,
  outgoing: OutgoingSheet,
}

/** The open stage of the chosen setup, or the billet's or the part's own sheet. */
export function StageSheet({ project, commit }: { project: ProjectState; commit: Commit }) {
  const { card, stage } = useView()
  const { data: part } = usePart(project.plan.part.sha256)
  const { plan, report } = project
  if (card === 'billet')
    return (
      <>
        <BilletSheet project={project} part={part} commit={commit} />
        <Findings list={report?.billet.findings} plan={plan} commit={commit} />
      </>
    )
  if (card === 'part') return <PartSheet project={project} part={part} commit={commit} />
  const setup = plan.setups[card]
  if (!setup) return null
  const own = report?.setups.find((one) => one.name === setup.name)
  const Sheet = SHEETS[stage]
  const edit: SheetProps['edit'] = (what, change) =>
    commit(`${setup.name}: ${what}`, (draft) => {
      const mine = draft.setups[card]
      if (mine) change(mine)
    })
  const found = own
    ? [...own.findings, ...own.operations.flatMap((one) => one.findings)].filter((one) => one.stage === stage)
    : []
  if (stage === 'outgoing' && card === plan.setups.length - 1)
    found.push(...(report?.comparison?.findings ?? []))
  if (stage === 'incoming' && card === 0) found.push(...(report?.billet.findings ?? []))
  return (
    <>
      <Sheet key={setup.name} {...{ project, plan, setup, index: card, report: own, part, commit, edit }} />
      <Findings list={found} plan={plan} commit={commit} />
    </>
  )
}

function Findings({ list, plan, commit }: { list: Finding[] | undefined; plan: Plan; commit: Commit }) {
  if (!list?.length) return null
  return (
    <div className="mt-4 flex flex-col gap-2" aria-label="Findings of this stage">
      {list.map((finding, i) => (
        <FindingCard key={i} finding={finding} plan={plan} commit={commit} />
      ))}
    </div>
  )
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
