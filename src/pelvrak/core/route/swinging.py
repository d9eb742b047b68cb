"""What does the work meet while it is turned from one index position to the next?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, transformed, with_label
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import away_from_line, inverse, moved, rigid, turned
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.kinematics import moved_by, pose
from pelvrak.core.machine.machine import Axis, Machine
from pelvrak.core.machine.slides import solid_mesh, table_side
from pelvrak.core.machine.swing import FAR_MM, Swing, hull_of, swing
from pelvrak.core.route.naming import SETUP, bare_hold, named, piece_token
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, SURFACE
from pelvrak.core.route.report import OperationReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.station import held_solids
from pelvrak.core.route.turning import Turning

# Room wanted round what is turned, mm: common practice, no source.
ROOM_MM = 5.0


# What stands beside the work, by another name.
BESIDE = "⟦beside⟧"

Turn = tuple[str, dict[str, float], dict[str, float]]


def swings(
    run: Run, turning: Turning, incoming_key: str, tools: dict[str, Tool], reports: list[OperationReport]
) -> list[Finding]:
    """Findings (work frame) of every turn of a setup's program: its axes one after the other, the spindle
    gone up; and of all that a wrapped operation turns (reports).

    The work counts by its convex hull as it comes in, so what is found clear is clear.
    """
    setup, zero = turning.setup, turning.zero_on_table
    bare, names = _nameless(turning, reports)
    home = turning.stations.get("")
    if not bare or zero is None or home is None or home.hold.key is None:
        return []
    gauge = _longest(turning, tools)
    hold = turning.hold
    names |= {piece_token(i): piece.name for i, piece in enumerate(hold.pieces)}
    given = SwingGiven(
        surface_of(run.engine, incoming_key).content(SURFACE),
        Result(hold.key or "", run.engine).content(SURFACE),
        bare_hold(hold),
        home.zero_from_work,
        zero,
        bare,
        turning.machine.as_built,
        gauge,
    )
    found = run.engine.run(SWING, given, f"{setup.name} turning").value(FACTS)
    return [Finding.model_validate(named(one, names)) for one in found]


def swung_with(
    run: Run,
    turning: Turning,
    reports: list[OperationReport],
    tools: dict[str, Tool],
    body: Content,
    zero: Vector,
    called: str,
) -> list[Finding]:
    """The same of what stands beside the work and is turned with it. body: its surface, counted from zero on
    the table, mm; called: what it is.
    """
    bare, names = _nameless(turning, reports)
    if not bare:
        return []
    machine = turning.machine.as_built
    given = SwingGiven(
        body, None, HoldFacts(), np.eye(4), zero, bare, machine, _longest(turning, tools), BESIDE
    )
    found = run.engine.run(SWING, given, f"{turning.setup.name} turning, {called}").value(FACTS)
    return [Finding.model_validate(named(one, names | {BESIDE: called})) for one in found]


def _nameless(turning: Turning, reports: list[OperationReport]) -> tuple[tuple[Turn, ...], dict[str, str]]:
    """All turns of a setup, each called by a token, and what those stand for."""
    names = {SETUP: turning.setup.name}
    bare: list[Turn] = []
    for number, (called, start, goal) in enumerate([*_turns(turning), *_wrapped(turning, reports)]):
        names[f"⟦turn {number}⟧"] = called
        bare.append((f"⟦turn {number}⟧", start, goal))
    return tuple(bare), names


def _longest(turning: Turning, tools: dict[str, Tool]) -> float:
    """Of its tools the longest, from the spindle's nose, mm."""
    used = sorted({o.tool for o in turning.setup.operations})
    return max((tools[name].gauge_length for name in used if name in tools), default=0.0)


@dataclass(frozen=True)
class SwingGiven:
    """What is turned, and how far. stock: surface of the work; solids, hold: what holds it, as the zero frame
    has it, None where it is a body of its own; zero: on the table; gauge: of the longest tool, mm;
    called: what is turned.
    """

    stock: Content
    solids: Content | None
    hold: HoldFacts
    zero_from_work: Floats
    zero: Vector
    turns: tuple[Turn, ...]
    machine: Machine
    gauge: float
    called: str = "work"


def _turns(turning: Turning) -> list[Turn]:
    """Positions that follow one another in the program, each pair once: how it is called, and the angles
    before and after.
    """
    order = [visit.position for visit in turning.visits if visit.position in turning.turned]
    first = [""] if "" in turning.turned and turning.machine.rotary else []
    # At the end the work is turned back to where it was loaded.
    walk = [*first, *order, *(first if order else [])]
    pairs: dict[tuple[str, str], None] = {}
    for a, b in zip(walk, walk[1:], strict=False):
        # The way back sweeps the same.
        if a != b and (b, a) not in pairs:
            pairs[(a, b)] = None
    called = {name: name or "as it is seated" for name in walk}
    return [
        (f"from {called[a]} to {called[b]}", turning.turned[a].angles, turning.turned[b].angles)
        for a, b in pairs
    ]


