import { useMemo } from 'react'
import type { OperationReport, ProjectState, SetupReport, Vec } from '../api/client'
import { usePiece } from '../api/hooks'
import { useView } from '../state'

export type Move = { kind: 'rapid' | 'line' | 'cw' | 'ccw'; points: Vec[]; length: number; seconds: number }
export type PathFile = {
  start: Vec
  moves: [Move['kind'], number, number, number, number, number?, number?][]
}

/** The report of the chosen setup. */
export function useChosen(project: ProjectState): SetupReport | undefined {
  const card = useView((view) => view.card)
  const name = typeof card === 'number' ? project.plan.setups[card]?.name : undefined
  return project.report?.setups.find((one) => one.name === name)
}

/** Moves of a path file as drawn points and times; arcs as chords of 6° at most. */
export function movesOf(file: PathFile, rapid = 24000): Move[] {
  let at = file.start
  return file.moves.map(([kind, x, y, z, feed, cx, cy]) => {
    const points: Vec[] = [at]
    if (cx !== undefined && cy !== undefined) {
      const radius = Math.hypot(at[0] - cx, at[1] - cy)
      const first = Math.atan2(at[1] - cy, at[0] - cx)
      let sweep = Math.atan2(y - cy, x - cx) - first
      const whole = Math.hypot(at[0] - x, at[1] - y) < 1e-6
      if (kind === 'ccw') sweep = whole ? 2 * Math.PI : (sweep + 4 * Math.PI) % (2 * Math.PI)
      else sweep = whole ? -2 * Math.PI : -((4 * Math.PI - sweep) % (2 * Math.PI))
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
    let length = 0
    for (let i = 1; i < points.length; i += 1) {
      const [a, b] = [points[i - 1], points[i]]
      if (a && b) length += Math.hypot(b[0] - a[0], b[1] - a[1], b[2] - a[2])
    }
    at = [x, y, z]
    return { kind, points, length, seconds: (length / (kind === 'rapid' ? rapid : feed)) * 60 }
  })
}

export function usePath(key: string | null | undefined): Move[] | undefined {
  const { data } = usePiece(key, 'path.json')
  return useMemo(() => (data ? movesOf(JSON.parse(data) as PathFile) : undefined), [data])
}

/** Where the chosen setup stands in time: which operation, which move, where the tip is. */
export function useMoment(project: ProjectState) {
  const setup = useChosen(project)
  const time = useView((view) => view.time)
  const named = useView((view) => view.operation)
  const operations = setup?.operations ?? []
  let operation: OperationReport | undefined
  let start = 0
  let within = Infinity
  if (time === Infinity) operation = operations.find((one) => one.id === named)
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
        return { index, tip, seconds: Math.max(0, within - change) }
      }
      left -= move.seconds
    }
    return undefined
  }, [path, within, operation])
  return { setup, operation, moment, path }
}
