import type { ReactNode } from 'react'
import type { Finding, ProjectState } from '../api/client'
import { type Commit, usePart } from '../api/hooks'
import { useFields } from '../state/fields'
import { type Stage, useRoute } from '../state/route'
import { round } from '../ui/words'
import { FindingCard } from '../ui/FindingCard'
import { CutSheet } from './cut/CutSheet'
import { HoldSheet } from './hold/HoldSheet'
import { BilletSheet } from './incoming/BilletSheet'
import { IncomingSheet } from './incoming/IncomingSheet'
import { OutgoingSheet } from './outgoing/OutgoingSheet'
import { PartSheet } from './outgoing/PartSheet'
import { ProveSheet } from './prove/ProveSheet'
import { ReachSheet } from './reach/ReachSheet'
import { SeatSheet } from './seat/SeatSheet'
import { Head, type SheetProps } from './sheet'

const SHEETS: Record<Stage, (props: SheetProps) => ReactNode> = {
  incoming: IncomingSheet,
  seat: SeatSheet,
  hold: HoldSheet,
  reach: ReachSheet,
  cut: CutSheet,
  outgoing: OutgoingSheet,
  prove: ProveSheet,
}

/** The open stage of the chosen setup, or the billet's or the part's own sheet. */
export function StageSheet({ project, commit }: { project: ProjectState; commit: Commit }) {
  const { card, stage } = useFields(useRoute, 'card', 'stage')
  const { data: part } = usePart(project.plan.part.sha256)
  const { plan, report } = project
  if (card === 'billet')
    return (
      <>
        <BilletSheet project={project} part={part} commit={commit} />
        <Findings
          list={report ? [...report.billet.findings, ...(report.pieces?.findings ?? [])] : undefined}
          project={project}
        />
      </>
    )
  if (card === 'part') return <PartSheet project={project} part={part} commit={commit} />
  const setup = plan.setups[card]
  if (!setup) return null
  const own = report?.setups.find((one) => one.name === setup.name)
  const Sheet = setup.makes && (stage === 'incoming' || stage === 'seat') ? JawsPass : SHEETS[stage]
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
      <Findings list={found} project={project} />
    </>
  )
}

/** Before a setup that cuts jaws there is nothing to choose: the part passes by. */
function JawsPass({ setup, report }: SheetProps) {
  return (
    <>
      <Head title={setup.title || setup.name}>Cuts the jaws that {setup.makes?.setup} grips with</Head>
      <p>
        Blanks come in and cut jaws go out; the part passes by untouched.{' '}
        {setup.hold.items.length
          ? 'The block has a holding of its own here; zero is the middle of its top, kept in'
          : `They stand on the machine as ${setup.makes?.setup} will grip, and count from the zero the two share, kept in`}{' '}
        <span className="figures">{setup.offset_register}</span>.
      </p>
      {report?.nest && (
        <p className="mt-2 text-soft">
          {report.nest.gap > 0
            ? `Blanks of ${report.nest.blank.join(' × ')}${
                report.nest.front ? ` and ${report.nest.front.join(' × ')}` : ''
              } mm, ${round(report.nest.gap, 2)} mm apart.`
            : `A block of ${report.nest.blank.join(' × ')} mm.`}
        </p>
      )}
    </>
  )
}

function Findings({ list, project }: { list: Finding[] | undefined; project: ProjectState }) {
  if (!list?.length) return null
  return (
    <div className="mt-4 flex flex-col gap-2" aria-label="Findings of this stage">
      {list.map((finding, i) => (
        <FindingCard key={i} finding={finding} project={project} />
      ))}
    </div>
  )
}
