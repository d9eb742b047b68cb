"""What is a triangle mesh here, and how is it written to open formats?"""

from __future__ import annotations

from dataclasses import dataclass, replace

import manifold3d
import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

CREASE_DEG = 30.0
# A face this near to level is level.
LEVEL_COS = 0.9999


@dataclass(frozen=True)
class Mesh:
    """Triangles with one label each.

    vertices: mm, float64 (n, 3); triangles: int64 (m, 3), counter-clockwise from outside; label: int64 (m,),
    a face of the part or the maker of a stock surface. round: bool (m,), triangles that stand for a curved
    wall, where that is known; None where a mesh only has what its triangles are.
    """

    vertices: Floats
    triangles: Ints
    label: Ints
    round: NDArray[np.bool_] | None = None


def volume(mesh: Mesh, about: Floats | None = None) -> float:
    """Enclosed volume by the divergence theorem, mm³. about: of an open surface, what lies between it and
    this point; negative where it is looked at from behind.
    """
    if len(mesh.triangles) == 0:
        return 0.0
    middle = mesh.vertices.mean(axis=0) if about is None else about
    a, b, c = (mesh.vertices[mesh.triangles[:, i]] - middle for i in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6)


def transformed(mesh: Mesh, b_from_a: Floats) -> Mesh:
    """The mesh with its points taken by a 4×4 rigid transform."""
    return replace(mesh, vertices=mesh.vertices @ b_from_a[:3, :3].T + b_from_a[:3, 3])


