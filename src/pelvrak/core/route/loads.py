"""What does each operation of a setup do to the work at worst, and does the holding stand it?"""

from __future__ import annotations

import math

import numpy as np

from pelvrak.core.cutting.feeds import (
    Material,
    drill_thrust,
    drill_torque,
    mean_force,
    reamer_torque,
    specific_force,
    tap_torque,
)
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.holding.clamping import (
    FRICTION,
    PULL_SHARE,
    SAFETY_WANTED,
    TOOTH_FACTOR,
    Holding,
    Load,
    Safety,
    programme,
    safety,
)
from pelvrak.core.holding.facts import SafetyFact
from pelvrak.core.route.report import OperationReport

# Chips thinner than this do not raise the specific force further here, mm: Kienzle's law is not measured
# below.
THINNEST_CHIP_MM = 0.02
# What is left on the radius for a reamer, mm: common practice, no source.
REAMED_MM = 0.1


def load_of(
    report: OperationReport, tool: Tool, material: Material, low: Floats, high: Floats
) -> Load | None:
    """The worst load of one operation; zero frame, N, N·mm. low, high: box of the stock. None when it cuts
    nothing.
    """
    if (
        report.speed is None
        or report.feed is None
        or report.cut_z is None
        or report.low is None
        or report.high is None
    ):
        return None
    if report.most_removal_cm3_min <= 0:
        return None
    n, vf = report.speed.value, report.feed.value
    feed = vf / n
    chip = max(feed / tool.NOF, THINNEST_CHIP_MM)
    kc = specific_force(material, chip)
    a, b = np.maximum(report.low, low), np.minimum(report.high, high)
    corners = np.array(
        [[x, y, report.cut_z[1]] for x in {float(a[0]), float(b[0])} for y in {float(a[1]), float(b[1])}]
    )
    if tool.kind == "tap":
        return Load(report.id, report.name, 0.0, 0.0, tap_torque(tool.DC, feed, kc), corners)
    if tool.kind in ("reamer", "boring_bar"):
        return Load(report.id, report.name, 0.0, 0.0, reamer_torque(tool.DC, REAMED_MM, feed, kc), corners)
    if tool.kind in ("drill", "spot_drill"):
        thrust = drill_thrust(tool.DC, feed, kc, tool.SIG or 118.0)
        return Load(report.id, report.name, 0.0, thrust, drill_torque(tool.DC, feed, kc), corners)
    speed = math.pi * tool.DC * n / 1000
    force = TOOTH_FACTOR * mean_force(report.most_removal_cm3_min, kc, speed)
    return Load(report.id, report.name, force, -PULL_SHARE * force, 0.0, corners)


def safeties(holding: Holding, loads: list[Load]) -> list[Safety]:
    """The worst moment of every operation; nothing when the holding does not stand by itself."""
    problem = programme(holding)
    return [] if problem is None else safety(problem, loads)


def told(found: list[Safety]) -> tuple[SafetyFact, ...]:
    """Safeties for the report."""
    return tuple(
        SafetyFact(
            operation=s.operation,
            name=s.name,
            factor=round(s.factor, 3),
            force=as_vector(np.round(s.force, 1) + 0.0),
            place=as_vector(np.round(s.place, 3) + 0.0),
        )
        for s in found
    )


def safety_findings(facts: tuple[SafetyFact, ...], setup: str) -> list[Finding]:
    """The operation the holding stands worst, when that is not enough."""
    if not facts:
        return []
    worst = min(facts, key=lambda s: s.factor)
    if worst.factor >= SAFETY_WANTED:
        return []
    across = math.hypot(*worst.force[:2])
    return [
        Finding(
            code="hold.slips",
            severity="error" if worst.factor < 1 else "warning",
            setup=setup,
            stage="hold",
            sentence=(
                f"{worst.name} can move the work: it pushes with {across:.0f} N across and"
                f" {abs(worst.force[2]):.0f} N {'up' if worst.force[2] > 0 else 'down'}; the holding stands"
                f" {worst.factor:.2f} times that (friction {FRICTION:g})."
            ),
            measured=worst.factor,
            limit=SAFETY_WANTED,
            unit="times",
            place=(worst.place,),
        )
    ]
