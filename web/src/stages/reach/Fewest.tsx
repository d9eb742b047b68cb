import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type FewestData, problemOf } from '../../api/client'
import { revisionAt } from '../../api/hooks'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { sentence } from '../../ui/Field'
import type { SheetProps } from '../sheet'
import { freshPosition } from './fresh'

/** The fewest positions that reach what this seat lets the machine reach, and the fewest setups for the part, to be accepted. */
export function Fewest({ project, setup, index, edit }: SheetProps) {
  const [asked, setAsked] = useState(false)
  const { data, error } = useQuery({
    queryKey: ['fewest', project.id, revisionAt(project, index, 'reach'), setup.name],
    queryFn: () =>
      answered<FewestData>(
        api.GET('/api/projects/{project_id}/fewest/{setup}', {
          params: { path: { project_id: project.id, setup: setup.name } },
        }),
      ),
    enabled: asked,
    retry: false,
  })
  if (!asked)
    return (
      <button type="button" className="knob my-1.5 text-[12.5px]" onClick={() => setAsked(true)}>
        Fewest positions …
      </button>
    )
  if (error) return <p className="text-trouble">{sentence(problemOf(error))}</p>
  if (!data) return <p className="py-1 text-soft">Looking …</p>
  const tilted = data.here.filter((one) => one.in_setup[2] < 0.9999)
  const angles = (values: Record<string, number>) =>
    Object.entries(values)
      .sort()
      .map(([name, value]) => `${name}${round(value, 2)}`)
      .join(' ') || 'as seated'
  return (
    <section aria-label="Fewest positions" className="mt-1.5 border border-rule px-2.5 py-1.5 text-[12.5px]">
      <div className="font-semibold">
        {data.here.length} {data.here.length === 1 ? 'position reaches' : 'positions reach'} all this seat
        allows
      </div>
      {data.here.map((one) => (
        <button
          key={one.direction.join()}
          type="button"
          className="flex w-full justify-between gap-2 text-left hover:bg-rail"
          onMouseEnter={() => useShown.setState({ lit: one.faces })}
          onMouseLeave={() => useShown.setState({ lit: [] })}
        >
          <span className="figures text-action">{angles(one.angles)}</span>
          <span className="text-soft">{one.faces.length} faces</span>
        </button>
      ))}
      {data.here_left.length > 0 && (
        <div
          className="text-soft hover:bg-rail"
          onMouseEnter={() => useShown.setState({ lit: data.here_left })}
          onMouseLeave={() => useShown.setState({ lit: [] })}
        >
          {data.here_left.length} faces stay for another setup
        </div>
      )}
      {tilted.length > 0 && (
        <button
          type="button"
          className="knob-go mt-1 text-[12.5px]"
          onClick={() =>
            void edit('fewest positions', (own) => {
              for (const one of tilted) {
                const known = own.positions.some(
                  (other) =>
                    other.direction &&
                    other.direction.every((c, d) => Math.abs(c - (one.in_setup[d] ?? 0)) < 1e-6),
                )
                if (!known) own.positions.push(freshPosition(own.positions, { direction: one.in_setup }))
              }
            })
          }
        >
          Put them in
        </button>
      )}
      <div className="mt-2 font-semibold">
        {data.setups.length} {data.setups.length === 1 ? 'setup' : 'setups'} on this machine for all of the
        part, whatever holds it
      </div>
      {data.setups.map((one) => (
        <div key={`${one.up.join()}${one.faces.length}`} className="flex justify-between gap-2">
          <span className="figures">
            up {one.up.map((c) => round(c, 3)).join(', ')} · {one.ways.length} positions
          </span>
          <span className="text-soft">{one.faces.length} faces</span>
        </div>
      ))}
      {data.never.length > 0 && (
        <div className="text-soft">{data.never.length} faces no straight tool reaches at all</div>
      )}
    </section>
  )
}
