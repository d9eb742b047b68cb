import { useMemo } from 'react'
import * as THREE from 'three'
import type { OperationReport, SetupReport } from '../api/client'
import { type Move, usePaths } from '../dock/moment'
import { type Drawn, useShown } from '../state/picture'
import { Lines } from './Lines'

/** What the moves of a path do: each is drawn in a colour of its own, and shown or not. */
const DOES = {
  cuts: { called: 'cuts', colour: '#12439B', opacity: 1 },
  leads: { called: 'leads', colour: '#7B2A86', opacity: 1 },
  air: { called: 'in air', colour: '#7A6A00', opacity: 0.8 },
  rapids: { called: 'rapids', colour: '#A3361B', opacity: 0.5 },
} as const
const WHAT = ['cuts', 'leads', 'air', 'rapids'] as const

const does = (move: Move): keyof typeof DOES => {
  if (move.kind === 'rapid') return 'rapids'
  if (move.lead) return 'leads'
  return move.inAir ? 'air' : 'cuts'
}

/** Whose paths are drawn with that of an operation: those before it in its plane, of its tool or of all; as they run. */
function before(setup: SetupReport | undefined, operation: OperationReport | undefined, of: Drawn['of']) {
  if (!setup || !operation || of === 'one') return []
  const at = setup.operations.findIndex((one) => one.run === operation.run)
  return setup.operations
    .slice(0, at)
    .filter((one) => one.position === operation.position && (of === 'all' || one.tool === operation.tool))
    .map((one) => one.key)
}

/** Paths as lines: what cuts, ways down into cuts, to and from them, what is fed through air, rapids. moves: of the operation, up to the moment that is shown. */
export function Paths(props: {
  setup: SetupReport | undefined
  operation: OperationReport | undefined
  moves: Move[]
}) {
  const drawn = useShown((picture) => picture.drawn)
  const others = usePaths(before(props.setup, props.operation, drawn.of))
  const lines = useMemo(() => {
    const points: Record<keyof typeof DOES, number[]> = { cuts: [], leads: [], air: [], rapids: [] }
    for (const move of [...others, ...props.moves]) {
      const out = points[does(move)]
      for (let i = 1; i < move.points.length; i += 1)
        out.push(...(move.points[i - 1] ?? []), ...(move.points[i] ?? []))
    }
    return WHAT.map((what) => ({
      what,
      geometry: new THREE.BufferGeometry().setAttribute(
        'position',
        new THREE.Float32BufferAttribute(points[what], 3),
      ),
    }))
  }, [others, props.moves])
  return lines.map(
    ({ what, geometry }) =>
      drawn[what] && (
        <Lines
          key={what}
          geometry={geometry}
          colour={DOES[what].colour}
          opacity={DOES[what].opacity}
          through
        />
      ),
  )
}

/** Which paths the picture draws, and which of their moves. */
export function PathsShown() {
  const drawn = useShown((picture) => picture.drawn)
  const set = (change: Partial<Drawn>) => useShown.setState({ drawn: { ...drawn, ...change } })
  return (
    <div className="mb-1 border-b border-rule pb-1" role="group" aria-label="Paths">
      <div role="radiogroup" aria-label="Whose paths" className="mb-0.5 flex flex-wrap gap-x-2">
        {(['one', 'tool', 'all'] as const).map((of) => (
          <label key={of} className="flex items-center gap-1">
            <input
              type="radio"
              name="whose-paths"
              className="accent-action"
              checked={drawn.of === of}
              onChange={() => set({ of })}
            />
            {{ one: 'this', tool: 'its tool', all: 'up to it' }[of]}
          </label>
        ))}
      </div>
      <div className="flex flex-wrap gap-x-2">
        {WHAT.map((what) => (
          <label key={what} className="flex items-center gap-1">
            <input
              type="checkbox"
              className="accent-action"
              checked={drawn[what]}
              onChange={() => set({ [what]: !drawn[what] })}
            />
            <span style={{ color: DOES[what].colour }}>{DOES[what].called}</span>
          </label>
        ))}
      </div>
    </div>
  )
}
