"""What operations are there, and what does each need to be told?"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.geometry.part import FaceRef, Frozen
from pelvrak.core.machine.machine import Register

NestRoom = Literal["floor", "step", "boss"]
Depth = Annotated[float, Field(gt=0, le=200)]
Leave = Annotated[float, Field(ge=0, le=20)]
Clearance = Annotated[float, Field(gt=0, le=200)]
PositionName = Annotated[str, Field(min_length=1, max_length=20)]


class _Common(Frozen):
    """What every operation has.

    tool: id in the plan's tool list. clearance: height over the stock for moves between places, mm.
    retract: height over the work for moves within the operation, mm. speed and feed: typed values
    that replace the computed ones. position: the index position it is cut at; None: as the work is seated.
    repeated_at: further positions it is cut at, at each the faces that look to the spindle there; left_out: positions of
    these that are not cut ("" as the work is seated). offset_register: the register it counts from; None: its position's.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    tool: str
    position: PositionName | None = None
    repeated_at: Annotated[tuple[PositionName, ...], Field(max_length=60)] = ()
    left_out: Annotated[tuple[Annotated[str, Field(max_length=20)], ...], Field(max_length=60)] = ()
    offset_register: Register | None = None
    clearance: Clearance = 10.0
    retract: Clearance = 2.0
    speed_rpm: Annotated[float, Field(gt=0, le=100_000)] | None = None
    feed_mm_min: Annotated[float, Field(gt=0, le=100_000)] | None = None

    @model_validator(mode="after")
    def _positions_are_its_own(self) -> _Common:
        everywhere = [self.position or "", *self.repeated_at]
        if len(set(everywhere)) != len(everywhere):
            raise ValueError(f"{self.name} is repeated at a position twice: name each once")
        stray = next((name for name in self.left_out if name not in everywhere), None)
        if stray is not None:
            raise ValueError(
                f"{self.name} leaves {stray or 'the work as it is seated'} out, where it is not cut anyway"
            )
        return self


class Facing(_Common):
    """Flat over the whole incoming stock, down to a face of the part or to its top."""

    kind: Literal["facing"] = "facing"
    face: FaceRef | None = None
    step_down: Depth = 2.0
    step_over: Annotated[float, Field(gt=0.02, le=0.95)] = 0.7
    leave: Leave = 0.0


class Outline(_Common):
    """Along a contour: round the part, or round or inside picked faces.

    faces: plane faces whose outer boundary is followed, or bores; none means the part's silhouette.
    bottom: a face to stop at; none means the part's bottom. below: past it, mm. chamfer: width of a
    chamfer on the edge, cut with a chamfer cutter, mm; bottom and below then do not count. nest: along the inside
    of the nest, where a setup cuts one.
    """

    kind: Literal["outline"] = "outline"
    side: Literal["outside", "inside"] = "outside"
    faces: tuple[FaceRef, ...] = ()
    bottom: FaceRef | None = None
    below: Annotated[float, Field(ge=-100, le=50)] = 0.0
    step_down: Depth = 10.0
    step_over: Annotated[float, Field(gt=0.02, le=0.95)] = 0.5
    leave: Leave = 0.0
    chamfer: Annotated[float, Field(gt=0, le=20)] | None = None
    nest: bool = False
    ramp_deg: Annotated[float, Field(gt=0.1, le=30)] = 3.0


class Pocket(_Common):
    """Everything out down to picked floors, or within picked bores, or of a nest where a setup cuts one.

    below: past the bottom of through bores, mm. nest: its floor, the deeper room within its step, or the room for
    what stands out below.
    """

    kind: Literal["pocket"] = "pocket"
    faces: tuple[FaceRef, ...] = ()
    nest: NestRoom | None = None
    below: Annotated[float, Field(ge=0, le=50)] = 0.0
    step_down: Depth = 5.0
    step_over: Annotated[float, Field(gt=0.02, le=0.95)] = 0.45
    leave_side: Leave = 0.0
    leave_floor: Leave = 0.0
    ramp_deg: Annotated[float, Field(gt=0.1, le=30)] = 3.0

    @model_validator(mode="after")
    def _names_what_it_clears(self) -> Pocket:
        if (self.nest is None) == (not self.faces):
            raise ValueError("a pocket needs its floors or bores picked, or the room of a nest, and not both")
        return self


