import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react'
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Plan, type Problem, problemInstead, type Tool } from '../../api/client'
import { posted, useShopTools } from '../../api/hooks'
import { Segments } from '../../ui/Choice'
import { sentence } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import type { SheetProps } from '../sheet'
import { beside, facts, matches } from './tools'
import { ToolEditor } from './ToolEditor'

type Scope = 'plan' | 'shop'

/** What cuts: the plan's own tools and those of the shop; searched, made by changing a copy, taken from one to the other, brought in and saved. */
export function ToolLibrary(props: SheetProps & { close: () => void }) {
  const { plan, commit } = props
  const { data: shop } = useShopTools()
  const queries = useQueryClient()
  const [scope, setScope] = useState<Scope>('plan')
  const [kind, setKind] = useState<Tool['kind'] | 'all'>('all')
  const [text, setText] = useState('')
  const [open, setOpen] = useState<Tool | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const rows = scope === 'plan' ? [...plan.tools].sort((one, two) => one.place - two.place) : (shop ?? [])
  const kinds = [...new Set([...(shop ?? []), ...plan.tools].map((one) => one.kind))]
  const shown = rows.filter((one) => (kind === 'all' || one.kind === kind) && matches(one, text))
  const putShop = async (next: Tool[]): Promise<Problem | null> => {
    const answer = await answered<Tool[]>(api.PUT('/api/tools', { body: next })).catch(problemInstead)
    if (!Array.isArray(answer)) return answer
    queries.setQueryData(['tools'], answer)
    return null
  }
  const bring = async (file: File | undefined) => {
    if (!file) return
    const read = await posted<Tool[]>('/api/tools.csv', file)
    if (Array.isArray(read)) {
      queries.setQueryData(['tools'], read)
      setProblem(null)
    } else setProblem(read)
  }
  const inPlan = (tool: Tool) => plan.tools.some((one) => one.id === tool.id)
  const used = (id: string) => plan.setups.some((setup) => setup.operations.some((one) => one.tool === id))
  const toPlan = async (tool: Tool): Promise<Problem | null> => {
    const refused = await commit(`${tool.name} into the plan`, (draft: Plan) => {
      // Into the first place that is free.
      draft.tools.push(...beside(draft, [{ ...tool, place: 1 }]))
    })
    if (!refused) {
      setScope('plan')
      setOpen(null)
    }
    return refused
  }
  const actions = (tool: Tool) =>
    scope === 'plan'
      ? [
          ...(inPlan(tool)
            ? [
                {
                  label: 'Keep the change',
                  main: true,
                  does: (next: Tool) =>
                    commit(`${next.name}: sizes`, (draft: Plan) => {
                      draft.tools = draft.tools.map((one) =>
                        one.id === next.id ? { ...next, place: one.place } : one,
                      )
                    }),
                },
              ]
            : []),
          { label: 'Add as another', main: !inPlan(tool), does: toPlan },
          {
            label: 'Put into the shop’s',
            does: (next: Tool) => putShop([...(shop ?? []).filter((one) => one.id !== next.id), next]),
          },
          ...(used(tool.id)
            ? []
            : [
                {
                  label: 'Remove',
                  does: async () => {
                    const refused = await commit(`${tool.name} removed`, (draft: Plan) => {
                      draft.tools = draft.tools.filter((one) => one.id !== tool.id)
                    })
                    if (!refused) setOpen(null)
                    return refused
                  },
                },
              ]),
        ]
      : [
          { label: 'Take it into the plan', main: true, does: toPlan },
          {
            label: 'Keep the change',
            does: (next: Tool) =>
              putShop((shop ?? []).map((one) => (one.id === next.id ? { ...next, place: one.place } : one))),
          },
          {
            label: 'Add as another',
            does: (next: Tool) => {
              const ids = new Set(shop?.map((one) => one.id))
              let id = next.id
              for (let number = 2; ids.has(id); number += 1) id = `${next.id.slice(0, 36)}-${number}`
              return putShop([...(shop ?? []), { ...next, id }])
            },
          },
          {
            label: 'Take it out',
            does: async () => {
              const refused = await putShop((shop ?? []).filter((one) => one.id !== tool.id))
              if (!refused) setOpen(null)
              return refused
            },
          },
        ]
  return (
    <Dialog open onClose={props.close} className="relative z-40">
      <div className="fixed inset-0 bg-ink/25" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-6">
        <DialogPanel className="flex max-h-full w-[1160px] flex-col border border-ink bg-sheet shadow-xl">
          <div className="flex items-center gap-3 border-b border-rule px-4 py-2">
            <DialogTitle className="font-head text-[19px] font-semibold">What cuts</DialogTitle>
            <Segments<Scope>
              label="Whose tools"
              value={scope}
              options={[
                { value: 'plan', label: `This plan’s ${plan.tools.length}` },
                { value: 'shop', label: `The shop’s ${shop?.length ?? ''}` },
              ]}
              choose={(next) => {
                setScope(next)
                setOpen(null)
              }}
            />
            <input
              aria-label="Search tools"
              className="figures ml-auto w-48 border border-rule bg-white px-2 py-0.5"
              placeholder="ball 6, M8, reamer …"
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
            {scope === 'shop' && (
              <>
                <a className="text-[12.5px] text-action underline" href="/api/tools.csv" download="tools.csv">
                  save as CSV
                </a>
                <label className="relative cursor-pointer text-[12.5px] text-action underline">
                  bring in a file
                  <FileInput label="Tools file for the shop" accept=".csv,.json" take={bring} />
                </label>
              </>
            )}
            <button type="button" className="knob" onClick={props.close}>
              Leave
            </button>
          </div>
          {problem && (
            <div role="alert" className="border-b border-trouble px-4 py-1 text-trouble">
              {problem.where}: {sentence(problem)}
            </div>
          )}
          <div className="grid min-h-0 grid-cols-[8rem_20rem_minmax(0,1fr)]">
            <ul aria-label="Kinds of tool" className="overflow-auto border-r border-rule py-1">
              {(['all', ...kinds] as const).map((one) => (
                <li key={one}>
                  <button
                    type="button"
                    aria-current={kind === one}
                    className={`w-full px-3 py-1 text-left ${kind === one ? 'bg-rail font-semibold' : 'text-soft'}`}
                    onClick={() => setKind(one)}
                  >
                    {one === 'all' ? 'everything' : one.replaceAll('_', ' ')}
                  </button>
                </li>
              ))}
            </ul>
            <ul aria-label="Tools there are" className="h-[600px] overflow-auto border-r border-rule">
              {shown.map((one) => (
                <li key={one.id} className="border-b border-rule">
                  <button
                    type="button"
                    aria-current={open?.id === one.id}
                    aria-label={one.name}
                    className={`w-full px-3 py-1 text-left ${open?.id === one.id ? 'bg-rail' : 'hover:bg-rail'}`}
                    onClick={() => setOpen(one)}
                  >
                    <span className="flex items-baseline gap-2">
                      <span className="min-w-0 grow truncate font-semibold">{one.name}</span>
                      {scope === 'plan' && (
                        <span className="figures text-[11.5px] text-soft">T{one.place}</span>
                      )}
                    </span>
                    <span className="figures block truncate text-[11.5px] text-soft">{facts(one)}</span>
                  </button>
                </li>
              ))}
              {shown.length === 0 && (
                <li className="p-3 text-soft">
                  {scope === 'plan'
                    ? 'The plan has none like that; look among the shop’s.'
                    : 'None like that.'}
                </li>
              )}
            </ul>
            <div className="overflow-auto p-3">
              {open ? (
                <ToolEditor key={`${scope} ${open.id}`} tool={open} actions={actions(open)} />
              ) : (
                <p className="text-soft">
                  Choose a tool to see it in its holder, to change it, or to make another like it.
                </p>
              )}
            </div>
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  )
}
