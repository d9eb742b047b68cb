/** Our own line drawings of the trade's things. */
const line = { fill: 'none', stroke: 'currentColor', strokeWidth: 1.4 }

export const StageMark = ({ state }: { state: 'done' | 'open' | 'error' | 'warning' }) => {
  const label = { done: 'done', open: 'open', error: 'trouble', warning: 'warning' }[state]
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" role="img" aria-label={label}>
      {state === 'done' && <circle cx="7" cy="7" r="4.6" className="fill-soft" />}
      {state === 'open' && <circle cx="7" cy="7" r="4.2" {...line} className="text-soft" />}
      {(state === 'error' || state === 'warning') && (
        <g className="text-trouble">
          <path d="M7 1 13 7 7 13 1 7Z" {...line} />
          <path d={state === 'error' ? 'M5 3v8M7 1v12M9 3v8' : 'M7 4v4M7 9.5v1'} {...line} />
        </g>
      )}
    </svg>
  )
}

/** The datum triangle of drawing standards, for work zero. */
export const ZeroMark = () => (
  <svg width="11" height="9" viewBox="0 0 11 9" aria-hidden="true">
    <path d="M0 0h11L5.5 9Z" fill="currentColor" />
  </svg>
)

export const CarryArrow = ({ stale }: { stale: boolean }) => (
  <svg
    width="100%"
    height="12"
    viewBox="0 0 44 12"
    preserveAspectRatio="xMaxYMid slice"
    aria-hidden="true"
    className={stale ? 'text-trouble' : 'text-ink'}
  >
    <path d="M0 6H42M36 2l6 4-6 4" {...line} strokeDasharray={stale ? '4 3' : undefined} />
  </svg>
)

/** A stock brought in from beside: what is carried ends before it. */
export const ChosenArrow = () => (
  <svg
    width="100%"
    height="12"
    viewBox="0 0 44 12"
    preserveAspectRatio="xMaxYMid slice"
    aria-hidden="true"
    className="text-trouble"
  >
    <path d="M22 0v6H42M36 2l6 4-6 4M14 2v8" {...line} />
  </svg>
)
