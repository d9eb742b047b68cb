import type * as THREE from 'three'
import { create } from 'zustand'

/** The camera of the picture, for handles of the page that are pulled in it. */
export const useCamera = create<{ camera: THREE.OrthographicCamera | null }>(() => ({ camera: null }))
