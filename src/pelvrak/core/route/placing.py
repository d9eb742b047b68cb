"""How does the work stand in a setup: its frames, what holds it, and what that asks for?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pelvrak.core.billet.forms import Raw
from pelvrak.core.cures import Element, put
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding.build import CutJaws
from pelvrak.core.holding.facts import HoldFacts, in_frame
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.machine.travel import check_table
from pelvrak.core.route.holding import held_in
from pelvrak.core.route.jaws import (
    Solved,
    cut_jaws,
    jaw_files,
    maker_of,
    not_cut,
    smaller_blank,
    solved_for,
    zero_from_nest,
)
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import (
    NestReport,
    SetupReport,
)
from pelvrak.core.route.run import Run, as_came, in_work_frame
from pelvrak.core.seat.seating import PIECE, Boxes, lay, seat_work, zero_place


@dataclass
class Placed:
    """A setup with its frames and holding known. zeros: places of its further zeros in the zero frame."""

    zero_from_work: Floats
    zeros: list[Floats]
    machine: Machine
    hold: HoldFacts
    findings: list[Finding]
    low: Floats
    high: Floats
    boxes: Callable[[Floats], Boxes]
    nest: NestReport | None = None
    solved: Solved | None = None


def place(
    run: Run, index: int, setup: Setup, incoming_key: str, density: float, made: SetupReport | None
) -> Placed:
    """Frames and holding of a setup. made: the setup that cut its jaws."""
    part = run.part.part
    machine = machine_of(setup.machine, run.plan.machines)
    rotation = lay(setup.seat, part)
    assert isinstance(run.raw, Raw)  # without a billet there is no stock to lay
    incoming = run.surface(incoming_key)
    solved = solved_for(run, setup, incoming_key, rotation)
    cut: dict[str, CutJaws] = {}
    if solved is not None:
        rotation = rotation_about_z(solved.nest.turn_deg) @ rotation
        cut[solved.item.id] = cut_jaws(run, solved, made)
    shapes: dict[str, Floats] = {
        "billet": box_corners(run.raw.low, run.raw.high),
        "part": run.part.mesh.vertices,
        "incoming": incoming.vertices,
    }

    def boxed(turn: Floats) -> Boxes:
        seen = {name: points @ turn.T for name, points in shapes.items()}
        return {name: (as_vector(one.min(axis=0)), as_vector(one.max(axis=0))) for name, one in seen.items()}

    boxes = boxed(rotation)
    lying = rigid(rotation, np.zeros(3))
    held = held_in(run, setup, incoming_key, lying, density, cut, as_came(run))
    if held.facts.jaw is not None:
        boxes["jaw"] = held.facts.jaw
    boxes |= _pieces_boxes(held.facts)
    zero_from_work = seat_work(setup.seat.zero, part, boxes, rotation)
    others = [zero_place(one.zero, part, boxes, rotation) + zero_from_work[:3, 3] for one in setup.seat.zeros]
    facts = in_frame(held.facts, zero_from_work[:3, 3])
    found = [in_work_frame(f, lying) for f in held.findings]
    nest = None
    if solved is not None:
        nest, facts, told = _nested(run, index, solved, facts)
        found += told
    found += [*off_the_table(setup, machine, facts), *_on_moving_jaw(setup, facts)]
    seen = incoming.vertices @ rotation.T + zero_from_work[:3, 3]
    return Placed(
        zero_from_work, others, machine, facts, found, seen.min(axis=0), seen.max(axis=0), boxed, nest, solved
    )


def _pieces_boxes(facts: HoldFacts) -> Boxes:
    """The box of every item of a holding, and the room between the jaws of a vise, from what the work rests
    on to their tops.
    """
    out: Boxes = {}
    for piece in facts.pieces:
        low, high = out.get(PIECE + piece.item, (piece.low, piece.high))
        out[PIECE + piece.item] = (
            as_vector(np.minimum(low, piece.low)),
            as_vector(np.maximum(high, piece.high)),
        )
    moving = next((piece for piece in facts.pieces if piece.jaw == "moving"), None)
    if facts.jaw is not None and moving is not None:
        ends = np.array(facts.jaw)
        across = int(np.argmin((ends[1] - ends[0])[:2]))
        before = moving.high[across] < ends[0, across] + 1e-6
        near = moving.high[across] if before else moving.low[across]
        ends[:, across] = sorted((near, ends[0 if before else 1, across]))
        out["jaws"] = as_vector(ends[0]), as_vector(ends[1])
    return out


def _nested(
    run: Run, index: int, solved: Solved, facts: HoldFacts
) -> tuple[NestReport, HoldFacts, list[Finding]]:
    """The nest that holds the work, the holding with what would make it smaller, and what is wrong with
    it.
    """
    found = solved.findings()
    facts = facts.model_copy(update={"proposals": (*facts.proposals, *smaller_blank(solved))})
    maker = maker_of(run.plan, index, solved.item)
    if maker is None:
        found.append(not_cut(run.plan, solved))
    zero = None if facts.zero_on_table is None else zero_from_nest(solved, np.array(facts.zero_on_table))
    nest = solved.report(None if maker is None else run.plan.setups[maker].name, zero)
    return nest.model_copy(update={"files_key": jaw_files(run, solved)}), facts, found


def off_the_table(setup: Setup, machine: Machine, facts: HoldFacts) -> list[Finding]:
    """What of the holding hangs over the table's edge."""
    if facts.zero_on_table is None:
        return []
    foot = {p.item: next(iter(setup.hold.under(p.item)), p.item) for p in facts.pieces}
    standing = [(p.name, foot[p.item], p.low, p.high) for p in facts.pieces if p.name != "table"]
    places = {item.id: (item.x, item.y, item.z) for item in setup.hold.items if item.on == "table"}
    return check_table(machine, facts.zero_on_table, standing, setup.name, places)


def _on_moving_jaw(setup: Setup, facts: HoldFacts) -> list[Finding]:
    """Zero on the rear jaw of a vise that centres: it goes with the width of the work."""
    rear = next((piece for piece in facts.pieces if piece.jaw == "fixed"), None)
    if setup.seat.zero.of != "holding" or rear is None or not rear.moves:
        return []
    said = (
        f"Zero is on the {rear.name} of a vise that centres: it moves with the width of the work, the middle"
        " between the jaws stays."
    )
    cure = put("Zero between the jaws", Element(setup=setup.name), "seat/zero/of", "jaws")
    return [
        Finding(
            code="seat.zero_on_moving_jaw",
            severity="warning",
            setup=setup.name,
            stage="seat",
            sentence=said,
            cures=(cure,),
        )
    ]
