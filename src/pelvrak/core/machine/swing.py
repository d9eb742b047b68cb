"""Does the work, with what holds it, clear everything that stands still while it is turned from one position
to the next?

Checked over the whole arc and not only at steps: from an angle with a gap of g, nothing that lies within r of
the rotary axis can meet before a turn of g / r, so that is how far the next look is (conservative
advancement: B. Mirtich, "Impulse-based Dynamic Simulation of Rigid Body Systems", PhD thesis, 1996).
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid
from pelvrak.core.geometry.rigid import away_from_line
from pelvrak.core.machine.kinematics import motion
from pelvrak.core.machine.machine import Axis

# Nearer than this counts as met, and farther than that is not looked for, mm.
MET_MM, FAR_MM = 0.05, 60.0


@dataclass(frozen=True)
class Swing:
    """A turn of one axis: the least gap on the way (mm, FAR_MM when it is more), at which angle, and between
    what; met: it touches there.
    """

    gap: float
    angle: float
    between: tuple[str, str]
    met: bool


def swing(
    axis: Axis, start: float, end: float, moving: list[tuple[str, Mesh]], still: list[tuple[str, Mesh]]
) -> Swing:
    """Turn bodies that ride on the table side of an axis from one angle to another.

    moving: named solids, base frame, as they stand with the axis at `start`; still: what does not turn, base
    frame, mm.
    """
    best = Swing(FAR_MM, start, ("", ""), False)
    way = 1.0 if end >= start else -1.0
    for name, mesh in moving:
        body = to_solid(mesh)
        radius = max(_radius(axis, mesh), 1e-6)
        for other, fixed in still:
            wall = to_solid(fixed)
            turned = 0.0
            while True:
                here = _at(axis, body, way * turned)
                gap = float(here.min_gap(wall, FAR_MM))
                if gap < MET_MM and not (here ^ wall).is_empty() and (here ^ wall).volume() > 1e-6:
                    gap = 0.0
                if gap < best.gap:
                    best = Swing(gap, start + way * turned, (name, other), gap < MET_MM)
                if gap < MET_MM or turned >= abs(end - start):
                    break
                turned = min(abs(end - start), turned + float(np.degrees(gap / radius)))
            if best.met:
                return best
    return best


def _radius(axis: Axis, mesh: Mesh) -> float:
    """How far the farthest corner lies from an axis, mm."""
    return float(away_from_line(mesh.vertices, np.array(axis.point), np.array(axis.direction)).max())


def _at(axis: Axis, body: manifold3d.Manifold, by_deg: float) -> manifold3d.Manifold:
    """A body turned about an axis as the table turns: against the tool's sense."""
    return body.transform(motion(axis, by_deg, True)[:3])


def hull_of(mesh: Mesh) -> Mesh:
    """The convex hull of a body: what it sweeps lies within what its hull sweeps."""
    points: Floats = mesh.vertices[np.unique(mesh.triangles)]
    return mesh_of(manifold3d.Manifold.hull_points(points))
