"""Which machine is it, what is in the offset register, and does the program stay within the travels?"""

from __future__ import annotations

from typing import Literal

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.shelf import shelf

Register = Literal["G54", "G55", "G56", "G57", "G58", "G59"]


class Mill(Frozen):
    """A three-axis vertical mill; mm, mm/min, rpm, kW, s.

    travel_low, travel_high: machine coordinates each axis can take. corner: machine coordinates at
    which the bare spindle nose would touch the table's front left corner. table: its length along x
    and depth along y. nose: diameter and length of the spindle's nose above the holder.
    """

    id: str
    name: str
    travel_low: Vector
    travel_high: Vector
    table: tuple[float, float]
    corner: Vector
    nose: tuple[float, float]
    rapid_mm_min: float
    feed_max_mm_min: float
    spindle_min_rpm: float
    spindle_max_rpm: float
    power_kw: float
    tool_change_s: float


def mills() -> dict[str, Mill]:
    """The shipped machines by id; dimensions ours."""
    return {row["id"]: Mill.model_validate(row) for row in shelf("machine", "mills.json")}


def mill_of(name: str) -> Mill:
    """A shipped machine. Raises BadInput when there is none of that id."""
    mill = mills().get(name)
    if mill is None:
        raise BadInput("reach.unknown_machine", "machine", f"there is no machine {name!r}", "choose one from the list")
    return mill


def register_value(mill: Mill, zero_on_table: Vector) -> Vector:
    """Machine coordinates of work zero, tool length not counted, mm."""
    return as_vector(np.add(mill.corner, zero_on_table))


def check_table(
    mill: Mill, zero_on_table: Vector, solids: list[tuple[str, Vector, Vector]], setup: str
) -> list[Finding]:
    """Whether the holding stands on the table. solids: names and boxes, zero frame."""
    worst, named = 0.0, ""
    for name, low, high in solids:
        a, b = np.add(low, zero_on_table), np.add(high, zero_on_table)
        over = float(max(-a[0], -a[1], b[0] - mill.table[0], b[1] - mill.table[1]))
        if a[2] < 1.0 and over > worst:
            worst, named = over, name
    if worst <= 0:
        return []
    return [
        Finding(
            code="reach.off_table", severity="warning", setup=setup, stage="reach",
            sentence=f"The {named} hangs {worst:.0f} mm over the edge of the table.",
            measured=round(worst, 2), limit=0.0, unit="mm",
        )
    ]  # fmt: skip


def check_travel(
    mill: Mill, register: Vector, low: Floats, high: Floats, gauge_length: float, setup: str, operation: str
) -> list[Finding]:
    """Whether a path (box low…high in the zero frame, mm) stays within the travels.

    gauge_length: spindle nose to tool tip, mm.
    """
    findings = []
    nose = np.array([0.0, 0.0, gauge_length])
    for d, axis in enumerate("XYZ"):
        least, most = register[d] + low[d] + nose[d], register[d] + high[d] + nose[d]
        for value, limit, past in (
            (least, mill.travel_low[d], mill.travel_low[d] - least),
            (most, mill.travel_high[d], most - mill.travel_high[d]),
        ):
            if past > 1e-6:
                findings.append(
                    Finding(
                        code="reach.travel", severity="error", setup=setup, operation=operation, stage="reach",
                        sentence=f"{operation} needs {axis} {value:.1f}; {mill.name} stops at {limit:.1f}, {past:.1f} mm short.",
                        measured=round(float(value), 3), limit=limit, unit="mm",
                    )
                )  # fmt: skip
    return findings
