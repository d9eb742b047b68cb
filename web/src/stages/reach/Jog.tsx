import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answered, api, type MachineData, problemOf, type JogData } from '../../api/client'
import { revisionAt } from '../../api/hooks'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { NumberField, sentence } from '../../ui/Field'
import type { SheetProps } from '../sheet'

/** The machine moved to any values of its axes, in the picture, and what meets what there. */
export function Jog({ project, setup, index, machine }: SheetProps & { machine: MachineData }) {
  const [open, setOpen] = useState(false)
  const [values, setValues] = useState<Record<string, number>>({})
  const [dragged, setDragged] = useState<Record<string, number>>({})
  const { data, error } = useQuery({
    queryKey: ['stand', project.id, revisionAt(project, index, 'reach'), setup.name, values],
    queryFn: () =>
      answered<JogData>(
        api.GET('/api/projects/{project_id}/jog/{setup}', {
          params: {
            path: { project_id: project.id, setup: setup.name },
            query: Object.fromEntries(
              Object.entries(values).map(([name, value]) => [name.toLowerCase(), value]),
            ),
          },
        }),
      ),
    enabled: open,
    retry: false,
    placeholderData: keepPreviousData,
  })
  useEffect(() => {
    useShown.setState({ jogged: open && data ? data : null })
  }, [open, data])
  useEffect(() => () => useShown.setState({ jogged: null }), [])
  // A slider is let go of before the machine is asked to stand there.
  useEffect(() => {
    if (!Object.keys(dragged).length) return
    const timer = setTimeout(() => {
      setValues((before) => ({ ...before, ...dragged }))
      setDragged({})
    }, 120)
    return () => clearTimeout(timer)
  }, [dragged])
  if (!open)
    return (
      <button type="button" className="knob my-1.5 text-[12.5px]" onClick={() => setOpen(true)}>
        Move the axes …
      </button>
    )
  return (
    <section aria-label="Axes" className="my-1.5 border border-rule px-2.5 py-1.5 text-[12.5px]">
      <div className="flex justify-between">
        <span className="font-semibold">The machine by its axes</span>
        <button type="button" className="text-action underline" onClick={() => setOpen(false)}>
          leave
        </button>
      </div>
      {machine.axes.map((axis) => {
        const rotary = 'ABC'.includes(axis.name)
        const value = dragged[axis.name] ?? values[axis.name] ?? data?.values[axis.name] ?? axis.home
        return (
          <div
            key={axis.name}
            className="grid grid-cols-[1.2rem_minmax(0,1fr)_7rem] items-center gap-2 py-0.5"
          >
            <span className="figures font-semibold">{axis.name}</span>
            <input
              type="range"
              aria-label={`Axis ${axis.name} slider`}
              className="accent-action"
              min={axis.low}
              max={axis.high}
              step={rotary ? 1 : 0.5}
              value={value}
              onChange={(event) => setDragged({ ...dragged, [axis.name]: Number(event.target.value) })}
            />
            <NumberField
              label={`Axis ${axis.name} at`}
              value={Number(round(value, 3))}
              unit={rotary ? '°' : 'mm'}
              measure={rotary ? '°' : 'mm'}
              commit={(next) => {
                setValues({ ...values, [axis.name]: next })
                return null
              }}
            />
          </div>
        )
      })}
      {error && (
        <p role="alert" className="text-trouble">
          {sentence(problemOf(error))}
        </p>
      )}
      {data && (
        <ul aria-label="What meets there">
          {[...data.beyond, ...data.meets].map((told) => (
            <li key={told} className="text-trouble">
              ◆ {told}
            </li>
          ))}
          {!data.beyond.length && !data.meets.length && <li className="text-soft">nothing meets there</li>}
        </ul>
      )}
    </section>
  )
}
