import { useEffect, useState } from 'react'
import {
  answered,
  api,
  type Billet,
  type CastingPlace,
  type Part,
  type Plan,
  type Problem,
  type ProjectState,
  Refusal,
} from '../../api/client'
import { type Commit, sendFile, useLibrary, useUpload } from '../../api/hooks'
import { round } from '../../state'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberField, NumberRow, Row, sentence } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Head } from '../StageSheet'
import { Margins } from './Margins'
import { Shelf } from './Shelf'

type Kind = Billet['kind']
type Of<K extends Kind> = Extract<Billet, { kind: K }>
type Change<K extends Kind> = (what: string, next: (own: Of<K>) => void) => Promise<Problem | null>

const KINDS: { value: Kind; label: string }[] = [
  { value: 'block', label: 'rectangular block' },
  { value: 'bar', label: 'round bar or tube' },
  { value: 'extrusion', label: 'length of a profile (DXF)' },
  { value: 'model', label: 'casting, forging, print (STEP, STL, 3MF)' },
  { value: 'stock', label: 'saved stock (.rays)' },
]
const FILES = { extrusion: '.dxf', model: '.step,.stp,.stl,.3mf', stock: '.rays' } as const
const UPLOADED = { extrusion: 'outline', model: 'part', stock: 'stock' } as const
const SIDES = [
  ['x_minus', 'x-', 'Left  x−'],
  ['x_plus', 'x+', 'Right  x+'],
  ['y_minus', 'y-', 'Front  y−'],
  ['y_plus', 'y+', 'Back  y+'],
  ['z_minus', 'z-', 'Under  z−'],
  ['z_plus', 'z+', 'Top  z+'],
] as const

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
  const [wanted, setWanted] = useState<'extrusion' | 'model' | 'stock' | null>(null)
  const change = (what: string, next: (draft: Plan) => void) => commit(`billet: ${what}`, next)
  const own =
    <K extends Kind>(kind: K): Change<K> =>
    (what, next) =>
      change(what, (draft) => {
        if (draft.billet.kind === kind) next(draft.billet as Of<K>)
      })
  const size = report ? report.high.map((high, i) => high - (report.low[i] ?? 0)) : []
  const choose = (kind: Kind) => {
    setWanted(null)
    const { material } = billet
    if (kind === 'block')
      return void change('block', (draft) => {
        const sizing = {
          rule: 'allowance' as const,
          ...{ x_minus: 5, x_plus: 5, y_minus: 5, y_plus: 5, z_minus: 5, z_plus: 2 },
        }
        draft.billet = { kind, material, sizing }
      })
    if (kind === 'bar')
      return void change('round bar', (draft) => {
        draft.billet = {
          kind,
          material,
          axis: 'z',
          allowance: 2,
          bore: 0,
          minus: 5,
          plus: 2,
          shift: [0, 0],
        }
      })
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
              draft.billet =
                wanted === 'extrusion'
                  ? {
                      kind: wanted,
                      material,
                      file,
                      sha256,
                      axis: 'z',
                      minus: 5,
                      plus: 2,
                      place: 'middle',
                      shift: [0, 0],
                    }
                  : wanted === 'model'
                    ? { kind: wanted, material, file, sha256, turn: [0, 0, 0], move: [0, 0, 0] }
                    : { kind: wanted, material, file, sha256 }
            })
            if (!problem) setWanted(null)
          }}
        />
      )}
      {!wanted && billet.kind === 'block' && (
        <BlockFields project={project} part={part} billet={billet} size={size} change={own('block')} />
      )}
      {!wanted && billet.kind === 'bar' && <BarFields billet={billet} change={own('bar')} />}
      {!wanted && billet.kind === 'extrusion' && (
        <ExtrusionFields billet={billet} change={own('extrusion')} />
      )}
      {!wanted && billet.kind === 'model' && (
        <ModelFields project={project} billet={billet} change={own('model')} />
      )}
      {!wanted && billet.kind === 'stock' && (
        <FileIn
          kind="stock"
          name={billet.file}
          take={async (file, sha256) =>
            void (await own('stock')(file, (mine) => Object.assign(mine, { file, sha256 })))
          }
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
                      void own('block')(`allowance ${side}`, (mine) => {
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
          try {
            const cell = await answered<number>(
              api.GET('/api/cell', { params: { query: { error_mm: value } } }),
            )
            return await change(
              `resolution for ${round(value)} mm`,
              (draft) => (draft.resolution_mm = Number(round(cell))),
            )
          } catch (refusal) {
            if (refusal instanceof Refusal) return refusal.problem
            throw refusal
          }
        }}
      />
    </>
  )
}

