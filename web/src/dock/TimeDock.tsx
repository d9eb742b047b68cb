import { useRef } from 'react'
import type { ProjectState } from '../api/client'
import { usePiece } from '../api/hooks'
import { clock, hueOf, useView } from '../state'
import { useMoment } from './moment'

/** The setup's operations along time; drag to move through it, trouble marked, the program line in step. */
export function TimeDock({ project }: { project: ProjectState }) {
  const view = useView()
  const { setup, operation, moment } = useMoment(project)
  const bar = useRef<HTMLDivElement>(null)
  const { data: program } = usePiece(setup?.program_key, 'program.nc')
  const { data: linesText } = usePiece(setup?.program_key, 'lines.json')
  if (typeof view.card !== 'number') return <p className="text-soft">Choose a setup in the route.</p>
  if (!setup) return <p className="text-soft">This setup has not been computed yet.</p>
  if (!setup.time_s) return <p className="text-soft">Nothing is cut in this setup yet.</p>
  const hue = hueOf(view.card)
  const total = setup.time_s
  const at = view.time === Infinity ? total : view.time
  const drag = (x: number) => {
    const box = bar.current?.getBoundingClientRect()
    if (box)
      view.set({ time: Math.min(total, Math.max(0, ((x - box.left) / box.width) * total)), compare: false })
  }
  const lines = program?.split('\n')
  const line =
    linesText && operation && moment
      ? (JSON.parse(linesText)[operation.id]?.[moment.index] as number)
      : undefined
  let from = 0
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
          view.set({
            time: Math.min(total, Math.max(0, at + step * (event.shiftKey ? 10 : 1))),
            compare: false,
          })
        }}
      >
        {setup.operations.map((one, i) => {
          const start = from
          from += one.time_s
          const trouble = one.findings.some((found) => found.severity === 'error')
          return (
            <div
              key={one.id}
              title={`${one.name} · ${clock(one.time_s)}`}
              className={`absolute inset-y-0 overflow-hidden whitespace-nowrap border-r border-sheet pt-1.5 font-head text-[11.5px] text-ink ${trouble ? 'hatch' : ''}`}
              style={{
                left: `${(100 * start) / total}%`,
                width: `${(100 * one.time_s) / total}%`,
                backgroundColor: `color-mix(in srgb, ${hue} ${(start <= at ? 62 : 30) - (i % 2) * 12}%, #D9DBDA)`,
              }}
            >
              {one.time_s / total > 0.04 && <span className="pl-1">{one.name}</span>}
              {trouble && <span className="absolute left-0 top-[-3px] text-trouble">▲</span>}
            </div>
          )
        })}
        <div
          className="pointer-events-none absolute inset-y-[-3px] w-0.5 bg-ink"
          style={{ left: `${(100 * at) / total}%` }}
        />
      </div>
      <div className="figures flex justify-between text-[11.5px] text-soft">
        {[0, 0.25, 0.5, 0.75, 1].map((share) => (
          <span key={share}>{clock(share * total)}</span>
        ))}
      </div>
      <div className="mt-1 flex items-center gap-4">
        <button
          type="button"
          className="knob !px-2 text-[12px]"
          onClick={() => view.set({ time: 0, compare: false })}
        >
          Start
        </button>
        <button
          type="button"
          className="knob !px-2 text-[12px]"
          onClick={() => view.set({ time: Infinity, operation: null })}
        >
          End
        </button>
        <span className="figures">{clock(at)}</span>
        <span className="figures truncate" data-testid="program-line">
          {line !== undefined ? lines?.[line] : ''}
        </span>
        <span className="truncate text-soft">
          {operation ? `${operation.tool_name} · ${operation.name}` : 'after the last operation'}
        </span>
      </div>
    </div>
  )
}
