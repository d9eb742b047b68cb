import { OrbitControls } from '@react-three/drei'
import { Canvas, type ThreeEvent, useThree } from '@react-three/fiber'
import { useEffect, useMemo, useState } from 'react'
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import { api, type HoldFacts, type OffsetRow, type Part, type ProjectState, type Vec } from '../api/client'
import { lateAt, usePart, useUpload } from '../api/hooks'
import { useChosen, useMoment } from '../dock/moment'
import { measure, useAsking } from '../state/asking'
import { useClock } from '../state/clock'
import { useEditing } from '../state/editing'
import { useFields } from '../state/fields'
import { CORNERS, LAYERS, type Look, lookFrom, toggle, useShown, cutThrough } from '../state/picture'
import { isAfterCutting, useRoute } from '../state/route'
import { clock, round } from '../ui/words'
import { PULLED } from '../stages/incoming/billet'
import { chosenAt } from '../stages/incoming/moments'
import { FoundMark } from '../stages/reach/FoundMark'
import { ZeroMark } from '../ui/icons'
import { AxisLetters, Follow, handleOf, MachineTriad, TriadInStep, ZeroAxes } from './Axes'
import { noseOver, ToolSolid } from './Tool'
import { Holding, Machinery, Sliding, TypedHolding } from './Holding'
import { Legend, Swatches } from './Legend'
import { Lines } from './Lines'
import { Measure } from './Measure'
import { touching, TouchHandles, TouchLabels, Touches } from './Touches'
import { Within } from './Within'
import { PulledBox, PullHandles } from './Pulling'
import { DragPoints, placesFor, ZeroHandles } from './Dragging'
import { Paths, PathsShown } from './Paths'
import { aroundIn, LoadBodies } from '../loads/LoadBodies'
import { fitTo, type Orbit } from './fitting'
import { showCut } from './cutAt'
import { type Hover, PartFaces } from './PartFaces'
import { ALONE, inBillet, pieceId, PieceNames, piecesShown } from './Pieces'
import { ReachedPart } from './ReachedPart'
import { Cut, SectionBar, useSection } from './Section'
import {
  paintDistance,
  paintMakers,
  REACHED,
  SCALE,
  scaleStrip,
  SEEN,
  type Sixteen,
  type Solid,
  useAwaited,
  useBillet,
  useTypedHold,
  useSolid,
  useStockAt,
} from './glb'

/** Stages at which the machine stands by the work. */
const BY_MACHINE = ['reach', 'cut', 'prove']

const LOOKS: { look: Look; name: string }[] = [
  { look: 'spindle', name: 'Spindle' },
  { look: 'operator', name: 'Operator' },
  { look: 'left', name: 'Left' },
  { look: 'right', name: 'Right' },
  { look: 'back', name: 'Back' },
  { look: 'corner', name: 'Corner' },
  { look: 'fit', name: 'Fit' },
  { look: 'pick', name: 'Square to pick' },
]

/** Which stock is in the picture: its result key, and what it is called. */
function useStockShown(project: ProjectState) {
  const { card, stage, compare, typedBillet, beside } = {
    ...useFields(useRoute, 'card', 'stage'),
    ...useFields(useShown, 'compare', 'beside'),
    ...useFields(useEditing, 'typedBillet'),
  }
  const { setup, operation, moment } = useMoment(project)
  const report = project.report
  if (beside && typeof card === 'number' && !compare) return { key: beside.key, name: beside.name }
  if (card === 'billet' && typedBillet)
    return { key: null, name: 'billet as typed, not kept yet', billet: typedBillet }
  if (card === 'billet' && !compare && (!report || lateAt(project, 'billet')))
    return { key: null, name: 'billet, not computed yet', billet: project.plan.billet }
  if (!report) return { key: null, name: 'not computed yet' }
  if (compare && report.comparison)
    return { key: report.comparison.key, name: 'distance to the part', compare: true }
  if (card === 'billet') return { key: report.billet.key, name: 'billet' }
  if (card === 'part') return { key: null, name: 'finished part' }
  if (!setup) return { key: null, name: 'not computed yet' }
  const list = setup.operations
  const before = (run: string) => {
    const at = list.findIndex((one) => one.run === run)
    return list.slice(0, at).findLast((one) => one.key)?.key ?? setup.incoming_key
  }
  if (isAfterCutting(stage)) {
    if (operation && moment)
      return {
        key: before(operation.run),
        name: `${operation.name} at ${clock(moment.seconds)}`,
        moving: operation.key,
        seconds: moment.seconds,
      }
    if (operation?.key) return { key: operation.key, name: `after ${operation.name}` }
    if (stage === 'outgoing' && useRoute.getState().operation === '')
      return { key: setup.incoming_key, name: 'before the first cut' }
    return { key: setup.outgoing_key, name: 'outgoing' }
  }
  return { key: setup.incoming_key, name: 'incoming' }
}

