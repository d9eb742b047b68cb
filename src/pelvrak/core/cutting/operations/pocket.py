"""Pocket: everything out down to picked floors."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator
from shapely import LineString, Polygon, maximum_inscribed_circle
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import (
    Depth,
    Leave,
    NestRoom,
    OperationKind,
    Ramp,
    StepOver,
    depth_of_pass,
    leaves,
    ramp_angle,
    width_of_pass,
)
from pelvrak.core.cutting.passes import (
    HELIX_SHARE,
    MARGIN_MM,
    OVER_MM,
    TIGHTEST_SHARE,
    at_height,
    helix_down,
    levels,
    ramp_along,
    rings_of,
    started_near,
    trace,
)
from pelvrak.core.cutting.regions import (
    floor_region,
    offset,
    open_round,
    opening_region,
    smallest_inner_radius,
    upright_wall,
)
from pelvrak.core.cutting.standing import takes, top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef, face_of
from pelvrak.core.geometry.planar import pieces

# Smaller than this no shop keeps: common practice, no source.
SMALLEST_CUTTER_MM = 0.5


class Pocket(OperationKind):
    """Everything out down to picked floors, or within picked bores, or of a nest where a setup cuts one."""

    called: ClassVar[str] = "Pocket"
    pick_first: ClassVar[str] = "Pick the pocket’s floor, or a bore’s wall"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill")}

    kind: Literal["pocket"] = "pocket"
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Faces",
        help="floors it goes down to, or bores it clears",
        widget="faces",
        pick="Pick a floor, or a bore’s wall",
        place="what",
    )
    nest: NestRoom | None = asked(
        None,
        title="Nest",
        help=(
            "room of a nest: its floor, the deeper room within its step, or the room for what stands out"
            " below"
        ),
    )
    below: Annotated[float, Field(ge=0, le=50)] = asked(
        0.0,
        title="Below bottom",
        help="how far past the bottom of through bores it goes",
        unit="mm",
        place="what",
    )
    step_down: Depth = depth_of_pass(5.0)
    step_over: StepOver = width_of_pass(0.45)
    leave_side: Leave | None = leaves("Leave side", "what stays on the walls")
    leave_floor: Leave | None = leaves("Leave floor", "what stays on the floor")
    ramp_deg: Ramp = ramp_angle()

    @model_validator(mode="after")
    def _names_what_it_clears(self) -> Pocket:
        if (self.nest is None) == (not self.faces):
            raise ValueError("a pocket needs its floors or bores picked, or the room of a nest, and not both")
        return self

    def bore_made(self, tool: Tool, drawn: float) -> float | None:
        return drawn - 2 * self.on_walls()

    def plan(self, job: Job) -> None:
        _plan(self, job)


def _rooms(operation: Pocket, job: Job) -> list[tuple[Polygon, float]]:
    """The regions a pocket clears, with their floors."""
    if operation.nest is not None:
        room, floor = job.room(operation.nest)
        return [(piece, floor) for piece in pieces(room)]
    out: list[tuple[Polygon, float]] = []
    for ref in operation.faces:
        face = face_of(job.part.part, ref, operation.name)
        if upright_wall(face, job.zero_from_work) or face.kind == "cylinder":
            region, bottom, _ = opening_region(job.part, face, job.zero_from_work, operation.name)
            if not any(known.equals(region) for known, _ in out):
                out.append((region, bottom - operation.below))
        else:
            out.append(floor_region(job.part.part, face, job.zero_from_work, operation.name))
    return out


def _open_sides(operation: Pocket, job: Job, region: Polygon, bottom: float) -> BaseGeometry:
    """The region with room to run out where it is open to a side."""
    if operation.nest is not None:
        return region
    return open_round(
        job.part, region, bottom, job.zero_from_work, job.tool.DC + operation.on_walls() + MARGIN_MM
    )


def _plan(operation: Pocket, job: Job) -> None:
    for region, bottom in _rooms(operation, job):
        bottom += operation.on_floors()
        whole = _open_sides(operation, job, region, bottom - operation.on_floors())
        inner = offset(whole, -(job.radius + operation.on_walls()))
        # Beyond half the cutter out there is nothing to be had.
        inner = (
            inner.intersection(offset(region, 0.6 * job.tool.DC))
            if whole.area > region.area + 1e-3
            else inner
        )
        if not pieces(inner):
            fits = 2 * smallest_inner_radius(region)
            job.note(
                "cut.tool_too_big",
                "error",
                f"{job.tool.name} does not fit into the pocket; {_would_reach(fits)}.",
                at_height(np.array(region.representative_point().coords), bottom)[0],
                measured=job.tool.DC,
                limit=round(fits, 2),
                unit="mm",
            )
            continue
        missed = region.difference(offset(inner, job.radius + operation.on_walls())).area
        if operation.on_walls() == 0 and missed > 0.5:
            fits = 2 * smallest_inner_radius(region)
            job.note(
                "cut.corners_left",
                "warning",
                f"{job.tool.name} leaves {missed:.1f} mm² in the corners; {_would_reach(fits)}.",
                at_height(np.array(region.representative_point().coords), bottom)[0],
                measured=job.tool.DC,
                limit=round(fits, 2),
                unit="mm",
            )
        top = top_within(job.stock, region)
        if top is None or top <= bottom + 1e-6:
            job.note("cut.already_there", "note", f"{operation.name}: the pocket is already there.")
            continue
        job.check_reach(top, bottom)
        step = operation.step_over * job.tool.DC
        for piece in pieces(inner):
            rings = rings_of(piece, step)
            above = top
            for z in levels(top, bottom, operation.step_down):
                _clear_level(operation, job, piece, rings, above, z)
                above = z


def _would_reach(fits: float) -> str:
    """Which cutter gets into every corner; into square ones none does."""
    return (
        f"Ø{fits:.1f} would reach every corner"
        if fits >= SMALLEST_CUTTER_MM
        else "its corners are square, and no turning cutter reaches into those"
    )


def _clear_level(
    operation: Pocket, job: Job, piece: Polygon, rings: list[Floats], above: float, z: float
) -> None:
    cutter = cutter_profile(job.tool)
    if not any(takes(job.stock, at_height(ring, z), cutter) for ring in rings):
        return
    room = piece.buffer(1e-3)
    entered = False
    for ring in rings:
        if not entered:
            ring = _enter(operation, job, piece, ring, above, z)
            entered = True
        else:
            x, y, _ = job.path.at
            ring = started_near(ring, (x, y))
            link = LineString([(x, y), tuple(ring[0])])
            if room.contains(link):
                job.path.feed(float(ring[0][0]), float(ring[0][1]), z, job.feed)
            else:
                job.path.rapid(x, y, job.top + operation.retract)
                ring = _enter(operation, job, piece, ring, above, z)
        trace(job, ring, z)
    x, y, _ = job.path.at
    job.path.rapid(x, y, job.top + operation.clearance)


def _enter(operation: Pocket, job: Job, piece: Polygon, ring: Floats, above: float, z: float) -> Floats:
    """Come down to z for a ring: straight where it is clear, by helix where there is room, else along the
    ring.
    """
    cutter = cutter_profile(job.tool)
    circle = maximum_inscribed_circle(piece)
    centre, room = np.array(circle.coords[0]), float(circle.length)
    x, y = float(ring[0][0]), float(ring[0][1])
    if not touches(job.stock, at_height(ring[:1], z), cutter):
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, max(above, z) + operation.retract)
        job.go_down(x, y, z)
        return ring
    turn = min(HELIX_SHARE * job.tool.DC, room)
    start = centre + [turn, 0.0]
    link = LineString([tuple(start), tuple(started_near(ring, (float(start[0]), float(start[1])))[0])])
    if turn > TIGHTEST_SHARE * job.tool.DC and job.tool.cuts_at_centre and piece.buffer(1e-3).contains(link):
        sx, sy = float(start[0]), float(start[1])
        helix_down(job, (float(centre[0]), float(centre[1])), turn, above, z, operation.ramp_deg)
        ring = started_near(ring, (sx, sy))
        job.path.feed(float(ring[0][0]), float(ring[0][1]), z, job.feed)
        return ring
    job.path.rapid(x, y, job.top + operation.clearance)
    job.path.rapid(x, y, above + OVER_MM + operation.retract)
    ramp_along(job, ring, above + OVER_MM, z, operation.ramp_deg)
    return ring
