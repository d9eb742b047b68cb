import * as THREE from 'three'

export type Orbit = { target: THREE.Vector3; update: () => void } | null

/** Zoom a camera that looks at a box's middle so that all of it is in the picture, turned about there from now on. spare: pixels kept free; share: of the room that is used. */
export function fitTo(
  camera: THREE.OrthographicCamera,
  orbit: Orbit,
  box: THREE.Box3,
  size: { width: number; height: number },
  spare: number,
  share: number,
) {
  const middle = box.getCenter(new THREE.Vector3())
  camera.lookAt(middle)
  camera.updateMatrixWorld()
  const inverse = camera.matrixWorldInverse.copy(camera.matrixWorld).invert()
  let [wide, tall] = [1, 1]
  for (let i = 0; i < 8; i += 1) {
    const corner = new THREE.Vector3(
      i & 1 ? box.max.x : box.min.x,
      i & 2 ? box.max.y : box.min.y,
      i & 4 ? box.max.z : box.min.z,
    ).applyMatrix4(inverse)
    wide = Math.max(wide, 2 * Math.abs(corner.x))
    tall = Math.max(tall, 2 * Math.abs(corner.y))
  }
  camera.zoom = Math.min(size.width / wide, (size.height - spare) / tall) * share
  camera.updateProjectionMatrix()
  orbit?.target.copy(middle)
  orbit?.update()
}
