import { useState } from 'react'
import type { Part, Rest, Zero } from '../../api/client'
import { useAsking } from '../../state/asking'
import { useShown } from '../../state/picture'
import { round } from '../../ui/words'
import { Choice, Segments } from '../../ui/Choice'
import { Computed, NumberField, Row } from '../../ui/Field'
import { onTopOf } from './zero'

type Edit = (
  what: string,
  next: (own: Zero) => void,
) => ReturnType<Parameters<typeof NumberField>[0]['commit']>

const NOTHING = { hole: null, faces: [], edge: null, item: '', parts: [] } as const
const AXES = ['x', 'y', 'z'] as const
/** What can be said of a zero in one word, with nothing to pick. */
const PLAIN: Zero['of'][] = ['incoming', 'billet', 'part', 'holding', 'jaws']

/** A zero whose axes all come from one thing, each on its own from then on. */
const apart = (zero: Zero): Zero['parts'] => {
  const { of, x, y, z } = zero
  const plain = PLAIN.includes(of) ? of : 'incoming'
  return AXES.map((axis) => ({
    axes: [axis],
    zero: { ...onTopOf(plain), x, y, z },
  }))
}

/** Where one zero is: on what, which place of it, and how far from there. */
export function ZeroEditor(props: {
  zero: Zero
  part: Part | undefined
  change: Edit
  /** Items of the holding that a zero can be on. */
  items?: readonly { id: string }[] | undefined
  /** The axis it gives, where others give the rest. */
  only?: (typeof AXES)[number]
}) {
  const { zero, part, change, only } = props
  const items = props.items ?? []
  const boxed = ['billet', 'part', 'incoming', 'jaws', 'piece'].includes(zero.of)
  const spoken = (label: string) => (only ? `${only.toUpperCase()}: ${label.toLowerCase()}` : label)
  const choose = (of: Zero['of']) => {
    if (of === 'several')
      void change('zero by several things', (own) => {
        const parts = apart(own)
        Object.assign(own, { ...NOTHING, of, parts })
      })
    else if (of === 'piece')
      void change(`zero on ${items[0]?.id ?? ''}`, (own) =>
        Object.assign(own, { ...NOTHING, of, item: items[0]?.id ?? '' }),
      )
    else if (of === 'rim')
      useAsking.setState({
        asked: {
          kind: 'edge',
          prompt: 'Pick the round edge that zero is in the middle of',
          serves: (edge) => (edge.kind === 'circle' ? null : 'this edge is not round'),
          take: (edge) => void change('zero in a rim', (own) => Object.assign(own, { ...NOTHING, of, edge })),
        },
      })
    else if (of === 'hole')
      useAsking.setState({
        asked: {
          kind: 'face',
          prompt: 'Pick the wall of the hole or boss that zero is over',
          serves: (face) =>
            face.kind === 'cylinder' || face.kind === 'cone' ? null : `a ${face.kind} has no axis`,
          take: (hole) => void change('zero on hole', (own) => Object.assign(own, { ...NOTHING, of, hole })),
        },
      })
    else if (of === 'faces') askFace([])
    else if (of === 'vertex')
      useAsking.setState({
        asked: {
          kind: 'vertex',
          prompt: 'Pick the corner that zero is on',
          take: (edge, end) =>
            void change('zero on corner', (own) => Object.assign(own, { ...NOTHING, of, edge, end })),
        },
      })
    else void change(`zero on ${of}`, (own) => Object.assign(own, { ...NOTHING, of }))
  }
  const askFace = (before: Zero['faces']) =>
    useAsking.setState({
      asked: {
        kind: 'face',
        prompt: before.length ? 'Pick the next plane face' : 'Pick the first plane face that zero lies in',
        serves: (face) => (face.normal ? null : `a ${face.kind} is not plane`),
        take: (face) =>
          void change('zero on faces', (own) =>
            Object.assign(own, { ...NOTHING, of: 'faces', faces: [...before, face] }),
          ),
      },
    })
  return (
    <>
      <Row label={only ? `${only.toUpperCase()} from` : 'On'}>
        <Choice
          label={spoken('Zero on')}
          value={zero.of}
          options={[
            { value: 'incoming', label: 'incoming stock' },
            { value: 'billet', label: 'billet' },
            { value: 'part', label: 'part' },
            { value: 'hole', label: 'axis of a hole or boss' },
            { value: 'faces', label: 'where faces meet' },
            { value: 'vertex', label: 'a corner' },
            { value: 'rim', label: 'the middle of a rim' },
            { value: 'holding', label: 'the fixed jaw' },
            { value: 'jaws', label: 'between the jaws' },
            ...(items.length ? [{ value: 'piece' as const, label: 'a piece of the holding' }] : []),
            ...(only ? [] : [{ value: 'several' as const, label: 'each axis by itself' }]),
          ]}
          choose={choose}
        />
      </Row>
      {zero.of === 'piece' && (
        <Row label="Piece">
          <Choice
            label={spoken('Piece zero is on')}
            value={zero.item}
            options={items.map((one) => ({ value: one.id, label: one.id }))}
            choose={(item) => void change(`zero on ${item}`, (own) => (own.item = item))}
          />
        </Row>
      )}
      {zero.of === 'rim' && zero.edge && (
        <Row label="Rim">
          <Computed>edge {zero.edge.edge}: its middle gives X, Y and Z</Computed>
        </Row>
      )}
      {zero.of === 'several' &&
        zero.parts.map((one, i) => (
          <div key={one.axes.join()} className="border-l-2 border-rule pl-2">
            <ZeroEditor
              zero={one.zero}
              part={part}
              items={items}
              only={AXES[i] ?? 'x'}
              change={(what, next) =>
                change(what, (own) => {
                  const mine = own.parts[i]
                  if (mine) next(mine.zero)
                })
              }
            />
          </div>
        ))}
      {zero.of === 'faces' && (
        <Row label="Faces">
          <div className="flex flex-wrap items-center gap-2">
            <Computed>{zero.faces.map((ref) => `F${ref.face}`).join(' × ')}</Computed>
            {zero.faces.length < 3 && (
              <button type="button" className="knob" onClick={() => askFace(zero.faces)}>
                Pick another
              </button>
            )}
          </div>
        </Row>
      )}
      {zero.of === 'hole' && zero.hole && part && (
        <Row label="Hole">
          <Computed>{holeText(part, zero.hole.face)}</Computed>
        </Row>
      )}
      {zero.of === 'vertex' && (
        <Row label="Corner">
          <Computed>
            end of edge {zero.edge?.edge}, {zero.end ? 'far' : 'near'}
          </Computed>
        </Row>
      )}
      {boxed && only && only !== 'z' && (
        <Row label="Where">
          <Segments
            label={spoken('Zero side')}
            value={zero[only]}
            options={[
              { value: -1, label: only === 'x' ? 'left' : 'front' },
              { value: 0, label: 'middle' },
              { value: 1, label: only === 'x' ? 'right' : 'back' },
            ]}
            choose={(side) => void change(`zero ${only}`, (own) => (own[only] = side))}
          />
        </Row>
      )}
      {boxed && !only && (
        <Row label="Where">
          <ZeroPad
            zero={zero}
            choose={(x, y) => void change('zero place', (own) => Object.assign(own, { x, y }))}
          />
        </Row>
      )}
      {zero.of === 'holding' && (!only || only === 'x') && (
        <Row label="Along the jaw">
          <Segments
            label="Zero along the jaw"
            value={zero.x}
            options={[
              { value: -1, label: 'left end' },
              { value: 0, label: 'middle' },
              { value: 1, label: 'right end' },
            ]}
            choose={(x) => void change('zero along the jaw', (own) => (own.x = x))}
          />
        </Row>
      )}
      {!['vertex', 'rim', 'several'].includes(zero.of) && (!only || only === 'z') && (
        <Row label="Height">
          <Segments
            label={spoken('Zero height')}
            value={zero.z}
            options={
              zero.of === 'holding' || zero.of === 'jaws'
                ? [
                    { value: 1, label: 'jaw top' },
                    { value: -1, label: 'what it rests on' },
                  ]
                : [
                    { value: 1, label: 'top' },
                    { value: 0, label: 'middle' },
                    { value: -1, label: 'bottom' },
                  ]
            }
            choose={(z) => void change('zero height', (own) => (own.z = z))}
          />
        </Row>
      )}
      {!only && (
        <Row label="From there">
          <div className="grid grid-cols-3 gap-1">
            {(['X', 'Y', 'Z'] as const).map((axis, d) => (
              <NumberField
                key={axis}
                label={`Zero offset ${axis}`}
                value={zero.offset[d]}
                unit={axis}
                measure="mm"
                commit={(value) => change(`zero offset ${axis}`, (own) => (own.offset[d] = value))}
              />
            ))}
          </div>
        </Row>
      )}
      {!only && <Nudges zero={zero} change={change} />}
    </>
  )
}

