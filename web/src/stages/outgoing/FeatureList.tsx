import type { Features } from '../../api/client'
import { useFeatures } from '../../api/hooks'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'

const way = (direction: readonly number[]) => {
  const axis = direction.findIndex((c) => Math.abs(Math.abs(c) - 1) < 1e-6)
  if (axis >= 0) return `${(direction[axis] ?? 0) > 0 ? '+' : '−'}${'xyz'[axis]}`
  return `(${direction.map((c) => round(c, 2)).join(' ')})`
}
const from = (sides: readonly (readonly number[])[]) =>
  sides.length === 0 ? 'no side' : sides.length > 4 ? `${sides.length} sides` : sides.map(way).join(' ')

type Line = { name: string; text: string; sides: string; faces: number[]; bad?: boolean }

/** Features of one kind that are alike, as one line with their number. */
function lines(found: Features): [string, Line[]][] {
  const holes = found.holes.map((hole) => ({
    name: `Ø${round(hole.diameter, 3)}`,
    text: `${hole.form === 'plain' ? '' : `${hole.form}, `}${hole.through ? 'through' : `${round(hole.depth, 2)} deep`}`,
    sides: from(hole.sides),
    faces: hole.stages.flatMap((stage) => stage.faces),
    bad: hole.sides.length === 0,
  }))
  const recesses = found.recesses.map((one) => ({
    name: one.kind,
    text: [
      `${round(one.depth, 2)} deep`,
      one.width != null ? `${round(one.width, 2)} wide` : '',
      one.corner_radius != null
        ? one.corner_radius === 0
          ? 'sharp corners'
          : `corners R${round(one.corner_radius, 2)}`
        : '',
      one.floor_radius != null ? `floor R${round(one.floor_radius, 2)}` : '',
      one.islands ? `${one.islands} islands` : '',
    ]
      .filter(Boolean)
      .join(', '),
    sides: from(one.sides),
    faces: [...(one.floor != null ? [one.floor] : []), ...one.walls, ...one.fillets],
    bad: one.corner_radius === 0 || one.sides.length === 0,
  }))
  const bosses = found.bosses.map((one) => ({
    name: one.diameter != null ? `boss Ø${round(one.diameter, 2)}` : 'boss',
    text: `${round(one.height, 2)} high`,
    sides: from(one.sides),
    faces: [...one.walls],
  }))
  const rounds = found.fillets.map((one) => ({
    name: `R${round(one.radius, 3)}`,
    text: one.hollow ? 'inner fillet' : 'rounded edge',
    sides: from(one.sides),
    faces: [...one.faces],
    bad: one.sides.length === 0,
  }))
  const chamfers = found.chamfers.map((one) => ({
    name: `chamfer ${round(one.width, 2)}`,
    text: `${round(one.angle_deg, 1)}°`,
    sides: from(one.sides),
    faces: [one.face],
  }))
  return [
    ['Holes', holes],
    ['Pockets, slots, steps', recesses],
    ['Bosses', bosses],
    ['Fillets and chamfers', [...rounds, ...chamfers]],
  ]
}

function alike(list: Line[]): (Line & { count: number })[] {
  const out = new Map<string, Line & { count: number }>()
  for (const one of list) {
    const key = `${one.name}|${one.text}|${one.sides}`
    const known = out.get(key)
    if (known) Object.assign(known, { count: known.count + 1, faces: [...known.faces, ...one.faces] })
    else out.set(key, { ...one, count: 1 })
  }
  return [...out.values()]
}

/** What is to be made of the part; pointing at a line shows its faces, a click keeps them shown. */
export function FeatureList({ sha256 }: { sha256: string | null | undefined }) {
  const { data } = useFeatures(sha256)
  const { lit } = useFields(useShown, 'lit')
  if (!data) return null
  return (
    <>
      {lines(data).map(
        ([title, list]) =>
          list.length > 0 && (
            <section key={title} aria-label={title}>
              <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">{title}</h3>
              <ul>
                {alike(list).map((one) => (
                  <li key={`${one.name}${one.text}${one.sides}`} className="border-t border-rule">
                    <button
                      type="button"
                      aria-pressed={lit.join() === one.faces.join()}
                      className={`figures grid w-full grid-cols-[7.2rem_1fr_auto] gap-2 py-1 text-left text-[12.5px] hover:bg-rail ${lit.join() === one.faces.join() ? 'bg-rail' : ''}`}
                      onClick={() =>
                        useShown.setState({
                          lit: lit.join() === one.faces.join() ? [] : one.faces,
                          seen: null,
                        })
                      }
                    >
                      <span>
                        {one.count > 1 && <span className="text-soft">{one.count} × </span>}
                        {one.name}
                      </span>
                      <span className="text-soft">{one.text}</span>
                      <span className={one.bad ? 'text-trouble' : 'text-action'}>
                        {one.bad && '◆ '}
                        {one.sides}
                      </span>
                    </button>
                  </li>
                ))}
              </ul>
            </section>
          ),
      )}
      {data.hidden.length > 0 && (
        <button
          type="button"
          className="hatch mt-3 w-full border border-trouble bg-sheet px-2 py-1 text-left text-trouble"
          onClick={() => useShown.setState({ lit: data.hidden.map(([face]) => face), seen: null })}
        >
          ◆ {data.hidden.length} {data.hidden.length === 1 ? 'face has' : 'faces have'} places that no
          straight tool reaches
        </button>
      )}
    </>
  )
}
