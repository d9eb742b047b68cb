import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import type { Library, Operation } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { clock, hueOf, useView } from '../../state'
import { Row } from '../../ui/Field'
import { TextField } from '../../ui/TextField'
import { Head, type SheetProps } from '../StageSheet'
import { OperationEditor, toolKinds } from './OperationEditor'

const common = {
  position: null,
  repeated_at: [],
  left_out: [],
  offset_register: null,
  clearance: 10,
  retract: 2,
  speed_rpm: null,
  feed_mm_min: null,
}

/** A fresh operation of a kind, with a tool from the plan that can do it. */
function fresh(
  kind: Operation['kind'],
  props: SheetProps,
  library: Library | undefined,
  faces: { face: number; at: [number, number, number] }[],
): Operation {
  const can = toolKinds(library, kind === 'drilling' ? { kind, cycle: 'drill' } : { kind })[0]
  const tools = props.plan.tools.filter((tool) => tool.kind === can)
  // Facing takes the widest; the others start near Ø10, which fits most pockets.
  const fit = kind === 'facing' ? -Infinity : 10
  const tool =
    [...tools].sort((a, b) => (fit < 0 ? b.DC - a.DC : Math.abs(a.DC - fit) - Math.abs(b.DC - fit)))[0]?.id ??
    ''
  const names = new Set(props.setup.operations.map((one) => one.id))
  let number = 1
  while (names.has(`${kind}-${number}`)) number += 1
  const base = {
    ...common,
    id: `${kind}-${number}`,
    name: `${kind.charAt(0).toUpperCase()}${kind.slice(1)} ${number}`,
    tool,
  }
  if (kind === 'facing') return { ...base, kind, face: null, step_down: 2, step_over: 0.7, leave: 0 }
  if (kind === 'outline')
    return {
      ...base,
      kind,
      side: 'outside',
      faces: [],
      bottom: null,
      below: 0.5,
      step_down: 10,
      step_over: 0.5,
      leave: 0,
      chamfer: null,
      nest: false,
      ramp_deg: 3,
    }
  if (kind === 'pocket')
    return {
      ...base,
      kind,
      faces,
      below: 0,
      step_down: 5,
      step_over: 0.45,
      leave_side: 0,
      leave_floor: 0,
      ramp_deg: 3,
    }
  if (kind === 'wrapped')
    return {
      ...base,
      kind,
      faces,
      line: [],
      diameter: null,
      depth: null,
      gap: null,
      step_down: 2,
      step_over: 0.45,
      ramp_deg: 3,
    }
  return { ...base, kind, cycle: 'drill', faces, chamfer: null, peck: 3, below: 1, short: 0 }
}

/** What has to be picked before there can be such an operation. */
const PROMPTS: Partial<Record<Operation['kind'], string>> = {
  pocket: 'Pick the pocket’s floor, or a bore’s wall',
  drilling: 'Pick the wall of a hole',
  wrapped: 'Pick a floor that lies round the rotary axis',
}

/** The operations of a setup in their order. */
export function CutSheet(props: SheetProps) {
  const { setup, report, index, edit, commit } = props
  const view = useView()
  const { data: library } = useLibrary()
  const add = (kind: Operation['kind']) => {
    const push = (faces: { face: number; at: [number, number, number] }[]) => {
      const made = fresh(kind, props, library, faces)
      void edit(`${made.name} added`, (own) => void own.operations.push(made)).then(() =>
        view.set({ operation: made.id }),
      )
    }
    const prompt = PROMPTS[kind]
    if (prompt) view.set({ asked: { kind: 'face', prompt, take: (ref) => push([ref]) } })
    else push([])
  }
  return (
    <>
      <Head title="Cut">
        {setup.operations.length} {setup.operations.length === 1 ? 'operation' : 'operations'}
        {report &&
          ` · ${clock(report.time_s)} min · ${(report.removed_volume_mm3 / 1000).toFixed(1)} cm³ off`}
      </Head>
      <ol aria-label="Operations">
        {setup.operations.map((operation, i) => {
          const runs = report?.operations.filter((one) => one.id === operation.id) ?? []
          const own = runs[0]
          const takes = runs.reduce((sum, one) => sum + one.time_s, 0)
          const open = view.operation?.split('@')[0] === operation.id
          const grave = own?.findings.find((one) => one.severity !== 'note')
          return (
            <li key={operation.id} className="border-t border-rule">
              <button
                type="button"
                aria-label={operation.name}
                aria-expanded={open}
                className="flex w-full items-baseline gap-2 py-1.5 text-left"
                onClick={() => view.set({ operation: open ? null : operation.id, time: Infinity })}
              >
                <span
                  className="h-3 w-3 shrink-0 self-center"
                  style={{ background: hueOf(index), opacity: i % 2 ? 0.7 : 1 }}
                />
                <span className={`min-w-0 grow truncate ${open ? 'font-semibold' : ''}`}>
                  {operation.name}
                </span>
                {(operation.position || operation.repeated_at.length > 0) && (
                  <span className="figures bg-rail px-1 text-[11.5px]">
                    {operation.repeated_at.length ? `${runs.length} places` : operation.position}
                  </span>
                )}
                {grave && <span className="text-trouble">{grave.severity === 'error' ? '◆' : '▲'}</span>}
                <span className="figures text-[11.5px] text-soft">{own ? clock(takes) : '–'}</span>
              </button>
              {open && <OperationEditor {...props} operation={operation} position={i} runs={runs} />}
            </li>
          )
        })}
      </ol>
      <Menu>
        <MenuButton className="knob mt-2">+ operation</MenuButton>
        <MenuItems
          anchor="bottom start"
          className="z-30 rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
        >
          {(['facing', 'outline', 'pocket', 'drilling', 'wrapped'] as const).map((kind) => (
            <MenuItem key={kind}>
              <button
                className="block w-full px-3 py-1 text-left capitalize data-focus:bg-rail"
                onClick={() => add(kind)}
              >
                {kind}
              </button>
            </MenuItem>
          ))}
        </MenuItems>
      </Menu>
      <h3 className="mb-1 mt-5 font-head text-[15px] font-semibold">Setup and program</h3>
      <Row label="Name">
        <TextField
          label="Setup name"
          value={setup.name}
          commit={(text) =>
            commit(`${setup.name} is ${text} now`, (draft) => {
              for (const one of draft.setups) if (one.makes?.setup === setup.name) one.makes.setup = text
              const own = draft.setups[index]
              if (own) own.name = text
            })
          }
        />
      </Row>
      <Row
        label="Number"
        below={
          <span className="text-[12.5px] text-soft">empty: by the setup’s name, next to those taken</span>
        }
      >
        <TextField
          label="Program number"
          placeholder="by its name"
          value={setup.program_number == null ? '' : String(setup.program_number)}
          commit={(text) =>
            /^\d*$/.test(text)
              ? edit('program number', (own) => void (own.program_number = text === '' ? null : Number(text)))
              : Promise.resolve({
                  code: 'program.number',
                  where: 'program number',
                  what: `${text} is no number`,
                  mend: 'give digits, or leave it empty',
                })
          }
        />
      </Row>
      <Row label="Comment">
        <TextField
          label="Program comment"
          value={setup.title}
          commit={(text) => edit('program comment', (own) => void (own.title = text))}
        />
      </Row>
    </>
  )
}
