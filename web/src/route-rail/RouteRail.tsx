import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { Fragment, type ReactNode, useState } from 'react'
import {
  type Finding,
  type LoadReport,
  pieceUrl,
  type Plan,
  type ProjectState,
  type Setup,
} from '../api/client'
import { type Commit, lateAt, useLibrary } from '../api/hooks'
import { piecesOf } from '../stages/incoming/several'
import { onTopOf } from '../stages/seat/zero'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { type Card, choose, useRoute } from '../state/route'
import { clock, hueOf, round } from '../ui/words'
import { CarryArrow, ChosenArrow } from '../ui/icons'

const worst = (findings: Finding[]) =>
  findings.find((one) => one.severity === 'error') ?? findings.find((one) => one.severity === 'warning')

/** A name for the next setup: OP10, OP20, … */
function nextName(setups: Setup[]) {
  let number = 10
  while (setups.some((setup) => setup.name === `OP${number}`)) number += 10
  return `OP${number}`
}

/** The billet turning into the part, picture by picture. */
export function RouteRail({ project, commit }: { project: ProjectState; commit: Commit }) {
  const { plan, report, stills } = project
  const { data: library } = useLibrary()
  const axes = (id: string) =>
    `${[...plan.machines, ...(library?.machines ?? [])].find((one) => one.id === id)?.axes.length ?? 3}-axis`
  const stale = (index: number) => lateAt(project, index)
  const [dragged, setDragged] = useState<number | null>(null)
  const place = (from: number, to: number) =>
    void commit('setups reordered', (draft) => {
      const [moved] = draft.setups.splice(from, 1)
      if (moved) draft.setups.splice(to, 0, moved)
    })
  const billet = report?.billet
  const parts = piecesOf(plan).length
  const view = useFields(useRoute, 'card')
  const beside = useShown((picture) => picture.sideBySide)
  // The rail holds its cards without scrolling: the chosen one stays wide, the others share what is left.
  const roomy = plan.setups.length < 3
  const tight = plan.setups.length > 5
  const brackets = bracketsOf(plan.setups)
  return (
    <nav
      aria-label="Route"
      className={`flex items-center gap-1 border-b border-rule bg-rail px-3.5 pb-2 ${brackets.size ? 'pt-6' : 'pt-2'}`}
    >
      <div className={slot(view.card === 'billet')}>
        <RouteCard
          card="billet"
          title="Billet"
          hue="#B9C2C6"
          still={stills['billet']}
          stale={lateAt(project, 'billet')}
          tight={tight}
        >
          {billet && (
            <>
              <div className="truncate">
                {billet.high.map((high, i) => round(high - (billet.low[i] ?? 0), 1)).join('×')}
              </div>
              <div>{parts > 0 ? `${parts} parts` : `${billet.mass_kg.toFixed(3)} kg`}</div>
              <Mark finding={worst([...billet.findings, ...(report?.pieces?.findings ?? [])])} />
            </>
          )}
        </RouteCard>
      </div>
      {plan.setups.map((setup, index) => {
        const own = report?.setups.find((one) => one.name === setup.name)
        const found = own && [...own.findings, ...own.operations.flatMap((one) => one.findings)]
        const late = stale(index)
        return (
          <Fragment key={setup.name}>
            <Carry
              mass={own?.incoming_mass_kg}
              label={setup.makes ? 'blanks' : partsAway(plan, index)}
              chosen={setup.incoming ? (own?.incoming?.said ?? 'chosen') : undefined}
              stale={index === 0 ? lateAt(project, 'billet') : stale(index - 1)}
              tight={tight}
            />
            <div
              className={`relative ${slot(view.card === index)}`}
              draggable
              onDragStart={() => setDragged(index)}
              onDragOver={(event) => event.preventDefault()}
              onDrop={() => dragged !== null && dragged !== index && place(dragged, index)}
            >
              {brackets.has(index) && (
                <Bracket
                  name={loadName(plan, setup)}
                  ends={brackets.get(index) ?? 'whole'}
                  report={report?.loads.find((one) => one.name === loadName(plan, setup))}
                  hue={hueOf(index)}
                />
              )}
              <RouteCard
                card={index}
                title={`${setup.name} ${setup.title}`}
                hue={hueOf(index)}
                still={stills[setup.name]}
                stale={late}
                tight={tight}
                short={setup.name}
                trouble={late ? undefined : worst(found ?? [])}
                menu={<SetupMenu project={project} index={index} commit={commit} place={place} />}
              >
                <div className="truncate">
                  {setup.offset_register}
                  {(view.card === index || roomy) && ` · ${axes(setup.machine)}`}
                </div>
                <div className="truncate">
                  {own && !late ? clock(own.time_s) + ' min' : 'waiting'}
                  {setup.text && ' · own text'}
                </div>
                {own && !late && <Mark finding={worst(found ?? [])} fine="no trouble" />}
              </RouteCard>
            </div>
          </Fragment>
        )
      })}
      <Carry mass={undefined} label="compare" stale={project.stale_from != null} tight={tight} />
      <div className={slot(view.card === 'part')}>
        <RouteCard
          card="part"
          title={`Part rev ${plan.part.revision}`}
          hue="#1E2A2F"
          still={stills['part']}
          stale={false}
          tight={tight}
          short="Part"
        >
          {report && (
            <>
              <div>{report.part_mass_kg.toFixed(3)} kg</div>
              <div>left {report.comparison ? round(report.comparison.max_left_mm, 2) : '–'}</div>
              <div className="truncate">gouge {report.comparison ? gouge(report.comparison) : '–'}</div>
            </>
          )}
        </RouteCard>
      </div>
      <div className="ml-1 flex shrink-0 flex-col gap-1.5">
        <button
          type="button"
          className="knob"
          onClick={() =>
            void commit('setup added', (draft) => {
              const last = draft.setups.at(-1)
              const name = nextName(draft.setups)
              draft.setups.push({
                name,
                title: '',
                machine: last?.machine ?? 'vertical-760',
                offset_register: 'G54',
                seat: {
                  up: { rule: 'direction', direction: [0, 0, 1] },
                  flip: false,
                  x: { rule: 'turn', quarter_turns: 0 },
                  turn_deg: 0,
                  zeros: [],
                  found: {},
                  zero: onTopOf('incoming'),
                },
                positions: [],
                rotary_run: 'register_each',
                order: 'operations',
                load: '',
                hold: { items: [], work: { x: 0, y: 0, pinned: [], pushed: [] } },
                operations: [],
                groups: [],
                set_tools: false,
                features_called: false,
              })
            })
          }
        >
          + setup
        </button>
        {plan.setups.length > 1 && (
          <button
            type="button"
            aria-pressed={beside !== null}
            title="All setups in one picture, each as it lies on its machine"
            className={`knob !px-2 text-[12.5px] ${beside ? 'knob-on' : ''}`}
            onClick={() => useShown.setState({ sideBySide: beside ? null : 'out' })}
          >
            all beside
          </button>
        )}
      </div>
    </nav>
  )
}

