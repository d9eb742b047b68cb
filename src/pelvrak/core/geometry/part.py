"""What is known of the finished part: its faces, edges, holes, size and volume?"""

from __future__ import annotations

import io
import re
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import zip_longest
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh

Vector = tuple[float, float, float]
FaceKind = Literal["plane", "cylinder", "cone", "sphere", "torus", "other"]
EdgeKind = Literal["line", "circle", "other"]

SAME_PLACE_MM = 1e-3


def as_vector(numbers: Iterable[float]) -> Vector:
    """Three numbers of any kind as plain floats."""
    x, y, z = numbers
    return (float(x), float(y), float(z))


class Frozen(BaseModel):
    """A value that is not changed after it was made.

    What a class's docstring says of a field ("axis, radius: of cylinders, mm") is the field's description in
    the JSON Schema.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        schema = handler(core)
        own = handler.resolve_ref_schema(schema)
        said = said_of_fields(cls)
        for name, field in own.get("properties", {}).items():
            if "description" not in field and name in said:
                field["description"] = said[name]
        return schema


def said_of_fields(model: type[BaseModel]) -> dict[str, str]:
    """What the docstrings of a class and of those it comes from say of each field."""
    out: dict[str, str] = {}
    for one in reversed(model.__mro__):
        if (
            not (isinstance(one, type) and issubclass(one, BaseModel))
            or not one.__doc__
            or not one.model_fields
        ):
            continue
        text = " ".join(one.__doc__.split())
        field = "|".join(sorted(one.model_fields, key=len, reverse=True))
        heads = list(re.finditer(rf"(?:^|(?<=[.;] ))((?:{field})(?:(?:, | and )(?:{field}))*): ", text))
        for head, following in zip_longest(heads, heads[1:]):
            meaning = text[head.end() : following.start() if following else None].strip(" .;")
            out |= dict.fromkeys(re.split(", | and ", head[1]), meaning)
    return out


def edge_number(walked: int) -> int:
    """The number of an edge as a loop names it: -(number + 1) where it is walked backwards."""
    return walked if walked >= 0 else -walked - 1


class Face(Frozen):
    """One face of the part; lengths mm, area mm².

    normal: outward, planes only. axis, axis_point, radius: cylinders, cones (radius at the axis
    point), tori (of the ring; minor_radius of the tube) and spheres (axis_point is the centre).
    half_angle_deg: of a cone, above 0 where it widens along its axis. hollow: the material lies outside
    the curve, as in a hole. turn_deg: how far round its axis the face goes. loops: edge numbers of each
    boundary, outer first, -(number + 1) where walked backwards. fit_error_mm: greatest distance of the
    file's surface from the stated form, for faces found in a mesh.
    """

    number: int
    kind: FaceKind
    area: float
    centre: Vector
    low: Vector
    high: Vector
    normal: Vector | None = None
    axis: Vector | None = None
    axis_point: Vector | None = None
    radius: float | None = None
    minor_radius: float | None = None
    half_angle_deg: float | None = None
    hollow: bool = False
    turn_deg: float | None = None
    fit_error_mm: float | None = None
    loops: tuple[tuple[int, ...], ...] = ()

    @property
    def edges(self) -> tuple[int, ...]:
        """The numbers of its edges, each once, in the order of its loops."""
        return tuple(dict.fromkeys(edge_number(walked) for loop in self.loops for walked in loop))


class Edge(Frozen):
    """One edge: points (mm) within the reading deflection of the true curve, in order."""

    number: int
    kind: EdgeKind
    length: float
    points: tuple[Vector, ...]
    direction: Vector | None = None
    centre: Vector | None = None
    radius: float | None = None


class Hole(Frozen):
    """A round hollow that goes all the way round: one cylinder of it.

    axis: unit vector; start and end: the two ends of the cylinder on its axis, mm.
    """

    faces: tuple[int, ...]
    diameter: float
    axis: Vector
    start: Vector
    end: Vector
    through: bool


# What a part's unit is called where its file says none: it is taken as mm.
UNKNOWN_UNIT = "unknown"


class FileCallout(Frozen):
    """A tolerance that a part file carries. face: by its number; text: as it is written on a drawing."""

    face: int
    text: str


class Part(Frozen):
    """The facts of a part file; sha256: of its bytes; unit: it was written in, UNKNOWN_UNIT where it says
    none; callouts: tolerances it carries; stray_callouts: those that belong to none of its faces; pieces:
    the names of like ones that it consists of, the faces of each in a row.
    """

    sha256: str
    unit: str
    low: Vector
    high: Vector
    volume_mm3: float
    area_mm2: float
    faces: tuple[Face, ...]
    edges: tuple[Edge, ...]
    holes: tuple[Hole, ...]
    callouts: tuple[FileCallout, ...] = ()
    stray_callouts: tuple[str, ...] = ()
    pieces: tuple[str, ...] = ()

    @property
    def size(self) -> Vector:
        return (self.high[0] - self.low[0], self.high[1] - self.low[1], self.high[2] - self.low[2])


class FaceRef(Frozen):
    """A face the plan points at: its number and where it was when picked (mm).

    face: its number in the part; at: its middle when it was picked, mm, by which it is found again.
    """

    face: int
    at: Vector


class EdgeRef(Frozen):
    """An edge the plan points at: its number and where its middle was when picked (mm).

    edge: its number in the part; at: its middle when it was picked, mm, by which it is found again.
    """

    edge: int
    at: Vector


@dataclass(frozen=True)
class PartModel:
    """The facts and the mesh of a part; mesh labels are face numbers."""

    part: Part
    mesh: Mesh


def face_of(part: Part, ref: FaceRef, where: str) -> Face:
    """The face a reference means. Raises BadInput when it is not where it was picked."""
    if 0 <= ref.face < len(part.faces):
        face = part.faces[ref.face]
        if np.linalg.norm(np.subtract(face.centre, ref.at)) <= SAME_PLACE_MM:
            return face
    raise BadInput(
        "part.face_lost",
        where,
        f"face {ref.face} is not at {tuple(round(x, 2) for x in ref.at)} in this part",
        "pick the face again",
    )


def edge_of(part: Part, ref: EdgeRef, where: str) -> Edge:
    """The edge a reference means. Raises BadInput when it is not where it was picked."""
    if 0 <= ref.edge < len(part.edges):
        edge = part.edges[ref.edge]
        if np.linalg.norm(np.subtract(middle_of(edge), ref.at)) <= SAME_PLACE_MM:
            return edge
    raise BadInput(
        "part.edge_lost",
        where,
        f"edge {ref.edge} is not at {tuple(round(x, 2) for x in ref.at)} in this part",
        "pick the edge again",
    )


def middle_of(edge: Edge) -> Vector:
    """Mean of an edge's points: where a pick of it is remembered."""
    return as_vector(np.mean(edge.points, axis=0))


def ref_to(face: Face) -> FaceRef:
    """A reference to a face as it lies now."""
    return FaceRef(face=face.number, at=face.centre)


def packed(model: PartModel) -> bytes:
    """The model as bytes; `unpacked` gives it back."""
    out = io.BytesIO()
    np.savez(  # stores compress what they keep
        out,
        part=np.frombuffer(model.part.model_dump_json().encode(), np.uint8),
        vertices=model.mesh.vertices,
        triangles=model.mesh.triangles.astype(np.int32),
        label=model.mesh.label.astype(np.int32),
    )
    return out.getvalue()


def unpacked(data: bytes) -> PartModel:
    """The model that `packed` wrote."""
    with np.load(io.BytesIO(data)) as arrays:
        part = Part.model_validate_json(arrays["part"].tobytes())
        mesh = Mesh(
            arrays["vertices"], arrays["triangles"].astype(np.int64), arrays["label"].astype(np.int64)
        )
        return PartModel(part, mesh)