/** The setup whose stock was chosen, where what is shown comes from that. */
function chosenShown(project: ProjectState, card: number | 'billet' | 'part', compare: boolean) {
  if (card === 'billet' || (card === 'part' && !compare)) return null
  const last = project.plan.setups.length - 1
  const from = chosenAt(project.plan, compare || card === 'part' ? last : card)
  if (!from) return null
  return typeof card === 'number' && from === project.plan.setups[card] ? 'here' : from.name
}

/** The holding of the chosen setup as it is typed, or as the plan has it while it is still to be computed. */
function useTypedHolding(project: ProjectState): { solid: Solid; name: string } | null {
  const { card, stage } = useFields(useRoute, 'card', 'stage')
  const { typedHold } = useFields(useEditing, 'typedHold')
  const own = typeof card === 'number' && stage === 'hold' ? project.plan.setups[card] : undefined
  const late = own && lateAt(project, card, stage)
  const hold = own ? (typedHold ?? (late ? own.hold : null)) : null
  const solid = useTypedHold(project.id, own?.name ?? '', hold)
  if (!solid) return null
  return { solid, name: typedHold ? 'holding as typed, not kept yet' : 'holding, not computed yet' }
}

/** The work as it stands in this setup. */
export function Bench({ project }: { project: ProjectState }) {
  const view = {
    ...useFields(useAsking, 'asked', 'picked'),
    ...useFields(
      useShown,
      'lit',
      'seen',
      'reached',
      'compare',
      'jogged',
      'section',
      'shown',
      'marked',
      'look',
      'corner',
    ),
    ...useFields(useRoute, 'card', 'stage', 'turnedTo', 'operation', 'tab'),
  }
  const setup = useChosen(project)
  const { data: part } = usePart(project.plan.part.sha256)
  const shown = useStockShown(project)
  const resting = useSolid(shown.key)
  const running = useStockAt(shown.moving, shown.seconds)
  const typed = useBillet(shown.billet ?? null, project.plan.pieces, project.plan.part.sha256)
  const stock = (shown.moving && running.solid) || typed || resting
  const { data: upload } = useUpload(project.plan.part.sha256 ?? null)
  const partSolid = useSolid(upload?.key)
  const moment = useMoment(project)
  const [hover, setHover] = useState<Hover | null>(null)
  const [touched, setTouched] = useState<Touched | null>(null)
  const [thick, setThick] = useState<number | null>(null)
  useEffect(() => {
    if (thick !== null) useAsking.setState({ measured: thick })
  }, [thick])
  const maker = touched && project.report?.makers.find((one) => one.number === touched.maker)
  const asking =
    (view.asked !== null && view.asked.kind !== 'piece') ||
    view.lit.length > 0 ||
    view.seen !== null ||
    view.reached !== null
  const wholePart = (view.card === 'part' && !view.compare) || (!project.report && !typed)
  const zeroFromWork = useMemo(() => {
    const matrix = new THREE.Matrix4()
    if (typeof view.card === 'number' && setup?.zero_from_work)
      matrix.set(...(setup.zero_from_work.flat() as Sixteen))
    return matrix
  }, [setup, view.card])
  // An operation at an index position moves in a plane that is turned with the work.
  const planeFromWork = moment.operation?.zero_from_work
  const byAxes = view.stage === 'reach' ? view.jogged : null
  const looked = byAxes ?? setup?.positions.find((one) => one.name === view.turnedTo)
  const zeroFromPlane = useMemo(() => {
    if (looked) return new THREE.Matrix4().set(...(looked.local_from_zero.flat() as Sixteen)).invert()
    if (!planeFromWork) return new THREE.Matrix4()
    const plane = new THREE.Matrix4().set(...(planeFromWork.flat() as Sixteen))
    return zeroFromWork.clone().multiply(plane.invert())
  }, [looked, planeFromWork, zeroFromWork])
  const at = setup?.positions.find((one) => one.name === moment.operation?.position)
  const standing = looked ?? at ?? setup
  const machinery = standing?.machine_key
  const hold = typeof view.card === 'number' ? (setup?.hold ?? null) : null
  const atWork = view.stage !== 'incoming' && view.stage !== 'outgoing'
  const makes = typeof view.card === 'number' && !!project.plan.setups[view.card]?.makes
  const stale = !typed && lateAt(project, view.card, view.stage)
  const cutOpen = view.section ? (wholePart || asking ? partSolid : stock) : null
  const planes = useSection(cutOpen, zeroFromWork)
  const face = hover && part?.faces[hover.face]
  const edge = hover?.edge != null ? part?.edges[hover.edge] : undefined
  const pulls = PULLED.includes(project.plan.billet.kind)
  // Once a billet is computed its sides can be pulled.
  const pulling =
    view.card === 'billet' && pulls && !asking && !lateAt(project, 'billet') && !view.compare
      ? project.report?.billet.margins
      : undefined
  const several = piecesShown(project, view.card)
  const whole = useMemo(() => part && inBillet(part, project.report), [part, project.report])
  const chosen = chosenShown(project, view.card, view.compare)
  const zeroShown = typeof view.card === 'number' && !!setup?.zero_from_work
  const makesJaws = typeof view.card === 'number' && !!project.plan.setups[view.card]?.makes
  const dragging = zeroShown && view.stage === 'seat' && !asking && !view.compare && !makesJaws && !stale
  const places = useMemo(() => (dragging && setup ? placesFor(setup, part) : []), [dragging, setup, part])
  // Where the further zeros lie, each with how it is known; what is turned from the setup's own stands with it.
  const rows = zeroShown && (view.stage === 'seat' || view.stage === 'reach') ? (setup?.offsets ?? []) : []
  const apart = (row: OffsetRow) => Math.hypot(...row.at) > 1e-6
  const marks = rows.filter(apart)
  const together = rows.filter((row) => !apart(row) && row.register_name !== setup?.offset_register)
  const own = rows.find((row) => row.register_name === setup?.offset_register)
  const touches =
    asking || typeof view.card !== 'number' ? [] : touching(setup, view.stage, view.operation ?? '')
  const showHolding = view.shown.holding && atWork && !!hold?.key
  const asTyped = useTypedHolding(project)
  const handle = showHolding && hold ? handleOf(hold) : null
  const around = setup && aroundIn(project, setup.name)
  const busy = useAwaited(({ pictures }) => pictures > 0) || running.behind
  return (
    <section aria-label="Bench" aria-busy={busy} className="relative min-h-0 overflow-hidden bg-bench">
      <Canvas
        orthographic
        flat
        frameloop="demand"
        dpr={1}
        camera={{ up: [0, 0, 1], position: [300, -400, 340], zoom: 4, near: -3000, far: 5000 }}
        gl={{ antialias: true, preserveDrawingBuffer: true, localClippingEnabled: true }}
      >
        <ambientLight intensity={1.7} />
        <HeadLight />
        <group matrixAutoUpdate={false} matrix={zeroFromWork}>
          {stock && view.shown.stock && !wholePart && !asking && (
            <Stock
              solid={stock}
              compare={!!shown.compare}
              touch={(one) => {
                setTouched(one)
                setThick(null)
              }}
              planes={planes}
              probe={(at, way, maker) => {
                if (shown.key && !shown.moving && !shown.compare)
                  void probed(shown.key, at, way).then(setThick)
                if (setup && view.tab === 'program') void showCut(project, setup, at, way, maker)
              }}
              matrix={zeroFromWork}
            />
          )}
          {view.reached && <ReachedPart of={view.reached} planes={planes} />}
          {partSolid && (wholePart || asking) && !view.reached && (
            <PartFaces
              solid={partSolid}
              part={part}
              hover={hover}
              setHover={setHover}
              matrix={zeroFromWork}
              planes={planes}
            />
          )}
          {cutOpen && planes[0] && <Cut solid={cutOpen} plane={planes[0]} />}
          {partSolid?.lines &&
            view.shown.part &&
            !wholePart &&
            !view.compare &&
            !makes &&
            (several.length ? several : asking ? [] : [ALONE]).map((one) => (
              <group key={one.name} matrixAutoUpdate={false} matrix={one.pose}>
                <Lines
                  geometry={partSolid.lines as THREE.BufferGeometry}
                  colour="#1E2A2F"
                  opacity={0.4}
                  through
                />
              </group>
            ))}
          {pulling && whole && <PulledBox part={whole} margins={pulling} />}
          {!wholePart && several.map((one) => <Follow key={one.name} id={pieceId(one.name)} at={one.at} />)}
          {view.marked && <Marked at={view.marked} />}
          <Touches of={touches} />
        </group>
        {(showHolding || asTyped) &&
          (!asking || view.reached) &&
          (asTyped ? (
            <TypedHolding solid={asTyped.solid} planes={planes} />
          ) : (
            hold && <Holding hold={hold} planes={planes} />
          ))}
        {view.shown.load && around && atWork && !asking && (
          <group position={around.at}>
            <LoadBodies
              project={project}
              told={around.told}
              stock={(place) => place.incoming_key}
              without={around.own}
              faint
            />
          </group>
        )}
        {view.shown.machine && BY_MACHINE.includes(view.stage) && !asking && machinery && (
          <Machinery of={machinery} />
        )}
        <group matrixAutoUpdate={false} matrix={zeroFromPlane}>
          {view.stage === 'cut' && typeof view.card === 'number' && (
            <Within
              operation={project.plan.setups[view.card]?.operations.find((one) => one.id === view.operation)}
              report={setup}
            />
          )}
          {view.shown.paths && moment.path && typeof view.card === 'number' && (
            <Paths
              setup={setup}
              operation={moment.operation}
              moves={moment.moment ? moment.path.slice(0, moment.moment.index + 1) : moment.path}
            />
          )}
          {!byAxes && moment.operation && moment.moment && (
            <ToolSolid
              parts={moment.operation.tool_shape}
              tip={moment.moment.tip}
              lean={moment.moment.lean}
            />
          )}
          {view.shown.machine && byAxes?.slides && <Sliding of={byAxes.slides} nose={byAxes.nose} whole />}
          {view.shown.machine && !byAxes && standing?.slides && moment.operation && moment.moment && (
            <Sliding of={standing.slides} nose={noseOver(moment.operation.tool_shape, moment.moment.tip)} />
          )}
        </group>
        {zeroShown && <Follow id="zero-mark" at={[0, 0, 0]} />}
        {zeroShown && <ZeroAxes id="zero-axes" at={[0, 0, 0]} />}
        {dragging && <DragPoints places={places} />}
        {handle && <Follow id="vise-handle" at={handle} />}
        {setup && <TriadInStep />}
        {marks.map((row) => (
          <group key={row.register_name}>
            <Follow id={markId(row)} at={row.at} />
            <ZeroAxes id={`${markId(row)}-axes`} at={row.at} />
          </group>
        ))}
        <Looking
          solid={stock ?? partSolid}
          kind={stock ? 'stock' : partSolid ? 'part' : 'nothing'}
          zeroFromWork={zeroFromWork}
          zeroFromPlane={zeroFromPlane}
          holding={showHolding && hold ? hold.pieces.filter((one) => !IN_THE_BACK.includes(one.name)) : []}
          nose={byAxes ? byAxes.nose : null}
        />
        <OrbitControls makeDefault enableDamping={false} />
      </Canvas>
      {setup && <MachineTriad />}
      {pulling && whole && <PullHandles project={project} part={whole} margins={pulling} />}
      {!wholePart && <PieceNames of={several} />}
      {handle && (
        <div id="vise-handle" className="pointer-events-none absolute left-0 top-0">
          <div className="-translate-x-1/2 translate-y-1 whitespace-nowrap border border-rule bg-sheet px-1 text-[11px] text-soft">
            handle
          </div>
        </div>
      )}
      {zeroShown && <AxisLetters id="zero-axes" />}
      <TouchLabels of={touches} />
      {setup &&
        touches
          .filter((one) => view.stage === 'reach' || one.id === view.operation)
          .map((one) => (
            <TouchHandles
              key={one.run}
              project={project}
              index={view.card as number}
              setup={setup}
              of={one}
            />
          ))}
      {dragging && setup && (
        <ZeroHandles project={project} index={view.card as number} setup={setup} places={places} />
      )}
      {marks.map((row) => (
        <AxisLetters key={row.register_name} id={`${markId(row)}-axes`} />
      ))}
      {zeroShown && (
        <div id="zero-mark" className="pointer-events-none absolute left-0 top-0">
          <div className="figures flex -translate-x-full translate-y-1 items-center gap-1.5 whitespace-nowrap bg-ink px-1.5 text-sheet">
            {own && <FoundMark row={own} />}
            {setup?.offset_register} <ZeroMark />
          </div>
          {together.length > 0 && (
            <div className="figures absolute left-0 flex -translate-x-full translate-y-2 items-center gap-1.5 whitespace-nowrap border border-ink bg-sheet px-1 text-[11px]">
              {together.map((row) => (
                <span key={row.register_name} className="flex items-center gap-0.5">
                  <FoundMark row={row} /> {row.register_name}
                </span>
              ))}
            </div>
          )}
        </div>
      )}
      {marks.map((row) => (
        <div
          key={row.register_name}
          id={markId(row)}
          className="pointer-events-none absolute left-0 top-0"
          title={row.zero}
        >
          <div className="figures flex -translate-x-1/2 translate-y-1 items-center gap-1 whitespace-nowrap border border-ink bg-sheet px-1 text-[11px]">
            <FoundMark row={row} /> {row.register_name}
          </div>
        </div>
      ))}
      {view.marked && (
        <div id="trouble-mark" className="pointer-events-none absolute left-0 top-0">
          <div className="hatch -translate-x-1/2 translate-y-2 whitespace-nowrap border border-trouble bg-sheet px-1.5 text-trouble">
            ▲ here
          </div>
        </div>
      )}
      <div
        className="absolute left-2.5 right-48 top-2.5 flex flex-wrap gap-1"
        role="group"
        aria-label="Look from"
      >
        {LOOKS.map(({ look, name }) => (
          <button
            key={look}
            type="button"
            aria-pressed={view.look === look && look !== 'fit'}
            disabled={look === 'pick' && !view.picked?.normal}
            title={
              look === 'corner'
                ? 'From the next corner'
                : look === 'fit'
                  ? 'All of it, as it is turned now'
                  : undefined
            }
            className={`knob !px-2 text-[12.5px] ${view.look === look && look !== 'fit' ? 'knob-on' : ''}`}
            onClick={() => lookFrom(look)}
          >
            {look === 'corner' && view.look === 'corner' ? CORNERS[view.corner] : name}
          </button>
        ))}
        <button
          type="button"
          aria-pressed={view.asked?.kind === 'measure'}
          className={`knob ml-2 !px-2 text-[12.5px] ${view.asked?.kind === 'measure' ? 'knob-on' : ''}`}
          onClick={() => measure()}
        >
          Measure
        </button>
        <button
          type="button"
          aria-pressed={view.section !== null}
          className={`knob !px-2 text-[12.5px] ${view.section ? 'knob-on' : ''}`}
          onClick={cutThrough}
        >
          Section
        </button>
        {view.section && <SectionBar />}
      </div>
      {view.asked?.kind === 'measure' && <Measure part={part} sha256={project.plan.part.sha256} />}
      <div className="absolute right-2.5 top-2.5 w-44 border border-rule bg-sheet px-2.5 py-1.5 text-[12.5px]">
        <div className="mb-1 flex flex-wrap gap-x-2 border-b border-rule pb-1" role="group" aria-label="Show">
          {LAYERS.filter((layer) => layer !== 'load' || around).map((layer) => (
            <label key={layer} className="flex items-center gap-1">
              <input
                type="checkbox"
                className="accent-action"
                checked={view.shown[layer]}
                onChange={() => toggle(layer)}
              />
              {layer}
            </label>
          ))}
        </div>
        {view.shown.paths && <PathsShown />}
        {view.reached ? (
          <Swatches label="What the tool reaches" rows={REACHED} />
        ) : view.seen ? (
          <Swatches label="What the spindle sees" rows={SEEN.map(([, colour, text]) => [colour, text])} />
        ) : shown.compare ? (
          <Swatches
            label="Scale, mm"
            head="distance to the part, mm"
            rows={[...SCALE].reverse().map(([, colour, text]) => [colour, text])}
          />
        ) : (
          <Legend project={project} />
        )}
      </div>
      <div className="absolute bottom-2 left-2.5 flex items-center gap-2 text-[12.5px]">
        <span className="bg-sheet/90 px-1.5">
          {asking ? 'part' : wholePart && !project.report ? 'the part; stock is being computed' : shown.name}
        </span>
        {chosen && !asking && (
          <span className="border border-trouble bg-sheet px-1.5 text-trouble">
            {chosen === 'here' ? 'begins with a chosen stock' : `from the stock chosen in ${chosen}`}
          </span>
        )}
        {asTyped && <span className="bg-sheet/90 px-1.5">{asTyped.name}</span>}
        {running.behind && <span className="bg-sheet/90 px-1.5 text-soft">catching up …</span>}
        {stale && (
          <span className="hatch border border-trouble bg-sheet px-1.5 font-semibold text-trouble">
            out of date
          </span>
        )}
      </div>
      {view.asked && view.asked.kind !== 'measure' && (
        <div
          role="status"
          className="absolute left-1/2 top-12 flex -translate-x-1/2 items-center gap-3 border border-action bg-sheet px-3 py-1.5 shadow"
        >
          <span>{view.asked.prompt}</span>
          <button type="button" className="knob" onClick={() => useAsking.setState({ asked: null })}>
            Leave
          </button>
        </div>
      )}
      {touched && (
        <div
          role="tooltip"
          className="figures pointer-events-none absolute z-20 border border-ink bg-sheet px-2 py-1 leading-snug shadow"
          style={{ left: Math.min(touched.x + 14, 560), top: touched.y + 10 }}
        >
          {maker ? `${maker.setup} · ${maker.operation} · ${maker.tool}` : 'billet surface'}
          {thick !== null && <div className="text-action">{round(thick, 3)} mm thick here</div>}
          {touched.away !== null && (
            <div className="text-soft">
              {round(Math.abs(touched.away), 3)} mm {touched.away < 0 ? 'cut into' : 'left on'} the part
            </div>
          )}
        </div>
      )}
      {face && hover && (
        <div
          role="tooltip"
          className="figures pointer-events-none absolute z-20 border border-ink bg-sheet px-2 py-1 leading-snug shadow"
          style={{ left: Math.min(hover.x + 14, 620), top: hover.y + 10 }}
        >
          {edge && view.asked && view.asked.kind !== 'face' ? (
            <>
              {hover.end !== null && view.asked.kind !== 'edge' && 'corner of '}
              edge {edge.number} · {edge.kind} · {round(edge.length, 2)} mm
              {edge.radius != null && ` · Ø${round(2 * edge.radius, 3)}`}
            </>
          ) : (
            <FaceFacts face={face} />
          )}
          {hover.refused && <div className="text-trouble">cannot serve: {hover.refused}</div>}
        </div>
      )}
    </section>
  )
}

