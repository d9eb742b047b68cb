import { useQueries } from '@tanstack/react-query'
import { useMemo } from 'react'
import type { OperationReport, ProjectState, SetupReport, Vec } from '../api/client'
import { pieceQuery, usePiece } from '../api/hooks'
import { useClock } from '../state/clock'
import { useRoute } from '../state/route'

/** The program's line of each move, by the run of its operation. */
export const linesOf = (text: string) => JSON.parse(text) as Partial<Record<string, number[]>>

/** A move as it is drawn. turns: about which axis and how far (radians) the tool leans there, where the work turns under it. */
export type Move = {
  kind: 'rapid' | 'line' | 'cw' | 'ccw'
  points: Vec[]
  turns: { along: Vec; angles: number[] } | null
  seconds: number
  /** A feed move that takes nothing off. */
  inAir: boolean
  /** It leads down into a cut, to one or away from one. */
  lead: boolean
}
/** How a flat path lies round a rotary axis: as the core writes it. */
type Round = { along: Vec; centre: Vec; radius: number }
export type PathFile = {
  start: Vec
  moves: [Move['kind'], number, number, number, number, number?, number?][]
  ends_s: number[]
  in_air: number[]
  leads: number[]
  round: Round | null
}

/** How far round its axis a place of the flat lies, radians. */
const turnAt = (round: Round, flat: Vec) => flat[1] / round.radius

/** A place of the flat on its cylinder, in the plane of the operation. */
function laidRound(round: Round, flat: Vec): Vec {
  const { along, centre } = round
  const turn = turnAt(round, flat)
  const out = flat[2] - centre[2]
  // Square to the axis and to the spindle.
  const aside: Vec = [-along[1], along[0], 0]
  return [0, 1, 2].map(
    (d) =>
      (centre[d] ?? 0) +
      flat[0] * (along[d] ?? 0) +
      out * (Math.sin(turn) * (aside[d] ?? 0) + (d === 2 ? Math.cos(turn) : 0)),
  ) as unknown as Vec
}

type Flat = readonly [number, number, ...number[]]

/** At which angle an arc begins and how far it goes round, radians; once round where it ends as it begins. */
export function arcOf(kind: Move['kind'], from: Flat, to: Flat, [cx, cy]: Flat): [number, number] {
  const first = Math.atan2(from[1] - cy, from[0] - cx)
  const sweep = Math.atan2(to[1] - cy, to[0] - cx) - first
  const whole = Math.hypot(from[0] - to[0], from[1] - to[1]) < 1e-6
  if (kind === 'ccw') return [first, whole ? 2 * Math.PI : (sweep + 4 * Math.PI) % (2 * Math.PI)]
  return [first, whole ? -2 * Math.PI : -((4 * Math.PI - sweep) % (2 * Math.PI))]
}

/** When each operation of a setup begins to move, s from the setup's start: its tool change comes first. */
export function movingFrom(operations: OperationReport[]): number[] {
  let start = 0
  return operations.map((one) => {
    const moving = start + Math.max(0, one.time_s - one.moving_s)
    start += one.time_s
    return moving
  })
}

/** The report of the chosen setup. */
export function useChosen(project: ProjectState): SetupReport | undefined {
  const card = useRoute((view) => view.card)
  const name = typeof card === 'number' ? project.plan.setups[card]?.name : undefined
  return project.report?.setups.find((one) => one.name === name)
}

/** Moves of a path file as drawn points and times; arcs, and what goes round an axis, as chords of 6° at most. */
export function movesOf(file: PathFile): Move[] {
  let at = file.start
  const [inAir, leads] = [new Set(file.in_air), new Set(file.leads)]
  return file.moves.map(([kind, x, y, z, , cx, cy], number) => {
    const points: Vec[] = [at]
    if (cx !== undefined && cy !== undefined) {
      const radius = Math.hypot(at[0] - cx, at[1] - cy)
      const [first, sweep] = arcOf(kind, at, [x, y], [cx, cy])
      const steps = Math.max(2, Math.ceil(Math.abs(sweep) / 0.1))
      for (let i = 1; i < steps; i += 1) {
        const angle = first + (sweep * i) / steps
        points.push([
          cx + radius * Math.cos(angle),
          cy + radius * Math.sin(angle),
          at[2] + ((z - at[2]) * i) / steps,
        ])
      }
    }
    points.push([x, y, z])
    at = [x, y, z]
    const seconds = (file.ends_s[number] ?? 0) - (file.ends_s[number - 1] ?? 0)
    return { kind, seconds, inAir: inAir.has(number), lead: leads.has(number), ...drawn(points, file.round) }
  })
}