function BlockFields({
  project,
  part,
  billet,
  size,
  change,
}: {
  project: ProjectState
  part: Part | undefined
  billet: Of<'block'>
  size: number[]
  change: Change<'block'>
}) {
  const { sizing } = billet
  const report = project.report?.billet
  const swap = (rule: typeof sizing.rule) => {
    if (!part || !report) return
    const spare = (side: string) => Number(round(report.margins[side] ?? 0))
    void change(`sized by ${rule}`, (mine) => {
      if (rule === 'size') {
        const sides = size.map((one) => Number(round(one))) as [number, number, number]
        mine.sizing = { rule, size: sides, place: [0.5, 0.5, 0.5] }
      } else if (rule === 'corners')
        mine.sizing = {
          rule,
          low: report.low.map((c) => Number(round(c))) as [number, number, number],
          high: report.high.map((c) => Number(round(c))) as [number, number, number],
        }
      else
        mine.sizing = {
          rule,
          x_minus: spare('x-'),
          x_plus: spare('x+'),
          y_minus: spare('y-'),
          y_plus: spare('y+'),
          z_minus: spare('z-'),
          z_plus: spare('z+'),
        }
    })
  }
  return (
    <>
      <Row label="Sized by">
        <Segments
          label="Sized by"
          value={sizing.rule}
          options={[
            { value: 'allowance', label: 'allowance' },
            { value: 'size', label: 'finished size' },
            { value: 'corners', label: 'corners' },
          ]}
          choose={swap}
        />
      </Row>
      {sizing.rule === 'allowance' &&
        SIDES.map(([field, , label]) => (
          <NumberRow
            key={field}
            label={label}
            name={`Allowance ${label}`}
            value={sizing[field]}
            unit="mm"
            commit={(value) =>
              change(`allowance ${label}`, (mine) => {
                if (mine.sizing.rule === 'allowance') mine.sizing[field] = value
              })
            }
          />
        ))}
      {sizing.rule === 'size' &&
        (['x', 'y', 'z'] as const).map((axis, d) => (
          <Row key={axis} label={`Size ${axis}`}>
            <div className="grid grid-cols-2 gap-2">
              <NumberField
                label={`Size ${axis}`}
                value={sizing.size[d]}
                unit="mm"
                commit={(value) =>
                  change(`size ${axis}`, (mine) => {
                    if (mine.sizing.rule === 'size') mine.sizing.size[d] = value
                  })
                }
              />
              <NumberField
                label={`Share under the part ${axis}`}
                value={(sizing.place[d] ?? 0.5) * 100}
                unit={`% ${axis}−`}
                commit={(value) =>
                  change(`place ${axis}`, (mine) => {
                    if (mine.sizing.rule === 'size') mine.sizing.place[d] = value / 100
                  })
                }
              />
            </div>
          </Row>
        ))}
      {sizing.rule === 'corners' &&
        (['x', 'y', 'z'] as const).map((axis, d) => (
          <Row key={axis} label={`${axis} from, to`}>
            <div className="grid grid-cols-2 gap-2">
              {(['low', 'high'] as const).map((end) => (
                <NumberField
                  key={end}
                  label={`Corner ${end} ${axis}`}
                  value={sizing[end][d]}
                  unit="mm"
                  commit={(value) =>
                    change(`corner ${axis}`, (mine) => {
                      if (mine.sizing.rule === 'corners') mine.sizing[end][d] = value
                    })
                  }
                />
              ))}
            </div>
          </Row>
        ))}
    </>
  )
}

const AXES = [
  { value: 'x' as const, label: 'x' },
  { value: 'y' as const, label: 'y' },
  { value: 'z' as const, label: 'z' },
]

/** Ends along the axis and a shift across it: what bars and profiles share. */
function Lengthwise({
  billet,
  change,
}: {
  billet: Of<'bar'> | Of<'extrusion'>
  change: (what: string, next: (own: Of<'bar'> | Of<'extrusion'>) => void) => Promise<Problem | null>
}) {
  const across = { x: ['y', 'z'], y: ['z', 'x'], z: ['x', 'y'] }[billet.axis]
  return (
    <>
      <Row label="Along">
        <Segments
          label="Along the part’s axis"
          value={billet.axis}
          options={AXES}
          choose={(axis) => void change(`along ${axis}`, (mine) => (mine.axis = axis))}
        />
      </Row>
      {(['minus', 'plus'] as const).map((end) => (
        <NumberRow
          key={end}
          label={`Beyond ${billet.axis}${end === 'minus' ? '−' : '+'}`}
          value={billet[end]}
          unit="mm"
          commit={(value) => change(`length at ${end}`, (mine) => (mine[end] = value))}
        />
      ))}
      {[0, 1].map((d) => (
        <NumberRow
          key={d}
          label={`Shift ${across?.[d]}`}
          value={billet.shift[d]}
          unit="mm"
          commit={(value) => change(`shift ${across?.[d]}`, (mine) => (mine.shift[d] = value))}
        />
      ))}
    </>
  )
}

