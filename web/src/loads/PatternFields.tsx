import type { Problem, Stand } from '../api/client'
import { NumberField } from '../ui/Field'

/** A pattern begins with room enough to be seen, mm. */
const FIRST_PITCH_MM = 150

/** Columns and rows with their pitch, and where the first place lies. */
export function PatternFields(props: {
  /** Whose pattern it is, for who cannot see. */
  called: string
  stand: Stand
  change: (what: string, edit: (stand: Stand) => void) => Promise<Problem | null>
}) {
  const { called, stand, change } = props
  const field = (
    name: 'columns' | 'rows' | 'pitch_x' | 'pitch_y' | 'at_x' | 'at_y',
    label: string,
    unit: string,
  ) => (
    <NumberField
      label={`${called} ${label}`}
      value={stand[name]}
      unit={unit}
      commit={(value) =>
        change(label, (draft) => {
          draft[name] = unit ? value : Math.round(value)
          if (name === 'columns' && value > 1 && !draft.pitch_x) draft.pitch_x = FIRST_PITCH_MM
          if (name === 'rows' && value > 1 && !draft.pitch_y) draft.pitch_y = FIRST_PITCH_MM
        })
      }
    />
  )
  return (
    <div className="grid grid-cols-[4.6rem_1fr_1fr] items-center gap-x-2 gap-y-1 py-1">
      <span className="text-soft">along X</span>
      {field('columns', 'columns', '')}
      {field('pitch_x', 'pitch along X', 'mm')}
      <span className="text-soft">along Y</span>
      {field('rows', 'rows', '')}
      {field('pitch_y', 'pitch along Y', 'mm')}
      <span className="text-soft">first at</span>
      {field('at_x', 'first, X', 'mm')}
      {field('at_y', 'first, Y', 'mm')}
    </div>
  )
}
