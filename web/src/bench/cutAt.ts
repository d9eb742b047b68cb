import { api, type ProjectState, type SetupReport, type Vec } from '../api/client'
import { movingFrom } from '../dock/moment'
import { showMoment } from '../state/route'

/** So far outside what stands a place is looked for that was cut away, mm. */
const OUTSIDE_MM = 0.02

/** Show the moment at which a place of the stock was cut, where the chosen setup cut it: the text goes there too. */
export async function showCut(project: ProjectState, setup: SetupReport, at: Vec, way: Vec, maker: number) {
  const index = project.report?.setups.findIndex((one) => one.name === setup.name) ?? -1
  if (Math.floor(maker / 256) !== index + 1) return
  const number = setup.operations.findIndex((one) => one.key && one.number === (maker % 256) - 1)
  const key = setup.operations[number]?.key
  if (!key) return
  const place = at.map((c, d) => c - OUTSIDE_MM * (way[d] ?? 0)) as Vec
  const { data } = await api.GET('/api/results/{key}/cut-at', { params: { path: { key }, query: { place } } })
  if (data?.seconds != null) showMoment((movingFrom(setup.operations)[number] ?? 0) + data.seconds)
}
