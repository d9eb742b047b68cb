"""Which solids of a machine go with the tool or between tool and work, how do they follow it, and what do
they run into?
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Floats, Mesh, box, mesh_of, to_solid, transformed
from pelvrak.core.geometry.part import Vector
from pelvrak.core.geometry.rigid import inverse, rigid, square_to
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import linear_for_all, moved_by, pose
from pelvrak.core.machine.machine import Machine, Solid

# A move is looked at in steps of this, and an overlap below the other is none, mm.
STEP_MM, MEETS_MM = 5.0, 0.05
# So many places of a solid are looked at exactly, those that overlap most.
EXACT_PLACES = 60
ROUND = 96


@dataclass(frozen=True)
class Slide:
    """A solid of the machine that moves against the work. mesh: in the local plane of a position with the
    bare nose at its zero; follows (3, 3): how far it goes for each mm the nose goes.
    """

    name: str
    mesh: Mesh
    follows: Floats


@dataclass(frozen=True)
class Met:
    """A slide that runs into something: how deep (mm), what it is, and where the nose then stands (local
    plane).
    """

    slide: str
    what: str
    depth: float
    nose: Floats


def solid_mesh(one: Solid) -> Mesh:
    """A simple solid of a machine, base frame with every axis at 0."""
    if one.low is not None and one.high is not None:
        return box(np.array(one.low), np.array(one.high))
    assert one.at is not None and one.axis is not None and one.diameter is not None and one.length is not None
    body = manifold3d.Manifold.cylinder(one.length, one.diameter / 2, one.diameter / 2, ROUND, True)
    return transformed(mesh_of(body), rigid(square_to(np.array(one.axis)).T, np.array(one.at)))


def table_side(machine: Machine) -> list[str]:
    """The axes that stand still against the table but for what turns it: up to the first that slides, and
    that one.
    """
    out = []
    for axis in machine.chain(machine.table.rides):
        out.append(axis.name)
        if not axis.rotary:
            return [str(name) for name in out]
    return [*map(str, out), "base"]


def stands_by_the_work(machine: Machine, solid: Solid) -> bool:
    """Whether a solid stands by the work whatever X, Y and Z do."""
    near = table_side(machine)
    return solid.rides in near and (solid.rides != "base" or near[-1] == "base")


def slides(machine: Machine, zero_on_table: Vector, at: Turned) -> list[Slide]:
    """Every solid that does not stand by the work, but for the spindle's nose, which is the tool's."""
    zero = np.array(zero_on_table)
    home = {axis.name: 0.0 for axis in machine.axes} | at.angles

    # The nose at the local plane's zero, and a millimetre from it along each of its axes.
    noses = np.vstack([np.zeros(3), np.eye(3)])
    on_table = (np.c_[noses, np.ones(4)] @ inverse(at.local_from_zero).T)[:, :3] + zero
    linear = linear_for_all(machine, on_table, at.angles)
    values = [home | dict(zip("XYZ", map(float, row), strict=True)) for row in linear]
    local_from_base = [
        at.local_from_zero @ rigid(np.eye(3), -zero) @ inverse(pose(machine, one).base_from_table)
        for one in values
    ]
    out = []
    for solid in machine.solids:
        if stands_by_the_work(machine, solid) or _is_nose(machine, solid):
            continue
        start, *moved = (
            local @ moved_by(machine, solid.rides, one)
            for local, one in zip(local_from_base, values, strict=True)
        )
        follows = np.column_stack([one[:3, 3] - start[:3, 3] for one in moved])
        out.append(Slide(solid.name, transformed(solid_mesh(solid), start), np.round(follows, 9) + 0.0))
    return out


def nose_slide(machine: Machine) -> Slide:
    """The spindle's nose by itself, without a tool."""
    diameter, length = machine.spindle.nose
    body = manifold3d.Manifold.cylinder(length, diameter / 2, diameter / 2, ROUND)
    return Slide("spindle nose", mesh_of(body), np.eye(3))


def _is_nose(machine: Machine, solid: Solid) -> bool:
    return (
        solid.rides == machine.spindle.rides
        and solid.diameter is not None
        and solid.diameter <= machine.spindle.nose[0] + 1e-6
    )


def met_by_slides(
    moving: list[Slide], starts: Floats, ends: Floats, still: list[tuple[str, Mesh]]
) -> list[Met]:
    """What slides run into while the nose goes along straight moves, starts to ends (n, 3), local plane, mm:
    the deepest for each pair.
    """
    if len(ends) == 0:
        return []
    places = _along(starts, ends)
    out = []
    for slide in moving:
        low, high = slide.mesh.vertices.min(axis=0), slide.mesh.vertices.max(axis=0)
        goes = places @ slide.follows.T
        for name, mesh in still:
            under, over = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
            shared = np.minimum(goes + high, over) - np.maximum(goes + low, under)
            deep = shared.min(axis=1)
            chosen: NDArray[np.int64] = np.argsort(-deep)[:EXACT_PLACES]
            chosen = chosen[deep[chosen] > MEETS_MM]
            if len(chosen):
                found = _deepest(to_solid(slide.mesh), to_solid(mesh), goes[chosen])
                if found is not None:
                    out.append(Met(slide.name, name, found[0], places[chosen[found[1]]]))
    return out


def _along(starts: Floats, ends: Floats) -> Floats:
    """Places a step apart along moves, (k, 3), each once to a tenth of a millimetre."""
    count = np.maximum(1, np.ceil(np.linalg.norm(ends - starts, axis=1) / STEP_MM)).astype(np.int64)
    move = np.repeat(np.arange(len(ends)), count)
    number = np.arange(len(move)) - np.repeat(np.cumsum(count) - count, count) + 1
    places = starts[move] + (number / count[move])[:, None] * (ends - starts)[move]
    return np.unique(np.round(np.concatenate([starts[:1], places]), 1), axis=0)


def _deepest(body: manifold3d.Manifold, wall: manifold3d.Manifold, goes: Floats) -> tuple[float, int] | None:
    best: tuple[float, int] | None = None
    for i, by in enumerate(goes):
        both = body.translate(by.tolist()) ^ wall
        if both.is_empty() or both.volume() < 1e-6:
            continue
        x0, y0, z0, x1, y1, z1 = both.bounding_box()
        depth = min(x1 - x0, y1 - y0, z1 - z0)
        if depth > MEETS_MM and (best is None or depth > best[0]):
            best = (depth, i)
    return best
