import type { Part, ProjectState } from '../../api/client'
import type { Commit } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { useRoute } from '../../state/route'
import { round } from '../../ui/words'
import { Computed, Row } from '../../ui/Field'
import { FindingCard } from '../../ui/FindingCard'
import { Head } from '../sheet'
import { Callouts } from './Callouts'
import { FeatureList } from './FeatureList'
import { NewRevision } from './NewRevision'

/** The finished part: what the file says, and how far the route gets. */
export function PartSheet({
  project,
  part,
  commit,
}: {
  project: ProjectState
  part: Part | undefined
  commit: Commit
}) {
  const { plan, report } = project
  const kinds = new Map<string, number>()
  for (const face of part?.faces ?? []) kinds.set(face.kind, (kinds.get(face.kind) ?? 0) + 1)
  return (
    <>
      <Head title={`Part rev ${plan.part.revision}`}>{plan.part.file}</Head>
      {part && (
        <>
          <Row label="Size">
            <Computed>
              {part.high.map((high, i) => round(high - (part.low[i] ?? 0), 3)).join(' × ')} mm
            </Computed>
          </Row>
          <Row label="Volume">
            <Computed>{(part.volume_mm3 / 1000).toFixed(2)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>
              {report?.part_mass_kg.toFixed(3)} kg <span className="text-soft">{plan.billet.material}</span>
            </Computed>
          </Row>
          <Row label="File’s unit">
            <Computed>{part.unit}</Computed>
          </Row>
          <Row label="Faces">
            <Computed>{[...kinds].map(([kind, count]) => `${count} ${kind}`).join(', ')}</Computed>
          </Row>
          <FeatureList sha256={plan.part.sha256} />
        </>
      )}
      <Picked part={part} />
      <AsCame project={project} part={part} commit={commit} />
      <Callouts project={project} part={part} commit={commit} />
      <NewRevision project={project} />
      {report?.comparison && <ComparisonFacts project={project} />}
      <div className="mt-3 flex flex-col gap-2">
        {[...(report?.part_findings ?? []), ...(report?.comparison?.findings ?? [])].map((finding, i) => (
          <FindingCard key={i} finding={finding} project={project} />
        ))}
      </div>
    </>
  )
}

/** The face picked in the picture. */
function Picked({ part }: { part: Part | undefined }) {
  const picked = useAsking((view) => view.picked)
  const face = picked && part?.faces[picked.face]
  if (!face)
    return <p className="mt-3 text-soft">Hover over a face to see what it is; click to keep it here.</p>
  const at = (point: readonly number[]) => point.map((c) => round(c, 3)).join(', ')
  return (
    <section aria-label="Picked face">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Picked: face {face.number}</h3>
      <Row label="Kind">
        <Computed>
          {face.hollow ? 'hollow ' : ''}
          {face.kind}
          {face.radius != null && face.kind === 'cylinder' && ` Ø${round(2 * face.radius, 3)}`}
        </Computed>
      </Row>
      {face.fit_error_mm != null && (
        <Row label="Fits within">
          <Computed>{round(face.fit_error_mm, 4)} mm</Computed>
        </Row>
      )}
      <Row label="Area">
        <Computed>{round(face.area, 2)} mm²</Computed>
      </Row>
      <Row label="At">
        <Computed>{at(face.centre)}</Computed>
      </Row>
      {face.normal && (
        <Row label="Looks">
          <Computed>{at(face.normal)}</Computed>
        </Row>
      )}
      {face.axis && (
        <Row label="Axis">
          <Computed>{at(face.axis)}</Computed>
        </Row>
      )}
    </section>
  )
}

/** Faces that stay rough, as the casting or the bar came: nothing on them is counted as left. */
function AsCame({ project, part, commit }: Parameters<typeof PartSheet>[0]) {
  const picked = useAsking((view) => view.picked)
  const faces = project.plan.part.as_came
  const face = picked && part?.faces[picked.face]
  const stays = !!face && faces.some((one) => one.face === face.number)
  if (!faces.length && !face) return null
  const drop = (number: number) =>
    void commit(`face ${number} is cut`, (draft) => {
      draft.part.as_came = draft.part.as_came.filter((one) => one.face !== number)
    })
  return (
    <Row label="As it came">
      <div className="flex flex-wrap items-center gap-1">
        {faces.map((one) => (
          <span key={one.face} className="figures border border-rule bg-white pl-1.5">
            F{one.face}
            <button
              type="button"
              aria-label={`Face ${one.face} is cut`}
              className="px-1 text-soft hover:text-trouble"
              onClick={() => drop(one.face)}
            >
              ×
            </button>
          </span>
        ))}
        {face && !stays && (
          <button
            type="button"
            className="knob text-[12.5px]"
            onClick={() =>
              void commit(`face ${face.number} stays as it came`, (draft) => {
                draft.part.as_came.push({ face: face.number, at: face.centre })
              })
            }
          >
            F{face.number} stays as it came
          </button>
        )}
      </div>
    </Row>
  )
}

/** The last outgoing stock against the part, as numbers, with the switch for the coloured picture. */
export function ComparisonFacts({ project }: { project: ProjectState }) {
  const view = useFields(useShown, 'compare')
  const comparison = project.report?.comparison
  if (!comparison) return null
  return (
    <section aria-label="Comparison">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Against the part</h3>
      <Row label="Left on">
        <Computed>
          {round(comparison.max_left_mm, 3)} mm at most · {round(comparison.left_volume_mm3, 0)} mm³
        </Computed>
        {comparison.as_came_mm3 > 0 && (
          <div className="text-soft">
            and {round(comparison.as_came_mm3, 0)} mm³ on faces that stay as they came
          </div>
        )}
      </Row>
      <Row label="Cut into">
        <Computed>
          {round(comparison.max_gouge_mm, 3)} mm at most · {round(comparison.gouge_volume_mm3, 0)} mm³
        </Computed>
      </Row>
      <Row label="Known to">
        <Computed>{round(comparison.stated_error_mm, 3)} mm</Computed>
      </Row>
      <button
        type="button"
        aria-pressed={view.compare}
        className={`knob mt-2 ${view.compare ? 'knob-on' : ''}`}
        onClick={() => {
          useShown.setState({ compare: !view.compare })
          useRoute.setState({ operation: null })
        }}
      >
        Colour by distance to the part
      </button>
    </section>
  )
}
