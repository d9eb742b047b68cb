import { useEffect, useMemo, useRef } from 'react'
import { useThree } from '@react-three/fiber'
import * as THREE from 'three'
import type { LoadReport, PlaceReport, ProjectState, SetupReport, Vec } from '../api/client'
import { paintMakers, type Sixteen, useSolid } from '../bench/glb'
import { paintHolding } from '../bench/Holding'
import { Lines } from '../bench/Lines'
import { standIn } from './fresh'

/** Edges of a holding are drawn where its faces meet at more than this, degrees. */
const SHARP_DEG = 25

/** What stands at a setup's places: of this plan, or a guest of another. */
export type Standing = Pick<SetupReport, 'zero_from_work' | 'low' | 'high' | 'hold'>

export const standing = (project: ProjectState, told: LoadReport, setup: string): Standing | undefined =>
  project.report?.setups.find((one) => one.name === setup) ?? told.guests.find((one) => one.called === setup)

/** Items of a setup's holding that are there once for all its places. */
export function staysOf(project: ProjectState, load: string, setup: string): readonly string[] {
  const own = project.plan.loads.find((one) => one.name === load)
  return (own && standIn(own, setup)?.stays) ?? []
}

/** Everything that stands in a load, table frame: like places are one body, drawn as often as it stands there. */
export function LoadBodies(props: {
  project: ProjectState
  told: LoadReport
  /** The stock that is drawn at a place. */
  stock: (place: PlaceReport) => string | null | undefined
  /** A place that is drawn elsewhere, by its key. */
  without?: string | undefined
  /** Seen through: what stands round the work that is looked at. */
  faint?: boolean
}) {
  const { project, told, stock, without, faint } = props
  // Places that are cut otherwise have works of their own.
  const alike = new Map<string, PlaceReport[]>()
  for (const place of told.places) {
    const key = `${place.setup} ${stock(place)}`
    if (place.key !== without) alike.set(key, [...(alike.get(key) ?? []), place])
  }
  return [...alike].map(([key, places], n) => {
    const name = places[0]?.setup ?? ''
    const setup = standing(project, told, name)
    return (
      setup && (
        <Bodies
          key={key}
          setup={setup}
          places={places}
          stays={staysOf(project, told.name, name)}
          stock={places[0] && stock(places[0])}
          table={n === 0 && !faint}
          faint={!!faint}
        />
      )
    )
  })
}

/** What stands round the work of a setup: its load, from its first place, whose zero is the origin then; null where it stands alone. */
export function aroundIn(project: ProjectState, setup: string) {
  const name = project.plan.setups.find((one) => one.name === setup)?.load
  const told = name ? project.report?.loads.find((one) => one.name === name) : undefined
  const own = told?.places.find((one) => one.setup === setup)
  if (!told || !own || told.places.length < 2) return null
  const at = own.at.map((one) => -one) as unknown as Vec
  return { told, own: own.key, at }
}

/** All places of one setup. */
function Bodies(props: {
  setup: Standing
  places: PlaceReport[]
  stays: readonly string[]
  stock: string | null | undefined
  /** Whether the table is drawn with it. */
  table: boolean
  faint: boolean
}) {
  const { setup, places, stays, stock, table, faint } = props
  const work = useSolid(stock)
  const holding = useSolid(setup.hold?.key)
  useMemo(() => work && paintMakers(work.surface), [work])
  const pieces = setup.hold?.pieces
  const shared = useMemo(() => ['table', 'machine', ...stays], [stays])
  const bodies = useMemo(() => {
    if (!holding || !pieces) return null
    paintHolding(holding.surface, pieces, null)
    const own = (label: number) => !shared.includes(pieces[label]?.item ?? '')
    // The table is there once for all setups, what stays once for all places of its own.
    const once = (label: number) => {
      const item = pieces[label]?.item ?? ''
      return item === 'table' ? table : stays.includes(item)
    }
    return { own: subset(holding.surface, own), once: subset(holding.surface, once) }
  }, [holding, pieces, shared, stays, table])
  const zero = useMemo(
    () => new THREE.Matrix4().set(...((setup.zero_from_work ?? []).flat() as Sixteen)),
    [setup],
  )
  const at = useMemo(() => places.map((one) => new THREE.Matrix4().setPosition(...one.at)), [places])
  const first = places[0]
  const kept = useMemo(() => new THREE.Matrix4().setPosition(...(setup.hold?.shift ?? [0, 0, 0])), [setup])
  const works = useMemo(() => at.map((one) => one.clone().multiply(zero)), [at, zero])
  const holders = useMemo(() => at.map((one) => one.clone().multiply(kept)), [at, kept])
  if (!first) return null
  const planned = new THREE.Matrix4()
    .setPosition(first.at[0] - first.shift[0], first.at[1] - first.shift[1], first.at[2])
    .multiply(kept)
  return (
    <>
      {work && <Often geometry={work.surface} at={works} faint={faint} />}
      {work?.lines && <OftenLines geometry={work.lines} at={works} opacity={faint ? 0.25 : 0.8} />}
      {bodies?.own && <Often geometry={bodies.own} at={holders} faint={faint} edges />}
      {bodies?.once && !faint && <Often geometry={bodies.once} at={[planned]} faint={faint} edges />}
    </>
  )
}

