"""How does the work lie in the machine, and where is work zero?"""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import EdgeRef, Face, FaceRef, Frozen, Part, Vector, edge_of, face_of
from pelvrak.core.geometry.rigid import Floats, rigid, rotation_about_z, snapped
from pelvrak.core.machine.machine import Register

Side = Literal[-1, 0, 1]
Component = Annotated[float, Field(ge=-1e6, le=1e6)]
Length = Annotated[float, Field(ge=-2000, le=2000)]
Boxes = dict[str, tuple[Vector, Vector]]


class UpByDirection(Frozen):
    """Up is a direction of the part's own frame; (0, 0, 1) is as modelled.

    direction: that then looks up.
    """

    rule: Literal["direction"] = "direction"
    direction: tuple[Component, Component, Component] = (0.0, 0.0, 1.0)

    @model_validator(mode="after")
    def _has_length(self) -> UpByDirection:
        if np.linalg.norm(self.direction) < 1e-9:
            raise ValueError("an up direction needs a length: give at least one component other than 0")
        return self


class UpByFace(Frozen):
    """Up is the way a plane face looks, or the axis of a round one.

    face: that then looks up.
    """

    rule: Literal["face"] = "face"
    face: FaceRef


class UpByEdge(Frozen):
    """Up is along a straight edge, or square to a round one.

    edge: that then stands upright.
    """

    rule: Literal["edge"] = "edge"
    edge: EdgeRef


class XByTurn(Frozen):
    """The part's x (or y, when x stands upright), turned by quarter turns seen from above.

    quarter_turns: anticlockwise, seen from above.
    """

    rule: Literal["turn"] = "turn"
    quarter_turns: Annotated[int, Field(ge=0, le=3)] = 0


class XByEdge(Frozen):
    """X lies along a straight edge.

    edge: that lies along X.
    """

    rule: Literal["edge"] = "edge"
    edge: EdgeRef


class XByFace(Frozen):
    """X is the way a plane face looks, seen from above.

    face: that looks along X.
    """

    rule: Literal["face"] = "face"
    face: FaceRef


class XByHoles(Frozen):
    """X goes from the axis of one round face to that of another.

    first, second: round faces, from and to.
    """

    rule: Literal["holes"] = "holes"
    first: FaceRef
    second: FaceRef


ZeroOf = Literal[
    "billet", "part", "incoming", "hole", "faces", "vertex", "rim", "holding", "jaws", "piece", "several"
]
# What the box of a piece of the holding is kept under, with the item's id.
PIECE = "piece:"


class AxisFrom(Frozen):
    """What gives a zero some of its axes.

    axes: those; zero: the place they are taken from.
    """

    axes: Annotated[tuple[Literal["x", "y", "z"], ...], Field(min_length=1, max_length=3)]
    zero: Zero

    @model_validator(mode="after")
    def _is_one_thing(self) -> AxisFrom:
        if self.zero.of == "several":
            raise ValueError("what gives an axis is one thing, and not several again")
        return self


