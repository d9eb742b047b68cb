import { useEffect, useState } from 'react'
import * as THREE from 'three'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import { acceleratedRaycast } from 'three-mesh-bvh'
import { create } from 'zustand'
import { type Billet, type Hold, pieceUrl, type Plan } from '../api/client'
import { HUES } from '../ui/words'

THREE.Mesh.prototype.raycast = acceleratedRaycast

/** A 4×4 row by row. */
export type Sixteen = Parameters<THREE.Matrix4['set']>

export type Solid = { surface: THREE.BufferGeometry; lines: THREE.BufferGeometry | null }
const loaded = new Map<string, Promise<Solid>>()

/** Positions of a quantised geometry as plain floats in mm. */
function plain(mesh: THREE.Mesh | THREE.LineSegments): THREE.BufferGeometry {
  const geometry = mesh.geometry
  const from = geometry.getAttribute('position')
  const out = new Float32Array(from.count * 3)
  const point = new THREE.Vector3()
  mesh.updateMatrixWorld(true)
  for (let i = 0; i < from.count; i += 1) {
    point.fromBufferAttribute(from, i).applyMatrix4(mesh.matrixWorld)
    out.set([point.x, point.y, point.z], 3 * i)
  }
  geometry.setAttribute('position', new THREE.BufferAttribute(out, 3))
  return geometry
}

async function load(url: string): Promise<Solid> {
  const { scene } = await new GLTFLoader().loadAsync(url)
  scene.updateMatrixWorld(true)
  let surface: THREE.BufferGeometry | undefined
  let lines: THREE.BufferGeometry | null = null
  scene.traverse((node) => {
    if (node instanceof THREE.LineSegments) lines = plain(node)
    else if (node instanceof THREE.Mesh) surface = plain(node)
  })
  if (!surface) throw new Error('no surface in the picture')
  surface.computeBoundingBox()
  return { surface, lines }
}

/** How many pictures are on their way. */
export const useAwaited = create(() => ({ pictures: 0 }))
const awaited = (more: number) => useAwaited.setState(({ pictures }) => ({ pictures: pictures + more }))

function fetched(url: string): Promise<Solid> {
  let waiting = loaded.get(url)
  if (!waiting) {
    awaited(1)
    waiting = load(url).finally(() => awaited(-1))
    loaded.set(url, waiting)
    if (loaded.size > 40) loaded.delete(loaded.keys().next().value ?? '')
    waiting.catch(() => loaded.delete(url))
  }
  return waiting
}

/** A solid of the results; the last one stays while the next is fetched. */
export const useSolid = (key: string | null | undefined) => usePicture(key, 'surface.glb')

/** A picture of the results, by the piece's name. */
export function usePicture(
  key: string | null | undefined,
  piece: 'surface.glb' | 'contacts.glb',
): Solid | null {
  return useFetched(key ? pieceUrl(key, piece) : null)
}

/** The solid at an address; the last one stays while the next is fetched. */
function useFetched(url: string | null): Solid | null {
  const [solid, setSolid] = useState<Solid | null>(null)
  useEffect(() => {
    if (!url) {
      setSolid(null)
      return
    }
    let alive = true
    fetched(url)
      .then((one) => alive && setSolid(one))
      .catch(() => alive && setSolid(null))
    return () => {
      alive = false
    }
  }, [url])
  return solid
}

/** The billet as the plan says it, drawn at once by the server while its route is still to be computed. */
export function useBillet(
  billet: Billet | null,
  pieces: Plan['pieces'],
  sha256: string | null | undefined,
): Solid | null {
  const round = pieces ? `&pieces=${encodeURIComponent(JSON.stringify(pieces))}` : ''
  return useFetched(
    billet && billet.kind !== 'stock' && sha256
      ? `/api/parts/${sha256}/billet.glb?billet=${encodeURIComponent(JSON.stringify(billet))}${round}`
      : null,
  )
}

/** A holding as the plan says it, or as it is typed, drawn at once by the server round the stock it knows. */
export function useTypedHold(project: number, setup: string, hold: Hold | null): Solid | null {
  return useFetched(
    hold && !hold.items.some((one) => one.cut)
      ? `/api/projects/${project}/holding.glb?setup=${setup}&hold=${encodeURIComponent(JSON.stringify(hold))}`
      : null,
  )
}

/**
 * The stock so many seconds into an operation. While the wanted moment moves on, one picture is fetched at
 * a time and the last one stays; `behind` says that it is not yet the wanted one.
 */
export function useStockAt(key: string | null | undefined, seconds: number | undefined) {
  const [shown, setShown] = useState<{ url: string; solid: Solid } | null>(null)
  const [busy, setBusy] = useState(false)
  const url = key && seconds !== undefined ? `${pieceUrl(key, 'moment')}?seconds=${seconds.toFixed(2)}` : null
  useEffect(() => {
    if (!url || busy || shown?.url === url) return
    setBusy(true)
    fetched(url)
      .then((solid) => setShown({ url, solid }))
      .catch(() => undefined)
      .finally(() => setBusy(false))
  }, [url, busy, shown])
  if (!url) return { solid: null, behind: false }
  return { solid: shown?.solid ?? null, behind: shown?.url !== url }
}

