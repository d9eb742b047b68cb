"""What is a plane region, made of rings and taken apart into polygons?"""

from __future__ import annotations

import numpy as np
from shapely import Polygon
from shapely.geometry.base import BaseGeometry, BaseMultipartGeometry

from pelvrak.core.geometry.mesh import Floats

# Less than this is a sliver of reckoning, mm².
SLIVER_MM2 = 1e-4


def ring_area(ring: Floats) -> float:
    """Area within a ring (n, 2), mm²; negative where it goes clockwise."""
    x, y = ring[:, 0], ring[:, 1]
    return float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2


def region_of(rings: list[Floats]) -> BaseGeometry:
    """The region of some rings, those round material counter-clockwise and those round air clockwise, islands
    in hollows kept.
    """
    region: BaseGeometry = Polygon()
    for ring in sorted((ring for ring in rings if len(ring) > 2), key=lambda ring: -abs(ring_area(ring))):
        own = Polygon(ring).buffer(0)
        region = region.union(own) if ring_area(ring) > 0 else region.difference(own)
    return region


def pieces(shape: BaseGeometry) -> list[Polygon]:
    """The polygons of any shape, without slivers."""
    parts = shape.geoms if isinstance(shape, BaseMultipartGeometry) else (shape,)
    return [part for part in parts if isinstance(part, Polygon) and part.area > SLIVER_MM2]
