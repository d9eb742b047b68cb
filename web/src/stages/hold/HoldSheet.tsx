import { useState } from 'react'
import { answered, api, type Fixture, type HoldFacts, type HoldItem } from '../../api/client'
import { useCure, useEveryday, useFixtures } from '../../api/hooks'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { Computed, NumberRow, Row } from '../../ui/Field'
import { Tryable } from '../../ui/Tryable'
import { Head, type SheetProps } from '../sheet'
import { BuildList } from './BuildList'
import { FixtureLibrary } from './FixtureLibrary'
import { SoftJaws } from './SoftJaws'

const WAYS = ['left', 'right', 'front', 'back'] as const

/** What locates and clamps the work: built up like on the machine, and judged against the stock as it comes in. */
export function HoldSheet(props: SheetProps) {
  const { project, setup, plan, report, edit, commit } = props
  const { data: fixtures } = useFixtures(plan)
  const cured = useCure(project)
  const [choosing, setChoosing] = useState(false)
  const facts = report?.hold
  const { items, work } = setup.hold
  // Soft jaws are cut in the vise they grip in; a block may be held by a holding of its own.
  if (setup.makes && report?.nest?.gap !== 0)
    return (
      <>
        <Head title="Hold">The blanks are clamped as {setup.makes.setup} will grip, on a spacer</Head>
        {report?.nest && <SoftJaws {...props} nest={report.nest} />}
        {report?.nest && (
          <Row label="Spacer">
            <Computed>{round(report.nest.gap, 2)} mm between the jaws</Computed>
          </Row>
        )}
      </>
    )
  const take = async (fixture: Fixture) => {
    const item = await answered<HoldItem>(
      api.GET('/api/projects/{project_id}/item/{setup}', {
        params: { path: { project_id: project.id, setup: setup.name }, query: { fixture: fixture.id } },
      }),
    )
    // The next one is taken on what this one leaves.
    await commit(`${setup.name}: ${fixture.name} added`, (draft) => {
      const own = draft.setups[props.index]
      if (!own) return
      // The plan keeps its own copy, so that a change of the library does not bend it.
      if (!draft.fixtures.some((one) => one.id === fixture.id)) draft.fixtures.push(fixture)
      own.hold.items.push(item)
    })
    setChoosing(false)
  }
  return (
    <>
      <Head title="Hold">
        {setup.makes
          ? items.length
            ? 'What holds the block while it is cut; zero is the middle of its top'
            : `The block stands as it will in ${setup.makes.setup}, unless it is held otherwise here`
          : `What locates and clamps the work in ${setup.name}`}
      </Head>
      <BuildList {...props} fixtures={fixtures ?? []} />
      <div className="mt-1.5 flex flex-wrap gap-1.5">
        <button type="button" className="knob text-[12.5px]" onClick={() => setChoosing(true)}>
          + from the library
        </button>
        {items.length === 0 && <Quick {...props} />}
      </div>
      {choosing && (
        <FixtureLibrary plan={plan} take={(one) => void take(one)} close={() => setChoosing(false)} />
      )}
      {items.length > 0 && (setup.makes || !report?.nest) && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Work</h3>
          <NumberRow
            label="Off the middle"
            below={
              facts?.opening != null && (
                <Computed>
                  sticks out {round(facts.sticks_out_left, 2)} left, {round(facts.sticks_out_right, 2)} right
                </Computed>
              )
            }
            value={work.x}
            unit="mm"
            commit={(value) => edit('work along the jaws', (own) => (own.hold.work.x = value))}
          />
          <NumberRow
            label="Across"
            value={work.y}
            unit="mm"
            commit={(value) => edit('work across', (own) => (own.hold.work.y = value))}
          />
          <Row label="Pushed to the">
            <div role="group" aria-label="Pushed to the" className="flex flex-wrap gap-1">
              {WAYS.map((way) => (
                <button
                  key={way}
                  type="button"
                  aria-pressed={work.pushed.includes(way)}
                  className={`knob !px-2 text-[12.5px] ${work.pushed.includes(way) ? 'knob-on' : ''}`}
                  onClick={() =>
                    void edit(`work pushed ${way}`, (own) => {
                      const now = own.hold.work.pushed
                      own.hold.work.pushed = now.includes(way)
                        ? now.filter((one) => one !== way)
                        : [...now, way]
                    })
                  }
                >
                  {way}
                </button>
              ))}
            </div>
          </Row>
        </>
      )}
      {report?.nest && <SoftJaws {...props} nest={report.nest} />}
      {facts?.key && <Facts facts={facts} />}
      {!!facts?.proposals.length && (
        <section aria-label="Proposals" className="mt-4">
          <h3 className="mb-1 font-head text-[15px] font-semibold">Proposals</h3>
          {facts.proposals.map((one) => (
            <div key={one.cure.label} className="mb-1.5 border border-rule bg-sheet px-2.5 py-1.5">
              <div className="text-[12.5px] text-soft">{one.reason}</div>
              <div className="mt-1 flex flex-wrap gap-1.5">
                <Tryable
                  project={project}
                  setup={setup.name}
                  cure={one.cure}
                  take={() => void cured(one.cure, `${setup.name}: ${one.cure.label}`)}
                />
              </div>
            </div>
          ))}
        </section>
      )}
    </>
  )
}

