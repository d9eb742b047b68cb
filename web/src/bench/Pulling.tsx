import { useThree } from '@react-three/fiber'
import { useEffect, useMemo, useRef } from 'react'
import * as THREE from 'three'
import { create } from 'zustand'
import {
  answered,
  api,
  type Billet,
  type Part,
  type Problem,
  problemInstead,
  type ProjectState,
  type Vec,
} from '../api/client'
import { type Commit, useCommit } from '../api/hooks'
import { tell } from '../state/editing'
import { round } from '../ui/words'
import { Follow } from './Axes'
import { onScreen, useCamera, useTellCamera } from './camera'

export type Margins = Record<string, number>
export const SIDES = ['x-', 'x+', 'y-', 'y+', 'z-', 'z+'] as const
type Side = (typeof SIDES)[number]
/** A side goes by steps of this, and snaps to faces of the part that are nearer than so many pixels. */
const STEP_MM = 0.5
const SNAP_PX = 7

/** The billet as it is being pulled: margins of the sides that are, and the face one of them is flush with. */
type Pull = { margins: Margins; face: number | null }
export const usePull = create<Pull>(() => ({ margins: {}, face: null }))

const axisOf = (side: string) => 'xyz'.indexOf(side[0] ?? 'x') as 0 | 1 | 2
const signOf = (side: string) => (side[1] === '+' ? 1 : -1)
export const opposite = (side: string) => `${side[0]}${side[1] === '-' ? '+' : '-'}`

/** The billet's box with some margins, in the part's frame. */
function boxOf(part: Part, margins: Margins) {
  const low = part.low.map((one, d) => one - (margins[`${'xyz'[d]}-`] ?? 0)) as Vec
  const high = part.high.map((one, d) => one + (margins[`${'xyz'[d]}+`] ?? 0)) as Vec
  return { low, high }
}

/** Where each handle stands: in the middle of its side, or at its corner. */
function handles(part: Part, margins: Margins) {
  const { low, high } = boxOf(part, margins)
  const middle = low.map((one, d) => (one + (high[d] ?? 0)) / 2) as Vec
  const at = (sides: readonly Side[]) => {
    const point: Vec = [...middle]
    for (const side of sides) point[axisOf(side)] = (signOf(side) > 0 ? high : low)[axisOf(side)]
    return point
  }
  const corners = SIDES.slice(0, 2).flatMap((x) =>
    SIDES.slice(2, 4).flatMap((y) => SIDES.slice(4).map((z) => [x, y, z])),
  )
  return [...SIDES.map((side) => [side]), ...corners].map((sides) => ({
    id: `pull-${sides.join('').replaceAll('+', 'p').replaceAll('-', 'm')}`,
    sides,
    at: at(sides),
  }))
}

/** Say a billet's margins in its own way, and keep it. */
export async function pullTo(
  project: ProjectState,
  commit: Commit,
  shape: Billet,
  margins: Margins,
  keep: (draft: Parameters<Parameters<Commit>[1]>[0], next: Billet) => void,
): Promise<Problem | null> {
  const { sha256 } = project.plan.part
  if (!sha256) return null
  const next = await answered<Billet>(
    api.POST('/api/parts/{sha256}/pulled', {
      params: { path: { sha256 } },
      body: { billet: shape as never, pieces: (project.plan.pieces ?? null) as never, margins },
    }),
  ).catch(problemInstead)
  if ('what' in next) return next
  const told = Object.entries(margins).map(([side, value]) => `${side} ${round(value, 2)}`)
  return commit(`billet pulled: ${told.join(', ')}`, (draft) => keep(draft, next))
}

/** In the picture: the box as it is pulled, and the camera that the handles are moved by. */
export function PulledBox({ part, margins }: { part: Part; margins: Margins }) {
  const invalidate = useThree((three) => three.invalidate)
  useTellCamera()
  const pulled = usePull((one) => one.margins)
  useEffect(() => invalidate(), [pulled, invalidate])
  const now = { ...margins, ...pulled }
  const { low, high } = boxOf(part, now)
  const lines = useMemo(() => new THREE.EdgesGeometry(new THREE.BoxGeometry(1, 1, 1)), [])
  return (
    <>
      {Object.keys(pulled).length > 0 && (
        <lineSegments
          geometry={lines}
          renderOrder={4}
          position={low.map((one, d) => (one + (high[d] ?? 0)) / 2) as Vec}
          scale={low.map((one, d) => Math.max(0.01, (high[d] ?? 0) - one)) as Vec}
        >
          <lineBasicMaterial color="#14505C" depthTest={false} transparent />
        </lineSegments>
      )}
      {handles(part, now).map((one) => (
        <Follow key={one.id} id={one.id} at={one.at} />
      ))}
    </>
  )
}

