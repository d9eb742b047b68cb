"""What a holding begins with: everyday ones whole, and each further fixture where it first goes."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import crease_lines, transformed, with_label
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.holding.assemble import standing_at
from pelvrak.core.holding.everyday import Everyday, Table, everyday, next_item
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.kinds import Fixture, Own
from pelvrak.core.holding.mating import Feature, edge_at, feature_at
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import SURFACE
from pelvrak.core.route.plan import Plan, Setup, hold_from
from pelvrak.core.route.run import mesh_in
from pelvrak.core.route.typed_holding import typed_holding
from pelvrak.server.api.holding import shop_fixtures
from pelvrak.server.api.machines import computed_setup
from pelvrak.server.api.moments import KERNELS
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.projects import setup_of, told_of
from pelvrak.server.api.shapes import Length, ProjectId, file_of
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of, model_of

router = APIRouter(prefix="/api/projects/{project_id}", tags=["holding"])


@router.get("/item/{setup}")
def item_of_holding(project_id: ProjectId, setup: str, fixture: Annotated[str, Query(max_length=40)]) -> Item:
    """A fixture as it first goes into a setup's holding: on what suits it, or in the middle of the table."""
    own, fixtures, table, _ = _holding(project_id, setup)
    if fixture not in fixtures:
        raise Refused(
            404,
            "hold.unknown_fixture",
            fixture,
            f"there is no {fixture!r} for {setup!r}",
            "choose one of the library",
        )
    return next_item(own.hold, fixtures[fixture], fixtures, table)


@router.get("/everyday/{setup}")
def everyday_holdings(project_id: ProjectId, setup: str) -> tuple[Everyday, ...]:
    """The everyday holdings that the library has the pieces for, for the work as it comes into a setup."""
    _, fixtures, table, size = _holding(project_id, setup)
    return everyday(fixtures, size, table)


@router.get("/holding.glb", **file_of("model/gltf-binary"))
def holding_as_typed(
    project_id: ProjectId, setup: str, hold: Annotated[str, Query(max_length=20_000)]
) -> Response:
    """A holding (JSON, as in the plan) round the stock that was last computed for a setup, drawn at once:
    what stands where, in its zero frame, and not what touches.
    """
    plan, own, told, key = computed_setup(project_id, setup)
    if told.incoming_key is None:
        raise Refused(409, "project.not_computed", setup, "no stock comes into it", "wait until one does")
    wanted, fixtures = hold_from(hold), _fixtures(plan)
    engine, model = Engine(DatabaseStore()), model_of(key)
    assert model is not None and told.zero_from_work is not None
    solids = {
        item.id: mesh_in(body_of(one.sha256, one.file), one.file, engine)
        for item in wanted.items
        if isinstance(one := fixtures.get(item.fixture), Own)
    }
    stock = surface_of(engine, told.incoming_key).value(SURFACE)
    with KERNELS:
        mesh = typed_holding(wanted, fixtures, stock, model.part, np.array(told.zero_from_work), solids)
    return Response(to_glb(mesh, crease_lines(mesh)), media_type="model/gltf-binary")


class PickedPiece(BaseModel):
    """A place of the holding that was picked. piece: its number among the pieces; at: where, zero frame, mm;
    way: the normal of the facet that was met; edge: the straight edge near there is meant, not the face.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    piece: Annotated[int, Field(ge=0, le=10_000)]
    at: tuple[Length, Length, Length]
    way: tuple[Length, Length, Length]
    edge: bool = False


class PieceFeature(BaseModel):
    """What was picked: the item it belongs to ("table" for the table), and its plane, axis or edge in
    that item's frame.
    """

    item: str
    feature: Feature


@router.post("/feature/{setup}")
def feature_of_holding(project_id: ProjectId, setup: str, picked: PickedPiece) -> PieceFeature:
    """The plane, round wall or edge of the holding at a picked place, as it was last computed."""
    plan, own, told, _ = computed_setup(project_id, setup)
    hold = told.hold
    if hold is None or hold.key is None or hold.zero_on_table is None or picked.piece >= len(hold.pieces):
        raise Refused(
            409,
            "project.not_computed",
            setup,
            "nothing of this holding stands yet",
            "wait until it is current",
        )
    fact, fixtures = hold.pieces[picked.piece], _fixtures(plan)
    item = next((one for one in own.hold.items if one.id == fact.item), None)
    kind = None if item is None else fixtures[item.fixture]
    moves = fact.moves or (kind is not None and kind.waits)
    if moves or (item is None and fact.item != "table"):
        raise Refused(
            422,
            "hold.moves",
            fact.name,
            f"the {fact.name} goes where the work lets it",
            "pick something that stands by itself",
        )
    layout_from_item = np.eye(4) if item is None else standing_at(own.hold, fixtures, item.id)
    to_item = inverse(layout_from_item) @ rigid(np.eye(3), np.array(hold.zero_on_table))
    whole = Result(hold.key, Engine(DatabaseStore())).value(SURFACE)
    solid = transformed(with_label(whole, picked.piece), to_item @ rigid(np.eye(3), np.array(hold.shift)))
    at = moved(to_item, np.array(picked.at))
    found = (
        edge_at(solid, at) if picked.edge else feature_at(solid, at, turned(to_item, np.array(picked.way)))
    )
    return PieceFeature(item=fact.item, feature=found)


def _fixtures(plan: Plan) -> dict[str, Fixture]:
    """All fixtures a plan may name: its own before the shop's."""
    with transaction() as session:
        return {one.id: one for one in (*shop_fixtures(session), *plan.fixtures)}


def _holding(project_id: int, setup: str) -> tuple[Setup, dict[str, Fixture], Table, Vector | None]:
    """A setup, all fixtures it may name, the size of its machine's table, and of the work as it is seated,
    mm. Raises Refused when there is no such setup.
    """
    state = state_of_project(project_id)
    own = setup_of(state.plan, setup)
    fixtures = _fixtures(state.plan)
    table = machine_of(own.machine, state.plan.machines).table
    told = told_of(state, setup)
    size = as_vector(np.subtract(told.high, told.low)) if told and told.low and told.high else None
    return own, fixtures, (table.length, table.depth), size
