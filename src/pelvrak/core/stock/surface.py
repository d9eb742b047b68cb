"""What does the surface of the stock look like, and who made each piece of it?

Dual contouring of the three ray bundles (Ju, Losasso, Schaefer, Warren: "Dual contouring of
Hermite data", SIGGRAPH 2002): one vertex for each piece of surface in a cell, placed by the
ends and normals of the rays that cross it, so that edges come out sharp. A vertex whose rays end on planes
lies on those planes to the rounding of the rays: plane faces are plane, and straight edges straight.
"""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import manifold3d
import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Mesh, mesh_of, to_solid, volume
from pelvrak.core.stock import surface_kernel as kernel
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.planes import on_planes, plane_faces

# A direction is trusted when its singular value is above this share of the largest.
FLAT_SHARE = 0.08

# Cell corners are numbered x + 2y + 4z; edges: axis*4 + position of the two other bits.
_EDGES = np.array(
    [(c, c | (1 << axis)) for axis in range(3) for c in range(8) if not c & (1 << axis)], np.int64
)


def _pieces_of_cells() -> NDArray[np.int8]:
    """For each of the 256 corner patterns the piece of surface each of the 12 edges belongs to, -1 for none.

    On a face with two opposite corners inside, the two are kept apart; the neighbour sees the
    same face and does the same, so the surface closes.
    """
    index = {tuple(edge): i for i, edge in enumerate(_EDGES.tolist())}
    faces = []
    for axis in range(3):
        u, v = 1 << (axis + 1) % 3, 1 << (axis + 2) % 3
        for side in (0, 1 << axis):
            faces.append([side, side | u, side | u | v, side | v])
    table = np.full((256, 12), -1, np.int8)
    for pattern in range(256):
        parent = list(range(12))

        def root(e: int, parent: list[int] = parent) -> int:
            while parent[e] != e:
                e = parent[e]
            return e

        for face in faces:
            inside = [bool(pattern >> c & 1) for c in face]
            edges = [
                index[(min(face[i], face[(i + 1) % 4]), max(face[i], face[(i + 1) % 4]))] for i in range(4)
            ]
            crossed = [i for i in range(4) if inside[i] != inside[(i + 1) % 4]]
            if len(crossed) == 2:
                parent[root(edges[crossed[0]])] = root(edges[crossed[1]])
            elif len(crossed) == 4:
                for i in range(4):
                    if inside[i]:
                        parent[root(edges[i])] = root(edges[i - 1])
        names: dict[int, int] = {}
        for e, (a, b) in enumerate(_EDGES.tolist()):
            if bool(pattern >> a & 1) != bool(pattern >> b & 1):
                table[pattern, e] = names.setdefault(root(e), len(names))
    return table


_PIECES = _pieces_of_cells()
_PIECE_COUNT = (_PIECES.max(axis=1) + 1).astype(np.int8)


def _edge_numbers() -> NDArray[np.int64]:
    """Edge number in a cell that lies du, dv back from the grid edge along each axis: (3, 2, 2)."""
    index = {tuple(edge): i for i, edge in enumerate(_EDGES.tolist())}
    out = np.zeros((3, 2, 2), np.int64)
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        for du in (0, 1):
            for dv in (0, 1):
                corner = (du << u) | (dv << v)
                out[axis, du, dv] = index[(corner, corner | (1 << axis))]
    return out


_TABLE = kernel.Table(_PIECES, _PIECE_COUNT, _EDGES, _edge_numbers())


class _Contour(NamedTuple):
    """Triangles (t, 3) over vertices, mm; of each its maker, the ray end it stands for, mm, and that end's
    normal as it is kept.
    """

    vertices: NDArray[np.float64]
    triangles: NDArray[np.int64]
    label: NDArray[np.int64]
    ends: NDArray[np.float64]
    normals: NDArray[np.int16]


def surface(field: RayField, tolerance: float = 0.0) -> Mesh:
    """The closed surface of the field, each triangle labelled with its maker.

    Vertices are in the work frame, mm. tolerance: cells of one maker whose tangent planes all pass
    within this of one point (mm) share that point, up to 16 cells wide (the adaptive contouring of
    the same paper); 0 joins none. Material thinner than a cell between two nodes is in the field but
    not in this picture of it.
    """
    held = _bricks(field)
    return _drawn(field, tolerance, held, held > 0)


def _drawn(field: RayField, tolerance: float, held: NDArray[np.int32], drawn: NDArray[np.bool_]) -> Mesh:
    """The surface in some bricks, what is plane on its planes. held: pieces of surface in each brick."""
    found = _contour(field, tolerance, held, drawn)
    faces = plane_faces(found.ends, found.normals, field.grid.cell)
    vertices = on_planes(found.vertices, found.triangles, faces, field.grid.cell)
    return Mesh(vertices, found.triangles, found.label, faces.of_triangle < 0)


