"""Which hollow cylinders of a part go all the way round?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh, corners_by_label
from pelvrak.core.geometry.part import SAME_PLACE_MM, Face, Hole, as_vector
from pelvrak.core.geometry.visibility import Caster


def bores(faces: list[Face], mesh: Mesh) -> list[Hole]:
    """Hollow cylinders that go all the way round, pieces of one cylinder taken together. mesh: labelled by
    face.
    """
    corners = corners_by_label(mesh, len(faces))
    found = [one for group in _groups(faces) for one in _stretches(group, corners)]
    if not found:
        return []
    axes = [np.array(stretch[0].axis) for stretch, _, _ in found]
    middles = [((start + end) / 2)[None] for _, start, end in found]
    caster = Caster(mesh)
    up, down = caster.each(middles, axes), caster.each(middles, [-axis for axis in axes])
    return [
        Hole(
            faces=tuple(f.number for f in stretch),
            diameter=2 * (stretch[0].radius or 0.0),
            axis=stretch[0].axis or (0, 0, 1),
            start=as_vector(start),
            end=as_vector(end),
            through=bool(np.isinf(above[0]) and np.isinf(below[0])),
        )
        for (stretch, start, end), above, below in zip(found, up, down, strict=True)
    ]


def _groups(faces: list[Face]) -> list[list[Face]]:
    """Hollow cylinder faces by the endless cylinder they lie on."""
    hollow = [face for face in faces if face.kind == "cylinder" and face.hollow]
    axes, points = (
        np.array([f.axis for f in hollow]).reshape(-1, 3),
        np.array([f.axis_point for f in hollow]).reshape(-1, 3),
    )
    radii = np.array([f.radius for f in hollow], float)
    # Forms found in a mesh are known only as well as they fit it.
    slack = 2 * np.array([f.fit_error_mm or 0.0 for f in hollow], float)
    free, out = np.ones(len(hollow), bool), []
    for i in range(len(hollow)):
        if not free[i]:
            continue
        loose = slack + slack[i]
        apart = np.linalg.norm(np.cross(points - points[i], axes[i]), axis=1)
        same = free & (np.abs(radii - radii[i]) <= 1e-6 + loose) & (apart < 1e-6 + loose)
        same &= np.abs(np.abs(axes @ axes[i]) - 1) <= 1e-9 + loose
        free &= ~same
        out.append([hollow[k] for k in np.flatnonzero(same)])
    return out


def _stretches(group: list[Face], corners: list[Floats]) -> list[tuple[list[Face], Floats, Floats]]:
    """Each stretch of one endless cylinder that goes all the way round: its faces and both ends on its
    axis.
    """
    axis, point = np.array(group[0].axis), np.array(group[0].axis_point)
    spans = []
    for face in group:
        along = (corners[face.number] - point) @ axis
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
    return [
        (own, point + low * axis, point + high * axis)
        for low, high, own in stretches
        if sum(face.turn_deg or 0 for face in own) >= 359.9
    ]
