import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import {
  answered,
  api,
  type Part,
  type Problem,
  problemOf,
  type ProjectState,
  Refusal,
} from '../../api/client'
import type { Commit } from '../../api/hooks'
import { useAsking } from '../../state/asking'
import { useFields } from '../../state/fields'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { Computed, sentence } from '../../ui/Field'
import { Refused } from '../../ui/Refused'

type Meaning = { kind: string; low: number; high: number; said: string; source: string }

/** nominal: null for a face that has no size. */
const meaning = (text: string, nominal: number | null) =>
  answered<Meaning>(
    api.GET('/api/callout', { params: { query: nominal === null ? { text } : { text, nominal } } }),
  )

/** The size a face has, mm: its diameter; null where it has none. */
const sizeOf = (face: Part['faces'][number] | null | undefined) =>
  face?.radius != null && (face.kind === 'cylinder' || face.kind === 'sphere') ? 2 * face.radius : null
const called = (size: number | null, number: number) => (size === null ? `F${number}` : `Ø${round(size, 3)}`)

/** Tolerances, threads and roughness of faces, from the part’s file or typed, with what they mean. */
export function Callouts({
  project,
  part,
  commit,
}: {
  project: ProjectState
  part: Part | undefined
  commit: Commit
}) {
  const { picked } = useFields(useAsking, 'picked')
  const [problem, setProblem] = useState<Problem | null>(null)
  const { callouts } = project.plan.part
  const face = picked && part?.faces[picked.face]
  const size = sizeOf(face)
  const put = async (text: string) => {
    if (!face || !text.trim()) return
    try {
      await meaning(text, size)
    } catch (refusal) {
      setProblem(refusal instanceof Refusal ? refusal.problem : problemOf(refusal))
      return
    }
    setProblem(
      await commit(`tolerance ${text}`, (draft) => {
        draft.part.callouts = [
          ...draft.part.callouts.filter((one) => one.face.face !== face.number),
          { face: { face: face.number, at: face.centre }, text: text.trim() },
        ]
      }),
    )
  }
  // What is typed on a face wins over what the file carries on it.
  const carried = (part?.callouts ?? []).filter(
    (one) =>
      sizeOf(part?.faces[one.face]) !== null && !callouts.some((typed) => typed.face.face === one.face),
  )
  if (!callouts.length && !carried.length && !face) return null
  return (
    <section aria-label="Tolerances">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Tolerances, threads, roughness</h3>
      <ul className="text-[12.5px]">
        {carried.map((one) => (
          <Row key={`file ${one.face}`} face={one.face} text={one.text} size={sizeOf(part?.faces[one.face])}>
            <span className="text-soft">from the file</span>
          </Row>
        ))}
        {callouts.map((one) => (
          <Row
            key={`${one.face.face}`}
            face={one.face.face}
            text={one.text}
            size={sizeOf(part?.faces[one.face.face])}
          >
            <button
              type="button"
              className="text-soft underline"
              aria-label={`Drop ${one.text} of face ${one.face.face}`}
              onClick={() =>
                void commit(`without ${one.text}`, (draft) => {
                  draft.part.callouts = draft.part.callouts.filter(
                    (other) => other.face.face !== one.face.face,
                  )
                })
              }
            >
              drop
            </button>
          </Row>
        ))}
      </ul>
      {face && (
        <div className="mt-1 flex items-center gap-2 border-t border-rule pt-1">
          <span className="figures">{called(size, face.number)}</span>
          <input
            aria-label="Tolerance of the picked face"
            key={face.number}
            className="figures w-28 rounded-[3px] border border-rule bg-white px-2 py-1"
            placeholder={size === null ? 'Ra 1.6' : 'H7, ±0.05, M6'}
            defaultValue={
              callouts.find((one) => one.face.face === face.number)?.text ??
              carried.find((one) => one.face === face.number)?.text ??
              ''
            }
            onKeyDown={(event) => {
              if (event.key === 'Enter') void put(event.currentTarget.value)
              event.stopPropagation()
            }}
          />
          <span className="text-soft">Enter</span>
        </div>
      )}
      <Refused problem={problem} />
    </section>
  )
}

/** What is said of a face, and what it means. */
function Row(props: { face: number; text: string; size: number | null; children: ReactNode }) {
  return (
    <li className="flex items-baseline gap-2 border-t border-rule py-1">
      <button
        type="button"
        className="figures w-24 text-left hover:underline"
        onClick={() => useShown.setState({ lit: [props.face], seen: null })}
      >
        {called(props.size, props.face)} {props.text}
      </button>
      <span className="grow">
        <Meant text={props.text} nominal={props.size} />
      </span>
      {props.children}
    </li>
  )
}

function Meant({ text, nominal }: { text: string; nominal: number | null }) {
  const { data, error } = useQuery({
    queryKey: ['callout', text, nominal],
    queryFn: () => meaning(text, nominal === null ? null : Number(round(nominal, 6))),
    staleTime: Infinity,
    retry: false,
  })
  if (error)
    return (
      <span className="text-trouble">{sentence(problemOf((error as { problem?: unknown }).problem))}</span>
    )
  return <Computed>{data?.said}</Computed>
}