def removed_between(before: RayField, after: RayField, tolerance: float = 0.0) -> float:
    """The volume by which the surface of one field encloses more than that of the other, mm³, on the same
    grid.

    Only bricks are contoured that hold a ray's end which the other field has not. tolerance: as for
    `surface`.
    """
    grid = before.grid
    held = [_bricks(field) for field in (before, after)]
    changed = np.zeros(held[0].shape, np.bool_)
    for one, two in zip(before.bundles, after.bundles, strict=True):
        kernel.mark_changed(
            *(one.axis, grid.origin[one.axis], grid.cell),
            *(one.count, one.position, one.normal, one.maker),
            *(two.count, two.position, two.normal, two.maker),
            changed,
        )
    # A triangle has corners in its brick and in those just below it.
    for axis in range(3):
        up = np.swapaxes(changed, 0, axis)
        up[1:] |= up[:-1].copy()
    volumes = [
        volume(_drawn(field, tolerance, own, changed & (own > 0)), np.array(grid.origin))
        for field, own in zip((before, after), held, strict=True)
    ]
    return volumes[0] - volumes[1]


def _bricks(field: RayField) -> NDArray[np.int32]:
    """Pieces of surface in each brick, (nz, ny, nx)."""
    grid, z = field.grid, field.bundles[2]
    shape = np.array(grid.shape)
    bricks = -(-(shape - 1) // kernel.BRICK)
    held: NDArray[np.int32] = kernel.active_bricks(
        z.count, z.position, grid.origin[2], grid.cell, shape, _PIECE_COUNT, bricks
    )
    return held


def _contour(
    field: RayField, tolerance: float, held: NDArray[np.int32], drawn: NDArray[np.bool_]
) -> _Contour:
    """The triangles of the bricks that are drawn. held: pieces of surface in each brick."""
    grid = field.grid
    origin, shape, z = np.array(grid.origin), np.array(grid.shape), field.bundles[2]
    needed = drawn.copy()
    for axis in range(3):
        down = np.swapaxes(needed, 0, axis)
        down[:-1] |= down[1:].copy()
    also = needed & ~drawn & (held > 0)
    # Those that are drawn come first: triangles are made of no others.
    places = np.concatenate([np.argwhere(drawn), np.argwhere(also)])[:, ::-1].copy()
    index = np.full(held.shape, -1, np.int32)
    index[places[:, 2], places[:, 1], places[:, 0]] = np.arange(len(places))
    room = held[places[:, 2], places[:, 1], places[:, 0]]
    offsets = np.concatenate([[0], np.cumsum(room, dtype=np.int64)])
    rays = kernel.Rays(*(of for b in field.bundles for of in (b.count, b.position, b.normal, b.maker)))
    nodes = kernel.Grid(origin, grid.cell, shape)
    found = kernel.brick_vertices(places, offsets, _TABLE, nodes, float(tolerance), FLAT_SHARE, rays)
    starts = np.concatenate([[0], np.cumsum(found.used, dtype=np.int64)])
    shown = places[: np.count_nonzero(drawn)]
    crossed = kernel.crossed_edges(shown, origin, grid.cell, shape, z.count, z.position)
    ahead = np.concatenate([[0], np.cumsum(2 * crossed)])
    drawn_as = kernel.brick_triangles(shown, index, starts, found, _TABLE, nodes, ahead, rays)
    own = _kept(ahead, drawn_as.counts)
    return _Contour(
        found.vertices[_kept(offsets, found.used)],
        drawn_as.corners[own],
        drawn_as.makers[own],
        drawn_as.ends[own],
        drawn_as.normals[own],
    )


def _kept(room: NDArray[np.int64], used: NDArray[np.int_]) -> NDArray[np.int64]:
    """Indices of the first `used` of each stretch that begins at `room`."""
    before = np.concatenate([[0], np.cumsum(used, dtype=np.int64)])
    kept: NDArray[np.int64] = np.arange(before[-1]) + np.repeat(room[:-1] - before[:-1], used)
    return kept


def simplified(mesh: Mesh, tolerance: float) -> Mesh:
    """The same surface with fewer triangles, moved by less than `tolerance` (mm), makers kept.

    A surface that is not manifold (two pieces meeting along an edge) is returned as it is.
    """
    if len(mesh.triangles) == 0:
        return mesh
    bend = np.zeros(len(mesh.label), np.int64) if mesh.round is None else mesh.round.astype(np.int64)
    solid = to_solid(replace(mesh, label=2 * mesh.label + bend))
    if solid.status() != manifold3d.Error.NoError:
        return mesh
    out = mesh_of(solid.simplify(tolerance))
    return replace(out, label=out.label // 2, round=None if mesh.round is None else out.label % 2 == 1)
