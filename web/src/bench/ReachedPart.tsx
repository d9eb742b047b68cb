import { useMemo } from 'react'
import type * as THREE from 'three'
import { paintReached, useSolid } from './glb'
import { Lines } from './Lines'

/** The part painted by what stops a tool at each place. */
export function ReachedPart({ of, planes }: { of: string; planes: THREE.Plane[] }) {
  const solid = useSolid(of)
  useMemo(() => solid && paintReached(solid.surface), [solid])
  if (!solid) return null
  return (
    <>
      <mesh geometry={solid.surface}>
        <meshLambertMaterial
          vertexColors
          clippingPlanes={planes}
          polygonOffset
          polygonOffsetFactor={1}
          polygonOffsetUnits={1}
        />
      </mesh>
      {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.9} planes={planes} />}
    </>
  )
}