def joined(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one, labels kept."""
    vertices, triangles, label, shift = [], [], [], 0
    for mesh in meshes:
        vertices.append(mesh.vertices)
        triangles.append(mesh.triangles + shift)
        label.append(mesh.label)
        shift += len(mesh.vertices)
    if not meshes:
        return Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int64), np.zeros(0, np.int64))
    return Mesh(np.concatenate(vertices), np.concatenate(triangles), np.concatenate(label))


def with_label(mesh: Mesh, label: int) -> Mesh:
    """The triangles of one label; vertices are shared with the whole."""
    own = mesh.label == label
    return Mesh(mesh.vertices, mesh.triangles[own], mesh.label[own])


def corners_of(mesh: Mesh, label: int) -> Floats:
    """The triangles of one label by their corners, (n, 3, 3)."""
    corners: Floats = mesh.vertices[mesh.triangles[mesh.label == label]]
    return corners


def corners_by_label(mesh: Mesh, count: int) -> list[Floats]:
    """Vertices of the triangles of each label 0 … count - 1."""
    order = np.argsort(mesh.label, kind="stable")
    ends = np.searchsorted(mesh.label[order], np.arange(count + 1))
    return [
        mesh.vertices[np.unique(mesh.triangles[order[a:b]])] for a, b in zip(ends, ends[1:], strict=False)
    ]


def welded(points: Floats, digits: int) -> tuple[Ints, Ints]:
    """Points equal when rounded: (index of the first of each, number each point goes by)."""
    keys = np.rint(points * 10.0**digits).astype(np.int64)
    order = np.lexsort((keys[:, 2], keys[:, 1], keys[:, 0]))
    sorted_ = keys[order]
    new = np.concatenate([[True], (sorted_[1:] != sorted_[:-1]).any(axis=1)])
    number = np.empty(len(points), np.int64)
    number[order] = np.cumsum(new) - 1
    return order[new], number


def is_closed(mesh: Mesh) -> bool:
    """Whether every side of every triangle is met by one the other way round."""
    sides = np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]], mesh.triangles[:, [2, 0]]])
    count = len(mesh.vertices)
    one, two = np.sort(sides[:, 0] * count + sides[:, 1]), np.sort(sides[:, 1] * count + sides[:, 0])
    return bool(len(one)) and bool((one == two).all()) and bool((one[1:] != one[:-1]).all())


def box_corners(low: ArrayLike, high: ArrayLike) -> Floats:
    """The eight corners of a box, (8, 3); x changes fastest, then y, then z."""
    ends = np.array([low, high], np.float64)
    return np.array([[ends[i][0], ends[j][1], ends[k][2]] for k in (0, 1) for j in (0, 1) for i in (0, 1)])


def moved_box(b_from_a: Floats, low: ArrayLike, high: ArrayLike) -> tuple[Floats, Floats]:
    """The box round a box that was moved rigidly."""
    ends = box_corners(low, high) @ b_from_a[:3, :3].T + b_from_a[:3, 3]
    return ends.min(axis=0), ends.max(axis=0)


def to_solid(mesh: Mesh) -> manifold3d.Manifold:
    """The mesh for exact operations, labels kept; ask its status(): not every mesh is manifold."""
    return manifold3d.Manifold(
        manifold3d.Mesh64(
            vert_properties=mesh.vertices.astype(np.float64, order="C"),
            tri_verts=mesh.triangles.astype(np.uint64, order="C"),
            face_id=mesh.label.astype(np.uint64, order="C"),
        )
    )


def mesh_of(solid: manifold3d.Manifold) -> Mesh:
    """The mesh of a solid, with the labels of what it was made from."""
    out = solid.to_mesh64()
    return Mesh(
        np.asarray(out.vert_properties[:, :3], np.float64),
        np.asarray(out.tri_verts, np.int64),
        np.asarray(out.face_id, np.int64),
    )


def box(low: Floats, high: Floats, label: int = 0) -> Mesh:
    """A block low…high as 12 triangles."""
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]
    triangles = np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))], np.int64)
    return Mesh(box_corners(low, high), triangles, np.full(12, label, np.int64))


def triangle_normals(mesh: Mesh) -> Floats:
    """Unit normals, (m, 3); zero for a triangle without area."""
    corners = mesh.vertices[mesh.triangles]
    normals: Floats = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    unit: Floats = normals / np.where(length > 1e-15, length, 1)
    return unit


def triangle_areas(corners: Floats) -> Floats:
    """Area of each triangle of corners (n, 3, 3), mm²."""
    sides = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    return np.asarray(np.linalg.norm(np.cross(*sides), axis=1) / 2)


def levels(mesh: Mesh, up: bool, digits: int) -> tuple[Floats, Floats]:
    """Heights at which level faces look up, or down, and how much they are at each, mm and mm². digits: that
    heights are told apart by.
    """
    facing = triangle_normals(mesh)[:, 2] * (1 if up else -1) > LEVEL_COS
    corners = mesh.vertices[mesh.triangles[facing]]
    heights, which = np.unique(np.round(corners[:, :, 2].mean(axis=1), digits), return_inverse=True)
    return heights, np.asarray(np.bincount(which, triangle_areas(corners), len(heights)), float)


def line_hits(mesh: Mesh, origin: Floats, way: Floats) -> Floats:
    """Distances along `way` (unit) at which the line through `origin` crosses triangles, mm, negative behind;
    unsorted.

    Möller and Trumbore, "Fast, minimum storage ray/triangle intersection", Journal of Graphics Tools 2(1),
    1997.
    """
    a, b, c = (mesh.vertices[mesh.triangles[:, i]] for i in range(3))
    one, two = b - a, c - a
    p = np.cross(way, two)
    det = np.einsum("ij,ij->i", one, p)
    flat = np.abs(det) < 1e-12
    safe = np.where(flat, 1, det)
    t = origin - a
    u = np.einsum("ij,ij->i", t, p) / safe
    q = np.cross(t, one)
    v = q @ way / safe
    seam = 1e-9
    met = ~flat & (u >= -seam) & (v >= -seam) & (u + v <= 1 + seam)
    distances: Floats = (np.einsum("ij,ij->i", two, q) / safe)[met]
    return distances


def edge_triangles(mesh: Mesh) -> tuple[Ints, Ints, Ints]:
    """Edges with their two triangles: (pairs (k, 2), triangle one, triangle two), closed meshes."""
    sides = np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]], mesh.triangles[:, [2, 0]]])
    owner = np.tile(np.arange(len(mesh.triangles)), 3)
    key = np.sort(sides, axis=1)
    order = np.lexsort((key[:, 1], key[:, 0]))
    key, owner = key[order], owner[order]
    same = np.flatnonzero((key[1:] == key[:-1]).all(axis=1))
    return key[same], owner[same], owner[same + 1]


def crease_lines(mesh: Mesh, by_label: bool = True) -> Floats:
    """Edges to draw as ink lines: where the surface folds by more than CREASE_DEG or the label changes.

    Returns segments (k, 2, 3), mm.
    """
    if len(mesh.triangles) == 0:
        return np.zeros((0, 2, 3))
    pairs, one, two = edge_triangles(mesh)
    normals = triangle_normals(mesh)
    folded = np.einsum("ij,ij->i", normals[one], normals[two]) < np.cos(np.radians(CREASE_DEG))
    if by_label:
        folded |= mesh.label[one] != mesh.label[two]
    segments: Floats = mesh.vertices[pairs[folded]]
    return segments


def with_corner_normals(mesh: Mesh) -> tuple[Floats, Floats, Ints, Ints]:
    """Vertices split at creases and labels: (vertices, normals, triangles, label of each vertex)."""
    normals = triangle_normals(mesh)
    corners = mesh.vertices[mesh.triangles]
    area = triangle_areas(corners)
    corner_vertex = mesh.triangles.ravel()
    corner_triangle = np.repeat(np.arange(len(mesh.triangles)), 3)
    # Corners meeting in a vertex share a normal when joined by a smooth edge of one label.
    pairs, one, two = edge_triangles(mesh)
    smooth = np.einsum("ij,ij->i", normals[one], normals[two]) >= np.cos(np.radians(CREASE_DEG))
    smooth &= mesh.label[one] == mesh.label[two]
    pairs, one, two = pairs[smooth], one[smooth], two[smooth]

    def corner_of(triangle: Ints, vertex: Ints) -> Ints:
        corner: Ints = 3 * triangle + np.argmax(mesh.triangles[triangle] == vertex[:, None], axis=1)
        return corner

    a = np.concatenate([corner_of(one, pairs[:, 0]), corner_of(one, pairs[:, 1])])
    b = np.concatenate([corner_of(two, pairs[:, 0]), corner_of(two, pairs[:, 1])])
    size = len(corner_vertex)
    groups, group = connected_components(
        coo_matrix((np.ones(len(a), np.int8), (a, b)), (size, size)), directed=False
    )
    summed = np.zeros((groups, 3))
    np.add.at(summed, group, normals[corner_triangle] * area[corner_triangle, None])
    length = np.linalg.norm(summed, axis=1, keepdims=True)
    vertices, label = np.zeros((groups, 3)), np.zeros(groups, np.int64)
    vertices[group] = mesh.vertices[corner_vertex]
    label[group] = mesh.label[corner_triangle]
    return vertices, summed / np.where(length > 0, length, 1), group.reshape(-1, 3).astype(np.int64), label


def to_stl(mesh: Mesh, name: str) -> bytes:
    """Binary STL, mm; the first 80 bytes carry the name."""
    out = np.zeros(
        len(mesh.triangles),
        dtype=[("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("spare", "<u2")],
    )
    out["normal"] = triangle_normals(mesh)
    out["corner"] = mesh.vertices[mesh.triangles]
    header = name.encode("ascii", "replace")[:79].ljust(80, b" ")
    return header + np.uint32(len(out)).tobytes() + out.tobytes()
