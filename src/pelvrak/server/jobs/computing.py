"""What the computing processes do: evaluate a revision, help with one, read a file. Loading it takes seconds; the workers do without."""

from __future__ import annotations

import logging
import time
from typing import Any

from sqlalchemy.orm import Session

from pelvrak.core.billet.forms import looks_like_stock
from pelvrak.core.billet.outline import looks_like_dxf
from pelvrak.core.engine.engine import Engine
from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.geometry.protected import protected
from pelvrak.core.route.evaluate import cut_ahead, evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import Report
from pelvrak.core.route.run import part_result
from pelvrak.server.db.models import Evaluation, PartUpload, Project, Revision, now
from pelvrak.server.db.session import tell, transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of
from pelvrak.server.jobs.stills import render_stills
from pelvrak.server.jobs.wanted import TELL_S, Passing, broke, help_wanted, wanted

BILLET_READER = "pelvrak.core.billet.billet_reader"
log = logging.getLogger("pelvrak.jobs")


def read_file(body: bytes, name: str, sha256: str) -> dict[str, Any]:
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


def evaluate_revision(evaluation_id: int, beside: bool) -> dict[str, Any]:
    """The columns that say how it went. beside: it lets pass what somebody waits for."""
    with transaction() as session:
        row = session.get(Evaluation, evaluation_id)
        if row is None:
            return {}
        project_id, revision = row.project_id, row.revision
        plan_document, body = _asked_for(session, evaluation_id)
    told, passing = 0.0, Passing(beside)

    def progress(share: float, what: str) -> bool:
        nonlocal told
        if time.monotonic() - told < TELL_S:
            return True
        told = time.monotonic()
        with transaction() as session:
            row = session.get(Evaluation, evaluation_id)
            if row is None or not wanted(row, session.get(Project, project_id)) or passing.now(session):
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
            if row is not None and wanted(row, session.get(Project, project_id)):
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
        return {"status": "failed", "report": None, "problem": broke(str(broken) or "no reason given")}
    document = report.told()
    return {
        "status": "done",
        "share": 1.0,
        "report": document,
        "line": line_of(document),
        "stills": stills,
        "keys": sorted(keys),
    }


def help_revision(evaluation_id: int) -> None:
    """Run the steps of an evaluation that its next setups wait for, for the worker that computes it."""
    asked = 0.0

    def progress(share: float, what: str) -> bool:
        nonlocal asked
        if time.monotonic() - asked < TELL_S:
            return True
        asked = time.monotonic()
        return help_wanted(evaluation_id)

    with transaction() as session:
        plan_document, body = _asked_for(session, evaluation_id)
    try:
        sha256 = plan_document["part"]["sha256"]
        cut_ahead(plan_from(plan_document), body, sha256, DatabaseStore(), progress, body_of)
    except BadInput:
        return  # told by who evaluates
    except Stopped:
        raise
    except Exception:
        log.exception("evaluation %s could not be helped with", evaluation_id)


def _asked_for(session: Session, evaluation_id: int) -> tuple[dict[str, Any], bytes]:
    """The plan that an evaluation computes, and its part's file."""
    row = session.get(Evaluation, evaluation_id)
    state = None if row is None else session.get(Revision, (row.project_id, row.revision))
    if state is None:
        raise Stopped  # the project is gone
    upload = session.get(PartUpload, state.plan["part"]["sha256"])
    return state.plan, upload.body if upload else b""


def line_of(report: dict[str, Any]) -> dict[str, Any]:
    """What the list of projects shows of a report."""
    setups, left = report["setups"], report["comparison"]
    return {
        "positions": sum(len(one["positions"]) for one in setups),
        "registers": sum(len(one["offsets"]) for one in setups),
        "time_s": sum(one["time_s"] for one in setups) if setups else None,
        "left_mm3": left["left_volume_mm3"] if left else None,
    }
