"""What stands between two heights, seen along the upright rays?"""

from __future__ import annotations

import numpy as np
from shapely.geometry.base import BaseGeometry

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.planar import region_of
from pelvrak.core.stock.above_kernel import outline_crossings
from pelvrak.core.stock.field import RayField

# Two walls that meet at less than this (sine) are one: their corner would lie anywhere.
CORNER_SINE = 0.05


def region_between(field: RayField, low: float, high: float) -> BaseGeometry:
    """Region over which material stands anywhere between two heights (mm), in the field's x and y.

    Walls lie where the lying rays meet them, and corners where the walls' tangents meet: exact for planes
    however they stand; between rays nothing is known, so what is thinner than a cell may be missed.
    """
    nodes = [field.grid.nodes(axis) for axis in range(3)]
    upright = field.bundles[2]
    ends = upright.position
    held = np.arange(upright.capacity) < upright.count[:, :, None]
    stands = np.asarray((held & (ends[:, :, 1::2] > low) & (ends[:, :, 0::2] < high)).any(axis=2))
    if not stands.any():
        return region_of([])
    first = min(int(np.searchsorted(nodes[2], low, side="right")), len(nodes[2]) - 1)
    last = max(first + 1, int(np.searchsorted(nodes[2], high, side="left")))
    along_x, along_y = (
        outline_crossings(
            np.ascontiguousarray(stands if axis == 0 else stands.T),
            nodes[axis],
            nodes[1 - axis],
            first,
            last,
            field.bundles[axis].count,
            field.bundles[axis].position,
            field.bundles[axis].normal,
            axis == 1,
        )
        for axis in (0, 1)
    )
    return region_of(_rings(stands, nodes, along_x, along_y))


def region_above(field: RayField, height: float) -> BaseGeometry:
    """Region over which material stands higher than `height` (mm); see region_between."""
    return region_between(field, height, np.inf)


def _rings(stands: np.ndarray, nodes: list[Floats], along_x: Floats, along_y: Floats) -> list[Floats]:
    """Closed rings round what stands, material on their left."""
    following: dict[tuple[int, int, int], tuple[tuple[int, int, int], list[Floats]]] = {}
    corner = stands[:-1, :-1].astype(int) + stands[1:, :-1] + stands[:-1, 1:] + stands[1:, 1:]
    for j, i in zip(*np.nonzero((corner > 0) & (corner < 4)), strict=True):
        # Corners and edges of the cell counter-clockwise: an edge goes from its corner to the next.
        inside = [stands[j, i], stands[j, i + 1], stands[j + 1, i + 1], stands[j + 1, i]]
        edges = [(0, j, i), (1, i + 1, j), (0, j + 1, i), (1, i, j)]
        for n in range(4):
            if not (inside[n] and not inside[(n + 1) % 4]):
                continue
            back = next(m for m in range(n, n - 4, -1) if not inside[m % 4]) % 4
            leaves, enters = edges[n], edges[back]
            one, two = (_crossing(edge, nodes, along_x, along_y) for edge in (leaves, enters))
            points = [one[0]]
            if (met := _meeting(one, two)) is not None and _within(met, nodes, i, j):
                points.append(met)
            following[leaves] = enters, points
    rings = []
    while following:
        start, (at, ring) = following.popitem()
        while at != start:
            at, points = following.pop(at)
            ring = ring + points
        rings.append(np.array(ring))
    return rings


Crossing = tuple[Floats, Floats]


def _crossing(edge: tuple[int, int, int], nodes: list[Floats], along_x: Floats, along_y: Floats) -> Crossing:
    """Place and outward normal where the outline crosses an edge of the grid, (2,) each."""
    axis, row, column = edge
    place, along, across = (along_y if axis else along_x)[row, column]
    if axis:
        return np.array([nodes[0][row], place]), np.array([across, along])
    return np.array([place, nodes[1][row]]), np.array([along, across])


def _meeting(one: Crossing, two: Crossing) -> Floats | None:
    """Where the walls through two places meet; None where they are one wall."""
    (p, m), (q, n) = one, two
    sine = m[0] * n[1] - m[1] * n[0]
    if abs(sine) < CORNER_SINE * np.hypot(*m) * np.hypot(*n) or sine == 0.0:
        return None
    a, b = float(m @ p), float(n @ q)
    met: Floats = np.array([a * n[1] - b * m[1], m[0] * b - n[0] * a]) / sine
    return met


def _within(point: Floats, nodes: list[Floats], i: int, j: int) -> bool:
    """Whether a point lies in a cell."""
    return bool(nodes[0][i] <= point[0] <= nodes[0][i + 1] and nodes[1][j] <= point[1] <= nodes[1][j + 1])
