"""What can be cut in a setup: each feature that looks to the spindle, with its operations and their tools;
and what would come of a cure.
"""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.cures import Edits
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.part import PartModel
from pelvrak.core.proposals.steps import ProposedStep
from pelvrak.core.route.cut_by import CutFeature, cut_features
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FEATURES, PART, SURFACE
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.proposing import Offers, PartRead, StepTime, incoming_to, offers, times_of
from pelvrak.core.route.tried import Tried, tried
from pelvrak.core.route.zeros import makers_of
from pelvrak.server.api.chains import shop_rules
from pelvrak.server.api.machines import computed_setup, part_key_of
from pelvrak.server.api.moments import KERNELS
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.api.tools import shop_tools
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of, model_of

router = APIRouter(prefix="/api/projects/{project_id}", tags=["plan"])


@router.get("/cuttable/{setup}")
def cuttable_in(project_id: ProjectId, setup: str) -> Offers:
    """What can be cut in a setup, as the stock was last computed to come into it. Nothing is changed: what is
    taken is put into the plan by its edits.
    """
    plan, own, told, key = computed_setup(project_id, setup)
    store = DatabaseStore()
    model, features = _part_and_features(store, key)
    with transaction() as session:
        shop, rules = shop_tools(session), shop_rules(session)
    with KERNELS:
        incoming = incoming_to(Engine(store), told)
        return offers(plan, own, PartRead(model, features), incoming, shop, rules)


class StepsAsked(BaseModel):
    """Steps of what is offered whose times are asked for. position: they are cut at, "" as the work is
    seated.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    position: Annotated[str, Field(max_length=20)] = ""
    steps: Annotated[tuple[ProposedStep, ...], Field(max_length=20)]


@router.post("/cuttable/{setup}/times")
def times(project_id: ProjectId, setup: str, asked: StepsAsked) -> tuple[StepTime, ...]:
    """How long each step takes, its path planned on the stock that comes in. Nothing is changed."""
    plan, own, told, key = computed_setup(project_id, setup)
    engine = Engine(DatabaseStore())
    with KERNELS:
        incoming = incoming_to(engine, told)
        part = Result(key, engine).content(PART)
        return times_of(plan, own, part, incoming, asked.position, asked.steps)


class CureAsked(BaseModel):
    """Edits that are tried, of a cure or a proposal."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    edits: Edits


@router.post("/tried/{setup}")
def try_edits(project_id: ProjectId, setup: str, asked: CureAsked) -> Tried:
    """What edits would change, and which findings of a setup they would leave. Nothing is changed."""
    plan = plan_from(state_of_project(project_id).plan.model_dump(mode="json"))
    part = body_of(plan.part.sha256, plan.part.file)
    with KERNELS:
        return tried(
            plan, asked.edits, setup, lambda one: evaluate(one, part, DatabaseStore(), files=body_of)
        )


def _part_and_features(store: DatabaseStore, key: str) -> tuple[PartModel, Features]:
    model, features = model_of(key), store.get(key, FEATURES.name)
    assert model is not None and features is not None
    return model, Features.model_validate_json(features)


@router.get("/cut_by")
def cut_by(project_id: ProjectId) -> tuple[CutFeature, ...]:
    """What the part has and which operations of the whole route cut it, in the stock as it was last
    computed.
    """
    state = state_of_project(project_id)
    plan = plan_from(state.plan.model_dump(mode="json"))
    store = DatabaseStore()
    model, features = _part_and_features(store, part_key_of(plan))
    setups = state.report.setups if state.report else ()
    last = next(
        (one.outgoing_key for one in reversed(setups) if one.makes is None and one.outgoing_key), None
    )
    makers = {number: (setup.name, one.id) for number, (setup, one) in makers_of(setups).items()}
    with KERNELS:
        outcome = None if last is None else surface_of(Engine(store), last).value(SURFACE)
        return cut_features(plan, model, features, outcome, makers)
