import { useThree } from '@react-three/fiber'
import { useEffect } from 'react'
import * as THREE from 'three'
import { create } from 'zustand'

/** The camera of the picture, for handles of the page that are pulled in it. */
export const useCamera = create<{ camera: THREE.OrthographicCamera | null }>(() => ({ camera: null }))

/** Within the picture: tell its camera to the page. */
export function useTellCamera() {
  const camera = useThree((three) => three.camera)
  useEffect(() => {
    if (camera instanceof THREE.OrthographicCamera) useCamera.setState({ camera })
  }, [camera])
}

/** How far a millimetre of a way goes on the screen, pixels to the right and down. */
export function onScreen(camera: THREE.OrthographicCamera, way: THREE.Vector3): [number, number] {
  const right = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 0)
  const up = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 1)
  return [way.dot(right) * camera.zoom, -way.dot(up) * camera.zoom]
}
