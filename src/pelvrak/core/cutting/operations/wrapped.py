"""Wrapped: laid round a rotary axis that turns while it cuts."""

from __future__ import annotations

import math
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator
from shapely import box, unary_union
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import (
    Depth,
    Leave,
    OperationKind,
    Ramp,
    StepOver,
    depth_of_pass,
    leaves,
    ramp_angle,
    width_of_pass,
)
from pelvrak.core.cutting.operations.outline import Outline
from pelvrak.core.cutting.operations.pocket import Pocket
from pelvrak.core.cutting.passes import at_height, levels
from pelvrak.core.cutting.standing import top_within, touches
from pelvrak.core.cutting.toolpath import Round
from pelvrak.core.cutting.tools import ToolKind, cutter_profile
from pelvrak.core.cutting.wrapped import around_line, floor_on, laid_round, off_flat, on_flat, within_rotary
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, face_of

# Along the axis, and round it, from zero, mm.
Flat = tuple[Annotated[float, Field(ge=-2000, le=2000)], Annotated[float, Field(ge=-20_000, le=20_000)]]
ON_A_LINE = {"line": ["given"]}


class Wrapped(OperationKind):
    """Laid round a rotary axis: its floors are cylinders about the axis, or it follows a line given on the
    flat.
    """

    called: ClassVar[str] = "Wrapped"
    pick_first: ClassVar[str] = "Pick a floor that lies round the rotary axis"
    turns_work: ClassVar[bool] = True
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill", "ball_mill")}

    kind: Literal["wrapped"] = "wrapped"
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Faces",
        help="floors that are cylinders about the rotary axis",
        widget="faces",
        pick="Pick a floor that lies round the rotary axis",
        empty="along the line",
        when={"line": ["none"]},
        place="what",
    )
    line: Annotated[tuple[Flat, ...], Field(max_length=5000)] = asked(
        (),
        title="Line",
        help="points on the flat, along the axis and round it; π × diameter is once round",
        unit="mm",
        empty="the picked floors",
        widget="points",
        place="what",
    )
    diameter: Annotated[float, Field(gt=0, le=2000)] = asked(
        50.0, title="Diameter", help="that the line lies on", unit="mm", when=ON_A_LINE, place="what"
    )
    depth: Depth = asked(
        1.0, title="Depth", help="under that diameter", unit="mm", when=ON_A_LINE, place="what"
    )
    gap: Annotated[float, Field(gt=0, le=500)] | None = asked(
        None,
        title="Gap",
        help="width of the groove the line is the middle of",
        unit="mm",
        empty="as the cutter",
        when=ON_A_LINE,
        place="what",
    )
    way: Literal["cleared", "walls"] = asked(
        "cleared",
        title="Cut",
        help="the whole floor in layers, or once along its walls and round its islands",
        called={"cleared": "cleared", "walls": "along its walls"},
        when={"line": ["none"]},
        place="what",
    )
    leave: Leave | None = leaves("Leave", "what stays on the walls of a floor")
    spring: Annotated[int, Field(ge=0, le=5)] = asked(
        0,
        title="Spring passes",
        help="so often again along the walls, for what the cutter bent",
        when={"way": ["walls"]},
        place="what",
    )
    step_down: Depth = depth_of_pass(2.0)
    step_over: StepOver = width_of_pass(0.45)
    ramp_deg: Ramp = ramp_angle()

    @model_validator(mode="before")
    @classmethod
    def _never_without(cls, given: Any) -> Any:
        """Documents of before left the diameter and the depth open where there is no line."""
        if not isinstance(given, dict):
            return given
        return {n: v for n, v in given.items() if not (n in ("diameter", "depth") and v is None)}

    @model_validator(mode="after")
    def _has_faces_or_a_line(self) -> Wrapped:
        if bool(self.faces) == bool(self.line):
            raise ValueError(
                "a wrapped operation needs its floors picked, or a line on the flat, and not both"
            )
        if len(self.line) == 1:
            raise ValueError("a wrapped line needs two points or more")
        return self

    def plan(self, job: Job) -> None:
        """On the flat, over the stock as it stands unrolled."""
        _plan(self, job)


