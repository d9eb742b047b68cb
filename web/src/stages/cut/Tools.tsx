import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import { useState } from 'react'
import type { Plan, Problem, Tool, Tooling } from '../../api/client'
import { posted, useChanger } from '../../api/hooks'
import { NumberField } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { clock } from '../../ui/words'
import type { SheetProps } from '../sheet'
import { ToolLibrary } from './ToolLibrary'
import { beside } from './tools'
import { Refused } from '../../ui/Refused'

/** The plan's tools by their place in the changer: what uses them; brought in and taken out as a table. */
export function Tools(props: SheetProps) {
  return (
    <Disclosure as="section" className="mt-4" aria-label="Tools">
      <DisclosureButton className="font-head text-[15px] font-semibold">
        {({ open }) => (
          <>
            {open ? '−' : '+'} Tools{' '}
            <span className="font-normal text-soft">{props.plan.tools.length || 'none yet'}</span>
          </>
        )}
      </DisclosureButton>
      <DisclosurePanel>
        <Opened {...props} />
      </DisclosurePanel>
    </Disclosure>
  )
}

/** What is asked for, and shown, only while the list is open. */
function Opened(props: SheetProps) {
  const { project, plan, commit } = props
  const [library, setLibrary] = useState(false)
  const { data: changer } = useChanger(project)
  const cuts = (id: string) => changer?.uses.find((one) => one.tool === id)
  const [problem, setProblem] = useState<Problem | null>(null)
  const used = (id: string) =>
    plan.setups.reduce((sum, setup) => sum + setup.operations.filter((one) => one.tool === id).length, 0)
  const bring = async (file: File | undefined) => {
    if (!file) return
    const read = await posted<Tool[]>('/api/tools/read', file)
    if (!Array.isArray(read)) {
      setProblem(read)
      return
    }
    setProblem(
      await commit(`${read.length} tools from ${file.name}`, (draft) => {
        draft.tools.push(...beside(plan, read))
      }),
    )
  }
  const rows = [...plan.tools].sort((one, two) => one.place - two.place)
  return (
    <>
      <ul aria-label="Tools of the plan">
        {rows.map((tool) => (
          <li key={tool.id} className="flex items-center gap-2 border-t border-rule py-1">
            <span className="w-16 shrink-0">
              <NumberField
                label={`Place of ${tool.name}`}
                value={tool.place}
                unit=""
                commit={(place) =>
                  commit(`${tool.name}: place ${place}`, (draft) => {
                    const mine = draft.tools.find((one) => one.id === tool.id)
                    if (mine && place !== null) mine.place = place
                  })
                }
              />
            </span>
            <span className="min-w-0 grow truncate" title={`${tool.name}, ${tool.holder.name}`}>
              {tool.name}
            </span>
            <span className="figures shrink-0 text-[11.5px] text-soft">
              {used(tool.id) ? `${used(tool.id)}× ${clock(cuts(tool.id)?.in_cut_s ?? 0)}` : 'unused'}
              <Worn worn={cuts(tool.id)?.worn} pieces={cuts(tool.id)?.pieces} />
            </span>
            <button
              type="button"
              className="px-1 text-soft hover:text-trouble disabled:opacity-30"
              aria-label={`Remove ${tool.name}`}
              disabled={used(tool.id) > 0}
              onClick={() =>
                void commit(`${tool.name} removed`, (draft) => {
                  draft.tools = draft.tools.filter((one) => one.id !== tool.id)
                })
              }
            >
              ×
            </button>
          </li>
        ))}
      </ul>
      {changer && <Changes plan={plan} changes={changer.changes} />}
      <p className="mt-1 flex flex-wrap items-baseline gap-3 text-[12.5px]">
        <button type="button" className="knob !px-2" onClick={() => setLibrary(true)}>
          Make, change, take…
        </button>
        <label className="relative cursor-pointer text-action underline">
          Bring in
          <FileInput label="Tools file" accept=".csv,.json" take={bring} />
        </label>
        {(['csv', 'json'] as const).map((kind) => (
          <a
            key={kind}
            className="text-action underline"
            href={`/api/projects/${project.id}/tools.${kind}`}
            download={`tools.${kind}`}
          >
            Take out {kind.toUpperCase()}
          </a>
        ))}
      </p>
      <Refused problem={problem} where />
      {library && <ToolLibrary {...props} close={() => setLibrary(false)} />}
    </>
  )
}

/** How much of its edge a tool wears over one part. */
function Worn({ worn, pieces }: { worn?: number | null | undefined; pieces?: number | null | undefined }) {
  if (worn == null) return null
  return (
    <span
      className={`ml-1 ${worn > 1 ? 'text-trouble' : ''}`}
      title={pieces == null ? undefined : `lasts for ${pieces} ${pieces === 1 ? 'part' : 'parts'}`}
    >
      {Math.round(worn * 100)} %
    </span>
  )
}

/** What is put into which place before each setup that needs another than stands there. */
function Changes({ plan, changes }: { plan: Plan; changes: Tooling['changes'] }) {
  const named = (id: string | null | undefined) => plan.tools.find((one) => one.id === id)?.name
  const setups = [...new Set(changes.map((one) => one.setup))]
  return (
    <details className="mt-1 text-[12.5px]" aria-label="What goes into the changer">
      <summary className="cursor-pointer text-soft">What goes into the changer, before which setup</summary>
      {setups.map((setup) => (
        <p key={setup} className="mt-0.5">
          <span className="font-semibold">
            {setup} on {changes.find((one) => one.setup === setup)?.machine}
          </span>{' '}
          {changes
            .filter((one) => one.setup === setup)
            .map(
              (one) =>
                `${one.place}: ${named(one.put)}${one.taken ? ` (in place of ${named(one.taken)})` : ''}`,
            )
            .join(', ')}
        </p>
      ))}
    </details>
  )
}
