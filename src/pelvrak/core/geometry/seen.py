"""From which directions can a tool, however thin, reach the faces of a part?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry import seen_kernel as kernel
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, triangle_normals
from pelvrak.core.geometry.part import Part, PartModel, Vector, as_vector

# Places looked at on one face, and how far off it they stand, mm: past what chords of a curved wall hide.
PLACES = 24
OFF_MM = 0.02
RIM_MM = 0.1
# Directions within this of each other are one.
SAME_COSINE = 0.99995
MOST_DIRECTIONS = 26
# A wall may lean this much (sine) away from a direction and still count as along it.
FACING = 0.02
# A face counts as reached when this share of its places is.
REACHED = 0.97


def tool_directions(part: Part) -> list[Vector]:
    """Directions worth asking (from the work to the spindle): both ways along plane faces' normals and hole axes, largest first."""
    weights: list[tuple[float, Floats]] = []
    for way, weight in [
        *((np.array(face.normal), face.area) for face in part.faces if face.normal),
        *((np.array(hole.axis), hole.diameter**2) for hole in part.holes),
    ]:
        for sign in (1.0, -1.0):
            for i, (sum_, known) in enumerate(weights):
                if known @ way * sign > SAME_COSINE:
                    weights[i] = (sum_ + weight, known)
                    break
            else:
                weights.append((weight, sign * way))
    weights.sort(key=lambda one: -one[0])
    return [as_vector(np.round(way, 9) + 0.0) for _, way in weights[:MOST_DIRECTIONS]]


def places_on(mesh: Mesh, faces: int) -> tuple[Floats, Floats, Ints]:
    """Points spread by area over each face, with their normals and face numbers; the same every time."""
    corners = mesh.vertices[mesh.triangles]
    normals = triangle_normals(mesh)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    order = np.argsort(mesh.label, kind="stable")
    total = np.concatenate([[0.0], np.cumsum(area[order])])
    ends = np.searchsorted(mesh.label[order], np.arange(faces + 1))
    low, high = total[ends[:-1]], total[ends[1:]]
    alive = np.flatnonzero(high - low > 1e-12)
    # Evenly by area, and within triangles by the R2 sequence (Roberts, "The unreasonable effectiveness of
    # quasirandom sequences", 2018).
    number = np.arange(PLACES)
    at = low[alive, None] + (number + 0.5) / PLACES * (high - low)[alive, None]
    first, second = (0.5 + number * 0.7548776662466927) % 1, (0.5 + number * 0.5698402909980532) % 1
    found = order[np.clip(np.searchsorted(total, at.ravel(), side="right") - 1, 0, len(order) - 1)]
    r, s = np.tile(np.sqrt(first), len(alive)), np.tile(second, len(alive))
    weights = np.stack([1 - r, r * (1 - s), r * s], axis=1)
    # Kept off the rim, where the neighbour's wall would decide.
    inwards = np.clip(RIM_MM / np.sqrt(np.maximum(area[found], 1e-12)), 0.005, 0.1)[:, None]
    weights = (1 - inwards) * weights + inwards / 3
    return np.einsum("nk,nkd->nd", weights, corners[found]), normals[found], np.repeat(alive, PLACES)


def free_along(mesh: Mesh, points: Floats, direction: Floats) -> np.ndarray:
    """Whether the way from each point along `direction` (unit) is free of the mesh, bool (n,)."""
    aside = np.eye(3)[int(np.argmin(np.abs(direction)))]
    u = np.cross(direction, aside)
    u /= np.linalg.norm(u)
    # Turned a little, so that grids of vertices are not looked at edge on.
    v = np.cross(direction, u)
    u, v = 0.8 * u + 0.6 * v, 0.8 * v - 0.6 * u
    turn = np.array([u, v, direction])
    flat = mesh.vertices @ turn.T
    corners = np.ascontiguousarray(flat[mesh.triangles])
    low = flat.min(axis=0)
    span = np.maximum(flat.max(axis=0) - low, 1e-6)
    size = float(max(np.sqrt(span[0] * span[1] / max(len(corners), 1)), span[:2].max() / 1000))
    nx, ny = (int(span[d] / size) + 1 for d in (0, 1))
    out: np.ndarray = kernel.free_above(np.ascontiguousarray(points @ turn.T), corners, low, size, nx, ny)
    return out


def reached(model: PartModel, directions: list[Vector]) -> tuple[Floats, Floats]:
    """Share of each face that a straight way along each direction reaches (faces, directions), and along any of them (faces,).

    Walls along a direction count as reached when the way just off them is free.
    """
    count = len(model.part.faces)
    points, normals, owner = places_on(model.mesh, count)
    points = points + OFF_MM * normals
    sizes = np.maximum(np.bincount(owner, minlength=count), 1)
    out, by_any = np.zeros((count, len(directions))), np.zeros(len(points), bool)
    for i, direction in enumerate(directions):
        way = np.array(direction)
        facing = normals @ way > -FACING
        free = np.zeros(len(points), bool)
        free[facing] = free_along(model.mesh, points[facing], way)
        out[:, i] = np.bincount(owner, weights=free, minlength=count) / sizes
        by_any |= free
    return out, np.bincount(owner, weights=by_any, minlength=count) / sizes
