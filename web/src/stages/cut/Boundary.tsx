import type { Problem, SetupReport, Vec } from '../../api/client'
import { useAsking } from '../../state/asking'
import type { FormField } from '../../ui/Form'
import { Tuple } from '../../ui/Form'

/** A point of the part as a frame has it, 4×4 from the work frame. */
const seenFrom = (frame: readonly (readonly number[])[], at: Vec) =>
  frame.slice(0, 3).map((row) => at.reduce((sum, value, d) => sum + value * (row[d] ?? 0), row[3] ?? 0))

/** The box an operation cuts within: typed, or between two corners of the part that are picked. */
export function Boundary(props: {
  field: FormField
  value: number[]
  report: SetupReport | undefined
  position: string
  write: (value: number[]) => Promise<Problem | null>
}) {
  const { field, value, report, write } = props
  const turned = report?.positions.find((one) => one.name === props.position)
  const zero = report?.zero_from_work
  const ask = (prompt: string, take: (at: Vec) => void) =>
    useAsking.setState({ asked: { kind: 'vertex', prompt, take: (_, __, at) => take(at) } })
  const between = (one: Vec, two: Vec) => {
    if (!zero) return
    const places = [one, two].map((at) => {
      const [x = 0, y = 0, z = 0] = seenFrom(zero, at)
      return turned ? seenFrom(turned.local_from_zero, [x, y, z]) : [x, y, z]
    })
    const span = (d: number) => places.map((place) => place[d] ?? 0)
    void write(
      [Math.min(...span(0)), Math.min(...span(1)), Math.max(...span(0)), Math.max(...span(1))].map(
        (one) => Math.round(one * 1e3) / 1e3,
      ),
    )
  }
  return (
    <Tuple
      field={field}
      values={value}
      write={write}
      below={
        zero && (
          <button
            type="button"
            className="knob !px-2 text-[12.5px]"
            onClick={() =>
              ask('Pick one corner of the box', (one) =>
                // After the picture has taken the first.
                setTimeout(() => ask('Pick the corner across', (two) => between(one, two))),
              )
            }
          >
            Between two corners
          </button>
        )
      }
    />
  )
}
