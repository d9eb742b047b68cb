import type { Plan, Setup } from '../../api/client'
import { piecesCutIn } from './several'

export type Chosen = NonNullable<Setup['incoming']>
type Moment = { value: string; label: string; chosen: Chosen }

/** Every moment of the route before a setup, as a list shows it: what it is called and how the plan says it. */
export function momentsBefore(plan: Plan, index: number): Moment[] {
  const moment = (setup: string, after: string | null, label: string): Moment => {
    const chosen: Chosen = { rule: 'earlier', setup, after }
    return { value: momentId(chosen), label, chosen }
  }
  const whole = (name: string) => piecesCutIn(plan, name).length > 0
  const own = plan.setups[index]?.name ?? ''
  return plan.setups
    .slice(0, index)
    .filter((one) => !one.makes && (!whole(one.name) || whole(own)))
    .flatMap((setup, number) => [
      moment(setup.name, null, number === 0 ? 'the billet' : `before ${setup.name}`),
      ...setup.operations
        .filter((one) => !one.off)
        .map((one) => moment(setup.name, one.id, `after ${setup.name} ${one.name}`)),
    ])
}

/** A moment as one text, to be found in a list. */
export const momentId = (chosen: Chosen) =>
  chosen.rule === 'earlier' ? `${chosen.setup}|${chosen.after ?? ''}` : ''

/** The setup at or before this one whose stock was chosen: what is shown comes from that. */
export const chosenAt = (plan: Plan, card: number) =>
  plan.setups.findLast((one, i) => i <= card && !one.makes && one.incoming)
