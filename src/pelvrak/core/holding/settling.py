"""How does work find its place in a nest of its own shape?"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh, transformed, triangle_normals
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding.contact import travel

# A fitting pair of free-form walls stands off or in by as much as rays know of them; how finely a place in a
# nest is looked for, mm.
FORM_MM, SETTLE_MM, SETTLE_LEAST_MM = 0.05, 0.5, 0.01
# What looks down within 11° of level.
LEVEL_COS = 0.98
DOWN = np.array([0.0, 0, -1])


def settled(lying: Mesh, seat: Mesh) -> Floats:
    """How the work moves (3,), mm, until it lies lowest on a seat: in a nest it finds its place by itself, on
    a plane it stays.

    What rays know of walls would wedge a fitting pair: they are let in by FORM_MM, and only level floors
    decide the height as they are.
    """
    slim = drawn_in(lying, FORM_MM)
    bottom = replace(lying, triangles=lying.triangles[triangle_normals(lying)[:, 2] < -LEVEL_COS])

    def height(way: Floats) -> float:
        there = rigid(np.eye(3), np.array([way[0], way[1], 0.0]))
        found = [travel(transformed(one, there), seat, DOWN) for one in (slim, bottom)]
        return max((-way[0] for way in found if way is not None), default=np.inf)

    at, step = np.zeros(3), SETTLE_MM
    at[2] = height(at)
    if not np.isfinite(at[2]):
        return np.zeros(3)
    while step >= SETTLE_LEAST_MM:
        ways = [at + [step, 0, 0], at - [step, 0, 0], at + [0, step, 0], at - [0, step, 0]]
        low, best = min(((height(way), i) for i, way in enumerate(ways)), key=lambda one: one[0])
        if low < at[2] - SETTLE_LEAST_MM / 10:
            at = np.array([*ways[best][:2], low])
        else:
            step /= 2
    return at


def drawn_in(mesh: Mesh, by: float) -> Mesh:
    """The mesh with its vertices moved inwards along their normals, mm."""
    corners = mesh.vertices[mesh.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    total = np.zeros_like(mesh.vertices)
    for corner in range(3):
        np.add.at(total, mesh.triangles[:, corner], normals)
    length = np.linalg.norm(total, axis=1, keepdims=True)
    return replace(mesh, vertices=mesh.vertices - by * total / np.where(length > 1e-12, length, 1.0))
