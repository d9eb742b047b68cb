"""How is work handed to the workers? In the transaction that asks for it, so that one is never there without the other."""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import text
from sqlalchemy.orm import Session

# Parts are read while routes are computed: each has workers of its own.
PARTS, ROUTES = "parts", "routes"
# The queue's own function, as its library calls it.
_DEFER = text(
    "select procrastinate_defer_jobs_v1(array[row(cast(:queue as varchar), cast(:task as varchar), 0, null, null,"
    " cast(:args as jsonb), null)::procrastinate_job_to_defer_v1])"
)


def _hand(session: Session, queue: str, task: str, **args: Any) -> None:
    session.execute(_DEFER, {"queue": queue, "task": task, "args": json.dumps(args)})


def hand_evaluation(session: Session, evaluation_id: int) -> None:
    """Let a worker compute an evaluation once the transaction has committed."""
    _hand(session, ROUTES, "evaluate", evaluation_id=evaluation_id)


def hand_part(session: Session, sha256: str) -> None:
    """Let a worker read a part once the transaction has committed."""
    _hand(session, PARTS, "read_part", sha256=sha256)
