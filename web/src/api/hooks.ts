import { keepPreviousData, type QueryClient, useQuery, useQueryClient } from '@tanstack/react-query'
import { compare } from 'fast-json-patch'
import { useCallback, useEffect } from 'react'
import { saving, tell } from '../state/editing'
import { type Card, isAfterCutting, type Stage } from '../state/route'
import {
  answered,
  api,
  type Cure,
  type CutFeature,
  type Dialect,
  type Event,
  type Everyday,
  type Features,
  type Fixture,
  type Library,
  noteRevision,
  type Offers,
  type Part,
  type PartState,
  pieceUrl,
  type Plan,
  type Problem,
  problemInstead,
  problemOf,
  type ProjectLine,
  type ProjectState,
  Refusal,
  type Rules,
  type StepTime,
  type Template,
  type Tool,
  type Tooling,
} from './client'
import type { components } from './schema'
import { inTurn, touched } from './turns'

/** Whether a project's newest state is still being computed, or waits for it. */
export const computing = ({ evaluation }: ProjectState) =>
  evaluation?.status === 'queued' || evaluation?.status === 'running'

/** Show a project's state that an edit answered with; asked for once more where something was heard of it meanwhile, or is just being asked for, which may be newer or older. */
export async function answeredWith(queries: QueryClient, id: number, call: Promise<ProjectState>) {
  const queryKey = ['project', id]
  const before = queries.getQueryState(queryKey)?.dataUpdatedAt
  const state = await call
  const now = queries.getQueryState(queryKey)
  const overtaken = now?.dataUpdatedAt !== before || now?.fetchStatus === 'fetching'
  queries.setQueryData(queryKey, state)
  if (overtaken) void queries.invalidateQueries({ queryKey })
}

/** Ask anew for what there is. A first answer still on its way may be older than what was heard, and `invalidateQueries` alone would take it for the new one: it is let go and asked for again. */
async function anew(queries: QueryClient, queryKey: readonly unknown[] = []) {
  await queries.cancelQueries({ queryKey, predicate: ({ state }) => state.data === undefined })
  await queries.invalidateQueries({ queryKey })
}

/** One connection for all events; each makes the matching queries fresh. */
export function useServerEvents() {
  const queries = useQueryClient()
  useEffect(() => {
    const source = new EventSource('/api/events')
    // Events are numbered: where one is missing, what there is is asked for anew. So is what was asked for before the
    // first was heard, since it may have changed meanwhile.
    let heard: number | null = null
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as Event
      if (event.number != null) {
        const first = heard === null
        const missed =
          heard !== null &&
          (event.kind === 'hello' || event.kind === 'here' ? event.number > heard : event.number > heard + 1)
        heard = Math.max(heard ?? 0, event.number)
        if (missed) void anew(queries)
        else if (first)
          for (const queryKey of [['project'], ['projects'], ['part']]) void anew(queries, queryKey)
      }
      if (event.kind === 'hello' || event.kind === 'here') return
      if (event.kind === 'progress')
        queries.setQueryData(['project', event.project], (old: ProjectState | undefined) =>
          old?.evaluation && old.evaluation.revision === event.revision && computing(old)
            ? {
                ...old,
                evaluation: { ...old.evaluation, status: 'running', share: event.share, what: event.what },
              }
            : old,
        )
      else if (event.kind === 'part') void anew(queries, ['part', event.sha256])
      else {
        void anew(queries, event.project ? ['project', event.project] : [])
        if (event.project) void anew(queries, ['projects'])
      }
    }
    return () => source.close()
  }, [queries])
}

export const useProject = (id: number) =>
  useQuery({
    queryKey: ['project', id],
    queryFn: () =>
      answered<ProjectState>(api.GET('/api/projects/{project_id}', { params: { path: { project_id: id } } })),
  })

export const useProjects = (archived = false) =>
  useQuery({
    queryKey: ['projects', archived],
    queryFn: () => answered<ProjectLine[]>(api.GET('/api/projects', { params: { query: { archived } } })),
  })

export const useLibrary = () =>
  useQuery({
    queryKey: ['library'],
    queryFn: () => answered<Library>(api.GET('/api/library')),
    staleTime: Infinity,
  })

/** The shop's fixtures; the plan's own come before them. */
export const useFixtures = (plan?: Plan) => {
  const found = useQuery({
    queryKey: ['fixtures'],
    queryFn: () => answered<Fixture[]>(api.GET('/api/fixtures')),
  })
  const own = plan?.fixtures ?? []
  const all = found.data?.filter((one) => !own.some((mine) => mine.id === one.id))
  return { ...found, data: all && [...own, ...all] }
}

/** The everyday holdings of a setup; asked for again once another revision was computed. */
export const useEveryday = (id: number, setup: string, revision: number | null | undefined) =>
  useQuery({
    queryKey: ['everyday', id, setup, revision],
    queryFn: () =>
      answered<Everyday[]>(
        api.GET('/api/projects/{project_id}/everyday/{setup}', {
          params: { path: { project_id: id, setup } },
        }),
      ),
  })

