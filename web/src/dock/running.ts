import { useEffect } from 'react'
import { placeOf, type ProjectState, type SetupReport } from '../api/client'
import { useClock } from '../state/clock'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { showMoment } from '../state/route'
import { momentOf, useSpans } from './control'
import { movingFrom, useChosen } from './moment'

const TICK_MS = 100

/** When trouble is met in a setup, s from its start, in order. */
function troubleTimes(setup: SetupReport) {
  const begins = movingFrom(setup.operations)
  return setup.operations.flatMap((one, i) =>
    one.findings
      .filter((found) => found.severity === 'error' && found.time_s != null)
      .map((found) => ({ at: (begins[i] ?? 0) + (found.time_s ?? 0), finding: found })),
  )
}

/** Time goes on while it runs; it stops at the end, at the first trouble on its way, and where a line is marked. */
export function useRunning(project: ProjectState) {
  const { playing, stops } = useFields(useClock, 'playing', 'stops')
  const setup = useChosen(project)
  const marks = stops[setup?.name ?? '']
  // Lines are asked for only where one of them is to be stopped at.
  const { spans } = useSpans(playing && marks?.length ? setup : undefined)
  useEffect(() => {
    if (!playing || !setup || (marks?.length && !spans.length)) return
    const marked = (marks ?? []).map((line) => ({ at: momentOf(spans, line).from, line }))
    const timer = setInterval(() => {
      const { time, speed } = useClock.getState()
      const from = time === Infinity ? setup.time_s : time
      const next = Math.min(setup.time_s, from + (TICK_MS / 1000) * speed)
      const met = troubleTimes(setup).find(({ at }) => at > from && at <= next)
      const stop = marked.find(({ at }) => at > from + 1e-6 && at <= (met?.at ?? next))
      if (stop) showMoment(stop.at, stop.line)
      else showMoment(met ? met.at : next)
      useClock.setState({ playing: !met && !stop && next < setup.time_s })
      const place = met && !stop ? placeOf(met.finding) : null
      if (place) useShown.setState({ marked: place })
    }, TICK_MS)
    return () => clearInterval(timer)
  }, [playing, setup, marks, spans])
}
