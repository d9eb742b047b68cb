import { OrbitControls } from '@react-three/drei'
import { Canvas, useThree } from '@react-three/fiber'
import { useEffect, useMemo } from 'react'
import * as THREE from 'three'
import type { LoadReport, ProjectState } from '../api/client'
import { Follow } from '../bench/Axes'
import { fitTo, type Orbit } from '../bench/fitting'
import { useAwaited } from '../bench/glb'
import { LoadBodies } from './LoadBodies'

/** The load as it stands, all its works and holdings in one picture. */
export function LoadPicture(props: {
  project: ProjectState
  told: LoadReport
  outgoing: boolean
  late: boolean
}) {
  const { project, told, outgoing, late } = props
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
        <LoadBodies project={project} told={told} outgoing={outgoing} />
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
