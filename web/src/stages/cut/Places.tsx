import type { Operation, OperationReport } from '../../api/client'
import { clock } from '../../ui/words'
import { Row } from '../../ui/Field'
import type { SheetProps } from '../sheet'

/** Change the operation that is edited. */
export type Change = (what: string, next: (mine: Operation) => void) => ReturnType<SheetProps['edit']>

/** Where an operation is cut: at one position or at several, each of which can be left out. */
export function Places(
  props: SheetProps & { operation: Operation; runs: OperationReport[]; change: Change },
) {
  const { operation, change, setup, runs } = props
  const every = ['', ...setup.positions.map((one) => one.name)]
  const mine = [operation.position ?? '', ...operation.repeated_at]
  const called = (name: string) => name || 'as it is seated'
  const put = (names: string[]) =>
    change(names.map(called).join(', '), (own) => {
      own.position = names[0] || null
      own.repeated_at = names.slice(1)
      own.left_out = own.left_out.filter((name) => names.includes(name))
    })
  return (
    <Row label="Cut at">
      <ul aria-label="Index positions of this operation" className="text-[12.5px]">
        {every.map((name) => {
          const on = mine.includes(name)
          const out = operation.left_out.includes(name)
          const own = runs.find((one) => (one.position ?? '') === name)
          // "As it is seated" can only come first: the others are named.
          const fixed = on && mine.length === 1
          return (
            <li key={name} className="flex items-baseline gap-2">
              <label className="flex grow items-baseline gap-1.5">
                <input
                  type="checkbox"
                  className="accent-action"
                  checked={on}
                  disabled={fixed}
                  onChange={() =>
                    void put(
                      on ? mine.filter((one) => one !== name) : name ? [...mine, name] : [name, ...mine],
                    )
                  }
                />
                <span className={out ? 'line-through' : ''}>{called(name)}</span>
                {own && <span className="figures text-action">{clock(own.time_s)}</span>}
              </label>
              {on && mine.length === 1 && every.length > 1 && <span className="text-soft">only here</span>}
              {on && mine.length > 1 && (
                <button
                  type="button"
                  className="text-action underline"
                  onClick={() =>
                    void change(out ? `${called(name)} again` : `${called(name)} left out`, (own) => {
                      own.left_out = out
                        ? own.left_out.filter((one) => one !== name)
                        : [...own.left_out, name]
                    })
                  }
                >
                  {out ? 'cut again' : 'leave out'}
                </button>
              )}
            </li>
          )
        })}
      </ul>
    </Row>
  )
}
