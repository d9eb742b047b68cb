"""Which holes does a part have: their stages, and from which sides can each be drilled?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import SAME_PLACE_MM, Face, Frozen, Part, PartModel, Vector, as_vector
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.geometry.visibility import Caster

# Axes this near to each other are one: what forms fitted to a mesh are known to.
SAME_LINE_MM = 2e-3
# A stage that ends narrower than this ends in a point.
POINT_MM = 1e-2

StageKind = Literal["cylinder", "cone"]


class Stage(Frozen):
    """One stage of a hole, from `start` to `end` on its axis (mm), with its diameter at both.

    faces: the part's face numbers.
    """

    kind: StageKind
    start: Vector
    end: Vector
    start_diameter: float
    end_diameter: float
    faces: tuple[int, ...]


class HoleFeature(Frozen):
    """One hole as it would be made. diameter: of its narrowest cylinder; depth: of all its stages, mm.

    axis: from the hole's mouth into the part (either way for a through hole). stages: in that order.
    through: both ends open. sides: directions the tool can come from (from the tip towards the
    spindle), each with a straight way free and no stage wider than the one outside it.
    form: what the trade calls it. interrupted: another hollow crosses it.
    """

    diameter: float
    depth: float
    through: bool
    axis: Vector
    mouth: Vector
    stages: tuple[Stage, ...]
    sides: tuple[Vector, ...]
    form: str
    interrupted: bool = False


def _form(stages: list[Stage], through: bool) -> str:
    """What the trade calls a hole: plain, stepped, counterbored, countersunk, with a drill point."""
    names = []
    first = stages[0]
    cylinders = [stage for stage in stages if stage.kind == "cylinder"]
    if first.kind == "cone" and first.start_diameter > first.end_diameter:
        names.append("countersunk")
    if len(cylinders) == 2 and cylinders[0].start_diameter > cylinders[1].start_diameter:
        names.append("counterbored")
    elif len({round(stage.start_diameter, 4) for stage in cylinders}) > 1:
        names.append("stepped")
    last = stages[-1]
    if not through and last.kind == "cone" and last.end_diameter < POINT_MM:
        names.append("with a drill point")
    return ", ".join(names) or "plain"


@dataclass
class _Segment:
    """A hollow face or faces of revolution between two places along an axis line."""

    low: float
    high: float
    low_diameter: float
    high_diameter: float
    kind: StageKind
    faces: tuple[int, ...]


@dataclass
class _Line:
    point: Floats
    axis: Floats
    segments: list[_Segment]


def _lines(model: PartModel) -> list[_Line]:
    """Axis lines with the full-turn hollow cylinders and cones on each."""
    lines: list[_Line] = []

    most = len(model.part.holes) + len(model.part.faces)
    points, axes = np.zeros((most, 3)), np.zeros((most, 3))

    def line_of(point: Floats, axis: Floats) -> _Line:
        n = len(lines)
        apart = np.linalg.norm(np.cross(point - points[:n], axes[:n]), axis=1)
        same = np.flatnonzero((apart < SAME_LINE_MM) & (np.abs(np.abs(axes[:n] @ axis) - 1) < 1e-9))
        if len(same):
            return lines[int(same[0])]
        points[n], axes[n] = point, axis
        lines.append(_Line(point, axis, []))
        return lines[-1]

    for hole in model.part.holes:
        line = line_of(np.array(hole.start), np.array(hole.axis))
        ends = sorted(float((np.array(end) - line.point) @ line.axis) for end in (hole.start, hole.end))
        line.segments.append(_Segment(ends[0], ends[1], hole.diameter, hole.diameter, "cylinder", hole.faces))
    for group in _cones(model.part):
        _put_cone(line_of(np.array(group[0].axis_point), np.array(group[0].axis)), group, model.mesh)
    return [line for line in lines if line.segments]


def _cones(part: Part) -> list[list[Face]]:
    groups: list[list[Face]] = []
    for face in part.faces:
        if face.kind != "cone" or not face.hollow or face.axis is None or face.axis_point is None:
            continue
        for group in groups:
            other = group[0]
            assert other.axis and other.axis_point
            apart = np.subtract(face.axis_point, other.axis_point)
            along = abs(float(np.dot(face.axis, other.axis)))
            if abs(along - 1) < 1e-9 and np.linalg.norm(np.cross(apart, other.axis)) < SAME_LINE_MM:
                if np.allclose(face.low, other.low, atol=1e-2) or np.allclose(
                    face.high, other.high, atol=1e-2
                ):
                    group.append(face)
                    break
        else:
            groups.append([face])
    return [group for group in groups if sum(face.turn_deg or 0 for face in group) > 359.9]


def _put_cone(line: _Line, group: list[Face], mesh: Mesh) -> None:
    """Put a full cone on its line: where it begins and ends, and how wide it is there, from its corners."""
    points = mesh.vertices[mesh.triangles[np.isin(mesh.label, [face.number for face in group])]].reshape(
        -1, 3
    )
    if len(points) == 0:
        return
    along = (points - line.point) @ line.axis
    away = np.linalg.norm(np.cross(points - line.point, line.axis), axis=1)
    low, high = float(along.min()), float(along.max())
    at_low, at_high = (2 * float(away[np.abs(along - end) < SAME_PLACE_MM].max()) for end in (low, high))
    if high - low > SAME_PLACE_MM:
        line.segments.append(
            _Segment(low, high, at_low, at_high, "cone", tuple(face.number for face in group))
        )


def hole_features(model: PartModel, caster: Caster) -> list[HoleFeature]:
    """All holes of a part, coaxial stages that touch taken together, and those with only air between them."""
    lines = _lines(model)
    rings = _rings(lines, caster)
    found: list[tuple[_Line, list[_Segment], bool]] = []
    for line in lines:
        chains: list[list[_Segment]] = []
        gaps: list[bool] = []
        for segment in sorted(line.segments, key=lambda s: s.low):
            if id(segment) in rings:
                continue
            for i, chain in enumerate(chains):
                gap = segment.low - chain[-1].high
                if abs(gap) < SAME_PLACE_MM or (gap > 0 and _air_between(line, chain[-1], segment, caster)):
                    chain.append(segment)
                    gaps[i] |= gap >= SAME_PLACE_MM
                    break
            else:
                chains.append([segment])
                gaps.append(False)
        found += [(line, chain, gap) for chain, gap in zip(chains, gaps, strict=True)]
    ends = [_end(line, chain[0 if way < 0 else -1], way) for line, chain, _ in found for way in (-1, 1)]
    distances = caster.each([points for _, points in ends], [way for way, _ in ends])
    # An end that comes to a point has no place to look from.
    free = [len(own) > 0 and bool(np.isinf(own).all()) for own in distances]
    out = [
        _feature(line, chain, gap, free[2 * i], free[2 * i + 1]) for i, (line, chain, gap) in enumerate(found)
    ]
    return sorted(out, key=lambda hole: (hole.diameter, hole.mouth))


def _rings(lines: list[_Line], caster: Caster) -> set[int]:
    """Segments (by identity) within whose wall something stands, as the island of a ring groove does."""
    segments = [(line, segment) for line in lines for segment in line.segments]
    middles = [(line.point + ((s.low + s.high) / 2 + 1.7e-4) * line.axis)[None] for line, s in segments]
    across = []
    for line, _ in segments:
        aside = np.cross(line.axis, np.eye(3)[int(np.argmin(np.abs(line.axis)))])
        across.append(aside / np.linalg.norm(aside))
    # A line across the hole at half its depth: between the wall's two sides nothing may be crossed.
    one, two = caster.each(middles, across), caster.each(middles, [-way for way in across])
    return {
        id(s)
        for (_, s), a, b in zip(segments, one, two, strict=True)
        if min(a[0], b[0]) < 0.99 * (s.low_diameter + s.high_diameter) / 4
    }


def _air_between(line: _Line, before: _Segment, after: _Segment, caster: Caster) -> bool:
    """Whether two stages of one width have no material between them on their axis."""
    if abs(before.high_diameter - after.low_diameter) > SAME_PLACE_MM:
        return False
    # From within the first stage: a floor at its end would be met at once.
    start = line.point + (before.high - SAME_PLACE_MM) * line.axis
    return bool(caster.distance(start[None], line.axis)[0] >= after.low - before.high)


def _feature(line: _Line, chain: list[_Segment], gap: bool, low_open: bool, high_open: bool) -> HoleFeature:
    # Mouth first: from the open end, and of two open ends from the wider.
    up = high_open and (not low_open or chain[-1].high_diameter > chain[0].low_diameter + SAME_PLACE_MM)
    sides = []
    if low_open and _narrows([(s.low_diameter, s.high_diameter) for s in chain]):
        sides.append(as_vector(-line.axis))
    if high_open and _narrows([(s.high_diameter, s.low_diameter) for s in reversed(chain)]):
        sides.append(as_vector(line.axis))
    stages = []
    for s in reversed(chain) if up else chain:
        ends = (s.high, s.low) if up else (s.low, s.high)
        widths = (s.high_diameter, s.low_diameter) if up else (s.low_diameter, s.high_diameter)
        stages.append(
            Stage(
                kind=s.kind,
                start=as_vector(line.point + ends[0] * line.axis),
                end=as_vector(line.point + ends[1] * line.axis),
                start_diameter=round(widths[0], 6),
                end_diameter=round(widths[1], 6),
                faces=s.faces,
            )
        )
    cylinders = [s.low_diameter for s in chain if s.kind == "cylinder"]
    return HoleFeature(
        diameter=round(min(cylinders or [max(s.low_diameter, s.high_diameter) for s in chain]), 6),
        depth=round(chain[-1].high - chain[0].low, 6),
        through=low_open and high_open,
        axis=as_vector(-line.axis if up else line.axis),
        mouth=stages[0].start,
        stages=tuple(stages),
        sides=tuple(sides),
        form=_form(stages, low_open and high_open),
        interrupted=gap,
    )


def _narrows(widths: list[tuple[float, float]]) -> bool:
    """Whether no stage, from the mouth inwards, is wider than the one before it."""
    flat = [width for pair in widths for width in pair]
    return all(b <= a + SAME_PLACE_MM for a, b in zip(flat, flat[1:], strict=False))


def _end(line: _Line, segment: _Segment, way: int) -> tuple[Floats, Floats]:
    """A hole's end: the direction out of it, and where to look out along it; nowhere where it ends in a
    point.
    """
    end, width = (segment.high, segment.high_diameter) if way > 0 else (segment.low, segment.low_diameter)
    if width < POINT_MM:
        return way * line.axis, np.zeros((0, 3))
    across = np.cross(line.axis, np.eye(3)[int(np.argmin(np.abs(line.axis)))])
    across /= np.linalg.norm(across)
    other = np.cross(line.axis, across)
    angle = np.linspace(0, 2 * np.pi, 12, endpoint=False) + 0.1
    rim = 0.96 * width / 2 * (np.cos(angle)[:, None] * across + np.sin(angle)[:, None] * other)
    return way * line.axis, line.point + (end - way * SAME_PLACE_MM) * line.axis + np.vstack(
        [np.zeros(3), rim]
    )


def smallest_inner_radius(part: Part) -> float | None:
    """The tightest hollow corner or fillet that does not go all the way round, mm: what a cutter must get
    into.
    """
    holes = {number for hole in part.holes for number in hole.faces}
    corners = [
        face.radius
        for face in part.faces
        if face.number not in holes and face.kind == "cylinder" and face.hollow and face.radius is not None
    ]
    return min(corners, default=None)


@dataclass(frozen=True)
class UprightHole:
    """A round hollow wall that stands upright in a frame: a point of its axis there, its diameter, the
    heights of its two ends, and its limits of size where they are known, mm.
    """

    axis: Floats
    diameter: float
    low: float
    high: float
    limits: tuple[float, float] | None = None


def upright_holes(
    part: Part, here_from_part: Floats, sizes: dict[int, tuple[float, float]] | None = None
) -> dict[int, UprightHole]:
    """The upright holes of a part in a frame, by face number. sizes: limits of size by face."""
    out = {}
    for face in part.faces:
        if (
            face.kind != "cylinder"
            or not face.hollow
            or face.axis is None
            or face.axis_point is None
            or not face.radius
        ):
            continue
        if abs(turned(here_from_part, np.array(face.axis))[2]) < 1 - 1e-6:
            continue
        ends = moved(here_from_part, np.array([face.low, face.high]))[:, 2]
        out[face.number] = UprightHole(
            moved(here_from_part, np.array(face.axis_point)),
            2 * face.radius,
            float(ends.min()),
            float(ends.max()),
            (sizes or {}).get(face.number),
        )
    return out
