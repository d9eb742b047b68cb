import { useEffect } from 'react'
import type { ProjectState } from '../api/client'
import { measure, useAsking } from '../state/asking'
import { useEditing } from '../state/editing'
import { cutThrough, LAYERS, lookFrom, toggle, useShown } from '../state/picture'
import { typing } from '../ui/typing'
import { STAGES, choose, goToStage, play, showOperation, useRoute } from '../state/route'

const KEYS: [string, string][] = [
  ['1 … 7', 'stage: Incoming … Outgoing, and the prove-out'],
  ['[  ]', 'the setup before, the setup after'],
  ['T  F  L  R  B', 'look: spindle, operator, left, right, back'],
  ['C  A', 'look: from the next corner; all of it as it is turned'],
  ['Q', 'look square to the picked face'],
  ['P  S  H  W', 'show or hide part, stock, holding, paths'],
  [',  .', 'the operation before, the operation after'],
  ['Space', 'run the setup, or pause'],
  ['N', 'run one block of the program'],
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
      if (typing(event)) return
      if (event.key === ' ' && event.target instanceof HTMLButtonElement) return
      const { card: chosen, operation } = useRoute.getState()
      const key = event.key.toLowerCase()
      if (event.ctrlKey || event.metaKey) {
        if (key === 'z' && !event.shiftKey && project.can_undo) actions.undo()
        else if ((key === 'y' || (key === 'z' && event.shiftKey)) && project.can_redo) actions.redo()
        else return
        event.preventDefault()
        return
      }
      const stage = STAGES[Number(event.key) - 1]
      const look = (
        {
          t: 'spindle',
          f: 'operator',
          l: 'left',
          r: 'right',
          b: 'back',
          q: 'pick',
          c: 'corner',
          a: 'fit',
        } as const
      )[key]
      const layer = ({ p: LAYERS[0], s: LAYERS[1], h: LAYERS[2], w: LAYERS[3] } as const)[key]
      if (stage) goToStage(stage)
      else if (look) lookFrom(look)
      else if (layer) toggle(layer)
      else if (key === '[' || key === ']') {
        const cards = ['billet', ...project.plan.setups.map((_, i) => i), 'part'] as const
        const at = cards.findIndex((card) => card === chosen)
        const next = cards[at + (key === '[' ? -1 : 1)]
        if (next !== undefined) choose(next)
      } else if ((key === ',' || key === '.') && typeof chosen === 'number') {
        const names = project.plan.setups[chosen]?.operations.map((one) => one.id) ?? []
        const at = operation ? names.indexOf(operation) : names.length
        const next = names[at + (key === ',' ? -1 : 1)]
        if (next) showOperation(next)
      } else if (event.key === 'Escape') {
        useAsking.setState({ asked: null, measuring: null })
        useEditing.setState({ keys: false })
        useShown.setState({ marked: null, lit: [], seen: null })
      } else if (event.key === ' ' && typeof chosen === 'number') play()
      else if (key === 'm') measure()
      else if (key === 'x') cutThrough()
      else if (event.key === '?') useEditing.setState(({ keys }) => ({ keys: !keys }))
      else return
      event.preventDefault()
    }
    window.addEventListener('keydown', pressed)
    return () => window.removeEventListener('keydown', pressed)
  }, [project, actions])
}

export function KeysCard() {
  return (
    <div
      role="dialog"
      aria-label="Keys"
      className="fixed inset-0 z-40 grid place-items-center bg-ink/20"
      onClick={() => useEditing.setState({ keys: false })}
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
