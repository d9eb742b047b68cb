"""Where does a ball that goes straight first touch a surface? Of every triangle its face moved out by the
radius, its edges as cylinders and its corners as balls: C. Ericson, "Real-Time Collision Detection", 2005,
5.5.6 (from memory).
"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh

# A ball that goes along a face within rounding does not touch it.
ALONG = 1e-9


def touched(mesh: Mesh, start: Floats, end: Floats, radius: float) -> float | None:
    """How far along a straight way a ball goes before it touches a surface, as a share from 0 to 1; None
    where it touches none. start, end: of its centre, (3,), mm. A ball that begins in a surface touches at 0.
    """
    way = np.asarray(end, float) - start
    length = float(np.linalg.norm(way))
    if length == 0.0 or not len(mesh.triangles):
        return None
    low, high = np.minimum(start, end) - radius, np.maximum(start, end) + radius
    corners = mesh.vertices[mesh.triangles]
    near = (corners.min(axis=1) <= high).all(axis=1) & (corners.max(axis=1) >= low).all(axis=1)
    if not near.any():
        return None
    corners = corners[near]
    along = way / length
    distance = min(
        _faces(corners, start, along, radius),
        _edges(corners, start, along, radius),
        _points(corners.reshape(-1, 3), start, along, radius),
    )
    return distance / length if distance <= length + 1e-9 else None


def _faces(corners: Floats, start: Floats, along: Floats, radius: float) -> float:
    """Distance to the first face that is met within its triangle; endless where none is."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    normals = np.cross(b - a, c - a)
    sizes = np.linalg.norm(normals, axis=1)
    flat = sizes > 0
    a, b, c, normals = a[flat], b[flat], c[flat], normals[flat] / sizes[flat, None]
    # Seen from the side it comes from.
    side = np.sign(np.einsum("ij,ij->i", normals, start - a))
    normals *= np.where(side == 0, 1.0, side)[:, None]
    height = np.einsum("ij,ij->i", normals, start - a)
    speed = normals @ along
    coming = speed < -ALONG
    distance = np.full(len(a), np.inf)
    distance[coming] = np.maximum(0.0, (height[coming] - radius) / -speed[coming])
    at = start + np.where(np.isfinite(distance), distance, 0.0)[:, None] * along
    at = at - np.einsum("ij,ij->i", normals, at - a)[:, None] * normals
    inside = np.isfinite(distance)
    for p, q in ((a, b), (b, c), (c, a)):
        turn = np.einsum("ij,ij->i", np.cross(q - p, at - p), normals)
        other = np.einsum("ij,ij->i", np.cross(b - a, c - a), normals)
        inside &= turn * np.sign(other) >= -ALONG
    return float(distance[inside].min(initial=np.inf))


def _points(points: Floats, start: Floats, along: Floats, radius: float) -> float:
    """Distance until a point is no further off than the radius."""
    off = start - points
    b, c = off @ along, np.einsum("ij,ij->i", off, off) - radius**2
    return _first(np.ones(len(points)), b, c)


def _edges(corners: Floats, start: Floats, along: Floats, radius: float) -> float:
    """Distance until an edge, between its ends, is no further off than the radius."""
    p = corners.reshape(-1, 3)
    q = np.roll(corners, -1, axis=1).reshape(-1, 3)
    line = q - p
    length = np.linalg.norm(line, axis=1)
    real = length > 0
    p, line, length = p[real], line[real] / length[real, None], length[real]
    off = start - p
    # Square to the edge.
    way = along - (line @ along)[:, None] * line
    away = off - np.einsum("ij,ij->i", off, line)[:, None] * line
    a = np.einsum("ij,ij->i", way, way)
    b, c = np.einsum("ij,ij->i", way, away), np.einsum("ij,ij->i", away, away) - radius**2
    moves = a > ALONG
    distance = np.full(len(p), np.inf)
    distance[moves] = _each(a[moves], b[moves], c[moves])
    finite = np.isfinite(distance)
    place = np.einsum("ij,ij->i", off, line) + np.where(finite, distance, 0.0) * (line @ along)
    between = finite & (place >= 0) & (place <= length)
    return float(distance[between].min(initial=np.inf))


def _each(a: Floats, b: Floats, c: Floats) -> Floats:
    """The first root of a t² + 2 b t + c that lies ahead; 0 where it is begun within, endless without one."""
    out = np.full(len(a), np.inf)
    within = c <= 0
    out[within & (b < 0)] = 0.0
    meets = ~within & (b < 0) & (b * b - a * c >= 0)
    out[meets] = (-b[meets] - np.sqrt(b[meets] ** 2 - a[meets] * c[meets])) / a[meets]
    return out


def _first(a: Floats, b: Floats, c: Floats) -> float:
    return float(_each(a, b, c).min(initial=np.inf))
