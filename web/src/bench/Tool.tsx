import { useMemo } from 'react'
import * as THREE from 'three'
import type { OperationReport, Vec } from '../api/client'

const PART_COLOURS: Record<string, string> = { cutter: '#E6E2D6', shank: '#C3C6C4', holder: '#8E9496' }

/** The tool as it turns, its outline from the core; what stands above the shank is seen through. */
export function ToolSolid(props: {
  parts: OperationReport['tool_shape']
  tip: Vec
  lean: { along: Vec; angle: number } | null
}) {
  const { parts, tip, lean } = props
  const turned = useMemo(() => {
    const up = new THREE.Quaternion().setFromEuler(new THREE.Euler(Math.PI / 2, 0, 0))
    if (!lean) return up
    return new THREE.Quaternion().setFromAxisAngle(new THREE.Vector3(...lean.along), -lean.angle).multiply(up)
  }, [lean])
  const solids = useMemo(
    () =>
      parts
        .filter((part) => part.name in PART_COLOURS)
        .map((part) => ({
          name: part.name,
          geometry: new THREE.LatheGeometry(
            part.outline.map(([r, h]) => new THREE.Vector2(Math.max(r ?? 0, 1e-4), h ?? 0)),
            64,
          ),
        })),
    [parts],
  )
  return (
    <group position={tip} quaternion={turned}>
      {solids.map(({ name, geometry }) => (
        <mesh key={name} geometry={geometry}>
          <meshLambertMaterial
            color={PART_COLOURS[name]}
            flatShading
            side={THREE.DoubleSide}
            transparent={name === 'holder'}
            opacity={name === 'holder' ? 0.55 : 1}
          />
        </mesh>
      ))}
    </group>
  )
}

/** Where the spindle's nose is when a tool's tip stands at a place. */
export function noseOver(parts: OperationReport['tool_shape'], tip: Vec): Vec {
  const nose = parts.find((part) => part.name === 'spindle nose')
  return [tip[0], tip[1], tip[2] + Math.min(...(nose?.outline.map(([, height]) => height ?? 0) ?? [0]))]
}