/** Points as they are drawn, and how far the work is turned under each. */
function drawn(points: Vec[], round: Round | null): Pick<Move, 'points' | 'turns'> {
  if (!round) return { points, turns: null }
  const fine: Vec[] = []
  points.forEach((b, i) => {
    const a = points[i - 1]
    const steps = a ? Math.max(1, Math.ceil(Math.abs(turnAt(round, b) - turnAt(round, a)) / 0.1)) : 1
    for (let k = a ? 1 : steps; k <= steps; k += 1)
      fine.push(a ? (b.map((c, d) => (a[d] ?? 0) + ((c - (a[d] ?? 0)) * k) / steps) as Vec) : b)
  })
  return {
    points: fine.map((flat) => laidRound(round, flat)),
    turns: { along: round.along, angles: fine.map((flat) => turnAt(round, flat)) },
  }
}

export function usePath(key: string | null | undefined): Move[] | undefined {
  const { data } = usePiece(key, 'path.json')
  return useMemo(() => (data ? movesOf(JSON.parse(data) as PathFile) : undefined), [data])
}

/** The paths of several results, each as soon as it is there. */
export function usePaths(keys: (string | null | undefined)[]): Move[] {
  const found = useQueries({ queries: keys.map((key) => pieceQuery(key, 'path.json')) })
  const texts = found.map((one) => one.data).filter((text) => text !== undefined)
  const said = texts.map((text) => text.length).join()
  // eslint-disable-next-line react-hooks/exhaustive-deps -- a result never changes: its keys tell it
  return useMemo(() => texts.flatMap((text) => movesOf(JSON.parse(text) as PathFile)), [keys.join(), said])
}

/** When each move of several results ends, s; empty until it is known. */
export function usePathsOf(keys: (string | null | undefined)[]): number[][] {
  const found = useQueries({ queries: keys.map((key) => pieceQuery(key, 'path.json')) })
  const said = found.map((one) => one.data?.length).join()
  return useMemo(
    () => found.map(({ data }) => (data ? (JSON.parse(data) as PathFile).ends_s : [])),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- a result never changes: its keys tell it
    [keys.join(), said],
  )
}

/** Where the chosen setup stands in time: which operation, which move, where the tip is. */
export function useMoment(project: ProjectState) {
  const setup = useChosen(project)
  const time = useClock((view) => view.time)
  const named = useRoute((view) => view.operation)
  const operations = setup?.operations ?? []
  let operation: OperationReport | undefined
  let start = 0
  let within = Infinity
  if (time === Infinity) operation = operations.findLast((one) => one.run === named || one.id === named)
  else
    for (const one of operations) {
      operation = one
      within = time - start
      if (within <= one.time_s) break
      start += one.time_s
    }
  const path = usePath(operation?.key)
  const moment = useMemo(() => {
    if (!path || within === Infinity || !operation) return undefined
    const cutting = path.reduce((sum, move) => sum + move.seconds, 0)
    const change = Math.max(0, operation.time_s - cutting) // the tool change comes first
    let left = Math.max(0, within - change)
    for (const [index, move] of path.entries()) {
      if (left <= move.seconds || index === path.length - 1) {
        const share = Math.min(1, move.seconds ? left / move.seconds : 1)
        const at = share * (move.points.length - 1)
        const a = move.points[Math.floor(at)]
        const b = move.points[Math.min(move.points.length - 1, Math.floor(at) + 1)]
        if (!a || !b) return undefined
        const part = at - Math.floor(at)
        const tip = [0, 1, 2].map((d) => (a[d] ?? 0) + ((b[d] ?? 0) - (a[d] ?? 0)) * part) as unknown as Vec
        const [first, last] = [move.turns?.angles[Math.floor(at)], move.turns?.angles[Math.floor(at) + 1]]
        const lean = move.turns && {
          along: move.turns.along,
          angle: (first ?? 0) + ((last ?? first ?? 0) - (first ?? 0)) * part,
        }
        return { index, tip, lean, seconds: Math.max(0, within - change) }
      }
      left -= move.seconds
    }
    return undefined
  }, [path, within, operation])
  return { setup, operation, moment, path }
}
