import type { OwnText, Problem, ProjectState, SetupReport, TextState } from '../api/client'
import { posted, useEdits } from '../api/hooks'

/** What a text was before it was kept, so that nothing typed is lost when the page is left. */
const draftName = (project: number, setup: string) => `pelvrak-text-${project}-${setup}`
export const draftOf = (project: number, setup: string) => sessionStorage.getItem(draftName(project, setup))
export const keepDraft = (project: number, setup: string, text: string | null) => {
  if (text === null) sessionStorage.removeItem(draftName(project, setup))
  else sessionStorage.setItem(draftName(project, setup), text)
}

/** Give a setup a text of its own, or take it away. */
export function useOwnText(project: ProjectState, setup: string) {
  const edits = useEdits(project)
  const own = project.plan.setups.find((one) => one.name === setup)?.text ?? null
  const put = (what: string, value: OwnText | null) =>
    edits(`${setup}: ${what}`, [{ kind: 'put', of: { setup }, field: 'text', value }])
  /** Keep a text and cut the setup by it. madeFrom: what the written program is called that it was changed from; null: it comes from elsewhere. */
  const bring = async (file: File, madeFrom: string | null): Promise<Problem | null> => {
    const kept = await posted<TextState>('/api/texts', file)
    if ('code' in kept) return kept
    return put(madeFrom ? 'its text changed by hand' : `cut by ${kept.name}`, {
      file: kept.name,
      sha256: kept.sha256,
      made_from: madeFrom,
      carried: own?.carried ?? true,
      tools: own?.tools ?? [],
      radius_under_d: own?.radius_under_d ?? 'wear',
      beside: own?.beside ?? [],
      block_delete: own?.block_delete ?? true,
    })
  }
  /** A text changed by hand on the page. */
  const keep = (report: SetupReport, text: string) => {
    const madeFrom = own ? (own.made_from ?? null) : (report.written_as ?? null)
    return bring(new File([text], own?.file ?? `${setup}.nc`, { type: 'text/plain' }), madeFrom)
  }
  /** Keep a file whose programs the text calls. */
  const callFrom = async (file: File): Promise<Problem | null> => {
    const kept = await posted<TextState>('/api/texts', file)
    if ('code' in kept) return kept
    if (!own) return null
    const others = (own.beside ?? []).filter((one) => one.file !== kept.name)
    return put(`calls ${kept.name}`, {
      ...own,
      beside: [...others, { file: kept.name, sha256: kept.sha256 }],
    })
  }
  return { own, put, bring, keep, callFrom }
}
