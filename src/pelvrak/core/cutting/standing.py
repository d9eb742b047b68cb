"""What stands under the spindle: the stock as the operation finds it, in the zero frame."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.stock.cut import CUT, RAPID, Profile, Sweep, cut, test
from pelvrak.core.stock.field import RayField, extents, field_turned, grid_around
from pelvrak.core.stock.shapes import field_of_mesh, material_top, minus
from pelvrak.core.stock.thin import thicknesses

UP = np.array([0.0, 0.0, 1.0])
TOUCH_MM = 0.02
# A skin is no thicker than this, in ray distances, and on so many rays at least.
SKIN, LEAST_RAYS = 1.5, 3
# Axes are along each other when the cosine between them is this near to 1.
SQUARE = 1e-12


@dataclass(frozen=True)
class Standing:
    """low, high: box of the material (mm); field: its rays in the zero frame."""

    low: Floats
    high: Floats
    field: RayField


def standing(surface: Mesh, cell: float) -> Standing | None:
    """The stock surface (zero frame) made askable; None when nothing stands."""
    if len(surface.triangles) == 0:
        return None
    low, high = surface.vertices.min(axis=0), surface.vertices.max(axis=0)
    return Standing(low, high, field_of_mesh(grid_around(low, high, cell), surface))


def standing_square(field: RayField, zero_from_work: Floats) -> Standing | None:
    """The same from a stock's own rays, where the frames' axes lie along each other: nothing is sampled
    again.
    """
    here = field_turned(field, zero_from_work)
    box = extents(here)
    return None if box is None else Standing(box[0], box[1], here)


def is_square(transform: Floats) -> bool:
    """Whether every axis of one frame lies along one of the other."""
    return bool((np.abs(np.abs(transform[:3, :3]).max(axis=1) - 1) < SQUARE).all())


def top_within(stock: Standing, region: BaseGeometry) -> float | None:
    """Highest material over a plane region, mm; None where the region is empty of it."""
    top = material_top(stock.field, 2, 1)
    x, y = stock.field.grid.nodes(0), stock.field.grid.nodes(1)
    left, low, right, high = region.bounds
    i0, i1 = np.searchsorted(x, [left, right])
    j0, j1 = np.searchsorted(y, [low, high])
    if i0 >= i1 or j0 >= j1:
        return None
    xs, ys = np.meshgrid(x[i0:i1], y[j0:j1])
    inside = shapely.contains_xy(region, xs, ys) & np.isfinite(top[j0:j1, i0:i1])
    return float(top[j0:j1, i0:i1][inside].max()) if inside.any() else None


def box_above(stock: Standing, height: float) -> tuple[Floats, Floats]:
    """Box in x and y of what stands above a height, mm: the whole stock's where all of it does, and where
    nothing does.
    """
    top = material_top(stock.field, 2, 1)
    x, y = stock.field.grid.nodes(0), stock.field.grid.nodes(1)
    j, i = np.nonzero(top > height + TOUCH_MM)
    low, high = stock.low[:2].copy(), stock.high[:2].copy()
    if len(i) == 0:
        return low, high
    cell = stock.field.grid.cell
    for d, nodes in enumerate((x[i], y[j])):
        # Between rays nothing is known: a cell more on either side.
        low[d] = max(low[d], nodes.min() - cell)
        high[d] = min(high[d], nodes.max() + cell)
    return low, high


def touches(stock: Standing, points: Floats, cutter: Profile) -> bool:
    """Whether a cutter moved along points (n, 3) would meet material by more than TOUCH_MM: by the upright
    rays.
    """
    return bool(test(stock.field, _along(points, cutter)).rapid.max(initial=0.0) > TOUCH_MM)


def takes(stock: Standing, points: Floats, cutter: Profile) -> bool:
    """Whether a pass along points (n, 3) has anything to take off, a skin between the upright rays too."""
    return touches(stock, points, cutter) or _takes_a_skin(stock, _along(points, cutter))


def _along(points: Floats, cutter: Profile) -> Sweep:
    if len(points) == 1:
        points = np.concatenate([points, points])
    return Sweep(points[:-1], points[1:], np.full(len(points) - 1, RAPID, np.uint8), UP, cutter)


def _takes_a_skin(stock: Standing, sweep: Sweep) -> bool:
    """Whether moves would take off what stands between the upright rays, as a skin on a wall does: told by
    the rays across the tool, square to the surface that goes. What is thicker the upright ones meet, and what
    is longer along a ray that runs within a wall is none.
    """
    field, reach = stock.field, sweep.cutter.widest
    low = np.minimum(sweep.starts, sweep.ends).min(axis=0)
    high = np.maximum(sweep.starts, sweep.ends).max(axis=0)
    beside = (low[:2] - reach > stock.high[:2]).any() or (high[:2] + reach < stock.low[:2]).any()
    if beside or low[2] > stock.high[2]:
        return False
    every = replace(sweep, what=np.full(len(sweep.what), CUT, np.uint8))
    over = minus(field, cut(field, every, 1)[0])
    skins = sum(
        int(((thick > TOUCH_MM) & (long <= SKIN * field.grid.cell)).sum())
        for axis, long, thick, _ in thicknesses(over)
        if axis != 2
    )
    return skins >= LEAST_RAYS


def touched(stock: Standing, runs: list[Floats], cutter: Profile) -> list[Floats]:
    """How deep a cutter moved along runs (n, 3) would meet material in each of their moves, (n - 1,), mm."""
    starts, ends = np.concatenate([run[:-1] for run in runs]), np.concatenate([run[1:] for run in runs])
    sweep = Sweep(starts, ends, np.full(len(starts), RAPID, np.uint8), UP, cutter)
    deep = test(stock.field, sweep).rapid
    return np.split(deep, np.cumsum([len(run) - 1 for run in runs])[:-1])