function BarFields({ billet, change }: { billet: Of<'bar'>; change: Change<'bar'> }) {
  return (
    <>
      <NumberRow
        label="Diameter"
        value={billet.diameter}
        unit="mm"
        placeholder="smallest that covers"
        commit={(value) => change(`Ø${value}`, (mine) => (mine.diameter = value))}
        clear={() => change('smallest diameter', (mine) => (mine.diameter = null))}
      />
      {billet.diameter == null && (
        <NumberRow
          label="All round"
          value={billet.allowance}
          unit="mm"
          commit={(value) => change('allowance round', (mine) => (mine.allowance = value))}
        />
      )}
      <NumberRow
        label="Bore"
        below={<span className="text-soft">0 for a solid bar</span>}
        value={billet.bore}
        unit="mm"
        commit={(value) => change(`bore ${value}`, (mine) => (mine.bore = value))}
      />
      <Lengthwise billet={billet} change={(what, next) => change(what, next)} />
    </>
  )
}

function ExtrusionFields({ billet, change }: { billet: Of<'extrusion'>; change: Change<'extrusion'> }) {
  return (
    <>
      <FileIn
        kind="extrusion"
        name={billet.file}
        take={async (file, sha256) =>
          void (await change(file, (mine) => Object.assign(mine, { file, sha256 })))
        }
      />
      <Row label="Placed">
        <Segments
          label="Placed"
          value={billet.place}
          options={[
            { value: 'middle', label: 'middle on the part' },
            { value: 'drawn', label: 'as drawn' },
          ]}
          choose={(place) => void change(`placed ${place}`, (mine) => (mine.place = place))}
        />
      </Row>
      <Lengthwise billet={billet} change={(what, next) => change(what, next)} />
    </>
  )
}

function ModelFields({
  project,
  billet,
  change,
}: {
  project: ProjectState
  billet: Of<'model'>
  change: Change<'model'>
}) {
  const [said, setSaid] = useState<string | null>(null)
  const fit = async () => {
    setSaid('searching …')
    try {
      const found = await answered<CastingPlace>(
        api.GET('/api/projects/{project_id}/casting', { params: { path: { project_id: project.id } } }),
      )
      await change('best placement', (mine) => Object.assign(mine, { turn: found.turn, move: found.move }))
      setSaid(
        found.cover >= 0
          ? `thinnest cover ${round(found.cover, 2)} mm`
          : `${round(-found.cover, 2)} mm is missing wherever it lies`,
      )
    } catch (refusal) {
      setSaid(refusal instanceof Refusal ? sentence(refusal.problem) : 'the server does not answer')
    }
  }
  return (
    <>
      <FileIn
        kind="model"
        name={billet.file}
        take={async (file, sha256) =>
          void (await change(file, (mine) => Object.assign(mine, { file, sha256 })))
        }
      />
      {(['x', 'y', 'z'] as const).map((axis, d) => (
        <Row key={axis} label={`About, along ${axis}`}>
          <div className="grid grid-cols-2 gap-2">
            <NumberField
              label={`Turn about ${axis}`}
              value={billet.turn[d]}
              unit="°"
              commit={(value) => change(`turn ${axis}`, (mine) => (mine.turn[d] = value))}
            />
            <NumberField
              label={`Move along ${axis}`}
              value={billet.move[d]}
              unit="mm"
              commit={(value) => change(`move ${axis}`, (mine) => (mine.move[d] = value))}
            />
          </div>
        </Row>
      ))}
      <Row label="Fit" below={said && <Computed>{said}</Computed>}>
        <button type="button" className="knob" onClick={() => void fit()}>
          Thickest cover all round
        </button>
      </Row>
    </>
  )
}

/** Bring in a billet's file; it is taken once it has been read. */
function FileIn({
  kind,
  name,
  take,
}: {
  kind: 'extrusion' | 'model' | 'stock'
  name: string | null
  take: (file: string, sha256: string) => Promise<void>
}) {
  const [sha256, setSha256] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const { data: upload } = useUpload(sha256)
  useEffect(() => {
    if (upload?.status !== 'ready' || !sha256) return
    setSha256(null)
    if (upload.kind === UPLOADED[kind]) void take(upload.name, upload.sha256)
    else
      setProblem({
        code: 'billet.kind',
        where: upload.name,
        what: `this file holds a ${upload.kind}, not what this kind of billet needs`,
        mend: `choose a file of ${FILES[kind]}`,
      })
  }, [upload, sha256]) // eslint-disable-line react-hooks/exhaustive-deps
  const refused =
    problem ??
    (upload?.status === 'refused' ? upload.problem : null) ??
    (upload?.status === 'choose'
      ? {
          code: 'part.several_solids',
          where: upload.name,
          what: `the file holds ${upload.choices?.length} solids`,
          mend: 'take the one out on the projects page, or export it alone',
        }
      : null)
  return (
    <Row
      label="File"
      below={
        <>
          {upload?.status === 'reading' && <span className="text-soft">reading {upload.name} …</span>}
          {refused && (
            <div role="alert" className="text-trouble">
              {sentence(refused)}
            </div>
          )}
        </>
      }
    >
      <label className="knob inline-block cursor-pointer">
        {name ?? 'Choose a file'}
        <FileInput
          label="Billet file"
          accept={FILES[kind]}
          take={async (file) => {
            if (!file) return
            setProblem(null)
            const state = await sendFile(file)
            if ('sha256' in state) setSha256(state.sha256)
            else setProblem(state)
          }}
        />
      </label>
    </Row>
  )
}
