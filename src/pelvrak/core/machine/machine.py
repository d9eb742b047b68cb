"""Which machine is it: what moves on what, how far and how fast, what stands on its table, what does its
control know?

A machine is data. Base frame: right-handed, Z along the spindle, away from the work, as ISO 841 names it; the
origin is the middle of the spindle's nose with every axis at 0. An axis moves the tool, as seen from the
work, along (or by the right hand about) its direction, whether it carries the tool or the table. mm, degrees,
minutes.
"""

from __future__ import annotations

from collections.abc import Container
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, ValidationError, model_validator

from pelvrak.core.errors import BadInput, json_from, plain, refuse_unkept
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector
from pelvrak.core.geometry.shelf import shelf

# The standard registers, and those ISO 6983 leaves to the control: written "G54.1 P1" and on.
STANDARD = ("G54", "G55", "G56", "G57", "G58", "G59")
Register = Annotated[str, Field(pattern=r"^(G5[4-9]|G54\.1 P[1-9][0-9]{0,2})$")]
AxisName = Literal["X", "Y", "Z", "A", "B", "C"]
Length = Annotated[float, Field(gt=0, le=20_000)]
VERSION = 1


class Axis(Frozen):
    """One axis. rides: "base", or the axis it is built on; point: of a rotary axis, base frame, every axis at
    0.

    low, high: mm or degrees, endless for a rotary without stops; rapid, feed: mm/min or degrees/min;
    acceleration: mm/s² or degrees/s²; clamp_s: to clamp and unclamp; clamp, unclamp: codes. prefers: the side
    a tilting axis is stiffer or better seen on. name: its letter by ISO 841; direction: along it, or about it
    by the right hand, base frame; home: where it stands for loading; endless: without stops.
    """

    name: AxisName
    rides: str = "base"
    direction: Vector
    point: Vector = (0.0, 0.0, 0.0)
    low: float
    high: float
    home: float = 0.0
    endless: bool = False
    rapid: Annotated[float, Field(gt=0)]
    feed: Annotated[float, Field(gt=0)]
    acceleration: Annotated[float, Field(gt=0)]
    clamp_s: Annotated[float, Field(ge=0, le=60)] = 0.0
    clamp: Annotated[str, Field(max_length=10)] = ""
    unclamp: Annotated[str, Field(max_length=10)] = ""
    prefers: Literal[-1, 0, 1] = 0

    @property
    def rotary(self) -> bool:
        return self.name in "ABC"

    @model_validator(mode="after")
    def _can_move(self) -> Axis:
        size = float(np.linalg.norm(self.direction))
        if size < 1e-9:
            raise ValueError(f"axis {self.name} has no direction: give one that is not 0, 0, 0")
        if abs(size - 1) > 1e-6:
            raise ValueError(f"the direction of axis {self.name} is {size:.6g} long: give a unit vector")
        if self.low >= self.high:
            raise ValueError(
                f"axis {self.name} goes from {self.low:g} to {self.high:g}: the limits are swapped"
            )
        if not self.low <= self.home <= self.high:
            raise ValueError(f"home of axis {self.name}, {self.home:g}, lies beyond its limits")
        if self.endless and not self.rotary:
            raise ValueError(f"axis {self.name} is linear and cannot be endless")
        return self


class Solid(Frozen):
    """A simple solid of a machine, base frame with every axis at 0: a box low … high, or a cylinder about
    `axis` through `at`.

    name: what it is; rides: "base", or the axis it is built on; low, high: corners of a box, mm; at: a point
    on the axis of a cylinder; axis: its direction; diameter, length: of the cylinder, mm.
    """

    name: Annotated[str, Field(min_length=1, max_length=40)]
    rides: str = "base"
    low: Vector | None = None
    high: Vector | None = None
    at: Vector | None = None
    axis: Vector | None = None
    diameter: Length | None = None
    length: Length | None = None

    @model_validator(mode="after")
    def _is_one_kind(self) -> Solid:
        box, rod = (self.low, self.high), (self.at, self.axis, self.diameter, self.length)
        if not (all(v is not None for v in box) and all(v is None for v in rod)) and not (
            all(v is None for v in box) and all(v is not None for v in rod)
        ):
            raise ValueError(f"{self.name} is a box (low, high) or a cylinder (at, axis, diameter, length)")
        return self


