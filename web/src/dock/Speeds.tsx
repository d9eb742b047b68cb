import { useClock } from '../state/clock'
import { play } from '../state/route'

const SPEEDS = [1, 10, 60]

/** How many seconds of cutting run in one. */
export function Speeds() {
  const speed = useClock((view) => view.speed)
  return (
    <div role="group" aria-label="Speed" className="flex gap-1">
      {SPEEDS.map((one) => (
        <button
          key={one}
          type="button"
          aria-pressed={speed === one}
          className={`knob !px-1.5 text-[12px] ${speed === one ? 'knob-on' : ''}`}
          onClick={() => useClock.setState({ speed: one })}
        >
          ×{one}
        </button>
      ))}
    </div>
  )
}

/** Lets time go on, or stops it. */
export function RunKnob() {
  const playing = useClock((view) => view.playing)
  return (
    <button
      type="button"
      className={`knob !px-2 text-[12px] ${playing ? 'knob-on' : ''}`}
      aria-pressed={playing}
      onClick={() => play()}
    >
      {playing ? 'Pause' : 'Run'}
    </button>
  )
}
