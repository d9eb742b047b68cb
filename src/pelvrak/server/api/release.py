"""Files that leave: programs, stock, plan."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response

from pelvrak.core.route.jaws import jaw_file
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.stock_files import (
    BEFORE,
    STOCK_KINDS,
    StockKind,
    note_on,
    stock_at_moment,
    stock_file,
)
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project
from pelvrak.server.api.shapes import ProjectId, ProjectState, file_of
from pelvrak.server.db.store import DatabaseStore

router = APIRouter(prefix="/api/projects/{project_id}/files", tags=["release"])


def _current(project_id: ProjectId, setup: str) -> SetupReport:
    return _of(project(project_id), setup)


def _of(state: ProjectState, setup: str) -> SetupReport:
    """What a project's report says of a setup. Raises Refused where it is of an older plan."""
    if state.report is None or state.report_revision != state.revision:
        raise Refused(
            409,
            "release.out_of_date",
            setup,
            "the plan has been changed since it was computed",
            "wait until it is current",
        )
    for report in state.report.setups:
        if report.name == setup:
            return report
    raise Refused(
        404, "release.unknown_setup", "setup", f"there is no setup {setup!r}", "choose one of the route"
    )


def _file(data: bytes | None, name: str, kind: str) -> Response:
    if data is None:
        raise Refused(409, "release.not_computed", name, "this file has not been computed", "run the plan")
    return Response(data, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.get("/{setup}.nc", **file_of("text/plain"))
def program(project_id: ProjectId, setup: str) -> Response:
    """The program of a setup."""
    key = _current(project_id, setup).program_key
    return _file(
        DatabaseStore().get(key, "program.nc") if key else None, f"{setup}.nc", "text/plain; charset=utf-8"
    )


@router.get("/loads/{load}.nc", **file_of("text/plain"))
def load_program(project_id: ProjectId, load: str) -> Response:
    """The one program of a load."""
    state = project(project_id)
    report = state.report if state.report_revision == state.revision else None
    told = next((one for one in report.loads if one.name == load), None) if report else None
    key = None if told is None else told.program_key
    return _file(
        DatabaseStore().get(key, "program.nc") if key else None, f"{load}.nc", "text/plain; charset=utf-8"
    )


@router.get("/{setup}/stock.{kind}", **file_of(*STOCK_KINDS.values()))
def stock(
    project_id: ProjectId,
    setup: str,
    kind: StockKind,
    after: Annotated[str | None, Query(max_length=40)] = None,
) -> Response:
    """A stock of a setup: its outgoing one, after an operation (by its id), or before its first cut
    ("before").
    """
    state = project(project_id)
    report = _of(state, setup)
    key, operation = stock_at_moment(report, after)
    if key is None:
        return _file(None, f"{setup}.{kind}", STOCK_KINDS[kind])
    planned = plan_from(state.plan.model_dump(mode="json"))
    note = note_on(planned, report, after)
    moment = BEFORE if after == BEFORE else f"after-{operation.number + 1}" if operation else "outgoing"
    data = stock_file(DatabaseStore(), key, kind, note)
    return _file(data, f"{setup}-{moment}.{kind}", STOCK_KINDS[kind])


JAW_FILES = {"step": "model/step", "stl": "model/stl", "dxf": "image/vnd.dxf"}


@router.get("/{setup}/jaws.{kind}", **file_of("model/step", "model/stl", "image/vnd.dxf"))
def jaws(project_id: ProjectId, setup: str, kind: str) -> Response:
    """The soft jaws or nest a setup grips in: solids, or the nest's outline."""
    if kind not in JAW_FILES:
        raise Refused(
            404, "release.no_file", kind, f"there are no jaws as {kind}", f"one of {', '.join(JAW_FILES)}"
        )
    nest = _current(project_id, setup).nest
    key = nest.files_key if nest else None
    data = jaw_file(DatabaseStore(), key, kind) if key else None
    return _file(data, f"{setup}-jaws.{kind}", JAW_FILES[kind])


@router.get("/plan.json", **file_of("application/json"))
def plan(project_id: ProjectId) -> Response:
    """The plan document."""
    state = project(project_id)
    text = json.dumps(state.plan.model_dump(mode="json"), indent=2) + "\n"
    return _file(text.encode(), "plan.json", "application/json")
