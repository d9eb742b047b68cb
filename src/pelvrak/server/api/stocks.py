"""Stocks that a setup can begin with: of another plan, and what would come of one alone."""

from __future__ import annotations

import hashlib
from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.billet.chosen import Chosen
from pelvrak.core.route.alone import Alone, alone, told_alone
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.stock_files import note_on, stock_at_moment, stock_file
from pelvrak.server.api.moments import KERNELS
from pelvrak.server.api.parts import state_of
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.projects import told_of
from pelvrak.server.api.shapes import PartState, ProjectId
from pelvrak.server.db.models import PartUpload
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of

router = APIRouter(prefix="/api/projects/{project_id}", tags=["stocks"])
Ident = Annotated[str, Field(max_length=60)]


class AloneAsked(BaseModel):
    """What is run alone. operation: by its id, None for the whole setup; incoming: the stock it begins with,
    None for the one the plan says.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    operation: Ident | None = None
    incoming: Chosen | None = None


@router.post("/alone/{setup}")
def run_alone(project_id: ProjectId, setup: str, asked: AloneAsked) -> Alone:
    """What one setup, or one of its operations, does on a stock of one's choice. Nothing is changed."""
    plan = plan_from(state_of_project(project_id).plan.model_dump(mode="json"))
    only = alone(plan, setup, asked.operation, asked.incoming)
    part = body_of(plan.part.sha256, plan.part.file)
    with KERNELS:
        return told_alone(evaluate(only, part, DatabaseStore(), files=body_of), only.setups[-1])


class StockAsked(BaseModel):
    """A stock of a plan. setup: by its name; after: an operation, by its id; "before": before the first cut;
    None: the outgoing one.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    setup: Ident
    after: Ident | None = None


@router.post("/stock")
def keep_stock(project_id: ProjectId, asked: StockAsked) -> PartState:
    """Keep a stock of this plan as it was last computed, as a file that any plan can begin a setup with."""
    state = state_of_project(project_id)
    told = told_of(state, asked.setup)
    key = None if told is None else stock_at_moment(told, asked.after)[0]
    if told is None or key is None:
        raise Refused(
            409,
            "project.not_computed",
            asked.setup,
            f"{asked.setup} of {state.plan.name} has not been computed",
            "wait until it is current",
        )
    plan = plan_from(state.plan.model_dump(mode="json"))
    note = note_on(plan, told, asked.after)
    body = stock_file(DatabaseStore(), key, "rays", note)
    sha256 = hashlib.sha256(body).hexdigest()
    with transaction() as session:
        row = session.get(PartUpload, sha256)
        if row is None:
            row = PartUpload(
                sha256=sha256, name=f"{note.name[:190]}.rays", body=body, kind="stock", status="ready"
            )
            session.add(row)
            session.flush()
        return state_of(row)
