import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export const api = createClient<paths>({ baseUrl: '/' })

/** Which revision of a library is shown, by its address; a change says what it is based on, so that nobody's is overwritten. */
const revisions = new Map<string, string>()
const libraryOf = (url: string) => new URL(url, location.href).pathname.replace(/\.(json|csv)$/, '')

export function noteRevision(response: Response) {
  const tag = response.headers.get('etag')
  if (tag && response.ok) revisions.set(libraryOf(response.url), tag)
}

api.use({
  onRequest({ request }) {
    const based = ['PUT', 'DELETE'].includes(request.method) && revisions.get(libraryOf(request.url))
    if (based) request.headers.set('if-match', based)
  },
  onResponse({ response }) {
    noteRevision(response)
  },
})

type Schemas = components['schemas']
export type ProjectState = Schemas['ProjectState']
export type Event = Schemas['Event']
export type Plan = Schemas['Plan']
export type Setup = Schemas['Setup']
export type Operation = Setup['operations'][number]
export type Report = Schemas['Report']
export type SetupReport = Schemas['SetupReport']
export type OperationReport = Schemas['OperationReport']
export type Finding = Schemas['Finding']
export type Cure = Schemas['Cure']
export type BilletForm = Schemas['BilletForm']
export type RuleForm = Schemas['RuleForm']
export type Everyday = Schemas['Everyday']
export type Hold = Schemas['Hold']
export type Part = Schemas['Part']
export type Face = Schemas['Face']
export type Tried = Schemas['Tried']
export type Edge = Schemas['Edge']
export type FaceRef = Schemas['FaceRef']
export type EdgeRef = Schemas['EdgeRef']
export type Reckoned = Schemas['Reckoned']
export type Library = Schemas['Library']
export type Offers = Schemas['Offers']
export type CutFeature = Schemas['CutFeature']
export type Template = Schemas['Template']
export type Rules = Schemas['Rules']
export type StepTime = Schemas['StepTime']
export type Tooling = Schemas['Tooling']
export type Group = Schemas['Group']
export type ToolPicture = Schemas['ToolPicture']
export type OperationForm = Schemas['OperationForm']
export type FixtureForm = Schemas['FixtureForm']
export type Draft = Schemas['Draft']
export type Tool = Schemas['Tool']
export type ProjectLine = Schemas['ProjectLine']
export type PartState = Schemas['PartState']
export type TextState = Schemas['TextState']
export type Proof = Schemas['Proof']
export type Load = Plan['loads'][number]
export type Stand = Load['stands'][number]
export type LoadReport = Schemas['LoadReport']
export type OrderStep = Schemas['OrderStep']
export type PlaceReport = Schemas['PlaceReport']
export type OwnText = Schemas['OwnText']
export type Features = Schemas['Features']
export type Measured = Schemas['Value']
export type Target = Schemas['Target']
export type Revising = Schemas['Revising']
export type Picks = Schemas['Picks']
export type Bought = Schemas['Bought']
export type CastingPlace = Schemas['CastingPlace']
export type Billet = Plan['billet']
export type Zero = Setup['seat']['zero']
export type Rest = Schemas['Rest']
export type HoldFacts = Schemas['HoldFacts']
export type Fixture = Plan['fixtures'][number]
export type HoldItem = Setup['hold']['items'][number]
export type NestReport = Schemas['NestReport']
export type PositionReport = Schemas['PositionReport']
export type OffsetRow = Schemas['OffsetRow']
export type MachineData = Schemas['Machine']
export type Dialect = Library['dialects'][number]
export type FewestData = Schemas['SetCover']
export type ReachedData = Schemas['Reached']
export type JogData = Schemas['Jog']
export type SlidesFact = Schemas['SlidesFact']
export type Found = Setup['seat']['found']
export type Vec = [number, number, number]

/** The first place of a finding, work frame. */
export const placeOf = (finding: Finding): Vec | null => finding.place[0] ?? null

export type Problem = {
  code: string
  where: string
  what: string
  mend: string
  changed?: string[]
  at?: string
}

/** The problem in a refused answer; something readable in any case. */
export function problemOf(error: unknown): Problem {
  if (error instanceof Refusal) return error.problem
  if (error && typeof error === 'object' && 'what' in error) return error as Problem
  return {
    code: 'network',
    where: 'server',
    what: 'the server does not answer',
    mend: 'try again in a moment',
  }
}

export class Refusal extends Error {
  readonly problem: Problem
  constructor(problem: Problem) {
    super(problem.what)
    this.problem = problem
  }
}

/** The data of an answer, or a Refusal. The client's own types turn tuples into arrays, so T names the schema's. */
export async function answered<T>(call: Promise<{ data?: unknown; error?: unknown }>): Promise<T> {
  const { data, error } = await call.catch((broken: unknown) => ({ data: undefined, error: broken }))
  if (data === undefined) throw new Refusal(problemOf(error))
  return data as T
}

/** For `catch`: the problem of a refusal in the answer's place; anything else is thrown on. */
export function problemInstead(error: unknown): Problem {
  if (error instanceof Refusal) return error.problem
  throw error
}

export const pieceUrl = (key: string, piece: string) => `/api/results/${key}/${piece}`
