"""Does a cut at one piece of a billet run into another? Asked of its path before anything is cut."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.regions import shadow, silhouettes
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import cutter_profile
from pelvrak.core.geometry.mesh import Floats, to_solid, transformed
from pelvrak.core.geometry.several import piece_mesh
from pelvrak.core.stock.cut import CUT
from pelvrak.core.stock.profile import outline

if TYPE_CHECKING:
    from pelvrak.core.cutting.job import Job

# So far into a neighbour is within what paths and meshes are off, mm.
NEIGHBOUR_MM = 0.02
# To which piece a cut belongs is asked of outlines simplified so far, mm.
ROUGHLY_MM = 0.1
# At so many heights it is asked how wide a cutter is.
WIDTHS = 9


def look_at_neighbours(job: Job) -> None:
    """Tell where a path of a part that consists of several pieces goes into one beside that it cuts at.

    A cut between two rapids belongs to the piece that it lies nearest to on its whole way, seen along the
    tool; the others are looked at from its height up, as wide as the cutter is there.
    """
    names = job.part.part.pieces
    if len(names) < 2 or job.path.round is not None:
        return
    flat = chords(job.path)
    feeds = flat.what == CUT
    starts, ends = flat.starts[feeds], flat.ends[feeds]
    if not len(starts):
        return
    lines = shapely.linestrings(np.stack([starts[:, :2], ends[:, :2]], axis=1))
    low = np.minimum(starts[:, 2], ends[:, 2])
    around = [one.simplify(ROUGHLY_MM) for one in silhouettes(job.part, job.zero_from_work)]
    away = np.array([shapely.distance(lines, one) for one in around])
    # Which cut between rapids a move is of, and how near that comes to each piece in the mean.
    cuts = np.cumsum(np.diff(np.flatnonzero(feeds), prepend=-1) > 1) - 1
    cuts -= cuts[0]
    long = np.linalg.norm(ends - starts, axis=1) + 1e-6
    mean = np.array([np.bincount(cuts, one * long) for one in away]) / np.bincount(cuts, long)
    owner = mean.argmin(axis=0)[cuts]
    worst: tuple[float, int, int, Floats] | None = None
    for k, name in enumerate(names):
        found = _deepest(
            job, name, lines, low, np.flatnonzero((owner != k) & (away[k] < job.radius + ROUGHLY_MM))
        )
        if found is not None and (worst is None or found[0] > worst[0]):
            worst = (found[0], int(owner[found[1]]), k, found[2])
    if worst is None:
        return
    depth, own, other, place = worst
    job.note(
        "pieces.neighbour",
        "error",
        f"{job.operation.name} at piece {names[own]} runs {depth:.2f} mm into piece {names[other]}.",
        place,
        measured=round(depth, 4),
        limit=0.0,
        unit="mm",
    )


def _deepest(
    job: Job, name: str, lines: Floats, low: Floats, which: NDArray[np.int64]
) -> tuple[float, int, Floats] | None:
    """How deep some moves go into a piece at most, mm; the move, and where, zero frame. which: their
    numbers; None where none does.
    """
    mesh = transformed(piece_mesh(job.part, name), job.zero_from_work)
    solid, top = to_solid(mesh), float(mesh.vertices[:, 2].max())

    @cache
    def stands(height: float) -> BaseGeometry:
        return shadow(solid, height + NEIGHBOUR_MM)

    profile = cutter_profile(job.tool)
    # What stands over a height stands over every lower one: what is clear of the most is clear of all.
    which = which[low[which] < top - NEIGHBOUR_MM]
    if not len(which):
        return None
    most = stands(float(low[which].min()))
    which = which[shapely.distance(lines[which], most) < job.radius - NEIGHBOUR_MM]
    worst: tuple[float, int, Floats] | None = None
    for number in which:
        height = round(float(low[number]), 2)
        there = stands(height)
        if there.is_empty:
            continue
        up = np.linspace(1e-6, min(top - height, profile.heights[-1]), WIDTHS)
        wide = max(outline(profile, float(h)) for h in up)
        depth = wide - float(lines[number].distance(there))
        if depth > NEIGHBOUR_MM and (worst is None or depth > worst[0]):
            at = shapely.shortest_line(there, lines[number]).coords[0]
            worst = (depth, int(number), np.array([*at[:2], height]))
    return worst
