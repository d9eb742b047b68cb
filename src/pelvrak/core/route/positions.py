"""How is an index position of a setup said, and how does the work stand there?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef, Frozen, Part, Vector, as_vector, face_of
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.machine.index import UP, Ident, Turned, local_plane
from pelvrak.core.machine.kinematics import direction_of, home_angles, solve_direction
from pelvrak.core.machine.machine import AxisName, Machine, Register
from pelvrak.core.seat.seating import Boxes, Zero, zero_place


class IndexPosition(Frozen):
    """How the work is turned to the spindle for some operations; exactly one of direction, face and angles
    says it.

    direction: out of the work, towards the spindle, zero frame; face: a plane face that then looks up, or a
    round one whose axis then stands upright; angles: of the rotary axes, degrees. offset_register: None:
    given out. change: how the program comes here: it turns and goes on, or stops with a message so that the
    work is clamped anew. zero: of its own, as it then lies to the spindle; None: the setup's. name: what it
    is called; message: what the program stops with.
    """

    name: Ident
    direction: Vector | None = None
    face: FaceRef | None = None
    angles: dict[AxisName, Annotated[float, Field(ge=-9999, le=9999)]] | None = None
    offset_register: Register | None = None
    change: Literal["turn", "stop"] = "turn"
    message: Annotated[str, Field(max_length=60, pattern="^[^\\n()]*$")] = ""
    zero: Zero | None = None

    @model_validator(mode="after")
    def _is_said_once(self) -> IndexPosition:
        if sum(one is not None for one in (self.direction, self.face, self.angles)) != 1:
            raise ValueError(
                f"say position {self.name} by a direction, a face or angles, and by one of them only"
            )
        if self.direction is not None and float(np.linalg.norm(self.direction)) < 1e-9:
            raise ValueError(f"the direction of position {self.name} has no length")
        return self


def turned_to(
    position: IndexPosition,
    part: Part,
    zero_from_work: Floats,
    machine: Machine,
    now: dict[str, float],
    boxes: Callable[[Floats], Boxes],
) -> Turned:
    """The work at a position. now: where the rotary axes stand before; boxes: of part, billet and incoming
    stock, the work turned by a rotation. Raises BadInput when it cannot be reached, or its zero cannot be
    there.
    """
    at = _solved(position, part, zero_from_work, machine, now)
    if position.zero is None:
        return at
    rotation = (at.local_from_zero @ zero_from_work)[:3, :3]
    place = zero_place(position.zero, part, boxes(rotation), rotation)
    local = rigid(rotation, -place) @ inverse(zero_from_work)
    return replace(at, local_from_zero=local)


def _solved(
    position: IndexPosition, part: Part, zero_from_work: Floats, machine: Machine, now: dict[str, float]
) -> Turned:
    if position.angles is not None:
        return _typed(position, machine)
    wanted = _wanted(position, part, zero_from_work)
    solved = solve_direction(machine, wanted, now)
    if not solved.reachable:
        near = solved.nearest
        assert near is not None
        off = (
            f"the nearest it reaches is {near.residual_deg:.2f}° off"
            if machine.rotary
            else "it has no rotary axis"
        )
        could = [name for name in solved.could if name != machine.id]
        raise BadInput(
            "index.unreachable",
            "reach",
            f"{machine.name} cannot turn the work to {position.name}: {off}",
            "choose another machine"
            + (f": {', '.join(could)} could" if could else "")
            + ", or another direction",
        )
    angles = solved.solutions[0].angles
    return Turned(
        position.name,
        angles,
        local_plane(machine, angles),
        solved.direction,
        solved,
        position.change,
        position.message,
    )


def _typed(position: IndexPosition, machine: Machine) -> Turned:
    assert position.angles is not None
    angles = home_angles(machine)
    for name, value in position.angles.items():
        axis = next((one for one in machine.rotary if one.name == name), None)
        if axis is None:
            raise BadInput(
                "index.no_axis",
                "reach",
                f"{machine.name} has no axis {name} for {position.name}",
                "name a rotary axis of the machine",
            )
        if not axis.low - 1e-9 <= value <= axis.high + 1e-9:
            raise BadInput(
                "index.beyond",
                "reach",
                f"{name} {value:g} for {position.name} is beyond {axis.low:g} to {axis.high:g}",
                "give an angle within its limits",
            )
        angles[name] = value
    direction = as_vector(np.round(direction_of(machine, angles), 12) + 0.0)
    return Turned(
        position.name,
        angles,
        local_plane(machine, angles),
        direction,
        None,
        position.change,
        position.message,
    )


def _wanted(position: IndexPosition, part: Part, zero_from_work: Floats) -> Vector:
    if position.direction is not None:
        return position.direction
    assert position.face is not None
    face = face_of(part, position.face, "setup.positions")
    if face.normal is not None:
        return as_vector(turned(zero_from_work, np.array(face.normal)))
    if face.axis is None:
        raise BadInput(
            "index.face",
            "reach",
            f"{position.name}: this face has neither a normal nor an axis",
            "pick a plane or a round face",
        )
    way = turned(zero_from_work, np.array(face.axis))
    # Of its two ends the one that lies further out of the part.
    out = moved(zero_from_work, np.array(face.centre)) - moved(
        zero_from_work, (np.array(part.low) + np.array(part.high)) / 2
    )
    side = float(way @ out) if abs(float(way @ out)) > 1e-6 else float(way @ UP)
    return as_vector(way if side >= 0 else -way)
