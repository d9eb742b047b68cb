import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answered, api, type Problem, type Rules } from '../../api/client'
import { useChains, useKeptLibrary } from '../../api/hooks'
import { Segments } from '../../ui/Choice'
import { NumberRow, Row } from '../../ui/Field'
import { freeId } from '../../ui/free'
import { LibraryDialog } from '../../ui/LibraryDialog'
import { TextField } from '../../ui/TextField'
import { round } from '../../ui/words'

type Chain = Rules['chains'][number]
type Step = Chain['steps'][number]
type Fit = Chain['fit']

const STEPS: Record<Step, string> = {
  spot: 'spot',
  pilot: 'pilot',
  drill: 'drill',
  ream: 'ream',
  tap: 'tap',
  thread_mill: 'mill thread',
  mill: 'mill',
  finish: 'finish wall',
  bore: 'bore',
}
const FITS: Record<Fit, string> = { thread: 'threads', close: 'close holes', plain: 'plain holes' }

const facts = (one: Chain) =>
  `Ø${round(one.from_mm)}–${round(one.to_mm)}${one.deeper_than ? `, over ${round(one.deeper_than)}×Ø deep` : ''}`

/** How the shop makes holes: its chains, the one that is tried first first, and the numbers they go by. */
export function Chains({ close }: { close: () => void }) {
  const { data: rules } = useChains()
  const queries = useQueryClient()
  const kept = useKeptLibrary()
  const [fit, setFit] = useState('all')
  const [text, setText] = useState('')
  const [open, setOpen] = useState<string | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  if (!rules) return null
  const keep = async (answer: Promise<Rules>) => {
    const refused = await kept('chains', answer)
    if (!refused) void queries.invalidateQueries({ queryKey: ['cuttable'] })
    return refused
  }
  const put = (next: Rules) => keep(answered<Rules>(api.PUT('/api/chains', { body: next })))
  const putChains = async (chains: Chain[]) => {
    const refused = await put({ ...rules, chains })
    setProblem(refused)
    return refused
  }
  const asShipped = async () => setProblem(await keep(answered<Rules>(api.DELETE('/api/chains'))))
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const shown = rules.chains.filter(
    (one) =>
      (fit === 'all' || one.fit === fit) &&
      words.every((word) =>
        `${one.called} ${one.steps.map((step) => STEPS[step]).join(' ')}`.toLowerCase().includes(word),
      ),
  )
  const chosen = rules.chains.find((one) => one.id === open)
  const change = (told: Partial<Chain>) =>
    put({ ...rules, chains: rules.chains.map((one) => (one.id === open ? { ...one, ...told } : one)) })
  const another = async (of: Chain) => {
    const id = freeId(
      of.id,
      rules.chains.map((one) => one.id),
    )
    const at = rules.chains.indexOf(of)
    const chains = [...rules.chains]
    chains.splice(at, 0, { ...of, id, called: `${of.called}, another`.slice(0, 60) })
    if (!(await putChains(chains))) setOpen(id)
  }
  const moved = (by: number) => {
    // Past the next one of the same fit: those between are asked for other holes.
    const own = rules.chains.filter((one) => one.fit === chosen?.fit)
    const other = own[own.findIndex((one) => one.id === open) + by]
    if (!chosen || !other) return
    const chains = rules.chains.map((one) =>
      one.id === chosen.id ? other : one.id === other.id ? chosen : one,
    )
    void putChains(chains)
  }
  return (
    <LibraryDialog
      title="How holes are made"
      wide="1080px"
      columns="8rem 21rem minmax(0, 1fr)"
      close={close}
      problem={problem}
      search={{ label: 'Search chains', hint: 'ream, pilot, M …', text, type: setText }}
      kinds={{
        label: 'Kinds of hole',
        all: Object.entries(FITS).map(([value, called]) => ({ value, called })),
        chosen: fit,
        choose: setFit,
      }}
      actions={
        <>
          <button
            type="button"
            className="text-[12.5px] text-action underline"
            onClick={() => {
              setOpen(null)
              void asShipped()
            }}
          >
            back to what ships
          </button>
          <a
            className="text-[12.5px] text-action underline"
            href="/api/chains"
            download="chains.json"
            title="for bin/pelvrak operations --chains"
          >
            save as JSON
          </a>
        </>
      }
    >
      <ol aria-label="Chains there are" className="h-[560px] overflow-auto border-r border-rule">
        <li className="border-b border-rule">
          <button
            type="button"
            aria-current={!chosen}
            className={`w-full px-3 py-1.5 text-left font-semibold ${chosen ? 'hover:bg-rail' : 'bg-rail'}`}
            onClick={() => setOpen(null)}
          >
            What all of them go by
          </button>
        </li>
        {shown.map((one) => (
          <li key={one.id} className="border-b border-rule">
            <button
              type="button"
              aria-current={one.id === open}
              aria-label={one.called}
              className={`w-full px-3 py-1 text-left ${one.id === open ? 'bg-rail' : 'hover:bg-rail'}`}
              onClick={() => setOpen(one.id)}
            >
              <span className="block truncate font-semibold">{one.called}</span>
              <span className="figures block truncate text-[11.5px] text-soft">
                {facts(one)}: {one.steps.map((step) => STEPS[step]).join(', ')}
              </span>
            </button>
          </li>
        ))}
        {shown.length === 0 && <li className="p-3 text-soft">None like that.</li>}
      </ol>
      <div className="overflow-auto p-3">
        {chosen ? (
          <ChainEditor
            key={chosen.id}
            chain={chosen}
            change={change}
            moved={moved}
            another={() => void another(chosen)}
            remove={async () => {
              if (!(await putChains(rules.chains.filter((one) => one.id !== open)))) setOpen(null)
            }}
          />
        ) : (
          <Numbers rules={rules} put={put} />
        )}
      </div>
    </LibraryDialog>
  )
}