/** The everyday holdings, whole, as the library has the pieces for the work as it comes in. */
function Quick({ project, setup, edit }: SheetProps) {
  const holdings = useEveryday(project.id, setup.name, project.report_revision)
  // Nothing is cut to a block that jaws are cut of.
  const offered = holdings.data?.filter((one) => !setup.makes || one.items.every((item) => !item.cut))
  return offered?.map((one) => (
    <button
      key={one.called}
      type="button"
      className="knob text-[12.5px]"
      onClick={() => void edit(one.called, (own) => (own.hold.items = one.items))}
    >
      {one.called}
    </button>
  ))
}

/** Contacts of one piece together: those a clamp presses, and those it only stands on. */
function gathered(contacts: HoldFacts['contacts']) {
  const out: ((typeof contacts)[number] & { places: number })[] = []
  for (const one of contacts) {
    const same = out.find(
      (other) => other.name === one.name && (other.angle_deg == null) === (one.angle_deg == null),
    )
    if (same) {
      same.places += 1
      same.area += one.area
      same.force = (same.force ?? 0) + (one.force ?? 0)
    } else out.push({ ...one, places: 1 })
  }
  return out
}

/** What touches, how well it is located, whether it goes in and out, and what the cut may pull. */
function Facts({ facts }: { facts: HoldFacts }) {
  const view = useFields(useShown, 'contacts', 'litItem')
  const located = facts.locating
  const worst = facts.safety.length ? facts.safety.reduce((a, b) => (b.factor < a.factor ? b : a)) : null
  return (
    <>
      <h3 className="mb-1 mt-4 flex items-baseline justify-between font-head text-[15px] font-semibold">
        What touches
        <label className="flex items-center gap-1 font-words text-[12.5px] font-normal">
          <input
            type="checkbox"
            className="accent-action"
            checked={view.contacts}
            onChange={() => useShown.setState({ contacts: !view.contacts })}
          />
          in the picture
        </label>
      </h3>
      <table aria-label="Contacts" className="figures w-full text-[11.5px]">
        <tbody>
          {gathered(facts.contacts).map((one) => (
            <tr
              key={`${one.name}${one.angle_deg == null}`}
              className={`border-t border-rule ${view.litItem === one.item ? 'bg-rail' : ''}`}
              onMouseEnter={() => useShown.setState({ litItem: one.item })}
              onMouseLeave={() => useShown.setState({ litItem: null })}
            >
              <td className="py-0.5 pr-1 font-words leading-tight">{one.name}</td>
              <td
                className={`whitespace-nowrap px-1 ${one.kind === 'face' || one.kind === 'bore' ? 'text-soft' : 'text-trouble'}`}
              >
                {one.kind}
                {one.places > 1 && ` ×${one.places}`}
              </td>
              <td className="whitespace-nowrap px-1 text-right text-action">
                {one.kind === 'face' ? `${round(one.area, 0)} mm²` : `${round(one.length, 1)} mm`}
              </td>
              <td className="whitespace-nowrap px-1 text-right text-soft">
                {one.force == null ? '' : `${round(one.force / 1000, 1)} kN`}
              </td>
              <td className="whitespace-nowrap pl-1 text-right">
                {one.angle_deg == null ? '' : `${round(one.angle_deg, 1)}°`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {facts.opening != null && (
        <Row label="Opening">
          <Computed>
            {round(facts.opening, 2)} of {facts.opening_max} mm
          </Computed>
        </Row>
      )}
      {facts.jaw_top != null && (
        <>
          <Row label="Grip">
            <Computed>
              {round(facts.grip_depth, 2)} deep
              {facts.grip_length > 0 && `, ${round(facts.grip_length, 1)} long`}
            </Computed>
          </Row>
          <Row label="Above jaws">
            <Computed>
              {round(facts.stands_above, 2)} mm
              {facts.grip_depth > 0 && (
                <span className="text-soft"> · {round(facts.stands_above / facts.grip_depth, 1)} grips</span>
              )}
            </Computed>
          </Row>
        </>
      )}
      {located && (
        <Row label="Located">
          <Computed>
            {located.rank} of 6 freedoms
            {located.condition != null && (
              <span className="text-soft"> · condition {round(located.condition, 1)}</span>
            )}
          </Computed>
          {located.free.map((one) => (
            <div key={one} className="text-[12.5px] text-soft">
              free: {one}
            </div>
          ))}
          {located.fought.map((one) => (
            <div key={one} className="text-[12.5px] text-trouble">
              fought: {one}
            </div>
          ))}
        </Row>
      )}
      <Row label="Ways out">
        <ul className="flex flex-wrap gap-x-2 text-[12.5px]">
          {facts.ways.map((one) => (
            <li key={one.way} className={one.free ? '' : 'text-soft'} title={one.blocked_by ?? ''}>
              {one.free ? '✓' : '×'} {one.way}
              {one.free && !!one.opening && <span className="figures"> jaws +{one.opening}</span>}
            </li>
          ))}
        </ul>
      </Row>
      {facts.stack && (
        <Row label="Stands on" help={`${facts.stack.items.join(', ')}: as one beam, joints left out`}>
          <Computed>
            {round(facts.stack.height, 1)} mm of stack, bends {round(1000 * facts.stack.per_kn, 2)} µm per kN
          </Computed>
        </Row>
      )}
      {facts.mass_kg > 0 && (
        <Row label="To lift">
          <Computed>{round(facts.mass_kg, 2)} kg</Computed>
        </Row>
      )}
      {facts.contacts.some((one) => one.drawn != null) && (
        <Row label="Drawn by">
          <Computed>
            {round(facts.contacts.reduce((sum, one) => sum + (one.drawn ?? 0), 0) / 1000, 2)} kN over what
            touches
          </Computed>
        </Row>
      )}
      {facts.pins.map((one) => (
        <Row key={one.item} label={`Pin ${one.item}`} help={one.said}>
          <Computed>
            {round(1000 * Math.max(0, one.least), 0)} … {round(1000 * Math.max(0, one.most), 0)} µm of play
            {one.turns_deg != null && `, turns ±${round(one.turns_deg, 3)}°`}
          </Computed>
          <div className="text-[12.5px] text-soft">off it when lifted {round(one.lifts_off, 1)} mm</div>
        </Row>
      ))}
      {facts.screws.map((one) => (
        <Row key={one.item} label={`${one.thread} ${one.item}`}>
          <Computed>
            {round(one.force / 1000, 1)} kN at {round(one.torque, 0)} Nm
          </Computed>
        </Row>
      ))}
      {facts.sequence.length > 0 && (
        <Row label="In order">
          <ol className="list-inside list-decimal text-[12.5px] leading-snug">
            {facts.sequence.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ol>
        </Row>
      )}
      {facts.thin && (
        <Row label="Thin wall">
          <Computed>
            {round(facts.thin.thickness, 1)} mm bends {round(facts.thin.bends, 3)} mm
          </Computed>
          <div className="text-[12.5px] leading-tight text-soft">
            behind the {facts.thin.piece}: {facts.thin.how}
          </div>
        </Row>
      )}
      {facts.beside.length > 0 && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Room for the tool beside</h3>
          <table aria-label="Room beside clamps" className="figures w-full text-[12px]">
            <tbody>
              {facts.beside.map((one) => (
                <tr
                  key={one.item}
                  className={`border-t border-rule ${view.litItem === one.item ? 'bg-rail' : ''}`}
                  onMouseEnter={() => useShown.setState({ litItem: one.item })}
                  onMouseLeave={() => useShown.setState({ litItem: null })}
                >
                  <td className="py-0.5 pr-2 font-words">{one.item}</td>
                  <td className="pr-2 font-words leading-tight text-soft">{one.operation_name}</td>
                  <td className={`w-20 text-right ${one.clearance < 2 ? 'text-trouble' : 'text-action'}`}>
                    {round(one.clearance, 1)} mm
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {worst && (
        <>
          <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">
            Clamping against cutting
            <span className="font-words text-[12.5px] font-normal text-soft">
              {' '}
              · friction {facts.friction}
            </span>
          </h3>
          <table aria-label="Clamping" className="figures w-full text-[12px]">
            <tbody>
              {[...facts.safety]
                .sort((a, b) => a.factor - b.factor)
                .slice(0, 6)
                .map((one) => (
                  <tr key={one.operation} className="border-t border-rule">
                    <td className="py-0.5 pr-2 font-words leading-tight">{one.name}</td>
                    <td className="whitespace-nowrap px-1 text-right text-soft">
                      {round(Math.hypot(...one.force), 0)} N
                    </td>
                    <td className={`w-20 text-right ${one.factor < 2 ? 'text-trouble' : 'text-action'}`}>
                      {one.factor >= 100 ? '> 100' : round(one.factor, 1)} times
                    </td>
                  </tr>
                ))}
            </tbody>
          </table>
        </>
      )}
    </>
  )
}
