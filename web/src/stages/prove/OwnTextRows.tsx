import { useState } from 'react'
import type { OwnText, Problem } from '../../api/client'
import { useOwnText } from '../../dock/own'
import { Choice } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Refused } from '../../ui/Refused'
import type { SheetProps } from '../sheet'

const TEXTS = '.nc,.tap,.txt,.ngc,.cnc'

/** The text that runs in place of the written one: where it comes from, which tools it means, whether its stock is carried on. */
export function OwnTextRows({ project, plan, setup, report }: SheetProps) {
  const { own, put, bring, callFrom } = useOwnText(project, setup.name)
  const [problem, setProblem] = useState<Problem | null>(null)
  const change = async (what: string, told: Partial<OwnText> | null) => {
    setProblem(await put(what, told && own ? { ...own, ...told } : null))
  }
  const take = async (file: File | undefined) => {
    if (file) setProblem(await bring(file, null))
  }
  if (setup.makes) return null
  const from = own?.made_from ? 'changed by hand' : 'from elsewhere'
  return (
    <>
      {own && (
        <>
          <Row
            label="Its own"
            below={
              <span className="text-soft">
                {own.file}, {from}
              </span>
            }
          >
            <span className="flex flex-wrap gap-x-3">
              {setup.operations.length > 0 ? (
                <button
                  type="button"
                  className="text-action underline"
                  onClick={() => void change('the written program', null)}
                >
                  take the written program
                </button>
              ) : (
                <button
                  type="button"
                  className="text-action underline"
                  onClick={() => void change('no text', null)}
                >
                  take it out
                </button>
              )}
            </span>
          </Row>
          {setup.operations.length > 0 && (
            <Row label="Carried on">
              <label className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="accent-action"
                  checked={own.carried ?? true}
                  onChange={(event) =>
                    void change(
                      event.target.checked
                        ? 'the stock of its text is carried on'
                        : 'the planned stock is carried on',
                      { carried: event.target.checked },
                    )
                  }
                />
                the stock that the text leaves
              </label>
            </Row>
          )}
          <Row label="Lines with /" help="as the control’s switch for block delete stands">
            <label className="flex items-center gap-1.5">
              <input
                type="checkbox"
                className="accent-action"
                checked={own.block_delete ?? true}
                onChange={(event) =>
                  void change(event.target.checked ? 'lines with / left out' : 'lines with / run', {
                    block_delete: event.target.checked,
                  })
                }
              />
              are left out
            </label>
          </Row>
          <Row label="Calls from" help="files with the programs that M98 and G65 call">
            <ul>
              {(own.beside ?? []).map((one) => (
                <li key={one.file} className="figures flex justify-between gap-2">
                  {one.file}
                  <button
                    type="button"
                    className="text-action underline"
                    aria-label={`Take ${one.file} out`}
                    onClick={() =>
                      void change(`no longer calls ${one.file}`, {
                        beside: (own.beside ?? []).filter((other) => other.file !== one.file),
                      })
                    }
                  >
                    take out
                  </button>
                </li>
              ))}
            </ul>
            <label className="cursor-pointer text-action underline">
              bring in a file it calls
              <FileInput
                label="Bring in a called program"
                accept={TEXTS}
                take={async (file) => {
                  if (file) setProblem(await callFrom(file))
                }}
              />
            </label>
          </Row>
          {!own.made_from && (
            <>
              <Row label="D means">
                <Choice
                  label="D means"
                  value={own.radius_under_d ?? 'wear'}
                  options={[
                    { value: 'wear', label: 'wear of the radius' },
                    { value: 'whole', label: 'the radius itself' },
                  ]}
                  choose={(value) => void change(`D means ${value}`, { radius_under_d: value })}
                />
              </Row>
              <Meant {...{ own, plan, report }} change={change} />
            </>
          )}
        </>
      )}
      <div className="mt-3 flex gap-2">
        <label className="knob cursor-pointer focus-within:outline-2">
          bring in a file
          <FileInput label="Bring in a program" accept={TEXTS} take={take} />
        </label>
      </div>
      <Refused problem={problem} />
    </>
  )
}

/** Which tool of the plan each T number of a text is. */
function Meant(props: {
  own: OwnText
  plan: SheetProps['plan']
  report: SheetProps['report']
  change: (what: string, told: Partial<OwnText>) => Promise<void>
}) {
  const { own, plan, report, change } = props
  const numbers = [
    ...new Set([
      ...(own.tools ?? []).map((one) => one.number),
      ...(report?.operations ?? []).flatMap((one) => {
        const tool = plan.tools.find((known) => known.id === one.tool)
        return one.kind === 'text' && tool && !(own.tools ?? []).some((told) => told.tool === tool.id)
          ? [tool.place]
          : []
      }),
    ]),
  ].sort((a, b) => a - b)
  const meant = (number: number) =>
    (own.tools ?? []).find((one) => one.number === number)?.tool ??
    plan.tools.find((tool) => tool.place === number)?.id
  return numbers.map((number) => (
    <Row key={number} label={`T${number} is`}>
      <Choice
        label={`T${number}`}
        value={meant(number) ?? ''}
        options={plan.tools.map((tool) => ({ value: tool.id, label: `${tool.name} · place ${tool.place}` }))}
        choose={(id) =>
          void change(`T${number} is another tool`, {
            tools: [...(own.tools ?? []).filter((one) => one.number !== number), { number, tool: id }],
          })
        }
      />
    </Row>
  ))
}
