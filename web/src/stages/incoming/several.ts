import type { Plan } from '../../api/client'

/** The first piece lies where the part does. */
export const FIRST = '1'

/** What the pieces are called, as the plan lays them. */
export function piecesOf(plan: Plan): string[] {
  const layout = plan.pieces?.layout
  if (!layout) return []
  if (layout.rule === 'by_hand') return [FIRST, ...layout.pieces.map((one) => one.name)]
  return Array.from({ length: layout.columns * layout.rows }, (_, n) => String(n + 1))
}

/** The pieces that a setup cuts in one billet; none once they have come apart. */
export function piecesCutIn(plan: Plan, setup: string): string[] {
  const after = plan.pieces?.division?.after
  const [last, own] = [after, setup].map((name) => plan.setups.findIndex((one) => one.name === name)) as [
    number,
    number,
  ]
  return after !== undefined && own > last ? [] : piecesOf(plan)
}
