import { useThree } from '@react-three/fiber'
import { useEffect, useMemo } from 'react'
import * as THREE from 'three'
import { useAsking } from '../state/asking'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { Segments } from '../ui/Choice'
import type { Solid } from './glb'

const CUT_COLOUR = '#C7B98F'

/** The plane the picture is cut open by, in the world of the picture; none when it is whole. */
export function useSection(solid: Solid | null, zeroFromWork: THREE.Matrix4): THREE.Plane[] {
  const { section, picked } = { ...useFields(useShown, 'section'), ...useFields(useAsking, 'picked') }
  return useMemo(() => {
    if (!section || !solid) return []
    const box = solid.surface.boundingBox?.clone().applyMatrix4(zeroFromWork) ?? new THREE.Box3()
    const normal = new THREE.Vector3()
    if (section.axis === 'pick' && picked?.normal)
      normal.set(...picked.normal).transformDirection(zeroFromWork)
    else normal.setComponent(typeof section.axis === 'number' ? section.axis : 1, 1)
    // What lies beyond the plane, towards the operator for y, is taken off.
    const ends = [0, 1, 2, 3, 4, 5, 6, 7].map((i) =>
      new THREE.Vector3(
        i & 1 ? box.max.x : box.min.x,
        i & 2 ? box.max.y : box.min.y,
        i & 4 ? box.max.z : box.min.z,
      ).dot(normal),
    )
    const [low, high] = [Math.min(...ends), Math.max(...ends)]
    const at = low + section.share * (high - low)
    return section.axis === 1 ? [new THREE.Plane(normal, -at)] : [new THREE.Plane(normal.negate(), at)]
  }, [section, picked, solid, zeroFromWork])
}

/** The inside of what is cut open, in one flat colour: back faces seen through the cut are the cut's own face. */
export function Cut({ solid, plane }: { solid: Solid; plane: THREE.Plane }) {
  const invalidate = useThree((three) => three.invalidate)
  useEffect(() => invalidate(), [plane, invalidate])
  return (
    <mesh geometry={solid.surface} raycast={() => null}>
      <meshBasicMaterial color={CUT_COLOUR} side={THREE.BackSide} clippingPlanes={[plane]} />
    </mesh>
  )
}

/** Which way the cut looks and how far along it lies. */
export function SectionBar() {
  const { section, picked } = { ...useFields(useShown, 'section'), ...useFields(useAsking, 'picked') }
  if (!section) return null
  return (
    <div className="flex items-center gap-2 border border-rule bg-sheet px-2 py-0.5">
      <Segments
        label="Section across"
        value={section.axis === 'pick' ? 3 : section.axis}
        options={[
          { value: 0, label: 'X' },
          { value: 1, label: 'Y' },
          { value: 2, label: 'Z' },
          ...(picked?.normal ? [{ value: 3, label: 'picked face' }] : []),
        ]}
        choose={(axis) =>
          useShown.setState({ section: { ...section, axis: axis === 3 ? 'pick' : (axis as 0 | 1 | 2) } })
        }
      />
      <input
        type="range"
        aria-label="Section place"
        className="w-28 accent-action"
        min={0.002}
        max={0.998}
        step={0.002}
        value={section.share}
        onChange={(event) =>
          useShown.setState({ section: { ...section, share: Number(event.target.value) } })
        }
      />
    </div>
  )
}
