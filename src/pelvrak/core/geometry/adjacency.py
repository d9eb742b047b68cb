"""Where two faces of a part meet: does the material fold outwards, inwards, or run on smoothly?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from pelvrak.core.geometry.mesh import Floats, triangle_normals
from pelvrak.core.geometry.part import Face, PartModel, edge_number

EdgeKind = Literal["convex", "concave", "smooth"]
# Below this the faces run into each other smoothly: what chords of curved edges and fitted faces leave, with
# room.
SMOOTH_DEG = 8.0


@dataclass(frozen=True)
class Adjacent:
    """An edge with its two faces. angle_deg: between their normals, above 0 where the material is convex."""

    edge: int
    one: int
    two: int
    angle_deg: float
    length: float

    @property
    def kind(self) -> EdgeKind:
        if abs(self.angle_deg) < SMOOTH_DEG:
            return "smooth"
        return "convex" if self.angle_deg > 0 else "concave"

    def other(self, face: int) -> int:
        """The face across."""
        return self.two if face == self.one else self.one


def normal_at(face: Face, point: Floats) -> Floats | None:
    """Outward unit normal of a face at a point on it; None where its form does not tell, or at a pole."""
    if face.normal is not None:
        return np.array(face.normal)
    if face.axis_point is None or face.radius is None or face.kind == "other":
        return None
    away = point - np.array(face.axis_point)
    if face.kind == "sphere":
        out = away
    else:
        axis = np.array(face.axis)
        radial = away - (away @ axis) * axis
        length = float(np.linalg.norm(radial))
        if length < 1e-9:
            return None
        radial = radial / length
        if face.kind == "cone":
            half = np.radians(face.half_angle_deg or 0.0)
            out = np.cos(half) * radial - np.sin(half) * axis
        elif face.kind == "torus":
            out = away - face.radius * radial
        else:
            out = radial
    length = float(np.linalg.norm(out))
    if length < 1e-9:
        return None
    return np.asarray(out / length * (-1.0 if face.hollow else 1.0))


def adjacency(model: PartModel) -> list[Adjacent]:
    """Every edge between two different faces, with how the material folds there."""
    part = model.part
    uses: dict[int, list[tuple[int, bool]]] = {}
    for face in part.faces:
        for loop in face.loops:
            for number in loop:
                uses.setdefault(edge_number(number), []).append((face.number, number >= 0))
    shown = _Shown(model)
    out = []
    for number, sides in uses.items():
        points = np.array(part.edges[number].points, float)
        if len(sides) != 2 or sides[0][0] == sides[1][0] or len(points) < 2:
            continue
        (one, forward), (two, _) = sides
        at = (len(points) - 1) // 2
        middle, way = (points[at] + points[at + 1]) / 2, points[at + 1] - points[at]
        if len(points) > 2:  # on a curve the point itself lies on both faces, the middle of a chord does not
            middle = points[at]
            way = points[at + 1] - points[max(0, at - 1)]
        normals = [normal_at(part.faces[f], middle) for f in (one, two)]
        first, second = (
            n if n is not None else shown.normal(f, middle) for n, f in zip(normals, (one, two), strict=True)
        )
        angle = np.degrees(np.arccos(np.clip(first @ second, -1, 1)))
        turn = np.cross(first, second) @ (way if forward else -way)
        out.append(
            Adjacent(number, one, two, float(angle if turn > 0 else -angle), part.edges[number].length)
        )
    return out


class _Shown:
    """Normals as the mesh has them, for faces whose form does not tell."""

    def __init__(self, model: PartModel) -> None:
        self.mesh = model.mesh
        self.centres: Floats | None = None

    def normal(self, face: int, point: Floats) -> Floats:
        if self.centres is None:
            self.centres = self.mesh.vertices[self.mesh.triangles].mean(axis=1)
            self.normals = triangle_normals(self.mesh)
        own = np.flatnonzero(self.mesh.label == face)
        if len(own) == 0:
            return np.array([0.0, 0.0, 1.0])
        nearest = own[np.argmin(np.linalg.norm(self.centres[own] - point, axis=1))]
        return np.asarray(self.normals[nearest])