class Slots(Frozen):
    """Tee slots along x: width of the slot, pitch, how many; the first `first` from the front edge.

    width, pitch: of the slots, mm; count: how many; first: from the front edge to the middle of the first,
    mm.
    """

    width: Length
    pitch: Length
    count: Annotated[int, Field(ge=1, le=40)]
    first: Length


class Table(Frozen):
    """What holdings stand on. at: its front left corner, base frame, every axis at 0; x, up: its directions
    there.

    rides: "base", or the axis it is built on; length, depth: along x and across, mm; slots: tee slots;
    grid_mm: distance of its tapped holes, where it has them; load_kg: the most that may stand on it, None
    where nobody has said.
    """

    rides: str
    length: Length
    depth: Length
    at: Vector
    x: Vector = (1.0, 0.0, 0.0)
    up: Vector = (0.0, 0.0, 1.0)
    slots: Slots | None = None
    grid_mm: Length | None = None
    load_kg: Annotated[float, Field(gt=0, le=1_000_000)] | None = None


class Spindle(Frozen):
    """The spindle: its nose (diameter, length over the holder), rpm, power kW.

    rides: "base", or the axis it is built on; nose: diameter and length over the holder, mm; min_rpm,
    max_rpm: its speeds; power_kw: of its motor.
    """

    rides: str
    nose: tuple[Length, Length]
    min_rpm: Annotated[float, Field(gt=0)]
    max_rpm: Annotated[float, Field(gt=0)]
    power_kw: Annotated[float, Field(gt=0)]


class Changer(Frozen):
    """The tool changer.

    places: how many tools it holds; seconds: from cut to cut.
    """

    places: Annotated[int, Field(ge=1, le=400)]
    seconds: Annotated[float, Field(ge=0, le=120)]


class Setter(Frozen):
    """What tells how long a tool is where its tip touches it from above.

    at: the middle of its top, from the table's front left corner, rotary axes at home, mm; diameter: of its
    top, mm; feed: at which a tool comes onto it, mm/min.
    """

    at: Vector
    diameter: Length = 30.0
    feed: Annotated[float, Field(gt=0, le=5000)] = 100.0


class Control(Frozen):
    """What the control can do. extended: how many registers beyond the standard six; reserved: not to be
    given out; tilted_plane: programs in a plane that is turned; follows_rotation: turns the offset with the
    table by itself; shortest_way: a rotary axis goes the short way round; program_digits: in which program
    numbers are written; last_block: the largest block number. registers: the standard work offsets it has;
    dialect: in which its programs are written, by its id.
    """

    registers: tuple[Register, ...] = STANDARD
    extended: Annotated[int, Field(ge=0, le=300)] = 0
    reserved: tuple[Register, ...] = ()
    tilted_plane: bool = False
    follows_rotation: bool = False
    shortest_way: bool = False
    program_digits: Literal[4, 5] = 4
    last_block: Annotated[int, Field(ge=999, le=99_999_999)] = 9999
    dialect: Annotated[str, Field(pattern="^[a-z0-9-]{1,40}$")] = "extended"

    def all_registers(self) -> tuple[str, ...]:
        """Every register it has, in the order they are given out, those that are reserved too."""
        return (*self.registers, *(f"G54.1 P{n}" for n in range(1, self.extended + 1)))

    def free_register(self, taken: Container[str]) -> str | None:
        """The next register to be given out: in order, neither reserved nor taken."""
        return next(
            (one for one in self.all_registers() if one not in self.reserved and one not in taken), None
        )


