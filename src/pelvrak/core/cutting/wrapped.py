"""How is a flat path laid round a rotary axis: the flat, its floors, and the stock as it stands unrolled?"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from shapely import LineString, Polygon
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.regions import loop_points
from pelvrak.core.cutting.standing import Standing, standing
from pelvrak.core.cutting.toolpath import Chords, Move, Path, Round, move_length
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh
from pelvrak.core.geometry.part import Face, Part, as_vector
from pelvrak.core.geometry.rigid import away_from_line, moved, turned
from pelvrak.core.geometry.visibility import Caster
from pelvrak.core.machine.index import TurningLine
from pelvrak.core.stock.moves import turned_moves

# The work's axis may lie this far from the rotary axis, mm, and lean so much (sine): common practice for
# setting up, no source.
COAXIAL_MM, COAXIAL_SIN = 0.02, 1e-4
# Stock that is unrolled, or turned under the tool, is known on rays this far apart, mm.
UNROLLED_CELL_MM = 0.5
UP = np.array([0.0, 0.0, 1.0])


def laid_round(lines: list[TurningLine], radius: float, name: str) -> Round:
    """How the flat lies: round the rotary axis that is square to the tool. Raises BadInput when the machine
    has none that stands so.
    """
    line = next((one for one in lines if abs(float(one.direction[2])) < 1e-6), None)
    if line is None:
        raise BadInput(
            "wrap.no_axis",
            name,
            "no rotary axis that turns the work lies square to the tool here",
            "choose a machine with one, or another index position",
        )
    way = line.direction
    sign = 1.0 if way[int(np.argmax(np.abs(way)))] > 0 else -1.0
    along = sign * way
    centre = line.point - along * float(along @ line.point)
    # The table turns against the axis's own sense; the flat's y comes to the top when the work is turned
    # forward about `along`.
    return Round(
        as_vector(along), as_vector(centre), radius, line.axis.name, line.angle, -1 if sign > 0 else 1
    )


def floor_on(
    part: Part, face: Face, zero_from_work: Floats, lines: list[TurningLine], name: str
) -> tuple[Round, Polygon]:
    """A floor as a region of the flat laid on its own cylinder. Raises BadInput when it is no cylinder about
    the rotary axis.
    """
    if (
        face.kind != "cylinder"
        or face.hollow
        or face.axis is None
        or face.axis_point is None
        or face.radius is None
    ):
        raise BadInput(
            "wrap.not_a_floor",
            name,
            f"face {face.number} is not the outside of a cylinder",
            "pick a floor that lies round the axis",
        )
    lie = laid_round(lines, face.radius, name)
    along = np.array(lie.along)
    away = float(
        away_from_line(moved(zero_from_work, np.array([face.axis_point])), np.array(lie.centre), along)[0]
    )
    lean = float(np.linalg.norm(np.cross(turned(zero_from_work, np.array(face.axis)), along)))
    if away > COAXIAL_MM or lean > COAXIAL_SIN:
        told = (
            f"leans {math.degrees(math.asin(min(1.0, lean))):.2f}° against it"
            if lean > COAXIAL_SIN
            else f"lies {away:.3f} mm from it"
        )
        raise BadInput(
            "wrap.off_axis",
            name,
            f"face {face.number} turns about an axis that {told}: the rotary axis {lie.axis}",
            "clamp the work so that its axis is the rotary axis",
        )
    rings = [_unrolled_points(loop_points(part, loop, zero_from_work), lie) for loop in face.loops]
    round_about = [ring for ring in rings if abs(ring[-1, 1] - ring[0, 1]) > math.pi * lie.radius]
    inside = [ring for ring in rings if not any(ring is other for other in round_about)]
    if len(round_about) == 2:
        first, second = (ring if ring[-1, 1] > ring[0, 1] else ring[::-1] for ring in round_about)
        return lie, Polygon(np.concatenate([first, second[::-1]]), [ring for ring in inside if len(ring) > 3])
    outer = max(inside, key=lambda ring: Polygon(ring).area)
    middle = (outer[:, 1].min() + outer[:, 1].max()) / 2
    # Islands may have been unrolled a whole turn beside.
    once = 2 * math.pi * lie.radius
    islands = [
        ring + [0, once * round((middle - ring[:, 1].mean()) / once)] for ring in inside if ring is not outer
    ]
    region = Polygon(outer, islands)
    return lie, region if region.is_valid else region.buffer(0)


def _unrolled_points(points: Floats, lie: Round) -> Floats:
    """A closed boundary (n, 3) on the flat, (n + 1, 2), its y going on past half a turn."""
    closed = np.concatenate([points, points[:1]])
    along, centre = np.array(lie.along), np.array(lie.centre)
    aside = np.cross(UP, along)
    off = closed - centre
    angle = np.unwrap(np.arctan2(off @ aside, off[:, 2]))
    return np.column_stack([off @ along, lie.radius * angle])


def unrolled(surface: Mesh, lie: Round, region: BaseGeometry, beside: float) -> Standing | None:
    """The stock as it stands over the flat: its outermost material over every place of it, as a field.

    surface: of the stock, zero frame; beside: how far past the region is looked, mm.
    """
    x0, y0, x1, y1 = region.bounds
    u = np.arange(x0 - beside, x1 + beside + UNROLLED_CELL_MM, UNROLLED_CELL_MM)
    v = np.arange(y0 - beside, y1 + beside + UNROLLED_CELL_MM, UNROLLED_CELL_MM)
    along, centre = np.array(lie.along), np.array(lie.centre)
    aside = np.cross(UP, along)
    far = farthest(surface, lie) + 1.0
    caster = Caster(surface)
    ways = [math.cos(y / lie.radius) * UP + math.sin(y / lie.radius) * aside for y in v]
    starts = [centre + np.outer(u, along) + far * way for way in ways]
    away = np.array(caster.each(starts, [-way for way in ways])).T
    height = far - away
    # What lies past the axis is the other side's.
    height[~np.isfinite(height) | (height < 0)] = -1.0
    return standing(_relief(u, v, height + centre[2], float(centre[2]) - 2.0), UNROLLED_CELL_MM)


def farthest(surface: Mesh, lie: Round) -> float:
    """How far the stock comes from the axis anywhere, mm."""
    return float(away_from_line(surface.vertices, np.array(lie.centre), np.array(lie.along)).max())


def _relief(x: Floats, y: Floats, height: Floats, base: float) -> Mesh:
    """A closed surface over a grid (len(x), len(y)) of heights, standing on a plane."""
    nx, ny = len(x), len(y)
    gx, gy = np.meshgrid(x, y, indexing="ij")
    top = np.column_stack([gx.ravel(), gy.ravel(), height.ravel()])
    foot = np.column_stack([gx.ravel(), gy.ravel(), np.full(nx * ny, base)])
    number = np.arange(nx * ny).reshape(nx, ny)
    a, b, c, d = (q.ravel() for q in (number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]))
    up = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    down = up[:, ::-1] + nx * ny
    rim = np.concatenate([number[:, 0], number[-1, 1:], number[-2::-1, -1], number[0, -2:0:-1]])
    after = np.roll(rim, -1)
    wall = np.concatenate(
        [
            np.column_stack([rim, rim + nx * ny, after + nx * ny]),
            np.column_stack([rim, after + nx * ny, after]),
        ]
    )
    triangles: Ints = np.concatenate([up, down, wall]).astype(np.int64)
    return Mesh(np.concatenate([top, foot]), triangles, np.zeros(len(triangles), np.int64))


def around_line(line: Sequence[tuple[float, float]], width: float) -> BaseGeometry:
    """The groove of a width, mm, about a line on the flat."""
    return LineString(line).buffer(width / 2)


def rolled(lines: Chords, lie: Round, reach: float, error: float) -> tuple[Chords, Floats]:
    """Chords of a flat path as moves in the work (zero frame), with the tool's axis of each, (n, 3).

    reach: farthest any cut lies from the axis, mm; error: of a chord there, mm.
    """
    tips = lie.place(np.concatenate([lines.starts[:1], lines.ends]))
    angles = np.degrees(np.concatenate([lines.starts[:1, 1], lines.ends[:, 1]]) / lie.radius)
    starts, ends, axes, owner = turned_moves(
        tips, angles, UP, np.array(lie.centre), np.array(lie.along), reach, error
    )
    return Chords(starts, ends, lines.what[owner], lines.move[owner]), axes


def placed(lines: Chords, lie: Round) -> Chords:
    """Chords of a flat path as the machine's slides make them, the work not turned."""
    return replace(lines, starts=lie.place(lines.starts), ends=lie.place(lines.ends))


