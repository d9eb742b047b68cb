"""Where on the work could a strap clamp press? Its outline and heights seen from above."""

from __future__ import annotations

import manifold3d
import numpy as np
import shapely
from shapely import Polygon
from shapely.affinity import affine_transform
from shapely.geometry.base import BaseGeometry

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.rigid import moved, rotation_about_z

# How finely places for a clamp are tried along the work, and how uneven it may be under the nose, mm.
TRIED_MM, EVEN_MM = 5.0, 0.3
# The nose bears on at least this share of itself.
BEARING_SHARE = 0.6
# How far the whole nose stays from the edge it comes over, mm.
INSIDE_MM = 1.0


def seen_from_above(body: manifold3d.Manifold, low: float, high: float) -> BaseGeometry:
    """The outline, seen from above, of what of a body lies between two heights; holes kept."""
    between = body.trim_by_plane([0.0, 0.0, 1.0], low).trim_by_plane([0.0, 0.0, -1.0], -high)
    out: BaseGeometry = Polygon()
    for ring in sorted(
        (Polygon(r) for r in between.project().to_polygons() if len(r) > 2), key=lambda p: -p.area
    ):
        out = out.symmetric_difference(ring)
    return out


def tips(outline: BaseGeometry, facing_deg: float, nose: float) -> list[Floats]:
    """Places for a strap's tip: along the edge of an outline where it is met coming the way the nose
    looks.
    """
    turn = rotation_about_z(facing_deg)[:2, :2]
    across, way = turn[:, 0], turn[:, 1]
    flat = affine_transform(outline, [across[0], across[1], way[0], way[1], 0.0, 0.0])
    x0, y0, x1, y1 = flat.bounds
    out = []
    for x in np.arange(x0 + TRIED_MM, x1 - TRIED_MM / 2, TRIED_MM):
        met = flat.intersection(shapely.LineString([(x, y0 - 1), (x, y1 + 1)]))
        if not met.is_empty:
            out.append(x * across + (met.bounds[1] + nose + INSIDE_MM) * way)
    return out


def arm_outline(pose: Floats, width: float, long: float) -> Polygon:
    """A clamp's arm, or its nose, as it lies: back from its tip, seen from above."""
    half = width / 2
    corners = np.array([[-half, -long, 0.0], [half, -long, 0], [half, 0, 0], [-half, 0, 0]])
    return Polygon(moved(pose, corners)[:, :2])


def tops(top: Floats, nodes: tuple[Floats, Floats], region: Polygon) -> Floats:
    """Heights of the stock over a region, mm; not finite where there is none."""
    x, y = np.meshgrid(*nodes)
    left, low, right, high = region.bounds
    near = (x >= left) & (x <= right) & (y >= low) & (y <= high)
    inside = shapely.contains_xy(region, x[near], y[near])
    found: Floats = top[near][inside]
    return found