/** What can be cut in a setup; asked for again once another revision was made or computed. */
export const useCuttable = (project: ProjectState, setup: string, wanted: boolean) =>
  useQuery({
    queryKey: ['cuttable', project.id, setup, project.revision, project.report_revision],
    queryFn: () =>
      answered<Offers>(
        api.GET('/api/projects/{project_id}/cuttable/{setup}', {
          params: { path: { project_id: project.id, setup } },
        }),
      ),
    enabled: wanted,
    placeholderData: keepPreviousData,
  })

/** How long the steps of what is offered take, planned on the stock that comes in; null where one cannot be planned. */
export const useStepTimes = (
  project: ProjectState,
  setup: string,
  cuttable: Offers['offered'][number]['cuttable'],
) =>
  useQuery({
    queryKey: [
      'cuttable',
      project.id,
      setup,
      project.report_revision,
      'times',
      cuttable.position,
      cuttable.steps,
    ],
    queryFn: () =>
      answered<StepTime[]>(
        api.POST('/api/projects/{project_id}/cuttable/{setup}/times', {
          params: { path: { project_id: project.id, setup } },
          body: { position: cuttable.position, steps: cuttable.steps },
        }),
      ),
    enabled: cuttable.steps.length > 0,
    retry: false,
  })

/** The tools of the shop's library. */
export const useShopTools = () =>
  useQuery({ queryKey: ['tools'], queryFn: () => answered<Tool[]>(api.GET('/api/tools')) })

/** How long each tool is in cut over the route, and what is put where before each setup. */
export const useChanger = (project: ProjectState) =>
  useQuery({
    queryKey: ['changer', project.id, project.revision, project.report_revision],
    queryFn: () =>
      answered<Tooling>(
        api.GET('/api/projects/{project_id}/changer', { params: { path: { project_id: project.id } } }),
      ),
    placeholderData: keepPreviousData,
  })

/** Operations the shop has kept for its next plans. */
export const useTemplates = () =>
  useQuery({ queryKey: ['templates'], queryFn: () => answered<Template[]>(api.GET('/api/templates')) })

/** Show a library of the shop as the server has kept it; gives what was refused. */
export function useKeptLibrary() {
  const queries = useQueryClient()
  return async (name: string, answer: Promise<object>): Promise<Problem | null> => {
    const kept = await answer.catch(problemInstead)
    if ('what' in kept) return kept
    queries.setQueryData([name], kept)
    return null
  }
}

/** Dialects the shop keeps. */
export const useDialects = () =>
  useQuery({ queryKey: ['dialects'], queryFn: () => answered<Dialect[]>(api.GET('/api/dialects')) })

/** By which chains holes are made in the shop. */
export const useChains = () =>
  useQuery({ queryKey: ['chains'], queryFn: () => answered<Rules>(api.GET('/api/chains')) })

/** What the part has and which operations cut it. */
export const useCutBy = (project: ProjectState) =>
  useQuery({
    queryKey: ['cut by', project.id, project.revision, project.report_revision],
    queryFn: () =>
      answered<CutFeature[]>(
        api.GET('/api/projects/{project_id}/cut_by', { params: { path: { project_id: project.id } } }),
      ),
    placeholderData: keepPreviousData,
  })

export const usePart = (sha256: string | null | undefined) =>
  useQuery({
    queryKey: ['facts', sha256],
    queryFn: () =>
      answered<Part>(api.GET('/api/parts/{sha256}/facts', { params: { path: { sha256: sha256 ?? '' } } })),
    enabled: !!sha256,
    staleTime: Infinity,
    retry: 8,
  })

export const useFeatures = (sha256: string | null | undefined) =>
  useQuery({
    queryKey: ['features', sha256],
    queryFn: () =>
      answered<Features>(
        api.GET('/api/parts/{sha256}/features', { params: { path: { sha256: sha256 ?? '' } } }),
      ),
    enabled: !!sha256,
    staleTime: Infinity,
    retry: 8,
  })

/** Send a file to the server; its state, or the problem with it. */
export const sendFile = (file: File) => posted<PartState>('/api/parts', file)

/** Post a file to an address of the server; the answer, or the problem with it. */
export async function posted<T extends object>(url: string, file: File): Promise<T | Problem> {
  const form = new FormData()
  try {
    // Read first: a file that has gone since it was chosen is told apart from a server that is silent.
    form.append('file', new Blob([await file.arrayBuffer()]), file.name)
  } catch {
    return {
      code: 'file.gone',
      where: file.name,
      what: 'the file can no longer be read',
      mend: 'choose it again',
    }
  }
  try {
    const answer = await fetch(url, { method: 'POST', body: form })
    noteRevision(answer)
    const body: unknown = await answer.json()
    return answer.ok ? (body as T) : problemOf(body)
  } catch (error) {
    return problemOf(error)
  }
}