/** Zero moved on by a step, axis by axis. */
function Nudges({ zero, change }: { zero: Zero; change: Edit }) {
  const [step, setStep] = useState(1)
  const move = (axis: number, by: number) =>
    void change(`zero nudged ${'XYZ'[axis]} ${round(by, 4)}`, (own) => {
      own.offset[axis] = Number(round((zero.offset[axis] ?? 0) + by, 4))
    })
  return (
    <Row label="Nudged by">
      <div className="mb-1">
        <NumberField
          label="Nudge step"
          value={step}
          unit="mm"
          commit={(value) => {
            setStep(Math.abs(value))
            return null
          }}
        />
      </div>
      <div className="grid grid-cols-6 gap-1">
        {[0, 1, 2].flatMap((axis) =>
          [-1, 1].map((sign) => (
            <button
              key={`${axis}${sign}`}
              type="button"
              aria-label={`Nudge ${'XYZ'[axis]}${sign < 0 ? '−' : '+'}`}
              className="knob !px-0 text-[12.5px]"
              onClick={() => move(axis, sign * step)}
            >
              {'XYZ'[axis]}
              {sign < 0 ? '−' : '+'}
            </button>
          )),
        )}
      </div>
    </Row>
  )
}

const STATES: Record<Rest['state'], string> = {
  raw: 'raw',
  cut: 'cut',
  'raw and cut': 'partly raw',
  'not yet there': 'not there yet',
  gone: 'gone',
  holding: 'holding',
}

