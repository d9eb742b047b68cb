"""Machine files, the fewest positions and setups a machine needs for a part, and what its tools reach from
each.
"""

from __future__ import annotations

import numpy as np
from fastapi import APIRouter, UploadFile
from pydantic import ValidationError

from pelvrak.core.cutting.feeds import material_of
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Engine, Result, no_files
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.features import Features
from pelvrak.core.machine.machine import Machine, machine_from_json, machine_of
from pelvrak.core.route.jog import Jog, jog
from pelvrak.core.route.pieces import PART
from pelvrak.core.route.plan import Plan, Setup, plan_from, refusal
from pelvrak.core.route.reaching import Reached, reached_from
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.set_cover import SetCover, set_cover
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.projects import setup_of, told_of
from pelvrak.server.api.shapes import Length, ProjectId
from pelvrak.server.db.models import PartUpload
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore

router = APIRouter(prefix="/api", tags=["machines"])


@router.post("/machines.json")
def read_machine(file: UploadFile) -> Machine:
    """The machine of a file, checked; it is kept by the plan that takes it."""
    return machine_from_json(file.file.read(2_000_000), file.filename or "machine.json")


def computed_setup(project_id: ProjectId, setup: str) -> tuple[Plan, Setup, SetupReport, str]:
    """A plan, one of its setups as it was computed, and the key of its part."""
    state = state_of_project(project_id)
    plan = plan_from(state.plan.model_dump(mode="json"))
    own = setup_of(plan, setup)
    told = told_of(state, setup)
    if told is None or told.zero_from_work is None or told.machine != own.machine:
        raise Refused(
            409, "project.not_computed", setup, f"{setup} has not been computed", "wait until it is current"
        )
    return plan, own, told, part_key_of(plan)


def part_key_of(plan: Plan) -> str:
    """The key of a plan's part. Raises Refused while it has not been read."""
    with transaction() as session:
        upload = session.get(PartUpload, plan.part.sha256) if plan.part.sha256 else None
        key = upload.key if upload else None
    if key is None:
        raise Refused(409, "part.not_ready", "part", "this part has not been read", "wait until it is read")
    return key


def _kept(key: str, piece: str) -> bytes:
    data = DatabaseStore().get(key, piece)
    if data is None:
        raise Refused(409, "part.not_ready", "part", "this part has not been read", "wait until it is read")
    return data


@router.get("/projects/{project_id}/fewest/{setup}")
def fewest_positions(project_id: ProjectId, setup: str) -> SetCover:
    """The fewest positions for a setup as it stands, and the fewest setups for the part, on the setup's
    machine.
    """
    plan, own, told, key = computed_setup(project_id, setup)
    features = Features.model_validate_json(_kept(key, "features.json"))
    return set_cover(features, machine_of(own.machine, plan.machines), np.array(told.zero_from_work))


@router.get("/projects/{project_id}/reach/{setup}")
def reach(
    project_id: ProjectId,
    setup: str,
    tool: str,
    position: str = "",
    overhang: Length | None = None,
    holder_of: str | None = None,
) -> Reached:
    """What of the part a tool reaches from a position of a setup, and what stops it elsewhere.

    overhang: of the tool, mm, and holder_of: another tool of the plan whose holder carries it, where they
    differ from the plan's.
    """
    plan, _, told, key = computed_setup(project_id, setup)
    by_id = {one.id: one for one in plan.tools}
    for name in (tool, holder_of or tool):
        if name not in by_id:
            raise Refused(
                404,
                "reach.no_tool",
                "tool",
                f"there is no tool {name!r} in the plan",
                "choose one of its tools",
            )
    chosen = by_id[tool].model_dump() | {"holder": by_id[holder_of or tool].holder}
    if overhang is not None:
        chosen["overhang"] = overhang
    try:
        own = Tool.model_validate(chosen)
    except ValidationError as wrong:
        bad = refusal(wrong, "tool")
        raise Refused(422, bad.code, bad.where, bad.what, "give an overhang the tool allows") from wrong
    try:
        return reached_from(_run(plan, key), told, position, own)
    except LookupError as missing:
        raise Refused(
            404,
            "index.no_position",
            "position",
            f"{setup} has no position {position!r} that was reached",
            "choose one of its positions",
        ) from missing


@router.get("/projects/{project_id}/jog/{setup}")
def jog_of(
    project_id: ProjectId,
    setup: str,
    x: Length | None = None,
    y: Length | None = None,
    z: Length | None = None,
    a: Length | None = None,
    b: Length | None = None,
    c: Length | None = None,
) -> Jog:
    """The machine of a setup as it stands with its axes at some values, mm and degrees, and what meets what
    there.
    """
    plan, _, told, key = computed_setup(project_id, setup)
    given = {"X": x, "Y": y, "Z": z, "A": a, "B": b, "C": c}
    return jog(_run(plan, key), told, {name: value for name, value in given.items() if value is not None})


def _run(plan: Plan, key: str) -> Run:
    """What questions about a computed setup are asked of; nothing is evaluated."""
    engine = Engine(DatabaseStore())
    read = Result(key, engine)
    return Run(
        plan,
        engine,
        lambda share, what: True,
        read.value(PART),
        read,
        material_of(plan.billet.material, plan.materials),
        BadInput("billet.unasked", "billet", "not needed here", "none"),
        no_files,
    )
