import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useEffect } from 'react'
import { Link, useParams } from 'react-router'
import type { Finding, ProjectState } from '../api/client'
import { computing, useActions, useCommit, useProject } from '../api/hooks'
import { Bench } from '../bench/Bench'
import { SideBySide } from '../bench/SideBySide'
import { Dock } from '../dock/Dock'
import { LoadPage } from '../loads/LoadPage'
import { RouteRail } from '../route-rail/RouteRail'
import { StageColumn } from '../stages/StageColumn'
import { StageSheet } from '../stages/StageSheet'
import { tell, useEditing } from '../state/editing'
import { useFields } from '../state/fields'
import { useShown } from '../state/picture'
import { choose, useRoute } from '../state/route'
import { sentence } from '../ui/Field'
import { KeysCard, useKeys } from './keys'

/** All findings of a report, in the order of the route. */
export function findingsOf(project: ProjectState): Finding[] {
  const report = project.report
  if (!report) return []
  return [
    ...report.part_findings,
    ...report.billet.findings,
    ...report.setups.flatMap((setup) => [
      ...setup.findings,
      ...setup.operations.flatMap((one) => one.findings),
    ]),
    ...(report.comparison?.findings ?? []),
    ...(report.pieces?.findings ?? []),
    ...report.loads.flatMap((load) => load.findings),
  ]
}

/** The one screen of a project. */
export function ProjectScreen() {
  const id = Number(useParams().id)
  const { data: project, error } = useProject(id)
  if (error)
    return (
      <p className="p-8">
        This project cannot be opened: {error.message}.{' '}
        <Link className="text-action underline" to="/">
          Back to the list
        </Link>
      </p>
    )
  if (!project) return <p className="p-8 text-soft">Opening …</p>
  return <Open project={project} />
}

function Open({ project }: { project: ProjectState }) {
  const card = useRoute((route) => route.card)
  const load = useRoute((route) => route.load)
  const view = useFields(useEditing, 'notice', 'keys')
  const beside = useShown((picture) => picture.sideBySide)
  const commit = useCommit(project)
  const actions = useActions(project)
  useKeys(project, actions)
  useEffect(() => {
    document.title = `${project.plan.name} – Pelvrak`
  }, [project.plan.name])
  const setups = project.plan.setups.length
  useEffect(() => {
    if (typeof card === 'number' && card >= setups) choose(setups ? setups - 1 : 'billet')
  }, [card, setups])
  const findings = findingsOf(project)
  const errors = findings.filter((one) => one.severity === 'error').length
  const warnings = findings.filter((one) => one.severity === 'warning').length
  const size = project.report?.billet
  const late = project.report_revision !== project.revision
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[auto_auto_1fr] overflow-hidden">
      <header className="flex items-center gap-4 border-b border-rule px-3.5 py-1.5">
        <Link to="/" className="text-soft hover:text-ink" aria-label="All projects">
          ⌂
        </Link>
        <h1 className="truncate text-[15px] font-semibold">{project.plan.name}</h1>
        <span className="min-w-0 truncate text-soft">
          part rev {project.plan.part.revision} · {project.plan.billet.material}
          {size && ` · ${project.plan.part.file}`}
        </span>
        <span className="grow" />
        <Progress project={project} run={() => void actions.run()} stop={() => void actions.stop()} />
        <span className="flex">
          <button
            type="button"
            className="knob rounded-r-none"
            aria-label="Undo"
            disabled={!project.can_undo}
            onClick={() => void actions.undo()}
          >
            ↶
          </button>
          <button
            type="button"
            className="knob rounded-l-none border-l-0"
            aria-label="Redo"
            disabled={!project.can_redo}
            onClick={() => void actions.redo()}
          >
            ↷
          </button>
        </span>
        <button
          type="button"
          className={`knob ${late && project.report ? 'hatch' : ''}`}
          onClick={() => useRoute.setState({ tab: 'findings' })}
          aria-label={`${errors} errors, ${warnings} warnings${late ? ', out of date' : ''}`}
          title={late ? 'from before the last edit' : undefined}
        >
          {project.report ? (
            <>
              {late &&
                (project.evaluation?.status === 'running' && !project.billet_late ? 'so far ' : 'was ')}
              <b className={errors ? 'text-trouble' : ''}>{errors}</b> {errors === 1 ? 'error' : 'errors'} ·{' '}
              {warnings} {warnings === 1 ? 'warning' : 'warnings'}
            </>
          ) : (
            'no findings yet'
          )}
        </button>
        <Release project={project} />
      </header>
      <RouteRail project={project} commit={commit} />
      {load !== null && <LoadPage project={project} commit={commit} name={load} />}
      <div
        className={`grid min-h-0 grid-cols-[104px_316px_1fr] grid-rows-[minmax(0,1fr)] ${load === null ? '' : 'hidden'}`}
      >
        <StageColumn project={project} />
        <main
          className="relative overflow-y-auto border-r border-rule bg-sheet px-3.5 py-3"
          aria-label="Sheet"
        >
          <StageSheet project={project} commit={commit} />
        </main>
        <div className="grid min-h-0 min-w-0 grid-rows-[minmax(0,1fr)_auto]">
          {beside ? <SideBySide project={project} /> : <Bench project={project} />}
          <Dock project={project} findings={findings} />
        </div>
      </div>
      {view.notice && (
        <div
          role="alert"
          className="fixed bottom-4 left-1/2 z-40 max-w-xl -translate-x-1/2 border-2 border-trouble bg-sheet px-4 py-3 shadow-xl"
        >
          <div>{sentence(view.notice)}</div>
          {view.notice.changed && (
            <div className="figures mt-1 text-soft">
              changed: {view.notice.changed.slice(0, 6).join(', ')}
            </div>
          )}
          <button type="button" className="knob mt-2" onClick={() => tell(null)}>
            Understood
          </button>
        </div>
      )}
      {view.keys && <KeysCard />}
    </div>
  )
}

