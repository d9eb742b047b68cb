import * as THREE from 'three'
import type { Part, ProjectState, Report, Vec } from '../api/client'
import type { Sixteen } from './glb'

/** The part where it lies, for who has it once. */
export const ALONE = { name: '', pose: new THREE.Matrix4(), at: [0, 0, 0] as Vec }
export const pieceId = (name: string) => `piece-${name}`

/** The pieces in the work that is shown, where there are several: where each lies, and its middle. */
export function piecesShown(project: ProjectState, card: number | 'billet' | 'part') {
  const told = project.report?.pieces
  if (!told || card === 'part') return []
  const last = project.plan.setups.findIndex((one) => one.name === told.after)
  if (card !== 'billet' && last >= 0 && card > last) return []
  return told.names.map((name, n) => {
    const pose = new THREE.Matrix4().set(...((told.poses[n] ?? []).flat() as Sixteen))
    const [low, high] = [told.low, told.high].map((end) => new THREE.Vector3(...end)) as [
      THREE.Vector3,
      THREE.Vector3,
    ]
    const at = low.add(high).multiplyScalar(0.5).applyMatrix4(pose)
    return { name, pose, at: [at.x, at.y, at.z] as Vec }
  })
}

/** What lies in the billet, as if it were one part: the box of all pieces. */
export function inBillet(part: Part, report: Report | null | undefined): Part {
  if (!report?.pieces) return part
  const { low, high, margins } = report.billet
  const axes = ['x', 'y', 'z']
  return {
    ...part,
    low: low.map((one, d) => one + (margins[`${axes[d]}-`] ?? 0)) as Vec,
    high: high.map((one, d) => one - (margins[`${axes[d]}+`] ?? 0)) as Vec,
  }
}

/** The names of the pieces, over the picture. */
export function PieceNames({ of }: { of: { name: string }[] }) {
  return of.map((one) => (
    <div
      key={one.name}
      id={pieceId(one.name)}
      className="pointer-events-none absolute left-0 top-0"
      title={`piece ${one.name}`}
    >
      <div className="figures -translate-x-1/2 -translate-y-1/2 rounded-full border border-ink bg-sheet px-1.5 text-[11px]">
        {one.name}
      </div>
    </div>
  ))
}
