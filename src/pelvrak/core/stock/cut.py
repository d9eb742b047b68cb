"""What do the moves of one tool take off the stock, and what do they run into?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.errors import Stopped
from pelvrak.core.stock.cutting_kernel import (
    CUT,
    RAPID,
    moves_by_row,
    row_bounds,
    sweep_oblique,
    sweep_parallel,
    sweep_square,
)
from pelvrak.core.stock.field import Bundle, Floats, RayField, copied, grown

__all__ = ["CUT", "RAPID", "Hits", "Profile", "Sweep", "cut", "test"]

ALIGNED = 1e-9
PARALLEL, SQUARE, OBLIQUE = "parallel", "square", "oblique"
BATCH_MOVES = 4000


@dataclass(frozen=True)
class Profile:
    """A convex body of revolution on the tool axis.

    heights: ascending from the tip, mm, shape (k,); radii: not falling, mm, shape (k,).
    """

    heights: tuple[float, ...]
    radii: tuple[float, ...]


@dataclass(frozen=True)
class Sweep:
    """Moves of one tool in the work frame.

    starts, ends: tip positions, mm, (n, 3); what: CUT or RAPID, (n,); axis: unit vector from the
    tip to the spindle; cutter: what cuts; bodies: what only turns (shank, holder), measured from the tip.
    """

    starts: Floats
    ends: Floats
    what: NDArray[np.uint8]
    axis: Floats
    cutter: Profile
    bodies: tuple[Profile, ...] = ()


@dataclass(frozen=True)
class Hits:
    """Deepest overlap of every move, mm: `rapid` (n,) of the cutter in rapid moves, `bodies` (n, k)."""

    rapid: Floats
    bodies: Floats


def _frame(axis: Floats, ray: int) -> tuple[str, Floats]:
    """How the ray stands to the tool, and the tool's frame (rows e1, e2, axis) with e1 along the ray where it can."""
    direction = np.zeros(3)
    direction[ray] = 1.0
    along = float(axis @ direction)
    if abs(abs(along) - 1) < ALIGNED:
        first = np.zeros(3)
        first[(ray + 1) % 3] = 1.0
        exact = direction * np.sign(along)
        return PARALLEL, np.array([first, np.cross(exact, first), exact])
    first = direction - along * axis
    first /= np.linalg.norm(first)
    kind = SQUARE if abs(along) < ALIGNED else OBLIQUE
    return kind, np.array([first, np.cross(axis, first), axis])


def _stacked(bodies: tuple[Profile, ...]) -> tuple[Floats, Floats]:
    """Profiles as arrays (k, points), short ones padded with their last point."""
    points = max((len(body.heights) for body in bodies), default=2)
    heights, radii = np.zeros((len(bodies), points)), np.zeros((len(bodies), points))
    for row, body in enumerate(bodies):
        heights[row], radii[row] = body.heights[-1], body.radii[-1]
        heights[row, : len(body.heights)], radii[row, : len(body.radii)] = body.heights, body.radii
    return heights, radii


def _lateral_reach(sweep: Sweep, axis: int, with_bodies: bool) -> tuple[float, float]:
    """How far the tool can stretch from its tip along one work axis, mm: (below, above)."""
    along = float(sweep.axis[axis])
    across = float(np.sqrt(max(0.0, 1 - along * along)))
    low = high = 0.0
    for body in (sweep.cutter, *(sweep.bodies if with_bodies else ())):
        for h, r in zip(body.heights, body.radii, strict=True):
            low, high = min(low, h * along - r * across), max(high, h * along + r * across)
    return low, high


