"""How does a solid become a field, and what becomes of two fields together?"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.stock.cut import CUT, Profile, Sweep, cut
from pelvrak.core.stock.field import BILLET_MAKER, Bundle, Floats, Grid, RayField, empty_field, grown, trimmed
from pelvrak.core.stock.intervals import encode_normal
from pelvrak.core.stock.shapes_kernel import (
    DIFFERENCE,
    INTERSECTION,
    UNION,
    combine,
    crossings,
    fill,
    length_without,
)


def field_of_block(grid: Grid, low: Floats, high: Floats, maker: int = BILLET_MAKER) -> RayField:
    """The field of an axis-parallel block low…high (mm) on a grid."""
    field = empty_field(grid)
    for bundle in field.bundles:
        axis, u, v = bundle.axis, (bundle.axis + 1) % 3, (bundle.axis + 2) % 3
        in_u = (grid.nodes(u) > low[u]) & (grid.nodes(u) < high[u])
        in_v = (grid.nodes(v) > low[v]) & (grid.nodes(v) < high[v])
        inside = in_v[:, None] & in_u[None, :]
        bundle.count[inside] = 1
        bundle.position[inside, 0] = low[axis]
        bundle.position[inside, 1] = high[axis]
        bundle.maker[inside, :2] = maker
        direction = np.zeros(3)
        direction[axis] = 1.0
        bundle.normal[inside, 0] = encode_normal(*(-direction))
        bundle.normal[inside, 1] = encode_normal(*direction)
    return field


def field_of_mesh(grid: Grid, mesh: Mesh, maker: int = BILLET_MAKER) -> RayField:
    """The field of a closed, outward-oriented mesh (vertices mm in the work frame) on a grid.

    Raises BadInput "mesh.open" when rays enter the mesh and do not leave it, with their number.
    """
    field = empty_field(grid)
    corners = mesh.vertices[mesh.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = normals / np.where(length > 0, length, 1)
    bundles = []
    for bundle in field.bundles:
        axis, u, v = bundle.axis, (bundle.axis + 1) % 3, (bundle.axis + 2) % 3
        rays, places, owners, upward = crossings(
            mesh.vertices,
            mesh.triangles.astype(np.int64),
            axis,
            grid.origin[u],
            grid.origin[v],
            grid.cell,
            grid.shape[u],
            grid.shape[v],
        )
        order = np.lexsort((upward, places, rays))
        rays, places, owners, upward = rays[order], places[order], owners[order], upward[order]
        while True:
            unpaired = fill(
                rays, places, normals[owners], upward, bundle.count, bundle.position, bundle.normal
            )
            if unpaired >= 0:
                break
            bundle = grown(bundle, 2 * bundle.capacity)
        if unpaired:
            raise BadInput(
                "mesh.open",
                "mesh",
                f"{unpaired} rays along {'xyz'[axis]} enter the mesh and do not leave it",
                "close the mesh",
            )
        bundle.maker[:] = maker
        bundles.append(bundle)
    return RayField(grid, (bundles[0], bundles[1], bundles[2]))


def field_of_profile(
    grid: Grid, profile: Profile, tip: Floats, axis: Floats, maker: int = BILLET_MAKER
) -> RayField:
    """The field of a body of revolution standing at `tip` (mm, work frame) along a unit `axis`: a round bar,
    a ball.
    """
    low = np.array(grid.origin)
    full = field_of_block(grid, low, low + grid.cell * (np.array(grid.shape) - 1), maker)
    at = np.array([tip], np.float64)
    around, _ = cut(full, Sweep(at, at, np.array([CUT], np.uint8), np.asarray(axis, float), profile), maker)
    return minus(full, around)


def _combined(how: int, first: RayField, second: RayField) -> RayField:
    if first.grid != second.grid:
        raise ValueError("fields on different grids")
    bundles = []
    empty = empty_field(first.grid, 1)
    for a, b, out in zip(first.bundles, second.bundles, empty.bundles, strict=True):
        out = grown(out, a.capacity + b.capacity)
        combine(
            how,
            a.count,
            a.position,
            a.normal,
            a.maker,
            b.count,
            b.position,
            b.normal,
            b.maker,
            out.count,
            out.position,
            out.normal,
            out.maker,
        )
        bundles.append(trimmed(out))
    return RayField(first.grid, (bundles[0], bundles[1], bundles[2]))


def union(first: RayField, second: RayField) -> RayField:
    """What is in either field; both must stand on one grid."""
    return _combined(UNION, first, second)


def minus(first: RayField, second: RayField) -> RayField:
    """What is in the first field and not in the second; both must stand on one grid."""
    return _combined(DIFFERENCE, first, second)


def intersection(first: RayField, second: RayField) -> RayField:
    """What is in both fields; both must stand on one grid."""
    return _combined(INTERSECTION, first, second)


def volume_without(first: RayField, second: RayField, least: float = 0.0) -> float:
    """Volume in the first field and not in the second, mm³: the mean of the three bundles.

    least: stretches along a ray no longer than this (mm) are not counted; it keeps the facets of a
    mesh from being taken for material. Both fields must stand on one grid.
    """
    if first.grid != second.grid:
        raise ValueError("fields on different grids")
    total = 0.0
    for a, b in zip(first.bundles, second.bundles, strict=True):
        total += length_without(a.count, a.position, b.count, b.position, least)
    return total * first.grid.cell**2 / 3


def material_top(field: RayField, axis: int, sign: int) -> NDArray[np.float32]:
    """Highest material along ±axis on every ray of that bundle, (n_v, n_u); -inf where there is none.

    The value is sign * coordinate.
    """
    bundle: Bundle = field.bundles[axis]
    held = bundle.count > 0
    if sign > 0:
        top = np.take_along_axis(bundle.position, np.maximum(2 * bundle.count - 1, 0)[:, :, None], axis=2)[
            :, :, 0
        ]
    else:
        top = -bundle.position[:, :, 0]
    return np.where(held, top, np.float32(-np.inf))
