"""How are tools set in the machine: is there a setter, how long does it take, and is the way to it free?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import swept_by
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.machine.travel import register_value
from pelvrak.core.program.compose import Planned
from pelvrak.core.program.writing import SETTING_MM
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.pieces import FACTS, FIELD
from pelvrak.core.route.run import Run
from pelvrak.core.route.simulate import clamped, obstacle_of
from pelvrak.core.route.turning import Turning
from pelvrak.core.stock.cut import RAPID, test
from pelvrak.core.stock.field import RayField, error_of


def setter_of(turning: Turning) -> tuple[Vector, float] | None:
    """Where the slides stand with the bare nose on the setter, and the feed; None where no tools are set."""
    setter = turning.machine.setter
    if setter is None or not turning.setup.set_tools:
        return None
    return register_value(turning.machine, setter.at), setter.feed


def setting_s(turning: Turning, tools: int) -> float:
    """How long it takes to set so many tools, s: each changed, brought down and up in rapid, and half of the
    slow way.
    """
    told = setter_of(turning)
    if told is None:
        return 0.0
    machine, (nose, feed) = turning.machine, told
    rapid = 2 * abs(nose[2]) / machine.rapid_mm_min * 60
    return tools * (machine.changer.seconds + rapid + SETTING_MM / feed * 60)


@dataclass(frozen=True)
class WayGiven:
    """A tool's way down to the setter and up again. stock: that comes in; obstacle: what stands round the
    work; at: of the setter, zero frame; above: where the way begins, over it, mm; nose: of the spindle.
    """

    stock: Content
    obstacle: Content | None
    zero_from_work: Floats
    at: Vector
    above: float
    tool: Tool
    nose: tuple[float, float]


def _way(given: WayGiven, reads: Reads) -> Pieces:
    """How deep it comes into the work and into what holds it, mm, where that is more than is known."""
    ends = np.array([given.at])
    starts = ends + [0.0, 0.0, given.above]

    def met(field: RayField, frame: Floats) -> float:
        one, two, what = moved(frame, starts), moved(frame, ends), np.array([RAPID], np.uint8)
        sweep = swept_by(given.tool, given.nose, one, two, what, turned(frame, UP))
        deep = float(test(field, sweep).deepest[0])
        return deep if deep > error_of(field.grid.cell) else 0.0

    return {
        FACTS: {
            "work": met(reads.read(given.stock, FIELD), inverse(given.zero_from_work)),
            "holding": 0.0 if given.obstacle is None else met(reads.read(given.obstacle, FIELD), np.eye(4)),
        }
    }


WAY_TO_SETTER = Step("way to the setter", 1, WayGiven, _way)


def setting_findings(run: Run, turning: Turning, planned: list[Planned], key: str) -> list[Finding]:
    """Whether tools can be set where the setup wants them to be. key: of the stock that comes in."""
    setup, machine = turning.setup, turning.machine
    if not setup.set_tools:
        return []
    if machine.setter is None:
        return [
            Finding(
                code="program.no_setter",
                severity="error",
                setup=setup.name,
                stage="reach",
                sentence=f"{machine.name} has no setter to touch the tools of {setup.name} on.",
                cures=(put("Set them beside the machine", Element(setup=setup.name), "set_tools", False),),
            )
        ]
    station = turning.stations.get("")
    if station is None or turning.zero_on_table is None:
        return []
    held = clamped(run.engine, station, turning.zero_from_work, turning.hold)
    nose, _ = setter_of(turning) or ((0.0, 0.0, 0.0), 0.0)
    out = []
    for tool in {one.tool.id: one.tool for one in planned if one.tool.kind != "probe"}.values():
        given = WayGiven(
            Result(key, run.engine).content(FIELD),
            obstacle_of(run.engine, held),
            station.zero_from_work,
            as_vector(np.subtract(machine.setter.at, turning.zero_on_table)),
            # The spindle comes from the top of Z.
            max(SETTING_MM, -nose[2] - tool.gauge_length),
            nameless_tool(tool, TOOL),
            machine.spindle.nose,
        )
        facts = run.engine.run(WAY_TO_SETTER, given, f"{setup.name} {tool.name} to the setter").value(FACTS)
        out += [
            Finding(
                code="program.setter_blocked",
                severity="error",
                setup=setup.name,
                stage="reach",
                sentence=f"On its way down to the setter {tool.name} comes {deep:.2f} mm into the {what}.",
                measured=round(deep, 3),
                limit=0.0,
                unit="mm",
                cures=(put("Set them beside the machine", Element(setup=setup.name), "set_tools", False),),
            )
            for what, deep in facts.items()
            if deep > 0
        ]
    return out
