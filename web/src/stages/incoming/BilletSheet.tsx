import { answered, api, type Part, type Plan, problemInstead, type ProjectState } from '../../api/client'
import type { Commit } from '../../api/hooks'
import { pullTo } from '../../bench/Pulling'
import { tell, useEditing } from '../../state/editing'
import { round } from '../../ui/words'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Head } from '../sheet'
import { BestPlace } from './BestPlace'
import { type Hand, PULLED } from './billet'
import { Margins } from './Margins'
import { Pieces } from './Pieces'
import { Shelf } from './Shelf'
import { MaterialRow } from './MaterialRow'
import { ShapeFields } from './ShapeFields'

/** The raw material: kind, size, and whether the part fits on every side. */
export function BilletSheet({
  project,
  part,
  commit,
}: {
  project: ProjectState
  part: Part | undefined
  commit: Commit
}) {
  const { billet } = project.plan
  const report = project.report?.billet
  const change = (what: string, next: (draft: Plan) => void) => commit(`billet: ${what}`, next)
  const hand: Hand = {
    change: (what, next) => change(what, (draft) => next(draft.billet)),
    typing: (next) => {
      const typed = next && structuredClone(billet)
      if (typed) next(typed)
      useEditing.setState({ typedBillet: typed })
    },
  }
  const size = report ? report.high.map((high, i) => high - (report.low[i] ?? 0)) : []
  return (
    <>
      <Head title="Billet">What the part is cut from</Head>
      <ShapeFields
        project={project}
        part={part}
        shape={billet}
        hand={hand}
        lies={report}
        label="Kind of billet"
        replace={(what, next) => change(what, (draft) => (draft.billet = next))}
        between={
          <MaterialRow
            plan={project.plan}
            change={change}
            choose={(material: string) =>
              void change(material, (draft) => (draft.billet.material = material))
            }
          />
        }
        below={(kind) => kind === 'model' && <BestPlace project={project} hand={hand} />}
      />
      <Pieces project={project} part={part} commit={commit} />
      {report && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">
            Margins to the part{project.plan.pieces && 's'}
          </h3>
          <Margins
            margins={report.margins}
            {...(PULLED.includes(billet.kind)
              ? {
                  pull: (margins: Record<string, number>) =>
                    void pullTo(project, commit, billet, margins, (draft, next) => {
                      draft.billet = next
                    }).then((problem) => problem && tell(problem)),
                }
              : {})}
          />
          <Row label="Box">
            <Computed>{size.map((one) => round(one, 2)).join(' × ')} mm</Computed>
          </Row>
          <Row label="Volume">
            <Computed>{(report.volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>{report.mass_kg.toFixed(3)} kg</Computed>
          </Row>
          <Row label={project.report?.pieces ? 'Becomes parts' : 'Becomes part'}>
            <Computed>
              {report.volume_mm3 > 0 && project.report
                ? `${((100 * project.report.part_volume_mm3 * (project.report.pieces?.names.length ?? 1)) / report.volume_mm3).toFixed(0)} %`
                : '–'}
            </Computed>
          </Row>
        </>
      )}
      <Shelf project={project} margins={report?.margins} commit={commit} />
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Computing</h3>
      <NumberRow
        label="Ray distance"
        below={
          report && <Computed>takes {round(report.field_bytes / 2 ** 20, 0)} MiB while computing</Computed>
        }
        value={project.plan.resolution_mm}
        unit="mm"
        commit={(value) => change('resolution', (draft) => (draft.resolution_mm = value))}
      />
      <NumberRow
        label="Known to"
        below={<span className="text-soft">on round walls; planes and edges are exact</span>}
        value={report?.stated_error_mm}
        unit="mm"
        commit={async (value) => {
          const cell = await answered<number>(
            api.GET('/api/cell', { params: { query: { error_mm: value } } }),
          ).catch(problemInstead)
          if (typeof cell !== 'number') return cell
          return change(
            `resolution for ${round(value)} mm`,
            (draft) => (draft.resolution_mm = Number(round(cell))),
          )
        }}
      />
    </>
  )
}
