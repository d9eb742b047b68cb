"""What can be cut in a setup: each feature that looks to the spindle, with its operations and their tools."""

from __future__ import annotations

from fastapi import APIRouter

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.engine import Engine
from pelvrak.core.geometry.features import Features
from pelvrak.core.route.pieces import FEATURES
from pelvrak.core.route.proposing import Offers, incoming_to, offers
from pelvrak.server.api.machines import computed_setup
from pelvrak.server.api.moments import KERNELS
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import model_of

router = APIRouter(prefix="/api/projects/{project_id}", tags=["plan"])


@router.get("/cuttable/{setup}")
def cuttable_in(project_id: ProjectId, setup: str) -> Offers:
    """What can be cut in a setup, as the stock was last computed to come into it. Nothing is changed: what is
    taken is put into the plan by its edits.
    """
    plan, own, told, key = computed_setup(project_id, setup)
    store = DatabaseStore()
    model, features = model_of(key), store.get(key, FEATURES.name)
    assert model is not None and features is not None
    with KERNELS:
        incoming = incoming_to(Engine(store), told)
        return offers(
            plan, own, model, Features.model_validate_json(features), incoming, tool_shelf().values()
        )
