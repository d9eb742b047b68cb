import { useState } from 'react'
import {
  answered,
  api,
  type Billet,
  type Part,
  type Plan,
  problemInstead,
  type ProjectState,
} from '../../api/client'
import { type Commit, useLibrary } from '../../api/hooks'
import { useEditing } from '../../state/editing'
import { round } from '../../ui/words'
import { Choice } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Form, schemaOf } from '../../ui/Form'
import { Head } from '../sheet'
import { BestPlace } from './BestPlace'
import { allowanceOn, formOf, type Hand, type Kind } from './billet'
import { BlockFields } from './BlockFields'
import { FileIn } from './FileIn'
import { Margins } from './Margins'
import { Shelf } from './Shelf'
import { MaterialRow } from './MaterialRow'

/** The raw material: kind, size, and whether the part fits on every side. */
export function BilletSheet({
  project,
  part,
  commit,
}: {
  project: ProjectState
  part: Part | undefined
  commit: Commit
}) {
  const { data: library } = useLibrary()
  const { billet } = project.plan
  const report = project.report?.billet
  const [wanted, setWanted] = useState<Kind | null>(null)
  const change = (what: string, next: (draft: Plan) => void) => commit(`billet: ${what}`, next)
  const hand: Hand = {
    change: (what, next) => change(what, (draft) => next(draft.billet)),
    typing: (next) => {
      const typed = next && structuredClone(billet)
      if (typed) next(typed)
      useEditing.setState({ typedBillet: typed })
    },
  }
  const size = report ? report.high.map((high, i) => high - (report.low[i] ?? 0)) : []
  const choose = (kind: Kind) => {
    setWanted(null)
    // What is not told comes from the kind's own defaults.
    if (!formOf(library, kind)?.reads)
      return void change(kind, (draft) => (draft.billet = { kind, material: billet.material } as Billet))
    setWanted(kind)
  }
  const shownKind = wanted ?? billet.kind
  const form = formOf(library, shownKind)
  return (
    <>
      <Head title="Billet">What the part is cut from</Head>
      <Row label="Kind">
        <Choice
          label="Kind of billet"
          value={shownKind}
          options={(library?.billets ?? []).map((one) => ({ value: one.kind as Kind, label: one.called }))}
          choose={choose}
        />
      </Row>
      <MaterialRow
        plan={project.plan}
        change={change}
        choose={(material: string) => void change(material, (draft) => (draft.billet.material = material))}
      />
      {form?.reads && (
        <FileIn
          form={form}
          name={wanted || !('file' in billet) ? null : billet.file}
          take={async (file, sha256) => {
            const { material } = billet
            const problem = await change(file, (draft) => {
              if (wanted) draft.billet = { kind: wanted, material, file, sha256 } as Billet
              else Object.assign(draft.billet, { file, sha256 })
            })
            if (!problem) setWanted(null)
          }}
        />
      )}
      {!wanted && billet.kind === 'block' && (
        <BlockFields project={project} part={part} billet={billet} library={library} hand={hand} />
      )}
      {!wanted && billet.kind !== 'block' && form && (
        <Form
          schema={schemaOf(form.fields)}
          values={billet}
          write={(field, value) => hand.change(field, (own) => Object.assign(own, { [field]: value }))}
          typing={(field, value) =>
            hand.typing(value === null ? null : (own) => Object.assign(own, { [field]: value }))
          }
        />
      )}
      {!wanted && billet.kind === 'model' && <BestPlace project={project} hand={hand} />}
      {report && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Margins to the part</h3>
          <Margins
            margins={report.margins}
            {...(!wanted && billet.kind === 'block' && billet.sizing.rule === 'allowance'
              ? {
                  pull: (side: string, value: number) => {
                    void hand.change(`allowance ${side}`, (mine) => {
                      if (mine.kind === 'block') Object.assign(mine.sizing, { [allowanceOn(side)]: value })
                    })
                  },
                }
              : {})}
          />
          <Row label="Box">
            <Computed>{size.map((one) => round(one, 2)).join(' × ')} mm</Computed>
          </Row>
          <Row label="Volume">
            <Computed>{(report.volume_mm3 / 1000).toFixed(1)} cm³</Computed>
          </Row>
          <Row label="Mass">
            <Computed>{report.mass_kg.toFixed(3)} kg</Computed>
          </Row>
          <Row label="Becomes part">
            <Computed>
              {report.volume_mm3 > 0 && project.report
                ? `${((100 * project.report.part_volume_mm3) / report.volume_mm3).toFixed(0)} %`
                : '–'}
            </Computed>
          </Row>
        </>
      )}
      <Shelf project={project} margins={report?.margins} commit={commit} />
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Computing</h3>
      <NumberRow
        label="Ray distance"
        below={
          report && <Computed>takes {round(report.field_bytes / 2 ** 20, 0)} MiB while computing</Computed>
        }
        value={project.plan.resolution_mm}
        unit="mm"
        commit={(value) => change('resolution', (draft) => (draft.resolution_mm = value))}
      />
      <NumberRow
        label="Known to"
        below={<span className="text-soft">on round walls; planes and edges are exact</span>}
        value={report?.stated_error_mm}
        unit="mm"
        commit={async (value) => {
          const cell = await answered<number>(
            api.GET('/api/cell', { params: { query: { error_mm: value } } }),
          ).catch(problemInstead)
          if (typeof cell !== 'number') return cell
          return change(
            `resolution for ${round(value)} mm`,
            (draft) => (draft.resolution_mm = Number(round(cell))),
          )
        }}
      />
    </>
  )
}
