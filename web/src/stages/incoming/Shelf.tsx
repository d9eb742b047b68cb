import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import {
  answered,
  api,
  type Bought,
  type Picks,
  type Problem,
  problemOf,
  type ProjectState,
} from '../../api/client'
import { type Commit, posted } from '../../api/hooks'
import { round } from '../../ui/words'
import { Computed, sentence } from '../../ui/Field'
import { FileInput } from '../../ui/FileInput'
import { Refused } from '../../ui/Refused'

const ORDER = ['x-', 'x+', 'y-', 'y+', 'z-', 'z+']
const size = (row: Bought) =>
  row.form === 'round' ? `Ø${row.diameter_mm}` : `${row.width_mm} × ${row.height_mm}`

/** What is on the shelf for this part, smallest first; taking one makes it the billet. */
export function Shelf({
  project,
  margins,
  commit,
}: {
  project: ProjectState
  margins: Record<string, number> | undefined
  commit: Commit
}) {
  const [open, setOpen] = useState(false)
  const [editing, setEditing] = useState(false)
  const queries = useQueryClient()
  const wanted = ORDER.map((side) => Math.max(0, Number(round(margins?.[side] ?? 2, 2))))
  const [allowance, setAllowance] = useState<number | null>(null)
  const asked = allowance === null ? wanted : ORDER.map(() => allowance)
  const { data, error } = useQuery({
    queryKey: ['picks', project.id, project.plan.billet.material, asked],
    queryFn: () =>
      answered<Picks>(
        api.GET('/api/projects/{project_id}/picks', {
          params: { path: { project_id: project.id }, query: { allowance: asked } },
        }),
      ),
    enabled: open,
  })
  return (
    <section aria-label="Shelf">
      <h3 className="mb-1 mt-4 flex items-baseline justify-between font-head text-[15px] font-semibold">
        <button type="button" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? '▾' : '▸'} From the shelf
        </button>
        {open && (
          <button
            type="button"
            className="font-words text-[12.5px] font-normal text-action underline"
            onClick={() => setEditing(!editing)}
          >
            {editing ? 'back to the picks' : 'edit the shelf'}
          </button>
        )}
      </h3>
      {open && editing && <EditShelf done={() => void queries.invalidateQueries({ queryKey: ['picks'] })} />}
      {open && !editing && (
        <>
          <div className="flex items-center gap-2 text-[12.5px]">
            <span className="text-soft">covers the part plus</span>
            <select
              aria-label="Allowance for the shelf"
              className="figures border border-rule bg-white px-1"
              value={allowance ?? ''}
              onChange={(event) =>
                setAllowance(event.target.value === '' ? null : Number(event.target.value))
              }
            >
              <option value="">margins as they are</option>
              {[0, 1, 2, 3, 5].map((mm) => (
                <option key={mm} value={mm}>
                  {mm} mm all round
                </option>
              ))}
            </select>
          </div>
          {error && (
            <div className="text-trouble">
              {sentence(problemOf((error as { problem?: unknown }).problem))}
            </div>
          )}
          {data && (
            <table className="figures mt-1 w-full text-[12.5px]">
              <thead className="text-left text-soft">
                <tr>
                  <th className="font-normal">bar</th>
                  <th className="text-right font-normal">saw off</th>
                  <th className="text-right font-normal">kg</th>
                  <th className="text-right font-normal">cost</th>
                  <th className="text-right font-normal">waste</th>
                </tr>
              </thead>
              <tbody>
                {[...data.from_shelf.slice(0, 6), ...(data.order ? [data.order] : [])].map((pick, i) => (
                  <tr key={i} className={`border-t border-rule ${pick.in_stock ? '' : 'text-trouble'}`}>
                    <td>
                      <button
                        type="button"
                        className={`text-left underline ${pick.in_stock ? 'text-action' : 'text-trouble'}`}
                        aria-label={`Take ${size(pick.bought)} along ${pick.along}`}
                        onClick={() =>
                          void commit(`billet: ${size(pick.bought)} from the shelf`, (draft) => {
                            draft.billet = pick.billet
                          })
                        }
                      >
                        {!pick.in_stock && 'order '}
                        {size(pick.bought)}
                      </button>
                    </td>
                    <td className="text-right">
                      {round(pick.size['xyz'.indexOf(pick.along)] ?? 0, 1)} ∥ {pick.along}
                    </td>
                    <td className="text-right">{pick.mass_kg.toFixed(2)}</td>
                    <td className="text-right">{pick.cost.toFixed(2)}</td>
                    <td className="text-right">{((100 * pick.waste_mm3) / pick.volume_mm3).toFixed(0)} %</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {data && data.from_shelf.length === 0 && (
            <Computed>
              nothing on the shelf covers {data.needed.map((one) => round(one, 1)).join(' × ')} mm
              {!data.order && ', nor does a usual size'}
            </Computed>
          )}
        </>
      )}
    </section>
  )
}

/** The shelf as it is: counts, prices, and the whole of it as CSV. */
function EditShelf({ done }: { done: () => void }) {
  const queries = useQueryClient()
  const [problem, setProblem] = useState<Problem | null>(null)
  const { data } = useQuery({
    queryKey: ['shelf'],
    queryFn: () => answered<Bought[]>(api.GET('/api/shelf')),
  })
  const taken = (rows: Bought[]) => {
    queries.setQueryData(['shelf'], rows)
    setProblem(null)
    done()
  }
  const put = async (rows: Bought[]) => {
    try {
      taken(await answered<Bought[]>(api.PUT('/api/shelf', { body: rows })))
    } catch (refusal) {
      setProblem(problemOf((refusal as { problem?: unknown }).problem))
    }
  }
  const bring = async (file: File | undefined) => {
    if (!file) return
    const rows = await posted<Bought[]>('/api/shelf.csv', file)
    if (Array.isArray(rows)) taken(rows)
    else setProblem(rows)
  }
  return (
    <>
      <div className="mb-1 flex gap-2 text-[12.5px]">
        <a className="text-action underline" href="/api/shelf.csv" download="shelf.csv">
          save as CSV
        </a>
        <label className="cursor-pointer text-action underline">
          bring in CSV
          <FileInput label="Shelf CSV" accept=".csv" take={bring} />
        </label>
      </div>
      <Refused problem={problem} where />
      <div className="max-h-56 overflow-auto border border-rule">
        <table className="figures w-full text-[12px]">
          <tbody>
            {data?.map((row, i) => (
              <tr key={`${row.material}${size(row)}${i}`} className="border-b border-rule">
                <td className="px-1">{row.material}</td>
                <td className="px-1">{size(row)}</td>
                {(['price_per_kg', 'count'] as const).map((field) => (
                  <td key={field} className="px-1 text-right">
                    <input
                      aria-label={`${field === 'count' ? 'Count' : 'Price'} of ${row.material} ${size(row)}`}
                      className="figures w-14 border border-rule bg-white px-1 text-right"
                      defaultValue={row[field]}
                      onBlur={(event) => {
                        const value = Number(event.target.value.replace(',', '.'))
                        if (value !== row[field])
                          void put(data.map((one, k) => (k === i ? { ...one, [field]: value } : one)))
                      }}
                      onKeyDown={(event) => {
                        if (event.key === 'Enter') event.currentTarget.blur()
                        event.stopPropagation()
                      }}
                    />
                  </td>
                ))}
                <td className="pr-1 text-soft">{/* per kg, bars */}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  )
}
