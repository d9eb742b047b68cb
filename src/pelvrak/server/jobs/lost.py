"""What was handed to a worker and never comes back? Taken up again, and after MOST_TRIES said to have
failed.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import BigInteger, Text, cast, column, exists, select, table
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session, defer
from sqlalchemy.sql.elements import ColumnElement

from pelvrak.server.db.models import Evaluation, PartUpload, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.jobs.handing import hand_evaluation, hand_part

LOST_AFTER_S = 12.0
MOST_TRIES = 3
_JOBS = table("procrastinate_jobs", column("task_name"), column("status"), column("args", JSONB))


def _waits(task: str, name: str, value: Any) -> ColumnElement[bool]:
    """Whether a job of a task still waits for a worker, told by one of its arguments."""
    told = _JOBS.c.args[name].astext
    same = cast(told, BigInteger) == value if name == "evaluation_id" else told == value
    return exists(
        select(1)
        .select_from(_JOBS)
        .where(_JOBS.c.task_name == task, cast(_JOBS.c.status, Text) == "todo", same)
    )


def take_up_lost() -> None:
    """Hand on again what gave no sign of life for LOST_AFTER_S: computing and reading whose worker died, and
    what was never handed on because a process ended in between. After MOST_TRIES it fails visibly.
    """
    late = now() - timedelta(seconds=LOST_AFTER_S)
    with transaction() as session:
        _evaluations(session, late)
    with transaction() as session:
        _parts(session, late)


def _evaluations(session: Session, late: datetime) -> None:
    lost = (
        select(Evaluation)
        .where(
            Evaluation.status.in_(("running", "queued")),
            Evaluation.beat < late,
            ~_waits("evaluate", "evaluation_id", Evaluation.id),
        )
        .options(defer(Evaluation.report))
        .with_for_update(skip_locked=True)
    )
    for row in session.scalars(lost):
        if row.tries >= MOST_TRIES:
            row.status = "failed"
            row.problem = {
                "code": "evaluation.lost",
                "where": row.what or "the plan",
                "what": f"the worker ended {row.tries} times while computing this",
                "mend": "undo the last edit and run again",
            }
        else:
            row.status, row.beat = "queued", now()
            hand_evaluation(session, row.id)
        tell(session, kind="evaluation", project=row.project_id)


def _parts(session: Session, late: datetime) -> None:
    lost = (
        select(PartUpload)
        .where(
            PartUpload.status == "reading",
            PartUpload.beat < late,
            ~_waits("read_part", "sha256", PartUpload.sha256),
        )
        .options(defer(PartUpload.body))
        .with_for_update(skip_locked=True)
    )
    for row in session.scalars(lost):
        if row.tries >= MOST_TRIES:
            row.status = "refused"
            row.problem = {
                "code": "part.crashed",
                "where": row.name,
                "what": f"the reader ended {row.tries} times on this file",
                "mend": "export it again, simpler",
            }
        else:
            row.beat = now()
            hand_part(session, row.sha256)
        tell(session, kind="part", sha256=row.sha256)