class Drilling(_Common):
    """Holes, one after the other by the shortest way.

    cycle: spot (to a chamfer diameter), drill (in one go), peck, ream, tap.
    chamfer: diameter a spot leaves at the top, mm. below: past through holes, besides the point, mm.
    short: stop this much above the bottom of blind holes (ream, tap), mm.
    """

    kind: Literal["drilling"] = "drilling"
    cycle: Literal["spot", "drill", "peck", "ream", "tap"] = "drill"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)]
    chamfer: Annotated[float, Field(gt=0, le=100)] | None = None
    peck: Depth = 3.0
    below: Annotated[float, Field(ge=0, le=50)] = 1.0
    short: Annotated[float, Field(ge=0, le=100)] = 0.0

    @model_validator(mode="after")
    def _spot_has_a_size(self) -> Drilling:
        if self.cycle == "spot" and self.chamfer is None:
            raise ValueError("a spot needs the chamfer diameter it should leave")
        return self


Flat = tuple[Annotated[float, Field(ge=-2000, le=2000)], Annotated[float, Field(ge=-20_000, le=20_000)]]


class Wrapped(_Common):
    """Laid round a rotary axis: its floors are cylinders about the axis, or it follows a line given on the flat.

    faces: those floors. line: points on the flat, (along the axis, round it) from zero, mm, where π × diameter is once round;
    depth: under that diameter, mm; gap: width of the groove the line is the middle of, mm; None: as wide as the cutter.
    """

    kind: Literal["wrapped"] = "wrapped"
    faces: tuple[FaceRef, ...] = ()
    line: Annotated[tuple[Flat, ...], Field(max_length=5000)] = ()
    diameter: Annotated[float, Field(gt=0, le=2000)] | None = None
    depth: Depth | None = None
    gap: Annotated[float, Field(gt=0, le=500)] | None = None
    step_down: Depth = 2.0
    step_over: Annotated[float, Field(gt=0.02, le=0.95)] = 0.45
    ramp_deg: Annotated[float, Field(gt=0.1, le=30)] = 3.0

    @model_validator(mode="after")
    def _has_faces_or_a_line(self) -> Wrapped:
        if bool(self.faces) == bool(self.line):
            raise ValueError("a wrapped operation needs its floors picked, or a line on the flat, and not both")
        if self.line and (self.diameter is None or self.depth is None or len(self.line) < 2):
            raise ValueError("a wrapped line needs two points or more, the diameter it lies on, and its depth")
        return self


Operation = Annotated[Facing | Outline | Pocket | Drilling | Wrapped, Field(discriminator="kind")]


def places_of(operation: Operation) -> tuple[str, ...]:
    """The positions an operation is cut at, in its order, without those left out; "" is the work as it is seated."""
    return tuple(name for name in (operation.position or "", *operation.repeated_at) if name not in operation.left_out)


# What can do an operation, by its kind, or by its cycle where it has one.
TOOL_KINDS: dict[str, tuple[ToolKind, ...]] = {
    "facing": ("end_mill", "face_mill", "corner_mill"),
    "outline": ("end_mill", "corner_mill", "chamfer_mill"),
    "pocket": ("end_mill", "corner_mill"),
    "spot": ("spot_drill",),
    "drill": ("drill",),
    "peck": ("drill",),
    "ream": ("reamer",),
    "tap": ("tap",),
    "wrapped": ("end_mill", "corner_mill", "ball_mill"),
}


def tool_kinds(operation: Operation) -> tuple[ToolKind, ...]:
    """The kinds of tool that can do an operation."""
    return TOOL_KINDS[operation.cycle if isinstance(operation, Drilling) else operation.kind]
