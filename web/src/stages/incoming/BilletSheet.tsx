import { answered, api, type Part, type Plan, type ProjectState, Refusal } from '../../api/client'
import { type Commit, useLibrary } from '../../api/hooks'
import { round } from '../../state'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberField, NumberRow, Row } from '../../ui/Field'
import { Head } from '../StageSheet'

type Sizing = Plan['billet']['sizing']
const SIDES = [
  ['x_minus', 'x-', 'Left  x−'],
  ['x_plus', 'x+', 'Right  x+'],
  ['y_minus', 'y-', 'Front  y−'],
  ['y_plus', 'y+', 'Back  y+'],
  ['z_minus', 'z-', 'Under  z−'],
  ['z_plus', 'z+', 'Top  z+'],
] as const

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
  const { data: library } = useLibrary()
  const { billet } = project.plan
  const { sizing } = billet
  const report = project.report?.billet
  const change = (what: string, next: (draft: Plan) => void) => commit(`billet: ${what}`, next)
  const size = report ? report.high.map((high, i) => high - (report.low[i] ?? 0)) : []
  const swap = (rule: Sizing['rule']) => {
    if (!part || !report) return
    const spare = (side: string) => round(report.margins[side] ?? 0)
    void change(`sized by ${rule}`, (draft) => {
      draft.billet.sizing =
        rule === 'size'
          ? {
              rule: 'size',
              size: size.map((one) => Number(round(one))) as [number, number, number],
              place: [0.5, 0.5, 0.5],
            }
          : {
              rule: 'allowance',
              x_minus: Number(spare('x-')),
              x_plus: Number(spare('x+')),
              y_minus: Number(spare('y-')),
              y_plus: Number(spare('y+')),
              z_minus: Number(spare('z-')),
              z_plus: Number(spare('z+')),
            }
    })
  }
  return (
    <>
      <Head title="Billet">The block the part is cut from</Head>
      <Row label="Material">
        <Choice
          label="Material"
          value={billet.material}
          options={(library?.materials ?? []).map((one) => ({
            value: one.name,
            label: one.name,
            note: `${one.density_g_cm3} g/cm³`,
          }))}
          choose={(material) => void change(material, (draft) => (draft.billet.material = material))}
        />
      </Row>
      <Row label="Sized by">
        <Segments
          label="Sized by"
          value={sizing.rule}
          options={[
            { value: 'allowance', label: 'allowance' },
            { value: 'size', label: 'finished size' },
          ]}
          choose={swap}
        />
      </Row>
      {sizing.rule === 'allowance' &&
        SIDES.map(([field, , label]) => (
          <NumberRow
            key={field}
            label={label}
            name={`Allowance ${label}`}
            value={sizing[field]}
            unit="mm"
            commit={(value) =>
              change(`allowance ${label}`, (draft) => {
                if (draft.billet.sizing.rule === 'allowance') draft.billet.sizing[field] = value
              })
            }
          />
        ))}
      {sizing.rule === 'size' &&
        (['x', 'y', 'z'] as const).map((axis, d) => (
          <Row key={axis} label={`Size ${axis}`}>
            <div className="grid grid-cols-2 gap-2">
              <NumberField
                label={`Size ${axis}`}
                value={sizing.size[d]}
                unit="mm"
                commit={(value) =>
                  change(`size ${axis}`, (draft) => {
                    if (draft.billet.sizing.rule === 'size') draft.billet.sizing.size[d] = value
                  })
                }
              />
              <NumberField
                label={`Share under the part ${axis}`}
                value={(sizing.place[d] ?? 0.5) * 100}
                unit={`% ${axis}−`}
                commit={(value) =>
                  change(`place ${axis}`, (draft) => {
                    if (draft.billet.sizing.rule === 'size') draft.billet.sizing.place[d] = value / 100
                  })
                }
              />
            </div>
          </Row>
        ))}
      {report && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Margins to the part</h3>
          <Margins margins={report.margins} />
          <Row label="Block">
            <Computed>{size.map((one) => round(one, 2)).join(' × ')} mm</Computed>
          </Row>
          <Row label="Volume">
            <Computed>{(report.volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>{report.mass_kg.toFixed(3)} kg</Computed>
          </Row>
          <Row label="Becomes part">
            <Computed>
              {report.volume_mm3 > 0 && project.report
                ? `${((100 * project.report.part_volume_mm3) / report.volume_mm3).toFixed(0)} %`
                : '–'}
            </Computed>
          </Row>
        </>
      )}
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
          try {
            const cell = await answered<number>(
              api.GET('/api/cell', { params: { query: { error_mm: value } } }),
            )
            return await change(
              `resolution for ${round(value)} mm`,
              (draft) => (draft.resolution_mm = Number(round(cell))),
            )
          } catch (refusal) {
            if (refusal instanceof Refusal) return refusal.problem
            throw refusal
          }
        }}
      />
    </>
  )
}

/** The six margins, front and top, short ones marked. */
export function Margins({ margins }: { margins: Record<string, number> }) {
  const cell = (side: string) => {
    const value = margins[side] ?? 0
    return (
      <span className={`figures ${value < 0 ? 'font-semibold text-trouble' : 'text-action'}`}>
        {value < 0 && '◆ '}
        {round(value, 2)}
      </span>
    )
  }
  const view = (name: string, left: string, right: string, below: string, above: string) => (
    <div className="grid grid-cols-[auto_4rem_auto] grid-rows-[auto_2.4rem_auto] items-center gap-1 text-center">
      <span />
      {cell(above)}
      <span />
      {cell(left)}
      <span className="grid h-full place-items-center border border-soft bg-[#B9C2C6]/40 p-1">
        <span className="grid h-full w-full place-items-center border border-ink bg-sheet text-[11.5px] text-soft">
          {name}
        </span>
      </span>
      {cell(right)}
      <span />
      {cell(below)}
      <span />
    </div>
  )
  return (
    <div className="flex justify-between py-1">
      {view('front', 'x-', 'x+', 'z-', 'z+')}
      {view('top', 'x-', 'x+', 'y-', 'y+')}
    </div>
  )
}
