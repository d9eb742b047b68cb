"""What operations are there, and what does each need to be told?"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.geometry.part import FaceRef, Frozen

NestRoom = Literal["floor", "step", "boss"]
Depth = Annotated[float, Field(gt=0, le=200)]
Leave = Annotated[float, Field(ge=0, le=20)]
Clearance = Annotated[float, Field(gt=0, le=200)]


class _Common(Frozen):
    """What every operation has.

    tool: id in the plan's tool list. clearance: height over the stock for moves between places, mm.
    retract: height over the work for moves within the operation, mm. speed and feed: typed values
    that replace the computed ones. position: the index position it is cut at; None: as the work is seated.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    tool: str
    position: Annotated[str, Field(min_length=1, max_length=20)] | None = None
    clearance: Clearance = 10.0
    retract: Clearance = 2.0
    speed_rpm: Annotated[float, Field(gt=0, le=100_000)] | None = None
    feed_mm_min: Annotated[float, Field(gt=0, le=100_000)] | None = None


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


Operation = Annotated[Facing | Outline | Pocket | Drilling, Field(discriminator="kind")]

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
}


def tool_kinds(operation: Operation) -> tuple[ToolKind, ...]:
    """The kinds of tool that can do an operation."""
    return TOOL_KINDS[operation.cycle if isinstance(operation, Drilling) else operation.kind]
