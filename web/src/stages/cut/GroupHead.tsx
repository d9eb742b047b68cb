import { useState } from 'react'
import type { Group } from '../../api/client'
import { tell } from '../../state/editing'
import { Choice } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { TextField } from '../../ui/TextField'
import type { SheetProps } from '../sheet'
import { useKeeping } from './templates'

/** A group over its operations: its name, its switch, and what they share. */
export function GroupHead(props: SheetProps & { group: Group }) {
  const { group, plan, edit, report } = props
  const [open, setOpen] = useState(false)
  const keeping = useKeeping()
  const write = (what: string, change: (group: Group) => void) =>
    edit(`${group.name}: ${what}`, (setup) => {
      const mine = setup.groups.find((one) => one.id === group.id)
      if (mine) change(mine)
    })
  const registers = [...new Set((report?.offsets ?? []).map((row) => row.register_name))]
  return (
    <div className="bg-rail px-1.5">
      <div className="flex items-baseline gap-2">
        <button
          type="button"
          aria-expanded={open}
          aria-label={`Group ${group.name}`}
          className={`min-w-0 grow truncate py-1 text-left font-head text-[13px] font-semibold ${group.off ? 'text-soft line-through' : ''}`}
          onClick={() => setOpen(!open)}
        >
          {group.name}
        </button>
        <span className="figures text-[11.5px] text-soft">
          {[plan.finishes.find((one) => one.id === group.finish)?.name, group.offset_register]
            .filter(Boolean)
            .join(' · ')}
        </span>
        <input
          type="checkbox"
          aria-label={`Group ${group.name} is cut`}
          className="self-center accent-action"
          checked={!group.off}
          onChange={(event) => {
            const off = !event.target.checked
            void write(off ? 'off' : 'on', (mine) => void (mine.off = off))
          }}
        />
      </div>
      {open && (
        <div className="pb-2">
          <Row label="Name">
            <TextField
              label="Group name"
              value={group.name}
              commit={(text) => write(`is ${text} now`, (mine) => void (mine.name = text))}
            />
          </Row>
          <Row label="Finish" help="of its operations that name none">
            <Choice
              label="Finish of the group"
              value={group.finish ?? ''}
              options={[
                { value: '', label: 'none' },
                ...plan.finishes.map((one) => ({ value: one.id, label: one.name })),
              ]}
              choose={(finish) => void write('finish', (mine) => void (mine.finish = finish || null))}
            />
          </Row>
          {registers.length > 1 && (
            <Row label="Counts from" help="of its operations that name none">
              <Choice
                label="Register of the group"
                value={group.offset_register ?? ''}
                options={[
                  { value: '', label: 'each its position’s' },
                  ...registers.map((name) => ({ value: name, label: name })),
                ]}
                choose={(name) =>
                  void write('register', (mine) => void (mine.offset_register = name || null))
                }
              />
            </Row>
          )}
          <button
            type="button"
            className="knob !px-2 text-[12.5px]"
            onClick={() =>
              void edit(`${group.name} dissolved`, (setup) => {
                for (const one of setup.operations) if (one.group === group.id) one.group = null
                setup.groups = setup.groups.filter((one) => one.id !== group.id)
              })
            }
          >
            Dissolve
          </button>
          <button
            type="button"
            className="knob ml-1.5 !px-2 text-[12.5px]"
            title="for the next plan, with its tools: under + operation"
            onClick={() => {
              const own = props.setup.operations.filter((one) => one.group === group.id)
              void keeping.keep(group.name, plan, own).then((problem) => problem && tell(problem))
            }}
          >
            Keep as template
          </button>
        </div>
      )}
    </div>
  )
}
