import { useMemo } from 'react'
import type { OperationReport, ProjectState, SetupReport } from '../api/client'
import { usePiece } from '../api/hooks'
import { arcOf, linesOf, movingFrom, useChosen, usePathsOf } from './moment'

/** How the control stands after a line. */
export type Standing = {
  tool: number
  register: string
  length: number
  radius: number
  plane: string
  absolute: boolean | null
  inverse_time: boolean
  motion: string
  feed: number
  spindle: number
  speed: number
  coolant: string
  shift: [number, number, number]
}
type Kind = 'rapid' | 'line' | 'cw' | 'ccw' | 'dwell' | 'stop'
/** Line from 1, kind, X, Y, Z, A, B, C, when it ends, and of an arc its middle. */
type Row = [number, Kind, number, number, number, number, number, number, number, number?, number?]
export type Trace = {
  events: Row[]
  stood: [number, Standing][]
  registers: Record<string, Record<string, number>>
  lengths: Record<string, number>
  radii: Record<string, number>
}

/** When a line of the program is run, in the setup's time, s. line: from 0. */
export type Span = { line: number; from: number; to: number; run: string }

/** The program of the chosen setup: its lines, when each is run, and how the control takes it. */
export type Running = {
  setup: SetupReport
  text: string
  lines: string[]
  spans: Span[]
  /** The line of each move, by the run of its operation. */
  moves: ReturnType<typeof linesOf>
  trace: Trace | undefined
}

const NO_MOVES: ReturnType<typeof linesOf> = {}
const NO_SPANS: Span[] = []

/** When each line is run that moves the tool in a cut or on its way to one. */
function spansOf(operations: OperationReport[], lines: ReturnType<typeof linesOf>, ends: number[][]) {
  const spans: Span[] = []
  const begins = movingFrom(operations)
  operations.forEach((one, i) => {
    const moving = begins[i] ?? 0
    let from = 0
    lines[one.run]?.forEach((line, move) => {
      const to = ends[i]?.[move] ?? from
      const last = spans.at(-1)
      if (last?.line === line && last.run === one.run) last.to = moving + to
      else spans.push({ line, from: moving + from, to: moving + to, run: one.run })
      from = to
    })
  })
  return spans
}

/** The line of each move of a setup's program, and when each line is run; nothing while there is no setup to ask for. */
export function useSpans(setup: SetupReport | undefined) {
  const { data: text } = usePiece(setup?.program_key, 'lines.json')
  const ends = usePathsOf(setup?.operations.map((one) => one.key) ?? [])
  const moves = useMemo(() => (text ? linesOf(text) : NO_MOVES), [text])
  const spans = useMemo(
    () => (setup ? spansOf(setup.operations, moves, ends) : NO_SPANS),
    [setup, moves, ends],
  )
  return { moves, spans }
}

/** The chosen setup's program as it runs; undefined while there is none. */
export function useRunningProgram(project: ProjectState): Running | undefined {
  const setup = useChosen(project)
  const { data: text } = usePiece(setup?.program_key, 'program.nc')
  const { data: traceText } = usePiece(setup?.proof?.key, 'control.json')
  const { moves, spans } = useSpans(setup)
  const trace = useMemo(() => (traceText ? (JSON.parse(traceText) as Trace) : undefined), [traceText])
  return useMemo(
    () =>
      setup && text !== undefined ? { setup, text, lines: text.split('\n'), spans, moves, trace } : undefined,
    [setup, text, spans, moves, trace],
  )
}

/** When a line is run, or, where it moves nothing, is come to. */
export function momentOf(spans: Span[], line: number): { from: number; to: number } {
  const own = spans.find((span) => span.line === line)
  if (own) return own
  const at = spans.findLast((span) => span.line < line)?.to ?? 0
  return { from: at, to: at }
}

/** The span that is under way at a moment, or was last. */
export function spanAt(spans: Span[], time: number): Span | undefined {
  let [low, high] = [0, spans.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if ((spans[middle]?.from ?? 0) < time || middle === 0) low = middle + 1
    else high = middle
  }
  return spans[low - 1]
}

/** How the control stands at a line, part of its time gone by. */
export type Now = {
  standing: Standing | undefined
  place: { axis: string; value: number }[]
  toGo: number
}

/** The events of each line, first and past the last, by line from 1. */
const byLine = new WeakMap<Trace, Map<number, [number, number]>>()
function eventsOf(trace: Trace) {
  const known = byLine.get(trace)
  if (known) return known
  const made = new Map<number, [number, number]>()
  trace.events.forEach(([line], i) => {
    const own = made.get(line)
    if (own && own[1] === i) own[1] = i + 1
    else if (!own) made.set(line, [i, i + 1])
  })
  byLine.set(trace, made)
  return made
}

const AXES = ['X', 'Y', 'Z', 'A', 'B', 'C']
const endOf = (row: Row | undefined): number[] =>
  row ? [row[2], row[3], row[4], row[5], row[6], row[7]] : [0, 0, 0, 0, 0, 0]

/** Where an event is after a share of it. */
function along(before: number[], row: Row, share: number): number[] {
  const end = endOf(row)
  const out = end.map((to, i) => (before[i] ?? 0) + share * (to - (before[i] ?? 0)))
  const [cx, cy] = [row[9], row[10]]
  if (cx === undefined || cy === undefined) return out
  const from = [before[0] ?? 0, before[1] ?? 0] as const
  const [first, sweep] = arcOf(row[1] === 'ccw' ? 'ccw' : 'cw', from, [row[2], row[3]], [cx, cy])
  const radius = Math.hypot(from[0] - cx, from[1] - cy)
  out[0] = cx + radius * Math.cos(first + share * sweep)
  out[1] = cy + radius * Math.sin(first + share * sweep)
  return out
}

/** How the control stands at a line (from 0), a share of its time gone by. */
export function standsAt(trace: Trace, line: number, share: number): Now {
  const standing = trace.stood.findLast(([at]) => at <= line + 1)?.[1]
  const own = eventsOf(trace).get(line + 1)
  const known = AXES.filter(
    (_, i) => i < 3 || trace.events.some((row) => Math.abs(row[i + 2] as number) > 1e-9),
  )
  const told = (values: number[]) => known.map((axis) => ({ axis, value: values[AXES.indexOf(axis)] ?? 0 }))
  if (!own) {
    const last = trace.events.findLastIndex((row) => row[0] <= line + 1)
    return { standing, place: told(endOf(trace.events[last])), toGo: 0 }
  }
  const [first, past] = own
  const began = trace.events[first - 1]?.[8] ?? 0
  const until = trace.events[past - 1]?.[8] ?? began
  const time = began + share * (until - began)
  let at = first
  while (at < past - 1 && (trace.events[at]?.[8] ?? 0) < time) at += 1
  const row = trace.events[at] as Row
  const from = trace.events[at - 1]?.[8] ?? 0
  const within = row[8] > from ? Math.min(1, Math.max(0, (time - from) / (row[8] - from))) : 1
  const before = endOf(trace.events[at - 1])
  const here = along(before, row, within)
  const end = endOf(row)
  return {
    standing,
    place: told(here),
    toGo: Math.hypot(...[0, 1, 2].map((i) => (end[i] ?? 0) - (here[i] ?? 0))),
  }
}