function Progress({ project, run, stop }: { project: ProjectState; run: () => void; stop: () => void }) {
  const state = project.evaluation
  const saving = useEditing((view) => view.saving > 0)
  if (saving)
    return (
      <div className="text-soft" role="status" aria-label="Computing">
        saving
      </div>
    )
  if (state && computing(project))
    return (
      <div className="flex items-center gap-2" role="status" aria-label="Computing">
        <span className="figures max-w-56 truncate text-soft">{state.what || 'waiting for a worker'}</span>
        <span className="h-1.5 w-24 bg-rule">
          <span className="block h-full bg-action" style={{ width: `${state.share * 100}%` }} />
        </span>
        <button type="button" className="knob" onClick={stop}>
          Stop
        </button>
      </div>
    )
  if (state?.status === 'failed' && state.problem)
    return (
      <div className="flex items-center gap-2 text-trouble" role="alert">
        <span className="hatch max-w-80 border border-trouble px-2 text-[12.5px] leading-tight">
          {sentence(state.problem)}
        </span>
        <button type="button" className="knob" onClick={run}>
          Run
        </button>
      </div>
    )
  const current = project.report_revision === project.revision
  return (
    <div className="flex items-center gap-2" role="status" aria-label="Computing">
      <span className={current ? 'text-soft' : 'font-semibold text-trouble'}>
        {current ? 'current' : 'out of date'}
      </span>
      {!current && (
        <button type="button" className="knob" onClick={run}>
          Run
        </button>
      )}
    </div>
  )
}

function Release({ project }: { project: ProjectState }) {
  const current = project.report_revision === project.revision
  const base = `/api/projects/${project.id}/files`
  const item = 'block px-3 py-1 data-focus:bg-rail'
  return (
    <Menu>
      <MenuButton className="knob-go">Release…</MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-30 mt-1 rounded-[3px] border border-ink bg-white py-1 shadow-lg focus:outline-none"
      >
        {!current && <div className="px-3 py-1 text-trouble">Programs wait until the plan is computed.</div>}
        {current &&
          project.plan.setups.flatMap((setup) => [
            <MenuItem key={`${setup.name}.nc`}>
              <a className={item} href={`${base}/${setup.name}.nc`}>
                {setup.name} program
              </a>
            </MenuItem>,
            <MenuItem key={`${setup.name} stock`}>
              <a className={item} href={`${base}/${setup.name}/stock.stl`}>
                {setup.name} outgoing stock, STL
              </a>
            </MenuItem>,
          ])}
        {current &&
          project.report?.loads
            .filter((load) => load.program_key)
            .map((load) => (
              <MenuItem key={`load ${load.name}`}>
                <a className={item} href={`${base}/loads/${load.name}.nc`}>
                  Load {load.name} program
                </a>
              </MenuItem>
            ))}
        <MenuItem>
          <a className={item} href={`${base}/plan.json`}>
            Plan document
          </a>
        </MenuItem>
      </MenuItems>
    </Menu>
  )
}
