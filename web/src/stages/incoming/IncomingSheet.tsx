import { lateAt } from '../../api/hooks'
import { choose } from '../../state/route'
import { round } from '../../ui/words'
import { Computed, Row } from '../../ui/Field'
import { CheckAlone } from '../cut/CheckAlone'
import { Head, type SheetProps } from '../sheet'
import { ChosenStock } from './ChosenStock'
import { Margins } from './Margins'

/** What comes into the setup: the billet, or what the setup before left. */
export function IncomingSheet(props: SheetProps) {
  const { project, plan, setup, index, report } = props
  // Setups that cut jaws let the part pass by.
  const from = plan.setups.findLastIndex((one, i) => i < index && !one.makes)
  const before = plan.setups[from]
  const stale = lateAt(project, before ? from : 'billet')
  return (
    <>
      <Head title="Incoming">What comes into {setup.name}</Head>
      <ChosenStock key={setup.name} {...props} />
      <Row label={setup.incoming ? 'Not with' : 'From'}>
        {before ? (
          <button
            type="button"
            className="text-left font-medium text-action underline"
            onClick={() => choose(from, 'outgoing')}
          >
            {before.name} {before.title}, {setup.incoming ? 'which is carried' : 'carried'}
          </button>
        ) : (
          <button
            type="button"
            className="text-left font-medium text-action underline"
            onClick={() => choose('billet')}
          >
            the billet
          </button>
        )}
      </Row>
      <Row label="State">
        <span className={stale ? 'font-semibold text-trouble' : ''}>
          {!report ? 'not computed yet' : stale ? 'out of date' : 'current'}
        </span>
      </Row>
      {report && (
        <>
          <Row label="Volume">
            <Computed>{(report.incoming_volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>{report.incoming_mass_kg.toFixed(3)} kg</Computed>
          </Row>
          {report.low && report.high && (
            <Row label="Size as it lies">
              <Computed>
                {report.high.map((high, i) => round(high - (report.low?.[i] ?? 0), 2)).join(' × ')} mm
              </Computed>
            </Row>
          )}
        </>
      )}
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">This setup alone</h3>
      <CheckAlone key={`${setup.name} alone`} {...props} />
      {!before && !setup.incoming && project.report && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Margins to the part</h3>
          <Margins margins={project.report.billet.margins} />
        </>
      )}
    </>
  )
}
