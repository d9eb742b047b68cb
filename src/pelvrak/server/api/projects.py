"""Projects, their revisions and their evaluations."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fastapi import APIRouter, UploadFile
from sqlalchemy import cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session, defer

from pelvrak.core.geometry.part import Part
from pelvrak.core.route.edits import changed, edited, places_changed
from pelvrak.core.route.graph import route_version
from pelvrak.core.route.plan import PartFile, Plan, Setup, plan_from, plan_from_json
from pelvrak.core.route.report import Report, SetupReport
from pelvrak.core.route.revising import Revising, revised, revising
from pelvrak.core.route.run import part_key
from pelvrak.server.api.freshness import billet_late, called_now, laid_over, new_names, stale_from
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.shapes import (
    ChangeProject,
    Edit,
    EvaluationState,
    NewProject,
    Patch,
    ProjectId,
    ProjectLine,
    ProjectState,
    Revise,
    Step,
    TypedEdits,
)
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.jobs.handing import BESIDE, URGENT, hand_evaluation, hand_part, make_urgent

router = APIRouter(prefix="/api/projects", tags=["projects"])


def _project(session: Session, project_id: int, lock: bool = False) -> Project:
    project = session.get(Project, project_id, with_for_update=lock)
    if project is None:
        raise Refused(
            404, "project.unknown", "project", f"there is no project {project_id}", "open one from the list"
        )
    return project


def _revision(session: Session, project: Project, number: int) -> Revision:
    revision = session.get(Revision, (project.id, number))
    if revision is None:
        raise Refused(
            404, "project.no_revision", "based_on", f"there is no revision {number}", "load the project again"
        )
    return revision


def plan_of(session: Session, project_id: int) -> Plan:
    """The plan of a project as it is now. Raises Refused when there is no such project."""
    project = _project(session, project_id)
    return plan_from(_revision(session, project, project.head).plan)


def setup_of(plan: Plan, name: str) -> Setup:
    """A setup by its name. Raises Refused when the plan has none of it."""
    found = next((one for one in plan.setups if one.name == name), None)
    if found is None:
        raise Refused(404, "project.no_setup", name, f"there is no setup {name!r}", "choose one of the route")
    return found


def told_of(state: ProjectState, name: str) -> SetupReport | None:
    """What the report says of a setup; None where it says nothing."""
    setups = state.report.setups if state.report else ()
    return next((one for one in setups if one.name == name), None)


def _newest_report(session: Session, project: Project) -> Evaluation | None:
    """The newest finished evaluation, one of the head before any other."""
    return session.scalars(
        select(Evaluation)
        .where(Evaluation.project_id == project.id, Evaluation.status == "done")
        .order_by((Evaluation.revision == project.head).desc(), Evaluation.id.desc())
        .limit(1)
        .options(defer(Evaluation.report))
    ).first()


def state_of(session: Session, project: Project) -> ProjectState:
    """The project as the screen needs it."""
    return _state_and_waiting(session, project)[0]


def _state_and_waiting(session: Session, project: Project) -> tuple[ProjectState, int | None]:
    """The project as the screen needs it, and the evaluation that no worker has begun."""
    revision = _revision(session, project, project.head)
    newest = session.scalars(
        select(Evaluation).where(Evaluation.project_id == project.id).order_by(Evaluation.id.desc()).limit(1)
    ).first()
    done = _newest_report(session, project)
    stale, report = None, Report.model_validate(done.report) if done and done.report else None
    late, names = False, {}
    if done and done.revision != project.head:
        made_for = _revision(session, project, done.revision).plan
        stale, late = stale_from(made_for, revision.plan), billet_late(made_for, revision.plan)
        names = new_names(made_for, revision.plan)
        report = None if report is None else called_now(report, names)
    seated, stills = (
        None,
        {names.get(name, name): key for name, key in ((done.stills or {}) if done else {}).items()},
    )
    if (
        newest
        and newest.status in ("running", "queued")
        and newest.revision == project.head
        and newest.report
    ):
        report, stale, seated = laid_over(
            report,
            stale,
            Report.model_validate(newest.report),
            [one["name"] for one in revision.plan["setups"]],
        )
        stills |= newest.stills or {}
        late = False
    state = ProjectState(
        id=project.id,
        revision=project.head,
        what=revision.what,
        plan=Plan.model_validate(revision.plan),
        can_undo=revision.parent is not None,
        can_redo=revision.redo is not None,
        evaluation=EvaluationState(
            revision=newest.revision,
            status=newest.status,
            share=newest.share,
            what=newest.what,
            problem=newest.problem,
        )
        if newest
        else None,
        report=report,
        report_revision=done.revision if done else None,
        stale_from=stale,
        billet_late=late,
        seated=seated,
        stills=stills,
    )
    return state, newest.id if newest and newest.status == "queued" else None


def retire_old_reports() -> None:
    """Parts and reports of an earlier version of the computation are made again: their numbers may differ, or
    their form.
    """
    with transaction() as session:
        for upload in session.scalars(select(PartUpload).options(defer(PartUpload.body))):
            if upload.status == "ready" and upload.kind == "part" and upload.key != part_key(upload.sha256):
                upload.status, upload.tries, upload.beat = "reading", 0, now()
                hand_part(session, upload.sha256)
        begun = select(Evaluation).where(Evaluation.status.in_(("queued", "running")))
        for row in session.scalars(begun):
            # What was told of it so far may have another form.
            if row.report and row.report.get("version") != route_version():
                row.report = None
        for project in session.scalars(select(Project)):
            done = _newest_report(session, project)
            if done is None:
                continue
            if (done.report or {}).get("version") != route_version():
                for row in session.scalars(
                    select(Evaluation).where(Evaluation.project_id == project.id, Evaluation.status == "done")
                ):
                    row.status = "stopped"
                start_evaluation(session, project, BESIDE)


def start_evaluation(session: Session, project: Project, priority: int = URGENT) -> int:
    """A new evaluation of the head, handed to the workers; its id."""
    row = Evaluation(project_id=project.id, revision=project.head)
    session.add(row)
    session.flush()
    hand_evaluation(session, row.id, priority)
    tell(session, kind="evaluation", project=project.id)
    return row.id


def start_again_where_it_stands(session: Session, project_id: int) -> None:
    """Compute anew, beside what people wait for, the projects in whose loads setups of this one stand."""
    stands = cast(f'$.loads[*].guests[*] ? (@.plan == "{int(project_id)}")', JSONPATH)
    hosts = select(Project).join(
        Revision, (Revision.project_id == Project.id) & (Revision.number == Project.head)
    )
    for host in session.scalars(hosts.where(func.jsonb_path_exists(Revision.plan, stands))):
        if host.id != project_id:
            start_evaluation(session, host, BESIDE)


def add_project(session: Session, plan: Plan, what: str) -> Project:
    """A new project whose first revision is a plan."""
    project = Project(name=plan.name, head=1, last=1)
    session.add(project)
    session.flush()
    session.add(
        Revision(project_id=project.id, number=1, parent=None, what=what, plan=plan.model_dump(mode="json"))
    )
    session.flush()
    return project


@router.get("")
def projects(archived: bool = False) -> list[ProjectLine]:
    """All projects, newest first; archived ones only when they are asked for. Reads what a line shows, and no
    report.
    """
    newest = (
        select(Evaluation.id)
        .where(Evaluation.project_id == Project.id, Evaluation.status == "done")
        .order_by((Evaluation.revision == Project.head).desc(), Evaluation.id.desc())
        .limit(1)
        .correlate(Project)
        .scalar_subquery()
    )
    status = (
        select(Evaluation.status)
        .where(Evaluation.project_id == Project.id)
        .order_by(Evaluation.id.desc())
        .limit(1)
        .correlate(Project)
        .scalar_subquery()
    )
    rows = (
        select(
            status.label("status"),
            Project.id,
            Project.name,
            Project.head,
            Project.archived,
            Revision.plan["part"]["file"].astext.label("part"),
            func.jsonb_array_length(Revision.plan["setups"]).label("setups"),
            Revision.plan["setups"][-1]["name"].astext.label("last"),
            Evaluation.line,
            Evaluation.stills,
        )
        .join(Revision, (Revision.project_id == Project.id) & (Revision.number == Project.head))
        .outerjoin(Evaluation, Evaluation.id == newest)
        .where(Project.archived == archived)
        .order_by(Project.id.desc())
    )
    with transaction() as session:
        return [
            ProjectLine(
                id=row.id,
                name=row.name,
                revision=row.head,
                part=row.part,
                setups=row.setups,
                archived=row.archived,
                status=row.status,
                still=(row.stills or {}).get(row.last or "billet"),
                **(row.line or {}),
            )
            for row in session.execute(rows)
        ]


@router.post("", status_code=201)
def new_project(wanted: NewProject) -> ProjectState:
    """A project from a part that was read: a billet and one empty setup."""
    with transaction() as session:
        upload = session.get(PartUpload, wanted.sha256)
        if upload is None or upload.status != "ready" or upload.kind != "part":
            raise Refused(409, "part.not_ready", "sha256", "this part has not been read", "upload it again")
        plan = Plan(
            name=wanted.name,
            part=PartFile(file=upload.name, sha256=upload.sha256),
            setups=(Setup(name="OP10"),),
        )
        project = add_project(session, plan, "part in")
        start_evaluation(session, project)
        return state_of(session, project)


@router.get("/{project_id}")
def project(project_id: ProjectId) -> ProjectState:
    """One project. Who looks at it waits for it: what is still to be computed of it goes before what nobody
    looks at.
    """
    with transaction() as session:
        state, waiting = _state_and_waiting(session, _project(session, project_id))
        if waiting is not None:
            make_urgent(session, waiting)
        return state


def _refuse_stale(session: Session, project: Project, based_on: int) -> None:
    if based_on == project.head:
        return
    before = _revision(session, project, based_on)
    head = _revision(session, project, project.head)
    places = places_changed(before.plan, head.plan)
    raise Refused(
        409,
        "plan.stale",
        "plan",
        f"the plan was changed elsewhere: revision {project.head}, {head.what}",
        "look at the new state, then make your edit again",
        changed=places,
        head=project.head,
    )


@router.put("/{project_id}/plan")
def put_plan(project_id: ProjectId, wanted: Edit) -> ProjectState:
    """A whole plan as a new revision; refused when the plan has moved on since based_on."""
    plan = plan_from(wanted.plan)
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        _refuse_stale(session, project, wanted.based_on)
        return _edited(session, project, wanted.what, plan)


@router.patch("/{project_id}/plan")
def edit(project_id: ProjectId, wanted: Patch) -> ProjectState:
    """An edit as a new revision; refused when the plan has moved on since based_on, or where a change does
    not fit it.
    """
    return _edit_shown(project_id, wanted, lambda shown: changed(shown, wanted.changes))


@router.post("/{project_id}/edits")
def typed_edits(project_id: ProjectId, wanted: TypedEdits) -> ProjectState:
    """Typed edits as a new revision: a cure of a finding, or a proposal that is taken. Refused when the plan
    has moved on since based_on, or where one means an element that has gone.
    """
    return _edit_shown(project_id, wanted, lambda shown: edited(shown, wanted.edits))


def _edit_shown(
    project_id: int, wanted: Patch | TypedEdits, change: Callable[[dict[str, Any]], dict[str, Any]]
) -> ProjectState:
    """The project with its plan changed as it was shown, whatever version it is kept in."""
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        _refuse_stale(session, project, wanted.based_on)
        shown = plan_from(_revision(session, project, project.head).plan).model_dump(mode="json")
        return _edited(session, project, wanted.what, plan_from(change(shown)))


def _edited(session: Session, project: Project, what: str, plan: Plan) -> ProjectState:
    """The project with another plan; where it is no other, as it was."""
    head = _revision(session, project, project.head)
    if plan.model_dump(mode="json") == head.plan:
        return state_of(session, project)
    upload = session.get(PartUpload, plan.part.sha256) if plan.part.sha256 else None
    if upload is None or upload.status != "ready":
        raise Refused(
            422,
            "part.not_ready",
            "part/sha256",
            "the plan's part has not been read",
            "upload the part first",
        )
    _put_revision(session, project, head, what, plan)
    return state_of(session, project)


@router.get("/{project_id}/revise")
def revision_preview(project_id: ProjectId, sha256: str) -> Revising:
    """What a new revision of the part would do to every reference of the plan."""
    with transaction() as session:
        project = _project(session, project_id)
        plan = plan_from(_revision(session, project, project.head).plan)
        old, new = part_facts(session, plan.part.sha256), part_facts(session, sha256)
    return revising(plan, old, new)


@router.post("/{project_id}/revise")
def revise(project_id: ProjectId, wanted: Revise) -> ProjectState:
    """The plan on a new revision of its part; references that are not kept follow only where they were
    confirmed.
    """
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        _refuse_stale(session, project, wanted.based_on)
        head = _revision(session, project, project.head)
        plan = plan_from(head.plan)
        old, new = part_facts(session, plan.part.sha256), part_facts(session, wanted.sha256)
        upload = session.get(PartUpload, wanted.sha256)
        assert upload is not None
        changed = revised(plan, old, new, upload.name, wanted.revision, frozenset(wanted.take))
        _put_revision(session, project, head, f"part revision {wanted.revision}", changed)
        return state_of(session, project)


def part_facts(session: Session, sha256: str | None) -> Part:
    """What is known of a part file that was read. Raises Refused when it was not."""
    upload = session.get(PartUpload, sha256) if sha256 else None
    data = DatabaseStore().get(upload.key, "facts.json") if upload and upload.key else None
    if data is None:
        raise Refused(
            409,
            "part.not_ready",
            "sha256",
            "this part has not been read",
            "upload it, and wait until it is read",
        )
    return Part.model_validate_json(data)


def _put_revision(session: Session, project: Project, head: Revision, what: str, plan: Plan) -> None:
    """A new head, to be computed."""
    head.redo = None
    project.last += 1
    project.name = plan.name
    session.add(
        Revision(
            project_id=project.id,
            number=project.last,
            parent=project.head,
            what=what,
            plan=plan.model_dump(mode="json"),
        )
    )
    project.head = project.last
    session.flush()
    start_evaluation(session, project)
    start_again_where_it_stands(session, project.id)


def _walk(project_id: ProjectId, based_on: int, back: bool) -> ProjectState:
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        _refuse_stale(session, project, based_on)
        head = _revision(session, project, project.head)
        target = head.parent if back else head.redo
        if target is None:
            raise Refused(
                409,
                "plan.no_step",
                "plan",
                f"there is nothing to {'undo' if back else 'redo'}",
                "go on editing",
            )
        if back:
            _revision(session, project, target).redo = project.head
        project.head = target
        project.name = _revision(session, project, target).plan["name"]
        session.flush()
        start_evaluation(session, project)
        start_again_where_it_stands(session, project.id)
        return state_of(session, project)


@router.post("/{project_id}/undo")
def undo(project_id: ProjectId, step: Step) -> ProjectState:
    """Go back to the revision the head was made from."""
    return _walk(project_id, step.based_on, back=True)


@router.post("/{project_id}/redo")
def redo(project_id: ProjectId, step: Step) -> ProjectState:
    """Go forward again."""
    return _walk(project_id, step.based_on, back=False)


@router.post("/{project_id}/run")
def run(project_id: ProjectId) -> ProjectState:
    """Compute the head again; what is known is not computed twice."""
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        start_evaluation(session, project)
        return state_of(session, project)


@router.post("/{project_id}/stop")
def stop(project_id: ProjectId) -> ProjectState:
    """Stop what is being computed; finished steps are kept."""
    with transaction() as session:
        project = _project(session, project_id)
        for row in session.scalars(
            select(Evaluation).where(
                Evaluation.project_id == project_id, Evaluation.status.in_(("queued", "running"))
            )
        ):
            row.stop = True
            if row.status == "queued":
                row.status = "stopped"
        session.flush()
        tell(session, kind="evaluation", project=project_id)
        return state_of(session, project)


@router.post("/plan.json", status_code=201)
def bring_plan(file: UploadFile) -> ProjectState:
    """A project from a plan document; the part it was made for has to be here."""
    name = (file.filename or "plan.json")[-200:]
    plan = plan_from_json(file.file.read(), name)
    with transaction() as session:
        upload = _part_for(session, plan, name)
        plan = plan.model_copy(update={"part": plan.part.model_copy(update={"sha256": upload.sha256})})
        project = add_project(session, plan, f"{name} brought in")
        start_evaluation(session, project)
        return state_of(session, project)


def _part_for(session: Session, plan: Plan, name: str) -> PartUpload:
    """The part a plan was made for, by its bytes, or by its file's name where the plan does not know them."""
    found = (
        select(PartUpload)
        .where(PartUpload.status == "ready", PartUpload.kind == "part")
        .options(defer(PartUpload.body))
    )
    same = PartUpload.sha256 == plan.part.sha256 if plan.part.sha256 else PartUpload.name == plan.part.file
    upload = session.scalars(found.where(same).order_by(PartUpload.created.desc())).first()
    if upload is None:
        raise Refused(
            409,
            "plan.no_part",
            name,
            f"the part {plan.part.file} this plan was made for is not here",
            "bring the part's file in first, then the plan",
        )
    return upload


