import { useEffect, useState } from 'react'
import { answered, api, type Problem, problemInstead, type Tool, type ToolPicture } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { Row } from '../../ui/Field'
import { Form, schemaOf, type Write } from '../../ui/Form'
import { TextField } from '../../ui/TextField'
import { ToolDrawing } from './ToolDrawing'
import { Refused } from '../../ui/Refused'

const drawn = (tool: Tool) =>
  answered<ToolPicture>(api.POST('/api/tools/picture', { body: tool })).catch(problemInstead)

/** Pairs of numbers as text: 30×40 30×50. */
const asPairs = (rows: readonly (readonly number[])[], sign: string) =>
  rows.map((row) => row.join(sign)).join('  ')
const fromPairs = (text: string) =>
  text
    .trim()
    .split(/[\s;]+/)
    .filter(Boolean)
    .map((pair) => pair.split(/[x×:]/).map((part) => Number(part.replace(',', '.'))) as [number, number])

/** A tool with every size its kind is told by, drawn as typed; kept when it is said. `keep` and its label: where it goes. */
export function ToolEditor(props: {
  tool: Tool
  actions: { label: string; main?: boolean; does: (tool: Tool) => Promise<Problem | null> }[]
}) {
  const { data: library } = useLibrary()
  const [draft, setDraft] = useState<Tool>(props.tool)
  const [picture, setPicture] = useState<ToolPicture | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const took = (next: Tool, then: ToolPicture | Problem) => {
    if ('what' in then) return then
    setDraft(next)
    setPicture(then)
    return null
  }
  useEffect(() => {
    let gone = false
    void drawn(props.tool).then((then) => {
      if (!gone && !('what' in then)) setPicture(then)
    })
    return () => {
      gone = true
    }
  }, [props.tool])
  const put = async (next: Tool) => took(next, await drawn(next))
  const write: Write = (field, value) => put({ ...draft, [field]: value })
  if (!library) return null
  return (
    // No form of the browser's: Enter keeps a size, and not the tool.
    <div
      role="form"
      aria-label="Tool sizes"
      className="grid grid-cols-[minmax(0,1fr)_17rem] items-start gap-4"
    >
      <div>
        <Form
          schema={schemaOf(library.tool)}
          place="what"
          values={draft}
          write={write}
          widgets={{
            holder: (_, field) => (
              <>
                <Row label="Holder" help={field.description}>
                  <TextField
                    label="Holder"
                    value={draft.holder.name}
                    commit={(name) => put({ ...draft, holder: { ...draft.holder, name } })}
                  />
                </Row>
                <Row label="Its steps" help="length × diameter of each step from the nose up, mm">
                  <TextField
                    label="Steps of the holder"
                    value={asPairs(draft.holder.stack, '×')}
                    commit={(text) => put({ ...draft, holder: { ...draft.holder, stack: fromPairs(text) } })}
                  />
                </Row>
              </>
            ),
            outline: (_, field) => (
              <Row label="Outline" help={field.description}>
                <TextField
                  label="Outline of the tool"
                  value={asPairs(draft.outline ?? [], ':')}
                  commit={(text) => put({ ...draft, outline: fromPairs(text) })}
                />
              </Row>
            ),
          }}
        />
        <Refused problem={problem} />
        <div className="mt-3 flex flex-wrap gap-1.5">
          {props.actions.map((one) => (
            <button
              key={one.label}
              type="button"
              className={one.main ? 'knob-go' : 'knob'}
              onClick={() => void one.does(draft).then(setProblem)}
            >
              {one.label}
            </button>
          ))}
        </div>
      </div>
      {picture && <ToolDrawing picture={picture} />}
    </div>
  )
}
