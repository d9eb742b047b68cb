import { useFrame } from '@react-three/fiber'
import { type ReactNode, useRef, useState } from 'react'
import * as THREE from 'three'
import type { HoldFacts, Vec } from '../api/client'

const AXES: { name: 'X' | 'Y' | 'Z'; way: Vec }[] = [
  { name: 'X', way: [1, 0, 0] },
  { name: 'Y', way: [0, 1, 0] },
  { name: 'Z', way: [0, 0, 1] },
]
const INK = '#1E2A2F'
/** How long the arrows at a zero are on the screen, pixels. */
const LONG = 44
/** Where an arrow's letter stands, in lengths of the arrow. */
export const LETTER = 1.22

/** Keeps a label of the page over a point of the picture. */
export function Follow({ id, at }: { id: string; at: Vec }) {
  const [anchor] = useState(() => new THREE.Object3D())
  useFrame(({ camera, size }) => {
    const label = document.getElementById(id)
    if (!label) return
    // A group whose matrix was just put in its place does not say so itself before it is drawn.
    for (let up: THREE.Object3D | null = anchor; up; up = up.parent) up.matrixWorldNeedsUpdate = true
    const point = anchor.getWorldPosition(new THREE.Vector3()).project(camera)
    label.style.transform = `translate(${((point.x + 1) / 2) * size.width}px, ${((1 - point.y) / 2) * size.height}px)`
  })
  return <primitive object={anchor} position={at} />
}

/** What is drawn in units of an arrow's length on the screen, however near the picture is. */
export function OnScreen({ at, children }: { at: Vec; children: ReactNode }) {
  const group = useRef<THREE.Group>(null)
  useFrame(({ camera }) => {
    if (camera instanceof THREE.OrthographicCamera) group.current?.scale.setScalar(LONG / camera.zoom)
    // Before what stands at its ends is looked for.
  }, -1)
  return (
    <group ref={group} position={at}>
      {children}
    </group>
  )
}

/** Where X, Y and Z of a zero run: arrows of one length on the screen. */
export function ZeroAxes({ id, at }: { id: string; at: Vec }) {
  return (
    <OnScreen at={at}>
      {AXES.map(({ name, way }) => (
        <group
          key={name}
          quaternion={new THREE.Quaternion().setFromUnitVectors(
            new THREE.Vector3(0, 1, 0),
            new THREE.Vector3(...way),
          )}
        >
          <mesh position={[0, 0.4, 0]} renderOrder={6}>
            <cylinderGeometry args={[0.022, 0.022, 0.8, 6]} />
            <meshBasicMaterial color={INK} depthTest={false} transparent />
          </mesh>
          <mesh position={[0, 0.88, 0]} renderOrder={6}>
            <coneGeometry args={[0.075, 0.24, 10]} />
            <meshBasicMaterial color={INK} depthTest={false} transparent />
          </mesh>
          <Follow id={`${id}-${name}`} at={[0, LETTER, 0]} />
        </group>
      ))}
    </OnScreen>
  )
}

/** The letters of the arrows, over the picture. */
export const AxisLetters = ({ id }: { id: string }) => (
  <>
    {AXES.map(({ name }) => (
      <div key={name} id={`${id}-${name}`} className="pointer-events-none absolute left-0 top-0">
        <div className="figures -translate-x-1/2 -translate-y-1/2 bg-sheet/85 px-[3px] text-[11px] font-medium leading-[13px]">
          {name}
        </div>
      </div>
    ))}
  </>
)

const TRIAD = 'machine-axes'
const ROOM = 30

/** Turns the small drawing of the machine's axes as the picture is turned. */
export function TriadInStep() {
  useFrame(({ camera }) => {
    const inverse = camera.quaternion.clone().invert()
    for (const { name, way } of AXES) {
      const seen = new THREE.Vector3(...way).applyQuaternion(inverse)
      const [x, y] = [ROOM + 19 * seen.x, ROOM - 19 * seen.y]
      const shaft = document.getElementById(`${TRIAD}-${name}`)
      shaft?.setAttribute('x2', String(x))
      shaft?.setAttribute('y2', String(y))
      const letter = document.getElementById(`${TRIAD}-${name}-letter`)
      letter?.setAttribute('x', String(ROOM + 26 * seen.x))
      letter?.setAttribute('y', String(ROOM - 26 * seen.y + 3.5))
      // What points straight at the one who looks is a dot.
      letter?.setAttribute('opacity', Math.hypot(seen.x, seen.y) < 0.15 ? '0' : '1')
    }
  })
  return null
}

/** Which way the machine's axes run in the picture as it is turned now. */
export const MachineTriad = () => (
  <svg
    role="img"
    aria-label="The machine’s axes"
    width={2 * ROOM}
    height={2 * ROOM + 12}
    className="pointer-events-none absolute bottom-2 right-2.5 text-ink"
  >
    <circle cx={ROOM} cy={ROOM} r="1.8" fill="currentColor" />
    {AXES.map(({ name }) => (
      <g key={name}>
        <line
          id={`${TRIAD}-${name}`}
          x1={ROOM}
          y1={ROOM}
          x2={ROOM}
          y2={ROOM}
          stroke="currentColor"
          strokeWidth="1.3"
        />
        <text id={`${TRIAD}-${name}-letter`} textAnchor="middle" className="figures fill-ink text-[10.5px]">
          {name}
        </text>
      </g>
    ))}
    <text x={ROOM} y={2 * ROOM + 10} textAnchor="middle" className="fill-soft text-[10.5px]">
      machine
    </text>
  </svg>
)

/** Where a vise's handle is: at the end of its body that the moving jaw is on; null without a vise. */
export function handleOf(hold: HoldFacts): Vec | null {
  const jaw = (which: string) => hold.pieces.find((one) => one.jaw === which)
  const [fixed, moving] = [jaw('fixed'), jaw('moving')]
  const body = hold.pieces.find((one) => one.name === 'vise body')
  if (!fixed || !moving || !body) return null
  const middle = (one: { low: number[]; high: number[] }, d: number) =>
    ((one.low[d] ?? 0) + (one.high[d] ?? 0)) / 2
  const way = [0, 1].map((d) => middle(moving, d) - middle(fixed, d))
  const along = Math.abs(way[0] ?? 0) > Math.abs(way[1] ?? 0) ? 0 : 1
  const at: Vec = [middle(body, 0), middle(body, 1), middle(body, 2)]
  at[along] = ((way[along] ?? 0) > 0 ? body.high[along] : body.low[along]) ?? 0
  return at
}
