import { useState } from 'react'
import { answered, api, type CastingPlace, type ProjectState, Refusal } from '../../api/client'
import { round } from '../../ui/words'
import { Computed, Row, sentence } from '../../ui/Field'
import type { Hand } from './billet'

/** Where a casting lies best round the part. */
export function BestPlace({ project, hand }: { project: ProjectState; hand: Hand }) {
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
    <Row label="Fit" below={said && <Computed>{said}</Computed>}>
      <button type="button" className="knob" onClick={() => void fit()}>
        Thickest cover all round
      </button>
    </Row>
  )
}
