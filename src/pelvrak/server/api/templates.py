"""Templates: operations the shop keeps for its next plans."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from pelvrak.core.cures import Cure
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.route.templates import Template, from_template
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
from pelvrak.server.api.projects import plan_of, setup_of
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.db.models import TemplateRow
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["templates"])
MOST_TEMPLATES = 1000


class UseTemplate(BaseModel):
    """Where a template is put."""

    template: Annotated[str, Field(max_length=40, description="which, by its id")]
    setup: Annotated[str, Field(max_length=20, description="the setup it is put into")]
    faces: Annotated[
        tuple[FaceRef, ...], Field(max_length=200, description="faces its operations are to cut")
    ] = ()


def _rows(session: Session) -> list[Template]:
    return [Template.model_validate(row) for row in read_rows(session, TemplateRow)]


@router.get("/templates")
def templates(response: Response) -> list[Template]:
    """All templates of the shop; the ETag says which revision of the library it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "templates"))
        return _rows(session)


@router.put("/templates")
def put_templates(
    rows: Annotated[list[Template], Field(max_length=MOST_TEMPLATES)],
    response: Response,
    if_match: IfMatch = None,
) -> list[Template]:
    """The whole library anew, on the revision that If-Match names; ids must be told apart."""
    told_apart("templates", [row.id for row in rows])
    with transaction() as session:
        changed(session, "templates", if_match, response)
        return replace_rows(session, TemplateRow, rows)


@router.post("/projects/{project_id}/from_template")
def use_template(project_id: ProjectId, wanted: UseTemplate) -> Cure:
    """The edits that put a template into a setup. Nothing is changed: the plan takes them by its edits."""
    with transaction() as session:
        plan = plan_of(session, project_id)
        found = next((one for one in _rows(session) if one.id == wanted.template), None)
    if found is None:
        raise Refused(
            404, "templates.unknown", "template", f"there is no template {wanted.template}", "choose another"
        )
    return from_template(plan, setup_of(plan, wanted.setup), found, wanted.faces)