class Zero(Frozen):
    """Where zero is.

    of: whose box; "hole", a hole's or boss's axis; "faces", where one to three plane faces meet;
    "vertex", an end of an edge; "rim", the middle of a round edge, in its plane; "holding", the fixed jaw,
    which stays when the work changes; "jaws", the room between both; "piece", an item of the holding, as a
    pin; "several", each axis from a thing of its own. What those leave open is taken from the incoming
    stock's box (of the jaw, for "holding").
    x, y, z: -1 low side, 0 middle, 1 high side, seen in the setup. For "holding": x along the jaw, z -1 what
    the work rests on, 1 the jaw's top. offset: from there, along the setup's axes, mm.
    hole: the round face, for "hole"; faces: the planes that meet, for "faces"; edge, end: the edge and which
    of its ends, for "vertex", the round edge, for "rim"; item: of the holding, for "piece"; parts: for
    "several".
    """

    of: ZeroOf = "incoming"
    x: Side = 0
    y: Side = 0
    z: Side = 1
    hole: FaceRef | None = None
    faces: Annotated[tuple[FaceRef, ...], Field(max_length=3)] = ()
    edge: EdgeRef | None = None
    end: Literal[0, 1] = 0
    item: Annotated[str, Field(max_length=40)] = ""
    parts: Annotated[tuple[AxisFrom, ...], Field(max_length=3)] = ()
    offset: tuple[Length, Length, Length] = (0.0, 0.0, 0.0)

    @model_validator(mode="after")
    def _names_what_it_is_on(self) -> Zero:
        if (self.of == "hole") != (self.hole is not None):
            raise ValueError("a zero over a hole needs the hole's face, and only that kind takes one")
        if (self.of == "faces") != bool(self.faces):
            raise ValueError(
                "a zero where faces meet needs one to three faces, and only that kind takes them"
            )
        if (self.of in ("vertex", "rim")) != (self.edge is not None):
            raise ValueError("a zero on a corner or a rim needs the edge, and only those kinds take one")
        if (self.of == "piece") != bool(self.item):
            raise ValueError("a zero on a piece of the holding needs its item, and only that kind takes one")
        if (self.of == "several") != bool(self.parts):
            raise ValueError("a zero of several things needs them, and only that kind takes them")
        given = [axis for part in self.parts for axis in part.axes]
        if self.parts and sorted(given) != ["x", "y", "z"]:
            raise ValueError("each of X, Y and Z is given once: say for each axis what it is taken from")
        return self


AxisFrom.model_rebuild()

FoundBy = Literal["fixed point", "edge", "probe", "by hand"]


class Found(Frozen):
    """How a zero is found on the machine.

    by: None: as what it stands on says; in_register: a known one, in which edge finder or probe is driven;
    before: the id of the operation before which the program finds it, None: before the program starts; value:
    X, Y and Z as they were set by hand, machine coordinates, mm.
    """

    by: FoundBy | None = None
    in_register: Register | None = None
    before: Annotated[str, Field(min_length=1, max_length=40)] | None = None
    value: tuple[Component, Component, Component] | None = None


class NamedZero(Frozen):
    """A further zero of a setup, kept in its own register.

    name: what it is called; offset_register: it is kept in; zero: where it is; found: how the operator finds
    it.
    """

    name: Annotated[str, Field(pattern="^[^\\n]{1,40}$")]
    offset_register: Register = "G55"
    zero: Zero = Zero()
    found: Found = Found()


class Seat(Frozen):
    """Which way is up, which way is X, and where zero is.

    flip: turned over about the machine's X, after the quarter turns of `x`; turn_deg: the work turned
    further, seen from above, after all that. up: what looks up; x: what lies along X; zero: where the setup
    counts from; found: how the operator finds it; zeros: further ones, each in a register of its own.
    """

    up: Annotated[UpByDirection | UpByFace | UpByEdge, Field(discriminator="rule")] = UpByDirection()
    flip: bool = False
    x: Annotated[XByTurn | XByEdge | XByFace | XByHoles, Field(discriminator="rule")] = XByTurn()
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    zero: Zero = Zero()
    found: Found = Found()
    zeros: Annotated[tuple[NamedZero, ...], Field(max_length=20)] = ()

    @model_validator(mode="after")
    def _zeros_are_told_apart(self) -> Seat:
        names = [one.name for one in self.zeros]
        if len(set(names)) != len(names):
            raise ValueError("two zeros of one setup share a name: give each its own")
        return self


def _unit(way: Floats) -> Floats:
    return np.asarray(way / np.linalg.norm(way))


