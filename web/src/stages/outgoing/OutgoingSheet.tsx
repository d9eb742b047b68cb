import { useFields } from '../../state/fields'
import { useRoute, showOperation } from '../../state/route'
import { clock } from '../../ui/words'
import { Computed, Row } from '../../ui/Field'
import { Head, type SheetProps } from '../sheet'
import { ComparisonFacts } from './PartSheet'

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
      {last && project.report?.comparison && <ComparisonFacts project={project} />}
    </>
  )
}
