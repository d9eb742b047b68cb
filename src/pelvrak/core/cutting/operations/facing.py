"""Facing: flat over the whole incoming stock."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

import numpy as np

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import (
    Depth,
    Leave,
    OperationKind,
    StepOver,
    depth_of_pass,
    leaves,
    width_of_pass,
)
from pelvrak.core.cutting.passes import MARGIN_MM, at_height, levels
from pelvrak.core.cutting.regions import floor_region
from pelvrak.core.cutting.standing import box_above, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, Part, face_of


class Facing(OperationKind):
    """Flat over the whole incoming stock, down to a face of the part or to its top."""

    called: ClassVar[str] = "Facing"
    leave_is: ClassVar[str] = "leave_floor"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "face_mill", "corner_mill")}

    kind: Literal["facing"] = "facing"
    face: FaceRef | None = asked(
        None,
        title="Face",
        help="the topmost face of this setup, down to which it cuts",
        widget="faces",
        pick="Pick the face to cut down to",
        empty="the part’s top",
        place="what",
    )
    step_down: Depth = depth_of_pass(2.0)
    step_over: StepOver = width_of_pass(0.7)
    leave: Leave | None = leaves("Leave", "what stays on the face")

    def faces_told(self) -> tuple[FaceRef, ...]:
        return () if self.face is None else (self.face,)

    def of_faces(self, faces: tuple[FaceRef, ...]) -> OperationKind:
        return self.model_copy(update={"face": faces[0] if faces else None})

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The widest cutter needs the fewest rows."""
        return -tool.DC

    def plan(self, job: Job) -> None:
        _plan(self, job)


def _plan(operation: Facing, job: Job) -> None:
    part_top = job.part_heights[1]
    if operation.face is not None:
        face = face_of(job.part.part, operation.face, operation.name)
        _, bottom = floor_region(job.part.part, face, job.zero_from_work, operation.name)
    else:
        bottom = part_top
    if bottom < part_top - 1e-3:
        raise BadInput(
            "cut.facing_too_low",
            operation.name,
            f"facing there would cut {part_top - bottom:.2f} mm off the part",
            "pick the topmost face of this setup",
        )
    bottom += operation.on_floors()
    low, high = box_above(job.stock, bottom)
    step = operation.step_over * job.tool.DC
    along_x = high[0] - low[0] >= high[1] - low[1]
    u, v = (0, 1) if along_x else (1, 0)
    width = high[v] - low[v]
    rows = max(1, math.ceil(max(0.0, width - 0.3 * job.tool.DC) / step))
    first = low[v] + width / 2 - (rows - 1) * step / 2
    reach = job.radius + MARGIN_MM
    cutter = cutter_profile(job.tool)

    def point(a: float, b: float) -> tuple[float, float]:
        return (a, b) if along_x else (b, a)

    for z in levels(job.top, bottom, operation.step_down):
        ends: list[tuple[float, float]] = []
        for row in range(rows):
            place = first + row * step
            span = [low[u] - reach, high[u] + reach]
            if row % 2:
                span.reverse()
            ends += [point(span[0], place), point(span[1], place)]
        if not touches(job.stock, at_height(np.array(ends), z), cutter):
            continue
        x, y = ends[0]
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, z + operation.retract)
        job.go_down(x, y, z)
        for x, y in ends[1:]:
            job.path.feed(x, y, z, job.feed)
        job.path.rapid(x, y, job.top + operation.clearance)
