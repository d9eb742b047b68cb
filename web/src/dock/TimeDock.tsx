import { useRef } from 'react'
import { type OperationReport, type ProjectState, placeOf } from '../api/client'
import { usePiece } from '../api/hooks'
import { useClock } from '../state/clock'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { showMoment, useRoute } from '../state/route'
import { clock, hueOf, round } from '../ui/words'
import { type Loads, loadAt } from './load'
import { linesOf, useMoment } from './moment'
import { RunKnob, Speeds } from './Speeds'

/** Removal rate along an operation, against the most in the setup. */
function LoadCurve({ operation, most }: { operation: OperationReport; most: number }) {
  const { data } = usePiece(operation.key, 'load.json')
  if (!data || !most) return null
  const { removal } = JSON.parse(data) as Loads
  const change = Math.max(0, operation.time_s - operation.moving_s)
  const points = removal
    .flatMap((value, i) => [`${i},${100 - (96 * value) / most}`, `${i + 1},${100 - (96 * value) / most}`])
    .join(' ')
  return (
    <svg
      aria-hidden
      className="absolute inset-y-0 right-0 h-full"
      style={{ width: `${(100 * (operation.time_s - change)) / operation.time_s}%` }}
      viewBox={`0 0 ${removal.length} 100`}
      preserveAspectRatio="none"
    >
      <polygon points={`0,100 ${points} ${removal.length},100`} fill="#1E2A2F" opacity="0.16" />
    </svg>
  )
}

/** The setup's operations along time; drag to move through it, trouble marked, the program line in step. */
export function TimeDock({ project }: { project: ProjectState }) {
  const view = { ...useFields(useRoute, 'card'), ...useFields(useClock, 'time') }
  const { setup, operation, moment } = useMoment(project)
  const bar = useRef<HTMLDivElement>(null)
  const { data: program } = usePiece(setup?.program_key, 'program.nc')
  const { data: linesText } = usePiece(setup?.program_key, 'lines.json')
  const { data: loads } = usePiece(operation?.key, 'load.json')
  if (typeof view.card !== 'number') return <p className="text-soft">Choose a setup in the route.</p>
  if (!setup) return <p className="text-soft">This setup has not been computed yet.</p>
  if (!setup.time_s) return <p className="text-soft">Nothing is cut in this setup yet.</p>
  const hue = hueOf(view.card)
  const total = setup.time_s
  const at = view.time === Infinity ? total : view.time
  const drag = (x: number) => {
    const box = bar.current?.getBoundingClientRect()
    if (box) showMoment(Math.min(total, Math.max(0, ((x - box.left) / box.width) * total)))
  }
  const lines = program?.split('\n')
  const line =
    linesText && operation && moment ? linesOf(linesText)[operation.run]?.[moment.index] : undefined
  let from = 0
  const most = Math.max(...setup.operations.map((one) => one.most_removal_cm3_min))
  const load = operation && moment ? loadAt(loads, moment.seconds) : undefined
  return (
    <div>
      <div
        ref={bar}
        role="slider"
        aria-label="Time"
        aria-valuemin={0}
        aria-valuemax={Math.round(total)}
        aria-valuenow={Math.round(at)}
        aria-valuetext={clock(at)}
        tabIndex={0}
        className="relative h-8 cursor-ew-resize select-none"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId)
          drag(event.clientX)
        }}
        onPointerMove={(event) => event.buttons && drag(event.clientX)}
        onKeyDown={(event) => {
          const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
          if (!step) return
          event.preventDefault()
          showMoment(Math.min(total, Math.max(0, at + step * (event.shiftKey ? 10 : 1))))
        }}
      >
        {setup.operations.map((one, i) => {
          const start = from
          from += one.time_s
          const troubles = one.findings.filter((found) => found.severity === 'error')
          const change = Math.max(0, one.time_s - one.moving_s)
          return (
            <div
              key={one.run}
              title={`${one.name}${one.position ? ` at ${one.position}` : ''} · ${clock(one.time_s)}`}
              className={`absolute inset-y-0 overflow-hidden whitespace-nowrap border-r border-sheet pt-1.5 font-head text-[11.5px] text-ink ${troubles.length ? 'hatch' : ''}`}
              style={{
                left: `${(100 * start) / total}%`,
                width: `${(100 * one.time_s) / total}%`,
                backgroundColor: `color-mix(in srgb, ${hue} ${(start <= at ? 62 : 30) - (i % 2) * 12}%, #D9DBDA)`,
              }}
            >
              <LoadCurve operation={one} most={most} />
              {one.time_s / total > 0.04 && <span className="relative pl-1">{one.name}</span>}
              {troubles.map((found, n) => (
                <button
                  key={n}
                  type="button"
                  aria-label={`Trouble: ${found.sentence}`}
                  title={found.sentence}
                  className="absolute top-[-3px] -translate-x-1/2 px-0.5 text-trouble"
                  style={{ left: `${(100 * (change + (found.time_s ?? 0))) / one.time_s}%` }}
                  onPointerDown={(event) => event.stopPropagation()}
                  onClick={() => {
                    showMoment(start + change + (found.time_s ?? 0))
                    useShown.setState({ marked: placeOf(found) })
                  }}
                >
                  ▲
                </button>
              ))}
            </div>
          )
        })}
        <div
          className="pointer-events-none absolute inset-y-[-3px] w-0.5 bg-ink"
          style={{ left: `min(${(100 * at) / total}%, 100% - 2px)` }}
        />
      </div>
      <div className="figures flex justify-between text-[11.5px] text-soft">
        {[0, 0.25, 0.5, 0.75, 1].map((share) => (
          <span key={share}>{clock(share * total)}</span>
        ))}
      </div>
      <div className="mt-1 flex items-center gap-4">
        <button type="button" className="knob !px-2 text-[12px]" onClick={() => showMoment(0)}>
          Start
        </button>
        <button
          type="button"
          className="knob !px-2 text-[12px]"
          onClick={() => {
            useClock.setState({ time: Infinity })
            useRoute.setState({ operation: null })
          }}
        >
          End
        </button>
        <RunKnob />
        <Speeds />
        <span className="figures">{clock(at)}</span>
        <span className="figures min-w-0 truncate" data-testid="program-line">
          {line !== undefined ? lines?.[line] : ''}
        </span>
        {load && (
          <span className="figures whitespace-nowrap text-action" data-testid="load">
            {round(load.removal, 1)} cm³/min · ae {round(load.width, 1)} · ap {round(load.depth, 1)}
          </span>
        )}
        <span className="min-w-0 truncate text-soft">
          {operation
            ? `${operation.tool_name} · ${operation.name}${operation.position ? ` at ${operation.position}` : ''}`
            : 'after the last operation'}
        </span>
      </div>
    </div>
  )
}
