"""What shape must a block have along its length to catch the work from below: a vee, or the work's own
profile?

The same reckoning as for a nest, in the section across the block: the block is cut standing on its end, so
that its profile is what a round cutter leaves of an outline. Frame of the solution: x across the block, y up
it from its middle, z along it from its end; lengths mm.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from shapely import LineString, Polygon, box, unary_union
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import CutJaws
from pelvrak.core.holding.hold import STRAIGHT_WALL_MM, SoftCut
from pelvrak.core.holding.nest import Nest, Reason, Seat, body_of, cut_away, judge_edges
from pelvrak.core.holding.nest_checks import judge_profile
from pelvrak.core.holding.soft_jaws import SEATED_MM, filled, one_piece, opened, reliefs
from pelvrak.core.holding.vee import vee_of

# Round work in a vee: the angle of the trade.
USUAL_VEE_DEG = 90.0
# How far a vee goes on above where it touches, mm: common practice, no source.
ABOVE_TOUCH_MM = 3.0
# Section from work: across, up, along.
SECTION = np.array([[0.0, 1, 0], [0, 0, 1], [1, 0, 0]])


def solve_profile(lying: Mesh, spec: SoftCut, block: kinds.Block) -> Nest:
    """A block that catches work lying along it. lying: in the block's turn, mm. Raises BadInput when nothing
    lies over it.
    """
    low, high = lying.vertices.min(axis=0), lying.vertices.max(axis=0)
    along, half = -(low[0] + high[0]) / 2 + spec.shift, block.length / 2
    shape = _section(lying, along, half)
    profile = _profile(shape, spec, vee_of(lying))
    left = opened(profile.wanted, spec.cutter / 2)
    if left.is_empty:
        raise BadInput(
            "hold.nest_not_cuttable",
            "hold",
            f"a Ø{spec.cutter:g} cutter does not get into the profile",
            "choose a smaller cutter",
        )
    left, middle = one_piece(left), profile.middle
    up = block.height / 2 - profile.level
    place = np.array([along, -middle, block.height - profile.level])
    outline, wanted, left = (translate(one, -middle, up) for one in (profile.outline, profile.wanted, left))
    within = left.intersection(box(-1e4, -1e4, 1e4, block.height / 2))
    walls = (block.width / 2 + within.bounds[0], block.width / 2 - within.bounds[2])
    thinner = "the thinner of the two walls beside the profile"
    nest = Nest(
        spec=spec.model_copy(update={"edge_break": 0.0, "floor": "floor", "mouth": 0.0}),
        turn_deg=0.0,
        between_deg=profile.angle if spec.shape == "vee" else 0.0,
        outline=outline,
        wanted=wanted,
        left=left,
        boss=None,
        floor=0.0,
        top=block.length,
        edge=0.0,
        grip=profile.grip,
        split=0.0,
        gap=0.0,
        walls=walls,
        place=place,
        opening=0.0,
        seat=_seat(outline, left, block.height / 2),
        blank=block.id,
        reasons=[
            *profile.reasons,
            Reason(name="wall", value=round(min(walls), 2), unit="mm", why=thinner),
        ],
        half=(block.width, block.length, block.height),
        frame=rigid(SECTION.T, np.array([-half, 0.0, block.height / 2])),
    )
    judge_profile(nest, block, float(high[0] - low[0]), within)
    judge_edges(nest)
    nest.jaws = CutJaws(transformed(mesh_of(body_of(nest) - cut_away(nest)), nest.frame), None, place)
    return nest


@dataclass(frozen=True)
class _Profile:
    """A block's profile in the section of the work. level: the block's top; middle: of the profile; angle: of
    a vee, degrees.
    """

    outline: Polygon
    wanted: Polygon
    level: float
    middle: float
    grip: float
    angle: float
    reasons: list[Reason]


def _section(lying: Mesh, along: float, half: float) -> Polygon:
    """The work over the block, seen along it. along: shift of the work; half: of the block's length. Raises
    BadInput when nothing is there.
    """
    section = to_solid(transformed(lying, rigid(SECTION, np.array([0.0, 0.0, along]))))
    over = section.trim_by_plane([0.0, 0.0, 1.0], -half).trim_by_plane([0.0, 0.0, -1.0], -half)
    shape = filled(over.project().to_polygons())
    if shape is None:
        raise BadInput(
            "hold.nest_empty", "hold", "nothing of the work lies over the block", "shift the work along it"
        )
    return shape


def _profile(shape: Polygon, spec: SoftCut, own: float | None) -> _Profile:
    """The profile that catches a section. own: the angle of the work's own vee, degrees."""
    left, bottom, right, top = shape.bounds
    angle = spec.angle_deg or own or USUAL_VEE_DEG
    told: list[Reason] = []
    apex, touch = _touching_vee(shape, angle) if spec.shape == "vee" else (np.zeros(2), 0.0)
    if spec.shape == "vee":
        why = "the work's own flanks stand so" if own is not None else "round work: the angle of the trade"
        why = "as typed" if spec.angle_deg is not None else why
        solved = spec.angle_deg is None
        told.append(Reason(name="angle", value=round(angle, 3), unit="°", solved=solved, why=why))
        wanted_grip = max(STRAIGHT_WALL_MM, touch - bottom + ABOVE_TOUCH_MM)
        reason = (
            f"the vee touches up to {touch - bottom:.1f} mm above the work's lowest point, and goes on a"
            " little"
        )
    else:
        wanted_grip = 0.4 * (top - bottom)
        reason = "two fifths of the work's height: it goes in from above, and stands out for the cut"
    grip = spec.grip if spec.grip is not None else round(min(wanted_grip, 0.6 * (top - bottom)), 2)
    told.append(Reason(name="grip", value=round(grip, 3), unit="mm", solved=spec.grip is None, why=reason))
    level, over_top = bottom + grip, bottom + grip + 2 * spec.cutter
    outline = one_piece(shape.intersection(box(left - 1, bottom - 1, right + 1, over_top)))
    if spec.shape == "vee":
        wanted, middle = _vee(apex, angle, over_top), float(apex[0])
    else:
        wanted = one_piece(_raised(shape.intersection(box(left, bottom, right, level)), over_top))
        middle = (left + right) / 2
    if spec.relief != "none":
        wanted = one_piece(unary_union([wanted, *reliefs(wanted, outline, spec.cutter / 2, spec.relief)]))
    return _Profile(outline, wanted, level, middle, grip, angle, told)


