"""How is work handed to the workers? In the transaction that asks for it, so that one is never there without
the other.
"""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import text
from sqlalchemy.orm import Session

# Parts are read while routes are computed: each has workers of its own.
PARTS, ROUTES = "parts", "routes"
# What someone waits for is taken first; what nobody looks at lets it pass, even when it has begun.
URGENT, BESIDE = 10, 0
# A worker with nothing else to do helps another with its route.
IDLE = -10
# The queue's own function, as its library calls it.
_DEFER = text(
    "select procrastinate_defer_jobs_v1(array[row(cast(:queue as varchar), cast(:task as varchar), :priority,"
    " null, null, cast(:args as jsonb), null)::procrastinate_job_to_defer_v1])"
)
_URGENT_WAITS = text(
    "select exists(select 1 from procrastinate_jobs where task_name = 'evaluate' and status = 'todo' and"
    " priority >= :urgent)"
)
_RAISE = text(
    "update procrastinate_jobs set priority = :urgent where task_name = 'evaluate' and status = 'todo'"
    " and priority < :urgent and args->>'evaluation_id' = :evaluation"
)


def _hand(session: Session, queue: str, task: str, priority: int = BESIDE, **args: Any) -> None:
    session.execute(_DEFER, {"queue": queue, "task": task, "priority": priority, "args": json.dumps(args)})


def hand_evaluation(session: Session, evaluation_id: int, priority: int = URGENT) -> None:
    """Let a worker compute an evaluation once the transaction has committed."""
    _hand(session, ROUTES, "evaluate", priority, evaluation_id=evaluation_id)


def hand_help(session: Session, evaluation_id: int) -> None:
    """Let a worker that has nothing else to do help with an evaluation that another computes."""
    _hand(session, ROUTES, "help", IDLE, evaluation_id=evaluation_id)


def make_urgent(session: Session, evaluation_id: int) -> None:
    """Somebody looks at what is still to be computed: it goes first."""
    session.execute(_RAISE, {"urgent": URGENT, "evaluation": str(evaluation_id)})


def urgent_waits(session: Session) -> bool:
    """Whether somebody waits for a computation that no worker has begun."""
    return bool(session.scalar(_URGENT_WAITS, {"urgent": URGENT}))


def hand_part(session: Session, sha256: str) -> None:
    """Let a worker read a part once the transaction has committed."""
    _hand(session, PARTS, "read_part", sha256=sha256)
