import { useClock } from '../state/clock'

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