/** How thick the stock is at a place, straight into it; kept for F2. */
async function probed(key: string, at: Vec, way: Vec): Promise<number | null> {
  const { data } = await api.GET('/api/results/{key}/thickness', {
    params: { path: { key }, query: { at, way } },
  })
  return data?.value ?? null
}

/** A place of the stock under the pointer: who made it, and how far it is from the part where that is known. */
type Touched = { maker: number; away: number | null; x: number; y: number }

function FaceFacts({ face }: { face: Part['faces'][number] }) {
  const at = (point: readonly number[]) => point.map((c) => round(c, 2)).join(', ')
  return (
    <>
      <div>
        F{face.number} · {face.hollow ? 'hollow ' : ''}
        {face.kind}
        {face.radius != null && face.kind === 'cylinder' && ` Ø${round(2 * face.radius, 3)}`}
        {` · ${round(face.area, 1)} mm²`}
      </div>
      <div className="text-soft">
        at {at(face.centre)}
        {face.normal && ` · looks ${at(face.normal)}`}
        {face.axis && ` · axis ${at(face.axis)}`}
      </div>
    </>
  )
}

function HeadLight() {
  const camera = useThree((three) => three.camera)
  const light = useMemo(() => {
    const made = new THREE.DirectionalLight('#ffffff', 1.9)
    made.position.set(-0.5, 0.9, 1)
    return made
  }, [])
  useEffect(() => {
    camera.add(light, light.target)
    light.target.position.set(0, 0, -1)
    return () => void camera.remove(light, light.target)
  }, [camera, light])
  return <primitive object={camera} />
}

