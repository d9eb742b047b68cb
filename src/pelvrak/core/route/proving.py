"""Does a setup's program leave what was planned? Its text is read back, run by a simulated control with the
registers and tools as told, and cut again from the stock that comes in.
"""

from __future__ import annotations

from itertools import groupby

import numpy as np

from pelvrak.core.cutting.toolpath import Chords, Move, Path, chord_ends_s, chords
from pelvrak.core.cutting.tools import Tool, body_profiles, core_radius, cutter_profile
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.machine.kinematics import direction_of, tip_by_slides
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.program.control import AXES, Control, Event, Held
from pelvrak.core.route.pictures import drawn
from pelvrak.core.route.pieces import FIELD, PROGRAM, SIMPLIFY_MM
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport
from pelvrak.core.stock.compare import signed_distance
from pelvrak.core.stock.cut import CUT, STOPPED, Sweep, cut
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.planes import decoded
from pelvrak.core.stock.shapes import minus, volume_without
from pelvrak.core.stock.thin import stretches

# A program is written to a thousandth, and a chord lies so near to its arc: two stocks this near are equal,
# mm; less than this of a ray is no difference, mm.
EQUAL_MM, LEAST_MM = 0.01, 0.005


class Proof(Frozen):
    """What came of a setup's program. equal: whether it leaves the planned stock, None where it could not be
    run: alarm says why, at which line. most_mm: how far the two surfaces lie apart, at a place in the work
    frame; left_mm3, gouged_mm3: what stands that should not, and the other way. time_s: by the control;
    planned_s: by the plan; lines, moves: of the program.
    """

    setup: str
    equal: bool | None
    alarm: str | None = None
    most_mm: float | None = None
    place: Vector | None = None
    left_mm3: float | None = None
    gouged_mm3: float | None = None
    time_s: float | None = None
    planned_s: float
    lines: int = 0
    moves: int = 0


def proved(plan: Plan, told: SetupReport, store: Store, text: str | None = None) -> Proof:
    """What a setup's program comes to, or a text in its place."""
    engine = Engine(store)
    base = Proof(setup=told.name, equal=None, planned_s=sum(one.moving_s for one in told.operations))
    if told.program_key is None or told.incoming_key is None or told.outgoing_key is None:
        return base.model_copy(update={"alarm": "the setup has no program"})
    text = Result(told.program_key, engine).value(PROGRAM) if text is None else text
    base = base.model_copy(update={"lines": text.count("\n")})
    try:
        machine = machine_of(told.machine, plan.machines)
        events = Control(held_for(plan, told, machine), unknown=True).run(text)
        base = base.model_copy(update={"moves": sum(one.kind not in ("dwell", "stop") for one in events)})
        incoming = Result(told.incoming_key, engine).value(FIELD)
        after, seconds = cut_by(events, incoming, plan, told, machine)
    except BadInput as bad:
        return base.model_copy(update={"alarm": str(bad)})
    wanted = Result(told.outgoing_key, engine).value(FIELD)
    most, place = apart(after, wanted)
    return base.model_copy(
        update={
            "equal": most <= EQUAL_MM,
            "most_mm": round(most, 4),
            "place": as_vector(np.round(place, 3)),
            "left_mm3": round(volume_without(after, wanted, LEAST_MM), 3),
            "gouged_mm3": round(volume_without(wanted, after, LEAST_MM), 3),
            "time_s": round(seconds, 2),
        }
    )


def held_for(plan: Plan, told: SetupReport, machine: Machine) -> Held:
    """The control's tables as the setup's sheets tell them."""
    registers: dict[str, dict[str, float]] = {}
    for row in told.offsets:
        if row.value is not None:
            values = zip("XYZ", (one.value for one in row.value), strict=True)
            registers.setdefault(row.register_name, dict(values))
    if told.register_value is not None:
        values = zip("XYZ", (one.value for one in told.register_value), strict=True)
        registers[told.offset_register] = dict(values)
    return Held(registers, {place: tool.gauge_length for place, tool in _at_places(plan).items()})


def _at_places(plan: Plan) -> dict[int, Tool]:
    return {place: tool for tool in plan.tools for place in tool.places}