def on_flat(job: Job, lie: Round, region: BaseGeometry) -> Job | None:
    """A job as it is planned on the flat over a region: over the stock as it stands unrolled, clear of
    whatever comes round between its places; its path is the job's. None where nothing stands.
    """
    assert job.surface is not None
    stood = unrolled(job.surface, lie, region, job.tool.DC)
    if stood is None:
        return None
    top = lie.centre[2] + farthest(job.surface, lie)
    return replace(job, stock=stood, path=job.path, findings=[], top=top)


def off_flat(job: Job, flat: Job) -> None:
    """Take over what was found on the flat; its places mean nothing in the work."""
    job.findings += [one.model_copy(update={"place": ()}) for one in flat.findings]
    job.top = max(job.top, flat.top)


def within_rotary(path: Path, turning: list[TurningLine]) -> list[Move]:
    """The moves of a path laid round an axis, no feed faster than that axis can turn."""
    lie = path.round
    if lie is None:
        return path.moves
    most = next(one.axis.feed for one in turning if one.axis.name == lie.axis)
    moves = []
    for before, move in zip([path.start, *(m.end for m in path.moves)], path.moves, strict=False):
        turns = abs(move.end[1] - before[1])
        if move.kind != "rapid" and turns > 1e-9:
            allowed = most * math.radians(1) * lie.radius * move_length(before, move) / turns
            move = replace(move, feed=min(move.feed, allowed))
        moves.append(move)
    return moves
