"""What runs in the workers: reading parts and evaluating plans."""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from procrastinate import JobContext
from sqlalchemy import update

from pelvrak.core.errors import BadInput, SeveralSolids, Stopped
from pelvrak.server.db.models import Evaluation, PartUpload, Project, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.jobs.apart import BrokeDown, run
from pelvrak.server.jobs.app import queue
from pelvrak.server.jobs.handing import (
    BESIDE,
    PARTS,
    ROUTES,
    URGENT,
    hand_evaluation,
    hand_help,
)
from pelvrak.server.jobs.wanted import Passing, broke, help_wanted, under_way, wanted

BEAT_S = 2.0
# A route that takes longer than this is helped with by a worker that is idle.
HELP_AFTER_S = 1.5
log = logging.getLogger("pelvrak.jobs")


# Loaded by the processes that compute, and by no other: it takes seconds.
def _read(body: bytes, name: str) -> dict[str, Any]:
    from pelvrak.server.jobs.files import read_file

    return read_file(body, name)


def _evaluate(evaluation_id: int, beside: bool) -> dict[str, Any]:
    from pelvrak.server.jobs.computing import evaluate_revision

    return evaluate_revision(evaluation_id, beside)


def _help(evaluation_id: int) -> None:
    from pelvrak.server.jobs.computing import help_revision

    help_revision(evaluation_id)


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
            outcome = _read(body, name)
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


@queue.task(name="evaluate", queue=ROUTES, pass_context=True)
def evaluate_project(context: JobContext, evaluation_id: int) -> None:
    """Compute one revision; stops when asked to, or when the plan has moved on; lets what somebody waits for
    pass.
    """
    beside = context.job is not None and context.job.priority < URGENT
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id, with_for_update=True)
        if row is None or row.status not in ("queued", "running"):
            return
        project_id = row.project_id
        if not wanted(row, session.get(Project, project_id)):
            row.status = "stopped"
            tell(session, kind="evaluation", project=project_id)
            return
        row.status, row.beat, row.tries = "running", now(), row.tries + 1
    beat, passing, alone_until = time.monotonic(), Passing(beside), time.monotonic() + HELP_AFTER_S

    def still_wanted() -> bool:
        """Whether anyone still waits for this; leaves a sign of life, so that a dead worker is noticed. Calls
        for help once.
        """
        nonlocal beat, alone_until
        with transaction() as session:
            if time.monotonic() > alone_until:
                alone_until = math.inf
                hand_help(session, evaluation_id)
            row = session.get(Evaluation, evaluation_id)
            if row is not None and time.monotonic() - beat > BEAT_S:
                beat, row.beat = time.monotonic(), now()
            return wanted(row, session.get(Project, project_id)) and not passing.now(session)

    try:
        outcome = run(_evaluate, (evaluation_id, beside), still_wanted)
    except Stopped:
        outcome = {"status": "stopped", "report": None}
    except BrokeDown as broken:
        outcome = {"status": "failed", "report": None, "problem": broke(str(broken))}
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id)
        if beside and outcome["status"] == "stopped" and wanted(row, session.get(Project, project_id)):
            # It only let another pass: what it computed is kept, and it goes on from there.
            outcome = {"status": "queued", "beat": now()}
            hand_evaluation(session, evaluation_id, BESIDE)
        session.execute(update(Evaluation).where(Evaluation.id == evaluation_id).values(**outcome))
        tell(session, kind="evaluation", project=project_id)


@queue.task(name="help", queue=ROUTES)
def help_evaluate(evaluation_id: int) -> None:
    """Run the steps of an evaluation that its next setups wait for, beside the worker that computes it; gives
    way to whatever somebody waits for, and then goes on.
    """
    try:
        run(_help, (evaluation_id,), lambda: help_wanted(evaluation_id))
    except BrokeDown:
        return  # who evaluates does without
    except Stopped:
        with transaction() as session:
            if under_way(session, evaluation_id):
                hand_help(session, evaluation_id)
