import { useState } from 'react'
import { answered, api, type CastingPlace, type ProjectState, Refusal } from '../../api/client'
import { round } from '../../ui/words'
import { useAsking } from '../../state/asking'
import { Computed, NumberRow, Row, sentence } from '../../ui/Field'
import type { Hand, Of } from './billet'

type FaceWeights = Of<'model'>['weights']

/** Where a casting lies best round the part. */
export function BestPlace({ project, hand }: { project: ProjectState; hand: Hand }) {
  const { billet } = project.plan
  const weights = billet.kind === 'model' ? billet.weights : []
  const weigh = (what: string, next: (own: FaceWeights) => FaceWeights) =>
    hand.change(what, (own) => {
      if (own.kind === 'model') own.weights = next(own.weights)
    })
  const [said, setSaid] = useState<string | null>(null)
  const fit = async () => {
    setSaid('searching …')
    try {
      const found = await answered<CastingPlace>(
        api.GET('/api/projects/{project_id}/casting', { params: { path: { project_id: project.id } } }),
      )
      await hand.change('best placement', (own) => Object.assign(own, { turn: found.turn, move: found.move }))
      const datums =
        found.datums_off == null ? '' : `; rough faces ${round(found.datums_off, 2)} mm off their own`
      setSaid(
        (found.cover >= 0
          ? `thinnest cover ${round(found.cover, 2)} mm`
          : `${round(-found.cover, 2)} mm is missing wherever it lies`) + datums,
      )
    } catch (refusal) {
      setSaid(refusal instanceof Refusal ? sentence(refusal.problem) : 'the server does not answer')
    }
  }
  return (
    <>
      {weights.map(({ face, times }) => (
        <NumberRow
          key={face.face}
          label={`F${face.face} needs`}
          name={`F${face.face} needs`}
          value={times}
          unit="×"
          measure="mm"
          clear={() =>
            weigh(`F${face.face} as others`, (all) => all.filter((one) => one.face.face !== face.face))
          }
          commit={(value) =>
            weigh(`F${face.face} needs ${value} times`, (all) =>
              all.map((one) => (one.face.face === face.face ? { ...one, times: value } : one)),
            )
          }
        />
      ))}
      <Row label="Fit" below={said && <Computed>{said}</Computed>}>
        <span className="flex flex-wrap gap-1.5">
          <button type="button" className="knob" onClick={() => void fit()}>
            Thickest cover all round
          </button>
          <button
            type="button"
            className="knob"
            onClick={() =>
              useAsking.setState({
                asked: {
                  kind: 'face',
                  prompt: 'Which face of the part needs more cover?',
                  serves: (face) =>
                    weights.some((one) => one.face.face === face.number) ? 'it does already' : null,
                  take: (face) =>
                    void weigh(`F${face.face} needs more`, (all) => [...all, { face, times: 2 }]),
                },
              })
            }
          >
            A face needs more
          </button>
        </span>
      </Row>
    </>
  )
}
