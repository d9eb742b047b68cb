import { useLibrary } from '../../api/hooks'
import { showMoment, useRoute } from '../../state/route'
import { Computed, Row } from '../../ui/Field'
import { clock, round } from '../../ui/words'
import { useShown } from '../../state/picture'
import { machineOf } from '../reach/registers'
import { Head, type SheetProps } from '../sheet'
import { Dialects } from './Dialects'
import { OwnTextRows } from './OwnTextRows'
import { Wrongly } from './Wrongly'

/** What the text of a setup comes to when it is run on its machine: whether it leaves what was planned. */
export function ProveSheet(props: SheetProps) {
  const { setup, report, plan, edit } = props
  const { data: library } = useLibrary()
  const machine = machineOf(plan, library?.machines, setup.machine)
  const proof = report?.proof
  const own = report?.offsets.filter((row) => row.setup === setup.name) ?? []
  return (
    <>
      <Head title="Prove-out">The text of {setup.name}, run on its machine</Head>
      {!report?.program_key && (
        <p>
          There is no program yet: nothing is cut in {setup.name}. It can be cut by a file from elsewhere.
        </p>
      )}
      {report?.program_key && (
        <>
          <Row label="Text">
            <Computed>
              {setup.text ? (setup.text.made_from ? 'changed by hand' : setup.text.file) : 'as written'}
              {proof ? `, ${proof.lines} lines, ${proof.moves} moves` : ', to be run'}
            </Computed>
          </Row>
          <Row label="Control">
            <Computed>
              {machine?.name ?? setup.machine}
              {own.length > 0 && `, ${own.length === 1 ? own[0]?.register_name : `${own.length} registers`}`}
            </Computed>
          </Row>
          {proof?.time_s != null && (
            <Row
              label="Time"
              help="By the control, from the first block to the last; the plan counts from tool to tool and leaves out the ways home."
            >
              <Computed>
                {clock(proof.time_s)}, planned {clock(proof.planned_s)}
              </Computed>
            </Row>
          )}
          {proof && proof.equal != null && (
            <Row label="Leaves">
              {proof.equal ? (
                <Computed>the planned stock, {(proof.most_mm ?? 0).toFixed(3)} mm apart at most</Computed>
              ) : (
                <span className="text-trouble">
                  another stock: {(proof.most_mm ?? 0).toFixed(3)} mm apart,{' '}
                  {round((proof.left_mm3 ?? 0) / 1000, 3)} cm³ too much,{' '}
                  {round((proof.gouged_mm3 ?? 0) / 1000, 3)} cm³ too little{' '}
                  {proof.place && (
                    <button
                      type="button"
                      className="text-action underline"
                      onClick={() => {
                        showMoment(Infinity)
                        useShown.setState({ marked: proof.place ?? null })
                      }}
                    >
                      where
                    </button>
                  )}
                </span>
              )}
            </Row>
          )}
          <Row label="Alarms">
            {proof?.alarm ? (
              <span className="text-trouble">{proof.alarm}</span>
            ) : (
              <Computed>{proof?.unproved ? 'not run' : proof ? 'none' : '…'}</Computed>
            )}
          </Row>
          {proof?.unproved && <p className="mt-2 text-trouble">Not proved: {proof.unproved}.</p>}
        </>
      )}
      {machine && <Dialects {...props} machine={machine} />}
      <label
        className="flex items-center gap-1.5 py-0.5 pl-[7rem]"
        title="What is cut alike at several places is written once and called with a shift, G52"
      >
        <input
          type="checkbox"
          className="accent-action"
          checked={setup.features_called}
          onChange={() =>
            void edit('like features called', (own) => {
              own.features_called = !own.features_called
            })
          }
        />
        like features are called
      </label>
      <OwnTextRows {...props} />
      <Wrongly {...props} />
      {report?.program_key && (
        <>
          <p className="mt-3 text-soft">
            Every text that leaves is read back, run by a control with the registers and tool lengths of the
            sheets, and cut again out of the stock that comes in.{' '}
            <button
              type="button"
              className="text-action underline"
              onClick={() => useRoute.setState({ tab: 'program' })}
            >
              Look at the text
            </button>
          </p>
        </>
      )}
    </>
  )
}
