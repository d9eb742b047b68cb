"""An operation repeated at several positions: which of its faces are cut at which?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.regions import SQUARE_COS, heights_of
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face, FaceRef, Part, PartModel, face_of
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.geometry.visibility import Caster


def looks_up(part: Part, face: Face, zero_from_work: Floats, caster: Caster) -> bool:
    """Whether a face is cut from where the spindle looks: a plane looks up, a round wall stands upright and
    is open above.
    """
    if face.normal is not None:
        return bool(turned(zero_from_work, np.array(face.normal))[2] > SQUARE_COS)
    if face.axis is None or face.axis_point is None:
        return False
    if abs(turned(zero_from_work, np.array(face.axis))[2]) < SQUARE_COS:
        return False
    up = zero_from_work[2, :3]
    here = np.array(face.axis_point)
    low, high = heights_of(part, face, zero_from_work)
    middle = here + up * ((low + high) / 2 - float(moved(zero_from_work, here)[2]))
    return bool(np.isinf(caster.distance(middle[None], up)[0]))


def _cut_from(operation: Operation, part: Part, face: Face, plane: Floats, caster: Caster) -> bool:
    """Whether a face is cut in a plane: as its operation says, else as its form does."""
    own = operation.cut_from(part, face, plane)
    return looks_up(part, face, plane, caster) if own is None else own


# What is cut at each position, and the faces that are cut at none.
Shared = tuple[dict[str, Operation | None], tuple[FaceRef, ...]]


def shared_out(operation: Operation, planes: dict[str, Floats], part: PartModel) -> Shared:
    """The operation as it is cut at each position, None where nothing of it looks to the spindle, and the
    faces that do so nowhere.

    planes: 4×4 from the work, by position, in the order a face is taken: at the first where it looks up. An
    operation without faces is cut alike everywhere.
    """
    faces = operation.faces_told()
    if not faces:
        return dict.fromkeys(planes, operation), ()
    caster = Caster(part.mesh)
    mine: dict[str, list[FaceRef]] = {name: [] for name in planes}
    nowhere: list[FaceRef] = []
    for ref in faces:
        face = face_of(part.part, ref, operation.name)
        there = next(
            (name for name, plane in planes.items() if _cut_from(operation, part.part, face, plane, caster)),
            None,
        )
        (nowhere if there is None else mine[there]).append(ref)
    return {name: operation.of_faces(tuple(own)) if own else None for name, own in mine.items()}, tuple(
        nowhere
    )
