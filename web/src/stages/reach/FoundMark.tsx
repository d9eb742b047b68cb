import type { OffsetRow } from '../../api/client'

type State = OffsetRow['state']

/** How a register is known: a square stands for fixed, a ring for found, a triangle for derived, a pencil stroke for set by hand. */
export function FoundMark({ row }: { row: Pick<OffsetRow, 'state'> }) {
  return (
    <svg width="11" height="11" viewBox="0 0 11 11" role="img" aria-label={NAMES[row.state]}>
      {row.state === 'known' && <rect x="1.5" y="1.5" width="8" height="8" fill="currentColor" />}
      {row.state === 'to be found' && (
        <circle cx="5.5" cy="5.5" r="4" fill="none" stroke="currentColor" strokeWidth="1.6" />
      )}
      {row.state === 'derived' && (
        <path d="M5.5 1 10 9.5H1Z" fill="none" stroke="currentColor" strokeWidth="1.4" />
      )}
      {row.state === 'set by hand' && (
        <path
          d="M1.5 9.5 9.5 1.5M1.5 9.5 4 9M1.5 9.5 2 7"
          stroke="currentColor"
          strokeWidth="1.5"
          fill="none"
        />
      )}
      {row.state === 'no layout' && <path d="M2 5.5h7" stroke="currentColor" strokeWidth="1.5" />}
    </svg>
  )
}

export const NAMES: Record<State, string> = {
  known: 'fixed',
  'to be found': 'found',
  derived: 'derived',
  'set by hand': 'set by hand',
  'no layout': 'no layout',
}