type Change = (told: Partial<Chain>) => Promise<Problem | null>

function ChainEditor(props: {
  chain: Chain
  change: Change
  moved: (by: number) => void
  another: () => void
  remove: () => Promise<void>
}) {
  const { chain, change } = props
  return (
    <div role="form" aria-label="Chain">
      <Row label="Called">
        <TextField label="Called" value={chain.called} commit={(called) => change({ called })} />
      </Row>
      <Steps chain={chain} change={change} />
      <NumberRow
        label="From Ø"
        help="of the narrowest stage of the hole"
        value={chain.from_mm}
        unit="mm"
        commit={(from_mm) => change({ from_mm })}
      />
      <NumberRow label="To Ø" value={chain.to_mm} unit="mm" commit={(to_mm) => change({ to_mm })} />
      <NumberRow
        label="Deeper than"
        help="only holes deeper than so many diameters; 0: any"
        value={chain.deeper_than}
        unit="× Ø"
        measure=""
        commit={(deeper_than) => change({ deeper_than })}
      />
      <Row label="Source" help="where the rule is from">
        <TextField label="Source" value={chain.source} commit={(source) => change({ source })} />
      </Row>
      <div className="mt-3 flex flex-wrap gap-1.5">
        <button type="button" className="knob" onClick={() => props.moved(-1)}>
          Try it earlier
        </button>
        <button type="button" className="knob" onClick={() => props.moved(1)}>
          Try it later
        </button>
        <button type="button" className="knob" onClick={props.another}>
          Another like it
        </button>
        <button type="button" className="knob" onClick={() => void props.remove()}>
          Take it out
        </button>
      </div>
    </div>
  )
}

