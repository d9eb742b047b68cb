import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useState } from 'react'
import { type EdgeRef, type FaceRef, type OperationForm, type Problem, type Template } from '../../api/client'
import { useCure, useEdits, useLibrary, useTemplates } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { goToStage, showOperation, useRoute } from '../../state/route'
import { clock } from '../../ui/words'
import { Row } from '../../ui/Field'
import { TextField } from '../../ui/TextField'
import { Head, type SheetProps } from '../sheet'
import { Cuttable } from './Cuttable'
import { Finishes } from './Finishes'
import { drafted } from './OperationEditor'
import { OperationLists } from './OperationLists'
import { fromTemplate, useKeeping } from './templates'
import { Tools } from './Tools'
import { Refused } from '../../ui/Refused'

/** The operations of a setup in their order. */
export function CutSheet(props: SheetProps) {
  const { project, setup, report, index, edit, commit } = props
  const { data: library } = useLibrary()
  const { data: templates } = useTemplates()
  const cured = useCure(project)
  const edits = useEdits(project)
  const keeping = useKeeping()
  const [problem, setProblem] = useState<Problem | null>(null)
  const add = (form: OperationForm) => {
    const push = async (picked: (FaceRef | EdgeRef)[]) => {
      const told = { kind: form.kind, ...(picked.length && { [form.picks]: picked }) }
      const made = await drafted(project.id, setup.name, told)
      if ('what' in made) {
        setProblem(made)
        return
      }
      // Told by names: while something is picked another edit may have come before it.
      const refused = await edits(`${setup.name}: ${made.operation.name} added`, [
        ...(made.tool ? [{ kind: 'add' as const, of: {}, to: 'tools', value: made.tool }] : []),
        { kind: 'add', of: { setup: setup.name }, to: 'operations', value: made.operation },
      ])
      setProblem(refused)
      if (!refused) useRoute.setState({ operation: made.operation.id })
    }
    if (form.pick_first)
      useAsking.setState({
        asked:
          form.picks === 'edges'
            ? { kind: 'edge', prompt: form.pick_first, take: (ref) => void push([ref]) }
            : { kind: 'face', prompt: form.pick_first, take: (ref) => void push([ref]) },
      })
    else void push([])
  }
  const use = (template: Template) => {
    const put = async (faces: FaceRef[]) => {
      const cure = await fromTemplate(project.id, template.id, setup.name, faces)
      if ('what' in cure) setProblem(cure)
      else await cured(cure, `${setup.name}: ${template.name}`)
    }
    if (template.operations.some((one) => 'faces' in one && one.faces.length > 0))
      useAsking.setState({
        asked: {
          kind: 'face',
          prompt: `Pick what ${template.name} is to cut`,
          take: (ref) => void put([ref]),
        },
      })
    else void put([])
  }
  return (
    <>
      <Head title="Cut">
        {setup.operations.length} {setup.operations.length === 1 ? 'operation' : 'operations'}
        {report &&
          ` · ${clock(report.time_s)} min · ${(report.removed_volume_mm3 / 1000).toFixed(1)} cm³ off`}
      </Head>
      {setup.text && (
        <p className="mb-2">
          {setup.operations.length ? 'What runs is' : 'Cut by'}{' '}
          <span className="figures">{setup.text.file}</span>
          {setup.operations.length > 0 && ', its own text'}:{' '}
          <button type="button" className="text-action underline" onClick={() => goToStage('prove')}>
            see its prove-out
          </button>
        </p>
      )}
      {setup.text && report?.operations.some((one) => one.kind === 'text') && (
        <ol className="mb-3" aria-label="What the text does">
          {report.operations.map((one) => (
            <li key={one.run} className="flex justify-between gap-2 border-t border-rule py-1">
              <button
                type="button"
                className="min-w-0 truncate text-left"
                onClick={() => showOperation(one.run)}
              >
                {one.name}
              </button>
              <span className="figures whitespace-nowrap text-soft">
                {one.tool_name} · {clock(one.time_s)}
              </span>
            </li>
          ))}
        </ol>
      )}
      <OperationLists {...props} />
      <Menu>
        <MenuButton className="knob mt-2">+ operation</MenuButton>
        <MenuItems
          anchor="bottom start"
          className="z-30 rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
        >
          {library?.operations.map((form) => (
            <MenuItem key={form.kind}>
              <button
                className="block w-full px-3 py-1 text-left data-focus:bg-rail"
                onClick={() => add(form)}
              >
                {form.called}
              </button>
            </MenuItem>
          ))}
          {templates?.map((template) => (
            <MenuItem key={template.id}>
              <button
                className="flex w-full gap-3 border-t border-rule px-3 py-1 text-left data-focus:bg-rail"
                onClick={() => use(template)}
              >
                <span className="grow">{template.name}</span>
                <span className="text-[11.5px] text-soft">
                  {template.operations.length > 1 ? `${template.operations.length} kept` : 'kept'}
                </span>
                <span
                  role="button"
                  tabIndex={-1}
                  aria-label={`Forget ${template.name}`}
                  className="text-soft hover:text-trouble"
                  onClick={(event) => {
                    event.stopPropagation()
                    void keeping.drop(template.id).then(setProblem)
                  }}
                >
                  ×
                </span>
              </button>
            </MenuItem>
          ))}
        </MenuItems>
      </Menu>
      <Refused problem={problem} />
      {!setup.makes && <Cuttable key={setup.name} {...props} />}
      <Finishes {...props} />
      <Tools {...props} />
      <h3 className="mb-1 mt-5 font-head text-[15px] font-semibold">Setup and program</h3>
      <Row label="Name">
        <TextField
          label="Setup name"
          value={setup.name}
          commit={(text) =>
            commit(`${setup.name} is ${text} now`, (draft) => {
              for (const one of draft.setups) {
                if (one.makes?.setup === setup.name) one.makes.setup = text
                if (one.incoming?.rule === 'earlier' && one.incoming.setup === setup.name)
                  one.incoming.setup = text
              }
              if (draft.pieces?.division?.after === setup.name) draft.pieces.division.after = text
              for (const load of draft.loads) {
                for (const stand of load.stands) if (stand.setup === setup.name) stand.setup = text
                load.hand = load.hand.map((step) =>
                  step.startsWith(`${setup.name}/`) ? text + step.slice(setup.name.length) : step,
                )
              }
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
