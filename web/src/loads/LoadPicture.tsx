import { OrbitControls } from '@react-three/drei'
import { Canvas, useThree } from '@react-three/fiber'
import { useEffect, useMemo } from 'react'
import * as THREE from 'three'
import type { LoadReport, OrderStep, PlaceReport, ProjectState } from '../api/client'
import { Follow } from '../bench/Axes'
import { fitTo, type Orbit } from '../bench/fitting'
import { type Sixteen, useAwaited } from '../bench/glb'
import { Sliding } from '../bench/Holding'
import { noseOver, ToolSolid } from '../bench/Tool'
import { LoadBodies } from './LoadBodies'

/** When a load is looked at: as it is loaded, as it is cut, or as a step of its order begins. */
export type When = 'before' | 'after' | number

/** The load as it stands, all its works and holdings in one picture; at a step with tool and machine where they are then. */
export function LoadPicture(props: { project: ProjectState; told: LoadReport; when: When; late: boolean }) {
  const { project, told, when, late } = props
  const step = typeof when === 'number' ? told.order[when] : undefined
  const busy = useAwaited(({ pictures }) => pictures > 0)
  const box = useMemo(() => {
    const out = new THREE.Box3()
    for (const place of told.places) {
      out.expandByPoint(new THREE.Vector3(...place.low))
      out.expandByPoint(new THREE.Vector3(...place.high))
    }
    return out
  }, [told])
  return (
    <section
      aria-label="The load as it stands"
      aria-busy={busy}
      className={`relative min-h-0 overflow-hidden bg-bench ${late ? 'opacity-60' : ''}`}
    >
      <Canvas
        orthographic
        flat
        frameloop="demand"
        dpr={1}
        camera={{ up: [0, 0, 1], position: [300, -400, 340], zoom: 1, near: -6000, far: 9000 }}
        gl={{ antialias: true, preserveDrawingBuffer: true }}
      >
        <ambientLight intensity={1.9} />
        <directionalLight position={[-0.5, -0.9, 1]} intensity={1.4} />
        <LoadBodies project={project} told={told} stock={(place) => stockAt(project, told, place, when)} />
        {step && <AtStep project={project} told={told} step={step} />}
        {told.places.map((place) => (
          <Follow key={place.key} id={markOf(place.key)} at={[...place.at]} />
        ))}
        <Fitted box={box} />
        <OrbitControls makeDefault enableDamping={false} />
      </Canvas>
      {told.places.map((place, n) => (
        <div
          key={place.key}
          id={markOf(place.key)}
          className="pointer-events-none absolute left-0 top-0"
          title={place.key}
        >
          <div className="figures flex -translate-x-1/2 translate-y-1 whitespace-nowrap border border-ink bg-sheet text-[11px]">
            <span className="bg-ink px-1 text-sheet">{n + 1}</span>
            <span className="px-1">{place.registers[0]?.register_name}</span>
          </div>
        </div>
      ))}
    </section>
  )
}

/** What a place's work has become by then: after the last that was cut there. */
function stockAt(project: ProjectState, told: LoadReport, place: PlaceReport, when: When) {
  if (when === 'before') return place.incoming_key
  if (when === 'after') return place.outgoing_key
  const own = told.order.map((one, n) => ({ ...one, n })).filter((one) => one.place === place.key)
  const done = own.filter((one) => one.n < when)
  if (!done.length) return place.incoming_key
  const last = place.differs ? undefined : done.at(-1)
  const operations = project.report?.setups.find((one) => one.name === place.setup)?.operations
  const cut = operations?.find((one) => one.run === last?.run)
  return cut?.key ?? (done.length === own.length ? place.outgoing_key : place.incoming_key)
}

/** Tool and slides of the machine as a step begins, as the work sees them. */
function AtStep({ project, told, step }: { project: ProjectState; told: LoadReport; step: OrderStep }) {
  const place = told.places.find((one) => one.key === step.place)
  const setup = project.report?.setups.find((one) => one.name === place?.setup)
  const operation = setup?.operations.find((one) => one.run === step.run)
  const plane = useMemo(() => {
    const rows = (told: readonly (readonly number[])[] | null | undefined) =>
      told ? new THREE.Matrix4().set(...(told.flat() as Sixteen)) : new THREE.Matrix4()
    return rows(setup?.zero_from_work).multiply(rows(operation?.zero_from_work).invert())
  }, [setup, operation])
  if (!place || !setup || !operation) return null
  const slides = setup.positions.find((one) => one.name === operation.position)?.slides ?? setup.slides
  return (
    <group position={[...place.at]}>
      <group matrixAutoUpdate={false} matrix={plane}>
        <ToolSolid parts={operation.tool_shape} tip={[...step.tip]} lean={null} />
        {slides && <Sliding of={slides} nose={noseOver(operation.tool_shape, [...step.tip])} whole />}
      </group>
    </group>
  )
}

const markOf = (key: string) => `stands-${key.replaceAll(/[^A-Za-z0-9]/g, '-')}`

/** Looks at all of it from the operator's side. */
function Fitted({ box }: { box: THREE.Box3 }) {
  const { camera, controls, size, invalidate } = useThree()
  useEffect(() => {
    if (!(camera instanceof THREE.OrthographicCamera) || box.isEmpty()) return
    camera.up.set(0, 0, 1)
    camera.position
      .copy(box.getCenter(new THREE.Vector3()))
      .addScaledVector(new THREE.Vector3(0.5, -1, 0.9).normalize(), 1500)
    fitTo(camera, controls as unknown as Orbit, box, size, 50, 0.9)
    invalidate()
  }, [box, camera, controls, size, invalidate])
  return null
}