function Stock(props: {
  solid: Solid
  compare: boolean
  touch: (touched: Touched | null) => void
  planes: THREE.Plane[]
  probe: (at: Vec, way: Vec, maker: number) => void
  matrix: THREE.Matrix4
}) {
  const { solid, compare, touch, planes } = props
  const click = (event: ThreeEvent<MouseEvent>) => {
    if (event.delta > 4 || !event.face) return
    const at = event.point.clone().applyMatrix4(props.matrix.clone().invert())
    const maker = solid.surface.getAttribute('_label').getX(event.face.a)
    props.probe(at.toArray(), event.face.normal.clone().negate().toArray(), maker)
  }
  const over = (event: ThreeEvent<PointerEvent>) => {
    if (event.buttons || !event.face) {
      touch(null)
      return
    }
    const away = solid.surface.getAttribute('_value')
    touch({
      maker: solid.surface.getAttribute('_label').getX(event.face.a),
      away: away ? away.getX(event.face.a) : null,
      x: event.nativeEvent.offsetX,
      y: event.nativeEvent.offsetY,
    })
  }
  useEffect(() => {
    solid.surface.boundsTree ??= new MeshBVH(solid.surface)
  }, [solid])
  useMemo(() => (compare ? paintDistance(solid.surface) : paintMakers(solid.surface)), [solid, compare])
  return (
    <>
      <mesh geometry={solid.surface} onPointerMove={over} onPointerOut={() => touch(null)} onClick={click}>
        <meshLambertMaterial
          key={compare ? 'distance' : 'makers'}
          vertexColors={!compare}
          map={compare ? scaleStrip : null}
          clippingPlanes={planes}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </mesh>
      {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.8} planes={planes} />}
    </>
  )
}

