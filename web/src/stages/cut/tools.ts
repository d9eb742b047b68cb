import type { Plan, Tool } from '../../api/client'
import { freeId } from '../../ui/free'

/** Tools as they can stand in a plan beside its own: each in a place and under an id that is free. */
export function beside(plan: Plan, tools: Tool[]) {
  const places = new Set(plan.tools.flatMap((tool) => [tool.place, ...tool.twin_places]))
  const ids = new Set(plan.tools.map((tool) => tool.id))
  return tools.map((tool) => {
    let place = tool.place
    while (places.has(place)) place += 1
    const id = freeId(tool.id, ids)
    places.add(place)
    ids.add(id)
    return { ...tool, id, place }
  })
}

/** The sizes a tool is known by, in a line. */
export function facts(tool: Tool) {
  const more = [
    tool.SIG != null && `${tool.SIG}°`,
    tool.RE != null && `RE ${tool.RE}`,
    tool.TP != null && `TP ${tool.TP}`,
    tool.CW != null && `CW ${tool.CW}`,
  ]
  return [
    `DC ${tool.DC}`,
    `LCF ${tool.LCF}`,
    ...more.filter(Boolean),
    `z${tool.NOF}`,
    `out ${tool.overhang}`,
    tool.holder.name,
  ].join(' · ')
}

/** Whether every word that is typed stands somewhere in what a tool is called and told by. */
export function matches(tool: Tool, text: string) {
  const said = `${tool.name} ${tool.kind.replaceAll('_', ' ')} ${facts(tool)} T${tool.place}`.toLowerCase()
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => said.includes(word))
}
