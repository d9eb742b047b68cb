import type { Part, Plan, ProjectState, Report, RuleForm } from '../../api/client'
import { type Commit, useLibrary } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { choose } from '../../state/route'
import { round } from '../../ui/words'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Form, type FormField, schemaOf } from '../../ui/Form'
import { TextField } from '../../ui/TextField'
import { allowanceOn } from './billet'
import { FIRST, piecesOf } from './several'

export type Several = NonNullable<Plan['pieces']>
type Layout = Several['layout']
type Division = NonNullable<Several['division']>
type Laid = Extract<Layout, { rule: 'by_hand' }>['pieces'][number]
type Lies = Laid['place']
type Told = NonNullable<Report['pieces']>

/** Ways to size a block that do not follow what lies in it. */
const SIZED = ['size', 'corners', 'sides']

/** A rule as it is before anything else is told of it; what is not said is the core's to say. */
const fresh = (form: RuleForm | undefined, field: string) =>
  ({
    [field]: form?.rule,
    ...Object.fromEntries(
      Object.entries((form?.fields.properties ?? {}) as Record<string, { default?: unknown }>)
        .filter(([, one]) => one.default !== undefined)
        .map(([name, one]) => [name, one.default]),
    ),
  }) as unknown

/** Several parts in the billet: where they lie, and how they come apart. */
export function Pieces(props: { project: ProjectState; part: Part | undefined; commit: Commit }) {
  const { project, part, commit } = props
  const { data: library } = useLibrary()
  const { plan } = project
  const pieces = plan.pieces ?? null
  const told = project.report?.pieces
  const write = (what: string, next: (own: Several) => void) =>
    commit(`pieces: ${what}`, (draft) => {
      if (draft.pieces) next(draft.pieces)
    })
  const layouts = library?.layouts ?? []
  const lay = (rule: 'one' | Layout['rule']) => {
    if (rule === pieces?.layout.rule) return
    void commit(`pieces: ${rule === 'one' ? 'one' : rule.replace('_', ' ')}`, (draft) => {
      const division = draft.pieces?.division ?? null
      // One part's block grows with its pieces: as much as stands round it now stands round all of them.
      const margins = project.report?.billet.margins
      if (!pieces && draft.billet.kind === 'block' && SIZED.includes(draft.billet.sizing.rule) && margins)
        draft.billet.sizing = {
          rule: 'allowance',
          ...Object.fromEntries(
            Object.entries(margins).map(([side, one]) => [allowanceOn(side), Number(round(one))]),
          ),
        } as typeof draft.billet.sizing
      if (rule === 'one') draft.pieces = null
      else if (rule === 'rows')
        draft.pieces = {
          layout: fresh(
            layouts.find((one) => one.rule === rule),
            'rule',
          ) as Layout,
          division,
        }
      else draft.pieces = { layout: { rule, pieces: [another([])] }, division }
    })
  }
  const another = (others: Laid[]): Laid => ({
    name: named(others),
    about: 'z',
    turn_deg: 0,
    place: {
      ...(fresh(
        library?.placements.find((one) => one.rule === 'beside'),
        'lies',
      ) as Lies & { lies: 'beside' }),
      of: others.at(-1)?.name ?? FIRST,
    },
  })
  const rows = layouts.find((one) => one.rule === 'rows')
  return (
    <section aria-label="Parts in the billet">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Parts in it</h3>
      <Row label="Laid">
        <Segments
          label="Parts in the billet"
          value={pieces?.layout.rule ?? 'one'}
          options={[
            { value: 'one' as const, label: 'one alone' },
            ...layouts.map((one) => ({ value: one.rule as Layout['rule'], label: one.called })),
          ]}
          choose={lay}
        />
      </Row>
      {pieces?.layout.rule === 'rows' && rows && (
        <Form
          schema={schemaOf(rows.fields)}
          values={pieces.layout}
          write={(field, value) =>
            write(field.replaceAll('_', ' '), (own) => Object.assign(own.layout, { [field]: value }))
          }
        />
      )}
      {pieces?.layout.rule === 'by_hand' && (
        <>
          {pieces.layout.pieces.map((one, n, all) => (
            <ByHand
              key={one.name}
              one={one}
              others={[FIRST, ...all.slice(0, n).map((before) => before.name)]}
              part={part}
              placements={library?.placements ?? []}
              change={(what, next) =>
                write(`${one.name} ${what}`, ({ layout }) => {
                  const mine = layout.rule === 'by_hand' && layout.pieces[n]
                  if (mine) next(mine)
                })
              }
              remove={
                all.length > 1
                  ? () =>
                      void write(`without ${one.name}`, ({ layout }) => {
                        if (layout.rule === 'by_hand') layout.pieces.splice(n, 1)
                      })
                  : undefined
              }
            />
          ))}
          <button
            type="button"
            className="knob mt-1"
            onClick={() =>
              void write('another', ({ layout }) => {
                if (layout.rule === 'by_hand') layout.pieces.push(another(layout.pieces))
              })
            }
          >
            Another piece
          </button>
        </>
      )}
      {pieces && <ComesApart plan={plan} pieces={pieces} write={write} told={told} />}
      {told && told.divided.length > 0 && <AsDivided told={told} />}
    </section>
  )
}

