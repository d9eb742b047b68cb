import { type KeyboardEvent, type PointerEvent, useEffect, useMemo, useRef, useState } from 'react'
import * as THREE from 'three'
import type { OperationReport, ProjectState, SetupReport, Vec } from '../api/client'
import { useCommit } from '../api/hooks'
import { tell } from '../state/editing'
import { round } from '../ui/words'
import { Follow, OnScreen } from './Axes'
import { onScreen, useCamera, useTellCamera } from './camera'

const INK = '#1E2A2F'

/** Operations that touch, whose touches are shown: all where registers are looked at, else the one that is open. */
export const touching = (setup: SetupReport | undefined, stage: string, open: string) =>
  (setup?.operations ?? []).filter(
    (one) => one.probe && (stage === 'reach' || stage === 'seat' || (stage === 'cut' && one.id === open)),
  )

const labelId = (run: string) => `touches-${run}`

/** A place goes by steps of this, mm. */
const STEP_MM = 0.5
const handleId = (run: string, n: number) => `touch-${run}-${n}`

/** Where a probe touches: an arrow onto each place, work frame. */
export function Touches({ of }: { of: OperationReport[] }) {
  useTellCamera()
  return of.map((one) => (
    <group key={one.run}>
      {one.probe?.touches.map((touch, n) => (
        <group key={n}>
          <Arrow at={touch.at} way={touch.way} />
          <Follow id={handleId(one.run, n)} at={touch.at} />
        </group>
      ))}
      {one.probe?.touches[0] && <Follow id={labelId(one.run)} at={one.probe.touches[0].at} />}
    </group>
  ))
}

