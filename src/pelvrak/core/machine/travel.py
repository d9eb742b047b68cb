"""What is in the offset register, does the holding stand on the table, does a path stay within the
travels?
"""

from __future__ import annotations

import numpy as np

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector
from pelvrak.core.machine.kinematics import home_angles, linear_for
from pelvrak.core.machine.machine import Machine


def register_value(machine: Machine, zero_on_table: Vector, angles: dict[str, float] | None = None) -> Vector:
    """X, Y and Z at which the bare nose would stand in work zero, mm; tool length not counted. angles: of the
    rotary axes.
    """
    at = linear_for(machine, np.array(zero_on_table), home_angles(machine) | (angles or {}))
    return at["X"], at["Y"], at["Z"]


def corner(machine: Machine) -> Vector:
    """X, Y and Z at which the bare nose would touch the table's front left corner, rotary axes at home,
    mm.
    """
    return register_value(machine, (0.0, 0.0, 0.0))


def check_table(
    machine: Machine,
    zero_on_table: Vector,
    solids: list[tuple[str, str, Vector, Vector]],
    setup: str,
    places: dict[str, Vector] | None = None,
) -> list[Finding]:
    """Whether the holding stands on the table. solids: names, items and boxes, zero frame. places: where
    the items stand that can be moved on the table.
    """
    worst, named, of, shift = 0.0, "", "", (0, 0.0)
    for name, item, low, high in solids:
        a, b = np.add(low, zero_on_table), np.add(high, zero_on_table)
        sides = [
            (-a[0], 0, 1),
            (-a[1], 1, 1),
            (b[0] - machine.table.length, 0, -1),
            (b[1] - machine.table.depth, 1, -1),
        ]
        over, axis, way = max(sides)
        if a[2] < 1.0 and over > worst:
            worst, named, of, shift = float(over), name, item, (axis, way * float(np.ceil(over)))
    if worst <= 0:
        return []
    cures: tuple[Cure, ...] = ()
    if of in (places or {}):
        at, (axis, by) = (places or {})[of], shift
        label, moved = f"Move it {abs(by):g} mm onto the table", round(at[axis] + by, 3)
        cures = (put(label, Element(setup=setup, item=of), "xy"[axis], moved),)
    return [
        Finding(
            code="reach.off_table",
            severity="warning",
            setup=setup,
            stage="reach",
            sentence=f"The {named} hangs {worst:.0f} mm over the edge of the table.",
            measured=round(worst, 2),
            limit=0.0,
            unit="mm",
            cures=cures,
        )
    ]


def check_travel(machine: Machine, least: Floats, most: Floats, setup: str, operation: str) -> list[Finding]:
    """Whether X, Y and Z from least to most, mm, stay within the travels."""
    findings = []
    for name, lowest, highest, low, high in zip("XYZ", *machine.limits(), least, most, strict=True):
        for value, limit, past in ((low, lowest, lowest - low), (high, highest, high - highest)):
            if past > 1e-6:
                findings.append(
                    Finding(
                        code="reach.travel",
                        severity="error",
                        setup=setup,
                        operation=operation,
                        stage="reach",
                        sentence=(
                            f"{operation} needs {name} {value:.1f}; {machine.name} stops at {limit:.1f},"
                            f" {past:.1f} mm short."
                        ),
                        measured=round(float(value), 3),
                        limit=float(limit),
                        unit="mm",
                    )
                )
    return findings
