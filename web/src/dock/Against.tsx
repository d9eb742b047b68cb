import { useState } from 'react'
import { answered, api, type Problem, problemInstead, type Proof, type TextState } from '../api/client'
import { posted } from '../api/hooks'
import { useShown } from '../state/picture'
import { showMoment } from '../state/route'
import { Choice } from '../ui/Choice'
import { Computed } from '../ui/Field'
import { FileInput } from '../ui/FileInput'
import { Refused } from '../ui/Refused'
import { clock, round } from '../ui/words'

/** A text that another is set against. sha256: null for the written one. */
export type Other = { name: string; sha256: string | null; text: string }
const NOTHING = 'nothing'
const FILE = 'a file …'

/** Which other text of the setup the one that runs is set against, line by line, and what both cut. */
export function Against(props: {
  project: number
  setup: string
  written: string | undefined
  other: Other | null
  choose: (other: Other | null) => void
}) {
  const { other, written, choose } = props
  const [brought, setBrought] = useState<Other[]>([])
  const [asking, setAsking] = useState(false)
  const [found, setFound] = useState<Proof | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [busy, setBusy] = useState(false)
  const known: Other[] = [
    ...(written === undefined ? [] : [{ name: 'the written one', sha256: null, text: written }]),
    ...brought,
  ]
  const take = (next: Other | null) => {
    setFound(null)
    setProblem(null)
    setAsking(false)
    useShown.setState({ beside: null })
    choose(next)
  }
  const bring = async (file: File | undefined) => {
    if (!file) return
    const kept = await posted<TextState>('/api/texts', file)
    if ('code' in kept) {
      setProblem(kept)
      return
    }
    const next = { name: kept.name, sha256: kept.sha256, text: await file.text() }
    setBrought([...brought.filter((one) => one.name !== next.name), next])
    take(next)
  }
  const cut = async () => {
    if (!other) return
    setBusy(true)
    const came = await answered<Proof>(
      api.POST('/api/projects/{project_id}/against/{setup}', {
        params: { path: { project_id: props.project, setup: props.setup } },
        body: { sha256: other.sha256 },
      }),
    ).catch(problemInstead)
    setBusy(false)
    setProblem('code' in came ? came : null)
    if ('code' in came) return
    setFound(came)
    showMoment(Infinity)
    if (came.key)
      useShown.setState({
        beside: { key: came.key, name: `${props.setup} by ${other.name}` },
        marked: came.equal ? null : (came.place ?? null),
      })
  }
  return (
    <div className="contents" role="group" aria-label="Against">
      <span>against</span>
      <div className="w-36">
        <Choice
          label="Another text"
          value={other?.name ?? NOTHING}
          options={[NOTHING, ...known.map((one) => one.name), FILE].map((one) => ({
            value: one,
            label: one,
          }))}
          choose={(name) => {
            if (name === FILE) setAsking(true)
            else take(known.find((one) => one.name === name) ?? null)
          }}
        />
      </div>
      {asking && (
        <label className="cursor-pointer text-action underline">
          choose it
          <FileInput label="Another text file" accept=".nc,.txt,.tap,.ngc" take={bring} />
        </label>
      )}
      {other && !found && (
        <button type="button" className="knob !px-2 text-[12px]" disabled={busy} onClick={() => void cut()}>
          {busy ? 'cutting …' : 'and what they cut'}
        </button>
      )}
      {found && (
        <span role="status" aria-label="What they cut" className="order-last basis-full">
          <Computed>
            {round(found.most_mm ?? 0, 3)} mm apart, {round((found.left_mm3 ?? 0) / 1000, 3)} cm³ more,{' '}
            {round((found.gouged_mm3 ?? 0) / 1000, 3)} less, {clock(found.time_s ?? 0)}
          </Computed>
        </span>
      )}
      {problem && (
        <div className="order-last basis-full">
          <Refused problem={problem} />
        </div>
      )}
    </div>
  )
}
