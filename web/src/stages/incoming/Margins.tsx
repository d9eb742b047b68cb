import { useRef, useState } from 'react'
import { opposite, usePull } from '../../bench/Pulling'
import { round } from '../../ui/words'

const STEP_PX = 6

/** The six margins, front and top, short ones marked. With `pull` a side is drawn out or in; with Shift both sides alike. */
export function Margins({
  margins,
  pull,
}: {
  margins: Record<string, number>
  pull?: (margins: Record<string, number>) => void
}) {
  // What is pulled in the picture is told here as it goes.
  const pulled = usePull((one) => one.margins)
  const [drawn, setDrawn] = useState<Record<string, number>>({})
  const from = useRef<{ side: string; x: number; y: number; both: boolean } | null>(null)
  const value = (side: string) => drawn[side] ?? (pull && pulled[side]) ?? margins[side] ?? 0
  const cell = (side: string, way: [number, number]) => {
    const shown = value(side)
    const look = `figures ${shown < 0 ? 'font-semibold text-trouble' : 'text-action'}`
    const text = `${shown < 0 ? '◆ ' : ''}${round(shown, 2)}`
    if (!pull) return <span className={look}>{text}</span>
    return (
      <button
        type="button"
        aria-label={`Margin ${side}`}
        title="Pull to change; with Shift the other side alike; arrow keys by 0.5 mm"
        className={`${look} cursor-grab touch-none border border-dashed border-transparent px-1 hover:border-action`}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId)
          from.current = { side, x: event.clientX, y: event.clientY, both: event.shiftKey }
        }}
        onPointerMove={(event) => {
          const start = from.current
          if (!start || start.side !== side) return
          const along = (event.clientX - start.x) * way[0] + (event.clientY - start.y) * way[1]
          const wanted = Math.round(2 * ((margins[side] ?? 0) + along / STEP_PX)) / 2
          setDrawn({ [side]: wanted, ...(start.both ? { [opposite(side)]: wanted } : {}) })
        }}
        onPointerUp={() => {
          from.current = null
          const asked = Object.fromEntries(
            Object.entries(drawn).filter(([one, wanted]) => wanted !== margins[one]),
          )
          if (Object.keys(asked).length) pull(asked)
          setDrawn({})
        }}
        onKeyDown={(event) => {
          const step = { ArrowUp: 0.5, ArrowRight: 0.5, ArrowDown: -0.5, ArrowLeft: -0.5 }[event.key]
          if (!step) return
          event.preventDefault()
          const wanted = Number(round((margins[side] ?? 0) + step))
          pull({ [side]: wanted, ...(event.shiftKey ? { [opposite(side)]: wanted } : {}) })
        }}
      >
        {text}
      </button>
    )
  }
  const view = (name: string, left: string, right: string, below: string, above: string) => (
    <div className="grid grid-cols-[auto_4rem_auto] grid-rows-[auto_2.4rem_auto] items-center gap-1 text-center">
      <span />
      {cell(above, [0, -1])}
      <span />
      {cell(left, [-1, 0])}
      <span className="grid h-full place-items-center border border-soft bg-[#B9C2C6]/40 p-1">
        <span className="grid h-full w-full place-items-center border border-ink bg-sheet text-[11.5px] text-soft">
          {name}
        </span>
      </span>
      {cell(right, [1, 0])}
      <span />
      {cell(below, [0, 1])}
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