/** The triangles of some labels, on the same points. */
function subset(
  surface: THREE.BufferGeometry,
  keep: (label: number) => boolean,
): THREE.BufferGeometry | null {
  const label = surface.getAttribute('_label')
  const index = surface.getIndex()
  const count = index ? index.count : label.count
  const corner = (n: number) => (index ? index.getX(n) : n)
  const kept: number[] = []
  for (let n = 0; n < count; n += 3)
    if (keep(label.getX(corner(n)))) kept.push(corner(n), corner(n + 1), corner(n + 2))
  if (!kept.length) return null
  const out = new THREE.BufferGeometry()
  for (const [name, values] of Object.entries(surface.attributes)) out.setAttribute(name, values)
  out.setIndex(kept)
  out.computeBoundingSphere()
  return out
}

/** One body as often as it stands there. */
function Often(props: {
  geometry: THREE.BufferGeometry
  at: THREE.Matrix4[]
  faint: boolean
  edges?: boolean
}) {
  const { geometry, at, faint, edges } = props
  const mesh = useRef<THREE.InstancedMesh>(null)
  const invalidate = useThree((three) => three.invalidate)
  useEffect(() => {
    at.forEach((matrix, n) => mesh.current?.setMatrixAt(n, matrix))
    if (mesh.current) {
      mesh.current.instanceMatrix.needsUpdate = true
      mesh.current.computeBoundingSphere()
    }
    invalidate()
  }, [at, geometry, invalidate])
  const lines = useMemo(
    () => (edges ? new THREE.EdgesGeometry(geometry, SHARP_DEG) : null),
    [edges, geometry],
  )
  return (
    <>
      <instancedMesh key={at.length} ref={mesh} args={[geometry, undefined, at.length]}>
        <meshLambertMaterial
          vertexColors
          transparent={faint}
          opacity={faint ? 0.3 : 1}
          depthWrite={!faint}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </instancedMesh>
      {lines && <OftenLines geometry={lines} at={at} opacity={faint ? 0.2 : 0.45} />}
    </>
  )
}

/** Lines of a body as often as it stands there, drawn at once. */
function OftenLines(props: { geometry: THREE.BufferGeometry; at: THREE.Matrix4[]; opacity: number }) {
  const { geometry, at, opacity } = props
  const all = useMemo(() => {
    const flat = geometry.getIndex() ? geometry.toNonIndexed() : geometry
    const from = flat.getAttribute('position')
    const out = new Float32Array(from.count * 3 * at.length)
    const point = new THREE.Vector3()
    at.forEach((matrix, n) => {
      for (let i = 0; i < from.count; i += 1)
        point
          .fromBufferAttribute(from, i)
          .applyMatrix4(matrix)
          .toArray(out, 3 * (n * from.count + i))
    })
    return new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(out, 3))
  }, [geometry, at])
  return <Lines geometry={all} colour="#1E2A2F" opacity={opacity} />
}
