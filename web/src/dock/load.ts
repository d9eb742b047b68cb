export type Loads = { seconds: number; removal: number[]; width: number[]; depth: number[] }

/** What the tool was doing at a moment of its operation. */
export function loadAt(text: string | undefined, seconds: number) {
  if (!text) return undefined
  const loads = JSON.parse(text) as Loads
  const bin = Math.min(
    loads.removal.length - 1,
    Math.floor((seconds / Math.max(loads.seconds, 1e-9)) * loads.removal.length),
  )
  return { removal: loads.removal[bin] ?? 0, width: loads.width[bin] ?? 0, depth: loads.depth[bin] ?? 0 }
}
