"""Which hollow cylinders of a part go all the way round?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.geometry.part import SAME_PLACE_MM, Face, Hole, as_vector


def bores(faces: list[Face], mesh: Mesh) -> list[Hole]:
    """Hollow cylinders that go all the way round, pieces of one cylinder taken together. mesh: labelled by face."""
    groups: list[list[Face]] = []
    for face in faces:
        if face.kind != "cylinder" or not face.hollow:
            continue
        for group in groups:
            if _same_cylinder(face, group[0]):
                group.append(face)
                break
        else:
            groups.append([face])
    return [hole for group in groups for hole in _stretches(group, mesh)]


def _stretches(group: list[Face], mesh: Mesh) -> list[Hole]:
    """The faces of one endless cylinder as holes: each stretch of it that goes all the way round."""
    first = group[0]
    assert first.axis and first.axis_point and first.radius
    axis, point = np.array(first.axis), np.array(first.axis_point)
    spans = []
    for face in group:
        along = (mesh.vertices[mesh.triangles[mesh.label == face.number]] - point) @ axis
        if along.size:
            spans.append((float(along.min()), float(along.max()), face))
    spans.sort(key=lambda span: span[0])
    stretches: list[tuple[float, float, list[Face]]] = []
    for low, high, face in spans:
        if stretches and low < stretches[-1][1] + SAME_PLACE_MM:
            before = stretches[-1]
            stretches[-1] = (before[0], max(before[1], high), [*before[2], face])
        else:
            stretches.append((low, high, [face]))
    holes = []
    for low, high, faces in stretches:
        if sum(face.turn_deg or 0 for face in faces) < 359.9:
            continue
        start, end = point + low * axis, point + high * axis
        holes.append(
            Hole(
                faces=tuple(f.number for f in faces), diameter=2 * first.radius, axis=first.axis,
                start=as_vector(start), end=as_vector(end), through=not _meets(mesh, start, axis),
            )
        )  # fmt: skip
    return holes


def _same_cylinder(one: Face, two: Face) -> bool:
    assert one.axis and two.axis and one.axis_point and two.axis_point and one.radius and two.radius
    # Forms found in a mesh are known only as well as they fit it.
    slack = 2 * ((one.fit_error_mm or 0.0) + (two.fit_error_mm or 0.0))
    if abs(one.radius - two.radius) > 1e-6 + slack or abs(abs(np.dot(one.axis, two.axis)) - 1) > 1e-9 + slack:
        return False
    apart = np.subtract(one.axis_point, two.axis_point)
    return bool(np.linalg.norm(np.cross(apart, one.axis)) < 1e-6 + slack)


def _meets(mesh: Mesh, point: np.ndarray, axis: np.ndarray) -> bool:
    """Whether the endless line through a point meets the mesh."""
    across = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    across /= np.linalg.norm(across)
    flat = (mesh.vertices - point) @ np.array([across, np.cross(axis, across)]).T
    a, b, c = (flat[mesh.triangles[:, i]] for i in range(3))

    def side(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        return np.asarray(p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0])

    sides = np.stack([side(a, b), side(b, c), side(c, a)])
    return bool(((sides > 1e-9).all(axis=0) | (sides < -1e-9).all(axis=0)).any())
