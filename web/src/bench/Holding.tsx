import type { ThreeEvent } from '@react-three/fiber'
import { useMemo } from 'react'
import * as THREE from 'three'
import type { HoldFacts, SlidesFact, Vec } from '../api/client'
import { useAsking } from '../state/asking'
import { useShown } from '../state/picture'
import { useRoute } from '../state/route'
import { type Solid, usePicture, useSolid } from './glb'
import { Lines } from './Lines'

const SHADES = {
  clamps: '#9DA6AA',
  rests: '#B4B8B7',
  locates: '#A9AEB0',
  body: '#BFC2C0',
  table: '#D0D0CA',
}
const LIT = '#5FA3AD'

/** Everything that holds the work, one shade for each part it plays; while contacts are asked for it is seen through. */
export function Holding({ hold, planes }: { hold: HoldFacts; planes: THREE.Plane[] }) {
  const solid = useSolid(hold.key)
  const wanted = useShown((view) => view.contacts)
  const contacts = useRoute((view) => view.stage === 'hold') && wanted
  const lit = useShown((view) => view.litItem)
  if (!solid) return null
  return (
    <group position={hold.shift}>
      <Painted solid={solid} hold={hold} lit={lit} faint={contacts} planes={planes} />
      {contacts && <Contacts hold={hold} lit={lit} />}
    </group>
  )
}

/** What each label of a holding that was not computed yet is there for, as the core numbers it. */
const ROLES = ['body', 'rests', 'locates', 'clamps', 'table'] as const

/** The holding as it is typed: what stands where. Pale, as what is not computed yet. */
export function TypedHolding({ solid, planes }: { solid: Solid; planes: THREE.Plane[] }) {
  useMemo(() => {
    const shades = ROLES.map((role) => new THREE.Color(SHADES[role]))
    painted(solid.surface, (label) => shades[label])
  }, [solid])
  return (
    <>
      <mesh geometry={solid.surface}>
        <meshLambertMaterial
          vertexColors
          transparent
          opacity={0.6}
          clippingPlanes={planes}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </mesh>
      {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.35} planes={planes} />}
    </>
  )
}

/** Give every vertex the colour of its label. */
function painted(surface: THREE.BufferGeometry, shade: (label: number) => THREE.Color | undefined) {
  const label = surface.getAttribute('_label')
  const out = new Float32Array(label.count * 3)
  for (let i = 0; i < label.count; i += 1) {
    const colour = shade(label.getX(i))
    if (colour) out.set([colour.r, colour.g, colour.b], 3 * i)
  }
  surface.setAttribute('color', new THREE.BufferAttribute(out, 3))
}

/** Colour a holding by the part each of its pieces plays. lit: an item that stands out. */
export function paintHolding(surface: THREE.BufferGeometry, pieces: HoldFacts['pieces'], lit: string | null) {
  const shades = pieces.map(
    (piece) =>
      new THREE.Color(
        piece.item === lit
          ? LIT
          : piece.name === 'table'
            ? SHADES.table
            : (SHADES[piece.role as keyof typeof SHADES] ?? SHADES.body),
      ),
  )
  painted(surface, (label) => shades[label])
}