function Arrow({ at, way }: { at: Vec; way: Vec }) {
  const turn = useMemo(
    () => new THREE.Quaternion().setFromUnitVectors(new THREE.Vector3(0, 1, 0), new THREE.Vector3(...way)),
    [way],
  )
  return (
    <OnScreen at={at}>
      <group quaternion={turn}>
        <mesh position={[0, -0.42, 0]} renderOrder={7}>
          <cylinderGeometry args={[0.03, 0.03, 0.5, 6]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
        <mesh position={[0, -0.12, 0]} renderOrder={7}>
          <coneGeometry args={[0.1, 0.24, 10]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
        <mesh position={[0, -0.72, 0]} renderOrder={7}>
          <sphereGeometry args={[0.09, 12, 8]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
      </group>
    </OnScreen>
  )
}

/** What each sets, over the picture. */
export const TouchLabels = ({ of }: { of: OperationReport[] }) => (
  <>
    {of.map((one) => (
      <div key={one.run} id={labelId(one.run)} className="pointer-events-none absolute left-0 top-0">
        <div className="-translate-x-[105%] -translate-y-[130%] whitespace-nowrap border border-rule bg-sheet px-1 text-[11px]">
          {one.name}
          {one.probe?.sets && (
            <span className="figures">{` → ${one.probe.sets} ${one.probe.axes.join(' ')}`}</span>
          )}
        </div>
      </div>
    ))}
  </>
)

type Placed = { along: number; depth: number | null }

/** Over the picture, while its operation is open: a handle at each place that is touched, to be pulled along its wall and down it. */
export function TouchHandles(props: {
  project: ProjectState
  index: number
  setup: SetupReport
  of: OperationReport
}) {
  const { project, index, setup, of } = props
  const commit = useCommit(project)
  const own = project.plan.setups[index]?.operations.find((one) => one.id === of.id)
  const [pulled, setPulled] = useState<Placed | null>(null)
  const from = useRef<{ x: number; y: number } | null>(null)
  useEffect(() => setPulled(null), [project.revision])
  if (!own || !('along' in own) || !of.probe) return null
  // In a bore and on a boss there is no along.
  const inRound = own.what === 'bore' || own.what === 'boss'
  const was: Placed = { along: own.along ?? 0, depth: of.probe.depth ?? null }
  const keep = async (next: Placed) => {
    const told = `touched ${round(next.along, 2)} along${next.depth === null ? '' : `, ${round(next.depth, 2)} deep`}`
    const problem = await commit(`${of.name}: ${told}`, (draft) => {
      const mine = draft.setups[index]?.operations.find((one) => one.id === of.id)
      if (!mine || !('along' in mine)) return
      mine.along = next.along
      if (next.depth !== was.depth) mine.depth = next.depth
    })
    if (problem) tell(problem)
    setPulled(null)
  }
  /** Along its wall and down it, by steps; as far as both can be seen. */
  const placed = (way: Vec, dx: number, dy: number): Placed => {
    const camera = useCamera.getState().camera
    if (!camera) return was
    const ways = waysOf(setup, way)
    const seen = ways.map((one) => onScreen(camera, one))
    const [[a, b], [c, d]] = seen as [[number, number], [number, number]]
    const flat = a * d - b * c
    const long = a * a + b * b
    const step = (value: number) => Math.round(value / STEP_MM) * STEP_MM
    const deep = c * c + d * d
    if (inRound) {
      const down = deep > 0 ? (dx * c + dy * d) / deep : 0
      return { ...was, depth: was.depth === null ? null : Math.max(STEP_MM, was.depth + step(down)) }
    }
    const both = was.depth !== null && Math.abs(flat) > 0.05 * camera.zoom ** 2
    const along = both ? (dx * d - dy * c) / flat : long > 0 ? (dx * a + dy * b) / long : 0
    const down = both ? (a * dy - b * dx) / flat : 0
    return {
      along: was.along + step(along),
      depth: was.depth === null ? null : Math.max(STEP_MM, was.depth + step(down)),
    }
  }
  const now = pulled ?? was
  return of.probe.touches.map((touch, n) => {
    const moves = {
      onPointerDown: (event: PointerEvent<HTMLButtonElement>) => {
        event.currentTarget.setPointerCapture(event.pointerId)
        from.current = { x: event.clientX, y: event.clientY }
      },
      onPointerMove: (event: PointerEvent<HTMLButtonElement>) => {
        const start = from.current
        if (start) setPulled(placed(touch.way, event.clientX - start.x, event.clientY - start.y))
      },
      onPointerUp: () => {
        from.current = null
        if (pulled && (pulled.along !== was.along || pulled.depth !== was.depth)) void keep(pulled)
        else setPulled(null)
      },
      onKeyDown: (event: KeyboardEvent) => {
        const [along, down] = {
          ArrowLeft: [-STEP_MM, 0],
          ArrowRight: [STEP_MM, 0],
          ArrowUp: [0, -STEP_MM],
          ArrowDown: [0, STEP_MM],
        }[event.key] ?? [0, 0]
        if (!along && !down) return
        event.preventDefault()
        event.stopPropagation()
        const depth = was.depth === null ? null : Math.max(STEP_MM, was.depth + (down ?? 0))
        void keep({ along: inRound ? was.along : was.along + (along ?? 0), depth })
      },
    }
    return (
      <div key={n} id={handleId(of.run, n)} className="pointer-events-none absolute left-0 top-0 z-10">
        <button
          type="button"
          aria-label={`Move touch ${n + 1} of ${of.name}`}
          title="Pull it along its wall and down it; arrow keys by 0.5 mm"
          className={`pointer-events-auto absolute size-[13px] -translate-x-1/2 -translate-y-1/2 touch-none rounded-full border border-action hover:bg-action/60 ${pulled ? 'cursor-grabbing' : 'cursor-grab'}`}
          {...moves}
        />
        {pulled && n === 0 && (
          <span className="figures absolute left-2 top-2 whitespace-nowrap border border-action bg-sheet px-1 text-[12px] text-action">
            {!inRound && `along ${round(now.along, 2)} `}
            {now.depth !== null && `${round(now.depth, 2)} deep`}
          </span>
        )}
      </div>
    )
  })
}

/** Along a wall, and down it, as the picture has them: of one that is met along a way of the work. */
function waysOf(setup: SetupReport, way: Vec): [THREE.Vector3, THREE.Vector3] {
  const x = setup.zero_from_work?.[0] ?? [1, 0, 0]
  const met = way.reduce((sum, one, column) => sum + one * (x[column] ?? 0), 0)
  // Met along X it goes along Y; from above, and along Y, along X.
  const along = Math.abs(met) > 0.5 ? new THREE.Vector3(0, 1, 0) : new THREE.Vector3(1, 0, 0)
  return [along, new THREE.Vector3(0, 0, -1)]
}
