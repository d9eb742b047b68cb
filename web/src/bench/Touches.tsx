import { useMemo } from 'react'
import * as THREE from 'three'
import type { OperationReport, SetupReport, Vec } from '../api/client'
import { Follow, OnScreen } from './Axes'

const INK = '#1E2A2F'

/** Operations that touch, whose touches are shown: all where registers are looked at, else the one that is open. */
export const touching = (setup: SetupReport | undefined, stage: string, open: string) =>
  (setup?.operations ?? []).filter(
    (one) => one.probe && (stage === 'reach' || stage === 'seat' || (stage === 'cut' && one.id === open)),
  )

const labelId = (run: string) => `touches-${run}`

/** Where a probe touches: an arrow onto each place, work frame. */
export function Touches({ of }: { of: OperationReport[] }) {
  return of.map((one) => (
    <group key={one.run}>
      {one.probe?.touches.map((touch, n) => (
        <Arrow key={n} at={touch.at} way={touch.way} />
      ))}
      {one.probe?.touches[0] && <Follow id={labelId(one.run)} at={one.probe.touches[0].at} />}
    </group>
  ))
}

function Arrow({ at, way }: { at: Vec; way: Vec }) {
  const turn = useMemo(
    () => new THREE.Quaternion().setFromUnitVectors(new THREE.Vector3(0, 1, 0), new THREE.Vector3(...way)),
    [way],
  )
  return (
    <OnScreen at={at}>
      <group quaternion={turn}>
        <mesh position={[0, -0.42, 0]} renderOrder={7}>
          <cylinderGeometry args={[0.03, 0.03, 0.5, 6]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
        <mesh position={[0, -0.12, 0]} renderOrder={7}>
          <coneGeometry args={[0.1, 0.24, 10]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
        <mesh position={[0, -0.72, 0]} renderOrder={7}>
          <sphereGeometry args={[0.09, 12, 8]} />
          <meshBasicMaterial color={INK} depthTest={false} transparent />
        </mesh>
      </group>
    </OnScreen>
  )
}

/** What each sets, over the picture. */
export const TouchLabels = ({ of }: { of: OperationReport[] }) => (
  <>
    {of.map((one) => (
      <div key={one.run} id={labelId(one.run)} className="pointer-events-none absolute left-0 top-0">
        <div className="-translate-x-[105%] -translate-y-[130%] whitespace-nowrap border border-rule bg-sheet px-1 text-[11px]">
          {one.name}
          {one.probe?.sets && (
            <span className="figures">{` → ${one.probe.sets} ${one.probe.axes.join(' ')}`}</span>
          )}
        </div>
      </div>
    ))}
  </>
)