def _wrapped(turning: Turning, reports: list[OperationReport]) -> list[Turn]:
    """What wrapped operations turn: from where the work stands to one end, and to the other."""
    out: list[Turn] = []
    for report in reports:
        at = turning.turned.get(report.position or "")
        if report.wrapped is not None and at is not None:
            low, high = (at.angles | {report.wrapped.axis: angle} for angle in report.wrapped.turns)
            out += [(f"in {report.name}", at.angles, low), (f"in {report.name}", low, high)]
    return out


def _swung(given: SwingGiven, reads: Reads) -> Pieces:
    machine, zero, gauge = given.machine, given.zero, given.gauge
    stock = hull_of(transformed(reads.read(given.stock, SURFACE), given.zero_from_work))
    # The holding as it was judged, before the machine's own solids were put to it.
    carried: list[tuple[str, Mesh]] = [(given.called, stock)]
    if given.solids is not None:
        holding = held_solids(reads, given.solids, given.hold.shift)
        carried += [
            (p.name, hull_of(with_label(holding, i)))
            for i, p in enumerate(given.hold.pieces)
            if p.item != "table"
        ]
    near, tool_tip = table_side(machine), -gauge
    out: list[Finding] = []
    for called, start, goal in given.turns:
        values = dict(start)
        for axis in machine.rotary:
            if abs(goal[axis.name] - values[axis.name]) < 1e-9 or axis.name not in near:
                values[axis.name] = goal[axis.name]
                continue
            rides = near[: near.index(axis.name) + 1]
            base_from_zero = pose(machine, values).base_from_table @ rigid(np.eye(3), np.array(zero))
            turns_with = [(name, transformed(mesh, base_from_zero)) for name, mesh in carried]
            # The machine's own turning parts clear its standing ones: it was built so.
            still = [
                (s.name, transformed(solid_mesh(s), moved_by(machine, s.rides, values)))
                for s in machine.solids
                if s.rides in near and s.rides not in rides
            ]
            here = moved_by(machine, axis.rides, values)
            lying = axis.model_copy(
                update={
                    "direction": as_vector(turned(here, np.array(axis.direction))),
                    "point": as_vector(moved(here, np.array(axis.point))),
                }
            )
            met = swing(lying, values[axis.name], goal[axis.name], turns_with, still)
            at = moved(inverse(given.zero_from_work), np.zeros(3))
            out += _told(called, lying, met, as_vector(at))
            top = max(_height(lying, mesh) for _, mesh in turns_with)
            if top > tool_tip and not any(f.code == "reach.swing_tool" for f in out):
                out.append(
                    Finding(
                        code="reach.swing_tool",
                        severity="warning",
                        setup=SETUP,
                        stage="reach",
                        sentence=(
                            f"Turning about {axis.name}, the {given.called} swings up to {top:.0f} mm; the"
                            f" longest tool, gone up, ends at {tool_tip:.0f}: move aside first."
                        ),
                        measured=round(top, 2),
                        limit=round(tool_tip, 2),
                        unit="mm",
                    )
                )
            values[axis.name] = goal[axis.name]
    return {FACTS: [one.model_dump(mode="json") for one in out]}


SWING = Step("swing", 1, SwingGiven, _swung)


def _height(axis: Axis, mesh: Mesh) -> float:
    """The highest a body can come in a turn about an axis, base Z, mm."""
    way, point = np.array(axis.direction), np.array(axis.point)
    along = (mesh.vertices - point) @ way
    radius = away_from_line(mesh.vertices, point, way)
    return float((point[2] + along * way[2] + radius * np.sqrt(max(0.0, 1 - way[2] ** 2))).max())


def _told(names: str, axis: Axis, met: Swing, at: tuple[float, float, float]) -> list[Finding]:
    if met.gap >= min(ROOM_MM, FAR_MM):
        return []
    one, two = met.between
    said = (
        f"Turning {names}, the {one} runs into the {two} at {axis.name}{met.angle:.1f}."
        if met.met
        else (
            f"Turning {names}, the {one} passes the {two} with {met.gap:.1f} mm between them at"
            f" {axis.name}{met.angle:.1f}."
        )
    )
    return [
        Finding(
            code="reach.swing",
            severity="error" if met.met else "warning",
            setup=SETUP,
            stage="reach",
            sentence=said,
            measured=round(met.gap, 3),
            limit=ROOM_MM,
            unit="mm",
            place=(at,),
        )
    ]
