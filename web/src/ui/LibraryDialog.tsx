import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react'
import type { ReactNode } from 'react'
import type { Problem } from '../api/client'
import { sentence } from './Field'

/** A library over the page: its title, a search, what can be done with all of it, a list of kinds, and what is left of them. */
export function LibraryDialog(props: {
  title: string
  wide: string
  search: { label: string; hint: string; text: string; type: (text: string) => void }
  before?: ReactNode
  actions: ReactNode
  problem: Problem | null
  kinds: {
    label: string
    all: { value: string; called: string }[]
    chosen: string
    choose: (kind: string) => void
  }
  columns: string
  close: () => void
  children: ReactNode
}) {
  const { search, kinds } = props
  return (
    <Dialog open onClose={props.close} className="relative z-40">
      <div className="fixed inset-0 bg-ink/25" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-6">
        <DialogPanel
          className="flex max-h-full flex-col border border-ink bg-sheet shadow-xl"
          style={{ width: props.wide }}
        >
          <div className="flex items-center gap-3 border-b border-rule px-4 py-2">
            <DialogTitle className="font-head text-[19px] font-semibold">{props.title}</DialogTitle>
            {props.before}
            <input
              aria-label={search.label}
              className="figures ml-auto w-48 border border-rule bg-white px-2 py-0.5"
              placeholder={search.hint}
              value={search.text}
              onChange={(event) => search.type(event.target.value)}
            />
            {props.actions}
            <button type="button" className="knob" onClick={props.close}>
              Leave
            </button>
          </div>
          {props.problem && (
            <div role="alert" className="border-b border-trouble px-4 py-1 text-trouble">
              {props.problem.where}: {sentence(props.problem)}
            </div>
          )}
          <div className="grid min-h-0" style={{ gridTemplateColumns: props.columns }}>
            <ul aria-label={kinds.label} className="overflow-auto border-r border-rule py-1">
              {[{ value: 'all', called: 'everything' }, ...kinds.all].map((one) => (
                <li key={one.value}>
                  <button
                    type="button"
                    aria-current={kinds.chosen === one.value}
                    className={`w-full px-3 py-1 text-left ${kinds.chosen === one.value ? 'bg-rail font-semibold' : 'text-soft'}`}
                    onClick={() => kinds.choose(one.value)}
                  >
                    {one.called}
                  </button>
                </li>
              ))}
            </ul>
            {props.children}
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  )
}
