"""What passes consist of: depths, rings, ways down, and following a ring."""

from __future__ import annotations

import math

import numpy as np
from shapely import LineString, Point, Polygon

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.regions import offset
from pelvrak.core.cutting.toolpath import ARC_FIT_MM, Move, Path, fitted, move_length
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.planar import pieces

MARGIN_MM = 2.0
# A way down begins so high over what stands, mm.
OVER_MM = 0.2
# A helix turns within this share of DC round its axis, and no tighter than that: common practice, no source.
HELIX_SHARE, TIGHTEST_SHARE = 0.45, 0.2


def levels(top: float, bottom: float, step: float) -> list[float]:
    """Depths of equal passes no deeper than `step`, the last at the bottom."""
    if top - bottom < 1e-6:
        return []
    n = max(1, math.ceil((top - bottom) / step - 1e-9))
    return [top - (top - bottom) * (i + 1) / n for i in range(n)]


def at_height(points: Floats, z: float) -> Floats:
    """Points of a plane (n, 2) at a height, (n, 3)."""
    return np.column_stack([points, np.full(len(points), z)])


def rings_of(piece: Polygon, step: float) -> list[Floats]:
    """Rings from the inside out: outer boundaries counter-clockwise, islands clockwise, each closed (n,
    2).
    """
    levels: list[list[Floats]] = []
    k = 0
    while True:
        shrunk = pieces(offset(piece, -k * step)) if k else [piece]
        if not shrunk:
            break
        level = []
        for p in shrunk:
            level += [
                np.array(hole.coords) if not hole.is_ccw else np.array(hole.coords)[::-1]
                for hole in p.interiors
            ]
            level.append(
                np.array(p.exterior.coords) if p.exterior.is_ccw else np.array(p.exterior.coords)[::-1]
            )
        levels.append(level)
        k += 1
    return [ring for level in reversed(levels) for ring in level]


def started_near(ring: Floats, point: tuple[float, float]) -> Floats:
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


def ring_of(piece: Polygon, clockwise: bool) -> Floats:
    """Boundary points (n, 2), closed, starting at the middle of the longest straight, in the given sense."""
    points = np.array(piece.exterior.coords)[:-1]
    lengths = np.hypot(*(np.roll(points, -1, axis=0) - points).T)
    i = int(np.argmax(lengths))
    j = (i + 1) % len(points)
    middle = (points[i] + points[j]) / 2
    ordered = np.concatenate([[middle], np.roll(points, -j, axis=0), [middle]])
    return ordered[::-1] if piece.exterior.is_ccw == clockwise else ordered


def trace(job: Job, ring: Floats, z: float, error: float = ARC_FIT_MM) -> None:
    """Feed along a ring (n, 2) at a height, in lines and arcs within an error, mm."""
    for kind, (x, y), centre in fitted(ring, error):
        if centre is None:
            job.path.feed(x, y, z, job.feed)
        else:
            job.path.arc(kind, (x, y, z), centre, job.feed)  # type: ignore[arg-type]


def ramp_along(job: Job, ring: Floats, top: float, bottom: float, angle_deg: float) -> None:
    """Go down along a closed ring at the ramp angle, ending at ring[0]."""
    x, y = float(ring[0][0]), float(ring[0][1])
    job.go_down(x, y, top)
    around = float(np.hypot(*np.diff(ring, axis=0).T).sum())
    laps = max(1, math.ceil((top - bottom) / (around * math.tan(math.radians(angle_deg)))))
    steps = fitted(ring)
    flat = Path((x, y, 0.0), [Move(kind, (*end, 0.0), 1.0, centre) for kind, end, centre in steps])
    lengths = [
        move_length(flat.moves[i - 1].end if i else flat.start, move) for i, move in enumerate(flat.moves)
    ]
    drop = (top - bottom) / laps
    with job.path.leading():
        for lap in range(laps):
            gone = 0.0
            for (kind, (ex, ey), centre), length in zip(steps, lengths, strict=True):
                gone += length
                z = top - drop * (lap + gone / sum(lengths))
                if centre is None:
                    job.path.feed(ex, ey, z, job.plunge)
                else:
                    job.path.arc(kind, (ex, ey, z), centre, job.plunge)  # type: ignore[arg-type]


def helix_down(
    job: Job, middle: tuple[float, float], turn: float, above: float, z: float, angle_deg: float
) -> None:
    """Come over a helix's start, go down it from just over `above` to z, and once round on its floor. turn:
    the radius of the helix, mm.
    """
    top = above + OVER_MM
    laps = max(1, math.ceil((top - z) / (2 * math.pi * turn * math.tan(math.radians(angle_deg)))))
    x, y = middle[0] + turn, middle[1]
    job.path.rapid(x, y, job.top + job.operation.clearance)
    job.path.rapid(x, y, top + job.operation.retract)
    job.go_down(x, y, top)
    with job.path.leading():
        for lap in range(laps):
            job.path.arc("ccw", (x, y, top - (top - z) * (lap + 1) / laps), middle, job.plunge)
    job.path.arc("ccw", (x, y, z), middle, job.feed)