def _up(seat: Seat, part: Part) -> Floats:
    if isinstance(seat.up, UpByFace):
        face = face_of(part, seat.up.face, "seat.up")
        way = face.normal or face.axis
        if way is None:
            raise BadInput(
                "seat.up_not_plane",
                "seat.up",
                f"face {face.number} ({face.kind}) is neither plane nor round about an axis",
                "pick a plane face, a hole or a shaft",
            )
        return np.array(way)
    if isinstance(seat.up, UpByEdge):
        edge = edge_of(part, seat.up.edge, "seat.up")
        if edge.direction is not None:
            return np.array(edge.direction)
        if edge.kind == "circle" and len(edge.points) >= 3:
            a, b, c = (
                np.array(edge.points[i]) for i in (0, len(edge.points) // 3, 2 * len(edge.points) // 3)
            )
            return np.cross(b - a, c - a)
        raise BadInput(
            "seat.up_no_way",
            "seat.up",
            f"edge {edge.number} is neither straight nor round",
            "pick another edge",
        )
    return np.array(seat.up.direction, float)


def _x(seat: Seat, part: Part, up: Floats) -> tuple[Floats, str]:
    """A direction for X, not yet square to up, and what it is called."""
    x = seat.x
    if isinstance(x, XByEdge):
        edge = edge_of(part, x.edge, "seat.x")
        if edge.direction is None:
            raise BadInput(
                "seat.x_not_straight", "seat.x", f"edge {edge.number} is not straight", "pick a straight edge"
            )
        return np.array(edge.direction), "the edge"
    if isinstance(x, XByFace):
        face = face_of(part, x.face, "seat.x")
        if face.normal is None:
            raise BadInput(
                "seat.x_not_plane", "seat.x", f"face {face.number} is not plane", "pick a plane face"
            )
        return np.array(face.normal), "the face"
    if isinstance(x, XByHoles):
        first, second = (axis_of(part, ref, "seat.x") for ref in (x.first, x.second))
        assert first.axis_point and second.axis_point
        way = np.subtract(second.axis_point, first.axis_point)
        if np.linalg.norm(way - (way @ up) * up) < 1e-3:
            raise BadInput(
                "seat.x_same_hole",
                "seat.x",
                "both holes lie on one upright line",
                "pick two holes apart from each other",
            )
        return way, "the line"
    return (np.eye(3)[0] if abs(up[0]) < 0.9 else np.eye(3)[1]), "the part's x"


def lay(seat: Seat, part: Part) -> Floats:
    """Rotation (3×3) that takes work directions to setup directions: rows are setup x, y, z in the work
    frame.

    Raises BadInput when what was picked cannot be up or X.
    """
    up = _unit(_up(seat, part))
    base, called = _x(seat, part, up)
    x = base - (base @ up) * up
    if np.linalg.norm(x) < 1e-6 * max(1.0, float(np.linalg.norm(base))):
        raise BadInput(
            "seat.x_upright", "seat.x", f"{called} for X stands upright", "pick one that lies square to up"
        )
    x = _unit(x)
    rows = np.array([x, np.cross(up, x), up])
    quarter = 90.0 * seat.x.quarter_turns if isinstance(seat.x, XByTurn) else 0.0
    rows = rotation_about_z(quarter) @ rows
    if seat.flip:
        rows = np.diag([1.0, -1.0, -1.0]) @ rows
    # Turned from above, whichever side is up.
    return snapped(rotation_about_z(seat.turn_deg) @ rows)


def axis_of(part: Part, ref: FaceRef, where: str) -> Face:
    """A round face with an axis. Raises BadInput when the picked face has none."""
    face = face_of(part, ref, where)
    if face.kind not in ("cylinder", "cone") or face.axis is None or face.axis_point is None:
        raise BadInput(
            "part.not_a_hole",
            where,
            f"face {face.number} ({face.kind}) has no axis",
            "pick the wall of a round hole or boss",
        )
    return face


def _on_box(zero: Zero, low: Vector, high: Vector) -> Floats:
    return np.array(
        [
            (low[d], (low[d] + high[d]) / 2, high[d])[side + 1]
            for d, side in enumerate((zero.x, zero.y, zero.z))
        ]
    )


def zero_place(zero: Zero, part: Part, boxes: Boxes, rotation: Floats) -> Floats:
    """Zero in setup directions (the work frame turned by `rotation`), mm.

    boxes: (low, high) of "billet", "part", "incoming" and, where something holds the work, "jaw": the fixed
    jaw's face, from what the work rests on to its top. Raises BadInput where zero cannot be there.
    """
    offset: Floats = np.array(zero.offset, float)
    if zero.of == "holding":
        if "jaw" not in boxes:
            raise BadInput(
                "seat.zero_no_jaw",
                "seat.zero",
                "nothing holds the work, so there is no fixed jaw",
                "choose a vise first",
            )
        return _on_box(zero, *boxes["jaw"]) + offset
    if zero.of in ("jaws", "piece"):
        name = "jaws" if zero.of == "jaws" else PIECE + zero.item
        if name not in boxes:
            what = "no two jaws" if zero.of == "jaws" else f"no {zero.item!r}"
            raise BadInput(
                "seat.zero_no_piece",
                "seat.zero",
                f"there are {what} in this holding"
                if zero.of == "jaws"
                else f"there is {what} in this holding",
                "choose another place for zero, or put it into the holding",
            )
        return _on_box(zero, *boxes[name]) + offset
    if zero.of == "several":
        return _each_axis(zero, part, boxes, rotation) + offset
    if zero.of in ("billet", "part", "incoming"):
        return _on_box(zero, *boxes[zero.of]) + offset
    place = _on_box(zero, *boxes["incoming"])
    if zero.of == "hole":
        assert zero.hole is not None
        face = axis_of(part, zero.hole, "seat.zero")
        assert face.axis and face.axis_point
        if abs(abs((rotation @ np.array(face.axis))[2]) - 1) > 1e-6:
            raise BadInput(
                "seat.hole_not_upright",
                "seat.zero",
                "the hole does not stand upright in this setup",
                "pick another",
            )
        place[:2] = (rotation @ np.array(face.axis_point))[:2]
    elif zero.of == "vertex":
        assert zero.edge is not None
        points = edge_of(part, zero.edge, "seat.zero").points
        place = rotation @ np.array(points[-1 if zero.end else 0])
    elif zero.of == "rim":
        assert zero.edge is not None
        place = rotation @ rim_middle(part, zero.edge)
    elif zero.of == "faces":
        place = _where_faces_meet([face_of(part, ref, "seat.zero") for ref in zero.faces], rotation, place)
    return place + offset


def _each_axis(zero: Zero, part: Part, boxes: Boxes, rotation: Floats) -> Floats:
    """Each axis from the thing that gives it."""
    place = np.zeros(3)
    for one in zero.parts:
        there = zero_place(one.zero, part, boxes, rotation)
        for axis in one.axes:
            place["xyz".index(axis)] = there["xyz".index(axis)]
    return place


def rim_middle(part: Part, ref: EdgeRef) -> Floats:
    """The middle of a round edge, work frame. Raises BadInput for one that is not round."""
    edge = edge_of(part, ref, "seat.zero")
    if edge.kind != "circle" or edge.centre is None:
        raise BadInput(
            "seat.zero_not_round", "seat.zero", f"edge {edge.number} is not round", "pick the rim of a hole"
        )
    return np.array(edge.centre)


def _where_faces_meet(faces: list[Face], rotation: Floats, place: Floats) -> Floats:
    """The point on all the planes that lies nearest to `place`; setup directions."""
    for face in faces:
        if face.normal is None:
            raise BadInput(
                "seat.zero_not_plane", "seat.zero", f"face {face.number} is not plane", "pick plane faces"
            )
    normals = np.array([rotation @ np.array(face.normal) for face in faces])
    level = np.array(
        [normal @ (rotation @ np.array(face.centre)) for normal, face in zip(normals, faces, strict=True)]
    )
    if np.linalg.matrix_rank(normals, tol=1e-3) < len(faces):
        raise BadInput(
            "seat.zero_parallel",
            "seat.zero",
            "two of the faces are parallel and never meet",
            "pick faces that meet",
        )
    return np.asarray(place + np.linalg.pinv(normals) @ (level - normals @ place))


def seat_work(zero: Zero, part: Part, boxes: Boxes, rotation: Floats) -> Floats:
    """zero_from_work, 4×4, for a zero as in `zero_place`."""
    return rigid(rotation, -zero_place(zero, part, boxes, rotation))
