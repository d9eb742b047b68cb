"""Which ray ends lie on one plane, and how do the vertices of a surface come to lie on it?

What a cutter, a saw or a file left plane is known exactly: every ray that ends on it ends there to the
rounding of a float32. The surface drawn between the rays mixes such ends with those of the round wall next to
them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Floats, Ints
from pelvrak.core.stock.normals import decoded

# A plane is worth the name from so many ray ends on, spread over so many cells the narrow way.
LEAST_ENDS = 16
LEAST_SPREAD_CELLS = 0.7
# Parallel planes nearer than this are not told apart, mm.
APART_MM = 2e-3
# Planes that lean less than this against those a vertex lies on already do not place it: sine of about 17°.
LEANS_LEAST = 0.3
# No vertex is moved further than this share of a cell: beyond it the rays meant something else.
FARTHEST_CELLS = 0.35


@dataclass(frozen=True)
class PlaneFaces:
    """Planes of a surface. of_triangle (t,): the plane a triangle's ray end lies on, -1 for none; normal (p,
    3), outward; offset (p,): normal · point, mm; ends (p,): how many ray ends lie on each.
    """

    of_triangle: Ints
    normal: Floats
    offset: Floats
    ends: Ints


def plane_faces(ends: Floats, codes: NDArray[np.int16], cell: float) -> PlaneFaces:
    """The planes that ray ends (n, 3) with kept normals (n, 2) lie on; cell: between rays, mm."""
    none = PlaneFaces(np.full(len(ends), -1, np.int64), np.zeros((0, 3)), np.zeros(0), np.zeros(0, np.int64))
    key = codes[:, 0].astype(np.int64) * 65536 + codes[:, 1]
    _, which, counts = np.unique(key, return_inverse=True, return_counts=True)
    rows = np.flatnonzero(counts[which] >= LEAST_ENDS)
    if len(rows) == 0:
        return none
    looks = decoded(codes[rows])
    along = np.einsum("ij,ij->i", looks, ends[rows])
    order = np.lexsort((along, which[rows]))
    rows, looks, along = rows[order], looks[order], along[order]
    group = which[rows]
    first = np.flatnonzero(np.concatenate([[True], (group[1:] != group[:-1]) | (np.diff(along) > APART_MM)]))
    size = np.diff(np.append(first, len(rows)))
    points = ends[rows]
    middle = np.add.reduceat(points, first) / size[:, None]
    stretch = np.repeat(np.arange(len(first)), size)
    off = points - middle[stretch]
    spread = np.add.reduceat(off[:, :, None] * off[:, None, :], first) / size[:, None, None]
    values, vectors = np.linalg.eigh(spread)
    normal = vectors[:, :, 0]
    square = np.abs(looks[first]).max(axis=1) > 1 - 1e-12
    normal[square] = np.rint(looks[first][square])
    normal *= np.where(np.einsum("ij,ij->i", normal, looks[first]) < 0, -1.0, 1.0)[:, None]
    away = np.maximum.reduceat(np.abs(np.einsum("ij,ij->i", off, normal[stretch])), first)
    rounding = 4 * np.spacing(np.abs(points).max(initial=1.0).astype(np.float32)).astype(np.float64)
    plane = (
        (size >= LEAST_ENDS)
        & (away <= rounding)
        & (np.sqrt(np.maximum(values[:, 1], 0)) > LEAST_SPREAD_CELLS * cell)
    )
    if not plane.any():
        return none
    number = np.where(plane, np.cumsum(plane) - 1, -1)
    of_triangle = none.of_triangle.copy()
    of_triangle[rows] = number[stretch]
    return PlaneFaces(
        of_triangle, normal[plane], np.einsum("ij,ij->i", normal[plane], middle[plane]), size[plane]
    )


def on_planes(vertices: Floats, triangles: Ints, faces: PlaneFaces, cell: float) -> Floats:
    """The vertices, each moved the shortest way onto the planes that meet in it, the largest first.

    Planes that lean little against those before them are left out: where two facets of a round wall meet, the
    line between them says nothing.
    """
    known = np.flatnonzero(faces.of_triangle >= 0)
    if len(known) == 0:
        return vertices
    count = len(faces.offset)
    pairs = np.unique((triangles[known] * count + faces.of_triangle[known, None]).ravel())
    vertex, plane = pairs // count, pairs % count
    order = np.lexsort((-faces.ends[plane], vertex))
    vertex, plane = vertex[order], plane[order]
    first = np.flatnonzero(np.concatenate([[True], vertex[1:] != vertex[:-1]]))
    rank = np.arange(len(vertex)) - np.repeat(first, np.diff(np.append(first, len(vertex))))
    shift = np.zeros_like(vertices)
    taken = np.zeros((len(vertices), 3, 3))
    held = np.zeros(len(vertices), np.int64)
    for turn in range(int(rank.max()) + 1):
        at, one = vertex[rank == turn], plane[rank == turn]
        more = held[at] < 3
        at, one = at[more], one[more]
        normal = faces.normal[one]
        free = normal - np.einsum("nki,nk->ni", taken[at], np.einsum("nki,ni->nk", taken[at], normal))
        length = np.linalg.norm(free, axis=1)
        leans = length > LEANS_LEAST
        at, one, normal, free, length = at[leans], one[leans], normal[leans], free[leans], length[leans]
        missing = faces.offset[one] - np.einsum("ni,ni->n", normal, vertices[at] + shift[at])
        shift[at] += free * (missing / length**2)[:, None]
        taken[at, held[at]] = free / length[:, None]
        held[at] += 1
    far = np.linalg.norm(shift, axis=1) > FARTHEST_CELLS * cell
    shift[far] = 0.0
    moved: Floats = vertices + shift
    return moved
