"""What can be cut in a setup, as the stock comes into it, and the edits that put it into the plan?"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from itertools import accumulate
from typing import Any, NamedTuple

import numpy as np
from pydantic import ValidationError

from pelvrak.core.cures import Add, Cure, Edit, Element
from pelvrak.core.cutting.feeds import material_of
from pelvrak.core.cutting.finish import finished
from pelvrak.core.cutting.operations import KINDS, Outline
from pelvrak.core.cutting.standing import Standing, is_square
from pelvrak.core.cutting.toolpath import chord_ends_s, chords
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content
from pelvrak.core.errors import BadInput, json_from
from pelvrak.core.geometry.callout import roughness, tolerances
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, PartModel
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.proposals.chains import Rules
from pelvrak.core.proposals.choosing import Tools
from pelvrak.core.proposals.cuttable import cuttable
from pelvrak.core.proposals.steps import OUTSIDE, TOP, Cuttable, Passed, Plane, ProposedStep, Shop
from pelvrak.core.route.drafting import free_number, free_place
from pelvrak.core.route.naming import unregistered
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FIELD, PATH, SURFACE
from pelvrak.core.route.plan import Plan, Setup, refusal
from pelvrak.core.route.planning import PLAN_PATH, data_of, given_in_plane, standing_in
from pelvrak.core.route.report import SetupReport

# Pieces of a holding so near to the work stand in the way of a cutter that goes round it, mm.
NEAR_MM = 30.0
# All of a setup at once: roughing before finishing, milling before holes, each cycle for all holes.
_ORDER = {"facing": 0, "clearing": 1, "threading": 5, "chamfering": 6, "engraving": 7}
_CYCLES = {"spot": 3, "drill": 4, "peck": 4, "chip_break": 4}


class StepTime(Frozen):
    """How long a step takes. seconds: from above the work and back, None where it cannot be planned; why:
    then.
    """

    seconds: float | None = None
    why: str = ""


class Offer(Frozen):
    """Something that can be cut. cuttable: what, and how; take: puts it into the plan, None where a tool is
    missing; times: of its steps, empty until they are asked for.
    """

    cuttable: Cuttable
    take: Cure | None = None
    times: tuple[StepTime, ...] = ()


class Offers(Frozen):
    """What can be cut in a setup. offered: all of it; passed: what is not offered, and why; every: puts all
    that is offered into the plan.
    """

    offered: tuple[Offer, ...]
    passed: tuple[Passed, ...]
    every: Cure | None = None


@dataclass(frozen=True)
class Incoming:
    """The work as it comes into a setup. engine: has the stock under its key; planes: of each position, "" as
    the work is seated, 4×4 from the work frame.
    """

    engine: Engine
    key: str
    planes: Mapping[str, Floats]
    held_to: float = -math.inf

    def at(self, plane: Floats) -> Standing | None:
        """The stock as it lies in a plane."""
        stock = Result(self.key, self.engine).content(FIELD)
        surface = None if is_square(plane) else surface_of(self.engine, self.key).content(SURFACE)
        return standing_in(self.engine, stock, surface, plane)


def incoming_to(engine: Engine, told: SetupReport) -> Incoming:
    """The work as it came into a setup that was computed. Raises BadInput where nothing came, or it is not
    seated.
    """
    key = told.incoming_key
    if key is None or told.zero_from_work is None:
        raise BadInput(
            "project.not_computed",
            told.name,
            "no stock comes into it yet, or it is not seated",
            "mend what the setup's findings say",
        )
    seated = np.array(told.zero_from_work)
    turned = {one.name: np.array(one.local_from_zero) @ seated for one in told.positions}
    return Incoming(engine, key, {"": seated, **turned}, _held_to(told))


def _held_to(told: SetupReport) -> float:
    """Height up to which pieces of the holding stand near the work, mm."""
    if told.hold is None or told.low is None or told.high is None:
        return -math.inf
    low, high = np.array(told.low), np.array(told.high)
    near = [
        piece.high[2]
        for piece in told.hold.pieces
        if (np.array(piece.high[:2]) > low[:2] - NEAR_MM).all()
        and (np.array(piece.low[:2]) < high[:2] + NEAR_MM).all()
    ]
    return max(near, default=-math.inf)


class PartRead(NamedTuple):
    """The part and what it has."""

    model: PartModel
    features: Features


def rules_from(text: str | bytes, where: str) -> Rules:
    """By which chains holes are made, from a document as `/api/chains` gives it. Raises BadInput naming the
    first field that is wrong.
    """
    try:
        return Rules.model_validate(json_from(text, where, "chains.invalid"))
    except ValidationError as wrong:
        first = refusal(wrong, where)
        raise BadInput("chains.invalid", first.where, first.what, first.mend) from wrong


def offers(
    plan: Plan, setup: Setup, part: PartRead, incoming: Incoming, shelf: Iterable[Tool], rules: Rules
) -> Offers:
    """What can be cut in a setup. shelf: tools that can be added to the plan's own.

    Raises BadInput for a setup that cuts jaws, and for a machine or a material that is not there.
    """
    if setup.makes is not None:
        raise BadInput(
            "operations.jaws",
            setup.name,
            "it cuts the nest of its jaws, and nothing of the part",
            "ask for a setup that cuts the part",
        )
    own = tuple(plan.tools)
    rest = tuple(tool for tool in shelf if all(tool.id != mine.id for mine in own))
    shop = Shop(
        Tools(own, rest),
        material_of(plan.billet.material, plan.materials),
        machine_of(setup.machine, plan.machines),
        rules,
    )
    rough = roughness(part.model.part, plan.part.callouts)
    meant, cut_by = tolerances(part.model.part, plan.part.callouts), _cut_by(plan.settled(), setup.name)
    found: list[Cuttable] = []
    passed: list[Passed] = []
    seen: set[tuple[int, ...]] = set()
    for position, at in incoming.planes.items():
        stock = incoming.at(at)
        if stock is None:
            continue
        offered, not_offered = cuttable(
            Plane(position, at, stock, part.model, part.features, meant, cut_by, incoming.held_to, rough),
            shop,
        )
        # What looks to the spindle at two positions is offered at the first.
        for one in offered:
            faces = tuple(ref.face for ref in one.faces)
            if not faces or faces not in seen:
                found.append(one)
                seen.add(faces)
        passed += [one for one in not_offered if one not in passed]
    return _with_edits(plan, setup, found, tuple(passed))


def _cut_by(plan: Plan, setup: str) -> dict[int, str]:
    """The operation that cuts a face, whichever setup it stands in; the top of this one."""
    out: dict[int, str] = {}
    for one in plan.setups:
        if one.makes is not None:
            continue
        for operation in one.operations:
            for ref in operation.faces_told():
                out.setdefault(ref.face, f"{one.name} {operation.name}")
    here = next(one.operations for one in plan.setups if one.name == setup)
    faced = next((o for o in here if o.kind == "facing"), None)
    round_it = next((o for o in here if isinstance(o, Outline) and not o.faces and o.side == "outside"), None)
    for number, found in ((TOP, faced), (OUTSIDE, round_it)):
        if found is not None:
            out[number] = f"{setup} {found.name}"
    return out


def _with_edits(plan: Plan, setup: Setup, found: list[Cuttable], passed: tuple[Passed, ...]) -> Offers:
    taken = {operation.id for operation in setup.operations}
    added_at, added = _adding(setup), _places(plan, [step.tool for one in found for step in one.steps])
    offered = []
    every: list[tuple[int, Edit]] = []
    for one in found:
        made = [_operation(step, one.position, taken) for step in one.steps]
        ranks = [_rank(document["kind"], document.get("cycle"), document["finish"]) for document in made]
        every += [(rank, added_at(rank, document)) for rank, document in zip(ranks, made, strict=True)]
        # Of one chain each comes after the one before.
        least = accumulate(ranks, max)
        edits = [added_at(rank, document) for rank, document in zip(least, made, strict=True)]
        tools = _tools([step.tool for step in one.steps], added)
        take = Cure(label=f"Cut {one.what}", edits=(*tools, *edits)) if edits else None
        offered.append(Offer(cuttable=one, take=take))
    if not every:
        return Offers(offered=tuple(offered), passed=passed)
    tools = _tools([step.tool for one in found for step in one.steps], added)
    ordered = [edit for _, edit in sorted(every, key=lambda row: row[0])]
    many = f"all {len(ordered)} operations" if len(ordered) > 1 else "it with the one operation"
    take_all = Cure(label=f"Cut {many}", edits=(*tools, *ordered))
    return Offers(offered=tuple(offered), passed=passed, every=take_all)


def _adding(setup: Setup) -> Callable[[int, dict[str, Any]], Add]:
    """Makes the edit that puts an operation of a rank before the setup's first of a later one."""
    there = [(_rank(one.kind, getattr(one, "cycle", None), one.finish), one.id) for one in setup.operations]

    def added_at(rank: int, document: dict[str, Any]) -> Add:
        later = (name for own, name in there if own > rank)
        return Add(of=Element(setup=setup.name), to="operations", value=document, before=next(later, None))

    return added_at


