"""From which directions can a tool, however thin, reach the faces of a part?"""

from __future__ import annotations

import os
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from pelvrak.core.geometry import visibility_kernel as kernel
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
    """Directions worth asking (from the work to the spindle): both ways along plane faces' normals and hole
    axes, largest first.
    """
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


class Caster:
    """Straight ways through a mesh; what belongs to the last few directions is kept."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.corners = mesh.vertices[mesh.triangles]
        self.lock = threading.Lock()
        self.kept: LRUCache[tuple[float, ...], tuple[Any, ...]] = LRUCache(4)

    def _looking(self, direction: Floats) -> tuple[Any, ...]:
        """The mesh in a frame whose third axis is the direction, and its triangles by cells across that."""
        key = tuple(np.round(direction, 12).tolist())
        with self.lock:
            if key in self.kept:
                return self.kept[key]
        aside = np.eye(3)[int(np.argmin(np.abs(direction)))]
        u = np.cross(direction, aside)
        u /= np.linalg.norm(u)
        # Turned a little, so that grids of vertices are not looked at edge on.
        v = np.cross(direction, u)
        turn = np.array([0.8 * u + 0.6 * v, 0.8 * v - 0.6 * u, direction])
        flat = self.mesh.vertices @ turn.T
        corners = np.ascontiguousarray(flat[self.mesh.triangles])
        low = flat.min(axis=0)
        span = np.maximum(flat.max(axis=0) - low, 1e-6)
        size = float(max(np.sqrt(span[0] * span[1] / max(len(corners), 1)), span[:2].max() / 1000))
        nx, ny = (int(span[d] / size) + 1 for d in (0, 1))
        made = (turn, corners, low, size, nx, ny, *kernel.bins(corners, low, size, nx, ny))
        with self.lock:
            self.kept[key] = made
        return made

    def distance(self, points: Floats, direction: Floats) -> Floats:
        """How far it is from each point along a direction (unit) to the mesh, mm; infinite where the way is
        free.
        """
        turn, *rest = self._looking(np.asarray(direction, float))
        out: Floats = kernel.nearest_above(np.ascontiguousarray(points @ turn.T), *rest)
        return out

    def each(self, points: list[Floats], directions: list[Floats]) -> list[Floats]:
        """`distance` of several groups of points, each along its own direction, those of one direction at
        once.
        """
        out: list[Floats] = [np.zeros(0)] * len(points)
        ways: dict[tuple[float, ...], list[int]] = {}
        for i, direction in enumerate(directions):
            ways.setdefault(tuple(np.round(direction, 9).tolist()), []).append(i)
        for chosen in ways.values():
            found = self.distance(np.concatenate([points[i] for i in chosen]), directions[chosen[0]])
            ends = np.cumsum([len(points[i]) for i in chosen])
            for i, own in zip(chosen, np.split(found, ends[:-1]), strict=True):
                out[i] = own
        return out


def visible(
    model: PartModel, directions: list[Vector], caster: Caster | None = None
) -> tuple[Floats, Floats]:
    """Share of each face that a straight way along each direction reaches (faces, directions), and along any
    of them (faces,).

    Walls along a direction count as reached when the way just off them is free.
    """
    caster = caster or Caster(model.mesh)
    count = len(model.part.faces)
    points, normals, owner = places_on(model.mesh, count)
    points = points + OFF_MM * normals
    sizes = np.maximum(np.bincount(owner, minlength=count), 1)
    out, by_any = np.zeros((count, len(directions))), np.zeros(len(points), bool)

    def seen(direction: Vector) -> NDArray[np.bool_]:
        way = np.array(direction)
        facing = normals @ way > -FACING
        free = np.zeros(len(points), bool)
        free[facing] = np.isinf(caster.distance(points[facing], way))
        return free

    with ThreadPoolExecutor(os.cpu_count()) as pool:  # what is compiled lets go of the interpreter
        for i, free in enumerate(pool.map(seen, directions)):
            out[:, i] = np.bincount(owner, weights=free, minlength=count) / sizes
            by_any |= free
    return out, np.bincount(owner, weights=by_any, minlength=count) / sizes
