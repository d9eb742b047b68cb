import { type ThreeEvent, useThree } from '@react-three/fiber'
import { useEffect } from 'react'
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import type { Part, Target, Vec } from '../api/client'
import { type Asked, useAsking } from '../state/asking'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { paintFaces, type Solid } from './glb'
import { Lines } from './Lines'

/** What is under the pointer: a face, the edge and corner near it, and why it cannot serve what is asked. */
export type Hover = {
  face: number
  edge: number | null
  end: 0 | 1 | null
  refused: string | null
  x: number
  y: number
}

const NEAR_PX = 14

/** The part's faces, to hover, to pick and to measure. */
export function PartFaces(props: {
  solid: Solid
  part: Part | undefined
  hover: Hover | null
  setHover: (hover: Hover | null) => void
  matrix: THREE.Matrix4
  planes: THREE.Plane[]
}) {
  const { solid, part, hover, setHover, matrix, planes } = props
  const { invalidate, camera } = useThree()
  const view = {
    ...useFields(useAsking, 'measuring', 'picked', 'asked'),
    ...useFields(useShown, 'lit', 'seen'),
  }
  useEffect(() => {
    solid.surface.boundsTree ??= new MeshBVH(solid.surface)
    const measuring = view.measuring?.targets.map((target) => (target.kind === 'face' ? target.number : null))
    paintFaces(
      solid.surface,
      [hover?.face ?? view.picked?.face ?? null, ...view.lit, ...(measuring ?? [])],
      view.seen,
    )
    invalidate()
  }, [solid, hover?.face, view.picked?.face, view.lit, view.seen, view.measuring, invalidate])

  const found = (event: ThreeEvent<PointerEvent | MouseEvent>): Hover | null => {
    if (!event.face || !part) return null
    const face = solid.surface.getAttribute('_label').getX(event.face.a)
    const point = event.point.clone().applyMatrix4(matrix.clone().invert())
    let edge: number | null = null
    let end: 0 | 1 | null = null
    const reach = camera instanceof THREE.OrthographicCamera ? NEAR_PX / camera.zoom : 3
    let nearest = view.asked?.kind === 'edge' ? Math.max(reach, 6) : reach
    for (const number of part.faces[face]?.loops.flat() ?? []) {
      const index = number >= 0 ? number : -number - 1
      const own = part.edges[index]
      for (let i = 1; own && i < own.points.length; i += 1) {
        const line = new THREE.Line3(
          new THREE.Vector3(...(own.points[i - 1] as Vec)),
          new THREE.Vector3(...(own.points[i] as Vec)),
        )
        const away = line.closestPointToPoint(point, true, new THREE.Vector3()).distanceTo(point)
        if (away < nearest) [nearest, edge] = [away, index]
      }
    }
    const points = edge === null ? [] : (part.edges[edge]?.points ?? [])
    const ends = [points[0], points.at(-1)].map((at) =>
      at ? point.distanceTo(new THREE.Vector3(...at)) : Infinity,
    ) as [number, number]
    if (Math.min(...ends) < 1.5 * reach) end = ends[0] <= ends[1] ? 0 : 1
    const at = { face, edge, end, x: event.nativeEvent.offsetX, y: event.nativeEvent.offsetY }
    return { ...at, refused: whyNot(view.asked, part, at) }
  }

  const pick = (event: ThreeEvent<MouseEvent>) => {
    const at = found(event)
    const face = at && part?.faces[at.face]
    if (!at || !part || !face || event.delta > 4 || at.refused) return
    useAsking.setState({
      picked: { face: at.face, normal: face.normal ?? null, centre: face.centre },
    })
    const asked = view.asked
    const edge = at.edge === null ? undefined : part.edges[at.edge]
    if (asked?.kind === 'measure') {
      const corner = edge?.points.at(at.end === 1 ? -1 : 0)
      const target: Target =
        at.end !== null && corner
          ? { kind: 'point', at: corner }
          : at.edge !== null
            ? { kind: 'edge', number: at.edge }
            : { kind: 'face', number: at.face }
      const before = view.measuring?.targets ?? []
      useAsking.setState({
        measuring: { targets: before.length === 1 ? [...before, target] : [target], values: [] },
      })
      return
    }
    if (!asked || asked.kind === 'piece') return
    if (asked.kind === 'face') {
      useAsking.setState({ asked: null })
      asked.take({ face: at.face, at: face.centre })
    } else if (at.edge !== null && edge) {
      const middle = [0, 1, 2].map(
        (d) => edge.points.reduce((sum, p) => sum + (p[d] ?? 0), 0) / edge.points.length,
      ) as Vec
      useAsking.setState({ asked: null })
      if (asked.kind === 'edge') asked.take({ edge: at.edge, at: middle })
      else {
        const end = at.end ?? 0
        asked.take({ edge: at.edge, at: middle }, end, edge.points.at(end === 1 ? -1 : 0) ?? middle)
      }
    }
    setHover(null)
  }

  return (
    <>
      <mesh
        geometry={solid.surface}
        onPointerMove={(event) => setHover(found(event))}
        onPointerOut={() => setHover(null)}
        onClick={pick}
      >
        <meshLambertMaterial
          vertexColors
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
          clippingPlanes={planes}
        />
      </mesh>
      {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.9} planes={planes} />}
    </>
  )
}

/** Why what is under the pointer cannot be taken, or null. */
function whyNot(asked: Asked | null, part: Part, at: Omit<Hover, 'refused'>): string | null {
  const face = part.faces[at.face]
  const edge = at.edge === null ? undefined : part.edges[at.edge]
  if (!asked || !face) return null
  if (asked.kind === 'face') return asked.serves?.(face) ?? null
  if (asked.kind === 'edge') return edge ? (asked.serves?.(edge) ?? null) : 'no edge near: go closer to one'
  if (asked.kind === 'vertex') return at.end === null ? 'no corner near: go to the end of an edge' : null
  return null
}