function Marked({ at }: { at: Vec }) {
  return (
    <group position={at}>
      <mesh renderOrder={5}>
        <sphereGeometry args={[1.4, 20, 14]} />
        <meshBasicMaterial color="#A3361B" depthTest={false} transparent opacity={0.85} />
      </mesh>
      <Follow id="trouble-mark" at={[0, 0, 0]} />
    </group>
  )
}

const markId = (row: { register_name: string }) => `mark-${row.register_name.replace(/[^A-Z0-9]/g, '-')}`

/** Pieces of the holding that need not fit into the picture. */
const IN_THE_BACK = ['table', 'vise body', 'slide', 'fixed block', 'base plate']

/** Moves the camera when a look is asked for or another setup is chosen, and fits what is shown. */
function Looking(props: {
  solid: Solid | null
  kind: 'stock' | 'part' | 'nothing'
  zeroFromWork: THREE.Matrix4
  zeroFromPlane: THREE.Matrix4
  holding: HoldFacts['pieces']
  /** Where the spindle's nose is, in the plane, while the machine is moved by its axes. */
  nose: Vec | null
}) {
  const { camera, controls, size, invalidate } = useThree()
  const { look, lookCount, corner, card, stage, picked, shown, time, operation, marked } = {
    ...useFields(useShown, 'look', 'lookCount', 'corner', 'shown', 'marked'),
    ...useFields(useRoute, 'card', 'stage', 'operation'),
    ...useFields(useAsking, 'picked'),
    ...useFields(useClock, 'time'),
  }
  const { solid, kind, zeroFromWork, zeroFromPlane: plane } = props
  // What stands round the work is fitted too once it is there.
  const around = `${props.holding.length > 0} ${props.nose !== null}`
  // A billet of another size is looked at anew.
  const billetSize =
    card === 'billet'
      ? solid?.surface.boundingBox?.getSize(new THREE.Vector3()).round().toArray().join()
      : null
  useEffect(() => {
    if (!solid || !(camera instanceof THREE.OrthographicCamera)) return
    const box = solid.surface.boundingBox?.clone().applyMatrix4(zeroFromWork) ?? new THREE.Box3()
    for (const one of props.holding) {
      box.expandByPoint(new THREE.Vector3(...one.low))
      box.expandByPoint(new THREE.Vector3(...one.high))
    }
    if (props.nose) box.expandByPoint(new THREE.Vector3(...props.nose).applyMatrix4(plane))
    const middle = box.getCenter(new THREE.Vector3())
    const directions: Record<Look, Vec> = {
      spindle: [0, -0.0001, 1],
      operator: [0.62, -1, 0.78],
      left: [-1, -0.0001, 0.02],
      right: [1, -0.0001, 0.02],
      back: [0, 1, 0.02],
      pick: [0, -0.0001, 1],
      corner: [corner === 0 || corner === 3 ? 0.62 : -0.62, corner < 2 ? -1 : 1, 0.78],
      fit: [0, -1, 0],
    }
    const direction = new THREE.Vector3(...directions[look])
    // The spindle looks along the tool of the operation that is chosen.
    if (look === 'spindle') direction.transformDirection(plane)
    if (look === 'pick' && picked?.normal) direction.set(...picked.normal).transformDirection(zeroFromWork)
    const orbit = controls as unknown as Orbit
    if (look === 'fit' && orbit) direction.subVectors(camera.position, orbit.target)
    direction.normalize()
    if (look !== 'fit') camera.up.set(0, 0, 1)
    if (look !== 'fit' && Math.abs(direction.z) > 0.999) camera.up.set(0, 1, 0)
    if (look === 'spindle') camera.up.set(0, 1, 0).transformDirection(plane)
    camera.position.copy(middle).addScaledVector(direction, 900)
    fitTo(camera, orbit, box, size, 50, 0.86)
    invalidate()
    // The fit follows the choice of view, not every change of the picture.
  }, [look, lookCount, card, kind, zeroFromWork, plane, controls, size, around, billetSize]) // eslint-disable-line react-hooks/exhaustive-deps
  useEffect(() => invalidate(), [solid, shown, stage, time, operation, marked, invalidate])
  return null
}
