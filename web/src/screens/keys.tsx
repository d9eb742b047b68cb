import { useEffect } from 'react'
import type { ProjectState } from '../api/client'
import { LAYERS, STAGES, useView } from '../state'

const KEYS: [string, string][] = [
  ['1 … 6', 'stage: Incoming … Outgoing'],
  ['[  ]', 'the setup before, the setup after'],
  ['T  F  L  R  B', 'look: spindle, operator, left, right, back'],
  ['Q', 'look square to the picked face'],
  ['P  S  H  W', 'show or hide part, stock, holding, paths'],
  [',  .', 'the operation before, the operation after'],
  ['Space', 'run the setup, or pause'],
  ['Ctrl Z, Ctrl Y', 'undo, redo'],
  ['M', 'measure on the part; a click on stock tells its thickness there'],
  ['F2', 'in a field: write what was measured'],
  ['X', 'cut the picture open'],
  ['Esc', 'leave picking'],
  ['?', 'this card'],
]

/** Keys of the project screen; fields keep their own. */
export function useKeys(project: ProjectState, actions: { undo: () => void; redo: () => void }) {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      if (event.target instanceof HTMLInputElement || event.target instanceof HTMLTextAreaElement) return
      if (event.key === ' ' && event.target instanceof HTMLButtonElement) return
      const view = useView.getState()
      const key = event.key.toLowerCase()
      if (event.ctrlKey || event.metaKey) {
        if (key === 'z' && !event.shiftKey && project.can_undo) actions.undo()
        else if ((key === 'y' || (key === 'z' && event.shiftKey)) && project.can_redo) actions.redo()
        else return
        return event.preventDefault()
      }
      const stage = STAGES[Number(event.key) - 1]
      const look = ({ t: 'spindle', f: 'operator', l: 'left', r: 'right', b: 'back', q: 'pick' } as const)[
        key
      ]
      const layer = ({ p: LAYERS[0], s: LAYERS[1], h: LAYERS[2], w: LAYERS[3] } as const)[key]
      if (stage) view.set({ stage })
      else if (look) view.lookFrom(look)
      else if (layer) view.toggle(layer)
      else if (key === '[' || key === ']') {
        const cards = ['billet', ...project.plan.setups.map((_, i) => i), 'part'] as const
        const at = cards.findIndex((card) => card === view.card)
        const next = cards[at + (key === '[' ? -1 : 1)]
        if (next !== undefined) view.choose(next)
      } else if ((key === ',' || key === '.') && typeof view.card === 'number') {
        const names = project.plan.setups[view.card]?.operations.map((one) => one.id) ?? []
        const at = view.operation ? names.indexOf(view.operation) : names.length
        const next = names[at + (key === ',' ? -1 : 1)]
        if (next) view.set({ operation: next, time: Infinity })
      } else if (event.key === 'Escape')
        view.set({ asked: null, keys: false, marked: null, lit: [], seen: null, measuring: null })
      else if (event.key === ' ' && typeof view.card === 'number') view.play()
      else if (key === 'm') view.measure()
      else if (key === 'x') view.set({ section: view.section ? null : { axis: 1, share: 0.5 } })
      else if (event.key === '?') view.set({ keys: !view.keys })
      else return
      event.preventDefault()
    }
    window.addEventListener('keydown', pressed)
    return () => window.removeEventListener('keydown', pressed)
  }, [project, actions])
}

export function KeysCard() {
  const close = useView((view) => view.set)
  return (
    <div
      role="dialog"
      aria-label="Keys"
      className="fixed inset-0 z-40 grid place-items-center bg-ink/20"
      onClick={() => close({ keys: false })}
    >
      <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1 border border-ink bg-sheet px-6 py-5 shadow-xl">
        {KEYS.map(([key, what]) => (
          <div key={key} className="contents">
            <dt className="figures">{key}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
    </div>
  )
}
