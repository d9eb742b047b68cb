import { useState } from 'react'
import type { ReactNode } from 'react'
import type { Billet, Part, Problem, ProjectState } from '../../api/client'
import { useLibrary } from '../../api/hooks'
import { Choice } from '../../ui/Choice'
import { Row } from '../../ui/Field'
import { Form, schemaOf } from '../../ui/Form'
import { formOf, type Hand, type Kind, type Lies } from './billet'
import { BlockFields } from './BlockFields'
import { FileIn } from './FileIn'

/** What shape a stock is and where it lies: a block, a bar, a profile, a model, a saved one. */
export function ShapeFields(props: {
  project: ProjectState
  part: Part | undefined
  shape: Billet
  hand: Hand
  /** How it lies, where that is computed. */
  lies: Lies | undefined
  replace: (what: string, next: Billet) => Promise<Problem | null>
  /** What the list of kinds is called. */
  label: string
  between?: ReactNode
  below?: (kind: Kind) => ReactNode
}) {
  const { part, shape, hand, replace } = props
  const { data: library } = useLibrary()
  // A kind that is read from a file is taken once there is one.
  const [wanted, setWanted] = useState<Kind | null>(null)
  const choose = (kind: Kind) => {
    setWanted(null)
    // What is not told comes from the kind's own defaults.
    if (!formOf(library, kind)?.reads) return void replace(kind, { kind, material: shape.material } as Billet)
    setWanted(kind)
  }
  const kind = wanted ?? shape.kind
  const form = formOf(library, kind)
  return (
    <>
      <Row label="Kind">
        <Choice
          label={props.label}
          value={kind}
          options={(library?.billets ?? []).map((one) => ({ value: one.kind as Kind, label: one.called }))}
          choose={choose}
        />
      </Row>
      {props.between}
      {form?.reads && (
        <FileIn
          form={form}
          name={wanted || !('file' in shape) ? null : shape.file}
          take={async (file, sha256) => {
            const { material } = shape
            const problem = wanted
              ? await replace(file, { kind: wanted, material, file, sha256 } as Billet)
              : await hand.change(file, (own) => Object.assign(own, { file, sha256 }))
            if (!problem) setWanted(null)
          }}
        />
      )}
      {!wanted && shape.kind === 'block' && (
        <BlockFields lies={props.lies} part={part} billet={shape} library={library} hand={hand} />
      )}
      {!wanted && shape.kind !== 'block' && form && (
        <Form
          schema={schemaOf(form.fields)}
          values={shape}
          write={(field, value) => hand.change(field, (own) => Object.assign(own, { [field]: value }))}
          typing={(field, value) =>
            hand.typing(value === null ? null : (own) => Object.assign(own, { [field]: value }))
          }
        />
      )}
      {!wanted && props.below?.(shape.kind)}
    </>
  )
}