const METAL = new THREE.Color('#D9DBDA')
const BILLET = new THREE.Color('#B9C2C6')
/** 60 % hue over light metal, mixed as the screen's own colour-mix does (in sRGB). */
const MIXED = HUES.map((hue) => {
  const a = new THREE.Color(hue).convertLinearToSRGB()
  return a.lerp(METAL.clone().convertLinearToSRGB(), 0.4).convertSRGBToLinear()
})

/** Colour every vertex by its maker: setup hue over light metal, billet pale slate. */
export function paintMakers(geometry: THREE.BufferGeometry) {
  const label = geometry.getAttribute('_label')
  const out = new Float32Array(label.count * 3)
  for (let i = 0; i < label.count; i += 1) {
    const setup = (label.getX(i) >> 8) - 1
    const colour = setup < 0 ? BILLET : (MIXED[setup % MIXED.length] ?? BILLET)
    out.set([colour.r, colour.g, colour.b], 3 * i)
  }
  geometry.setAttribute('color', new THREE.BufferAttribute(out, 3))
}

/** Steps of the comparison scale: from cut into (vermilion) through fits (light) to left on (blue), colour-blind safe. */
export const SCALE: [number, string, string][] = [
  [-0.5, '#8C2D04', 'cut into 0.5 and more'],
  [-0.07, '#E08A5B', 'cut into'],
  [0.07, '#ECEAE2', 'fits'],
  [0.5, '#A6CBE3', 'left on'],
  [2, '#3F8DBF', 'left on over 0.5'],
  [Infinity, '#08457A', 'left on over 2'],
]

const SPAN_MM = 3
const BANDS = 1200

/** The scale as a strip of colours over ±SPAN_MM, so that steps are sharp within a triangle. */
export const scaleStrip = (() => {
  const data = new Uint8Array(BANDS * 4)
  for (let i = 0; i < BANDS; i += 1) {
    const value = ((i + 0.5) / BANDS - 0.5) * 2 * SPAN_MM
    const code = SCALE.find(([limit]) => value <= limit)?.[1] ?? '#000000'
    data.set([1, 3, 5].map((at) => parseInt(code.slice(at, at + 2), 16)).concat(255), 4 * i)
  }
  const strip = new THREE.DataTexture(data, BANDS, 1)
  strip.colorSpace = THREE.SRGBColorSpace
  strip.needsUpdate = true
  return strip
})()

/** Place every vertex on the scale's strip by its signed distance to the part. */
export function paintDistance(geometry: THREE.BufferGeometry) {
  const value = geometry.getAttribute('_value')
  if (!value) return
  const out = new Float32Array(value.count * 2)
  for (let i = 0; i < value.count; i += 1)
    out[2 * i] = Math.min(1, Math.max(0, value.getX(i) / (2 * SPAN_MM) + 0.5))
  geometry.setAttribute('uv', new THREE.BufferAttribute(out, 2))
}

/** Steps of what the spindle sees of a face: all, some, none. */
export const SEEN: [number, string, string][] = [
  [0.97, '#9CC7B4', 'seen from the spindle'],
  [0.03, '#E6C98A', 'seen in part'],
  [-1, '#C98B76', 'not seen'],
]

/** What stops a tool at a place of the part, in the order the core numbers it. */
export const REACHED: [string, string][] = [
  ['#9CC7B4', 'reached'],
  ['#D9A15B', 'the part is in the way'],
  ['#8A6FA8', 'the holding is in the way'],
  ['#5B7FA6', 'past the travels'],
  ['#BDBBB4', 'looks away'],
]

/** Colour every vertex by what stops the tool there. */
export function paintReached(geometry: THREE.BufferGeometry) {
  const shade = REACHED.map(([code]) => new THREE.Color(code))
  const label = geometry.getAttribute('_label')
  const out = new Float32Array(label.count * 3)
  for (let i = 0; i < label.count; i += 1) {
    const colour = shade[label.getX(i)]
    if (colour) out.set([colour.r, colour.g, colour.b], 3 * i)
  }
  geometry.setAttribute('color', new THREE.BufferAttribute(out, 3))
}

/** Colour every vertex of the part: light, by what is seen, and the faces pointed at in action colour. */
export function paintFaces(
  geometry: THREE.BufferGeometry,
  lit: readonly (number | null | undefined)[],
  seen: readonly number[] | null,
) {
  const shade = SEEN.map(([, code]) => new THREE.Color(code))
  const label = geometry.getAttribute('_label')
  const out = new Float32Array(label.count * 3)
  const light = new THREE.Color('#E4E2DA')
  const chosen = new THREE.Color('#5FA3AD')
  for (let i = 0; i < label.count; i += 1) {
    const face = label.getX(i)
    const share = seen?.[face]
    const plain = share === undefined ? light : (shade[SEEN.findIndex(([least]) => share >= least)] ?? light)
    const colour = lit.includes(face) ? chosen : plain
    out.set([colour.r, colour.g, colour.b], 3 * i)
  }
  geometry.setAttribute('color', new THREE.BufferAttribute(out, 3))
}
