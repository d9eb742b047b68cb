"""What did an operation take off: anything at all, and was a reamer or a tap given the hole it needs?"""

from __future__ import annotations

import math

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.route.cut_facts import CutFacts, HoleCut
from pelvrak.core.route.cut_told import Told, moves
from pelvrak.core.stock.field import error_of

# Less than this is what rays know of a wall that was there, mm³.
CRUMB_MM3 = 0.5
# What a reamer may take on the diameter at most: common practice, no source (0.1 to 0.4 mm up to Ø20, to 0.5
# above).
REAMED_LEAST, REAMED_SHARE, REAMED_MOST = 0.4, 0.025, 0.8
# A tapping hole may be this much tighter than size less pitch, of the pitch: below it the tap is in solid.
TAP_TIGHT = 0.15
# The tool comes from over the hole and goes on under it, so a hole reckoned narrower than this share was
# none.
SOLID_SHARE = 0.5


def reaming_limit(diameter: float) -> float:
    """The most a reamer of a diameter may take on it, mm."""
    return min(max(REAMED_LEAST, REAMED_SHARE * diameter), REAMED_MOST)


def hole_before(tool_diameter: float, removed: float, depth: float) -> float:
    """The diameter of the hole that a straight cutter found, from what it took off over a depth: d² = D² -
    4V/(π·h), mm.
    """
    return math.sqrt(max(0.0, tool_diameter**2 - 4 * removed / (math.pi * max(depth, 1e-9))))


def removal_findings(told: Told, tool: Tool, facts: CutFacts, zero_from_work: Floats) -> list[Finding]:
    """Findings of what an operation took off. zero_from_work: of the plane it is cut in."""
    operation = told.operation
    out: list[Finding] = []
    cycle = operation.canned_cycle()
    if cycle in ("ream", "tap"):
        known = 4 * error_of(facts.cell, tool.DC / 2)
        for hole in facts.holes:
            mouth = moved(inverse(zero_from_work), np.array([hole.x, hole.y, hole.start]))
            out += _finished_hole(told, tool, hole, known, as_vector(mouth))
        if cycle == "tap":
            return out
    if facts.feeds and max(facts.taken_mm3, facts.removed_mm3) < CRUMB_MM3:
        out.append(
            told.found(
                "cut.removes_nothing",
                f"{operation.name} removes nothing: {moves(facts.feeds)} and {facts.time_s:.0f} s in air. "
                "It is cut already, or from the other side.",
                "warning",
                measured=round(facts.taken_mm3, 3),
                limit=CRUMB_MM3,
                unit="mm³",
            )
        )
    return out


def _finished_hole(told: Told, tool: Tool, hole: HoleCut, known: float, mouth: Vector) -> list[Finding]:
    """What a reamer or a tap found. known: how well the diameter of the hole before is known, mm; mouth: of
    the hole, work frame.
    """
    depth, removed, name = hole.start - hole.bottom, hole.removed, told.operation.name
    where = f"at X{hole.x:.2f} Y{hole.y:.2f}"
    if told.operation.canned_cycle() == "ream":
        was = hole_before(tool.DC, removed, depth)
        takes, limit = tool.DC - was, reaming_limit(tool.DC)
        if takes <= limit + known:
            return []
        said = (
            "in solid metal"
            if was < SOLID_SHARE * tool.DC
            else f"in a hole Ø{was:.2f}, {takes:.2f} mm too tight"
        )
        return [
            told.found(
                "cut.ream_in_solid",
                f"{name} reams {where} {said}: {removed:.0f} mm³. Drill to Ø{tool.DC - limit / 2:.1f} first.",
                place=(mouth,),
                measured=round(takes, 3),
                limit=limit,
                unit="mm",
            )
        ]
    assert tool.TP is not None
    size = tool.DC - tool.TP
    was = hole_before(size, removed, depth)
    if size - was <= TAP_TIGHT * tool.TP + known:
        return []
    said = "in solid metal" if was < SOLID_SHARE * size else f"in a hole Ø{was:.2f}"
    return [
        told.found(
            "cut.tap_in_solid",
            f"{name} taps {where} {said}. Drill to Ø{size:g} first (size less pitch, ISO 2306).",
            place=(mouth,),
            measured=round(was, 3),
            limit=round(size, 3),
            unit="mm",
        )
    ]
