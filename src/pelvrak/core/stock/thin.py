"""What do the rays say where the drawn surface is known worst: at sharp edges, and where material is thinner
than their distance?
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.stock import shapes_kernel as kernel
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.normals import decoded

# Differences along a ray below this are facets, not material.
LEAST_MM = 0.02


def stretches(field: RayField) -> Iterator[tuple[int, Floats, Floats, Floats]]:
    """Bundle by bundle all stretches of material: the axis, where each begins and ends along it, and its
    middle (n, 3), mm.
    """
    grid = field.grid
    for b in field.bundles:
        row, column, slot = np.nonzero(np.arange(b.capacity) < b.count[:, :, None])
        low, high = (b.position[row, column, 2 * slot + side].astype(float) for side in (0, 1))
        middle = np.empty((len(low), 3))
        middle[:, b.axis] = (low + high) / 2
        for lateral, index in (((b.axis + 1) % 3, column), ((b.axis + 2) % 3, row)):
            middle[:, lateral] = grid.origin[lateral] + grid.cell * index
        yield b.axis, low, high, middle


def thicknesses(field: RayField) -> Iterator[tuple[int, Floats, Floats, Floats]]:
    """Bundle by bundle, of all stretches of material: the axis, the length of each along it, how thick that
    is square to the steeper of the surfaces it lies between, and its middle (n, 3), mm.
    """
    for bundle, (axis, low, high, middle) in zip(field.bundles, stretches(field), strict=True):
        row, column, slot = np.nonzero(np.arange(bundle.capacity) < bundle.count[:, :, None])
        along = [np.abs(decoded(bundle.normal[row, column, 2 * slot + side])[:, axis]) for side in (0, 1)]
        yield axis, high - low, (high - low) * np.maximum(*along), middle


def between_nodes(field: RayField) -> Floats:
    """Middles (n, 3), mm, of the stretches of material with no node in them: the drawn surface leaves them
    out.
    """
    grid, out = field.grid, []
    for axis, low, high, middle in stretches(field):
        first, last = ((end - grid.origin[axis]) / grid.cell for end in (low, high))
        out.append(middle[np.ceil(first) > np.floor(last)])
    return np.concatenate(out)


def material_beside(field: RayField, points: Floats, reach: float) -> tuple[Floats, Floats]:
    """For points (n, 3), the distance of the nearest stretch of material, infinite beyond `reach`, and the
    length of the longest stretch within it, mm.
    """
    nearest, longest = np.full(len(points), np.inf), np.zeros(len(points))
    for b in field.bundles:
        u, v = (b.axis + 1) % 3, (b.axis + 2) % 3
        own = np.ascontiguousarray(points[:, [b.axis, u, v]])
        origin = np.array([field.grid.origin[u], field.grid.origin[v]])
        kernel.beside(b.count, b.position, origin, field.grid.cell, own, float(reach), nearest, longest)
    return nearest, longest


@dataclass(frozen=True)
class Witness:
    """What the rays say where drawn surfaces are known worst: at sharp edges and where material is thin.

    places (n, 3): those edges and that material, mm; present: the body a point is said to stand out of the
    other by, absent: the other; over: what is in the first and not in the second.
    """

    places: Floats
    present: RayField
    absent: RayField
    over: RayField

    def depths(self, points: Floats, seen: Floats) -> Floats:
        """Depths of points (n, 3) as drawn surfaces show them (mm), at those places no more than the rays
        bear out: the longest stretch over beside a point, or how much farther the absent body's rays keep
        from it than the present one's.
        """
        deep, out = np.flatnonzero(seen > LEAST_MM), seen.copy()
        if len(self.places) == 0 or len(deep) == 0:
            return out
        reach = 2 * self.present.grid.cell
        away, _ = cKDTree(self.places).query(points[deep])
        near = deep[away < reach]
        longest = material_beside(self.over, points[near], reach)[1]
        wide = float(seen[near].max(initial=0.0)) + reach
        absent, present = (
            material_beside(body, points[near], wide)[0] for body in (self.absent, self.present)
        )
        farther = np.where(
            np.isfinite(present), absent - np.where(np.isfinite(present), present, 0.0), np.inf
        )
        out[near] = np.minimum(out[near], np.maximum(longest, farther))
        return out