def _rank(kind: str, cycle: str | None, finish: str | None) -> int:
    """When an operation comes among the others of its setup."""
    if cycle is not None:
        return _CYCLES.get(cycle, 5)
    return _ORDER.get(kind, 1 if finish == "rough" else 2)


def _operation(step: ProposedStep, position: str, taken: set[str]) -> dict[str, Any]:
    """A step as the plan has it, under an id the setup has not got."""
    kind = str(step.told["kind"])
    name = f"{kind}-{free_number(taken, kind)}"
    taken.add(name)
    told = {**step.told, "id": name, "position": position or None}
    return KINDS[kind].model_validate(told).model_dump(mode="json")


def timed(found: Offers, plan: Plan, setup: Setup, part: Content, incoming: Incoming) -> Offers:
    """What is offered with the times of its steps. Raises BadInput as `times_of`."""
    offered = tuple(
        one.model_copy(
            update={"times": times_of(plan, setup, part, incoming, one.cuttable.position, one.cuttable.steps)}
        )
        for one in found.offered
    )
    return found.model_copy(update={"offered": offered})


def times_of(
    plan: Plan, setup: Setup, part: Content, incoming: Incoming, position: str, steps: Iterable[ProposedStep]
) -> tuple[StepTime, ...]:
    """How long steps take at a position, each planned on the stock as it comes into the setup; kept, so that
    the same is not planned again. Raises BadInput for what is no operation, and for a position that is not
    there.
    """
    if position not in incoming.planes:
        raise BadInput(
            "plan.unknown_position",
            setup.name,
            f"{position} is not computed",
            "give one of its positions, or none",
        )
    return tuple(_time_of(plan, setup, part, incoming, position, step) for step in steps)


