"""The tools of a plan as files: taken out as a table or JSON, and read from one to be brought in."""

from __future__ import annotations

from fastapi import APIRouter, UploadFile
from fastapi.responses import PlainTextResponse, Response

from pelvrak.core.cutting.tool_files import MOST_BYTES, tools_from, tools_to_csv, tools_to_json
from pelvrak.core.cutting.tools import Tool
from pelvrak.server.api.projects import plan_of
from pelvrak.server.api.shapes import ProjectId, file_of
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["tools"])


def _attached(text: str, kind: str, name: str) -> PlainTextResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return PlainTextResponse(text, media_type=kind, headers=headers)


@router.get("/projects/{project_id}/tools.csv", **file_of("text/csv"))
def tools_csv(project_id: ProjectId) -> Response:
    """The plan's tools as a table with the property names of ISO 13399, mm."""
    with transaction() as session:
        plan = plan_of(session, project_id)
    return _attached(tools_to_csv(plan.tools), "text/csv", "tools.csv")


@router.get("/projects/{project_id}/tools.json", **file_of("application/json"))
def tools_json(project_id: ProjectId) -> Response:
    """The plan's tools as JSON with the same names."""
    with transaction() as session:
        plan = plan_of(session, project_id)
    return _attached(tools_to_json(plan.tools), "application/json", "tools.json")


@router.post("/tools/read")
def read_tools(file: UploadFile) -> list[Tool]:
    """The tools in a CSV or JSON file; one that is wrong refuses all of it. Nothing is kept: a plan takes
    them by its edits.
    """
    return tools_from(file.file.read(MOST_BYTES + 1), file.filename or "tools")
