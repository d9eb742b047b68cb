import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Plan, type Problem, type Tool } from '../../api/client'
import { posted, useKeptLibrary, useShopTools } from '../../api/hooks'
import { Segments } from '../../ui/Choice'
import { FileInput } from '../../ui/FileInput'
import { freeId } from '../../ui/free'
import { LibraryDialog } from '../../ui/LibraryDialog'
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
  const [kind, setKind] = useState('all')
  const [text, setText] = useState('')
  const [open, setOpen] = useState<Tool | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const rows = scope === 'plan' ? [...plan.tools].sort((one, two) => one.place - two.place) : (shop ?? [])
  const kinds = [...new Set([...(shop ?? []), ...plan.tools].map((one) => one.kind))]
  const shown = rows.filter((one) => (kind === 'all' || one.kind === kind) && matches(one, text))
  const kept = useKeptLibrary()
  const putShop = (next: Tool[]) => kept('tools', answered<Tool[]>(api.PUT('/api/tools', { body: next })))
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
              const there = shop ?? []
              return putShop([
                ...there,
                {
                  ...next,
                  id: freeId(
                    next.id,
                    there.map((one) => one.id),
                  ),
                },
              ])
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
    <LibraryDialog
      title="What cuts"
      wide="1160px"
      columns="8rem 20rem minmax(0, 1fr)"
      close={props.close}
      problem={problem}
      search={{ label: 'Search tools', hint: 'ball 6, M8, reamer …', text, type: setText }}
      kinds={{
        label: 'Kinds of tool',
        all: kinds.map((one) => ({ value: one, called: one.replaceAll('_', ' ') })),
        chosen: kind,
        choose: setKind,
      }}
      before={
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
      }
      actions={
        scope === 'shop' && (
          <>
            <a className="text-[12.5px] text-action underline" href="/api/tools.csv" download="tools.csv">
              save as CSV
            </a>
            <label className="relative cursor-pointer text-[12.5px] text-action underline">
              bring in a file
              <FileInput label="Tools file for the shop" accept=".csv,.json" take={bring} />
            </label>
          </>
        )
      }
    >
      <ul aria-label="Tools there are" className="h-[640px] overflow-auto border-r border-rule">
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
                {scope === 'plan' && <span className="figures text-[11.5px] text-soft">T{one.place}</span>}
              </span>
              <span className="figures block truncate text-[11.5px] text-soft">{facts(one)}</span>
            </button>
          </li>
        ))}
        {shown.length === 0 && (
          <li className="p-3 text-soft">
            {scope === 'plan' ? 'The plan has none like that; look among the shop’s.' : 'None like that.'}
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
    </LibraryDialog>
  )
}
