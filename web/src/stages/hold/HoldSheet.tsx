import { useLibrary } from '../../api/hooks'
import { round } from '../../state'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Head, type SheetProps } from '../StageSheet'

/** What locates and clamps the work. */
export function HoldSheet({ setup, report, edit }: SheetProps) {
  const { data: library } = useLibrary()
  const { hold } = setup
  const facts = report?.hold
  const vises = library?.vises ?? []
  const vise = hold.kind === 'vise' ? vises.find((one) => one.id === hold.vise) : undefined
  const change = (field: 'parallels' | 'along' | 'parallel_width', value: number) =>
    edit(field, (own) => {
      if (own.hold.kind === 'vise') own.hold[field] = value
    })
  return (
    <>
      <Head title="Hold">What locates and clamps the work in {setup.name}</Head>
      <Row label="Vise">
        <Choice
          label="Vise"
          value={hold.kind === 'vise' ? hold.vise : 'none'}
          options={[
            { value: 'none', label: 'nothing' },
            ...vises.map((one) => ({
              value: one.id,
              label: one.name,
              note: `opens ${one.opening_max}`,
            })),
          ]}
          choose={(id) =>
            void edit(`vise ${id}`, (own) => {
              if (id === 'none') own.hold = { kind: 'none' }
              else if (own.hold.kind === 'vise') own.hold.vise = id
              else
                own.hold = {
                  kind: 'vise',
                  vise: id,
                  jaws_close_along: 'y',
                  parallels: (vises.find((one) => one.id === id)?.jaw_height ?? 40) - 8,
                  parallel_width: 8,
                  along: 0,
                  table_x: 450,
                  table_y: 380,
                }
            })
          }
        />
      </Row>
      {hold.kind === 'vise' && (
        <>
          <Row
            label="Jaws close"
            below={
              facts?.opening != null && (
                <Computed>
                  opening {round(facts.opening, 2)} of {vise?.opening_max} mm
                </Computed>
              )
            }
          >
            <Segments
              label="Jaws close along"
              value={hold.jaws_close_along}
              options={[
                { value: 'y', label: 'front to back' },
                { value: 'x', label: 'left to right' },
              ]}
              choose={(value) =>
                void edit(`jaws along ${value}`, (own) => {
                  if (own.hold.kind === 'vise') own.hold.jaws_close_along = value
                })
              }
            />
          </Row>
          <NumberRow
            label="Parallels"
            below={
              facts && (
                <Computed>
                  grip {round(facts.grip_depth, 2)} mm
                  {vise && <span className="text-soft"> · jaws {vise.jaw_height} mm high</span>}
                </Computed>
              )
            }
            value={hold.parallels}
            unit="mm"
            commit={(value) => change('parallels', value)}
          />
          <NumberRow
            label="Width each"
            name="Parallel width"
            value={hold.parallel_width}
            unit="mm"
            commit={(value) => change('parallel_width', value)}
          />
          <NumberRow
            label="Off the middle"
            below={
              facts && (
                <Computed>
                  sticks out {round(facts.sticks_out_left, 2)} left, {round(facts.sticks_out_right, 2)} right
                </Computed>
              )
            }
            value={hold.along}
            unit="mm"
            commit={(value) => change('along', value)}
          />
          {facts && (
            <>
              <Row label="Above jaws">
                <Computed>{round(facts.stands_above, 2)} mm</Computed>
              </Row>
              <Row label="Contact">
                <Computed>
                  {round(facts.contact_fixed, 0)} + {round(facts.contact_moving, 0)} mm²
                  <span className="text-soft"> fixed + moving</span>
                </Computed>
              </Row>
            </>
          )}
        </>
      )}
    </>
  )
}