def _plan(operation: Wrapped, job: Job) -> None:
    if operation.line:
        lie = laid_round(job.turning, operation.diameter / 2, operation.name)
        work = [(lie, around_line(operation.line, operation.gap or job.tool.DC), operation.depth)]
    else:
        faces = [face_of(job.part.part, ref, operation.name) for ref in operation.faces]
        work = [
            (*floor_on(job.part.part, face, job.zero_from_work, job.turning, operation.name), 0.0)
            for face in faces
        ]
    lie = work[0][0]
    if any(abs(one.radius - lie.radius) > 1e-6 for one, _, _ in work):
        raise BadInput(
            "wrap.two_radii",
            operation.name,
            "its floors lie on cylinders of different diameters",
            "give each diameter an operation of its own",
        )
    job.path.round = lie
    for _, region, depth in work:
        _wrap(operation, job, lie, region, lie.centre[2] + lie.radius - depth)
    job.path.moves = within_rotary(job.path, job.turning)


def _wrap(operation: Wrapped, job: Job, lie: Round, region: BaseGeometry, bottom: float) -> None:
    """One groove or floor, cleared on the flat."""
    gap = operation.gap if operation.line and operation.gap else None
    if gap is not None and gap < job.tool.DC - 1e-9:
        job.note(
            "cut.tool_too_big",
            "error",
            f"{job.tool.name} is wider than the gap of {gap:g} mm.",
            measured=job.tool.DC,
            limit=gap,
            unit="mm",
        )
        return
    flat = on_flat(job, lie, region)
    if flat is None:
        return
    if operation.line and (gap is None or gap < job.tool.DC + 1e-3):
        _follow(operation, flat, bottom)
    else:
        whole = 2 * math.pi * lie.radius
        x0, y0, x1, y1 = region.bounds
        if y1 - y0 > whole - 1e-6:
            # Once round and on: where it is cut open there is no wall.
            region = unary_union([region, *(translate(region, 0.0, way * whole) for way in (1, -1))]).buffer(
                1e-6
            )
            region = region.intersection(box(x0 - 1, y0 - 2 * job.tool.DC, x1 + 1, y1 + 2 * job.tool.DC))
        flat.nest = {"floor": (region, bottom)}
        _on_a_floor(operation).plan(flat)
    off_flat(job, flat)


def _on_a_floor(operation: Wrapped) -> OperationKind:
    """What is done on the flat to a floor."""
    told: dict[str, Any] = {
        "id": operation.id,
        "name": operation.name,
        "tool": operation.tool,
        "clearance": operation.clearance,
        "retract": operation.retract,
        "step_down": operation.step_down,
        "ramp_deg": operation.ramp_deg,
    }
    # A groove that is told its gap is cut to it.
    leave = 0.0 if operation.line else operation.on_walls()
    if operation.way == "walls" and not operation.line:
        return Outline(side="inside", nest=True, leave=leave, spring=operation.spring, **told)
    return Pocket(nest="floor", leave_side=leave, leave_floor=0.0, step_over=operation.step_over, **told)


def _follow(operation: Wrapped, job: Job, bottom: float) -> None:
    """Along a line, to and fro, a little deeper each time."""
    line = np.array(operation.line, float)
    top = top_within(job.stock, around_line(operation.line, operation.gap or job.tool.DC))
    if top is None or top <= bottom + 1e-6:
        return
    job.check_reach(top, bottom)
    cutter = cutter_profile(job.tool)
    down = False
    for z in levels(top, bottom, operation.step_down):
        if not touches(job.stock, at_height(line, z), cutter):
            continue
        x, y = (float(c) for c in line[0])
        if not down:
            job.path.rapid(x, y, job.top + operation.clearance)
            job.path.rapid(x, y, top + operation.retract)
            down = True
        job.go_down(x, y, z)
        for x, y in line[1:]:
            job.path.feed(float(x), float(y), z, job.feed)
        line = line[::-1]
    if down:
        x, y, _ = job.path.at
        job.path.rapid(x, y, job.top + operation.clearance)
