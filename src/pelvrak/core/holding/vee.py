"""What angle does the underside of the work have between its flanks?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Mesh, triangle_areas, triangle_normals


def vee_of(stock: Mesh) -> float | None:
    """The angle between two flanks on the underside of the work that meet along its length, degrees; None
    when it has none.
    """
    normals = triangle_normals(stock)
    corners = stock.vertices[stock.triangles]
    area = triangle_areas(corners)
    under = (normals[:, 2] < -0.2) & (normals[:, 2] > -0.97)
    if area[under].sum() < 0.02 * area.sum():
        return None
    keys, which = np.unique(np.round(normals[under], 2), axis=0, return_inverse=True)
    sizes = np.bincount(which.ravel(), area[under])
    largest = np.argsort(-sizes)[:2]
    if len(largest) < 2 or np.sort(sizes)[-2:].sum() < 0.6 * sizes.sum():
        return None
    flanks = np.array([area[under][which.ravel() == k] @ normals[under][which.ravel() == k] for k in largest])
    flanks /= np.linalg.norm(flanks, axis=1, keepdims=True)
    return float(180 - np.degrees(np.arccos(np.clip(flanks[0] @ flanks[1], -1, 1))))
