"""Is a mesh closed, and if not, can it be mended, or where is it open?"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, line_hits, volume

# Corners nearer than this share of the mesh's size are one corner.
WELD_SHARE = 1e-6
# Less volume than this share of its size cubed is none.
LEAST_SHARE = 1e-9
# A hole whose rim lies within this share of its own size of a plane is closed by that plane.
PLANE_SHARE = 1e-3
MOST_PLACES = 5


@dataclass(frozen=True)
class Mended:
    """A closed mesh, outward all over, and what was done to it."""

    mesh: Mesh
    welded: int
    dropped: int
    turned: int
    filled: int


def mended(mesh: Mesh, where: str = "mesh") -> Mended:
    """The mesh closed: corners welded, empty and double triangles dropped, sides turned outward, flat holes
    filled.

    Raises BadInput "mesh.open" for holes that are not flat and "mesh.tangled" where more than two triangles
    meet in an edge or the sides cannot be told, with the places (mm), "mesh.flat" for what encloses nothing.
    """
    if len(mesh.triangles) == 0 or not np.isfinite(mesh.vertices).all():
        raise BadInput("mesh.empty", where, "there is no surface in it", "export the solid again")
    vertices, triangles, label, welded = _welded(mesh)
    triangles, label, dropped = _without_empty(vertices, triangles, label)
    _refuse_tangles(vertices, triangles, where)
    triangles, turned = _agreeing(vertices, triangles, where)
    triangles, label, filled = _filled(vertices, triangles, label, where)
    triangles, inside_out = _outward(vertices, triangles)
    closed = Mesh(vertices, triangles, label)
    size = float(np.linalg.norm(np.ptp(vertices, axis=0)))
    if volume(closed) < LEAST_SHARE * size**3:
        raise BadInput(
            "mesh.flat",
            where,
            "the surface encloses nothing: it is flat",
            "export the solid, not a face of it",
        )
    return Mended(closed, welded, dropped, turned + inside_out, filled)


def _welded(mesh: Mesh) -> tuple[Floats, Ints, Ints, int]:
    size = float(np.ptp(mesh.vertices, axis=0).max())
    keys = np.rint(mesh.vertices / max(size * WELD_SHARE, 1e-9)).astype(np.int64)
    _, first, which = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    which = which.reshape(-1)
    return mesh.vertices[first], which[mesh.triangles], mesh.label, len(mesh.vertices) - len(first)


def _without_empty(vertices: Floats, triangles: Ints, label: Ints) -> tuple[Ints, Ints, int]:
    a, b, c = triangles.T
    good = (a != b) & (b != c) & (c != a)
    _, first = np.unique(np.sort(triangles, axis=1), axis=0, return_index=True)
    single = np.zeros(len(triangles), bool)
    single[first] = True
    keep = good & single
    return triangles[keep], label[keep], int((~keep).sum())


def _sides(triangles: Ints) -> tuple[Ints, Ints]:
    """Directed edges (3m, 2), three for each triangle in turn, and the triangle of each."""
    sides = np.stack([triangles, np.roll(triangles, -1, axis=1)], axis=2).reshape(-1, 2)
    return sides, np.repeat(np.arange(len(triangles)), 3)


def _places(points: Floats) -> str:
    shown = "; ".join(", ".join(f"{x:.2f}" for x in point) for point in points[:MOST_PLACES])
    return f"at ({shown}){' …' if len(points) > MOST_PLACES else ''} mm"


def _refuse_tangles(vertices: Floats, triangles: Ints, where: str) -> None:
    sides, _ = _sides(triangles)
    edges, count = np.unique(np.sort(sides, axis=1), axis=0, return_counts=True)
    many = edges[count > 2]
    if len(many):
        raise BadInput(
            "mesh.tangled",
            where,
            f"more than two triangles meet in {len(many)} edges {_places(vertices[many].mean(axis=1))}",
            "separate the bodies that touch there and export them again",
        )


def _agreeing(vertices: Floats, triangles: Ints, where: str) -> tuple[Ints, int]:
    """Triangles turned so that neighbours run along their common edge in opposite directions."""
    sides, owner = _sides(triangles)
    key = np.sort(sides, axis=1)
    order = np.lexsort((key[:, 1], key[:, 0]))
    pair = np.flatnonzero((key[order][1:] == key[order][:-1]).all(axis=1))
    one, two = order[pair], order[pair + 1]
    same_way = (sides[one] == sides[two]).all(axis=1)
    a, b, n = owner[one], owner[two], len(triangles)
    # Each triangle twice, as it is and turned: neighbours join the states that agree.
    rows = np.concatenate([a, a + n])
    columns = np.concatenate([np.where(same_way, b + n, b), np.where(same_way, b, b + n)])
    _, group = connected_components(
        coo_matrix((np.ones(len(rows), np.int8), (rows, columns)), (2 * n, 2 * n)), directed=False
    )
    torn = np.flatnonzero(group[:n] == group[n:])
    if len(torn):
        raise BadInput(
            "mesh.tangled",
            where,
            f"inside and outside cannot be told {_places(vertices[triangles[torn]].mean(axis=1))}",
            "export the solid again",
        )
    # Of the two states of each piece, the one that turns fewer triangles.
    _, piece = connected_components(coo_matrix((np.ones(len(a), np.int8), (a, b)), (n, n)), directed=False)
    lead = group[:n][np.unique(piece, return_index=True)[1]]
    turn = group[:n] != lead[piece]
    most = np.bincount(piece, turn) > np.bincount(piece) / 2
    turn ^= most[piece]
    out = triangles.copy()
    out[turn] = out[turn][:, ::-1]
    return out, int(turn.sum())


def _filled(vertices: Floats, triangles: Ints, label: Ints, where: str) -> tuple[Ints, Ints, int]:
    sides, owner = _sides(triangles)
    key = np.sort(sides, axis=1)
    _, index, count = np.unique(key, axis=0, return_index=True, return_counts=True)
    open_sides = sides[index[count == 1]]
    if len(open_sides) == 0:
        return triangles, label, 0
    onward = {int(b): int(a) for a, b in open_sides}  # the fill runs against the rim
    if len(onward) < len(open_sides):
        raise BadInput(
            "mesh.open",
            where,
            f"holes touch each other {_places(vertices[open_sides[:, 0]])}",
            "close the mesh",
        )
    made, unfit = [], []
    rims = 0
    while onward:
        start, at = next(iter(onward.items()))
        rim = [start]
        del onward[start]
        while at != start:
            rim.append(at)
            at = onward.pop(at, start)
        rims += 1
        points = vertices[rim]
        middle = points.mean(axis=0)
        _, spread, axes = np.linalg.svd(points - middle)
        if len(rim) < 3 or (
            len(rim) > 3
            and np.abs((points - middle) @ axes[2]).max() > PLANE_SHARE * np.ptp(points, axis=0).max()
        ):
            unfit.append((middle, float(np.ptp(points, axis=0).max())))
            continue
        flat = (points - middle) @ axes[:2].T
        area = float(np.sum(flat[:, 0] * np.roll(flat[:, 1], -1) - flat[:, 1] * np.roll(flat[:, 0], -1)))
        ring = np.arange(len(rim)) if area > 0 else np.arange(len(rim))[::-1]
        cut = np.asarray(manifold3d.triangulate([flat[ring]]))
        faces = np.array(rim)[ring[cut]]
        made.append(faces if area > 0 else faces[:, ::-1])
    if unfit:
        middles = np.array([middle for middle, _ in unfit])
        raise BadInput(
            "mesh.open",
            where,
            f"{len(unfit)} holes that are not flat, up to {max(size for _, size in unfit):.2f} mm wide,"
            f" {_places(middles)}",
            "close the mesh there and import it again",
        )
    new = np.concatenate(made)
    return np.concatenate([triangles, new]), np.concatenate([label, np.full(len(new), label[0])]), rims


def _outward(vertices: Floats, triangles: Ints) -> tuple[Ints, int]:
    """Every closed piece turned outward, and inward where it lies within an odd number of others (a void)."""
    sides, owner = _sides(triangles)
    key = np.sort(sides, axis=1)
    order = np.lexsort((key[:, 1], key[:, 0]))
    one, two = owner[order[0::2]], owner[order[1::2]]
    n = len(triangles)
    pieces, piece = connected_components(
        coo_matrix((np.ones(len(one), np.int8), (one, two)), (n, n)), directed=False
    )
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    volumes = np.bincount(piece, np.einsum("ij,ij->i", a, np.cross(b, c)), pieces)
    out = triangles.copy()
    turned = 0
    for p in range(pieces):
        own = piece == p
        depth = 0
        if pieces > 1:
            # A line in a direction no edge runs along, from a corner of this piece through the others.
            way = np.array([0.8017, 0.2673, 0.5345])
            others = Mesh(vertices, triangles[~own], np.zeros(int((~own).sum()), np.int64))
            depth = int((line_hits(others, vertices[triangles[own][0]].mean(axis=0), way) > 0).sum())
        if (volumes[p] > 0) == (depth % 2 == 1):
            out[own] = out[own][:, ::-1]
            turned += int(own.sum())
    return out, turned
