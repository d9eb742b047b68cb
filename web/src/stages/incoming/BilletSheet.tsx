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
import { Head } from '../sheet'
import { BarFields, ExtrusionFields, ModelFields } from './BilletForms'
import { type FromFile, type Hand, type Kind, type Of, SIDES } from './billet'
import { BlockFields } from './BlockFields'
import { FileIn } from './FileIn'
import { Margins } from './Margins'
import { Shelf } from './Shelf'

const KINDS: { value: Kind; label: string }[] = [
  { value: 'block', label: 'rectangular block' },
  { value: 'bar', label: 'round bar or tube' },
  { value: 'extrusion', label: 'length of a profile (DXF)' },
  { value: 'model', label: 'casting, forging, print (STEP, STL, 3MF)' },
  { value: 'stock', label: 'saved stock (.rays)' },
]
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
  const [wanted, setWanted] = useState<FromFile | null>(null)
  const change = (what: string, next: (draft: Plan) => void) => commit(`billet: ${what}`, next)
  /** How the fields of a kind change the billet. */
  function hand<K extends Kind>(kind: K): Hand<Of<K>> {
    const put = (what: string, next: (own: Of<K>) => void) =>
      change(what, (draft) => {
        if (draft.billet.kind === kind) next(draft.billet as Of<K>)
      })
    return {
      change: put,
      number: (what, next) => ({
        commit: (value) => put(what, (own) => next(own, value)),
        typing: (value) => {
          if (value === null) {
            useEditing.setState({ typedBillet: null })
            return
          }
          const typed = structuredClone(billet)
          if (typed.kind === kind) next(typed as Of<K>, value)
          useEditing.setState({ typedBillet: typed })
        },
      }),
    }
  }
  const size = report ? report.high.map((high, i) => high - (report.low[i] ?? 0)) : []
  const choose = (kind: Kind) => {
    setWanted(null)
    // What is not told comes from the kind's own defaults.
    if (kind === 'block' || kind === 'bar')
      return void change(kind, (draft) => (draft.billet = { kind, material: billet.material } as Billet))
    setWanted(kind)
  }
  const shownKind = wanted ?? billet.kind
  return (
    <>
      <Head title="Billet">What the part is cut from</Head>
      <Row label="Kind">
        <Choice label="Kind of billet" value={shownKind} options={KINDS} choose={choose} />
      </Row>
      <Row label="Material">
        <Choice
          label="Material"
          value={billet.material}
          options={(library?.materials ?? []).map((one) => ({
            value: one.name,
            label: one.name,
            note: `${one.density_g_cm3} g/cm³`,
          }))}
          choose={(material) => void change(material, (draft) => (draft.billet.material = material))}
        />
      </Row>
      {wanted && (
        <FileIn
          kind={wanted}
          name={null}
          take={async (file, sha256) => {
            const { material } = billet
            const problem = await change(file, (draft) => {
              draft.billet = { kind: wanted, material, file, sha256 } as Billet
            })
            if (!problem) setWanted(null)
          }}
        />
      )}
      {!wanted && billet.kind === 'block' && (
        <BlockFields project={project} part={part} billet={billet} size={size} hand={hand('block')} />
      )}
      {!wanted && billet.kind === 'bar' && <BarFields billet={billet} hand={hand('bar')} />}
      {!wanted && billet.kind === 'extrusion' && <ExtrusionFields billet={billet} hand={hand('extrusion')} />}
      {!wanted && billet.kind === 'model' && (
        <ModelFields project={project} billet={billet} hand={hand('model')} />
      )}
      {!wanted && billet.kind === 'stock' && (
        <FileIn
          kind="stock"
          name={billet.file}
          take={async (file, sha256) => {
            await hand('stock').change(file, (mine) => Object.assign(mine, { file, sha256 }))
          }}
        />
      )}
      {report && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Margins to the part</h3>
          <Margins
            margins={report.margins}
            {...(!wanted && billet.kind === 'block' && billet.sizing.rule === 'allowance'
              ? {
                  pull: (side: string, value: number) => {
                    const field = SIDES.find(([, name]) => name === side)?.[0]
                    if (field)
                      void hand('block').change(`allowance ${side}`, (mine) => {
                        if (mine.sizing.rule === 'allowance') mine.sizing[field] = value
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