export const useUpload = (sha256: string | null) =>
  useQuery({
    queryKey: ['part', sha256],
    queryFn: () =>
      answered<PartState>(api.GET('/api/parts/{sha256}', { params: { path: { sha256: sha256 ?? '' } } })),
    enabled: !!sha256,
  })

type TextPiece = 'path.json' | 'lines.json' | 'load.json' | 'program.nc' | 'control.json'

export const pieceQuery = (key: string | null | undefined, piece: TextPiece) => ({
  queryKey: ['piece', key, piece],
  queryFn: async () => {
    const answer = await fetch(pieceUrl(key ?? '', piece))
    if (!answer.ok) throw new Refusal(problemOf(await answer.json()))
    return answer.text()
  },
  enabled: !!key,
  staleTime: Infinity,
})

/** A JSON or text piece of a result. */
export const usePiece = (key: string | null | undefined, piece: TextPiece) => useQuery(pieceQuery(key, piece))

/** Whether what the report says of a setup (or the billet, the part) at a stage does not belong to the plan as it is now. */
export function lateAt(project: ProjectState, card: Card, stage?: Stage): boolean {
  const { stale_from, seated, billet_late, plan } = project
  if (card === 'billet') return billet_late
  if (stale_from == null) return false
  const index = card === 'part' ? plan.setups.length : card
  if (card === seated && stage && !isAfterCutting(stage)) return false
  return index >= stale_from
}

/** Which revision the report speaks of, for a setup at a stage. */
export const revisionAt = (project: ProjectState, card: Card, stage?: Stage) =>
  lateAt(project, card, stage) ? project.report_revision : project.revision

export type Commit = (what: string, change: (draft: Plan) => void) => Promise<Problem | null>

type Sent = Promise<{ data?: unknown; error?: unknown }>

/** Make an edit, in its turn; refused when somebody else has made one. places: what it touches. */
function useKept(project: ProjectState) {
  const queries = useQueryClient()
  return useCallback(
    async (places: string[] | null, edit: (based_on: number) => Sent): Promise<Problem | null> => {
      const sent = (based_on: number) => answered<ProjectState>(edit(based_on))
      try {
        await saving(answeredWith(queries, project.id, inTurn(project, places, sent)))
        tell(null)
        return null
      } catch (refusal) {
        if (!(refusal instanceof Refusal)) throw refusal
        if (refusal.problem.code === 'plan.stale') {
          tell(refusal.problem)
          void queries.invalidateQueries({ queryKey: ['project', project.id] })
        }
        return refusal.problem
      }
    },
    [project, queries],
  )
}

/** Make an edit of the plan by changing a copy of it. */
export function useCommit(project: ProjectState): Commit {
  const kept = useKept(project)
  return useCallback(
    (what, change) => {
      const plan = structuredClone(project.plan)
      change(plan)
      // Of its seven operations `compare` makes three.
      const changes = compare(project.plan, plan) as components['schemas']['Change'][]
      return kept(touched(changes), (based_on) =>
        api.PATCH('/api/projects/{project_id}/plan', {
          params: { path: { project_id: project.id } },
          body: { based_on, what, changes },
        }),
      )
    },
    [project, kept],
  )
}

/** Make edits of elements told by their names, in whatever this page has made of the plan since. */
export function useEdits(project: ProjectState) {
  const kept = useKept(project)
  return (what: string, edits: Cure['edits']) =>
    kept(null, (based_on) =>
      api.POST('/api/projects/{project_id}/edits', {
        params: { path: { project_id: project.id } },
        body: { based_on, what, edits },
      }),
    )
}

/** Take a cure: what it changes the server knows. A refusal is told at the top, for it belongs to no field. */
export function useCure(project: ProjectState) {
  const edits = useEdits(project)
  return async (cure: Cure, what = `cure: ${cure.label}`) => {
    const problem = await edits(what, cure.edits)
    if (problem) tell(problem)
  }
}

/** Undo, redo, run, stop. */
export function useActions(project: ProjectState) {
  const queries = useQueryClient()
  const done = async (call: Promise<ProjectState>) => {
    try {
      await saving(answeredWith(queries, project.id, call))
      tell(null)
    } catch (refusal) {
      if (refusal instanceof Refusal) tell(refusal.problem)
      void queries.invalidateQueries({ queryKey: ['project', project.id] })
    }
  }
  const params = { path: { project_id: project.id } }
  // What was done last is meant, answered or not.
  const walk = (step: (body: { based_on: number }) => Sent) =>
    done(inTurn(project, null, (based_on) => answered<ProjectState>(step({ based_on }))))
  return {
    undo: () => walk((body) => api.POST('/api/projects/{project_id}/undo', { params, body })),
    redo: () => walk((body) => api.POST('/api/projects/{project_id}/redo', { params, body })),
    run: () => done(answered<ProjectState>(api.POST('/api/projects/{project_id}/run', { params }))),
    stop: () => done(answered<ProjectState>(api.POST('/api/projects/{project_id}/stop', { params }))),
  }
}