def cut_by(
    events: list[Event], incoming: RayField, plan: Plan, told: SetupReport, machine: Machine
) -> tuple[RayField, float]:
    """The stock that what the control did leaves, and how long it took, s. Raises BadInput."""
    if told.hold is None or told.hold.zero_on_table is None or told.zero_from_work is None:
        raise BadInput("program.no_layout", told.name, "nobody knows where its zero stands", "hold the work")
    work_from_table = inverse(np.array(told.zero_from_work)) @ rigid(
        np.eye(3), -np.array(told.hold.zero_on_table)
    )
    tools, stock, seconds = _at_places(plan), incoming, 0.0
    last: Event | None = None
    for (number, angles), group in groupby(events, key=lambda one: (one.tool, one.end[3:])):
        own = list(group)
        if last is not None and last.end[3:] != angles:
            if own[0].kind != "rapid":
                raise BadInput(
                    "program.turned",
                    f"line {own[0].line}",
                    "what is cut while the work turns is not cut again yet",
                    "look at it in the picture",
                )
            # It turns with the tool away from the work.
            last = own[0]
        tool = tools.get(number)
        if tool is None:
            if any(one.kind in ("line", "cw", "ccw") for one in own):
                said = f"there is no tool T{number}"
                raise BadInput("program.no_tool", f"line {own[0].line}", said, "give the plan one")
            last = own[-1]
            continue
        path = _path(own, own[0] if last is None else last)
        last = own[-1]
        if path.moves:
            flat = chords(path)
            ends = chord_ends_s(path, flat, machine.rapid_mm_min, machine.acceleration_mm_s2)
            seconds += float(ends[-1])
            stands = {str(one.name): angles[AXES.index(one.name) - 3] for one in machine.rotary}
            stock, _ = cut(stock, _sweep(own, flat, tool, machine, work_from_table, stands), 1)
    return stock, seconds


def _slides(one: Event) -> Vector:
    x, y, z = one.end[:3]
    return x, y, z


def _path(events: list[Event], start: Event) -> Path:
    """What the spindle's nose does, as the slides count."""
    path = Path(_slides(start))
    for one in events:
        if one.kind == "dwell":
            path.dwell(one.seconds)
        elif one.kind != "stop":
            path.moves.append(Move(one.kind, _slides(one), one.feed, one.centre))
    return path


def _sweep(
    events: list[Event],
    flat: Chords,
    tool: Tool,
    machine: Machine,
    work_from_table: Floats,
    angles: dict[str, float],
) -> Sweep:
    """The moves of one tool with the rotary axes as they stand, in the work frame."""
    start, slopes = tip_by_slides(machine, angles, tool.gauge_length)
    up = direction_of(machine, angles)
    turns = np.array([one.cutting for one in events if one.kind not in ("dwell", "stop")])
    what = np.where((flat.what == CUT) & ~turns[flat.move], STOPPED, flat.what).astype(np.uint8)
    return Sweep(
        moved(work_from_table, flat.starts @ slopes.T + start),
        moved(work_from_table, flat.ends @ slopes.T + start),
        what,
        turned(work_from_table, up),
        cutter_profile(tool),
        body_profiles(tool, machine.spindle.nose),
        core_radius(tool),
    )


def apart(one: RayField, two: RayField) -> tuple[float, Floats]:
    """How far the surfaces of two stocks on the same rays lie apart at most, mm, and where: of each stretch
    that one has and the other has not, its length square to the steeper of the surfaces it lies between. A
    ray that runs within a wall, where the two differ by nothing, is long for nothing: what seems far apart is
    so only as far as the drawn surfaces are.
    """
    depths, places = [np.zeros(1)], [np.zeros((1, 3))]
    for first, second in ((one, two), (two, one)):
        over = minus(first, second)
        for bundle, (axis, low, high, middle) in zip(over.bundles, stretches(over), strict=True):
            if not len(low):
                continue
            row, column, slot = np.nonzero(np.arange(bundle.capacity) < bundle.count[:, :, None])
            along = [np.abs(decoded(bundle.normal[row, column, 2 * slot + side])[:, axis]) for side in (0, 1)]
            depths.append((high - low) * np.maximum(*along))
            places.append(middle)
    deep, at = np.concatenate(depths), np.concatenate(places)
    known = 2 * SIMPLIFY_MM
    far = np.flatnonzero(deep > known + EQUAL_MM)
    if len(far):
        seen = sum(np.abs(signed_distance(at[far], drawn(field))) for field in (one, two))
        # Within a wall the rays across it say how far apart the two are.
        within = np.where(seen <= known, 0.0, seen)
        deep[far] = np.where(deep[far] > seen + known, within, deep[far])
    worst = int(np.argmax(deep))
    return float(deep[worst]), at[worst]