/** What stands at the carry into a setup that has the pieces of a billet by themselves for the first time. */
function partsAway(plan: Plan, index: number) {
  const division = plan.pieces?.division
  const first = plan.setups.findIndex((one) => one.name === division?.after) + 1
  return division && first === index ? `÷ ${piecesOf(plan).length}` : undefined
}

type Ends = 'whole' | 'first' | 'last' | 'middle'

/** The load a setup stands in, or the one whose jaws it cuts. */
const loadName = (plan: Plan, setup: Setup) =>
  (setup.makes ? plan.setups.find((one) => one.name === setup.makes?.setup) : setup)?.load ?? ''

/** Over which setups a load's bracket runs, and which end of it each has. */
function bracketsOf(setups: readonly Setup[]): Map<number, Ends> {
  const out = new Map<number, Ends>()
  // Jaws that are cut for a setup of the load come between its setups.
  const loadOf = (at: number) => {
    const own = setups[at]
    return own?.makes ? setups.find((one) => one.name === own.makes?.setup)?.load : own?.load
  }
  const stands = (load: string, way: 1 | -1, from: number): boolean =>
    loadOf(from + way) === load && (!setups[from + way]?.makes || stands(load, way, from + way))
  setups.forEach((setup, index) => {
    const load = loadOf(index)
    if (!load) return
    const [before, after] = [stands(load, -1, index), stands(load, 1, index)]
    if (setup.makes && !(before && after)) return
    out.set(index, before ? (after ? 'middle' : 'last') : after ? 'first' : 'whole')
  })
  return out
}

