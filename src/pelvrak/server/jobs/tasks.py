"""What runs in the workers: reading parts and evaluating plans."""

from __future__ import annotations

import logging
import time
from typing import Any

from sqlalchemy import update

from pelvrak.core.billet.forms import check_stock, looks_like_stock
from pelvrak.core.billet.outline import looks_like_dxf, read_outline
from pelvrak.core.errors import BadInput, SeveralSolids, Stopped
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.run import part_result
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import DatabaseStore, tell, transaction
from pelvrak.server.jobs.apart import BrokeDown, run
from pelvrak.server.jobs.app import PARTS, ROUTES, queue
from pelvrak.server.jobs.stills import render_stills

BEAT_S = 2.0
TELL_S = 0.25
log = logging.getLogger("pelvrak.jobs")


@queue.task(name="read_part", queue=PARTS)
def read_part(sha256: str) -> None:
    """Read an uploaded part; its row says how it went."""
    with transaction() as session:
        upload = session.get(PartUpload, sha256)
        if upload is None:
            return
        name, body = upload.name, upload.body
    try:
        outcome: dict[str, Any] = {"status": "ready", "problem": None}
        if looks_like_dxf(body):
            read_outline(body, name)
            outcome["kind"] = "outline"
        elif looks_like_stock(body):
            check_stock(body, name)
            outcome["kind"] = "stock"
        else:
            outcome["key"], _ = part_result(body, name, sha256, DatabaseStore())
    except SeveralSolids as several:
        outcome = {"status": "choose", "choices": several.choices, "problem": None}
    except BadInput as bad:
        outcome = {"status": "refused", "problem": bad.told()}
    with transaction() as session:
        session.execute(update(PartUpload).where(PartUpload.sha256 == sha256).values(**outcome))
        tell(session, kind="part", sha256=sha256)


@queue.task(name="evaluate", queue=ROUTES)
def evaluate_project(evaluation_id: int) -> None:
    """Compute one revision; stops when asked to, or when the plan has moved on."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id, with_for_update=True)
        if row is None or row.status not in ("queued", "running"):
            return
        project_id = row.project_id
        if not _wanted(row, session.get(Project, project_id)):
            row.status = "stopped"
            tell(session, kind="evaluation", project=project_id)
            return
        row.status, row.beat, row.tries = "running", now(), row.tries + 1
    beat = time.monotonic()

    def wanted() -> bool:
        """Whether anyone still waits for this; leaves a sign of life, so that a dead worker is noticed."""
        nonlocal beat
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is not None and time.monotonic() - beat > BEAT_S:
                beat, row.beat = time.monotonic(), now()
            return _wanted(row, session.get(Project, project_id))

    try:
        outcome = run(_evaluate, (evaluation_id,), wanted)
    except Stopped:
        outcome = {"status": "stopped"}
    except BrokeDown as broken:
        outcome = {"status": "failed", "problem": _broke(str(broken))}
    with transaction() as session:
        session.execute(update(Evaluation).where(Evaluation.id == evaluation_id).values(**outcome))
        tell(session, kind="evaluation", project=project_id)


def _wanted(row: Evaluation | None, project: Project | None) -> bool:
    return row is not None and project is not None and not row.stop and project.head == row.revision


def _broke(how: str) -> dict[str, Any]:
    return {
        "code": "evaluation.broke", "where": "the plan", "what": f"the computation broke down: {how}",
        "mend": "undo the last edit and run again; the plan is as you left it",
    }  # fmt: skip


def _file(sha256: str | None, name: str) -> bytes:
    with transaction() as session:
        upload = session.get(PartUpload, sha256) if sha256 else None
        if upload is None:
            raise BadInput("billet.no_file", "billet", f"{name} has not been uploaded", "choose the file again")
        return upload.body


def _evaluate(evaluation_id: int) -> dict[str, Any]:
    """The columns that say how it went."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id)
        if row is None:
            return {}
        project_id, revision = row.project_id, row.revision
        state = session.get(Revision, (project_id, revision))
        assert state is not None
        plan_document = state.plan
        upload = session.get(PartUpload, plan_document["part"]["sha256"])
        body = upload.body if upload else b""
    told = 0.0

    def progress(share: float, what: str) -> bool:
        nonlocal told
        if time.monotonic() - told < TELL_S:
            return True
        told = time.monotonic()
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is None or not _wanted(row, session.get(Project, project_id)):
                return False
            row.share, row.what, row.beat = share, what, now()
            tell(session, kind="progress", project=project_id, revision=revision, share=share, what=what)
        return True

    store = DatabaseStore()
    try:
        plan = plan_from(plan_document)
        report = evaluate(plan, body, plan_document["part"]["sha256"], store, progress, _file)
        stills = render_stills(report, plan, store)
    except Stopped:
        return {"status": "stopped"}
    except BadInput as bad:
        return {"status": "failed", "problem": bad.told()}
    except Exception as broken:
        log.exception("evaluation %s broke down", evaluation_id)
        return {"status": "failed", "problem": _broke(f"{type(broken).__name__}: {broken}")}
    return {"status": "done", "share": 1.0, "report": report.told(), "stills": stills}
