"""Outline: along a contour, and the chamfer on its edge."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from shapely import Polygon, box

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
from pelvrak.core.cutting.passes import at_height, levels, ramp_along, ring_of, trace
from pelvrak.core.cutting.regions import (
    floor_region,
    heights_of,
    offset,
    opening_region,
    silhouette,
    smallest_inner_radius,
    upright_wall,
)
from pelvrak.core.cutting.standing import top_within, touches
from pelvrak.core.cutting.tools import ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef, face_of
from pelvrak.core.geometry.planar import pieces

CHAMFER_TIP_MM = 0.5


class Outline(OperationKind):
    """Along a contour: round the part, or round or inside picked faces."""

    called: ClassVar[str] = "Outline"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill", "chamfer_mill")}

    kind: Literal["outline"] = "outline"
    side: Literal["outside", "inside"] = asked(
        "outside", title="Side", help="on which side of the contour the cutter goes", place="what"
    )
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Faces",
        help="plane faces whose outer boundary is followed, or bores",
        widget="faces",
        pick="Pick a face for this operation",
        empty="the part’s silhouette",
        place="what",
    )
    bottom: FaceRef | None = asked(
        None,
        title="Down to",
        help="a face at whose height it stops",
        widget="faces",
        pick="Pick the face to stop at",
        empty="the part’s bottom",
        place="what",
    )
    chamfer: Annotated[float, Field(gt=0, le=20)] | None = asked(
        None,
        title="Chamfer",
        help="width of a chamfer on the edge, cut with a chamfer cutter; how deep it goes follows",
        unit="mm",
        empty="none",
        when={"tool.kind": ["chamfer_mill"], "chamfer": ["given"]},
        place="what",
    )
    below: Annotated[float, Field(ge=-100, le=50)] = asked(
        0.0, title="Below bottom", help="how far past its bottom it goes", unit="mm", place="what"
    )
    step_down: Depth = depth_of_pass(10.0)
    step_over: StepOver = width_of_pass(0.5)
    leave: Leave | None = leaves("Leave", "what stays on the wall")
    nest: bool = asked(False, title="Nest", help="along the inside of the nest, where a setup cuts one")
    ramp_deg: Ramp = ramp_angle()

    def plan(self, job: Job) -> None:
        if (self.chamfer is None) == (job.tool.kind == "chamfer_mill"):
            raise BadInput(
                "cut.wrong_tool",
                self.name,
                "a chamfer and a chamfer cutter belong together",
                "give the chamfer's width and a chamfer cutter, or neither",
            )
        _plan(self, job)


def _bottom_of(operation: Outline, job: Job) -> float:
    if operation.bottom is None:
        return job.part_heights[0]
    face = face_of(job.part.part, operation.bottom, operation.name)
    return heights_of(job.part.part, face, job.zero_from_work)[0]


def _contours(operation: Outline, job: Job) -> list[tuple[Polygon, float | None]]:
    if operation.nest:
        room, floor = job.room("floor")
        return [(piece, floor) for piece in pieces(room)]
    if not operation.faces:
        return [(silhouette(job.part.mesh, job.zero_from_work), None)]
    contours: list[tuple[Polygon, float | None]] = []
    for ref in operation.faces:
        face = face_of(job.part.part, ref, operation.name)
        if face.kind == "cylinder" or (operation.side == "inside" and upright_wall(face, job.zero_from_work)):
            region, bottom, _ = opening_region(job.part, face, job.zero_from_work, operation.name)
            if not any(known.equals(region) for known, _ in contours):
                contours.append((region, bottom))
        else:
            region, height = floor_region(job.part.part, face, job.zero_from_work, operation.name)
            contours.append((Polygon(region.exterior), height if operation.side == "inside" else None))
    return contours


def _on_edge(operation: Outline, job: Job, contour: Polygon) -> tuple[float, float] | None:
    """Offset and tip height that cut a chamfer on the edge of the material along a contour.

    The edge is as high as the stock stands beside the contour. Its flank leaves `chamfer` mm across;
    the tip goes CHAMFER_TIP_MM below the chamfer's foot, so that the flank cuts and not the point.
    """
    assert operation.chamfer is not None
    assert job.tool.SIG is not None
    beside = contour.buffer(1.0) - contour if operation.side == "inside" else contour - contour.buffer(-1.0)
    edge = top_within(job.stock, beside)
    if edge is None:
        return None
    slope = math.tan(math.radians(job.tool.SIG / 2))
    widest = operation.chamfer + CHAMFER_TIP_MM * slope
    if widest > job.radius:
        raise BadInput(
            "cut.chamfer_too_big",
            operation.name,
            f"a chamfer of {operation.chamfer:g} mm is wider than {job.tool.name} reaches",
            f"a chamfer up to {job.radius - CHAMFER_TIP_MM * slope:.2f} mm",
        )
    return CHAMFER_TIP_MM * slope, edge - operation.chamfer / slope - CHAMFER_TIP_MM


def _plan(operation: Outline, job: Job) -> None:
    for contour, own_bottom in _contours(operation, job):
        bottom = (
            own_bottom if own_bottom is not None and operation.bottom is None else _bottom_of(operation, job)
        )
        bottom -= operation.below
        sign = 1.0 if operation.side == "outside" and not operation.nest else -1.0
        reach = job.radius + operation.on_walls()
        if operation.chamfer is not None:
            placed = _on_edge(operation, job, contour)
            if placed is None:
                continue
            reach, bottom = placed
        final = offset(contour, sign * reach)
        if not pieces(final):
            job.note(
                "cut.tool_too_big",
                "error",
                f"{job.tool.name} does not fit inside the contour.",
                at_height(np.array(contour.centroid.coords), bottom)[0],
                measured=job.tool.DC,
                limit=round(2 * smallest_inner_radius(contour), 2),
                unit="mm",
            )
            continue
        # The material wanting to go lies between the contour and the farthest stock beside it.
        spare = 0.0
        if sign > 0:
            corners = box(job.stock.low[0], job.stock.low[1], job.stock.high[0], job.stock.high[1])
            spare = min(float(corners.hausdorff_distance(contour)), 60.0)
        step = operation.step_over * job.tool.DC
        once = sign < 0 or operation.chamfer is not None
        rounds = 1 if once else max(1, math.ceil(spare / step))
        top = top_within(job.stock, offset(final, job.radius))
        if top is None or top <= bottom:
            continue
        job.check_reach(top, bottom)
        rings = [
            ring_of(piece, clockwise=sign > 0)
            for k in range(rounds - 1, -1, -1)
            for piece in pieces(offset(final, sign * k * step) if k else final)
        ]
        for z in levels(top, bottom, operation.step_down):
            for ring in rings:
                _follow_ring(operation, job, ring, z)


def _follow_ring(operation: Outline, job: Job, ring: Floats, z: float) -> None:
    """One pass along a contour at one depth: lead in by a tangent arc from the air side, climb, lead out."""
    outside = operation.side == "outside" and not operation.nest
    cutter = cutter_profile(job.tool)
    if not touches(job.stock, at_height(ring, z), cutter):
        return
    t = ring[1] - ring[0]
    t = t / np.hypot(*t)
    n = np.array([-t[1], t[0]])  # air is on the left
    lead = job.radius * (0.6 if outside else 0.25)
    if not outside:
        room = Polygon(ring).buffer(-lead)
        lead = lead if not room.is_empty else 0.0
    centre = ring[0] + n * lead
    entry = centre - t * lead
    start = entry
    clear = lead > 0 and not touches(job.stock, at_height(np.array([entry]), z), cutter)
    if not clear and outside:
        for away in np.arange(2.0, 80.0, 2.0):
            start = entry + n * away
            if not touches(job.stock, at_height(np.array([start]), z), cutter):
                clear = True
                break
    if clear:
        job.path.rapid(float(start[0]), float(start[1]), job.top + operation.clearance)
        job.path.rapid(float(start[0]), float(start[1]), z + operation.retract)
        job.path.feed(float(start[0]), float(start[1]), z, job.plunge)
        job.path.feed(float(entry[0]), float(entry[1]), z, job.lead)
        job.path.arc(
            "ccw", (float(ring[0][0]), float(ring[0][1]), z), (float(centre[0]), float(centre[1])), job.lead
        )
    else:
        x, y = float(ring[0][0]), float(ring[0][1])
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, job.top + operation.retract)
        ramp_along(job, ring, job.top + 0.2, z, operation.ramp_deg)
    trace(job, ring, z)
    if lead > 0:
        out = centre + t * lead
        job.path.arc("ccw", (float(out[0]), float(out[1]), z), (float(centre[0]), float(centre[1])), job.lead)
    x, y, _ = job.path.at
    job.path.rapid(x, y, job.top + operation.clearance)
