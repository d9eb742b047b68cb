import { useFrame, useThree } from '@react-three/fiber'
import { type KeyboardEvent, type PointerEvent, useEffect, useMemo, useRef } from 'react'
import * as THREE from 'three'
import { create } from 'zustand'
import type { Part, ProjectState, Setup, SetupReport, Vec, Zero } from '../api/client'
import { useCommit } from '../api/hooks'
import { onTopOf } from '../stages/seat/zero'
import { Follow, LETTER, OnScreen } from './Axes'

/** How far out the places stand that an arrow can be dragged to, in lengths of the arrow. */
const OUT = 2.1
/** Nearer than this to where it was taken up, nothing is dragged, pixels. */
const BACK_PX = 8
/** So many holes are places for zero at most: the widest. */
const MOST_HOLES = 24

/** One place that zero can be dragged to; zero frame. */
type Place = { id: string; label: string; at: Vec; zero: Zero }
/** What is being dragged, the place it would go to, and the way towards who looks. */
const useDragged = create<{ what: 'zero' | 'X' | 'Z' | null; near: string | null; towards: Vec }>(() => ({
  what: null,
  near: null,
  towards: [0, 0, 1],
}))

/** Whether a place lies on a side of its box that is seen from a way; of the jaw's face every one is. */
const inSight = ({ zero }: Place, towards: Vec) =>
  zero.of === 'holding' || [zero.x, zero.y, zero.z].some((side, d) => side * (towards[d] ?? 0) > 1e-6)

const SIDE = [-1, 0, 1] as const
const WORDS: Record<'x' | 'y' | 'z', [string, string, string]> = {
  x: ['left', '', 'right'],
  y: ['front', '', 'back'],
  z: ['bottom', 'half height', 'top'],
}
const told = (x: number, y: number, z: number) =>
  [WORDS.x[x + 1], WORDS.y[y + 1], WORDS.z[z + 1]].filter(Boolean).join(' ')

/** Places of the incoming stock's box, of the jaw at the back, and over the part's upright holes. */
export function placesFor(setup: SetupReport, part: Part | undefined): Place[] {
  const { low, high, hold, zero_from_work: matrix } = setup
  if (!low || !high || !matrix) return []
  const out: Place[] = []
  const on = (of: 'incoming' | 'holding', a: readonly number[], b: readonly number[], name: string) => {
    const flat = a.map((one, d) => Math.abs((b[d] ?? 0) - one) < 1e-9)
    for (const x of SIDE)
      for (const y of SIDE)
        for (const z of SIDE) {
          const sides = [x, y, z]
          // Nothing within the stock; of the jaw what the work rests on and its top.
          if (sides.some((side, d) => flat[d] && side !== 0)) continue
          if (of === 'holding' ? z === 0 : !x && !y && !z) continue
          const at = sides.map((side, d) => {
            const [from, to] = [a[d] ?? 0, b[d] ?? 0]
            return (from + to) / 2 + (side * (to - from)) / 2
          }) as Vec
          const zero = { ...onTopOf(of), x, y, z }
          out.push({
            id: `to-${of}-${[x, y, z].join('').replaceAll('-', 'm')}`,
            label: `${name}, ${told(x, y, z)}`,
            at,
            zero,
          })
        }
  }
  on('incoming', low, high, 'stock')
  if (hold?.jaw) on('holding', hold.jaw[0], hold.jaw[1], 'jaw')
  const turn = new THREE.Matrix4().set(...(matrix.flat() as Parameters<THREE.Matrix4['set']>))
  const holes = (part?.faces ?? [])
    .filter((face) => face.kind === 'cylinder' && face.hollow && face.axis && face.axis_point)
    .sort((a, b) => (b.radius ?? 0) - (a.radius ?? 0))
  const taken = new Set<string>()
  for (const face of holes) {
    const axis = new THREE.Vector3(...(face.axis as Vec)).transformDirection(turn)
    if (Math.abs(axis.z) < 0.9999) continue
    const point = new THREE.Vector3(...(face.axis_point as Vec)).applyMatrix4(turn)
    const key = `${point.x.toFixed(2)} ${point.y.toFixed(2)}`
    if (taken.has(key) || taken.size >= MOST_HOLES) continue
    taken.add(key)
    out.push({
      id: `to-hole-${face.number}`,
      label: `hole F${face.number}, top`,
      at: [point.x, point.y, high[2]],
      zero: { ...onTopOf('hole'), hole: { face: face.number, at: face.centre } },
    })
  }
  return out
}