@router.post("/{project_id}/copy", status_code=201)
def copy(project_id: ProjectId) -> ProjectState:
    """A project of its own that begins with this one's plan as it is now."""
    with transaction() as session:
        project = _project(session, project_id)
        plan = plan_from(_revision(session, project, project.head).plan)
        taken = set(session.scalars(select(Project.name)))
        stem = plan.name[:70]
        called = next(
            n for n in (f"{stem} copy", *(f"{stem} copy {i}" for i in range(2, 10_000))) if n not in taken
        )
        fresh = add_project(session, plan.model_copy(update={"name": called}), f"copy of {plan.name}"[:120])
        start_evaluation(session, fresh)
        return state_of(session, fresh)


@router.patch("/{project_id}")
def change_project(project_id: ProjectId, wanted: ChangeProject) -> ProjectState:
    """Another name (a revision of the plan like any edit), or out of the list and back."""
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        if wanted.archived is not None:
            project.archived = wanted.archived
        head = _revision(session, project, project.head)
        if wanted.name is not None and wanted.name != project.name:
            plan = plan_from(head.plan).model_copy(update={"name": wanted.name})
            _put_revision(session, project, head, f"called {wanted.name}"[:120], plan)
        session.flush()
        tell(session, kind="evaluation", project=project_id)
        return state_of(session, project)


@router.delete("/{project_id}", status_code=204)
def delete_project(project_id: ProjectId) -> None:
    """A project with all its revisions, for good; only one that was archived before."""
    with transaction() as session:
        project = _project(session, project_id, lock=True)
        if not project.archived:
            raise Refused(
                409,
                "project.not_archived",
                "project",
                f"{project.name} is in use",
                "archive it first; deleting cannot be undone",
            )
        session.delete(project)
        session.flush()
        start_again_where_it_stands(session, project_id)
        tell(session, kind="evaluation", project=project_id)
