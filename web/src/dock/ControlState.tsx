import type { ReactNode } from 'react'
import { round } from '../ui/words'
import type { Now, Trace } from './control'

const SPINDLE = { '1': 'right', '-1': 'left', '0': 'stands' } as const
const COOLANT: Record<string, string> = { '': 'off', M7: 'mist', M8: 'on' }

function Line({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex justify-between gap-3 border-b border-rule py-[1px]">
      <dt className="text-soft">{name}</dt>
      <dd className="figures whitespace-nowrap text-right">{children}</dd>
    </div>
  )
}

/** How the control stands: where the tool is as it counts, and what is in force. */
export function ControlState({ now, trace, load }: { now: Now; trace: Trace; load: string | null }) {
  const { standing } = now
  const held = standing && trace.registers[standing.register]
  const length = standing && trace.lengths[standing.length]
  const radius = standing && trace.radii[standing.radius]
  return (
    <section
      aria-label="As the control stands"
      className="min-h-0 w-[300px] shrink-0 overflow-x-hidden overflow-y-auto border-l border-rule pl-3 text-[12.5px]"
    >
      <dl>
        <div className="grid grid-cols-3 gap-x-3 border-b border-rule py-[1px]">
          {now.place.map(({ axis, value }) => (
            <div key={axis} className="flex justify-between gap-1">
              <dt className="text-soft">{axis}</dt>
              <dd className="figures" data-testid={`axis-${axis}`}>
                {value.toFixed(3)}
              </dd>
            </div>
          ))}
        </div>
        <Line name="to go">{round(now.toGo, 3)}</Line>
        {standing && (
          <>
            <Line name={standing.register || 'no register'}>
              {held && ['X', 'Y', 'Z'].map((axis) => (held[axis] ?? 0).toFixed(3)).join('  ')}
            </Line>
            {standing.shift.some((one) => one !== 0) && (
              <Line name="shift G52">{standing.shift.map((one) => one.toFixed(3)).join('  ')}</Line>
            )}
            <Line name="tool">
              T{standing.tool} · H{standing.length}
              {length !== undefined && ` ${length.toFixed(3)}`}
              {standing.radius > 0 && ` · D${standing.radius} ${(radius ?? 0).toFixed(3)}`}
            </Line>
            <Line name="plane, feed">
              {standing.plane} {standing.absolute === false ? 'G91' : 'G90'} · F{round(standing.feed, 3)}
              {standing.inverse_time && ' a minute'}
            </Line>
            <Line name="spindle">
              {round(standing.speed, 0)} {SPINDLE[String(standing.spindle) as '0']}, coolant{' '}
              {COOLANT[standing.coolant] ?? standing.coolant}
            </Line>
          </>
        )}
        {load && <Line name="load">{load}</Line>}
      </dl>
    </section>
  )
}