def _time_of(
    plan: Plan, setup: Setup, part: Content, incoming: Incoming, position: str, step: ProposedStep
) -> StepTime:
    engine, machine = incoming.engine, machine_of(setup.machine, plan.machines)
    try:
        operation = KINDS[str(step.told.get("kind"))].model_validate({**step.told, "id": "asked"})
    except KeyError as unknown:
        raise BadInput(
            "plan.unknown_kind", "kind", f"{unknown} is no kind of operation", f"give {', '.join(KINDS)}"
        ) from unknown
    except ValidationError as wrong:
        raise refusal(wrong, "operation") from wrong
    told = finished(operation, plan.finish_of(operation))
    data = data_of(plan, machine, told, step.tool)
    stock, plane = Result(incoming.key, engine), incoming.planes[position]
    try:
        given = given_in_plane(engine, part, stock, unregistered(told), step.tool, data, plane)
        path = engine.run(PLAN_PATH, given, f"{setup.name} {operation.name}: path").value(PATH).path
    except BadInput as bad:
        return StepTime(why=f"{bad.what}: {bad.mend}")
    if not path.moves:
        return StepTime(seconds=0.0)
    ends = chord_ends_s(path, chords(path), machine.rapid_mm_min, machine.acceleration_mm_s2)
    return StepTime(seconds=round(float(ends[-1]), 2))


def _places(plan: Plan, tools: Iterable[Tool]) -> dict[str, Tool]:
    """The tools the plan has not got, each with a place of its own, by id."""
    have, places = {tool.id for tool in plan.tools}, plan.taken_places
    out: dict[str, Tool] = {}
    for tool in tools:
        if tool.id in have or tool.id in out:
            continue
        out[tool.id] = tool.model_copy(update={"place": free_place(places)})
        places.add(out[tool.id].place)
    return out


def _tools(used: Iterable[Tool], added: Mapping[str, Tool]) -> list[Edit]:
    """The edits that add the tools among these which the plan has not got."""
    names = dict.fromkeys(tool.id for tool in used if tool.id in added)
    return [Add(of=Element(), to="tools", value=added[name].model_dump(mode="json")) for name in names]
