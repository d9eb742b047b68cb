"""Holdings and contacts that several tests look at."""

from __future__ import annotations

from typing import Any

import manifold3d
import numpy as np

from pelvrak.core.geometry.mesh import Mesh, box, mesh_of
from pelvrak.core.holding.contact import Patch
from pelvrak.core.holding.hold import Hold, fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.kinds import (
    prism,
)

SHOP = fixtures_of(())
BLOCK = box(np.array([-50, -30, -40.0]), np.array([50, 30, 0.0]))


def solid(mesh_solid: manifold3d.Manifold) -> Mesh:
    return mesh_of(mesh_solid)


def held(hold: Hold, stock: Mesh = BLOCK, **more: Any):
    return hold_work(hold, SHOP, stock, "OP10", **more)


def codes(hold: Hold, stock: Mesh = BLOCK, **more: Any) -> list[str]:
    """Findings but the notes that every vise without a stop has."""
    return [f.code for f in held(hold, stock, **more).findings if f.severity != "note"]


def vee_shape(angle_deg: float, length: float, wide: float = 40.0, tall: float = 30.0) -> Mesh:
    """A bar along x whose underside is a wedge of an included angle, its edge in y = z = 0."""
    half = wide / 2
    rise = half / np.tan(np.radians(angle_deg / 2))
    section = [(0.0, 0.0), (half, rise), (half, rise + tall), (-half, rise + tall), (-half, rise)]
    return solid(prism([(float(a), float(b)) for a, b in section], -length / 2, length / 2))


def pad(centre, normal, size=10.0) -> Patch:
    """A square contact."""
    centre, normal = np.array(centre, float), np.array(normal, float)
    side = np.array([0, 0, 1.0]) if abs(normal[2]) < 0.5 else np.array([1.0, 0, 0])
    other = np.cross(normal, side)
    hull = np.array(
        [centre + size / 2 * (a * side + b * other) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    )
    return Patch(
        0,
        size * size,
        centre,
        normal,
        "face",
        size,
        size,
        side,
        hull,
        np.tile(normal, (len(hull), 1)),
        hull[None, :3],
    )