/** Over the picture: a handle on every side and corner of the billet. */
export function PullHandles({
  project,
  part,
  margins,
}: {
  project: ProjectState
  part: Part
  margins: Margins
}) {
  const commit = useCommit(project)
  const pull = usePull()
  const from = useRef<{ x: number; y: number; sides: string[] } | null>(null)
  useEffect(() => usePull.setState({ margins: {}, face: null }), [project.revision])
  const now = { ...margins, ...pull.margins }
  const keep = async (asked: Margins) => {
    const problem = await pullTo(project, commit, project.plan.billet, asked, (draft, next) => {
      draft.billet = next
    })
    if (problem) {
      tell(problem)
      usePull.setState({ margins: {}, face: null })
    }
  }
  const drag = (event: { clientX: number; clientY: number; shiftKey: boolean }) => {
    const start = from.current
    const camera = useCamera.getState().camera
    if (!start || !camera) return
    const asked: Margins = {}
    let flush: number | null = null
    for (const side of start.sides) {
      const way = new THREE.Vector3()
      way.setComponent(axisOf(side), signOf(side))
      const along = moved(
        camera,
        way,
        event.clientX - start.x,
        event.clientY - start.y,
        start.sides.length > 1,
      )
      if (along === null) continue
      const wanted = (margins[side] ?? 0) + along
      const snapped = snap(part, side, wanted, SNAP_PX / camera.zoom)
      asked[side] = snapped.margin
      if (snapped.face !== null) flush = snapped.face
      if (event.shiftKey) asked[opposite(side)] = snapped.margin
    }
    usePull.setState({ margins: asked, face: flush })
  }
  return handles(part, now).map(({ id, sides }) => {
    const corner = sides.length > 1
    const active = sides.every((side) => side in pull.margins)
    return (
      <div key={id} id={id} className="pointer-events-none absolute left-0 top-0 z-10">
        <button
          type="button"
          aria-label={corner ? `Pull corner ${sides.join(' ')}` : `Pull side ${sides[0]}`}
          title={
            corner
              ? 'Pull the corner; with Shift the opposite one alike'
              : 'Pull the side; with Shift the other side alike; arrow keys by 0.5 mm'
          }
          className={`pointer-events-auto absolute touch-none border border-action hover:bg-action focus-visible:bg-action ${corner ? 'size-[9px] -translate-x-1/2 -translate-y-1/2 rounded-full' : 'size-[11px] -translate-x-1/2 -translate-y-1/2'} ${active ? 'cursor-grabbing bg-action' : 'cursor-grab bg-sheet'}`}
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId)
            from.current = { x: event.clientX, y: event.clientY, sides: [...sides] }
          }}
          onPointerMove={drag}
          onPointerUp={() => {
            const moved = from.current !== null && Object.keys(pull.margins).length > 0
            from.current = null
            if (moved) void keep(usePull.getState().margins)
          }}
          onKeyDown={(event) => {
            const step = { ArrowUp: STEP_MM, ArrowRight: STEP_MM, ArrowDown: -STEP_MM, ArrowLeft: -STEP_MM }[
              event.key
            ]
            if (!step) return
            event.preventDefault()
            event.stopPropagation()
            const asked = Object.fromEntries(sides.map((side) => [side, (now[side] ?? 0) + step]))
            if (event.shiftKey) for (const side of sides) asked[opposite(side)] = (now[side] ?? 0) + step
            void keep(asked)
          }}
        />
        {active && (
          <span className="figures absolute left-2 top-1.5 whitespace-nowrap border border-action bg-sheet px-1 text-[12px] text-action">
            {sides.map((side) => `${side} ${round(now[side] ?? 0, 2)}`).join(' · ')}
            {pull.face !== null && <span className="text-ink"> flush with F{pull.face}</span>}
          </span>
        )}
      </div>
    )
  })
}

/** How far along a way the pointer has gone, mm: by the way as it is seen; of a corner, in the picture's plane. Null where the way points at the one who looks. */
function moved(camera: THREE.OrthographicCamera, way: THREE.Vector3, dx: number, dy: number, plane: boolean) {
  const [x, y] = onScreen(camera, way)
  const long = x * x + y * y
  if (long < (0.05 * camera.zoom) ** 2) return null
  const along = x * dx + y * dy
  return plane ? along / camera.zoom ** 2 : along / long
}

/** A margin where it is flush with a plane face of the part, else in whole steps. */
function snap(part: Part, side: string, margin: number, near: number) {
  const [axis, sign] = [axisOf(side), signOf(side)]
  const end = (sign > 0 ? part.high : part.low)[axis] ?? 0
  let best: { margin: number; face: number | null; away: number } = { margin: 0, face: null, away: near }
  for (const face of part.faces) {
    if (face.kind !== 'plane' || Math.abs(face.normal?.[axis] ?? 0) < 0.99999) continue
    const flush = sign * ((face.centre[axis] ?? 0) - end)
    const away = Math.abs(flush - margin)
    if (away < best.away) best = { margin: Number(round(flush, 4)), face: face.number, away }
  }
  return best.face === null
    ? { margin: Math.round(margin / STEP_MM) * STEP_MM, face: null }
    : { margin: best.margin, face: best.face }
}
