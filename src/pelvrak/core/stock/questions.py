"""What can be asked of the stock: how much, where, how thin, in how many pieces?"""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce

import manifold3d
import numpy as np
from shapely import MultiPolygon, Polygon

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, line_hits, to_solid, transformed
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.stock import shapes_kernel as kernel
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_mesh, intersection
from pelvrak.core.stock.surface import surface

# A face looks along a direction when its normal is within 45° of it.
FACING = float(np.sqrt(0.5))


@dataclass(frozen=True)
class Measured:
    """A length in mm and the place it was found at, work frame."""

    length: float
    place: Floats


@dataclass(frozen=True)
class Piece:
    """One piece of material on its own: volume mm³ and the box it lies in, mm, work frame."""

    volume: float
    low: Floats
    high: Floats


def centre_of_mass(mesh: Mesh) -> Floats:
    """Centre of the material a surface encloses, mm, (3,). Raises BadInput when it encloses none.

    Every triangle with the middle of all is a pyramid whose centroid lies at the mean of its corners.
    """
    if len(mesh.triangles) == 0:
        raise BadInput("stock.none", "stock", "nothing stands", "cut less")
    middle = mesh.vertices.mean(axis=0)
    a, b, c = (mesh.vertices[mesh.triangles[:, i]] - middle for i in range(3))
    share = np.einsum("ij,ij->i", a, np.cross(b, c))
    centre: Floats = middle + (share @ (a + b + c)) / 4 / share.sum()
    return centre


def _place(field: RayField, axis: int, row: int, column: int, along: float) -> Floats:
    grid, out = field.grid, np.zeros(3)
    u, v = (axis + 1) % 3, (axis + 2) % 3
    out[axis], out[u], out[v] = along, grid.origin[u] + grid.cell * column, grid.origin[v] + grid.cell * row
    return out


def deepest_overlap(first: RayField, second: RayField) -> Measured | None:
    """How far two bodies run into each other, and where; None when they are clear.

    The length is the least travel along x, y or z that would take the longest common stretch apart.
    Both fields must stand on one grid; what is thinner than a cell between rays is not seen.
    """
    common = intersection(first, second)
    found = [(*kernel.longest(b.count, b.position), b.axis) for b in common.bundles]
    if min(length for length, *_ in found) <= 0:
        return None
    length, row, column, middle, axis = min(found)
    return Measured(float(length), _place(common, axis, row, column, middle))


def thinnest(field: RayField, direction: Floats) -> Measured | None:
    """Thinnest wall or floor along a direction: the shortest stretch between two faces that look along it.

    Faces that lean more than 45° from the direction do not count: near an edge every stretch ends in
    nothing. Directions along the work's axes are read off the field's rays; others off new rays through
    its surface, a cell apart. None when there is no such stretch.
    """
    direction = np.asarray(direction, float) / np.linalg.norm(direction)
    axis = int(np.argmax(np.abs(direction)))
    if abs(direction[axis]) > 1 - 1e-12:
        bundle = field.bundles[axis]
        length, row, column, middle = kernel.thinnest(
            bundle.count, bundle.position, bundle.normal, axis, FACING
        )
        return None if row < 0 else Measured(float(length), _place(field, axis, row, column, middle))
    turn = np.eye(4)
    turn[:3, :3] = square_to(direction)
    seen = transformed(surface(field), turn)
    turned = field_of_mesh(
        grid_around(seen.vertices.min(axis=0), seen.vertices.max(axis=0), field.grid.cell), seen
    )
    found = thinnest(turned, np.array([0.0, 0.0, 1.0]))
    return None if found is None else Measured(found.length, turn[:3, :3].T @ found.place)


def owners(field: RayField) -> Ints:
    """The number of the piece that each stretch of the rays along z is of, ray after ray."""
    bundle = field.bundles[2]
    first = np.concatenate([[0], np.cumsum(bundle.count.ravel(), dtype=np.int64)])
    owner: Ints = kernel.pieces(bundle.count, bundle.position, first)
    return owner


def pieces(field: RayField) -> list[Piece]:
    """The stock's separate pieces, largest first.

    Two rays along z belong together when they are neighbours and their material overlaps; a bridge
    thinner than a cell may be missed.
    """
    bundle, grid = field.bundles[2], field.grid
    names, which = np.unique(owners(field), return_inverse=True)
    used = np.arange(bundle.capacity) < bundle.count[:, :, None]
    rows, columns, slots = np.nonzero(used)
    low = bundle.position[rows, columns, 2 * slots].astype(float)
    high = bundle.position[rows, columns, 2 * slots + 1].astype(float)
    x, y = grid.nodes(0)[columns], grid.nodes(1)[rows]
    volumes = np.bincount(which, high - low, len(names)) * grid.cell**2
    out = []
    for i in np.argsort(-volumes, kind="stable"):
        own = which == i
        half = grid.cell / 2
        out.append(
            Piece(
                float(volumes[i]),
                np.array([x[own].min() - half, y[own].min() - half, low[own].min()]),
                np.array([x[own].max() + half, y[own].max() + half, high[own].max()]),
            )
        )
    return out


def first_hit(mesh: Mesh, origin: Floats, direction: Floats) -> Measured | None:
    """Where a line from `origin` (mm) along a direction first meets a surface, and how far on; None past
    it.
    """
    origin, way = np.asarray(origin, float), np.asarray(direction, float) / np.linalg.norm(direction)
    hits = line_hits(mesh, origin, way)
    ahead = hits[hits >= 0]
    if len(ahead) == 0:
        return None
    length = float(ahead.min())
    return Measured(length, origin + length * way)


def slice_at(mesh: Mesh, point: Floats, normal: Floats) -> tuple[MultiPolygon, Floats]:
    """The material in a plane, as regions, and the plane's frame.

    Returns (regions in plane coordinates, mm; 4×4 plane_from_work with the plane at z = 0). Raises
    BadInput when the surface is not closed.
    """
    frame = np.eye(4)
    frame[:3, :3] = square_to(np.asarray(normal, float) / np.linalg.norm(normal))
    frame[:3, 3] = -frame[:3, :3] @ np.asarray(point, float)
    solid = to_solid(transformed(mesh, frame))
    if solid.status() != manifold3d.Error.NoError:
        raise BadInput(
            "stock.open", "stock", "the surface is not closed, so it has no section", "use a finer resolution"
        )
    rings = [Polygon(ring) for ring in solid.slice(0.0).to_polygons() if len(ring) > 2]
    region = reduce(lambda one, other: one.symmetric_difference(other), rings, Polygon())
    return (
        region if isinstance(region, MultiPolygon) else MultiPolygon([region] if not region.is_empty else [])
    ), frame
