"""A fresh operation, with the defaults of its kind and the tool that suits it."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from pelvrak.core.route.drafting import Draft, drafted
from pelvrak.server.api.projects import part_facts, plan_of, setup_of
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.api.tools import shop_tools
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
        plan = plan_of(session, project_id)
        part = part_facts(session, plan.part.sha256)
        shop = shop_tools(session)
    return drafted(plan, setup_of(plan, wanted.setup), wanted.operation, part, shop)
