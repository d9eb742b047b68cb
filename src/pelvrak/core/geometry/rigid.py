"""How do points go from one frame to another? A transform is named a_from_b and takes points of b to a."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

SNAP = 1e-12


def rigid(rotation: Floats, translation: Floats) -> Floats:
    """The transform p → rotation p + translation, (…, 4, 4), of each (…, 3, 3) and (…, 3)."""
    many = np.broadcast_shapes(rotation.shape[:-2], translation.shape[:-1])
    out: Floats = np.zeros((*many, 4, 4))
    out[..., :3, :3], out[..., :3, 3], out[..., 3, 3] = rotation, translation, 1.0
    return out


def inverse(a_from_b: Floats) -> Floats:
    """b_from_a of each rigid transform, (…, 4, 4)."""
    turn = a_from_b[..., :3, :3].swapaxes(-1, -2)
    return rigid(turn, (-turn @ a_from_b[..., :3, 3:])[..., 0])


def moved(a_from_b: Floats, points: Floats) -> Floats:
    """Points (…, 3) of b in a."""
    out: Floats = np.asarray(points, float) @ a_from_b[:3, :3].T + a_from_b[:3, 3]
    return out


def turned(a_from_b: Floats, directions: Floats) -> Floats:
    """Directions (…, 3) of b in a."""
    out: Floats = np.asarray(directions, float) @ a_from_b[:3, :3].T
    return out


def away_from_line(points: Floats, through: Floats, way: Floats) -> Floats:
    """Distance of points (n, 3) from the line through a point along a unit vector, (n,)."""
    off = points - through
    return np.asarray(np.linalg.norm(off - np.outer(off @ way, way), axis=1))


def snapped(rotation: Floats) -> Floats:
    """A rotation with entries within rounding of -1, 0 and 1 put right on them, so that a flip is exact."""
    near = np.rint(rotation)
    out: Floats = np.where(np.abs(rotation - near) < SNAP, near, rotation)
    return out


def rotation_about_z(angle_deg: float) -> Floats:
    """Rotation by an angle about +z, counter-clockwise seen from above; quarter turns are exact."""
    angle = np.radians(angle_deg)
    c, s = np.cos(angle), np.sin(angle)
    return snapped(np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]]))


def square_to(direction: Floats) -> Floats:
    """A rotation (3×3) whose third row is a unit direction."""
    x, y, z = direction.tolist()
    # Square to it and to the axis it leaves most, by hand: numpy's cross of two vectors takes ten times this.
    a, b, c = ((0.0, -z, y), (z, 0.0, -x), (-y, x, 0.0))[int(np.argmin(np.abs(direction)))]
    long = math.sqrt(a * a + b * b + c * c)
    a, b, c = a / long, b / long, c / long
    return np.array([(a, b, c), (y * c - z * b, z * a - x * c, x * b - y * a), (x, y, z)])
