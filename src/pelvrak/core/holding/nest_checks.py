"""What is wrong with soft jaws, or a nest block, as they were solved?"""

from __future__ import annotations

import numpy as np
from shapely.geometry.base import BaseGeometry

from pelvrak.core.holding import kinds
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.hold import CLOSED_MM
from pelvrak.core.holding.nest import BOSS_ROOM_MM, SEATED_SHARE, Nest

# Common practice, no source: what stays under a nest's floor, mm.
FLOOR_LEAST_MM = 5.0
# What a cutter leaves in corners that is more than rounding, mm².
TIGHT_MM2 = 0.01


def judge_jaws(nest: Nest, pair: tuple[kinds.Jaws, kinds.Jaws], vise: kinds.Vise, apart: float) -> None:
    """Walls, ends, floor, opening and gap of jaws. pair: the blanks at the back and at the front; apart: of
    the gripped walls, mm; below 0 where they overlap across the jaws.
    """
    spec, depth, floor, gap = nest.spec, nest.depth, nest.floor, nest.gap
    for name, wall in zip(("fixed", "moving"), nest.walls, strict=True):
        if wall < spec.least_wall:
            said = (
                f"The {name} jaw is only {wall:.1f} mm thick behind the nest; {spec.least_wall:g} mm wanted."
            )
            nest.tell("jaws.thin", "error" if wall < 1 else "warning", said, wall, spec.least_wall)
    left, _, right, _ = nest.left.bounds
    short = min(pair, key=lambda one: one.width)
    side = short.width / 2 - max(abs(left), abs(right))
    if side < 0:
        said = (
            f"The nest runs {-side:.1f} mm out of the ends of the jaws: blanks {short.width:g} mm long are"
            " short."
        )
        severity = "warning" if nest.seat.whole else "error"
        nest.tell("jaws.too_short", severity, said, short.width, short.width - 2 * side)
    if pair[0].height != pair[1].height:
        said = (
            f"The blanks are {pair[0].height:g} and {pair[1].height:g} mm high: one floor cannot be cut into"
            " both from one top."
        )
        nest.tell("jaws.blanks_differ", "error", said, pair[1].height, pair[0].height)
    if floor < FLOOR_LEAST_MM:
        said = f"The nest is {depth:.1f} mm deep and leaves {floor:.1f} mm under its floor."
        nest.tell("jaws.too_low", "error", said, floor, FLOOR_LEAST_MM)
    if nest.opening > vise.opening_max:
        most = vise.opening_max
        said = (
            f"The jaws stand {nest.opening:.0f} mm apart with these blanks; {vise.name} opens {most:.0f} mm."
        )
        nest.tell("hold.opening", "error", said, nest.opening, most)
    if gap < CLOSED_MM:
        said = f"The jaws meet before they grip: {gap:.2f} mm are left between them."
        nest.tell("hold.gap_closed", "error", said, gap, CLOSED_MM)
    if gap > apart + 2 * depth and apart <= 0:
        said = "Both jaws would wrap round one wall: part of what they grip falls into the gap."
        nest.tell("jaws.wrap", "warning", said, 0.0, gap)


def judge_grip(nest: Nest, leans: tuple[float | None, float | None]) -> None:
    """How the gripped walls lie on the jaws. leans: of the back and the front wall, degrees."""
    seat, cutter = nest.seat, nest.spec.cutter
    for name, jaw, on, of in (
        ("back", "fixed", seat.back, seat.back_of),
        ("front", "moving", seat.front, seat.front_of),
    ):
        if of <= 0:
            said = f"The work has no wall towards the {jaw} jaw to be gripped by."
            nest.tell("jaws.no_wall", "error", said, 0.0, None)
        elif on < SEATED_SHARE * of:
            said = (
                f"Only {on:.1f} of {of:.1f} mm of the {name} wall lies on the jaw as a Ø{cutter:g} cutter"
                " leaves it."
            )
            nest.tell("jaws.poor_seat", "warning", said, on, SEATED_SHARE * of)
    limit = float(np.degrees(np.arctan(FRICTION)))
    lean = max(abs(one or 0.0) for one in leans)
    if lean > limit:
        said = (
            f"The gripped walls lean {lean:.1f}° to the jaws' way; above {limit:.1f}° friction alone does not"
            " keep the work from sliding along."
        )
        nest.tell("jaws.slips_out", "warning", said, lean, limit)
    judge_corners(nest)


def judge_corners(nest: Nest) -> None:
    """What the cutter leaves in corners the work would ride on."""
    tight = nest.outline.difference(nest.left.buffer(0.01)).area
    if tight > TIGHT_MM2:
        said = (
            f"A Ø{nest.spec.cutter:g} cutter leaves {tight:.2f} mm² in corners that the work would ride on."
        )
        nest.tell("jaws.corners_ride", "warning", said, tight, TIGHT_MM2)


def judge_block(nest: Nest, below: float) -> None:
    """Wall and floor of a nest block. below: how far the work stands out under what it rests on, mm."""
    wall, spec = min(nest.walls), nest.spec
    if wall < spec.least_wall:
        said = f"The nest's wall is only {wall:.1f} mm thick; {spec.least_wall:g} mm wanted."
        nest.tell("jaws.thin", "error" if wall < 1 else "warning", said, wall, spec.least_wall)
    under = nest.floor - (below + BOSS_ROOM_MM if nest.boss is not None else 0.0)
    if under < FLOOR_LEAST_MM:
        said = f"The nest leaves {under:.1f} mm under its deepest floor."
        nest.tell("jaws.too_low", "error", said, under, FLOOR_LEAST_MM)


def judge_profile(nest: Nest, block: kinds.Block, long: float, within: BaseGeometry) -> None:
    """Wall, root and length of a block that catches work lying along it. long: the work; within: what the
    cutter leaves open in the block.
    """
    wall, spec = min(nest.walls), nest.spec
    if wall < spec.least_wall:
        said = (
            f"The block's wall is only {wall:.1f} mm thick beside the profile; {spec.least_wall:g} mm wanted."
        )
        nest.tell("jaws.thin", "error" if wall < 1 else "warning", said, wall, spec.least_wall)
    under = float(within.bounds[1]) + block.height / 2
    if under < FLOOR_LEAST_MM:
        said = f"The profile leaves {under:.1f} mm under its root."
        nest.tell("jaws.too_low", "error", said, under, FLOOR_LEAST_MM)
    if block.length >= long:
        said = (
            f"The block is {block.length:g} mm long and the work {long:g}: a clamp along it would hold the"
            " block."
        )
        nest.tell("jaws.longer_than_work", "warning", said, block.length, long)
    judge_corners(nest)