const WAYS: { id: string; way: Vec }[] = [
  { id: 'way-xp', way: [1, 0, 0] },
  { id: 'way-yp', way: [0, 1, 0] },
  { id: 'way-xm', way: [-1, 0, 0] },
  { id: 'way-ym', way: [0, -1, 0] },
  { id: 'way-zp', way: [0, 0, 1] },
  { id: 'way-zm', way: [0, 0, -1] },
]
/** Those an axis can be dragged to. */
const waysOf = (axis: 'X' | 'Z') => WAYS.filter(({ way }) => (axis === 'X' ? way[2] === 0 : true))

/** In the picture: where places and arrows stand. */
export function DragPoints({ places }: { places: Place[] }) {
  const towards = useRef<Vec>([0, 0, 1])
  const { invalidate } = useThree()
  const what = useDragged((one) => one.what)
  useEffect(() => invalidate(), [what, places, invalidate])
  useFrame(({ camera }) => {
    const away = camera.getWorldDirection(new THREE.Vector3())
    towards.current = [-away.x, -away.y, -away.z]
  })
  // The picture stands still while something is dragged in it.
  useEffect(() => {
    if (what) useDragged.setState({ towards: towards.current })
  }, [what])
  return (
    <>
      <Follow id="drag-zero" at={[0, 0, 0]} />
      {places.map((one) => (
        <Follow key={one.id} id={one.id} at={one.at} />
      ))}
      <OnScreen at={[0, 0, 0]}>
        <Follow id="drag-X" at={[LETTER, 0, 0]} />
        <Follow id="drag-Z" at={[0, 0, LETTER]} />
        {WAYS.map(({ id, way }) => (
          <Follow key={id} id={id} at={way.map((one) => one * OUT) as Vec} />
        ))}
      </OnScreen>
    </>
  )
}

/** The one of some places over the picture that is nearest to the pointer. */
function nearest(ids: string[], x: number, y: number): string | null {
  let [best, away] = [null as string | null, Infinity]
  for (const id of ids) {
    const at = document.getElementById(id)?.getBoundingClientRect()
    const distance = at ? Math.hypot(at.left - x, at.top - y) : Infinity
    if (distance < away) [best, away] = [id, distance]
  }
  return best
}

/** The seat with X where one of its ways now is, in quarter turns where it is told by them. */
function turnedTo(seat: Setup['seat'], way: Vec) {
  const quarters = -Math.round(Math.atan2(way[1], way[0]) / (Math.PI / 2))
  if (seat.x.rule === 'turn') {
    const turns = seat.x.quarter_turns + (seat.flip ? -quarters : quarters)
    seat.x.quarter_turns = ((turns % 4) + 4) % 4
  } else seat.turn_deg = (((seat.turn_deg + 90 * quarters) % 360) + 360) % 360
}

