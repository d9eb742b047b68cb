import type { ProjectState } from '../api/client'
import { useRoute } from '../state/route'
import { hueOf } from '../ui/words'

/** What the colours of the picture stand for, a colour to a line. */
export function Swatches(props: {
  label: string
  head?: string
  rows: readonly (readonly [colour: string, text: string])[]
}) {
  return (
    <ul aria-label={props.label}>
      {props.head && <li className="text-soft">{props.head}</li>}
      {props.rows.map(([colour, text]) => (
        <li key={text} className="flex items-center gap-2">
          <span className="h-3 w-3 border border-ink/20" style={{ background: colour }} />
          {text}
        </li>
      ))}
    </ul>
  )
}

/** Who made the surfaces that are seen: the billet, each setup up to the chosen one, and the holding. */
export function Legend({ project }: { project: ProjectState }) {
  const card = useRoute((view) => view.card)
  const last = typeof card === 'number' ? card : card === 'billet' ? -1 : project.plan.setups.length - 1
  const cut = project.plan.setups
    .slice(0, last + 1)
    .map((setup, i) => [`color-mix(in srgb, ${hueOf(i)} 60%, #D9DBDA)`, `cut in ${setup.name}`] as const)
  const holding = typeof card === 'number' ? ([['#A9AEB0', 'holding']] as const) : []
  return <Swatches label="Legend" rows={[['#B9C2C6', 'billet surface'], ...cut, ...holding]} />
}
