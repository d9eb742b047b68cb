"""Helical bore: round and down in a bore, and once round on its bottom."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import Depth, Leave, OperationKind, leaves
from pelvrak.core.cutting.passes import OVER_MM
from pelvrak.core.cutting.regions import bore_region, is_through
from pelvrak.core.cutting.standing import takes, top_within
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, face_of


class Helical(OperationKind):
    """A bore by a cutter that goes round and down in it: from the solid, where the cutter is wider than half
    of it, or to widen a hole that is there.
    """

    called: ClassVar[str] = "Helical bore"
    pick_first: ClassVar[str] = "Pick the wall of a bore"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill")}

    kind: Literal["helical"] = "helical"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)] = asked(
        title="Bores",
        help="the walls of the bores",
        widget="faces",
        pick="Pick the wall of a bore",
        place="what",
    )
    pitch: Depth = asked(1.0, title="Pitch", help="down on each turn", unit="mm", place="what")
    below: Annotated[float, Field(ge=0, le=50)] = asked(
        0.5, title="Below through", help="how far past through bores it goes", unit="mm", place="what"
    )
    leave: Leave | None = leaves("Leave", "what stays on the wall")
    spring: Annotated[int, Field(ge=0, le=5)] = asked(
        0, title="Spring passes", help="once more round at every depth, at the same size", place="what"
    )

    def engagement(self, cutter_mm: float) -> tuple[float, float] | None:
        return self.pitch, cutter_mm

    def bore_made(self, tool: Tool, drawn: float) -> float | None:
        return drawn - 2 * self.on_walls()

    def plan(self, job: Job) -> None:
        for ref in self.faces:
            self._bore(job, ref)

    def _bore(self, job: Job, ref: FaceRef) -> None:
        face = face_of(job.part.part, ref, self.name)
        disc, bottom, top = bore_region(job.part.part, face, job.zero_from_work, self.name)
        assert face.radius is not None
        if is_through(job.part.part, face):
            bottom -= self.below
        x, y = disc.centroid.x, disc.centroid.y
        turn = face.radius - self.on_walls() - job.radius
        if turn <= 0:
            job.note(
                "cut.tool_too_big",
                "error",
                f"{job.tool.name} does not go round in a bore Ø{2 * face.radius:.4g}.",
                np.array([x, y, bottom]),
                measured=job.tool.DC,
                limit=round(2 * (face.radius - self.on_walls()), 3),
                unit="mm",
            )
            return
        stands = top_within(job.stock, disc)
        if stands is None or stands <= bottom + 1e-6:
            return
        ring = np.linspace(0, 2 * math.pi, 49)
        wall = np.column_stack([x + turn * np.cos(ring), y + turn * np.sin(ring), np.full(49, bottom)])
        if not takes(job.stock, wall, cutter_profile(job.tool)):
            return
        job.check_reach(max(stands, top), bottom)
        self._round(job, (x, y), turn, (stands + OVER_MM, bottom))

    def _round(
        self, job: Job, middle: tuple[float, float], turn: float, heights: tuple[float, float]
    ) -> None:
        """Down from the first height to the second round a middle."""
        (x, y), (above, bottom) = middle, heights
        job.path.rapid(x, y, job.top + self.clearance)
        job.path.rapid(x, y, above + self.retract)
        # In by half a round, so that the wall is met along it.
        job.lead_to(x, y, above)
        job.lead_round((x + turn, y, above), (x + turn / 2, y))
        turns = max(1, math.ceil((above - bottom) / self.pitch - 1e-9))
        for n in range(turns):
            z = above - (above - bottom) * (n + 1) / turns
            job.path.arc("ccw", (x + turn, y, z), (x, y), job.feed)
        for _ in range(1 + self.spring):
            job.path.arc("ccw", (x + turn, y, bottom), (x, y), job.feed)
        job.lead_round((x, y, bottom), (x + turn / 2, y))
        job.path.rapid(x, y, job.top + self.clearance)