def _touching_vee(shape: Polygon, angle: float) -> tuple[Floats, float]:
    """The root of a vee that touches a section on both flanks, and how high it touches."""
    half = np.radians(angle / 2)
    points = np.array(shape.exterior.coords)
    normals = np.array([[np.cos(half), np.sin(half)], [-np.cos(half), np.sin(half)]])
    heights = points @ normals.T
    least = heights.min(axis=0)
    touching = np.concatenate([points[heights[:, k] < least[k] + SEATED_MM, 1] for k in (0, 1)])
    return np.linalg.solve(normals, least), float(touching.max())


def _vee(apex: Floats, angle: float, top: float) -> Polygon:
    wide = (top - apex[1]) * np.tan(np.radians(angle / 2))
    return Polygon([tuple(apex), (apex[0] + wide, top), (apex[0] - wide, top)])


def _raised(shape: BaseGeometry, top: float) -> BaseGeometry:
    """A section and all that is above it: the way it comes in."""
    swept = [shape]
    for piece in shape.geoms if hasattr(shape, "geoms") else [shape]:
        ring = np.array(piece.exterior.coords)
        for a, b in zip(ring, ring[1:], strict=False):
            if abs(a[0] - b[0]) > 1e-9:
                swept.append(Polygon([tuple(a), tuple(b), (b[0], top), (a[0], top)]))
    return unary_union([one if one.is_valid else one.buffer(0) for one in swept])


def _seat(outline: Polygon, left: Polygon, top: float) -> Seat:
    """How much of the work's lower outline lies on the block as cut, on each side of the middle."""
    ring = np.array(outline.exterior.coords)
    sides: dict[bool, list[float]] = {True: [0.0, 0.0], False: [0.0, 0.0]}
    rim = left.exterior.buffer(SEATED_MM)
    for a, b in zip(ring, ring[1:], strict=False):
        edge = LineString([a, b])
        if (a[1] + b[1]) / 2 < top and edge.length > 0:
            side = sides[bool((a[0] + b[0]) / 2 > 0)]
            side[0] += float(edge.intersection(rim).length)
            side[1] += float(edge.length)
    return Seat(back=sides[True][0], back_of=sides[True][1], front=sides[False][0], front_of=sides[False][1])