function Painted(props: {
  solid: Solid
  hold: HoldFacts
  lit: string | null
  faint: boolean
  planes: THREE.Plane[]
}) {
  const { solid, hold, lit } = props
  useMemo(() => paintHolding(solid.surface, hold.pieces, lit), [solid, hold, lit])
  const asked = useAsking((view) => view.asked)
  const serves = (label: number) => {
    const item = hold.pieces[label]?.item
    if (asked?.kind !== 'piece' || item === undefined) return false
    return asked.of !== undefined ? item === asked.of : item !== asked.beside
  }
  const pick = (event: ThreeEvent<MouseEvent>) => {
    if (asked?.kind !== 'piece' || !event.face || event.delta > 4) return
    // What is in front and may not be meant is looked through.
    const label = solid.surface.getAttribute('_label').getX(event.face.a)
    if (!serves(label)) return
    event.stopPropagation()
    useAsking.setState({ asked: null })
    const frame = event.object.matrixWorld
    asked.take(label, event.point.toArray(), event.face.normal.clone().transformDirection(frame).toArray())
  }
  return (
    <>
      <mesh geometry={solid.surface} renderOrder={props.faint ? 1 : 0} onClick={pick}>
        <meshLambertMaterial
          key={props.faint ? 'faint' : 'solid'}
          vertexColors
          transparent={props.faint}
          opacity={props.faint ? 0.35 : 1}
          depthWrite={!props.faint}
          clippingPlanes={props.planes}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </mesh>
      {solid.lines && (
        <Lines
          geometry={solid.lines}
          colour="#1E2A2F"
          opacity={props.faint ? 0.3 : 0.55}
          planes={props.planes}
        />
      )}
    </>
  )
}

/** Where the holding touches the work: areas in action colour, a piece that touches on lines or points only in trouble. */
function Contacts({ hold, lit }: { hold: HoldFacts; lit: string | null }) {
  const picture = usePicture(hold.key, 'contacts.glb')
  useMemo(() => {
    if (!picture) return
    const bearing = new Set(hold.contacts.filter((one) => one.kind === 'face').map((one) => one.piece))
    painted(picture.surface, (label) => {
      const contact = hold.contacts[label]
      const chosen = lit === null || contact?.item === lit
      const colour = new THREE.Color(contact && bearing.has(contact.piece) ? '#12545F' : '#A3361B')
      if (!chosen) colour.lerp(new THREE.Color('#EDEAE1'), 0.6)
      return colour
    })
  }, [picture, hold, lit])
  if (!picture) return null
  return (
    <mesh geometry={picture.surface} renderOrder={4}>
      <meshBasicMaterial vertexColors side={THREE.DoubleSide} transparent opacity={0.75} depthTest={false} />
    </mesh>
  )
}

/** The machine's solids that go with the tool or between tool and work, with the spindle's nose at a place; the nose itself where it is asked for. */
export function Sliding({ of, nose, whole }: { of: SlidesFact; nose: Vec; whole?: boolean }) {
  const solid = useSolid(of.key)
  const each = useMemo(() => (solid ? of.names.map((_, i) => only(solid.surface, i)) : []), [solid, of])
  return (
    <>
      {each.map((geometry, i) => {
        const own = of.names[i] === 'spindle nose'
        if (own && !whole) return null
        const rows = of.follows[i] ?? []
        const goes = rows.map((row) => row.reduce((sum, share, d) => sum + share * (nose[d] ?? 0), 0)) as Vec
        return (
          <mesh key={of.names[i]} geometry={geometry} position={goes} renderOrder={1}>
            <meshLambertMaterial
              color={own ? '#8E9496' : '#A7B0B4'}
              transparent
              opacity={own ? 0.7 : whole ? 0.2 : 0.1}
              depthWrite={own}
            />
          </mesh>
        )
      })}
    </>
  )
}

/** The triangles of one label. */
function only(surface: THREE.BufferGeometry, label: number): THREE.BufferGeometry {
  const labels = surface.getAttribute('_label')
  const index = surface.getIndex()
  const chosen: number[] = []
  for (let i = 0; index && i < index.count; i += 3)
    if (labels.getX(index.getX(i)) === label) chosen.push(index.getX(i), index.getX(i + 1), index.getX(i + 2))
  const out = surface.clone()
  out.setIndex(chosen)
  return out
}

/** The machine's own solids that stand by the work, as the work sees them. */
export function Machinery({ of }: { of: string }) {
  const solid = useSolid(of)
  if (!solid) return null
  return (
    <>
      <mesh geometry={solid.surface} renderOrder={1}>
        <meshLambertMaterial color="#A7B0B4" transparent opacity={0.28} depthWrite={false} />
      </mesh>
      {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.35} />}
    </>
  )
}
