import { create } from 'zustand'
import { useAsking } from './asking'
import { useClock } from './clock'
import { useShown } from './picture'

export const STAGES = ['incoming', 'seat', 'hold', 'reach', 'cut', 'outgoing', 'prove'] as const
export type Stage = (typeof STAGES)[number]
/** Whether a stage shows what cutting alone tells. */
export const isAfterCutting = (stage: Stage) => stage === 'cut' || stage === 'outgoing' || stage === 'prove'
export type DockTab = 'time' | 'program' | 'findings'
/** What is chosen in the rail: the billet, a setup by its number, or the finished part. */
export type Card = 'billet' | 'part' | number

/** What of the route is looked at. */
type Route = {
  card: Card
  stage: Stage
  tab: DockTab
  operation: string | null
  /** The index position that the picture looks at, at the stage Reach. */
  turnedTo: string | null
  /** The load that is looked at in place of a card; null: none is. */
  load: string | null
}

export const useRoute = create<Route>(() => ({
  card: 0,
  stage: 'incoming',
  tab: 'time',
  operation: null,
  turnedTo: null,
  load: null,
}))

/** Look at a card, at the stage that is open or at another; what was shown or asked of the one before goes. */
export function choose(card: Card, stage?: Stage) {
  useRoute.setState((route) => ({
    card,
    stage: stage ?? route.stage,
    operation: null,
    turnedTo: null,
    load: null,
  }))
  useClock.setState({ time: Infinity, playing: false, line: null })
  useAsking.setState({ asked: null })
  useShown.setState({ marked: null, lit: [], litItem: null, seen: null, reached: null, compare: false })
}

/** Open a stage; the prove-out is looked at with its text. */
export const goToStage = (stage: Stage) =>
  useRoute.setState(stage === 'prove' ? { stage, tab: 'program' } : { stage })

/** Show a moment of the chosen setup, s; Infinity is its end. line: of the program, where no move tells it. */
export function showMoment(time: number, line: number | null = null) {
  useClock.setState({ time, line })
  useShown.setState({ compare: false })
}

/** Look at an operation as it ends; null for the setup's end. */
export function showOperation(operation: string | null) {
  useRoute.setState({ operation })
  showMoment(Infinity)
}

/** Start or stop the time; from the end it starts anew. */
export function play() {
  useClock.setState(({ playing, time }) => ({
    playing: !playing,
    time: !playing && time === Infinity ? 0 : time,
    line: null,
  }))
  useShown.setState({ compare: false })
  useRoute.setState(({ tab }) => ({ tab: tab === 'findings' ? 'time' : tab }))
}
