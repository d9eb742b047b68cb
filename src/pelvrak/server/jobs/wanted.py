"""Does anyone still wait for a computation?"""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

from sqlalchemy.orm import Session

from pelvrak.server.db.models import Evaluation, Project
from pelvrak.server.db.session import transaction
from pelvrak.server.jobs.handing import urgent_waits

if TYPE_CHECKING:
    from pelvrak.core.route.run import Progress

# An idle worker takes a job within this.
IDLE_TAKES_S = 0.6
# A computation asks, and tells how far it is, no oftener than this; who helps another asks sooner, to give
# way.
TELL_S, GIVES_WAY_S = 0.25, 0.08


def wanted(row: Evaluation | None, project: Project | None) -> bool:
    """Whether an evaluation is of the plan as it is, and not to be stopped."""
    return row is not None and project is not None and not row.stop and project.head == row.revision


def under_way(session: Session, evaluation_id: int) -> bool:
    """Whether a worker computes an evaluation that is still wanted."""
    row = session.get(Evaluation, evaluation_id)
    return row is not None and row.status == "running" and wanted(row, session.get(Project, row.project_id))


def help_wanted(evaluation_id: int) -> bool:
    """Whether it may be helped with: it is under way, and nobody waits for anything else."""
    with transaction() as session:
        return under_way(session, evaluation_id) and not urgent_waits(session)


def seldom(ask: Progress, every: float = TELL_S) -> Progress:
    """A question that is asked no oftener than this, s; in between the answer is yes."""
    asked = 0.0

    def answer(share: float, what: str) -> bool:
        nonlocal asked
        if time.monotonic() - asked < every:
            return True
        asked = time.monotonic()
        return ask(share, what)

    return answer


class Passing:
    """Whether a computation nobody looks at should let another pass: one that somebody waits for, and no idle
    worker takes.
    """

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


def broke(how: str) -> dict[str, Any]:
    """What is told of a computation that broke down."""
    return {
        "code": "evaluation.broke",
        "where": "the plan",
        "what": f"the computation broke down: {how}",
        "mend": "undo the last edit and run again; the plan is as you left it",
    }
