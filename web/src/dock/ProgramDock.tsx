import { useEffect, useRef } from 'react'
import type { ProjectState } from '../api/client'
import { usePiece } from '../api/hooks'
import { useRoute } from '../state/route'
import { linesOf, useMoment } from './moment'

/** The program of the chosen setup; the line of the moment is marked. */
export function ProgramDock({ project }: { project: ProjectState }) {
  const card = useRoute((view) => view.card)
  const { setup, operation, moment } = useMoment(project)
  const { data: program } = usePiece(setup?.program_key, 'program.nc')
  const { data: linesText } = usePiece(setup?.program_key, 'lines.json')
  const here = useRef<HTMLDivElement>(null)
  const lines = linesText && operation ? linesOf(linesText)[operation.run] : undefined
  const line = lines?.[moment?.index ?? 0]
  useEffect(() => {
    here.current?.scrollIntoView({ block: 'center' })
  }, [line])
  if (!program || !setup) return <p className="text-soft">Choose a setup in the route.</p>
  const current = project.report_revision === project.revision
  return (
    <div className="flex gap-4">
      <pre className="figures grow leading-[1.35]" aria-label="Program text">
        {program.split('\n').map((text, i) => (
          <div
            key={i}
            ref={i === line ? here : undefined}
            className={
              i === line
                ? 'bg-rail font-medium'
                : operation &&
                    operation.first_line != null &&
                    i >= operation.first_line &&
                    i <= (operation.last_line ?? 0)
                  ? ''
                  : 'text-soft'
            }
          >
            {text}
          </div>
        ))}
      </pre>
      {typeof card === 'number' && (
        <a
          className={`knob sticky top-0 self-start ${current ? '' : 'pointer-events-none opacity-40'}`}
          href={`/api/projects/${project.id}/files/${setup.name}.nc`}
        >
          Download {setup.name}.nc
        </a>
      )}
    </div>
  )
}