/** Over the picture: handles at zero, at the end of X and at the end of Z, and the places each can be dragged to. */
export function ZeroHandles(props: {
  project: ProjectState
  index: number
  setup: SetupReport
  places: Place[]
}) {
  const { project, index, setup, places } = props
  const commit = useCommit(project)
  const { what, near, towards } = useDragged()
  const from = useRef({ x: 0, y: 0 })
  const labels = useMemo(() => new Map(places.map((one) => [one.id, one.label])), [places])
  useEffect(() => useDragged.setState({ what: null, near: null }), [project.revision])
  const own = project.plan.setups[index]
  if (!own) return null
  const toPlace = (place: Place) =>
    void commit(`${setup.name}: zero to ${place.label}`, (draft) => {
      const mine = draft.setups[index]
      if (mine) mine.seat.zero = place.zero
    })
  const toWay = (axis: 'X' | 'Z', way: Vec) => {
    if (axis === 'X' ? way[0] === 1 : way[2] === 1) return
    const m = setup.zero_from_work
    if (!m) return
    const part = [0, 1, 2].map((column) =>
      Number(way.reduce((sum, one, row) => sum + one * (m[row]?.[column] ?? 0), 0).toFixed(9)),
    ) as Vec
    void commit(`${setup.name}: ${axis === 'X' ? 'X turned' : 'another side up'}`, (draft) => {
      const seat = draft.setups[index]?.seat
      if (!seat) return
      if (axis === 'X') turnedTo(seat, way)
      else {
        seat.up = { rule: 'direction', direction: part }
        seat.flip = false
      }
    })
  }
  const ids = (one: 'zero' | 'X' | 'Z') =>
    one === 'zero'
      ? places.filter((place) => inSight(place, towards)).map((place) => place.id)
      : waysOf(one).map((way) => way.id)
  const drop = () => {
    const { what: one, near: id } = useDragged.getState()
    useDragged.setState({ what: null, near: null })
    if (!one || !id) return
    const place = places.find((other) => other.id === id)
    const way = WAYS.find((other) => other.id === id)
    if (place) toPlace(place)
    else if (way && one !== 'zero') toWay(one, way.way)
  }
  const handlers = (one: 'zero' | 'X' | 'Z') => ({
    onPointerDown: (event: PointerEvent<HTMLButtonElement>) => {
      event.currentTarget.setPointerCapture(event.pointerId)
      from.current = { x: event.clientX, y: event.clientY }
      useDragged.setState({ what: one, near: null })
    },
    onPointerMove: (event: PointerEvent<HTMLButtonElement>) => {
      if (useDragged.getState().what !== one) return
      const { clientX: x, clientY: y } = event
      // Brought back to where it was, it stays.
      const back = Math.hypot(x - from.current.x, y - from.current.y) < BACK_PX
      useDragged.setState({ near: back ? null : nearest(ids(one), x, y) })
    },
    onPointerUp: drop,
    onPointerCancel: () => useDragged.setState({ what: null, near: null }),
  })
  /** One place on, by the arrow keys: X and Y as they are on the machine, Z by page up and down. */
  const step = (event: KeyboardEvent) => {
    const ways: Record<string, ['x' | 'y' | 'z', number]> = {
      ArrowLeft: ['x', -1],
      ArrowRight: ['x', 1],
      ArrowDown: ['y', -1],
      ArrowUp: ['y', 1],
      PageDown: ['z', -1],
      PageUp: ['z', 1],
    }
    const by = ways[event.key]
    if (!by) return
    event.preventDefault()
    event.stopPropagation()
    const { zero } = own.seat
    const of = zero.of === 'holding' ? 'holding' : 'incoming'
    const wanted = { x: zero.x, y: zero.y, z: zero.z, [by[0]]: zero[by[0]] + by[1] }
    const place = places.find(
      ({ zero: one }) => one.of === of && one.x === wanted.x && one.y === wanted.y && one.z === wanted.z,
    )
    if (place) toPlace(place)
  }
  const turn = (axis: 'X' | 'Z') => (event: KeyboardEvent) => {
    const ways: Record<string, Vec> =
      axis === 'X'
        ? { ArrowLeft: [0, -1, 0], ArrowRight: [0, 1, 0] }
        : { ArrowLeft: [-1, 0, 0], ArrowRight: [1, 0, 0], ArrowUp: [0, 1, 0], ArrowDown: [0, -1, 0] }
    const way = ways[event.key]
    if (!way) return
    event.preventDefault()
    event.stopPropagation()
    toWay(axis, way)
  }
  const shown = what ? ids(what) : []
  return (
    <>
      {[...places.map((one) => one.id), ...WAYS.map((one) => one.id)].map((id) => (
        <div key={id} id={id} className="pointer-events-none absolute left-0 top-0 z-10">
          {shown.includes(id) && (
            <div
              className={`absolute size-2 -translate-x-1/2 -translate-y-1/2 rounded-full border border-action ${id === near ? 'scale-150 bg-action' : 'bg-sheet'}`}
            />
          )}
          {id === near && labels.has(id) && (
            <span className="absolute left-2 top-1.5 whitespace-nowrap border border-action bg-sheet px-1 text-[12px] text-action">
              {labels.get(id)}
            </span>
          )}
        </div>
      ))}
      <Handle id="drag-zero" label="Drag zero" keys={step} handlers={handlers('zero')}>
        Drag zero to another place; arrow keys move it from one to the next, page up and down in height
      </Handle>
      <Handle id="drag-X" label="Drag X" keys={turn('X')} handlers={handlers('X')}>
        Drag X to where another side of the work is; arrow keys turn it a quarter
      </Handle>
      <Handle id="drag-Z" label="Drag Z" keys={turn('Z')} handlers={handlers('Z')}>
        Drag Z to the side that is to look up; arrow keys tip the work
      </Handle>
    </>
  )
}

function Handle(props: {
  id: string
  label: string
  children: string
  keys: (event: KeyboardEvent) => void
  handlers: object
}) {
  return (
    <div id={props.id} className="pointer-events-none absolute left-0 top-0 z-10">
      <button
        type="button"
        aria-label={props.label}
        title={props.children}
        className="pointer-events-auto absolute size-[17px] -translate-x-1/2 -translate-y-1/2 cursor-grab touch-none rounded-full border border-action/50 hover:border-action hover:bg-action/20 focus-visible:border-action"
        onKeyDown={props.keys}
        {...props.handlers}
      />
    </div>
  )
}