class Machine(Frozen):
    """One machine; see the module's frame.

    schema_version: of this document; id: never changes; name: what it is called; axes: from the base
    outwards; spindle: what turns the tool; table: what holdings stand on; solids: what else is in the way;
    changer: of tools; control: what it can do; setter: of tool lengths, where it has one.
    """

    schema_version: Literal[1] = 1
    id: Annotated[str, Field(pattern="^[a-z0-9-]{1,40}$")]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    axes: Annotated[tuple[Axis, ...], Field(min_length=3, max_length=5)]
    spindle: Spindle
    table: Table
    solids: Annotated[tuple[Solid, ...], Field(max_length=40)] = ()
    changer: Changer
    control: Control = Control()
    setter: Setter | None = None

    @model_validator(mode="after")
    def _chain_is_whole(self) -> Machine:
        names = [axis.name for axis in self.axes]
        if len(set(names)) != len(names):
            raise ValueError("two axes have one name")
        if not {"X", "Y", "Z"} <= set(names):
            raise ValueError("a machine has axes X, Y and Z, and at most two rotary ones")
        for what, rides in (
            *((f"axis {a.name}", a.rides) for a in self.axes),
            ("the spindle", self.spindle.rides),
            ("the table", self.table.rides),
            *((s.name, s.rides) for s in self.solids),
        ):
            if rides not in ("base", *names):
                raise ValueError(f"{what} rides on {rides}, and there is no such axis")
        used = [*self.chain(self.spindle.rides), *self.chain(self.table.rides)]
        idle = sorted(set(names) - {axis.name for axis in used})
        if idle:
            raise ValueError(f"axis {idle[0]} moves neither the spindle nor the table")
        if len({a.name for a in used}) != len(used):
            raise ValueError("an axis carries both the spindle and the table")
        x, up = np.array(self.table.x), np.array(self.table.up)
        if max(abs(float(np.linalg.norm(v)) - 1) for v in (x, up)) > 1e-6 or abs(float(x @ up)) > 1e-6:
            raise ValueError("x and up of the table are unit vectors square to each other")
        linear = np.array([a.direction for a in self.axes if not a.rotary])
        if abs(float(np.linalg.det(linear))) < 1e-3:
            raise ValueError("X, Y and Z do not reach all of space: two of them run alike")
        return self

    def chain(self, rides: str) -> list[Axis]:
        """The axes from what rides on one down to the base. Raises ValueError when they ride on each other in
        a ring.
        """
        by_name = {axis.name: axis for axis in self.axes}
        out: list[Axis] = []
        while rides != "base":
            axis = by_name.get(rides)  # type: ignore[call-overload]
            if axis is None:
                raise ValueError(f"there is no axis {rides}")
            if axis in out:
                raise ValueError(
                    "the axes ride on each other in a ring: " + " on ".join([*(a.name for a in out), rides])
                )
            out.append(axis)
            rides = axis.rides
        return out

    @property
    def as_built(self) -> Machine:
        """What moves on what, and how: without what it is called and what its control knows."""
        return self.model_copy(update={"name": "-", "control": Control()})

    def axis(self, name: str) -> Axis:
        return next(axis for axis in self.axes if axis.name == name)

    @property
    def rotary(self) -> tuple[Axis, ...]:
        """The rotary axes, from the table to the spindle."""
        chain = [*self.chain(self.table.rides), *reversed(self.chain(self.spindle.rides))]
        return tuple(axis for axis in chain if axis.rotary)

    def limits(self) -> tuple[Floats, Floats]:
        """Lowest and highest X, Y and Z, mm."""
        three = [self.axis(name) for name in "XYZ"]
        return np.array([a.low for a in three]), np.array([a.high for a in three])

    @property
    def rapid_mm_min(self) -> float:
        """What X and Y both reach in rapid, mm/min."""
        return min(self.axis(name).rapid for name in "XYZ")

    @property
    def acceleration_mm_s2(self) -> float:
        """What X, Y and Z all reach, mm/s²."""
        return min(self.axis(name).acceleration for name in "XYZ")

    @property
    def feed_max_mm_min(self) -> float:
        return min(self.axis(name).feed for name in "XYZ")


def machines() -> dict[str, Machine]:
    """The shipped machines by id; sizes ours."""
    return {row["id"]: Machine.model_validate(row) for row in shelf("machine", "machines.json")}


def machine_of(name: str, own: tuple[Machine, ...] = ()) -> Machine:
    """A machine of the plan's own, or a shipped one. Raises BadInput when there is none of that id."""
    machine = next((one for one in own if one.id == name), None) or machines().get(name)
    if machine is None:
        raise BadInput(
            "reach.unknown_machine", "machine", f"there is no machine {name!r}", "choose one from the list"
        )
    return machine


def machine_from_json(text: str | bytes, where: str) -> Machine:
    """A machine from its file. Raises BadInput naming the first field that is wrong, or the version that is
    not ours.
    """
    value = json_from(text, where, "machine.unreadable")
    refuse_unkept(value, where, "machine.invalid")
    version = value.get("schema_version") if isinstance(value, dict) else None
    if isinstance(value, dict) and version != VERSION:
        raise BadInput(
            "machine.version",
            where,
            f"this file is of version {version!r}, and this program reads version {VERSION}",
            "export the machine again from a program of this version",
        )
    try:
        return Machine.model_validate(value)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False)[0]
        field = "/".join(str(step) for step in first["loc"]) or "machine"
        what, mend = plain(first)
        raise BadInput("machine.invalid", f"{where}/{field}", what, mend) from wrong