/** The next name nobody has: B, C, … */
function named(others: Laid[]) {
  const taken = others.map((one) => one.name)
  for (let n = 1; ; n += 1) {
    const name = n < 26 ? String.fromCharCode(65 + n) : `P${n}`
    if (!taken.includes(name)) return name
  }
}

/** One piece laid by hand. */
function ByHand(props: {
  one: Laid
  /** Pieces it can be laid by. */
  others: string[]
  part: Part | undefined
  placements: RuleForm[]
  change: (what: string, next: (own: Laid) => void) => ReturnType<Commit>
  remove: (() => void) | undefined
}) {
  const { one, others, part, placements, change } = props
  const form = placements.find((rule) => rule.rule === one.place.lies)
  const put = (field: string, value: unknown) =>
    change(field, (own) => Object.assign(own.place, { [field]: value }))
  const bore = part?.faces.find((face) => face.kind === 'cylinder')
  const swap = (lies: Lies['lies']) => {
    const next = fresh(
      placements.find((rule) => rule.rule === lies),
      'lies',
    ) as Lies
    // A bore to begin with; which one is picked then.
    const at = bore && { face: bore.number, at: bore.centre }
    if (next.lies === 'axis' && at) Object.assign(next, { hole: at, onto: at })
    if (next.lies !== 'moved') next.of = others.at(-1) ?? FIRST
    void change(lies, (own) => (own.place = next))
  }
  const pick = (name: string, field: FormField) => {
    const face = (one.place as unknown as Record<string, { face: number }>)[name]
    return (
      <Row label={field.title ?? name} help={field.description}>
        <button
          type="button"
          className="knob justify-self-start"
          onClick={() =>
            useAsking.setState({
              asked: {
                kind: 'face',
                prompt: field['x-pick'] ?? '',
                serves: (chosen) => (chosen.axis ? null : 'it has no axis'),
                take: (ref) => void put(name, ref),
              },
            })
          }
        >
          {face ? `F${face.face}` : 'Pick'}
        </button>
      </Row>
    )
  }
  return (
    <div className="mb-2 border-l-2 border-rule pl-3">
      <Row label="Piece">
        <TextField
          label={`Name of piece ${one.name}`}
          value={one.name}
          commit={(text) => change('renamed', (own) => (own.name = text))}
        />
      </Row>
      <NumberRow
        label="Turned"
        name={`Piece ${one.name} turned`}
        value={one.turn_deg}
        unit="°"
        commit={(value) => change('turned', (own) => (own.turn_deg = value))}
      />
      <Row label="About">
        <Segments
          label={`Axis piece ${one.name} is turned about`}
          value={one.about}
          options={(['x', 'y', 'z'] as const).map((axis) => ({ value: axis, label: axis.toUpperCase() }))}
          choose={(axis) => void change(`about ${axis}`, (own) => (own.about = axis))}
        />
      </Row>
      <Row label="Lies">
        <Segments
          label={`How piece ${one.name} lies`}
          value={one.place.lies}
          options={placements
            .filter((rule) => rule.rule !== 'axis' || bore)
            .map((rule) => ({ value: rule.rule as Lies['lies'], label: rule.called }))}
          choose={swap}
        />
      </Row>
      {form && (
        <Form
          schema={schemaOf(form.fields)}
          prefix={`Piece ${one.name}`}
          values={one.place}
          widgets={{ faces: pick }}
          write={put}
        />
      )}
      {props.remove && (
        <button type="button" className="knob" onClick={props.remove}>
          Remove {one.name}
        </button>
      )}
    </div>
  )
}