/** The steps of a chain and what it is for: both are told at once, for the last step is what the hole is to be. */
function Steps({ chain, change }: { chain: Chain; change: Change }) {
  const [draft, setDraft] = useState<Pick<Chain, 'fit' | 'steps'>>({ fit: chain.fit, steps: chain.steps })
  const [problem, setProblem] = useState<Problem | null>(null)
  const told = async (next: Partial<typeof draft>) => {
    const whole = { ...draft, ...next }
    setDraft(whole)
    setProblem(await change(whole))
  }
  const swap = (at: number) => {
    const steps = [...draft.steps]
    ;[steps[at - 1], steps[at]] = [steps[at] as Step, steps[at - 1] as Step]
    void told({ steps })
  }
  const left = (Object.keys(STEPS) as Step[]).filter((step) => !draft.steps.includes(step))
  return (
    <>
      <Row label="For">
        <Segments<Fit>
          label="For which holes"
          value={draft.fit}
          options={(Object.keys(FITS) as Fit[]).map((value) => ({ value, label: FITS[value] }))}
          choose={(fit) => void told({ fit })}
        />
      </Row>
      <Row
        label="Steps"
        help="one after the other; each removes what the next expects"
        below={
          problem && (
            <p role="alert" className="text-[12.5px] text-trouble">
              {problem.what.charAt(0).toUpperCase() + problem.what.slice(1)}. Not kept yet.
            </p>
          )
        }
      >
        <ol aria-label="Steps of the chain">
          {draft.steps.map((step, at) => (
            <li key={step} className="flex items-center gap-1.5 border-b border-rule/60 py-0.5 last:border-0">
              <span className="figures w-4 text-[11.5px] text-soft">{at + 1}</span>
              <span className="grow">{STEPS[step]}</span>
              <button
                type="button"
                aria-label={`${STEPS[step]} earlier`}
                disabled={at === 0}
                className="knob !px-1.5 text-[12px] disabled:opacity-30"
                onClick={() => swap(at)}
              >
                ↑
              </button>
              <button
                type="button"
                aria-label={`Without ${STEPS[step]}`}
                className="knob !px-1.5 text-[12px]"
                onClick={() => void told({ steps: draft.steps.filter((one) => one !== step) })}
              >
                ×
              </button>
            </li>
          ))}
        </ol>
        <div className="mt-1 flex flex-wrap gap-1">
          {left.map((step) => (
            <button
              key={step}
              type="button"
              aria-label={`Then ${STEPS[step]}`}
              className="knob !px-1.5 text-[12px]"
              onClick={() => void told({ steps: [...draft.steps, step] })}
            >
              + {STEPS[step]}
            </button>
          ))}
        </div>
      </Row>
    </>
  )
}

function Numbers({ rules, put }: { rules: Rules; put: (next: Rules) => Promise<Problem | null> }) {
  const number = (
    field: 'peck_over' | 'peck_share' | 'pilot_share' | 'pilot_wider_mm' | 'plain_under_mm' | 'leave_mm',
    label: string,
    unit: string,
    help: string,
  ) => (
    <NumberRow
      label={label}
      help={help}
      value={rules[field]}
      unit={unit}
      measure={unit === 'mm' ? 'mm' : ''}
      commit={(value) => put({ ...rules, [field]: value })}
    />
  )
  return (
    <div role="form" aria-label="What all chains go by">
      <NumberRow
        label="Close from IT"
        help="a hole whose limits lie no further apart than this grade of ISO 286-1 is a close one"
        value={rules.close_to_grade}
        unit=""
        commit={(close_to_grade) => put({ ...rules, close_to_grade: Math.round(close_to_grade) })}
      />
      {number('peck_over', 'Pecks over', '× Ø', 'deeper than so many diameters is drilled by pecks')}
      {number('peck_share', 'Each peck', '× Ø', 'how deep a peck goes')}
      {number('pilot_share', 'Pilot', '× Ø deep', 'how deep a pilot goes')}
      {number('pilot_wider_mm', 'Pilot wider', 'mm', 'up to so much wider than the drill that follows')}
      {number('plain_under_mm', 'Plain under', 'mm', 'a plain hole may be drilled so much under its size')}
      {number('leave_mm', 'For the wall', 'mm', 'what the mill leaves on a wall that is finished')}
      <Row label="For reamers" help="what a drill leaves on the diameter, by the hole’s diameter">
        <ul aria-label="Left to a reamer" className="figures">
          {rules.reaming.map((one, at) => (
            <li key={one.to_mm} className="flex items-baseline gap-2 py-0.5">
              <span className="w-24 text-soft">up to Ø{round(one.to_mm)}</span>
              <span className="w-32">
                <TextField
                  label={`Left to a reamer up to Ø${round(one.to_mm)}`}
                  value={round(one.allowance_mm)}
                  commit={(text) =>
                    put({
                      ...rules,
                      reaming: rules.reaming.map((row, i) =>
                        i === at ? { ...row, allowance_mm: Number(text.replace(',', '.')) } : row,
                      ),
                    })
                  }
                />
              </span>
              <span className="text-soft">mm</span>
            </li>
          ))}
        </ul>
      </Row>
    </div>
  )
}