def _sweep_one(bundle: Bundle, field: RayField, sweep: Sweep, maker: int, cutting: bool) -> tuple[Bundle, Hits | None]:
    grid, axis = field.grid, bundle.axis
    u, v = (axis + 1) % 3, (axis + 2) % 3
    kind, frame = _frame(sweep.axis, axis)
    tests = kind != SQUARE and axis == int(np.argmax(np.abs(sweep.axis)))
    bodies = sweep.bodies if tests else ()
    if not tests and not cutting:
        return bundle, None
    keep = np.arange(len(sweep.what)) if tests else np.flatnonzero(sweep.what == CUT)
    starts, ends, what = sweep.starts[keep], sweep.ends[keep], sweep.what[keep]
    bounds = []
    for lateral in (u, v):
        low, high = _lateral_reach(sweep, lateral, bool(bodies))
        bounds.append(
            row_bounds(
                np.stack([starts[:, lateral], ends[:, lateral]], axis=1),
                low, high, grid.origin[lateral], grid.cell, grid.shape[lateral],
            )
        )  # fmt: skip
    place = (grid.origin[u], grid.origin[v], grid.cell)
    rows = moves_by_row(bounds[1], grid.shape[v])
    # Rays square to the tool: threads own the direction across, rays are walked up the tool.
    swapped = abs(sweep.axis[v]) > abs(sweep.axis[u])
    outer, inner = (u, v) if swapped else (v, u)
    if kind == SQUARE and swapped:
        rows = moves_by_row(bounds[0], grid.shape[u])
    tool_starts = np.ascontiguousarray(starts @ frame.T)
    tool_moves = np.ascontiguousarray((ends - starts) @ frame.T)
    heights, radii = np.array(sweep.cutter.heights), np.array(sweep.cutter.radii)
    body_heights, body_radii = _stacked(bodies)
    by = np.uint16(maker)
    uv = np.array([frame[:, axis], frame[:, u], frame[:, v]])
    capacity = bundle.capacity
    while True:
        work = copied(bundle) if cutting else bundle
        rays = (work.count, work.position.reshape(-1), work.normal.reshape(-1), work.maker.reshape(-1))
        hits = np.zeros((1, len(keep), 1 + len(bodies)))
        if kind == PARALLEL:
            hits, overflow = sweep_parallel(
                *rays, *place, *rows, tool_starts, tool_moves, what, by, frame, float(np.sign(uv[0, 2])),
                heights, radii, body_heights, body_radii, cutting,
            )  # fmt: skip
        elif kind == SQUARE:
            overflow = sweep_square(
                *rays, swapped, grid.origin[outer], grid.origin[inner], grid.cell, bounds[1 if swapped else 0], *rows,
                tool_starts, tool_moves, by, frame, float(np.sign(uv[0, 0])),
                np.ascontiguousarray(frame[1:, outer]), np.ascontiguousarray(frame[1:, inner]), heights, radii,
            )  # fmt: skip
        else:
            hits, overflow = sweep_oblique(
                *rays, *place, bounds[0], *rows, tool_starts, tool_moves, what, by, frame, uv,
                heights, radii, body_heights, body_radii, cutting,
            )  # fmt: skip
        if not overflow:
            break
        capacity *= 2
        bundle = grown(bundle, capacity)
    if not tests:
        return work, None
    deepest = hits.max(axis=0)
    rapid = np.zeros(len(sweep.what))
    rapid[keep] = deepest[:, 0]
    body_hits = np.zeros((len(sweep.what), len(bodies)))
    body_hits[keep] = deepest[:, 1:]
    return work, Hits(rapid, body_hits)


def cut(
    field: RayField,
    sweep: Sweep,
    maker: int,
    progress: Callable[[float], bool] | None = None,
) -> tuple[RayField, Hits]:
    """Take the cutting moves of a sweep off the field, in their order.

    maker: number written on every new surface. progress is called with the share done (0…1) and
    may return False to stop (raises Stopped). Returns the new field and what was hit; the given
    field is unchanged. Shank and holder are tested right after the cutter of the same move has
    passed: what stands then is what they meet.
    """
    hits = Hits(np.zeros(len(sweep.what)), np.zeros((len(sweep.what), len(sweep.bodies))))
    for first in range(0, len(sweep.what), BATCH_MOVES):
        part = slice(first, first + BATCH_MOVES)
        batch = replace(sweep, starts=sweep.starts[part], ends=sweep.ends[part], what=sweep.what[part])
        bundles = []
        for bundle in field.bundles:
            new, found = _sweep_one(bundle, field, batch, maker, True)
            bundles.append(new)
            if found is not None:
                hits.rapid[part] = found.rapid
                hits.bodies[part] = found.bodies
        field = RayField(field.grid, (bundles[0], bundles[1], bundles[2]))
        if progress is not None and not progress(min(1.0, (first + BATCH_MOVES) / len(sweep.what))):
            raise Stopped
    return field, hits


def test(field: RayField, sweep: Sweep) -> Hits:
    """What every move, cutting or rapid, runs into in a field that is not cut (holding, machine).

    `rapid` then holds the cutter's deepest overlap of every move.
    """
    every = replace(sweep, what=np.full(len(sweep.what), RAPID, np.uint8))
    axis = int(np.argmax(np.abs(sweep.axis)))
    _, hits = _sweep_one(field.bundles[axis], field, every, 0, False)
    assert hits is not None
    return hits