/** What a zero rests on, and in which state that comes in. */
export function Rests({ rests }: { rests: readonly Rest[] }) {
  if (!rests.length) return null
  return (
    <ul aria-label="Zero rests on" className="border-t border-rule py-1 text-[12.5px]">
      {rests.map((rest, i) => {
        const bad = rest.state === 'gone' || rest.state === 'not yet there'
        return (
          <li key={i} className="flex gap-2">
            <span className="figures w-8 shrink-0 text-soft">{rest.axis}</span>
            <button
              type="button"
              className="text-left hover:underline"
              onClick={() => rest.state !== 'holding' && useShown.setState({ marked: rest.place })}
            >
              {rest.on}
              <span className={bad ? 'font-semibold text-trouble' : 'text-action'}>
                {' '}
                · {bad && '◆ '}
                {STATES[rest.state]}
                {rest.by.length > 0 && ` in ${rest.by.join(', ')}`}
              </span>
              {rest.cut_away && <span className="text-soft"> · cut away here</span>}
            </button>
          </li>
        )
      })}
    </ul>
  )
}

function holeText(part: Part, number: number) {
  const face = part.faces[number]
  return face?.radius != null && face.axis_point
    ? `Ø${round(2 * face.radius, 2)} at ${face.axis_point.map((c) => round(c, 2)).join(', ')}`
    : `face ${number}`
}

/** Nine places seen from the spindle: corners, edge middles, centre. */
function ZeroPad({ zero, choose }: { zero: Zero; choose: (x: number, y: number) => void }) {
  const names: Record<number, string> = { [-1]: 'low', 0: 'middle', 1: 'high' }
  return (
    <div
      role="radiogroup"
      aria-label="Zero place"
      className="relative grid h-16 w-24 grid-cols-3 grid-rows-3 border border-soft"
    >
      {[1, 0, -1].flatMap((sy) =>
        [-1, 0, 1].map((sx) => {
          const on = zero.x === sx && zero.y === sy
          return (
            <button
              key={`${sx}${sy}`}
              type="button"
              role="radio"
              aria-checked={on}
              aria-label={`x ${names[sx]}, y ${names[sy]}`}
              className="grid place-items-center hover:bg-rail"
              onClick={() => choose(sx, sy)}
            >
              <span className={on ? 'h-2.5 w-2.5 bg-ink' : 'h-1.5 w-1.5 rounded-full bg-rule'} />
            </button>
          )
        }),
      )}
    </div>
  )
}
