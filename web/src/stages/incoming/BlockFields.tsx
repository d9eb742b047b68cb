import type { Part, ProjectState } from '../../api/client'
import { round } from '../../ui/words'
import { Segments } from '../../ui/Choice'
import { NumberField, NumberRow, Row } from '../../ui/Field'
import { type Hand, type Of, SIDES } from './billet'

/** A rectangular block: by allowances, by its size, or by its corners. */
export function BlockFields({
  project,
  part,
  billet,
  size,
  hand,
}: {
  project: ProjectState
  part: Part | undefined
  billet: Of<'block'>
  size: number[]
  hand: Hand<Of<'block'>>
}) {
  const { change, number } = hand
  const { sizing } = billet
  const report = project.report?.billet
  const swap = (rule: typeof sizing.rule) => {
    if (!part || !report) return
    const spare = (side: string) => Number(round(report.margins[side] ?? 0))
    void change(`sized by ${rule}`, (mine) => {
      if (rule === 'size') {
        const sides = size.map((one) => Number(round(one))) as [number, number, number]
        mine.sizing = { rule, size: sides, place: [0.5, 0.5, 0.5] }
      } else if (rule === 'corners')
        mine.sizing = {
          rule,
          low: report.low.map((c) => Number(round(c))) as [number, number, number],
          high: report.high.map((c) => Number(round(c))) as [number, number, number],
        }
      else
        mine.sizing = {
          rule,
          x_minus: spare('x-'),
          x_plus: spare('x+'),
          y_minus: spare('y-'),
          y_plus: spare('y+'),
          z_minus: spare('z-'),
          z_plus: spare('z+'),
        }
    })
  }
  return (
    <>
      <Row label="Sized by">
        <Segments
          label="Sized by"
          value={sizing.rule}
          options={[
            { value: 'allowance', label: 'allowance' },
            { value: 'size', label: 'finished size' },
            { value: 'corners', label: 'corners' },
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
            {...number(`allowance ${label}`, (mine, value) => {
              if (mine.sizing.rule === 'allowance') mine.sizing[field] = value
            })}
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
                {...number(`size ${axis}`, (mine, value) => {
                  if (mine.sizing.rule === 'size') mine.sizing.size[d] = value
                })}
              />
              <NumberField
                label={`Share under the part ${axis}`}
                value={(sizing.place[d] ?? 0.5) * 100}
                unit={`% ${axis}−`}
                {...number(`place ${axis}`, (mine, value) => {
                  if (mine.sizing.rule === 'size') mine.sizing.place[d] = value / 100
                })}
              />
            </div>
          </Row>
        ))}
      {sizing.rule === 'corners' &&
        (['x', 'y', 'z'] as const).map((axis, d) => (
          <Row key={axis} label={`${axis} from, to`}>
            <div className="grid grid-cols-2 gap-2">
              {(['low', 'high'] as const).map((end) => (
                <NumberField
                  key={end}
                  label={`Corner ${end} ${axis}`}
                  value={sizing[end][d]}
                  unit="mm"
                  {...number(`corner ${axis}`, (mine, value) => {
                    if (mine.sizing.rule === 'corners') mine.sizing[end][d] = value
                  })}
                />
              ))}
            </div>
          </Row>
        ))}
    </>
  )
}
