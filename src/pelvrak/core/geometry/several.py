"""How do several pieces of one part look as one part? Its faces, edges and holes once for each of them."""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, Mesh, box_corners
from pelvrak.core.geometry.part import (
    Edge,
    Face,
    FileCallout,
    Hole,
    PartModel,
    Vector,
    as_vector,
    edge_number,
)
from pelvrak.core.geometry.rigid import moved, turned


def together(model: PartModel, poses: dict[str, Floats]) -> PartModel:
    """Pieces of a part as one: face f of piece k has the number f + k × the part's faces, edges and holes
    likewise. poses: 4×4 of each from where the part lies, by its name, the first with it.
    """
    part = model.part
    faces, edges, holes, callouts, meshes = [], [], [], [], []
    for k, pose in enumerate(poses.values()):
        first_face, first_edge = k * len(part.faces), k * len(part.edges)
        faces += [_face(face, pose, first_face, first_edge) for face in part.faces]
        edges += [_edge(edge, pose, first_edge) for edge in part.edges]
        holes += [_hole(hole, pose, first_face) for hole in part.holes]
        callouts += [FileCallout(face=one.face + first_face, text=one.text) for one in part.callouts]
        meshes.append(
            Mesh(
                moved(pose, model.mesh.vertices),
                model.mesh.triangles + k * len(model.mesh.vertices),
                model.mesh.label + first_face,
            )
        )
    mesh = Mesh(
        np.concatenate([one.vertices for one in meshes]),
        np.concatenate([one.triangles for one in meshes]),
        np.concatenate([one.label for one in meshes]),
    )
    boxes = [box_of(model, pose) for pose in poses.values()]
    whole = part.model_copy(
        update={
            "low": as_vector(np.min([low for low, _ in boxes], axis=0)),
            "high": as_vector(np.max([high for _, high in boxes], axis=0)),
            "volume_mm3": part.volume_mm3 * len(poses),
            "area_mm2": part.area_mm2 * len(poses),
            "faces": tuple(faces),
            "edges": tuple(edges),
            "holes": tuple(holes),
            "callouts": tuple(callouts),
            "pieces": tuple(poses),
        }
    )
    return PartModel(whole, mesh)


def piece_mesh(model: PartModel, name: str) -> Mesh:
    """The surface of one of the pieces a part consists of."""
    each = len(model.part.faces) // len(model.part.pieces)
    own = model.mesh.label // each == model.part.pieces.index(name)
    return Mesh(model.mesh.vertices, model.mesh.triangles[own], model.mesh.label[own])


def box_of(model: PartModel, pose: Floats) -> tuple[Floats, Floats]:
    """The box of a piece, mm: of the part's exact one where it lies along the axes, else of its mesh."""
    square = np.allclose(np.abs(pose[:3, :3]).max(axis=1), 1.0, atol=1e-12)
    ends = moved(pose, np.array([model.part.low, model.part.high]) if square else model.mesh.vertices)
    return ends.min(axis=0), ends.max(axis=0)


def _at(pose: Floats, point: Vector | None) -> Vector | None:
    return None if point is None else as_vector(moved(pose, np.array(point)))


def _way(pose: Floats, way: Vector | None) -> Vector | None:
    return None if way is None else as_vector(turned(pose, np.array(way)))


def _face(face: Face, pose: Floats, first_face: int, first_edge: int) -> Face:
    ends = moved(pose, box_corners(face.low, face.high))
    return face.model_copy(
        update={
            "number": face.number + first_face,
            "centre": _at(pose, face.centre),
            "low": as_vector(ends.min(axis=0)),
            "high": as_vector(ends.max(axis=0)),
            "normal": _way(pose, face.normal),
            "axis": _way(pose, face.axis),
            "axis_point": _at(pose, face.axis_point),
            "loops": tuple(tuple(_walked(one, first_edge) for one in loop) for loop in face.loops),
        }
    )


def _walked(walked: int, first: int) -> int:
    """An edge of a loop, further on; walked backwards as before."""
    number = edge_number(walked) + first
    return number if walked >= 0 else -number - 1


def _edge(edge: Edge, pose: Floats, first: int) -> Edge:
    points = moved(pose, np.array(edge.points).reshape(-1, 3))
    return edge.model_copy(
        update={
            "number": edge.number + first,
            "points": tuple(as_vector(point) for point in points),
            "direction": _way(pose, edge.direction),
            "centre": _at(pose, edge.centre),
        }
    )


def _hole(hole: Hole, pose: Floats, first: int) -> Hole:
    return hole.model_copy(
        update={
            "faces": tuple(face + first for face in hole.faces),
            "axis": _way(pose, hole.axis),
            "start": _at(pose, hole.start),
            "end": _at(pose, hole.end),
        }
    )
