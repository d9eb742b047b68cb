"""How does the work lie in the machine, and where is work zero?"""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import EdgeRef, FaceRef, Frozen, Hole, Part, Vector, edge_of, face_of
from pelvrak.core.geometry.rigid import Floats, rigid, rotation_about_z, snapped

Side = Literal[-1, 0, 1]
Component = Annotated[float, Field(ge=-1e6, le=1e6)]


class UpByDirection(Frozen):
    """Up is a direction of the part's own frame; (0, 0, 1) is as modelled."""

    rule: Literal["direction"] = "direction"
    direction: tuple[Component, Component, Component] = (0.0, 0.0, 1.0)

    @model_validator(mode="after")
    def _has_length(self) -> UpByDirection:
        if np.linalg.norm(self.direction) < 1e-9:
            raise ValueError("an up direction needs a length: give at least one component other than 0")
        return self


class UpByFace(Frozen):
    """Up is the way a plane face looks."""

    rule: Literal["face"] = "face"
    face: FaceRef


class XByTurn(Frozen):
    """The part's x (or y, when x stands upright), turned by quarter turns seen from above."""

    rule: Literal["turn"] = "turn"
    quarter_turns: Annotated[int, Field(ge=0, le=3)] = 0


class XByEdge(Frozen):
    """X lies along a straight edge."""

    rule: Literal["edge"] = "edge"
    edge: EdgeRef


class Zero(Frozen):
    """Work zero: a place on a box, or over a hole.

    of: whose box; "hole" takes x and y from the axis of a hole and the height from the incoming stock.
    x, y, z: -1 low side, 0 middle, 1 high side, seen in the setup.
    """

    of: Literal["billet", "part", "incoming", "hole"] = "incoming"
    x: Side = 0
    y: Side = 0
    z: Side = 1
    hole: FaceRef | None = None

    @model_validator(mode="after")
    def _names_its_hole(self) -> Zero:
        if (self.of == "hole") != (self.hole is not None):
            raise ValueError("a zero over a hole needs the hole's face, and only that kind takes one")
        return self


class Seat(Frozen):
    """Which way is up, which way is X, and where zero is."""

    up: Annotated[UpByDirection | UpByFace, Field(discriminator="rule")] = UpByDirection()
    flip: bool = False
    x: Annotated[XByTurn | XByEdge, Field(discriminator="rule")] = XByTurn()
    zero: Zero = Zero()


def lay(seat: Seat, part: Part) -> Floats:
    """Rotation (3×3) that takes work directions to setup directions: rows are setup x, y, z in the work frame.

    Raises BadInput when the picked face is not plane or the picked edge cannot be X.
    """
    if isinstance(seat.up, UpByFace):
        face = face_of(part, seat.up.face, "seat.up")
        if face.normal is None:
            raise BadInput("seat.up_not_plane", "seat.up", f"face {face.number} is not plane", "pick a plane face")
        up = np.array(face.normal)
    else:
        up = np.array(seat.up.direction, float)
    up = up / np.linalg.norm(up)
    base = np.eye(3)[0] if abs(up[0]) < 0.9 else np.eye(3)[1]
    if isinstance(seat.x, XByEdge):
        edge = edge_of(part, seat.x.edge, "seat.x")
        if edge.direction is None:
            raise BadInput(
                "seat.x_not_straight", "seat.x", f"edge {edge.number} is not straight", "pick a straight edge"
            )
        base = np.array(edge.direction)
    x = base - (base @ up) * up
    if np.linalg.norm(x) < 1e-6:
        raise BadInput("seat.x_upright", "seat.x", "the edge for X stands upright", "pick an edge square to up")
    x = x / np.linalg.norm(x)
    rows = np.array([x, np.cross(up, x), up])
    if isinstance(seat.x, XByTurn):
        rows = rotation_about_z(90.0 * seat.x.quarter_turns) @ rows
    if seat.flip:
        rows = np.diag([1.0, -1.0, -1.0]) @ rows
    return snapped(rows)


def hole_with(part: Part, ref: FaceRef, where: str) -> Hole:
    """The hole a picked face belongs to. Raises BadInput when it belongs to none."""
    face = face_of(part, ref, where)
    for hole in part.holes:
        if face.number in hole.faces:
            return hole
    raise BadInput(
        "part.not_a_hole", where, f"face {face.number} is not the wall of a round hole", "pick a hole's wall"
    )


def seat_work(seat: Seat, part: Part, boxes: dict[str, tuple[Vector, Vector]], rotation: Floats) -> Floats:
    """zero_from_work, 4×4. boxes: (low, high) of "billet", "part" and "incoming" in setup directions, mm."""
    zero = seat.zero
    if zero.of == "hole":
        assert zero.hole is not None
        hole = hole_with(part, zero.hole, "seat.zero")
        axis = rotation @ np.array(hole.axis)
        if abs(abs(axis[2]) - 1) > 1e-6:
            raise BadInput(
                "seat.hole_not_upright", "seat.zero", "the hole does not stand upright in this setup", "pick another"
            )
        low, high = boxes["incoming"]
        origin = rotation @ np.array(hole.start)
        origin[2] = (low[2], (low[2] + high[2]) / 2, high[2])[zero.z + 1]
    else:
        low, high = boxes[zero.of]
        origin = np.array(
            [(low[d], (low[d] + high[d]) / 2, high[d])[side + 1] for d, side in enumerate((zero.x, zero.y, zero.z))]
        )
    return rigid(rotation, -origin)