/** A load over the cards of its setups: leads to its page. */
function Bracket(props: { name: string; ends: Ends; report: LoadReport | undefined; hue: string }) {
  const { name, ends, report } = props
  const open = useRoute((view) => view.load === name)
  const left = ends === 'whole' || ends === 'first'
  const right = ends === 'whole' || ends === 'last'
  return (
    <div
      className={`pointer-events-none absolute -top-[15px] h-2.5 border-t-2 border-action ${left ? 'z-10' : ''} ${left ? 'left-0 border-l-2' : '-left-14'} ${right ? 'right-0 border-r-2' : 'right-0'}`}
    >
      {left && (
        <button
          type="button"
          aria-label={`Load ${name}`}
          aria-pressed={open}
          className={`figures pointer-events-auto absolute -top-[11px] left-1.5 z-10 px-1 text-[11.5px] leading-[16px] whitespace-nowrap ${open ? 'bg-action text-sheet' : 'bg-rail text-action hover:underline'}`}
          onClick={() => useRoute.setState({ load: name })}
        >
          Load {name}
          {report &&
            report.places.length > 0 &&
            ` · ${report.places.length} places · ${clock(report.time_s)}`}
        </button>
      )}
    </div>
  )
}

const slot = (chosen: boolean) => (chosen ? 'w-[188px] shrink-0' : 'min-w-0 max-w-[188px] flex-1 basis-0')

const gouge = (comparison: { max_gouge_mm: number; stated_error_mm: number }) =>
  comparison.max_gouge_mm > comparison.stated_error_mm ? round(comparison.max_gouge_mm, 2) : 'none'

function Mark({ finding, fine }: { finding?: Finding | undefined; fine?: string }) {
  if (!finding) return fine ? <div className="truncate text-ink">✓ {fine}</div> : null
  return (
    <div
      className={`truncate ${finding.severity === 'error' ? 'font-semibold text-trouble' : 'text-trouble'}`}
    >
      {finding.severity === 'error' ? '◆' : '▲'} {finding.code.split('.').at(-1)?.replaceAll('_', ' ')}
    </div>
  )
}

function Carry(props: {
  mass?: number | undefined
  stale: boolean
  label?: string | undefined
  /** The stock that was chosen in place of the carried one. */
  chosen?: string | undefined
  tight: boolean
}) {
  const { mass, stale, label, tight, chosen } = props
  if (chosen)
    return (
      <div
        className={`shrink-0 text-center ${tight ? 'w-5' : 'w-11'}`}
        title={`begins with a chosen stock: ${chosen}`}
        aria-label={`begins with a chosen stock: ${chosen}`}
        role="img"
      >
        <ChosenArrow />
        {!tight && (
          <div className="figures truncate text-[10.5px] font-semibold leading-tight text-trouble">
            chosen
          </div>
        )}
      </div>
    )
  const said = stale ? 'out of date' : (label ?? (mass !== undefined ? `${mass.toFixed(2)} kg` : '–'))
  if (tight)
    return (
      <div className="w-5 shrink-0" title={said} aria-label={said} role="img">
        <CarryArrow stale={stale} />
      </div>
    )
  return (
    <div className="w-11 min-w-6 shrink text-center">
      <CarryArrow stale={stale} />
      <div
        className={`figures text-[10.5px] leading-tight ${stale ? 'font-semibold text-trouble' : 'text-soft'}`}
      >
        {said}
      </div>
    </div>
  )
}

