"""Which way does the work look to the spindle at an index position, how do the rotary axes stand there, and
where is zero then?
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import Field

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, snapped, turned
from pelvrak.core.machine.kinematics import (
    Solved,
    direction_of,
    home_angles,
    linear_for_all,
    moved_by,
    pose,
    solve_direction,
    turning_time,
)
from pelvrak.core.machine.machine import Axis, Machine
from pelvrak.core.machine.travel import register_value

Ident = Annotated[str, Field(pattern="^[A-Za-z0-9_.-]{1,20}$")]
UP = np.array([0.0, 0.0, 1.0])


@dataclass(frozen=True)
class Turned:
    """The work at an index position: rotary angles, 4×4 from the zero frame to the local plane (z along the
    tool, x and y along the machine's, the setup's zero kept or one of its own), the direction in the zero
    frame, and how it was solved.
    """

    name: str
    angles: dict[str, float]
    local_from_zero: Floats
    direction: Vector
    solved: Solved | None = None
    change: str = "turn"
    message: str = ""

    @property
    def origin(self) -> Vector:
        """Where the local plane's zero lies, zero frame, mm."""
        return as_vector(np.round(inverse(self.local_from_zero)[:3, 3], 9) + 0.0)


def upright(machine: Machine) -> Turned:
    """The work as its seat lays it, rotary axes at home. Raises BadInput when the spindle cannot look down on
    the table so.
    """
    angles = home_angles(machine)
    if float(direction_of(machine, angles) @ UP) > 1 - 1e-9:
        return Turned("", angles, local_plane(machine, angles), (0.0, 0.0, 1.0))
    solved = solve_direction(machine, (0.0, 0.0, 1.0))
    if not solved.reachable:
        raise BadInput(
            "reach.not_upright",
            "reach",
            f"the spindle of {machine.name} cannot look down on what stands on its table",
            "give the operations index positions, or choose another machine",
        )
    angles = solved.solutions[0].angles
    return Turned("", angles, local_plane(machine, angles), (0.0, 0.0, 1.0), solved)


def local_plane(machine: Machine, angles: dict[str, float]) -> Floats:
    """4×4 from the zero frame to the plane square to the tool, zero kept, x and y along the machine's."""
    turn: Floats = pose(machine, angles).table_from_spindle[:3, :3].T
    return rigid(snapped(turn), np.zeros(3))


@dataclass(frozen=True)
class TurningLine:
    """A rotary axis that turns the work, as it lies in the local plane of a position: a point of it (mm), its
    direction, and where it stands.
    """

    axis: Axis
    point: Floats
    direction: Floats
    angle: float


def turning_lines(machine: Machine, zero_on_table: Vector, at: Turned) -> list[TurningLine]:
    """The rotary axes on the table's side, from the table to the base."""
    local_from_base = (
        at.local_from_zero
        @ rigid(np.eye(3), -np.array(zero_on_table))
        @ inverse(pose(machine, at.angles).base_from_table)
    )
    out = []
    for axis in machine.chain(machine.table.rides):
        if axis.rotary:
            here = local_from_base @ moved_by(machine, axis.rides, at.angles)
            out.append(
                TurningLine(
                    axis,
                    moved(here, np.array(axis.point)),
                    turned(here, np.array(axis.direction)),
                    at.angles[axis.name],
                )
            )
    return out


def reach_of(
    machine: Machine, zero_on_table: Vector, at: Turned, low: Floats, high: Floats, gauge: float
) -> tuple[Floats, Floats]:
    """Least and most X, Y and Z for a path in a box low … high of the local plane, mm. gauge: nose to tip,
    mm.
    """
    corners = moved(inverse(at.local_from_zero), box_corners(as_vector(low), as_vector(high))) + np.array(
        zero_on_table
    )
    values = linear_for_all(machine, corners, at.angles, gauge)
    return values.min(axis=0), values.max(axis=0)


def index_time(machine: Machine, before: dict[str, float], after: dict[str, float]) -> float:
    """Time to turn from one position to another, s: one axis after the other, each unclamped and clamped."""
    return sum(
        turning_time(axis, after[axis.name] - before[axis.name]) + axis.clamp_s
        for axis in machine.rotary
        if abs(after[axis.name] - before[axis.name]) > 1e-9
    )


def centre_register(machine: Machine, zero_on_table: Vector) -> Vector:
    """X, Y and Z of the one register that serves every position: where the nose would stand on the rotary
    centre nearest to zero, mm.

    The centre is on the rotary axis nearest to the base, which no turn moves. Raises BadInput for a tool that
    tilts.
    """
    tool_side = {axis.name for axis in machine.chain(machine.spindle.rides)}
    if not machine.rotary or any(axis.name in tool_side for axis in machine.rotary):
        raise BadInput(
            "offsets.no_centre",
            "offsets",
            f"{machine.name} has no rotary centre that stays for every position",
            "run the job by one register for each position, or by the control's tilted plane",
        )
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
