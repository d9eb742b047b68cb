import { useMemo } from 'react'
import * as THREE from 'three'
import type { OperationReport, SetupReport } from '../api/client'
import { type Move, usePaths } from '../dock/moment'
import { type Drawn, useShown } from '../state/picture'
import { Lines } from './Lines'

const CUTS = '#12439B'
const AIR = '#7A6A00'
const RAPID = '#A3361B'

/** Whose paths are drawn with that of an operation: those before it in its plane, of its tool or of all; as they run. */
function before(setup: SetupReport | undefined, operation: OperationReport | undefined, of: Drawn['of']) {
  if (!setup || !operation || of === 'one') return []
  const at = setup.operations.findIndex((one) => one.run === operation.run)
  return setup.operations
    .slice(0, at)
    .filter((one) => one.position === operation.position && (of === 'all' || one.tool === operation.tool))
    .map((one) => one.key)
}

/** Paths as lines: what cuts, what is fed through air, rapids. moves: of the operation, up to the moment that is shown. */
export function Paths(props: {
  setup: SetupReport | undefined
  operation: OperationReport | undefined
  moves: Move[]
}) {
  const drawn = useShown((picture) => picture.drawn)
  const others = usePaths(before(props.setup, props.operation, drawn.of))
  const [cuts, air, rapids] = useMemo(() => {
    const all = [...others, ...props.moves]
    const segments = (want: (move: Move) => boolean) => {
      const out: number[] = []
      for (const move of all)
        if (want(move))
          for (let i = 1; i < move.points.length; i += 1)
            out.push(...(move.points[i - 1] ?? []), ...(move.points[i] ?? []))
      return new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(out, 3))
    }
    return [
      segments((move) => move.kind !== 'rapid' && !move.inAir),
      segments((move) => move.inAir),
      segments((move) => move.kind === 'rapid'),
    ]
  }, [others, props.moves])
  return (
    <>
      {drawn.cuts && <Lines geometry={cuts} colour={CUTS} opacity={1} through />}
      {drawn.air && <Lines geometry={air} colour={AIR} opacity={0.8} through />}
      {drawn.rapids && <Lines geometry={rapids} colour={RAPID} opacity={0.5} through />}
    </>
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
        {(['cuts', 'air', 'rapids'] as const).map((what) => (
          <label key={what} className="flex items-center gap-1">
            <input
              type="checkbox"
              className="accent-action"
              checked={drawn[what]}
              onChange={() => set({ [what]: !drawn[what] })}
            />
            <span style={what === 'cuts' ? undefined : { color: what === 'air' ? AIR : RAPID }}>
              {{ cuts: 'cuts', air: 'in air', rapids: 'rapids' }[what]}
            </span>
          </label>
        ))}
      </div>
    </div>
  )
}
