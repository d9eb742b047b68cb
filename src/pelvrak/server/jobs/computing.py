"""What the computing processes do: evaluate a revision, help with one. Loading it takes seconds; the workers
do without.
"""

from __future__ import annotations

import logging
from typing import Any, NamedTuple

from sqlalchemy import update
from sqlalchemy.orm import defer

from pelvrak.core.billet.forms import Files
from pelvrak.core.engine.engine import Engine
from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.route.evaluate import Beside, Others, cut_ahead, evaluate
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import Report
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of
from pelvrak.server.jobs.stills import render_stills
from pelvrak.server.jobs.wanted import GIVES_WAY_S, Passing, broke, help_wanted, seldom, wanted

log = logging.getLogger("pelvrak.jobs")


def evaluate_revision(evaluation_id: int, beside: bool) -> dict[str, Any]:
    """The columns that say how it went. beside: it lets pass what somebody waits for."""
    asked, passing = _asked_for(evaluation_id), Passing(beside)

    @seldom
    def progress(share: float, what: str) -> bool:
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is None or not wanted(row, session.get(Project, asked.project)) or passing.now(session):
                return False
            row.share, row.what, row.beat = share, what, now()
            tell(
                session,
                kind="progress",
                project=asked.project,
                revision=asked.revision,
                share=share,
                what=what,
            )
        return True

    store = DatabaseStore()
    keys: dict[str, str] = {}

    def partly(so_far: Report) -> None:
        """Let the page show what there is: kept with the evaluation until the whole is there."""
        _keep(evaluation_id, asked.project, report=so_far.told())
        if not so_far.begun:
            # Drawing takes as long as a billet does: its numbers do not wait for that.
            _keep(evaluation_id, asked.project, stills=render_stills(so_far, Engine(store, keys=keys)))

    try:
        plan = plan_from(asked.plan)
        files = Beside(body_of, others_of(asked.project))
        report = evaluate(plan, asked.body, store, progress, files, partly, keys)
        stills = render_stills(report, Engine(store, keys=keys))
    except Stopped:
        return {"status": "stopped", "report": None}
    except BadInput as bad:
        return {"status": "failed", "report": None, "problem": bad.told()}
    except Exception as broken:
        log.exception("evaluation %s broke down", evaluation_id)
        return {"status": "failed", "report": None, "problem": broke(str(broken) or "no reason given")}
    _read_as(asked.plan["part"]["sha256"], report.part_key)
    document = report.told()
    return {
        "status": "done",
        "share": 1.0,
        "report": document,
        "line": line_of(document),
        "stills": stills,
        "keys": sorted(keys),
    }


def _keep(evaluation_id: int, project: int, **columns: Any) -> None:
    """Keep with an evaluation that is still wanted how far it has come."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id, options=[defer(Evaluation.report)])
        if row is not None and wanted(row, session.get(Project, project)):
            session.execute(
                update(Evaluation).where(Evaluation.id == evaluation_id).values(beat=now(), **columns)
            )
            tell(session, kind="evaluation", project=project)


def others_of(project: int) -> Others:
    """Plans of other projects, as they stand now, by their numbers. project: the one they stand in."""

    def other(name: str) -> tuple[Plan, bytes, Files]:
        number = int(name) if name.isascii() and name.isdigit() and len(name) < 10 else 0
        with transaction() as session:
            there = session.get(Project, number) if number != project else None
            state = None if there is None else session.get(Revision, (there.id, there.head))
            if state is None:
                raise BadInput(
                    "load.no_project",
                    "loads",
                    f"there is no other project {name}",
                    "choose one that is there",
                )
            plan = plan_from(state.plan)
            upload = session.get(PartUpload, plan.part.sha256)
            return plan, upload.body if upload else b"", body_of

    return other


def _read_as(sha256: str, key: str) -> None:
    """Let a part that an earlier version read be known as it was read now."""
    with transaction() as session:
        session.execute(
            update(PartUpload).where(PartUpload.sha256 == sha256, PartUpload.key != key).values(key=key)
        )


def help_revision(evaluation_id: int) -> None:
    """Run the steps of an evaluation that its next setups wait for, for the worker that computes it."""
    asked = _asked_for(evaluation_id)
    progress = seldom(lambda share, what: help_wanted(evaluation_id), GIVES_WAY_S)
    try:
        cut_ahead(plan_from(asked.plan), asked.body, DatabaseStore(), progress, body_of)
    except BadInput:
        return  # told by who evaluates
    except Stopped:
        raise
    except Exception:
        log.exception("evaluation %s could not be helped with", evaluation_id)


class _Asked(NamedTuple):
    """What an evaluation computes: a revision of a project; its plan's document; its part's file."""

    project: int
    revision: int
    plan: dict[str, Any]
    body: bytes


def _asked_for(evaluation_id: int) -> _Asked:
    """What an evaluation computes. Raises Stopped when it is gone with its project."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id)
        state = None if row is None else session.get(Revision, (row.project_id, row.revision))
        if state is None:
            raise Stopped
        upload = session.get(PartUpload, state.plan["part"]["sha256"])
        return _Asked(state.project_id, state.number, state.plan, upload.body if upload else b"")


def line_of(report: dict[str, Any]) -> dict[str, Any]:
    """What the list of projects shows of a report."""
    setups, left = report["setups"], report["comparison"]
    return {
        "positions": sum(len(one["positions"]) for one in setups),
        "registers": sum(len(one["offsets"]) for one in setups),
        "time_s": sum(one["time_s"] for one in setups) if setups else None,
        "left_mm3": left["left_volume_mm3"] if left else None,
    }
