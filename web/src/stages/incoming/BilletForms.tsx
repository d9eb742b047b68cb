import { useState } from 'react'
import { answered, api, type CastingPlace, type ProjectState, Refusal } from '../../api/client'
import { round } from '../../ui/words'
import { Segments } from '../../ui/Choice'
import { Computed, NumberField, NumberRow, Row, sentence } from '../../ui/Field'
import type { Hand, Of } from './billet'
import { FileIn } from './FileIn'

const AXES = [
  { value: 'x' as const, label: 'x' },
  { value: 'y' as const, label: 'y' },
  { value: 'z' as const, label: 'z' },
]

/** Ends along the axis and a shift across it: what bars and profiles share. */
function Lengthwise({
  billet,
  hand,
}: {
  billet: Of<'bar'> | Of<'extrusion'>
  hand: Hand<Of<'bar'> | Of<'extrusion'>>
}) {
  const { change, number } = hand
  const across = { x: ['y', 'z'], y: ['z', 'x'], z: ['x', 'y'] }[billet.axis]
  return (
    <>
      <Row label="Along">
        <Segments
          label="Along the part’s axis"
          value={billet.axis}
          options={AXES}
          choose={(axis) => void change(`along ${axis}`, (mine) => (mine.axis = axis))}
        />
      </Row>
      {(['minus', 'plus'] as const).map((end) => (
        <NumberRow
          key={end}
          label={`Beyond ${billet.axis}${end === 'minus' ? '−' : '+'}`}
          value={billet[end]}
          unit="mm"
          {...number(`length at ${end}`, (mine, value) => (mine[end] = value))}
        />
      ))}
      {[0, 1].map((d) => (
        <NumberRow
          key={d}
          label={`Shift ${across?.[d]}`}
          value={billet.shift[d]}
          unit="mm"
          {...number(`shift ${across?.[d]}`, (mine, value) => (mine.shift[d] = value))}
        />
      ))}
    </>
  )
}

export function BarFields({ billet, hand }: { billet: Of<'bar'>; hand: Hand<Of<'bar'>> }) {
  const { change, number } = hand
  return (
    <>
      <NumberRow
        label="Diameter"
        value={billet.diameter}
        unit="mm"
        placeholder="smallest that covers"
        {...number('diameter', (mine, value) => (mine.diameter = value))}
        clear={() => change('smallest diameter', (mine) => (mine.diameter = null))}
      />
      {billet.diameter == null && (
        <NumberRow
          label="All round"
          value={billet.allowance}
          unit="mm"
          {...number('allowance round', (mine, value) => (mine.allowance = value))}
        />
      )}
      <NumberRow
        label="Bore"
        below={<span className="text-soft">0 for a solid bar</span>}
        value={billet.bore}
        unit="mm"
        {...number('bore', (mine, value) => (mine.bore = value))}
      />
      <Lengthwise billet={billet} hand={hand} />
    </>
  )
}

export function ExtrusionFields(props: { billet: Of<'extrusion'>; hand: Hand<Of<'extrusion'>> }) {
  const { billet, hand } = props
  const { change } = hand
  return (
    <>
      <FileIn
        kind="extrusion"
        name={billet.file}
        take={async (file, sha256) => {
          await change(file, (mine) => Object.assign(mine, { file, sha256 }))
        }}
      />
      <Row label="Placed">
        <Segments
          label="Placed"
          value={billet.place}
          options={[
            { value: 'middle', label: 'middle on the part' },
            { value: 'drawn', label: 'as drawn' },
          ]}
          choose={(place) => void change(`placed ${place}`, (mine) => (mine.place = place))}
        />
      </Row>
      <Lengthwise billet={billet} hand={hand} />
    </>
  )
}

export function ModelFields({
  project,
  billet,
  hand,
}: {
  project: ProjectState
  billet: Of<'model'>
  hand: Hand<Of<'model'>>
}) {
  const { change, number } = hand
  const [said, setSaid] = useState<string | null>(null)
  const fit = async () => {
    setSaid('searching …')
    try {
      const found = await answered<CastingPlace>(
        api.GET('/api/projects/{project_id}/casting', { params: { path: { project_id: project.id } } }),
      )
      await change('best placement', (mine) => Object.assign(mine, { turn: found.turn, move: found.move }))
      setSaid(
        found.cover >= 0
          ? `thinnest cover ${round(found.cover, 2)} mm`
          : `${round(-found.cover, 2)} mm is missing wherever it lies`,
      )
    } catch (refusal) {
      setSaid(refusal instanceof Refusal ? sentence(refusal.problem) : 'the server does not answer')
    }
  }
  return (
    <>
      <FileIn
        kind="model"
        name={billet.file}
        take={async (file, sha256) => {
          await change(file, (mine) => Object.assign(mine, { file, sha256 }))
        }}
      />
      {(['x', 'y', 'z'] as const).map((axis, d) => (
        <Row key={axis} label={`About, along ${axis}`}>
          <div className="grid grid-cols-2 gap-2">
            <NumberField
              label={`Turn about ${axis}`}
              value={billet.turn[d]}
              unit="°"
              {...number(`turn ${axis}`, (mine, value) => (mine.turn[d] = value))}
            />
            <NumberField
              label={`Move along ${axis}`}
              value={billet.move[d]}
              unit="mm"
              {...number(`move ${axis}`, (mine, value) => (mine.move[d] = value))}
            />
          </div>
        </Row>
      ))}
      <Row label="Fit" below={said && <Computed>{said}</Computed>}>
        <button type="button" className="knob" onClick={() => void fit()}>
          Thickest cover all round
        </button>
      </Row>
    </>
  )
}