function RouteCard(props: {
  card: Card
  title: string
  hue: string
  still: string | undefined
  stale: boolean
  children: ReactNode
  menu?: ReactNode
  /** Many cards: all but the chosen one show their picture and their short name. */
  tight: boolean
  short?: string
  trouble?: Finding | undefined
}) {
  const chosen = useRoute((view) => view.card === props.card)
  const small = props.tight && !chosen
  return (
    <div
      className={`relative flex h-[98px] w-full overflow-hidden border border-rule bg-sheet ${chosen ? 'after:pointer-events-none after:absolute after:inset-0 after:border-2 after:border-ink' : ''}`}
      style={{ borderTop: `4px solid ${props.hue}` }}
    >
      <button
        type="button"
        aria-label={props.title}
        aria-current={chosen}
        title={small ? props.title : undefined}
        className={`flex min-w-0 grow text-left ${small ? 'flex-col' : ''}`}
        onClick={() => choose(props.card)}
      >
        <span
          className={`relative shrink overflow-hidden bg-rail ${small ? 'h-[58px] w-full' : `h-full ${chosen ? 'w-[78px]' : 'w-[42%] max-w-[78px]'}`}`}
        >
          {props.still && (
            <img
              src={pieceUrl(props.still, 'still.png')}
              alt=""
              className={`h-full w-full object-cover ${props.stale ? 'opacity-40 grayscale' : ''}`}
            />
          )}
        </span>
        <span className="min-w-0 grow basis-0 px-1.5 py-1">
          <span className={`block truncate font-head text-[14px] font-semibold ${small ? '' : 'pr-3'}`}>
            {small ? (props.short ?? props.title) : props.title}
          </span>
          {!small && (
            <span className="figures block text-[11.5px] leading-[1.4] text-soft">{props.children}</span>
          )}
        </span>
      </button>
      {small && props.trouble && (
        <span
          className="absolute right-0.5 bottom-0.5 bg-sheet px-0.5 text-[12px] text-trouble"
          title={props.trouble.sentence}
        >
          {props.trouble.severity === 'error' ? '◆' : '▲'}
        </span>
      )}
      {props.menu}
    </div>
  )
}

function SetupMenu(props: {
  project: ProjectState
  index: number
  commit: Commit
  place: (from: number, to: number) => void
}) {
  const { project, index, commit, place } = props
  const name = project.plan.setups[index]?.name
  const item = 'block w-full px-3 py-1 text-left data-focus:bg-rail disabled:opacity-40'
  return (
    <Menu>
      <MenuButton
        aria-label={`${name} menu`}
        className="absolute right-0.5 top-0 px-1 text-soft hover:text-ink"
      >
        ⋯
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-30 rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
      >
        <MenuItem>
          <button
            className={item}
            onClick={() =>
              void commit(`${name} copied`, (draft) => {
                const own = draft.setups[index]
                if (own)
                  draft.setups.splice(index + 1, 0, { ...structuredClone(own), name: nextName(draft.setups) })
              })
            }
          >
            Copy
          </button>
        </MenuItem>
        <MenuItem disabled={index === 0}>
          <button className={item} onClick={() => place(index, index - 1)}>
            Earlier
          </button>
        </MenuItem>
        <MenuItem disabled={index === project.plan.setups.length - 1}>
          <button className={item} onClick={() => place(index, index + 1)}>
            Later
          </button>
        </MenuItem>
        <MenuItem>
          <button
            className={item}
            onClick={() =>
              void commit(`${name} removed`, (draft) => {
                draft.setups.splice(index, 1)
                if (draft.pieces && draft.pieces.division?.after === name) draft.pieces.division = null
                for (const load of draft.loads)
                  load.stands = load.stands.filter((stand) => stand.setup !== name)
              })
            }
          >
            Remove
          </button>
        </MenuItem>
      </MenuItems>
    </Menu>
  )
}
