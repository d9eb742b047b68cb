"""Which moves does an operation make, given the part, the tool and the stock as it finds it?"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from shapely import LineString, Point, Polygon, box, maximum_inscribed_circle, unary_union
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.feeds import CuttingData
from pelvrak.core.cutting.operations import Drilling, Facing, Operation, Outline, Pocket, Wrapped, tool_kinds
from pelvrak.core.cutting.regions import (
    bore_region,
    floor_region,
    heights_of,
    offset,
    open_round,
    opening_region,
    pieces,
    silhouette,
    smallest_inner_radius,
    upright_wall,
)
from pelvrak.core.cutting.standing import Standing, box_above, top_within, touches
from pelvrak.core.cutting.toolpath import Move, Path, Round, fitted, move_length
from pelvrak.core.cutting.tools import Tool, cutter_profile, tip_length
from pelvrak.core.cutting.wrapped import around_line, farthest, floor_on, laid_round, unrolled
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import PartModel, Vector, as_vector, face_of
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.machine.index import TurningLine

MARGIN_MM = 2.0
# Smaller than this no shop keeps: common practice, no source.
SMALLEST_CUTTER_MM = 0.5
CHAMFER_TIP_MM = 0.5


@dataclass(frozen=True)
class Hole:
    """One hole of a drilling operation for the program: x, y, top of approach, bottom, mm."""

    x: float
    y: float
    start: float
    bottom: float


@dataclass
class Job:
    """What planning works on and what it has found so far. nest: rooms of the nest to be cut, with their floors, zero frame;
    turning: the rotary axes that can turn the work; surface: of the stock, zero frame."""

    part: PartModel
    zero_from_work: Floats
    stock: Standing
    tool: Tool
    data: CuttingData
    setup: str
    path: Path
    nest: dict[str, tuple[BaseGeometry, float]] = field(default_factory=dict)
    turning: list[TurningLine] = field(default_factory=list)
    surface: Mesh | None = None
    findings: list[Finding] = field(default_factory=list)
    holes: list[Hole] = field(default_factory=list)
    top: float = 0.0

    @cached_property
    def part_heights(self) -> tuple[float, float]:
        """Lowest and highest point of the part as it lies, mm."""
        heights = moved(self.zero_from_work, self.part.mesh.vertices)[:, 2]
        return float(heights.min()), float(heights.max())

    @property
    def radius(self) -> float:
        return self.tool.DC / 2

    @property
    def feed(self) -> float:
        return self.data.feed_mm_min.value

    @property
    def plunge(self) -> float:
        return self.data.plunge_mm_min

    def note(
        self, operation: Operation, code: str, severity: Any, sentence: str, at: Floats | None = None, **more: Any
    ) -> None:
        place: tuple[Vector, ...] = ()
        if at is not None:
            place = (as_vector(moved(inverse(self.zero_from_work), np.array(at))),)
        self.findings.append(
            Finding(
                code=code, severity=severity, setup=self.setup, operation=operation.id, stage="cut",
                sentence=sentence, place=place, **more,
            )
        )  # fmt: skip


def plan_operation(operation: Operation, job: Job) -> None:
    """Fill job.path, job.holes and job.findings. Raises BadInput when the operation cannot be planned."""
    allowed = tool_kinds(operation)
    if job.tool.kind not in allowed:
        raise BadInput(
            "cut.wrong_tool", operation.name,
            f"a {job.tool.kind.replace('_', ' ')} cannot do {operation.kind}",
            f"choose a {' or '.join(k.replace('_', ' ') for k in allowed)}",
        )  # fmt: skip
    if isinstance(operation, Outline) and (operation.chamfer is None) == (job.tool.kind == "chamfer_mill"):
        raise BadInput(
            "cut.wrong_tool", operation.name, "a chamfer and a chamfer cutter belong together",
            "give the chamfer's width and a chamfer cutter, or neither",
        )  # fmt: skip
    job.top = float(job.stock.high[2])
    _PLANNERS[type(operation)](operation, job)
    if job.path.moves:
        # The program comes from above: over the first place at full height, and then straight down.
        job.path.start = (*job.path.moves[0].end[:2], job.path.start[2])
        x, y, _ = job.path.at
        job.path.rapid(x, y, job.top + operation.clearance)
    elif not any(f.operation == operation.id for f in job.findings):
        job.note(operation, "cut.nothing", "note", f"{operation.name}: nothing stands here to be cut.")


def _levels(top: float, bottom: float, step: float) -> list[float]:
    """Depths of equal passes no deeper than `step`, the last at the bottom."""
    if top - bottom < 1e-6:
        return []
    n = max(1, math.ceil((top - bottom) / step - 1e-9))
    return [top - (top - bottom) * (i + 1) / n for i in range(n)]


def _at_height(points: Floats, z: float) -> Floats:
    return np.column_stack([points, np.full(len(points), z)])


def _check_reach(operation: Operation, job: Job, top: float, bottom: float) -> None:
    if top - bottom > job.tool.LCF + 1e-6:
        job.note(
            operation, "cut.deeper_than_flutes", "warning",
            f"{operation.name} goes {top - bottom:.1f} mm deep; the flutes of {job.tool.name} are {job.tool.LCF:g} mm long.",
            measured=round(top - bottom, 3), limit=job.tool.LCF, unit="mm",
        )  # fmt: skip


def _plan_facing(operation: Facing, job: Job) -> None:
    part_top = job.part_heights[1]
    if operation.face is not None:
        face = face_of(job.part.part, operation.face, operation.name)
        _, bottom = floor_region(job.part.part, face, job.zero_from_work, operation.name)
    else:
        bottom = part_top
    if bottom < part_top - 1e-3:
        raise BadInput(
            "cut.facing_too_low", operation.name, f"facing there would cut {part_top - bottom:.2f} mm off the part",
            "pick the topmost face of this setup",
        )  # fmt: skip
    bottom += operation.leave
    low, high = box_above(job.stock, bottom)
    step = operation.step_over * job.tool.DC
    along_x = high[0] - low[0] >= high[1] - low[1]
    u, v = (0, 1) if along_x else (1, 0)
    width = high[v] - low[v]
    rows = max(1, math.ceil(max(0.0, width - 0.3 * job.tool.DC) / step))
    first = low[v] + width / 2 - (rows - 1) * step / 2
    reach = job.radius + MARGIN_MM
    cutter = cutter_profile(job.tool)

    def point(a: float, b: float) -> tuple[float, float]:
        return (a, b) if along_x else (b, a)

    for z in _levels(job.top, bottom, operation.step_down):
        ends: list[tuple[float, float]] = []
        for row in range(rows):
            place = first + row * step
            span = [low[u] - reach, high[u] + reach]
            if row % 2:
                span.reverse()
            ends += [point(span[0], place), point(span[1], place)]
        if not touches(job.stock, _at_height(np.array(ends), z), cutter):
            continue
        x, y = ends[0]
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, z + operation.retract)
        job.path.feed(x, y, z, job.plunge)
        for x, y in ends[1:]:
            job.path.feed(x, y, z, job.feed)
        job.path.rapid(x, y, job.top + operation.clearance)


def _bottom_of(operation: Outline, job: Job) -> float:
    if operation.bottom is None:
        return job.part_heights[0]
    face = face_of(job.part.part, operation.bottom, operation.name)
    return heights_of(job.part.part, face, job.zero_from_work)[0]


def _contours(operation: Outline, job: Job) -> list[tuple[Polygon, float | None]]:
    if operation.nest:
        room, floor = _room(job, "floor", operation)
        return [(piece, floor) for piece in pieces(room)]
    if not operation.faces:
        return [(silhouette(job.part.mesh, job.zero_from_work), None)]
    contours: list[tuple[Polygon, float | None]] = []
    for ref in operation.faces:
        face = face_of(job.part.part, ref, operation.name)
        if face.kind == "cylinder" or (operation.side == "inside" and upright_wall(face, job.zero_from_work)):
            region, bottom, _ = opening_region(job.part, face, job.zero_from_work, operation.name)
            if not any(known.equals(region) for known, _ in contours):
                contours.append((region, bottom))
        else:
            region, height = floor_region(job.part.part, face, job.zero_from_work, operation.name)
            contours.append((Polygon(region.exterior), height if operation.side == "inside" else None))
    return contours


def _on_edge(operation: Outline, job: Job, contour: Polygon) -> tuple[float, float] | None:
    """Offset and tip height that cut a chamfer on the edge of the material along a contour.

    The edge is as high as the stock stands beside the contour. Its flank leaves `chamfer` mm across;
    the tip goes CHAMFER_TIP_MM below the chamfer's foot, so that the flank cuts and not the point.
    """
    assert operation.chamfer is not None
    assert job.tool.SIG is not None
    beside = contour.buffer(1.0) - contour if operation.side == "inside" else contour - contour.buffer(-1.0)
    edge = top_within(job.stock, beside)
    if edge is None:
        return None
    slope = math.tan(math.radians(job.tool.SIG / 2))
    widest = operation.chamfer + CHAMFER_TIP_MM * slope
    if widest > job.radius:
        raise BadInput(
            "cut.chamfer_too_big", operation.name,
            f"a chamfer of {operation.chamfer:g} mm is wider than {job.tool.name} reaches",
            f"a chamfer up to {job.radius - CHAMFER_TIP_MM * slope:.2f} mm",
        )  # fmt: skip
    return CHAMFER_TIP_MM * slope, edge - operation.chamfer / slope - CHAMFER_TIP_MM


def _plan_outline(operation: Outline, job: Job) -> None:
    for contour, own_bottom in _contours(operation, job):
        bottom = own_bottom if own_bottom is not None and operation.bottom is None else _bottom_of(operation, job)
        bottom -= operation.below
        sign = 1.0 if operation.side == "outside" and not operation.nest else -1.0
        reach = job.radius + operation.leave
        if operation.chamfer is not None:
            placed = _on_edge(operation, job, contour)
            if placed is None:
                continue
            reach, bottom = placed
        final = offset(contour, sign * reach)
        if not pieces(final):
            job.note(
                operation, "cut.tool_too_big", "error",
                f"{job.tool.name} does not fit inside the contour.",
                _at_height(np.array(contour.centroid.coords), bottom)[0],
                measured=job.tool.DC, limit=round(2 * smallest_inner_radius(contour), 2), unit="mm",
            )  # fmt: skip
            continue
        # The material wanting to go lies between the contour and the farthest stock beside it.
        spare = 0.0
        if sign > 0:
            corners = box(job.stock.low[0], job.stock.low[1], job.stock.high[0], job.stock.high[1])
            spare = min(float(corners.hausdorff_distance(contour)), 60.0)
        step = operation.step_over * job.tool.DC
        once = sign < 0 or operation.chamfer is not None
        rounds = 1 if once else max(1, math.ceil(spare / step))
        top = top_within(job.stock, offset(final, job.radius))
        if top is None or top <= bottom:
            continue
        _check_reach(operation, job, top, bottom)
        rings = [
            _ring(piece, clockwise=sign > 0)
            for k in range(rounds - 1, -1, -1)
            for piece in pieces(offset(final, sign * k * step) if k else final)
        ]
        for z in _levels(top, bottom, operation.step_down):
            for ring in rings:
                _follow_ring(operation, job, ring, z)


def _ring(piece: Polygon, clockwise: bool) -> Floats:
    """Boundary points (n, 2), closed, starting at the middle of the longest straight, in the given sense."""
    points = np.array(piece.exterior.coords)[:-1]
    lengths = np.hypot(*(np.roll(points, -1, axis=0) - points).T)
    i = int(np.argmax(lengths))
    j = (i + 1) % len(points)
    middle = (points[i] + points[j]) / 2
    ordered = np.concatenate([[middle], np.roll(points, -j, axis=0), [middle]])
    return ordered[::-1] if piece.exterior.is_ccw == clockwise else ordered


def _follow_ring(operation: Outline, job: Job, ring: Floats, z: float) -> None:
    """One pass along a contour at one depth: lead in by a tangent arc from the air side, climb, lead out."""
    outside = operation.side == "outside" and not operation.nest
    cutter = cutter_profile(job.tool)
    if not touches(job.stock, _at_height(ring, z), cutter):
        return
    t = ring[1] - ring[0]
    t = t / np.hypot(*t)
    n = np.array([-t[1], t[0]])  # air is on the left
    lead = job.radius * (0.6 if outside else 0.25)
    if not outside:
        room = Polygon(ring).buffer(-lead)
        lead = lead if not room.is_empty else 0.0
    centre = ring[0] + n * lead
    entry = centre - t * lead
    start = entry
    clear = lead > 0 and not touches(job.stock, _at_height(np.array([entry]), z), cutter)
    if not clear and outside:
        for away in np.arange(2.0, 80.0, 2.0):
            start = entry + n * away
            if not touches(job.stock, _at_height(np.array([start]), z), cutter):
                clear = True
                break
    if clear:
        job.path.rapid(float(start[0]), float(start[1]), job.top + operation.clearance)
        job.path.rapid(float(start[0]), float(start[1]), z + operation.retract)
        job.path.feed(float(start[0]), float(start[1]), z, job.plunge)
        job.path.feed(float(entry[0]), float(entry[1]), z, job.feed)
        job.path.arc("ccw", (float(ring[0][0]), float(ring[0][1]), z), (float(centre[0]), float(centre[1])), job.feed)
    else:
        x, y = float(ring[0][0]), float(ring[0][1])
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, job.top + operation.retract)
        _ramp_along(job, ring, job.top + 0.2, z, operation.ramp_deg)
    _trace(job, ring, z)
    if lead > 0:
        out = centre + t * lead
        job.path.arc("ccw", (float(out[0]), float(out[1]), z), (float(centre[0]), float(centre[1])), job.feed)
    x, y, _ = job.path.at
    job.path.rapid(x, y, job.top + operation.clearance)


def _trace(job: Job, ring: Floats, z: float) -> None:
    for kind, (x, y), centre in fitted(ring):
        if centre is None:
            job.path.feed(x, y, z, job.feed)
        else:
            job.path.arc(kind, (x, y, z), centre, job.feed)  # type: ignore[arg-type]


def _ramp_along(job: Job, ring: Floats, top: float, bottom: float, angle_deg: float) -> None:
    """Go down along a closed ring at the ramp angle, ending at ring[0]."""
    x, y = float(ring[0][0]), float(ring[0][1])
    job.path.feed(x, y, top, job.plunge)
    around = float(np.hypot(*np.diff(ring, axis=0).T).sum())
    laps = max(1, math.ceil((top - bottom) / (around * math.tan(math.radians(angle_deg)))))
    steps = fitted(ring)
    flat = Path((x, y, 0.0), [Move(kind, (*end, 0.0), 1.0, centre) for kind, end, centre in steps])
    lengths = [move_length(flat.moves[i - 1].end if i else flat.start, move) for i, move in enumerate(flat.moves)]
    drop = (top - bottom) / laps
    for lap in range(laps):
        gone = 0.0
        for (kind, (ex, ey), centre), length in zip(steps, lengths, strict=True):
            gone += length
            z = top - drop * (lap + gone / sum(lengths))
            if centre is None:
                job.path.feed(ex, ey, z, job.plunge)
            else:
                job.path.arc(kind, (ex, ey, z), centre, job.plunge)  # type: ignore[arg-type]


def _room(job: Job, name: str, operation: Operation) -> tuple[BaseGeometry, float]:
    if name not in job.nest:
        raise BadInput(
            "cut.no_nest", operation.name, "there is no such room to be cut in this setup", "pick faces of the part"
        )
    return job.nest[name]


def _rooms(operation: Pocket, job: Job) -> list[tuple[Polygon, float]]:
    """The regions a pocket clears, with their floors."""
    if operation.nest is not None:
        room, floor = _room(job, operation.nest, operation)
        return [(piece, floor) for piece in pieces(room)]
    out: list[tuple[Polygon, float]] = []
    for ref in operation.faces:
        face = face_of(job.part.part, ref, operation.name)
        if upright_wall(face, job.zero_from_work) or face.kind == "cylinder":
            region, bottom, _ = opening_region(job.part, face, job.zero_from_work, operation.name)
            if not any(known.equals(region) for known, _ in out):
                out.append((region, bottom - operation.below))
        else:
            out.append(floor_region(job.part.part, face, job.zero_from_work, operation.name))
    return out


def _open_sides(operation: Pocket, job: Job, region: Polygon, bottom: float) -> BaseGeometry:
    """The region with room to run out where it is open to a side."""
    if operation.nest is not None:
        return region
    return open_round(job.part, region, bottom, job.zero_from_work, job.tool.DC + operation.leave_side + MARGIN_MM)


def _plan_pocket(operation: Pocket, job: Job) -> None:
    for region, bottom in _rooms(operation, job):
        bottom += operation.leave_floor
        whole = _open_sides(operation, job, region, bottom - operation.leave_floor)
        inner = offset(whole, -(job.radius + operation.leave_side))
        # Beyond half the cutter out there is nothing to be had.
        inner = inner.intersection(offset(region, 0.6 * job.tool.DC)) if whole.area > region.area + 1e-3 else inner
        if not pieces(inner):
            fits = 2 * smallest_inner_radius(region)
            job.note(
                operation, "cut.tool_too_big", "error",
                f"{job.tool.name} does not fit into the pocket; {_would_reach(fits)}.",
                _at_height(np.array(region.representative_point().coords), bottom)[0],
                measured=job.tool.DC, limit=round(fits, 2), unit="mm",
            )  # fmt: skip
            continue
        missed = region.difference(offset(inner, job.radius + operation.leave_side)).area
        if operation.leave_side == 0 and missed > 0.5:
            fits = 2 * smallest_inner_radius(region)
            job.note(
                operation, "cut.corners_left", "warning",
                f"{job.tool.name} leaves {missed:.1f} mm² in the corners; {_would_reach(fits)}.",
                _at_height(np.array(region.representative_point().coords), bottom)[0],
                measured=job.tool.DC, limit=round(fits, 2), unit="mm",
            )  # fmt: skip
        top = top_within(job.stock, region)
        if top is None or top <= bottom + 1e-6:
            job.note(operation, "cut.already_there", "note", f"{operation.name}: the pocket is already there.")
            continue
        _check_reach(operation, job, top, bottom)
        step = operation.step_over * job.tool.DC
        for piece in pieces(inner):
            rings = _rings(piece, step)
            above = top
            for z in _levels(top, bottom, operation.step_down):
                _clear_level(operation, job, piece, rings, above, z)
                above = z


def _would_reach(fits: float) -> str:
    """Which cutter gets into every corner; into square ones none does."""
    return (
        f"Ø{fits:.1f} would reach every corner"
        if fits >= SMALLEST_CUTTER_MM
        else "its corners are square, and no turning cutter reaches into those"
    )


def _rings(piece: Polygon, step: float) -> list[Floats]:
    """Rings from the inside out: outer boundaries counter-clockwise, islands clockwise, each closed (n, 2)."""
    levels: list[list[Floats]] = []
    k = 0
    while True:
        shrunk = pieces(offset(piece, -k * step)) if k else [piece]
        if not shrunk:
            break
        level = []
        for p in shrunk:
            level += [np.array(hole.coords) if not hole.is_ccw else np.array(hole.coords)[::-1] for hole in p.interiors]
            level.append(np.array(p.exterior.coords) if p.exterior.is_ccw else np.array(p.exterior.coords)[::-1])
        levels.append(level)
        k += 1
    return [ring for level in reversed(levels) for ring in level]


def _started_near(ring: Floats, point: tuple[float, float]) -> Floats:
    """The closed ring beginning at its point nearest to a given one."""
    line = LineString(ring)
    at = line.project(Point(point))
    here = np.array(line.interpolate(at).coords[0])
    gone = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(ring, axis=0).T))])
    i = int(np.searchsorted(gone, at, side="right"))
    out = np.concatenate([[here], ring[i:-1], ring[: max(i, 1)], [here]])
    keep = np.concatenate([[True], np.hypot(*np.diff(out, axis=0).T) > 1e-7])
    keep[-1] = True
    started: Floats = out[keep]
    return started


def _clear_level(operation: Pocket, job: Job, piece: Polygon, rings: list[Floats], above: float, z: float) -> None:
    cutter = cutter_profile(job.tool)
    if not any(touches(job.stock, _at_height(ring, z), cutter) for ring in rings):
        return
    room = piece.buffer(1e-3)
    entered = False
    for ring in rings:
        if not entered:
            ring = _enter(operation, job, piece, ring, above, z)
            entered = True
        else:
            x, y, _ = job.path.at
            ring = _started_near(ring, (x, y))
            link = LineString([(x, y), tuple(ring[0])])
            if room.contains(link):
                job.path.feed(float(ring[0][0]), float(ring[0][1]), z, job.feed)
            else:
                job.path.rapid(x, y, job.top + operation.retract)
                ring = _enter(operation, job, piece, ring, above, z)
        _trace(job, ring, z)
    x, y, _ = job.path.at
    job.path.rapid(x, y, job.top + operation.clearance)


def _enter(operation: Pocket, job: Job, piece: Polygon, ring: Floats, above: float, z: float) -> Floats:
    """Come down to z for a ring: straight where it is clear, by helix where there is room, else along the ring."""
    cutter = cutter_profile(job.tool)
    circle = maximum_inscribed_circle(piece)
    centre, room = np.array(circle.coords[0]), float(circle.length)
    x, y = float(ring[0][0]), float(ring[0][1])
    if not touches(job.stock, _at_height(ring[:1], z), cutter):
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, max(above, z) + operation.retract)
        job.path.feed(x, y, z, job.plunge)
        return ring
    turn = min(0.45 * job.tool.DC, room)
    start = centre + [turn, 0.0]
    link = LineString([tuple(start), tuple(_started_near(ring, (float(start[0]), float(start[1])))[0])])
    if turn > 0.2 * job.tool.DC and job.tool.cuts_at_centre and piece.buffer(1e-3).contains(link):
        top = above + 0.2
        drop = 2 * math.pi * turn * math.tan(math.radians(operation.ramp_deg))
        laps = max(1, math.ceil((top - z) / drop))
        sx, sy, middle = float(start[0]), float(start[1]), (float(centre[0]), float(centre[1]))
        job.path.rapid(sx, sy, job.top + operation.clearance)
        job.path.rapid(sx, sy, top + operation.retract)
        job.path.feed(sx, sy, top, job.plunge)
        for lap in range(laps):
            job.path.arc("ccw", (sx, sy, top - (top - z) * (lap + 1) / laps), middle, job.plunge)
        job.path.arc("ccw", (sx, sy, z), middle, job.feed)
        ring = _started_near(ring, (sx, sy))
        job.path.feed(float(ring[0][0]), float(ring[0][1]), z, job.feed)
        return ring
    job.path.rapid(x, y, job.top + operation.clearance)
    job.path.rapid(x, y, above + 0.2 + operation.retract)
    _ramp_along(job, ring, above + 0.2, z, operation.ramp_deg)
    return ring


def _plan_wrapped(operation: Wrapped, job: Job) -> None:
    """Plan on the flat, over the stock as it stands unrolled."""
    if operation.line:
        assert operation.diameter is not None and operation.depth is not None
        lie = laid_round(job.turning, operation.diameter / 2, operation)
        work = [(lie, around_line(operation, job.tool.DC), operation.depth)]
    else:
        faces = [face_of(job.part.part, ref, operation.name) for ref in operation.faces]
        work = [(*floor_on(job.part.part, face, job.zero_from_work, job.turning, operation), 0.0) for face in faces]
    lie = work[0][0]
    if any(abs(one.radius - lie.radius) > 1e-6 for one, _, _ in work):
        raise BadInput("wrap.two_radii", operation.name, "its floors lie on cylinders of different diameters", "give each diameter an operation of its own")  # fmt: skip
    job.path.round = lie
    for _, region, depth in work:
        _wrap(operation, job, lie, region, lie.centre[2] + lie.radius - depth)
    job.path.moves = [_within_rotary(move, before, job) for move, before in zip(job.path.moves, [job.path.start, *(m.end for m in job.path.moves)], strict=False)]  # fmt: skip


def _wrap(operation: Wrapped, job: Job, lie: Round, region: BaseGeometry, bottom: float) -> None:
    """One groove or floor, cleared on the flat."""
    gap = operation.gap if operation.line and operation.gap else None
    if gap is not None and gap < job.tool.DC - 1e-9:
        job.note(
            operation, "cut.tool_too_big", "error",
            f"{job.tool.name} is wider than the gap of {gap:g} mm.", measured=job.tool.DC, limit=gap, unit="mm",
        )  # fmt: skip
        return
    assert job.surface is not None
    stood = unrolled(job.surface, lie, region, job.tool.DC)
    if stood is None:
        return
    # Between its places the tool stays clear of whatever comes round.
    flat = replace(job, stock=stood, path=job.path, findings=[], top=lie.centre[2] + farthest(job.surface, lie))
    if operation.line and (gap is None or gap < job.tool.DC + 1e-3):
        _follow(operation, flat, bottom)
    else:
        whole = 2 * math.pi * lie.radius
        x0, y0, x1, y1 = region.bounds
        if y1 - y0 > whole - 1e-6:
            # Once round and on: where it is cut open there is no wall.
            region = unary_union([region, *(translate(region, 0.0, way * whole) for way in (1, -1))]).buffer(1e-6)
            region = region.intersection(box(x0 - 1, y0 - 2 * job.tool.DC, x1 + 1, y1 + 2 * job.tool.DC))
        pocket = Pocket(
            id=operation.id, name=operation.name, tool=operation.tool, clearance=operation.clearance, retract=operation.retract,
            nest="floor", step_down=operation.step_down, step_over=operation.step_over, ramp_deg=operation.ramp_deg,
        )  # fmt: skip
        flat.nest = {"floor": (region, bottom)}
        _plan_pocket(pocket, flat)
    # Places on the flat mean nothing in the work.
    job.findings += [one.model_copy(update={"place": ()}) for one in flat.findings]
    job.top = max(job.top, flat.top)


def _follow(operation: Wrapped, job: Job, bottom: float) -> None:
    """Along a line, to and fro, a little deeper each time."""
    line = np.array(operation.line, float)
    top = top_within(job.stock, around_line(operation, job.tool.DC))
    if top is None or top <= bottom + 1e-6:
        return
    _check_reach(operation, job, top, bottom)
    cutter = cutter_profile(job.tool)
    down = False
    for z in _levels(top, bottom, operation.step_down):
        if not touches(job.stock, _at_height(line, z), cutter):
            continue
        x, y = (float(c) for c in line[0])
        if not down:
            job.path.rapid(x, y, job.top + operation.clearance)
            job.path.rapid(x, y, top + operation.retract)
            down = True
        job.path.feed(x, y, z, job.plunge)
        for x, y in line[1:]:
            job.path.feed(float(x), float(y), z, job.feed)
        line = line[::-1]
    if down:
        x, y, _ = job.path.at
        job.path.rapid(x, y, job.top + operation.clearance)


def _within_rotary(move: Move, before: tuple[float, float, float], job: Job) -> Move:
    """A feed move no faster than the rotary axis can turn."""
    lie = job.path.round
    turns = abs(move.end[1] - before[1])
    if lie is None or move.kind == "rapid" or turns < 1e-9:
        return move
    most = next(one.axis.feed for one in job.turning if one.axis.name == lie.axis)
    allowed = most * math.radians(1) * lie.radius * move_length(before, move) / turns
    return replace(move, feed=min(move.feed, allowed))


def _plan_drilling(operation: Drilling, job: Job) -> None:
    holes = []
    for ref in operation.faces:
        hole = _hole_to_drill(operation, job, ref)
        if hole is not None:
            holes.append(hole)
    at = (0.0, 0.0)
    while holes:  # nearest next
        hole = min(holes, key=lambda h: math.hypot(h.x - at[0], h.y - at[1]))
        holes.remove(hole)
        if job.holes:
            # Straight up first: something higher may stand between two holes.
            job.path.rapid(at[0], at[1], job.top + operation.clearance)
        at = (hole.x, hole.y)
        job.holes.append(hole)
        job.path.rapid(hole.x, hole.y, job.top + operation.clearance)
        job.path.rapid(hole.x, hole.y, hole.start)
        _CYCLES[operation.cycle](operation, job, hole)


def _hole_to_drill(operation: Drilling, job: Job, ref: Any) -> Hole | None:
    part = job.part.part
    face = face_of(part, ref, operation.name)
    disc, bottom, _ = bore_region(part, face, job.zero_from_work, operation.name)
    x, y = disc.centroid.x, disc.centroid.y
    through = any(face.number in hole.faces and hole.through for hole in part.holes)
    along = [
        (f.kind, heights_of(part, f, job.zero_from_work))
        for f in part.faces
        if f.hollow and f.axis_point and f.kind in ("cylinder", "cone") and f.radius is not None
        and np.linalg.norm(np.cross(np.subtract(f.axis_point, face.axis_point), face.axis)) < 1e-6  # type: ignore[arg-type]
        and abs(abs(np.dot(f.axis, face.axis)) - 1) < 1e-9  # type: ignore[arg-type]
        and f.radius <= (face.radius or 0) + 1e-6
    ]  # fmt: skip
    entry = max(high for _, (_, high) in along)
    pointed = any(kind == "cone" and low < bottom - 1e-3 for kind, (low, _) in along)
    tool = job.tool
    if operation.cycle == "spot":
        assert operation.chamfer is not None
        assert tool.SIG is not None
        if operation.chamfer > tool.DC:
            raise BadInput(
                "cut.chamfer_too_big", operation.name,
                f"Ø{operation.chamfer:g} is wider than {tool.name}", f"a chamfer up to Ø{tool.DC:g}",
            )  # fmt: skip
        bottom = entry - operation.chamfer / 2 / math.tan(math.radians(tool.SIG / 2))
    else:
        size = tool.DC - (tool.TP or 0.0) if operation.cycle == "tap" else tool.DC
        assert face.radius is not None
        if size > 2 * face.radius + 0.02:
            job.note(
                operation, "cut.drill_too_big", "error",
                f"{tool.name} is bigger than the hole Ø{2 * face.radius:.2f}.", np.array([x, y, entry]),
                measured=size, limit=round(2 * face.radius, 3), unit="mm",
            )  # fmt: skip
            return None
        if through:
            bottom -= tip_length(tool) + operation.below
        elif pointed and operation.cycle in ("drill", "peck"):
            # The model has the drill's point under the hole: its full diameter goes down to there.
            bottom -= tip_length(tool)
        else:
            bottom += operation.short
    stock_top = top_within(job.stock, Point(x, y).buffer(tool.DC / 2 + job.stock.field.grid.cell))
    line = np.array([[x, y, entry], [x, y, bottom]])
    if operation.cycle in ("drill", "peck", "spot") and not touches(job.stock, line, cutter_profile(tool)):
        job.note(
            operation, "cut.already_there", "note", f"{operation.name}: the hole at X{x:.2f} Y{y:.2f} is already there.",
            np.array([x, y, entry]),
        )  # fmt: skip
        return None
    start = max(entry, stock_top if stock_top is not None else entry) + operation.retract
    _check_reach(operation, job, start - operation.retract, bottom)
    return Hole(x, y, start, bottom)


def _in_one_go(operation: Drilling, job: Job, hole: Hole) -> None:
    job.path.feed(hole.x, hole.y, hole.bottom, job.feed)
    job.path.rapid(hole.x, hole.y, hole.start)


def _in_pecks(operation: Drilling, job: Job, hole: Hole) -> None:
    depth = hole.start - operation.retract
    while depth > hole.bottom + 1e-9:
        before = depth
        depth = max(hole.bottom, depth - operation.peck)
        if before < hole.start - operation.retract:
            job.path.rapid(hole.x, hole.y, before + 0.5)
        job.path.feed(hole.x, hole.y, depth, job.feed)
        job.path.rapid(hole.x, hole.y, hole.start)


def _in_and_out_at_feed(operation: Drilling, job: Job, hole: Hole) -> None:
    job.path.feed(hole.x, hole.y, hole.bottom, job.feed)
    job.path.feed(hole.x, hole.y, hole.start, job.feed)


_CYCLES: dict[str, Callable[[Drilling, Job, Hole], None]] = {
    "spot": _in_one_go,
    "drill": _in_one_go,
    "peck": _in_pecks,
    "ream": _in_and_out_at_feed,
    "tap": _in_and_out_at_feed,
}
_PLANNERS: dict[type, Callable[[Any, Job], None]] = {
    Facing: _plan_facing,
    Outline: _plan_outline,
    Pocket: _plan_pocket,
    Drilling: _plan_drilling,
    Wrapped: _plan_wrapped,
}
__all__ = ["Hole", "Job", "plan_operation"]
