import type { components } from './schema'
import type { ProjectState } from './client'

type Change = components['schemas']['Change']

/** Edits this page made of a project lately: of which revision, what became of it, and the places each touched; null where that is not known. */
type Made = { of: number; became: number; touched: string[] | null }

const made = new Map<number, Made[]>()
const last = new Map<number, Promise<unknown>>()
const KEPT = 20

/** The places that changes touch; one that ends in / as a whole, for what comes into a list or goes out of it moves the others. */
export const touched = (changes: Change[]) =>
  changes.map(({ op, path }) => (op === 'replace' ? path : path.slice(0, path.lastIndexOf('/') + 1)))

const within = (one: string, other: string) => `${one}/`.startsWith(other.replace(/\/?$/, '/'))

/** Whether an edit of one place leaves an edit of the other as it is, or is the later of two of one value. */
const apart = (one: string, other: string) =>
  one === other ? !one.endsWith('/') : !within(one, other) && !within(other, one)

/** What edits of this page made of a revision since, where each of them leaves alone what is touched (null: whatever they touch); else the revision itself. */
function since(id: number, revision: number, places: string[] | null): number {
  const all = made.get(id) ?? []
  // Taken back, a revision is the newest once more: what was made of it before is no more.
  if (all.at(-1)?.became === revision) return revision
  const after = all.slice(all.map((one) => one.of).lastIndexOf(revision))
  const goesOn = (one: Made, at: number) =>
    one.of === (after[at - 1]?.became ?? revision) &&
    (places === null || !!one.touched?.every((there) => places.every((here) => apart(there, here))))
  return after.every(goesOn) ? (after.at(-1)?.became ?? revision) : revision
}

/**
 * Make an edit once those of this page that are under way have been answered. It goes on from what they made of the
 * revision that is shown; where that is not to be, it is made of the revision shown, and refused where the plan has
 * moved on. places: what it touches, null for whatever is there.
 */
export async function inTurn(
  { id, revision }: ProjectState,
  places: string[] | null,
  edit: (based_on: number) => Promise<ProjectState>,
): Promise<ProjectState> {
  const before = last.get(id)
  const answer = (async () => {
    await before?.catch(() => undefined)
    const based_on = since(id, revision, places)
    const state = await edit(based_on)
    const mine = { of: based_on, became: state.revision, touched: places }
    made.set(id, [...(made.get(id) ?? []), mine].slice(-KEPT))
    return state
  })()
  last.set(id, answer)
  return answer
}
