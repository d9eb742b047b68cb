"""Outline: along a contour, and the chamfer on its edge."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from shapely import LineString, Polygon, box, get_coordinates, unary_union
from shapely.geometry.base import BaseGeometry
from shapely.ops import substring

from pelvrak.core.cutting.contour import along_contour
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
    shadow,
    silhouettes,
    smallest_inner_radius,
    upright_wall,
)
from pelvrak.core.cutting.standing import takes, top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats, to_solid, transformed
from pelvrak.core.geometry.part import FaceRef, face_of
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.geometry.several import piece_mesh

CHAMFER_TIP_MM = 0.5
# Leads, as shares of the cutter's radius, outside and inside: common practice, no source.
LEAD_OUTSIDE, LEAD_INSIDE = 0.6, 0.25
# A cutter that just touches another piece does not cut it, mm.
OFF_OTHERS_MM = 0.002


class Outline(OperationKind):
    """Along a contour: round the part, or round or inside picked faces."""

    called: ClassVar[str] = "Outline"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill", "corner_mill", "chamfer_mill")}
    round_each: ClassVar[bool] = True

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
    lead: Annotated[float, Field(ge=0, le=100)] | None = asked(
        None,
        title="Lead",
        help="radius of the arcs it comes and goes by; 0: straight",
        unit="mm",
        empty="by the cutter",
        place="what",
    )
    spring: Annotated[int, Field(ge=0, le=5)] = asked(
        0, title="Spring passes", help="so often again along the wall, for what the cutter bent", place="what"
    )
    tabs: Annotated[int, Field(ge=0, le=50)] = asked(
        0,
        title="Tabs",
        help="bridges left round the part; with them only a slot is cut round it, and the rest stays",
        place="what",
    )
    tab_width: Annotated[float, Field(gt=0, le=100)] = asked(
        4.0, title="Tab width", help="along the contour", unit="mm", place="what"
    )
    tab_height: Annotated[float, Field(gt=0, le=50)] = asked(
        1.0, title="Tab height", help="from the bottom up", unit="mm", place="what"
    )
    compensation: Literal["computed", "wear", "contour"] = asked(
        "computed",
        title="Cutter radius",
        help=(
            "computed; computed, and its wear corrected by G41, D 0 for a cutter as told; or all of it by"
            " G41: the program goes along the contour, D is the radius"
        ),
        called={"computed": "computed", "wear": "and wear by G41", "contour": "whole by G41"},
        place="program",
    )
    nest: bool = asked(False, title="Nest", help="along the inside of the nest, where a setup cuts one")
    ramp_deg: Ramp = ramp_angle()

    def bore_made(self, tool: Tool, drawn: float) -> float | None:
        milled = self.side == "inside" and self.chamfer is None
        return drawn - 2 * self.on_walls() if milled else None

    def corrected_in_control(self) -> Literal["", "wear", "whole"]:
        told: dict[str, Literal["", "wear", "whole"]] = {"wear": "wear", "contour": "whole"}
        return told.get(self.compensation, "")

    def plan(self, job: Job) -> None:
        if (self.chamfer is None) == (job.tool.kind == "chamfer_mill"):
            raise BadInput(
                "cut.wrong_tool",
                self.name,
                "a chamfer and a chamfer cutter belong together",
                "give the chamfer's width and a chamfer cutter, or neither",
            )
        _plan(self, job)
        if self.corrected_in_control() == "whole":
            along_contour(job.path, job.radius, self.name)


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
        return [(one, None) for one in silhouettes(job.part, job.zero_from_work, operation.not_at)]
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
    contours = _contours(operation, job)
    outside = operation.side == "outside" and not operation.nest
    sign = 1.0 if outside else -1.0
    together: list[tuple[Polygon, Polygon]] = []
    for contour, own_bottom in contours:
        bottom = (
            own_bottom if own_bottom is not None and operation.bottom is None else _bottom_of(operation, job)
        )
        bottom -= operation.below
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
        if outside and operation.chamfer is None and job.part.part.pieces:
            together.append((contour, final))
            continue
        top = top_within(job.stock, offset(final, job.radius))
        if top is None or top <= bottom:
            continue
        job.check_reach(top, bottom)
        rings = [ring for one in _passes(operation, job, contour, final) for ring in _rings(one, sign)]
        for z in levels(top, bottom, operation.step_down):
            for ring in rings:
                _follow_ring(operation, job, ring, z, bottom, Polygon())
    if together:
        _round_pieces(operation, job, together)


def _passes(operation: Outline, job: Job, contour: BaseGeometry, final: BaseGeometry) -> list[Polygon]:
    """What the passes along a contour go round, from the outermost to the final one."""
    # The material wanting to go lies between the contour and the farthest stock beside it.
    spare = 0.0
    if operation.side == "outside" and not operation.nest:
        corners = box(job.stock.low[0], job.stock.low[1], job.stock.high[0], job.stock.high[1])
        spare = min(float(corners.hausdorff_distance(contour)), 60.0)
    step = operation.step_over * job.tool.DC
    once = spare == 0.0 or operation.chamfer is not None or operation.tabs > 0
    rounds = 1 if once else max(1, math.ceil(spare / step))
    return [
        piece for k in range(rounds - 1, -1, -1) for piece in pieces(offset(final, k * step) if k else final)
    ]


def _round_pieces(operation: Outline, job: Job, contours: list[tuple[Polygon, Polygon]]) -> None:
    """Round several pieces of a billet: what lies about them in passes round all, then each by itself, so
    that nothing is cut twice. contours: of each, with where the cutter's middle goes at last.
    """
    bottom = _bottom_of(operation, job) - operation.below
    reach = job.radius + operation.on_walls() - OFF_OTHERS_MM
    stands = {
        name: shadow(to_solid(transformed(piece_mesh(job.part, name), job.zero_from_work)), bottom + 0.01)
        for name in job.part.part.pieces
    }
    left_out = unary_union([stands[name] for name in operation.not_at])
    whole = unary_union([final for _, final in contours])
    top = top_within(job.stock, offset(whole, job.radius))
    if top is None or top <= bottom:
        return
    job.check_reach(top, bottom)
    around = unary_union([contour for contour, _ in contours])
    keep_off = offset(left_out, reach) if not left_out.is_empty else left_out
    rings: list[tuple[Floats, BaseGeometry]] = []
    for one in _passes(operation, job, around, whole):
        if not any(one.equals(piece) for piece in pieces(whole)):
            rings += [
                (ring, keep_off) for part in pieces(one.difference(keep_off)) for ring in _all_rings(part)
            ]
    for contour, final in contours:
        others = unary_union([one for one in stands.values() if not one.intersects(contour)])
        off = offset(others, reach) if not others.is_empty else others
        rings += [(ring, off) for piece in pieces(final) for ring in _rings(piece, 1.0)]
    for z in levels(top, bottom, operation.step_down):
        for ring, off in rings:
            _follow_ring(operation, job, ring, z, bottom, off)


def _all_rings(piece: Polygon) -> list[Floats]:
    """Round the outside of a region, and round what lies in it, in climb."""
    inside = [ring_of(Polygon(ring), clockwise=False) for ring in piece.interiors]
    return [ring_of(piece, clockwise=True), *inside]


def _rings(piece: Polygon, sign: float) -> list[Floats]:
    """The rings of a piece of room to be followed in climb: inside, round its islands too."""
    islands = piece.interiors if sign < 0 else ()
    return [
        ring_of(piece, clockwise=sign > 0),
        *(ring_of(Polygon(island), clockwise=True) for island in islands),
    ]


def _follow_ring(
    operation: Outline, job: Job, ring: Floats, z: float, bottom: float, keep_off: BaseGeometry
) -> None:
    """One pass along a contour at one depth: lead in by a tangent arc from the air side, climb, lead out.
    keep_off: where the cutter's middle may not come for
    other pieces' sake.
    """
    outside = operation.side == "outside" and not operation.nest
    cutter = cutter_profile(job.tool)
    if not takes(job.stock, at_height(ring, z), cutter):
        return
    t = ring[1] - ring[0]
    t = t / np.hypot(*t)
    n = np.array([-t[1], t[0]])  # air is on the left
    lead = _lead(operation, job, ring, outside)
    centre = ring[0] + n * lead
    entry = centre - t * lead
    # Inside, the cutter comes down over the middle of its arc, so that there is a straight line before it.
    start = entry if outside else centre
    out = centre + t * lead
    roomy = not LineString([entry, centre, out]).intersects(keep_off)
    clear = lead > 0 and roomy and not touches(job.stock, at_height(np.array([start]), z), cutter)
    if not clear and roomy and outside and not operation.tabs:
        for away in np.arange(2.0, 80.0, 2.0):
            start = entry + n * away
            if LineString([entry, start]).intersects(keep_off):
                break
            if not touches(job.stock, at_height(np.array([start]), z), cutter):
                clear = True
                break
    corrected = operation.compensation != "computed"
    if clear:
        if corrected and np.allclose(start, entry):
            start = entry + n * max(job.radius, 1.0)
        job.path.rapid(float(start[0]), float(start[1]), job.top + operation.clearance)
        job.path.rapid(float(start[0]), float(start[1]), z + operation.retract)
        job.go_down(float(start[0]), float(start[1]), z)
        job.lead_to(float(entry[0]), float(entry[1]), z)
        if corrected:
            job.path.compensate("left")
        _arc(job, ring[0], centre, z)
    else:
        _down_along(operation, job, ring, z, bottom)
    last = z <= bottom + 1e-6
    for _ in range(1 + (operation.spring if last else 0)):
        _round(operation, job, ring, z, bottom)
    # In the slot round a part that tabs hold there is nowhere to lead out to.
    if lead > 0 and roomy and (clear or not operation.tabs):
        _arc(job, out, centre, z)
    if corrected and clear:
        x, y = (float(c) for c in out + n * max(job.radius, 1.0)) if outside else (float(c) for c in centre)
        job.lead_to(x, y, z)
        job.path.compensate("off")
    x, y, _ = job.path.at
    job.path.rapid(x, y, job.top + operation.clearance)


def _down_along(operation: Outline, job: Job, ring: Floats, z: float, bottom: float) -> None:
    """Down along the contour itself, where there is no other way in."""
    if operation.compensation != "computed":
        job.note(
            "cut.no_compensation",
            "warning",
            f"{operation.name} has no room for a straight way in; G41 is not written at Z{z:.2f}.",
            at_height(ring[:1], z)[0],
        )
    x, y = float(ring[0][0]), float(ring[0][1])
    job.path.rapid(x, y, job.top + operation.clearance)
    job.path.rapid(x, y, job.top + operation.retract)
    # A ramp goes all the way round: no lower than the tabs.
    low = max(z, _over_tabs(operation, bottom)) if operation.tabs else z
    if low < job.top:
        ramp_along(job, ring, job.top + 0.2, low, operation.ramp_deg)
    job.go_down(x, y, z)


def _lead(operation: Outline, job: Job, ring: Floats, outside: bool) -> float:
    """Radius of the arcs in and out, mm; 0 where there is no room for them."""
    lead = job.radius * (LEAD_OUTSIDE if outside else LEAD_INSIDE)
    if operation.lead is not None:
        lead = operation.lead
    return 0.0 if not outside and Polygon(ring).buffer(-lead).is_empty else lead


def _arc(job: Job, end: Floats, centre: Floats, z: float) -> None:
    to = (float(end[0]), float(end[1]), z)
    job.lead_round(to, (float(centre[0]), float(centre[1])))


def _over_tabs(operation: Outline, bottom: float) -> float:
    """Height of the tabs' tops, mm: what is cut past the bottom is below them."""
    return bottom + max(operation.below, 0.0) + operation.tab_height


def _round(operation: Outline, job: Job, ring: Floats, z: float, bottom: float) -> None:
    """Once along a contour, up and over its tabs."""
    over = _over_tabs(operation, bottom)
    if operation.tabs == 0 or z >= over - 1e-6:
        trace(job, ring, z)
        return
    line = LineString(ring)
    half = (operation.tab_width + job.tool.DC) / 2
    if 2 * half * operation.tabs >= line.length:
        raise BadInput(
            "cut.tabs_too_wide",
            operation.name,
            f"{operation.tabs} tabs of {operation.tab_width:g} mm leave nothing of {line.length:.1f} mm",
            "give fewer tabs, or narrower ones",
        )
    at = 0.0
    for number in range(operation.tabs):
        middle = (number + 0.5) * line.length / operation.tabs
        trace(job, get_coordinates(substring(line, at, middle - half)), z)
        job.path.feed(*job.path.at[:2], over, job.plunge)
        trace(job, get_coordinates(substring(line, middle - half, middle + half)), over)
        job.path.feed(*job.path.at[:2], z, job.plunge)
        at = middle + half
    trace(job, get_coordinates(substring(line, at, line.length)), z)
