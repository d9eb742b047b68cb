import { useEffect, useMemo, useRef, useState } from 'react'
import type { Problem, ProjectState } from '../api/client'
import { usePiece } from '../api/hooks'
import { toggleStop, useClock } from '../state/clock'
import { useFields } from '../state/fields'
import { showMoment, useRoute } from '../state/route'
import { Refused } from '../ui/Refused'
import { typing } from '../ui/typing'
import { clock, round } from '../ui/words'
import { Against, type Other } from './Against'
import { RunKnob, Speeds } from './Speeds'
import { ControlState } from './ControlState'
import { momentOf, type Running, spanAt, standsAt, useRunningProgram } from './control'
import { loadAt } from './load'
import { useMoment } from './moment'
import { draftOf, keepDraft, useOwnText } from './own'
import { NOTHING as BARE, ProgramText } from './ProgramText'

const NONE: readonly number[] = []
/** Lines that say nothing to the control. */
const silent = (line: string) => /^\s*(%|\([^)]*\)\s*|O\d+.*)?\s*$/.test(line)

/** Which line is run now, from 0, and how much of its time has gone by. */
function lineNow(running: Running, time: number, line: number | null) {
  if (line !== null) {
    const own = running.spans.find(
      (span) => span.line === line && span.to >= time - 1e-6 && span.from <= time,
    )
    return {
      line,
      share: own && own.to > own.from ? Math.min(1, (time - own.from) / (own.to - own.from)) : 1,
    }
  }
  if (time === Infinity) return null
  const span = spanAt(running.spans, time)
  if (!span) return { line: 0, share: 1 }
  return {
    line: span.line,
    share: span.to > span.from ? Math.min(1, (time - span.from) / (span.to - span.from)) : 1,
  }
}

/** Run one line, and show what it does. */
function step(running: Running, from: number) {
  let line = from + 1
  while (line < running.lines.length - 1 && silent(running.lines[line] ?? '')) line += 1
  goTo(running, Math.min(line, running.lines.length - 1))
}

/** Show the moment at which a line is done. */
function goTo(running: Running, line: number) {
  showMoment(momentOf(running.spans, line).to, line)
}

/** Run to where the next line begins that is marked. */
function toMark(running: Running, from: number, stops: readonly number[]) {
  const next = stops.find((line) => line > from)
  if (next !== undefined) showMoment(momentOf(running.spans, next).from, next)
}

