"""Tools: the shop's library, the tools of a plan as files, and one tool as it is drawn."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response, UploadFile
from fastapi.responses import PlainTextResponse
from pydantic import Field
from sqlalchemy.orm import Session

from pelvrak.core.cutting.tool_files import MOST_BYTES, tools_from, tools_to_csv, tools_to_json
from pelvrak.core.cutting.tool_picture import ToolPicture, picture_of
from pelvrak.core.cutting.tools import Tool, tool_shelf
from pelvrak.core.route.changer import Tooling, changer
from pelvrak.core.route.plan import plan_from
from pelvrak.server.api.libraries import (
    IfMatch,
    changed,
    read_rows,
    replace_rows,
    revision_of,
    tell_revision,
    told_apart,
)
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import plan_of
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.shapes import ProjectId, file_of
from pelvrak.server.db.models import ToolRow
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["tools"])
MOST_TOOLS = 5000
Tools = Annotated[list[Tool], Field(max_length=MOST_TOOLS)]


def shop_tools(session: Session) -> list[Tool]:
    """All tools of the shop's library: those that ship with the program until it was changed."""
    rows = [Tool.model_validate(row) for row in read_rows(session, ToolRow)]
    return rows or list(tool_shelf().values())


@router.get("/tools")
def tools(response: Response) -> list[Tool]:
    """All tools of the shop; the ETag says which revision of the library it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "tools"))
        return shop_tools(session)


@router.put("/tools")
def put_tools(rows: Tools, response: Response, if_match: IfMatch = None) -> list[Tool]:
    """The whole library anew, on the revision that If-Match names; ids must be told apart."""
    if not rows:
        raise Refused(422, "tools.library", "tools", "a library without a tool", "keep at least one")
    told_apart("tools", [row.id for row in rows])
    with transaction() as session:
        changed(session, "tools", if_match, response)
        return replace_rows(session, ToolRow, rows)


@router.post("/tools.csv")
def bring_tools(file: UploadFile, response: Response) -> list[Tool]:
    """Tools of a CSV or JSON file into the library, beside those that are here; one of the same id takes its
    place. A wrong one refuses all.
    """
    new = {one.id: one for one in read_tools(file)}
    with transaction() as session:
        changed(session, "tools", None, response)
        kept = [new.pop(one.id, one) for one in shop_tools(session)]
        return replace_rows(session, ToolRow, [*kept, *new.values()])


@router.get("/tools.csv", **file_of("text/csv"))
def shop_csv() -> Response:
    """The library as a table with the property names of ISO 13399, mm."""
    with transaction() as session:
        text = tools_to_csv(shop_tools(session))
    return _attached(text, "text/csv", "tools.csv")


@router.post("/tools/picture")
def tool_picture(tool: Tool) -> ToolPicture:
    """A tool in its holder as it is drawn, with its dimensions. Nothing is kept."""
    return picture_of(tool)


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


@router.get("/projects/{project_id}/changer")
def changer_of(project_id: ProjectId) -> Tooling:
    """How long each tool is in cut over the route, and what is put where before each setup."""
    state = state_of_project(project_id)
    plan = plan_from(state.plan.model_dump(mode="json"))
    return changer(plan, state.report.setups if state.report else ())
