import { useState } from 'react'
import type { LoadReport, OrderStep } from '../api/client'
import { clock } from '../ui/words'

const words = (step: OrderStep) => `${step.name} at ${step.place} with T${step.tool} ${step.tool_name}`

/** What is cut one after the other, as a bar of its times; by hand the pieces are moved. */
export function OrderBar(props: {
  told: LoadReport
  hues: Map<string, string>
  /** The step that is looked at, and to look at another. */
  at: number | null
  choose: (step: number) => void
  /** Told the order as it is to be; null: it is not put together by hand. */
  byHand: ((steps: string[]) => void) | null
}) {
  const { told, hues, at, choose, byHand } = props
  const [held, setHeld] = useState<number | null>(null)
  const whole = told.time_s || 1
  const steps = told.order.map((one) => `${one.place} ${one.run}`)
  const put = (from: number, to: number) => {
    const next = [...steps]
    const [step] = next.splice(from, 1)
    if (step !== undefined) next.splice(to, 0, step)
    byHand?.(next)
  }
  // Below it, how long each tool stays in the spindle.
  const tools: { tool: string; from: number; to: number }[] = []
  for (const one of told.order) {
    const last = tools.at(-1)
    const name = `T${one.tool} ${one.tool_name}`
    if (last && last.tool === name) last.to = one.to_s
    else tools.push({ tool: name, from: one.from_s, to: one.to_s })
  }
  return (
    <div>
      <div className="relative h-9 border border-rule" role="list" aria-label="Order of cutting">
        {told.order.map((one, n) => (
          <div
            key={`${one.place} ${one.run}`}
            role="listitem"
            tabIndex={0}
            aria-current={at === n ? 'step' : undefined}
            aria-label={`${one.place} ${one.name}`}
            title={`${one.place} ${one.name}, ${one.tool_name}, ${clock(one.from_s)} to ${clock(one.to_s)}`}
            draggable={byHand !== null}
            className={`absolute inset-y-0 overflow-hidden border-r border-sheet px-1 text-[11px] leading-[34px] whitespace-nowrap ${byHand ? 'cursor-grab' : 'cursor-pointer'} ${at === n ? 'z-10 outline outline-2 outline-ink' : ''}`}
            style={{
              left: `${(one.from_s / whole) * 100}%`,
              width: `${((one.to_s - one.from_s) / whole) * 100}%`,
              background: hues.get(one.place.split('/')[0] ?? ''),
            }}
            onDragStart={() => setHeld(n)}
            onDragOver={(event) => event.preventDefault()}
            onDrop={() => held !== null && held !== n && put(held, n)}
            onClick={() => choose(n)}
            onKeyDown={(event) => {
              if (event.key === 'Enter') choose(n)
              const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
              if (!by || n + by < 0 || n + by >= steps.length) return
              event.preventDefault()
              if (byHand) {
                put(n, n + by)
                return
              }
              choose(n + by)
              const beside = event.currentTarget.parentElement?.children[n + by]
              if (beside instanceof HTMLElement) beside.focus()
            }}
          >
            {one.place.split('/')[1]} {one.name}
          </div>
        ))}
      </div>
      <div className="relative h-6 text-[11.5px]">
        {tools.map((one, n) => (
          <div
            key={n}
            className="figures absolute truncate border-t-2 border-action pr-1 text-soft"
            style={{ left: `${(one.from / whole) * 100}%`, width: `${((one.to - one.from) / whole) * 100}%` }}
            title={one.tool}
          >
            {one.tool}
          </div>
        ))}
      </div>
      <div className="figures flex justify-between text-[12px] text-soft">
        <span>0:00</span>
        <span>
          {clock(told.time_s)}
          {told.control_s != null && `, ${clock(told.control_s)} by the control`}
        </span>
      </div>
      <p className="text-soft">
        {at !== null && told.order[at] && `${at + 1} of ${told.order.length}: ${words(told.order[at])}. `}
        {byHand
          ? 'Drag a piece to its place, or move it with the arrow keys; click one to see it begin.'
          : at === null && 'Click one to see it begin.'}
      </p>
    </div>
  )
}
