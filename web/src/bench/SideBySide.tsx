import { OrbitControls } from '@react-three/drei'
import { Canvas, useThree } from '@react-three/fiber'
import { useEffect, useMemo } from 'react'
import * as THREE from 'three'
import type { ProjectState, SetupReport, Vec } from '../api/client'
import { lateAt } from '../api/hooks'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { choose } from '../state/route'
import { hueOf, round } from '../ui/words'
import { Segments } from '../ui/Choice'
import { Follow } from './Axes'
import { fitTo, type Orbit } from './fitting'
import { paintMakers, useSolid } from './glb'
import { Holding } from './Holding'
import { Lines } from './Lines'

const ROOM_MM = 20
const NONE: THREE.Plane[] = []
/** Low and high corner of what stands in a setup, zero frame. */
function boxOf(setup: SetupReport) {
  const box = new THREE.Box3()
  for (const one of [setup, ...(setup.hold?.pieces ?? [])]) {
    if (one.low) box.expandByPoint(new THREE.Vector3(...one.low))
    if (one.high) box.expandByPoint(new THREE.Vector3(...one.high))
  }
  return box
}

/** All setups in one picture, each as it lies on its machine: what comes in or goes out, and what holds it. */
export function SideBySide({ project }: { project: ProjectState }) {
  const { sideBySide: shows, shown } = useFields(useShown, 'sideBySide', 'shown')
  const setups = useMemo(
    () => (project.report?.setups ?? []).filter((one) => one.zero_from_work && one.low),
    [project.report],
  )
  const places = useMemo(() => {
    let along = 0
    return setups.map((setup) => {
      const box = boxOf(setup)
      const at: Vec = [along - box.min.x, -(box.min.y + box.max.y) / 2, -box.min.z]
      along += box.max.x - box.min.x + ROOM_MM
      return { setup, at, box: box.translate(new THREE.Vector3(...at)) }
    })
  }, [setups])
  return (
    <section aria-label="Bench" className="relative min-h-0 overflow-hidden bg-bench">
      <Canvas
        orthographic
        flat
        frameloop="demand"
        dpr={1}
        camera={{ up: [0, 0, 1], position: [300, -400, 340], zoom: 2, near: -6000, far: 9000 }}
        gl={{ antialias: true, preserveDrawingBuffer: true }}
      >
        <ambientLight intensity={1.9} />
        <directionalLight position={[-0.5, -0.9, 1]} intensity={1.4} />
        {places.map(({ setup, at }) => (
          <group key={setup.name} position={at}>
            <One setup={setup} outgoing={shows === 'out'} />
          </group>
        ))}
        {places.map(({ setup, box }) => (
          <Follow
            key={setup.name}
            id={`beside-${setup.name}`}
            at={[(box.min.x + box.max.x) / 2, box.min.y, box.min.z]}
          />
        ))}
        <Fitted boxes={places.map((one) => one.box)} />
        <OrbitControls makeDefault enableDamping={false} />
      </Canvas>
      {places.map(({ setup }) => {
        const index = project.plan.setups.findIndex((one) => one.name === setup.name)
        return (
          <div key={setup.name} id={`beside-${setup.name}`} className="absolute left-0 top-0">
            <button
              type="button"
              className="-translate-x-1/2 translate-y-2 whitespace-nowrap border border-rule bg-sheet px-1.5 text-left text-[12px] hover:border-ink"
              style={{ borderTop: `3px solid ${hueOf(index)}` }}
              onClick={() => {
                useShown.setState({ sideBySide: null })
                choose(index)
              }}
            >
              <span className="font-semibold">{setup.name}</span>
              <span className="figures text-soft">
                {' '}
                {round(
                  (shows === 'out' ? setup.outgoing_volume_mm3 : setup.incoming_volume_mm3) / 1000,
                  1,
                )}{' '}
                cm³
              </span>
              {lateAt(project, index) && <span className="text-trouble"> out of date</span>}
            </button>
          </div>
        )
      })}
      <div className="absolute left-2.5 top-2.5 flex gap-2">
        <Segments
          label="Stock beside each other"
          value={shows ?? 'out'}
          options={[
            { value: 'in', label: 'as it comes in' },
            { value: 'out', label: 'as it goes out' },
          ]}
          choose={(sideBySide) => useShown.setState({ sideBySide })}
        />
        <button
          type="button"
          aria-pressed={shown.holding}
          className={`knob !px-2 text-[12.5px] ${shown.holding ? 'knob-on' : ''}`}
          onClick={() => useShown.setState({ shown: { ...shown, holding: !shown.holding } })}
        >
          holding
        </button>
        <button
          type="button"
          className="knob !px-2 text-[12.5px]"
          onClick={() => useShown.setState({ sideBySide: null })}
        >
          Leave
        </button>
      </div>
    </section>
  )
}

function One({ setup, outgoing }: { setup: SetupReport; outgoing: boolean }) {
  const solid = useSolid(outgoing ? setup.outgoing_key : setup.incoming_key)
  const holding = useShown((view) => view.shown.holding)
  const matrix = useMemo(() => {
    const rows = (setup.zero_from_work ?? []).flat() as Parameters<THREE.Matrix4['set']>
    return new THREE.Matrix4().set(...rows)
  }, [setup])
  useMemo(() => solid && paintMakers(solid.surface), [solid])
  return (
    <>
      {solid && (
        <group matrixAutoUpdate={false} matrix={matrix}>
          <mesh geometry={solid.surface}>
            <meshLambertMaterial vertexColors polygonOffset polygonOffsetFactor={1} polygonOffsetUnits={1} />
          </mesh>
          {solid.lines && <Lines geometry={solid.lines} colour="#1E2A2F" opacity={0.8} />}
        </group>
      )}
      {holding && setup.hold?.key && <Holding hold={setup.hold} planes={NONE} />}
    </>
  )
}

/** Looks at all of it when it is first there. */
function Fitted({ boxes }: { boxes: THREE.Box3[] }) {
  const { camera, controls, size, invalidate } = useThree()
  useEffect(() => {
    if (!(camera instanceof THREE.OrthographicCamera) || boxes.length === 0) return
    const box = boxes.reduce((all, one) => all.union(one), new THREE.Box3())
    const middle = box.getCenter(new THREE.Vector3())
    camera.up.set(0, 0, 1)
    camera.position.copy(middle).add(new THREE.Vector3(0.25, -1, 0.72).normalize().multiplyScalar(1500))
    fitTo(camera, controls as unknown as Orbit, box, size, 60, 0.9)
    invalidate()
  }, [boxes.length, controls, size]) // eslint-disable-line react-hooks/exhaustive-deps
  useEffect(() => invalidate())
  return null
}
