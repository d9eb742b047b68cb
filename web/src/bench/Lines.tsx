import type * as THREE from 'three'

/** Ink lines; `through` draws them over what hides them, fainter. */
export function Lines(props: {
  geometry: THREE.BufferGeometry
  colour: string
  opacity: number
  through?: boolean
  planes?: THREE.Plane[]
}) {
  return (
    <lineSegments geometry={props.geometry} renderOrder={props.through ? 2 : 0}>
      <lineBasicMaterial
        color={props.colour}
        transparent
        opacity={props.through ? props.opacity * 0.5 : props.opacity}
        depthTest={!props.through}
        clippingPlanes={props.planes ?? null}
      />
    </lineSegments>
  )
}
