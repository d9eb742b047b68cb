import { answered, api, type HoldItem, type Problem, problemInstead } from '../../api/client'
import type { components } from '../../api/schema'
import { useAsking } from '../../state/asking'
import { tell } from '../../state/editing'
import { round } from '../../ui/words'
import { NumberRow, Row } from '../../ui/Field'
import type { SheetProps } from '../sheet'

type Mate = NonNullable<HoldItem['mates']>[number]
type Picked = components['schemas']['PieceFeature']

const called = (one: Mate['mine']) =>
  one.kind !== 'axis'
    ? { plane: 'face', edge: 'edge' }[one.kind]
    : `${one.hollow ? 'hole' : 'round'} Ø${round(2 * (one.radius ?? 0), 2)}`

/** What an item is put against: picked in the picture on both, each changed later by one number. */
export function Mates(
  props: SheetProps & {
    item: HoldItem
    change: (what: string, then: (own: HoldItem) => void) => Promise<Problem | null>
  },
) {
  const { project, setup, item, change } = props
  const mates = item.mates ?? []
  const ask = (
    prompt: string,
    edge: boolean,
    where: { of?: string; beside?: string },
    take: (picked: Picked) => void,
  ) =>
    useAsking.setState({
      asked: {
        kind: 'piece',
        prompt,
        ...where,
        take: (piece, at, way) =>
          void answered<Picked>(
            api.POST('/api/projects/{project_id}/feature/{setup}', {
              params: { path: { project_id: project.id, setup: setup.name } },
              body: { piece, at, way, edge },
            }),
          )
            .catch(problemInstead)
            .then((found) => ('what' in found ? tell(found) : take(found))),
      },
    })
  const begin = (edge: boolean) =>
    ask(`Which ${edge ? 'edge' : 'face or hole'} of ${item.id}?`, edge, { of: item.id }, (mine) =>
      ask(
        edge ? 'And along which edge?' : 'And what does it go against?',
        edge,
        { beside: item.id },
        (theirs) => {
          void change('put against ' + theirs.item, (own) => {
            const mate: Mate = {
              mine: mine.feature,
              item: theirs.item,
              theirs: theirs.feature,
              offset: 0,
              turn_deg: 0,
            }
            own.mates = [...(own.mates ?? []), mate]
          })
        },
      ),
    )
  const set = (number: number, what: string, next: Partial<Mate>) =>
    change(what, (own) => {
      own.mates = (own.mates ?? []).map((one, i) => (i === number ? { ...one, ...next } : one))
    })
  return (
    <>
      {mates.map((mate, i) => (
        <div key={i}>
          <Row label={`Against ${i + 1}`}>
            <span className="flex justify-between gap-2">
              <span className="figures text-[12.5px]">
                {called(mate.mine)} on {called(mate.theirs)} of {mate.item}
              </span>
              <button
                type="button"
                aria-label={`Take back what ${item.id} is put against, ${i + 1}`}
                className="text-soft hover:text-ink"
                onClick={() =>
                  void change('taken back', (own) => {
                    own.mates = (own.mates ?? []).filter((_, k) => k !== i)
                  })
                }
              >
                ×
              </button>
            </span>
          </Row>
          {(mate.mine.kind === 'plane' || i === 0) && (
            <NumberRow
              label={mate.mine.kind === 'plane' ? 'Gap' : 'Along'}
              name={`${item.id} gap ${i + 1}`}
              value={mate.offset}
              unit="mm"
              commit={(offset) => set(i, 'gap', { offset })}
            />
          )}
          {i === 0 && mates.length < 3 && (
            <NumberRow
              label="Turned"
              name={`${item.id} turned ${i + 1}`}
              value={mate.turn_deg}
              unit="°"
              commit={(turn_deg) => set(i, 'turned', { turn_deg })}
            />
          )}
        </div>
      ))}
      {mates.length < 3 && (
        <Row label={mates.length ? '' : 'Placed'}>
          <span className="flex flex-wrap gap-1.5">
            <button type="button" className="knob text-[12.5px]" onClick={() => begin(false)}>
              {mates.length ? 'against one more' : 'against a picked face'}
            </button>
            <button type="button" className="knob text-[12.5px]" onClick={() => begin(true)}>
              edge on edge
            </button>
          </span>
        </Row>
      )}
    </>
  )
}
