"""What does the surface of the stock look like, and who made each piece of it?

Dual contouring of the three ray bundles (Ju, Losasso, Schaefer, Warren: "Dual contouring of
Hermite data", SIGGRAPH 2002): one vertex for each piece of surface in a cell, placed by the
ends and normals of the rays that cross it, so that edges come out sharp. A vertex whose rays end on planes
lies on those planes to the rounding of the rays: plane faces are plane, and straight edges straight.
"""

from __future__ import annotations

from dataclasses import replace

import manifold3d
import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Mesh, mesh_of, to_solid
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


_EDGE_OF = _edge_numbers()


def surface(field: RayField, tolerance: float = 0.0) -> Mesh:
    """The closed surface of the field, each triangle labelled with its maker.

    Vertices are in the work frame, mm. tolerance: cells of one maker whose tangent planes all pass
    within this of one point (mm) share that point, up to 16 cells wide (the adaptive contouring of
    the same paper); 0 joins none. Material thinner than a cell between two nodes is in the field but
    not in this picture of it.
    """
    grid = field.grid
    origin, shape = np.array(grid.origin), np.array(grid.shape)
    bricks = -(-(shape - 1) // kernel.BRICK)
    z = field.bundles[2]
    held = kernel.active_bricks(z.count, z.position, origin[2], grid.cell, shape, _PIECE_COUNT, bricks)
    index = np.full(held.shape, -1, np.int32)
    index[held > 0] = np.arange(np.count_nonzero(held))
    places = np.argwhere(held > 0)[:, ::-1].copy()
    offsets = np.concatenate([[0], np.cumsum(held[held > 0], dtype=np.int64)])
    rays = []
    for b in field.bundles:
        rays += [b.count, b.position, b.normal, b.maker]
    placed, used, leaf, patterns = kernel.brick_vertices(
        places,
        offsets,
        _PIECES,
        _PIECE_COUNT,
        _EDGES,
        origin,
        grid.cell,
        shape,
        float(tolerance),
        FLAT_SHARE,
        *rays,
    )
    starts = np.concatenate([[0], np.cumsum(used, dtype=np.int64)])
    room = np.concatenate(
        [[0], np.cumsum(2 * kernel.crossed_edges(places, origin, grid.cell, shape, z.count, z.position))]
    )
    triangles, label, ends, normals, counts = kernel.brick_triangles(
        places,
        index,
        starts,
        leaf,
        patterns,
        _PIECES,
        _PIECE_COUNT,
        _EDGE_OF,
        origin,
        grid.cell,
        shape,
        room,
        *rays,
    )
    drawn = _kept(room, counts)
    vertices, triangles = placed[_kept(offsets, used)], triangles[drawn]
    faces = plane_faces(ends[drawn], normals[drawn], grid.cell)
    return Mesh(
        on_planes(vertices, triangles, faces, grid.cell), triangles, label[drawn], faces.of_triangle < 0
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
