import { useMemo } from 'react'
import * as THREE from 'three'
import type { Operation, SetupReport } from '../api/client'
import { Lines } from './Lines'

/** The box an operation cuts within, from the top of its stock to its foot. It lies in the operation's plane. */
export function Within(props: { operation: Operation | undefined; report: SetupReport | undefined }) {
  const { operation, report } = props
  const box = operation && 'within' in operation && operation.within === 'box' ? operation.box : null
  // How far the stock reaches is known as the work is seated.
  const seated = !operation?.position
  const [low, high] = seated ? [report?.low?.[2], report?.high?.[2]] : [0, 0]
  const geometry = useMemo(() => {
    if (!box || low === undefined || high === undefined) return null
    const [x0, y0, x1, y1] = box
    const corners: [number, number][] = [
      [x0, y0],
      [x1, y0],
      [x1, y1],
      [x0, y1],
    ]
    const points = corners.flatMap(([x, y], at) => {
      const [a, b] = corners[(at + 1) % 4] as [number, number]
      return [x, y, high, a, b, high, x, y, low, a, b, low, x, y, low, x, y, high]
    })
    return new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(points, 3))
  }, [box, low, high])
  return geometry && <Lines geometry={geometry} colour="#B0208A" opacity={0.9} through />
}
