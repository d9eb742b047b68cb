import { useState } from 'react'
import { useQuery } from '@tanstack/react-query'
import {
  answered,
  api,
  type Billet,
  type PartState,
  type Problem,
  problemInstead,
  type ProjectLine,
  type ProjectState,
} from '../../api/client'
import { round } from '../../ui/words'
import { Choice, LongChoice } from '../../ui/Choice'
import { Computed, Row } from '../../ui/Field'
import { Refused } from '../../ui/Refused'
import type { SheetProps } from '../sheet'
import type { Hand } from './billet'
import { type Chosen, momentId, momentsBefore } from './moments'
import { piecesCutIn, piecesOf } from './several'
import { ShapeFields } from './ShapeFields'

type Way = 'carried' | 'earlier' | 'brought' | 'piece' | 'plan'

/** Where a setup's stock comes from: carried, or chosen in its place. */
export function ChosenStock({ project, plan, setup, index, report, part, edit }: SheetProps) {
  const chosen = setup.incoming ?? null
  const [open, setOpen] = useState(false)
  const moments = momentsBefore(plan, index)
  const carried = plan.pieces?.division?.goes_on
  const others = piecesCutIn(plan, setup.name).length ? [] : piecesOf(plan).filter((one) => one !== carried)
  const way: Way = open ? 'plan' : (chosen?.rule ?? 'carried')
  const take = (what: string, next: Chosen | null) => edit(what, (own) => (own.incoming = next))
  const choose = (next: Way) => {
    setOpen(next === 'plan')
    if (next === 'carried') void take('stock carried', null)
    const last = moments.at(-1)
    if (next === 'earlier' && last) void take(last.label, last.chosen)
    if (next === 'piece') void take(`piece ${others[0]}`, { rule: 'piece', piece: others[0] ?? '' })
    if (next === 'brought')
      // A block all round, until something else is said.
      void take('another stock', {
        rule: 'brought',
        stock: { kind: 'block', material: plan.billet.material } as Billet,
      })
  }
  const hand: Hand = {
    change: (what, next) =>
      edit(`stock: ${what}`, (own) => {
        if (own.incoming?.rule === 'brought') next(own.incoming.stock)
      }),
    typing: () => undefined,
  }
  const ways: { value: Way; label: string }[] = [
    { value: 'carried', label: 'what is carried' },
    ...(moments.length ? [{ value: 'earlier' as const, label: 'an earlier moment' }] : []),
    ...(others.length ? [{ value: 'piece' as const, label: 'another piece of the billet' }] : []),
    { value: 'brought', label: 'another stock' },
    { value: 'plan', label: 'a stock of another plan' },
  ]
  return (
    <>
      <Row label="Begins with" below={chosen && !open && report?.incoming && <Apart of={report.incoming} />}>
        <Choice label="Begins with" value={way} options={ways} choose={choose} />
      </Row>
      {!open && chosen?.rule === 'earlier' && (
        <Row label="Moment">
          <LongChoice
            label="Moment"
            value={momentId(chosen)}
            options={moments}
            choose={(value) => {
              const found = moments.find((one) => one.value === value)
              if (found) void take(found.label, found.chosen)
            }}
          />
        </Row>
      )}
      {!open && chosen?.rule === 'piece' && (
        <Row label="Piece">
          <Choice
            label="Piece it begins with"
            value={chosen.piece}
            options={others.map((one) => ({ value: one, label: `piece ${one}` }))}
            choose={(piece) => void take(`piece ${piece}`, { rule: 'piece', piece })}
          />
        </Row>
      )}
      {!open && chosen?.rule === 'brought' && (
        <ShapeFields
          project={project}
          part={part}
          shape={chosen.stock}
          hand={hand}
          lies={undefined}
          label="Kind of stock"
          replace={(what, next) => take(what, { rule: 'brought', stock: next })}
        />
      )}
      {open && (
        <OfAnotherPlan
          project={project}
          take={async (stock) => {
            const problem = await take(stock.name, {
              rule: 'brought',
              stock: {
                kind: 'stock',
                material: plan.billet.material,
                file: stock.name,
                sha256: stock.sha256,
              },
            })
            if (!problem) setOpen(false)
            return problem
          }}
        />
      )}
    </>
  )
}

/** How a chosen stock differs from the carried one. */
function Apart({
  of,
}: {
  of: { more_mm3: number; less_mm3: number; more_mm: number; less_mm: number; known_mm: number }
}) {
  const line = (word: string, volume: number, most: number) =>
    most > of.known_mm && (
      <div>
        <Computed>
          {round(volume / 1000, 2)} cm³ {word} than carried, up to {round(most, 2)} mm
        </Computed>
      </div>
    )
  return (
    <>
      {line('more', of.more_mm3, of.more_mm)}
      {line('less', of.less_mm3, of.less_mm)}
      {of.more_mm <= of.known_mm && of.less_mm <= of.known_mm && (
        <Computed>no other than what is carried</Computed>
      )}
    </>
  )
}

function OfAnotherPlan({
  project,
  take,
}: {
  project: ProjectState
  take: (stock: PartState) => Promise<Problem | null>
}) {
  const [from, setFrom] = useState<number | null>(null)
  const [moment, setMoment] = useState('')
  const [problem, setProblem] = useState<Problem | null>(null)
  const { data: lines } = useQuery({
    queryKey: ['projects'],
    queryFn: () => answered<ProjectLine[]>(api.GET('/api/projects')),
  })
  const { data: other } = useQuery({
    queryKey: ['stock of', from],
    enabled: from !== null,
    queryFn: () =>
      answered<ProjectState>(
        api.GET('/api/projects/{project_id}', { params: { path: { project_id: from ?? 0 } } }),
      ),
  })
  const options = (other?.plan.setups ?? [])
    .filter((one) => !one.makes)
    .flatMap((setup) => [
      { value: `${setup.name}|before`, label: `before ${setup.name}` },
      ...setup.operations.map((one) => ({
        value: `${setup.name}|${one.id}`,
        label: `after ${setup.name} ${one.name}`,
      })),
      { value: `${setup.name}|`, label: `as ${setup.name} leaves it` },
    ])
  const chosen = options.find((one) => one.value === moment) ?? options.at(-1)
  const bring = async () => {
    if (from === null || !chosen) return
    const [setup, after] = chosen.value.split('|')
    const kept = await answered<PartState>(
      api.POST('/api/projects/{project_id}/stock', {
        params: { path: { project_id: from } },
        body: { setup: setup ?? '', after: after || null },
      }),
    ).catch(problemInstead)
    setProblem('what' in kept ? kept : await take(kept))
  }
  return (
    <>
      <Row label="Plan">
        <Choice
          label="Plan"
          value={from ?? 0}
          options={[
            ...(from === null ? [{ value: 0, label: 'choose one' }] : []),
            ...(lines ?? [])
              .filter((one) => one.id !== project.id && !one.archived)
              .map((one) => ({ value: one.id, label: one.name })),
          ]}
          choose={(id) => setFrom(id || null)}
        />
      </Row>
      {chosen && (
        <Row
          label="Its stock"
          below={
            <>
              <button type="button" className="knob mt-1" onClick={() => void bring()}>
                Begin with it
              </button>
              <p className="mt-1 text-soft">Kept as it is now: it does not follow when that plan changes.</p>
              <Refused problem={problem} />
            </>
          }
        >
          <LongChoice label="Its stock" value={chosen.value} options={options} choose={setMoment} />
        </Row>
      )}
    </>
  )
}