/** How the billet comes apart, and after which setup. */
function ComesApart(props: {
  plan: Plan
  pieces: Several
  write: (what: string, next: (own: Several) => void) => ReturnType<Commit>
  told: Told | null | undefined
}) {
  const { plan, pieces, write, told } = props
  const { data: library } = useLibrary()
  const { division } = pieces
  const setups = plan.setups.filter((one) => !one.makes)
  const first = setups[0]
  const form = library?.division
  const change = (what: string, next: (own: Division) => void) =>
    write(what, (own) => {
      if (own.division) next(own.division)
    })
  const swap = (how: 'together' | Division['how']) =>
    void write(how, (own) => {
      if (how === 'together') own.division = null
      else if (own.division) own.division.how = how
      else if (first) own.division = { after: first.name, how, kerf: 3, saws: [], goes_on: FIRST }
    })
  return (
    <>
      <Row
        label="Comes apart"
        below={!first && <span className="text-soft">once there is a setup that cuts it</span>}
      >
        <Segments
          label="How the billet comes apart"
          value={division?.how ?? 'together'}
          options={[
            { value: 'together' as const, label: 'not' },
            ...(first
              ? [
                  { value: 'sawn' as const, label: 'sawn' },
                  { value: 'apart' as const, label: 'cut free' },
                ]
              : []),
          ]}
          choose={swap}
        />
      </Row>
      {division && (
        <>
          <Row label="After">
            <Choice
              label="Comes apart after"
              value={division.after}
              options={setups.map((one) => ({ value: one.name, label: one.name, note: one.title }))}
              choose={(after) => void change(`after ${after}`, (own) => (own.after = after))}
            />
          </Row>
          {division.how === 'sawn' && form && (
            <Form
              schema={schemaOf({ properties: { kerf: (form.properties as Record<string, unknown>).kerf } })}
              values={division}
              write={(field, value) => change(field, (own) => Object.assign(own, { [field]: value }))}
            />
          )}
          {division.how === 'sawn' && <Saws division={division} told={told} change={change} />}
          <Row label="Goes on with">
            <Choice
              label="Piece the route goes on with"
              value={division.goes_on}
              options={piecesOf(plan).map((name) => ({ value: name, label: `piece ${name}` }))}
              choose={(name) => void change(`piece ${name}`, (own) => (own.goes_on = name))}
            />
          </Row>
        </>
      )}
    </>
  )
}

/** The planes of the saw: midway between the pieces, or typed. */
function Saws(props: {
  division: Division
  told: Told | null | undefined
  change: (what: string, next: (own: Division) => void) => ReturnType<Commit>
}) {
  const { division, told, change } = props
  const typed = division.saws.length > 0
  const saws = typed ? division.saws : (told?.saws ?? [])
  return (
    <>
      <Row label="Sawn at" help="square to which axis, and where, in the part’s frame">
        <Segments
          label="Where it is sawn"
          value={typed ? 'typed' : 'midway'}
          options={[
            { value: 'midway', label: 'midway between' },
            ...(saws.length ? [{ value: 'typed', label: 'as typed' }] : []),
          ]}
          choose={(way) => void change(`sawn ${way}`, (own) => (own.saws = way === 'typed' ? [...saws] : []))}
        />
      </Row>
      {saws.map((saw, n) =>
        typed ? (
          <NumberRow
            key={n}
            label={`Square to ${saw.axis.toUpperCase()}`}
            name={`Saw ${n + 1} square to ${saw.axis}`}
            value={saw.at}
            unit="mm"
            commit={(value) =>
              change(`saw at ${value}`, (own) => {
                const mine = own.saws[n]
                if (mine) mine.at = value
              })
            }
            clear={saws.length > 1 ? () => change('one saw less', (own) => own.saws.splice(n, 1)) : undefined}
          />
        ) : (
          <Row key={n} label={`Square to ${saw.axis.toUpperCase()}`}>
            <Computed>{round(saw.at, 2)} mm</Computed>
          </Row>
        ),
      )}
    </>
  )
}

/** What came of it: each piece with what stands on its sides over the part. */
function AsDivided({ told }: { told: Told }) {
  const sides = Object.keys(told.divided[0]?.margins ?? {})
  const kinds = new Set(told.divided.map((one) => one.like))
  return (
    <>
      <p className="mt-2 text-[12.5px]">
        {told.divided.length} pieces,{' '}
        {kinds.size === 1 ? 'all alike' : `${kinds.size} kinds by what stands on them`}
        {told.after && (
          <button type="button" className="ml-1 text-action underline" onClick={() => choose('billet')}>
            after {told.after}
          </button>
        )}
      </p>
      <table aria-label="Pieces as divided" className="figures mt-1 w-full text-right text-[12px]">
        <thead className="text-soft">
          <tr>
            <th className="text-left font-normal">piece</th>
            {sides.map((side) => (
              <th key={side} className="font-normal">
                {side.replace('-', '−')}
              </th>
            ))}
            <th className="font-normal">cm³</th>
          </tr>
        </thead>
        <tbody>
          {told.divided.map((one) => (
            <tr key={one.name} className="border-t border-rule">
              <td className="text-left">
                {one.name}
                {one.like !== one.name && <span className="text-soft"> as {one.like}</span>}
              </td>
              {sides.map((side) => (
                <td key={side}>{round(one.margins[side] ?? 0, 2)}</td>
              ))}
              <td>{(one.volume_mm3 / 1000).toFixed(1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}
