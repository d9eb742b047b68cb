"""Which way does the work look to the spindle at an index position, how do the rotary axes stand there, and where is zero then?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import FaceRef, Frozen, Part, Vector, as_vector, face_of
from pelvrak.core.geometry.rigid import inverse, moved, rigid, snapped, turned
from pelvrak.core.machine.kinematics import (
    Solved,
    direction_of,
    home_angles,
    linear_for,
    pose,
    solve_direction,
    turning_time,
)
from pelvrak.core.machine.machine import AxisName, Machine, Register
from pelvrak.core.machine.travel import register_value

Ident = Annotated[str, Field(pattern="^[A-Za-z0-9_.-]{1,20}$")]
UP = np.array([0.0, 0.0, 1.0])


class IndexPosition(Frozen):
    """How the work is turned to the spindle for some operations; exactly one of direction, face and angles says it.

    direction: out of the work, towards the spindle, zero frame; face: a plane face that then looks up, or a round one whose
    axis then stands upright; angles: of the rotary axes, degrees. offset_register: None: given out. change: how the program
    comes here: it turns and goes on, or stops with a message so that the work is clamped anew.
    """

    name: Ident
    direction: Vector | None = None
    face: FaceRef | None = None
    angles: dict[AxisName, Annotated[float, Field(ge=-9999, le=9999)]] | None = None
    offset_register: Register | None = None
    change: Literal["turn", "stop"] = "turn"
    message: Annotated[str, Field(max_length=60, pattern="^[^\\n()]*$")] = ""

    @model_validator(mode="after")
    def _is_said_once(self) -> IndexPosition:
        if sum(one is not None for one in (self.direction, self.face, self.angles)) != 1:
            raise ValueError(f"say position {self.name} by a direction, a face or angles, and by one of them only")
        if self.direction is not None and float(np.linalg.norm(self.direction)) < 1e-9:
            raise ValueError(f"the direction of position {self.name} has no length")
        return self


@dataclass(frozen=True)
class Turned:
    """The work at an index position: rotary angles, 4×4 from the zero frame to the local plane (zero kept, z along the tool, x and y
    along the machine's), the direction in the zero frame, and how it was solved."""

    name: str
    angles: dict[str, float]
    local_from_zero: Floats
    direction: Vector
    solved: Solved | None = None
    change: str = "turn"
    message: str = ""


def upright(machine: Machine) -> Turned:
    """The work as its seat lays it, rotary axes at home. Raises BadInput when the spindle cannot look down on the table so."""
    angles = home_angles(machine)
    if float(direction_of(machine, angles) @ UP) > 1 - 1e-9:
        return Turned("", angles, _local(machine, angles), (0.0, 0.0, 1.0))
    solved = solve_direction(machine, (0.0, 0.0, 1.0))
    if not solved.reachable:
        raise BadInput("reach.not_upright", "reach", f"the spindle of {machine.name} cannot look down on what stands on its table",
                       "give the operations index positions, or choose another machine")  # fmt: skip
    angles = solved.solutions[0].angles
    return Turned("", angles, _local(machine, angles), (0.0, 0.0, 1.0), solved)


def turned_to(position: IndexPosition, part: Part, zero_from_work: Floats, machine: Machine, now: dict[str, float]) -> Turned:  # fmt: skip
    """The work at a position. now: where the rotary axes stand before. Raises BadInput when it cannot be reached."""
    if position.angles is not None:
        return _typed(position, machine)
    wanted = _wanted(position, part, zero_from_work)
    solved = solve_direction(machine, wanted, now)
    if not solved.reachable:
        near = solved.nearest
        assert near is not None
        off = f"the nearest it reaches is {near.residual_deg:.2f}° off" if machine.rotary else "it has no rotary axis"
        could = [name for name in solved.could if name != machine.id]
        raise BadInput("index.unreachable", "reach", f"{machine.name} cannot turn the work to {position.name}: {off}",
                       "choose another machine" + (f": {', '.join(could)} could" if could else "") + ", or another direction")  # fmt: skip
    angles = solved.solutions[0].angles
    return Turned(position.name, angles, _local(machine, angles), solved.direction, solved, position.change, position.message)  # fmt: skip


def _typed(position: IndexPosition, machine: Machine) -> Turned:
    assert position.angles is not None
    angles = home_angles(machine)
    for name, value in position.angles.items():
        axis = next((one for one in machine.rotary if one.name == name), None)
        if axis is None:
            raise BadInput("index.no_axis", "reach", f"{machine.name} has no axis {name} for {position.name}", "name a rotary axis of the machine")  # fmt: skip
        if not axis.low - 1e-9 <= value <= axis.high + 1e-9:
            raise BadInput("index.beyond", "reach", f"{name} {value:g} for {position.name} is beyond {axis.low:g} to {axis.high:g}", "give an angle within its limits")  # fmt: skip
        angles[name] = value
    direction = as_vector(np.round(direction_of(machine, angles), 12) + 0.0)
    return Turned(position.name, angles, _local(machine, angles), direction, None, position.change, position.message)


def _wanted(position: IndexPosition, part: Part, zero_from_work: Floats) -> Vector:
    if position.direction is not None:
        return position.direction
    assert position.face is not None
    face = face_of(part, position.face, "setup.positions")
    if face.normal is not None:
        return as_vector(turned(zero_from_work, np.array(face.normal)))
    if face.axis is None:
        raise BadInput("index.face", "reach", f"{position.name}: this face has neither a normal nor an axis", "pick a plane or a round face")  # fmt: skip
    way = turned(zero_from_work, np.array(face.axis))
    # Of its two ends the one that lies further out of the part.
    out = moved(zero_from_work, np.array(face.centre)) - moved(zero_from_work, (np.array(part.low) + np.array(part.high)) / 2)  # fmt: skip
    side = float(way @ out) if abs(float(way @ out)) > 1e-6 else float(way @ UP)
    return as_vector(way if side >= 0 else -way)


def _local(machine: Machine, angles: dict[str, float]) -> Floats:
    turn: Floats = pose(machine, angles).table_from_spindle[:3, :3].T
    return rigid(snapped(turn), np.zeros(3))


def reach_of(
    machine: Machine, zero_on_table: Vector, at: Turned, low: Floats, high: Floats, gauge: float
) -> tuple[Floats, Floats]:
    """Least and most X, Y and Z for a path in a box low … high of the local plane, mm. gauge: nose to tip, mm."""
    corners = moved(inverse(at.local_from_zero), box_corners(as_vector(low), as_vector(high))) + np.array(zero_on_table)
    values = np.array([[linear_for(machine, c, at.angles, gauge)[name] for name in "XYZ"] for c in corners])
    return values.min(axis=0), values.max(axis=0)


def index_time(machine: Machine, before: dict[str, float], after: dict[str, float]) -> float:
    """Time to turn from one position to another, s: the axes together, each unclamped and clamped."""
    times = [
        turning_time(axis, after[axis.name] - before[axis.name]) + axis.clamp_s
        for axis in machine.rotary if abs(after[axis.name] - before[axis.name]) > 1e-9
    ]  # fmt: skip
    return max(times, default=0.0)


def centre_register(machine: Machine, zero_on_table: Vector) -> Vector:
    """X, Y and Z of the one register that serves every position: where the nose would stand on the rotary centre nearest to zero, mm.

    The centre is on the rotary axis nearest to the base, which no turn moves. Raises BadInput for a tool that tilts.
    """
    tool_side = {axis.name for axis in machine.chain(machine.spindle.rides)}
    if not machine.rotary or any(axis.name in tool_side for axis in machine.rotary):
        raise BadInput("offsets.no_centre", "offsets", f"{machine.name} has no rotary centre that stays for every position",
                       "run the job by one register for each position, or by the control's tilted plane")  # fmt: skip
    axis = machine.rotary[-1]
    table = pose(machine, home_angles(machine)).base_from_table
    zero = moved(table, np.array(zero_on_table))
    way, point = np.array(axis.direction), np.array(axis.point)
    if (spun := next((a for a in machine.rotary if a is not axis), None)) is not None:
        # The two axes' own crossing (or nearest approach) is the centre people set.
        other, there = np.array(spun.direction), np.array(spun.point)
        a, b = np.linalg.lstsq(np.column_stack([way, -other]), there - point, rcond=None)[0]
        centre = point + way * a
    else:
        centre = point + way * float(way @ (zero - point))
    return register_value(machine, as_vector(moved(inverse(table), centre)))
