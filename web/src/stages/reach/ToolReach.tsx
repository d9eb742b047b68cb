import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answered, api, problemOf, type ReachedData } from '../../api/client'
import { revisionAt } from '../../api/hooks'
import { REACHED } from '../../bench/glb'
import { useShown } from '../../state/picture'
import { useRoute } from '../../state/route'
import { Choice } from '../../ui/Choice'
import { NumberRow, Row, sentence } from '../../ui/Field'
import type { SheetProps } from '../sheet'

const STOPS = ['reached', 'part', 'holding', 'travel', 'angle'] as const

/** What of the part a tool reaches from a position, in its holder, so far out; and what stops it elsewhere. */
export function ToolReach({ project, plan, setup, index, report }: SheetProps) {
  const [tool, setTool] = useState<string>('')
  const [holder, setHolder] = useState<string>('')
  const [out, setOut] = useState<number | null>(null)
  const [position, setPosition] = useState('')
  const [asked, setAsked] = useState(false)
  const usual = setup.operations.find((one) => one.kind !== 'facing')?.tool
  const chosen = plan.tools.find((one) => one.id === (tool || usual)) ?? plan.tools[0]
  const query = {
    tool: chosen?.id ?? '',
    position,
    ...(out === null ? {} : { overhang: out }),
    ...(holder ? { holder_of: holder } : {}),
  }
  const { data, error, isFetching } = useQuery({
    queryKey: ['reach', project.id, revisionAt(project, index, 'reach'), setup.name, query],
    queryFn: () =>
      answered<ReachedData>(
        api.GET('/api/projects/{project_id}/reach/{setup}', {
          params: { path: { project_id: project.id, setup: setup.name }, query },
        }),
      ),
    enabled: asked && !!chosen,
    retry: false,
  })
  useEffect(() => {
    useShown.setState({ reached: asked && data ? data.key : null })
    if (asked && data) useRoute.setState({ turnedTo: data.position || null })
  }, [asked, data])
  useEffect(() => () => useShown.setState({ reached: null }), [])
  if (!chosen || !report?.zero_from_work) return null
  const whole = data ? STOPS.reduce((sum, name) => sum + (data.areas[name] ?? 0), 0) : 1
  return (
    <section aria-label="What a tool reaches">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">What a tool reaches</h3>
      <Row label="Tool">
        <Choice
          label="Tool to reach with"
          value={chosen.id}
          options={plan.tools.map((one) => ({ value: one.id, label: one.name, note: `out ${one.overhang}` }))}
          choose={(id) => {
            setTool(id)
            setOut(null)
            setHolder('')
          }}
        />
      </Row>
      <NumberRow
        label="Out"
        name="Tool out of its holder"
        value={out ?? chosen.overhang}
        unit="mm"
        commit={(value) => {
          setOut(value)
          return null
        }}
      />
      <Row label="Holder">
        <Choice
          label="Holder"
          value={holder || chosen.id}
          options={holdersOf(plan.tools).map(([id, name]) => ({ value: id, label: name }))}
          choose={setHolder}
        />
      </Row>
      {setup.positions.length > 0 && (
        <Row label="From">
          <Choice
            label="Position to reach from"
            value={position}
            options={[
              { value: '', label: 'as it is seated' },
              ...report.positions.map((one) => ({ value: one.name, label: one.name })),
            ]}
            choose={setPosition}
          />
        </Row>
      )}
      <button
        type="button"
        aria-pressed={asked}
        className={`knob my-1.5 text-[12.5px] ${asked ? 'knob-on' : ''}`}
        onClick={() => {
          setAsked(!asked)
          useShown.setState({ seen: null })
        }}
      >
        Show on the part
      </button>
      {asked && isFetching && <p className="text-soft">Standing the tool at every place …</p>}
      {asked && error && (
        <p role="alert" className="text-trouble">
          {sentence(problemOf(error))}
        </p>
      )}
      {asked && data && !isFetching && (
        <ul className="text-[12.5px]">
          {STOPS.map((name, i) => (
            <li key={name} className="flex items-center gap-2 border-t border-rule py-0.5">
              <span className="h-3 w-3 border border-ink/20" style={{ background: REACHED[i]?.[0] }} />
              <span className="grow">{REACHED[i]?.[1]}</span>
              <span className="figures text-action">
                {((data.areas[name] ?? 0) / 100).toFixed(1)} cm² ·{' '}
                {((100 * (data.areas[name] ?? 0)) / whole).toFixed(0)} %
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}

/** The holders of the plan's tools, each once: by a tool that has it. */
function holdersOf(tools: SheetProps['plan']['tools']): [string, string][] {
  const seen = new Map<string, string>()
  for (const tool of tools)
    if (![...seen.values()].includes(tool.holder.name)) seen.set(tool.id, tool.holder.name)
  return [...seen]
}
