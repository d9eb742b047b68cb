"""What runs in the workers: reading parts and evaluating plans."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from procrastinate import JobContext
from sqlalchemy import update
from sqlalchemy.orm import Session

from pelvrak.core.billet.forms import looks_like_stock
from pelvrak.core.billet.outline import looks_like_dxf
from pelvrak.core.engine.engine import Engine
from pelvrak.core.errors import BadInput, SeveralSolids, Stopped
from pelvrak.core.geometry.protected import protected
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import Report
from pelvrak.core.route.run import part_result
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of
from pelvrak.server.jobs.apart import BrokeDown, run
from pelvrak.server.jobs.app import queue
from pelvrak.server.jobs.handing import BESIDE, PARTS, ROUTES, URGENT, hand_evaluation, urgent_waits
from pelvrak.server.jobs.stills import render_stills

BEAT_S = 2.0
TELL_S = 0.25
# An idle worker takes a job within this.
IDLE_TAKES_S = 0.6
BILLET_READER = "pelvrak.core.billet.billet_reader"
log = logging.getLogger("pelvrak.jobs")


@queue.task(name="read_part", queue=PARTS)
def read_part(sha256: str) -> None:
    """Read an uploaded part; its row says how it went."""
    with transaction() as session:
        upload = session.get(PartUpload, sha256, with_for_update=True)
        if upload is None or upload.status != "reading":
            return
        upload.tries, upload.beat = upload.tries + 1, now()
        name, body = upload.name, upload.body
    try:
        with _signs_of_life(sha256):
            outcome = _read(body, name, sha256)
    except SeveralSolids as several:
        outcome = {"status": "choose", "choices": several.choices, "problem": None}
    except BadInput as bad:
        outcome = {"status": "refused", "problem": bad.told()}
    except Exception:
        log.exception("part %s could not be read", sha256)
        unread = BadInput(
            "part.unreadable", name, "the file cannot be read", "export it again, or in another format"
        )
        outcome = {"status": "refused", "problem": unread.told()}
    with transaction() as session:
        session.execute(update(PartUpload).where(PartUpload.sha256 == sha256).values(**outcome))
        tell(session, kind="part", sha256=sha256)


def _read(body: bytes, name: str, sha256: str) -> dict[str, Any]:
    """The columns that say what a file is. Raises BadInput and SeveralSolids."""
    outcome: dict[str, Any] = {"status": "ready", "problem": None}
    if looks_like_dxf(body):
        protected(BILLET_READER, ["outline"], body, name)
        outcome["kind"] = "outline"
    elif looks_like_stock(body):
        protected(BILLET_READER, ["stock"], body, name)
        outcome["kind"] = "stock"
    else:
        outcome["key"] = part_result(body, name, sha256, Engine(DatabaseStore())).key
    return outcome


@contextmanager
def _signs_of_life(sha256: str) -> Iterator[None]:
    """Say every BEAT_S that a part is still being read."""
    ended = threading.Event()

    def beat() -> None:
        while not ended.wait(BEAT_S):
            with transaction() as session:
                session.execute(update(PartUpload).where(PartUpload.sha256 == sha256).values(beat=now()))

    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


class Passing:
    """Whether a computation nobody looks at should let another pass: one that somebody waits for, and no idle worker takes."""

    def __init__(self, beside: bool) -> None:
        self.beside = beside
        self.since: float | None = None

    def now(self, session: Session) -> bool:
        """Ask once more; yes when somebody has waited for IDLE_TAKES_S."""
        if not self.beside or not urgent_waits(session):
            self.since = None
            return False
        self.since = self.since or time.monotonic()
        return time.monotonic() - self.since > IDLE_TAKES_S


@queue.task(name="evaluate", queue=ROUTES, pass_context=True)
def evaluate_project(context: JobContext, evaluation_id: int) -> None:
    """Compute one revision; stops when asked to, or when the plan has moved on; lets what somebody waits for pass."""
    beside = context.job is not None and context.job.priority < URGENT
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
    beat, passing = time.monotonic(), Passing(beside)

    def wanted() -> bool:
        """Whether anyone still waits for this; leaves a sign of life, so that a dead worker is noticed."""
        nonlocal beat
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is not None and time.monotonic() - beat > BEAT_S:
                beat, row.beat = time.monotonic(), now()
            return _wanted(row, session.get(Project, project_id)) and not passing.now(session)

    try:
        outcome = run(_evaluate, (evaluation_id, beside), wanted)
    except Stopped:
        outcome = {"status": "stopped", "report": None}
    except BrokeDown as broken:
        outcome = {"status": "failed", "report": None, "problem": _broke(str(broken))}
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id)
        if beside and outcome["status"] == "stopped" and _wanted(row, session.get(Project, project_id)):
            # It only let another pass: what it computed is kept, and it goes on from there.
            outcome = {"status": "queued", "beat": now()}
            hand_evaluation(session, evaluation_id, BESIDE)
        session.execute(update(Evaluation).where(Evaluation.id == evaluation_id).values(**outcome))
        tell(session, kind="evaluation", project=project_id)


def _wanted(row: Evaluation | None, project: Project | None) -> bool:
    return row is not None and project is not None and not row.stop and project.head == row.revision


def line_of(report: dict[str, Any]) -> dict[str, Any]:
    """What the list of projects shows of a report."""
    setups, left = report["setups"], report["comparison"]
    return {
        "positions": sum(len(one["positions"]) for one in setups),
        "registers": sum(len(one["offsets"]) for one in setups),
        "time_s": sum(one["time_s"] for one in setups) if setups else None,
        "left_mm3": left["left_volume_mm3"] if left else None,
    }


def _broke(how: str) -> dict[str, Any]:
    return {
        "code": "evaluation.broke",
        "where": "the plan",
        "what": f"the computation broke down: {how}",
        "mend": "undo the last edit and run again; the plan is as you left it",
    }


def _evaluate(evaluation_id: int, beside: bool) -> dict[str, Any]:
    """The columns that say how it went. beside: it lets pass what somebody waits for."""
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
    told, passing = 0.0, Passing(beside)

    def progress(share: float, what: str) -> bool:
        nonlocal told
        if time.monotonic() - told < TELL_S:
            return True
        told = time.monotonic()
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is None or not _wanted(row, session.get(Project, project_id)) or passing.now(session):
                return False
            row.share, row.what, row.beat = share, what, now()
            tell(session, kind="progress", project=project_id, revision=revision, share=share, what=what)
        return True

    store = DatabaseStore()
    keys: dict[str, str] = {}

    def partly(so_far: Report) -> None:
        """Let the page show what there is: kept with the evaluation until the whole is there."""
        stills = None if so_far.begun else render_stills(so_far, Engine(store, keys=keys))
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is not None and _wanted(row, session.get(Project, project_id)):
                row.report, row.beat = so_far.told(), now()
                row.stills = stills or row.stills
                tell(session, kind="evaluation", project=project_id)

    try:
        plan = plan_from(plan_document)
        report = evaluate(plan, body, plan_document["part"]["sha256"], store, progress, body_of, partly, keys)
        stills = render_stills(report, Engine(store, keys=keys))
    except Stopped:
        return {"status": "stopped", "report": None}
    except BadInput as bad:
        return {"status": "failed", "report": None, "problem": bad.told()}
    except Exception as broken:
        log.exception("evaluation %s broke down", evaluation_id)
        return {"status": "failed", "report": None, "problem": _broke(str(broken) or "no reason given")}
    document = report.told()
    return {
        "status": "done",
        "share": 1.0,
        "report": document,
        "line": line_of(document),
        "stills": stills,
        "keys": sorted(keys),
    }
