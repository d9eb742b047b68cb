import type { OffsetRow } from '../../api/client'
import { round } from '../../state'

/** The registers of this load as they are typed into the control, each with what it stands on and what uses it. */
export function Offsets({ rows }: { rows: readonly OffsetRow[] }) {
  return (
    <section aria-label="Offsets">
      <h3 className="mb-1 mt-4 font-head text-[15px] font-semibold">Registers of this load</h3>
      <table className="figures w-full text-[12px]">
        <tbody>
          {rows.map((row) => (
            <tr key={row.register_name} className="border-t border-rule align-top">
              <td className="py-0.5 pr-2 font-semibold">{row.register_name}</td>
              <td className="py-0.5">
                <div className="text-action">
                  {row.value
                    ? row.value.map((one, d) => `${'XYZ'[d]}${one.value.toFixed(3)}`).join(' ')
                    : 'no layout'}
                </div>
                <div className="font-words text-soft">
                  {row.zero}, {row.found}
                  {Object.entries(row.angles).map(([name, angle]) => ` · ${name}${round(angle, 3)}`)}
                </div>
                <div className="font-words text-soft">{row.stands_on.join(' → ')}</div>
                <div className="font-words text-soft">
                  {row.operations.join(', ') || 'nothing uses it yet'}
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
