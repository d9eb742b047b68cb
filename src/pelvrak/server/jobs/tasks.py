"""What runs in the workers: reading parts and evaluating plans."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import update

from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.route.evaluate import evaluate, part_result
from pelvrak.core.route.plan import plan_from
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import DatabaseStore, tell, transaction
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
        key, _ = part_result(body, name, sha256, DatabaseStore())
        outcome: dict[str, Any] = {"status": "ready", "key": key, "problem": None}
    except BadInput as bad:
        outcome = {"status": "refused", "problem": bad.told()}
    with transaction() as session:
        session.execute(update(PartUpload).where(PartUpload.sha256 == sha256).values(**outcome))
        tell(session, kind="part", sha256=sha256)


@contextmanager
def beating(evaluation_id: int) -> Iterator[None]:
    """Write a sign of life while a computation runs, so that a dead worker is noticed."""
    done = threading.Event()

    def beat() -> None:
        while not done.wait(BEAT_S):
            with transaction() as session:
                session.execute(update(Evaluation).where(Evaluation.id == evaluation_id).values(beat=now()))

    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()


@queue.task(name="evaluate", queue=ROUTES)
def evaluate_project(evaluation_id: int) -> None:
    """Compute one revision; stops when asked to, or when the plan has moved on."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id, with_for_update=True)
        if row is None or row.status not in ("queued", "running"):
            return
        project = session.get(Project, row.project_id)
        assert project is not None
        if row.stop or project.head != row.revision:
            row.status = "stopped"
            tell(session, kind="evaluation", project=row.project_id)
            return
        row.status, row.beat, row.tries = "running", now(), row.tries + 1
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
            project = session.get(Project, project_id)
            if row is None or project is None or row.stop or project.head != revision:
                return False
            row.share, row.what, row.beat = share, what, now()
            tell(session, kind="progress", project=project_id, revision=revision, share=share, what=what)
        return True

    outcome: dict[str, Any]
    store = DatabaseStore()
    try:
        with beating(evaluation_id):
            plan = plan_from(plan_document)
            report = evaluate(plan, body, plan_document["part"]["sha256"], store, progress)
            stills = render_stills(report, plan, store)
        outcome = {"status": "done", "share": 1.0, "report": report.model_dump(mode="json"), "stills": stills}
    except Stopped:
        outcome = {"status": "stopped"}
    except BadInput as bad:
        outcome = {"status": "failed", "problem": bad.told()}
    except Exception as broken:
        log.exception("evaluation %s broke down", evaluation_id)
        outcome = {
            "status": "failed",
            "problem": {
                "code": "evaluation.broke", "where": plan_document["name"],
                "what": f"the computation broke down: {type(broken).__name__}: {broken}",
                "mend": "undo the last edit and run again; the plan is as you left it",
            },
        }  # fmt: skip
    with transaction() as session:
        session.execute(update(Evaluation).where(Evaluation.id == evaluation_id).values(**outcome))
        tell(session, kind="evaluation", project=project_id)
