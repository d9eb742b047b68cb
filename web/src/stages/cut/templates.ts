import { useQueryClient } from '@tanstack/react-query'
import {
  answered,
  api,
  type Cure,
  type FaceRef,
  type Operation,
  type Plan,
  problemInstead,
  type Template,
} from '../../api/client'
import { useKeptLibrary } from '../../api/hooks'
import { freeNumber } from '../../ui/free'

/** Keep operations with their tools for the next plan, or take a template out of the library. */
export function useKeeping() {
  const queries = useQueryClient()
  const kept = useKeptLibrary()
  const put = (rows: Template[]) =>
    kept('templates', answered<Template[]>(api.PUT('/api/templates', { body: rows })))
  const there = async () => {
    const rows = await answered<Template[]>(api.GET('/api/templates'))
    queries.setQueryData(['templates'], rows)
    return rows
  }
  return {
    keep: async (name: string, plan: Plan, operations: Operation[]) => {
      const rows = await there()
      const used = new Set(operations.map((one) => one.tool))
      const tools = plan.tools.filter((tool) => used.has(tool.id))
      const id = `template-${freeNumber((n) => rows.some((one) => one.id === `template-${n}`))}`
      return put([...rows, { id, name, operations, tools }])
    },
    drop: async (id: string) => put((await there()).filter((one) => one.id !== id)),
  }
}

/** The edits that put a template into a setup. */
export const fromTemplate = (project: number, template: string, setup: string, faces: FaceRef[]) =>
  answered<Cure>(
    api.POST('/api/projects/{project_id}/from_template', {
      params: { path: { project_id: project } },
      body: { template, setup, faces },
    }),
  ).catch(problemInstead)
