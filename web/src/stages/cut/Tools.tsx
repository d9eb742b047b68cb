import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import { useState } from 'react'
import type { Problem, Tool } from '../../api/client'
import { posted } from '../../api/hooks'
import { NumberField, sentence } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import type { SheetProps } from '../sheet'
import { ToolLibrary } from './ToolLibrary'
import { beside } from './tools'

/** The plan's tools by their place in the changer: what uses them; brought in and taken out as a table. */
export function Tools(props: SheetProps) {
  const { project, plan, commit } = props
  const [library, setLibrary] = useState(false)
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
    <Disclosure as="section" className="mt-4" aria-label="Tools">
      <DisclosureButton className="font-head text-[15px] font-semibold">
        {({ open }) => (
          <>
            {open ? '−' : '+'} Tools{' '}
            <span className="font-normal text-soft">{plan.tools.length || 'none yet'}</span>
          </>
        )}
      </DisclosureButton>
      <DisclosurePanel>
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
                {used(tool.id) ? `${used(tool.id)}×` : 'unused'}
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
        {problem && (
          <p role="alert" className="mt-1 text-[12.5px] text-trouble">
            {problem.where}: {sentence(problem)}
          </p>
        )}
        {library && <ToolLibrary {...props} close={() => setLibrary(false)} />}
      </DisclosurePanel>
    </Disclosure>
  )
}