/** The program of the chosen setup, in step with the picture, and how the control stands. */
export function ProgramDock({ project }: { project: ProjectState }) {
  const card = useRoute((view) => view.card)
  const view = useFields(useClock, 'time', 'line', 'stops')
  const running = useRunningProgram(project)
  const { operation, moment } = useMoment(project)
  const typedText = useRef<string | null>(null)
  const { data: loads } = usePiece(operation?.key, 'load.json')
  const name = running?.setup.name ?? ''
  const stops = view.stops[name] ?? NONE
  const now = running ? lineNow(running, view.time, view.line) : null
  const at = now?.line ?? null
  const proof = running?.setup.proof
  const beside = useMemo(() => {
    const troubled = new Map<number, string>()
    if (proof?.alarm && proof.alarm_line) troubled.set(proof.alarm_line - 1, proof.alarm)
    for (const one of running?.setup.operations ?? [])
      for (const found of one.findings) {
        if (found.severity === 'note' || found.move == null) continue
        const line = running?.moves[one.run]?.[found.move]
        if (line !== undefined && !troubled.has(line)) troubled.set(line, found.sentence)
      }
    const own =
      operation?.first_line != null && at !== null
        ? ([operation.first_line, operation.last_line ?? 0] as const)
        : null
    return { here: at, stops, troubled, own }
  }, [running, proof, operation, at, stops])
  useEffect(() => {
    if (!running) return
    const pressed = (event: KeyboardEvent) => {
      if (typing(event) || event.key.toLowerCase() !== 'n' || event.ctrlKey || event.metaKey) return
      step(running, at ?? -1)
    }
    window.addEventListener('keydown', pressed)
    return () => window.removeEventListener('keydown', pressed)
  }, [running, at])
  const { data: written } = usePiece(running?.setup.written_key, 'program.nc')
  const [draft, setDraft] = useState<{ setup: string; text: string } | null>(null)
  const [other, setOther] = useState<{ setup: string; text: Other } | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const { keep } = useOwnText(project, name)
  if (!running) return <p className="text-soft">Choose a setup in the route.</p>
  const changing = draft?.setup === name ? draft : null
  const mayChange = !running.setup.makes
  const begin = () => setDraft({ setup: name, text: draftOf(project.id, name) ?? running.text })
  const leave = () => {
    keepDraft(project.id, name, null)
    setDraft(null)
    setProblem(null)
  }
  const kept = async () => {
    if (!changing) return
    const refused = await keep(running.setup, typedText.current ?? changing.text)
    setProblem(refused)
    if (!refused) leave()
  }
  const current = project.report_revision === project.revision
  if (changing)
    return (
      <div className="flex h-full min-h-0 flex-col">
        <div className="mb-1 flex items-center gap-1.5">
          <button type="button" className="knob-go !px-2 text-[12px]" onClick={() => void kept()}>
            keep and prove
          </button>
          <button type="button" className="knob !px-2 text-[12px]" onClick={leave}>
            leave it as it was
          </button>
          <span className="min-w-0 truncate text-soft">
            The text of {name} is being changed; it is cut again once it is kept.
          </span>
          <Refused problem={problem} />
        </div>
        <div className="flex min-h-0 grow">
          <ProgramText
            text={changing.text}
            beside={BARE}
            toggle={() => undefined}
            go={() => undefined}
            typed={(text) => {
              typedText.current = text
              keepDraft(project.id, name, text)
            }}
            against={running.text}
          />
        </div>
      </div>
    )
  const load = operation && moment ? loadAt(loads, moment.seconds) : undefined
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="mb-1 flex flex-wrap items-center gap-1.5">
        <button type="button" className="knob !px-2 text-[12px]" onClick={() => step(running, at ?? -1)}>
          one block
        </button>
        <button
          type="button"
          className="knob !px-2 text-[12px]"
          disabled={!stops.some((line) => line > (at ?? -1))}
          title="Set marks in the margin"
          onClick={() => toMark(running, at ?? -1, stops)}
        >
          to the mark
        </button>
        <RunKnob />
        <Speeds />
        <span className="figures ml-1">{view.time === Infinity ? 'done' : clock(view.time)}</span>
        {operation && <span className="min-w-0 truncate text-soft">{operation.name}</span>}
        <span className="grow" />
        <Against
          key={name}
          project={project.id}
          setup={name}
          written={written}
          other={other?.setup === name ? other.text : null}
          choose={(text) => setOther(text && { setup: name, text })}
        />
        {mayChange && (
          <button type="button" className="knob !px-2 text-[12px]" onClick={begin}>
            change the text
          </button>
        )}
        {typeof card === 'number' && (
          <a
            className={`knob !px-2 text-[12px] ${current ? '' : 'pointer-events-none opacity-40'}`}
            href={`/api/projects/${project.id}/files/${name}.nc`}
          >
            Download {name}.nc
          </a>
        )}
      </div>
      <div className="flex min-h-0 grow gap-3">
        <ProgramText
          text={running.text}
          beside={beside}
          toggle={(line) => toggleStop(name, line)}
          go={(line) => goTo(running, line)}
          against={other?.setup === name ? other.text.text : undefined}
        />
        {running.trace && running.trace.stood.length > 0 && (
          <ControlState
            now={standsAt(running.trace, at ?? running.lines.length, now?.share ?? 1)}
            trace={running.trace}
            load={
              load
                ? `${round(load.removal, 1)} cm³/min · ae ${round(load.width, 1)} · ap ${round(load.depth, 1)}`
                : null
            }
          />
        )}
      </div>
    </div>
  )
}
