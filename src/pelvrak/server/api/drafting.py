"""A fresh operation, with the defaults of its kind and the tool that suits it."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.route.drafting import Draft, drafted
from pelvrak.core.route.plan import plan_from
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import part_facts
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.db.models import Project, Revision
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["plan"])


class DraftWanted(BaseModel):
    """What is known of an operation that is to be made, or of one that is to be cut otherwise."""

    setup: Annotated[str, Field(max_length=20, description="the setup it is for")]
    operation: Annotated[dict[str, Any], Field(description="its kind, and any of its fields")]


@router.post("/projects/{project_id}/draft")
def draft(project_id: ProjectId, wanted: DraftWanted) -> Draft:
    """The operation as a whole. Nothing is changed: it is put into the plan by an edit."""
    with transaction() as session:
        project = session.get(Project, project_id)
        if project is None:
            raise Refused(
                404,
                "project.unknown",
                "project",
                f"there is no project {project_id}",
                "open one from the list",
            )
        head = session.get(Revision, (project_id, project.head))
        assert head is not None
        plan = plan_from(head.plan)
        part = part_facts(session, plan.part.sha256)
    setup = next((one for one in plan.setups if one.name == wanted.setup), None)
    if setup is None:
        raise Refused(
            404, "project.no_setup", "setup", f"there is no setup {wanted.setup!r}", "choose one of the route"
        )
    return drafted(plan, setup, wanted.operation, part, tool_shelf().values())
