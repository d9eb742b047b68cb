"""Slot: along its middle, to and fro down to its floor, and along its walls."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from shapely import Polygon, maximum_inscribed_circle

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import (
    Depth,
    Leave,
    OperationKind,
    Ramp,
    depth_of_pass,
    leaves,
    ramp_angle,
)
from pelvrak.core.cutting.passes import MARGIN_MM, OVER_MM, at_height, levels, ramp_along, ring_of, trace
from pelvrak.core.cutting.regions import floor_region, offset, open_round
from pelvrak.core.cutting.standing import takes, top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, Part, face_of
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.geometry.rigid import rigid, square_to

# The middle of a slot is a strip so wide, mm: down one side of it and up the other.
STRIP_MM = 0.02
# A wider one is cleared as a pocket, as a share of DC: common practice, no source.
WIDEST_SHARE = 1.8


class Slotting(OperationKind):
    """Slots, of their cutter's width or wider: down to and fro along the middle, then along the walls. A slot
    open at an end is entered there from outside.
    """

    called: ClassVar[str] = "Slot"
    pick_first: ClassVar[str] = "Pick the floor of the slot"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill", "ball_mill")}

    kind: Literal["slotting"] = "slotting"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)] = asked(
        title="Floors",
        help="the floors of the slots",
        widget="faces",
        pick="Pick the floor of a slot",
        place="what",
    )
    step_down: Depth = depth_of_pass(2.0)
    leave_side: Leave | None = leaves("Leave side", "what stays on the walls")
    leave_floor: Leave | None = leaves("Leave floor", "what stays on the floor")
    ramp_deg: Ramp = ramp_angle()

    def engagement(self, cutter_mm: float) -> tuple[float, float] | None:
        return self.step_down, cutter_mm

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The widest that fits between the walls."""
        face = self.first_face(part)
        if face is None or part is None or face.normal is None:
            return super().unsuitable(tool, part)
        lying = rigid(square_to(np.array(face.normal)), np.zeros(3))
        region, _ = floor_region(part, face, lying, self.name)
        wide = 2 * float(maximum_inscribed_circle(region).length)
        return wide - tool.DC if wide + 2 * STRIP_MM >= tool.DC else float("inf")

    def plan(self, job: Job) -> None:
        for ref in self.faces:
            self._slot(job, ref)

    def _slot(self, job: Job, ref: FaceRef) -> None:
        face = face_of(job.part.part, ref, self.name)
        region, bottom = floor_region(job.part.part, face, job.zero_from_work, self.name)
        if region.interiors:
            raise BadInput("cut.no_slot", self.name, "an island stands in it", "take a pocket")
        wide = 2 * float(maximum_inscribed_circle(region).length) - 2 * self.on_walls()
        if wide + STRIP_MM < job.tool.DC:
            job.note(
                "cut.tool_too_big",
                "error",
                f"{job.tool.name} does not fit into a slot {wide:.4g} mm wide.",
                at_height(np.array(region.representative_point().coords), bottom)[0],
                measured=job.tool.DC,
                limit=round(wide, 3),
                unit="mm",
            )
            return
        if wide > WIDEST_SHARE * job.tool.DC:
            raise BadInput(
                "cut.no_slot",
                self.name,
                f"it is {wide:.4g} mm wide, and {job.tool.name} has {job.tool.DC:g}",
                "take a wider cutter, or a pocket",
            )
        bottom += self.on_floors()
        room = open_round(
            job.part, region, bottom - self.on_floors(), job.zero_from_work, job.tool.DC + MARGIN_MM
        )
        # Not past its own ends by more than it takes to be out.
        room = room.intersection(offset(region, job.tool.DC + MARGIN_MM))
        top = top_within(job.stock, region)
        if top is None or top <= bottom + 1e-6:
            job.note("cut.already_there", "note", f"{self.name}: the slot is already there.")
            return
        job.check_reach(top, bottom)
        middle = offset(room, -(wide / 2 + self.on_walls() - STRIP_MM))
        inner = offset(room, -(job.radius + self.on_walls())) if wide > job.tool.DC + 2 * STRIP_MM else None
        for strip in pieces(middle):
            self._down(job, strip, (top, bottom))
        for wall in pieces(inner) if inner is not None else ():
            for z in levels(top, bottom, self.step_down):
                self._walls(job, wall, z)

    def _down(self, job: Job, strip: Polygon, heights: tuple[float, float]) -> None:
        """To and fro along the middle, a pass deeper each time."""
        (top, bottom), ring = heights, ring_of(strip, clockwise=False)
        far = ring[np.argsort(np.hypot(*(ring - ring.mean(axis=0)).T))[-1:]]
        cutter = cutter_profile(job.tool)
        if not takes(job.stock, at_height(ring, bottom), cutter):
            return
        outside = not touches(job.stock, at_height(far, bottom), cutter)
        if outside:
            # An open end: come down beside the stock.
            at = int(np.argmax((ring == far[0]).all(axis=1)))
            ring = np.concatenate([ring[at:-1], ring[: at + 1]])
        x, y = float(ring[0][0]), float(ring[0][1])
        above = top
        job.path.rapid(x, y, job.top + self.clearance)
        for z in levels(top, bottom, self.step_down):
            if outside:
                job.path.rapid(x, y, z + self.retract)
                job.go_down(x, y, z)
            else:
                if above == top:
                    job.path.rapid(x, y, above + OVER_MM + self.retract)
                ramp_along(job, ring, above + OVER_MM if above == top else above, z, self.ramp_deg)
            trace(job, ring, z)
            above = z
        job.path.rapid(x, y, job.top + self.clearance)

    def _walls(self, job: Job, wall: Polygon, bottom: float) -> None:
        """Once along the walls at the bottom."""
        ring = ring_of(wall, clockwise=False)
        x, y = float(ring[0][0]), float(ring[0][1])
        inside = wall.representative_point()
        job.path.rapid(inside.x, inside.y, job.top + self.clearance)
        job.path.rapid(inside.x, inside.y, bottom + self.retract)
        job.go_down(inside.x, inside.y, bottom)
        job.lead_to(x, y, bottom)
        trace(job, ring, bottom)
        job.lead_to(inside.x, inside.y, bottom)
        job.path.rapid(inside.x, inside.y, job.top + self.clearance)
