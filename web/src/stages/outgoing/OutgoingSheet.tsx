import type { ProjectState, SetupReport } from '../../api/client'
import { useFields } from '../../state/fields'
import { useRoute, showOperation } from '../../state/route'
import { clock } from '../../ui/words'
import { Computed, Row } from '../../ui/Field'
import { Head, type SheetProps } from '../sheet'
import { ComparisonFacts } from './PartSheet'

const FORMATS = [
  ['step', 'STEP'],
  ['stl', 'STL'],
  ['3mf', '3MF'],
  ['glb', 'glTF'],
  ['rays', 'saved stock'],
] as const

/** The stock that is looked at, as a file. */
function SaveStock(props: { project: ProjectState; setup: string; report: SetupReport; run: string | null }) {
  const { project, setup, report, run } = props
  const operation = report.operations.find((one) => one.run === run)
  const after = run === '' ? 'before' : operation?.id
  const base = `/api/projects/${project.id}/files/${setup}/stock`
  const query = after ? `?after=${encodeURIComponent(after)}` : ''
  const current = project.report_revision === project.revision
  return (
    <Row
      label="Save"
      below={
        <span className="text-soft">
          {current
            ? `the stock ${run === '' ? 'before the first cut' : operation ? `after ${operation.name}` : `as ${setup} leaves it`}, in the part's frame, mm`
            : 'waits until the plan is computed'}
        </span>
      }
    >
      <span className="flex flex-wrap gap-x-2.5 gap-y-1">
        {FORMATS.map(([kind, called]) =>
          current ? (
            <a key={kind} className="text-action underline" href={`${base}.${kind}${query}`} download>
              {called}
            </a>
          ) : (
            <span key={kind} className="text-soft">
              {called}
            </span>
          ),
        )}
      </span>
    </Row>
  )
}

/** What the setup leaves, and after the last one how far that is from the part. */
export function OutgoingSheet({ project, plan, setup, index, report }: SheetProps) {
  const view = useFields(useRoute, 'operation')
  const last = index === plan.setups.length - 1
  return (
    <>
      <Head title="Outgoing">
        What {setup.name} leaves
        {last
          ? ', against the part'
          : ` for ${setup.makes?.setup ?? plan.setups.find((one, i) => i > index && !one.makes)?.name}`}
      </Head>
      {report && (
        <>
          <Row label="Volume">
            <Computed>{(report.outgoing_volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Taken off">
            <Computed>{(report.removed_volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>{report.outgoing_mass_kg.toFixed(3)} kg</Computed>
          </Row>
          <Row label="Time">
            <Computed>{clock(report.time_s)} min, rapids and tool changes in it</Computed>
          </Row>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">After each operation</h3>
          <div className="flex flex-col">
            {[
              { run: '', name: 'before', position: null, outgoing_volume_mm3: report.incoming_volume_mm3 },
              ...report.operations,
            ].map((one) => (
              <button
                key={one.run}
                type="button"
                aria-pressed={view.operation === one.run}
                className={`flex justify-between border-t border-rule py-1 text-left ${view.operation === one.run ? 'font-semibold' : ''}`}
                onClick={() => showOperation(one.run)}
              >
                <span>
                  {one.name}
                  {one.position && <span className="text-soft"> at {one.position}</span>}
                </span>
                <span className="figures text-action">{(one.outgoing_volume_mm3 / 1000).toFixed(2)} cm³</span>
              </button>
            ))}
          </div>
        </>
      )}
      {report && <SaveStock project={project} setup={setup.name} report={report} run={view.operation} />}
      {last && project.report?.comparison && <ComparisonFacts project={project} />}
    </>
  )
}
