"""Chamfer: edges broken along picked edges, without touching walls beside."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal, NamedTuple

import numpy as np
import shapely
from pydantic import Field, model_validator
from shapely import LineString, Point
from shapely.geometry.base import BaseGeometry, BaseMultipartGeometry
from shapely.ops import linemerge

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import OperationKind
from pelvrak.core.cutting.passes import at_height, trace
from pelvrak.core.cutting.regions import shadow
from pelvrak.core.cutting.standing import touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import EdgeRef, Face, FaceRef, Part, edge_of, face_of
from pelvrak.core.geometry.planar import region_of
from pelvrak.core.geometry.rigid import moved, turned

# The tip goes so far below the chamfer's foot, so that the flank cuts and not the point, mm: common practice,
# no source.
TIP_MM = 0.5
# Ends of edges this near to each other are one, mm; so level is an edge that lies level.
SAME_MM = 1e-3
# From walls beside the cutter keeps off so far, mm: common practice, no source.
CLEAR_MM = 0.05
# Walls are looked at in so many heights under and over the edge.
BANDS = 5
# Of the material beside an edge so much is looked at to see on which side it lies, mm.
LOOK_MM = 0.02
# A flank slopes as a drawn chamfer does when they lean no more than this apart, degrees.
SLOPE_DEG = 0.25
# Cosine of the angle within which a cone stands upright; the slopes between which a face is a chamfer.
UPRIGHT, STEEPEST = 1 - 1e-9, math.tan(math.radians(10.0))


class Chamfering(OperationKind):
    """Level edges, broken by a chamfer cutter: on the side where the material falls away, and only as far as
    no wall stands in the cutter's way.
    """

    called: ClassVar[str] = "Chamfer, deburr"
    pick_first: ClassVar[str] = "Pick an edge"
    picks: ClassVar[str] = "edges"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("chamfer_mill", "spot_drill")}

    kind: Literal["chamfering"] = "chamfering"
    edges: tuple[EdgeRef, ...] = asked(
        (),
        title="Edges",
        help="level edges of the part that are drawn sharp, to be broken",
        widget="edges",
        pick="Pick an edge",
        place="what",
    )
    width: Annotated[float, Field(gt=0, le=20)] = asked(
        0.3, title="Width", help="of the chamfer along sharp edges, across", unit="mm", place="what"
    )
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Drawn",
        help="chamfers that the part is drawn with: their sloping faces, cut as wide as drawn",
        widget="faces",
        pick="Pick a chamfer’s face",
        place="what",
    )

    @model_validator(mode="after")
    def _told(self) -> Chamfering:
        """Raises ValueError where it is told nothing."""
        if not self.edges and not self.faces:
            raise ValueError("it is told no edge and no chamfer; pick one")
        return self

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The smallest whose flank is wide enough, and that slopes as a drawn chamfer does."""
        assert tool.SIG is not None
        face = self.first_face(part)
        if face is not None and face.half_angle_deg is not None:
            off = abs(abs(face.half_angle_deg) - tool.SIG / 2)
            return tool.DC / 2 if off <= SLOPE_DEG else math.inf
        needs = self.width + TIP_MM * math.tan(math.radians(tool.SIG / 2))
        return tool.DC / 2 - needs if needs <= tool.DC / 2 else math.inf

    def cut_from(self, part: Part, face: Face, zero_from_work: Floats) -> bool | None:
        """A chamfer looks to the spindle at a slope."""
        try:
            drawn_chamfer(part, face, zero_from_work, self.name)
        except BadInput:
            return False
        return True

    def means_to_cut_in(self) -> bool:
        return bool(self.edges)

    def plan(self, job: Job) -> None:
        _Broken(self, job).plan()


class _Foot(NamedTuple):
    """What runs of edges have in common. height: of the edge, beside which the material falls away; foot: of
    the chamfer; width: of it across, mm.
    """

    height: float
    foot: float
    width: float


class DrawnChamfer(NamedTuple):
    """A chamfer as the part has it, in the zero frame. lower: its lower edges from above; foot, head: its
    heights, mm; slope: how far it goes in for its height.
    """

    lower: list[LineString]
    foot: float
    head: float
    slope: float

    @property
    def width(self) -> float:
        """Across, mm."""
        return self.slope * (self.head - self.foot)


def drawn_chamfer(part: Part, face: Face, zero_from_work: Floats, name: str) -> DrawnChamfer:
    """A sloping face as a chamfer that is seen from the spindle. Raises BadInput where it is none."""
    refused = BadInput(
        "cut.no_chamfer",
        name,
        f"face {face.number} is no chamfer that looks to the spindle between two level edges",
        "pick a sloping plane or a cone whose upper and lower edge lie level in this setup",
    )
    slope = 0.0
    if face.normal is not None:
        normal = turned(zero_from_work, np.array(face.normal))
        slope = float(normal[2]) / max(float(np.hypot(*normal[:2])), 1e-9)
    elif face.half_angle_deg is not None and face.axis is not None:
        up = float(turned(zero_from_work, np.array(face.axis))[2])
        looks_up = ((face.half_angle_deg > 0) == (up > 0)) == face.hollow
        slope = math.tan(math.radians(abs(face.half_angle_deg)))
        if abs(up) < UPRIGHT or not looks_up:
            raise refused
    if not STEEPEST < slope < 1 / STEEPEST:
        raise refused
    runs = [moved(zero_from_work, np.array(part.edges[number].points)) for number in face.edges]
    foot, head = min(run[:, 2].min() for run in runs), max(run[:, 2].max() for run in runs)
    lower = [run for run in runs if np.ptp(run[:, 2]) < SAME_MM and run[0, 2] < foot + SAME_MM]
    if not lower or head < foot + SAME_MM:
        raise refused
    return DrawnChamfer([_from_above(run) for run in lower], float(foot), float(head), slope)


def _from_above(points: Floats) -> LineString:
    """Level points as a line, its ends where those of others are."""
    return LineString(np.round(points[:, :2] / SAME_MM) * SAME_MM)


class _Broken:
    """The edges of one operation, being broken."""

    def __init__(self, operation: Chamfering, job: Job) -> None:
        assert job.tool.SIG is not None
        self.operation, self.job = operation, job
        self.slope = math.tan(math.radians(job.tool.SIG / 2))

    def plan(self) -> None:
        """Fill the job's path. Raises BadInput."""
        job, operation = self.job, self.operation
        widest = job.radius - TIP_MM * self.slope
        alike: dict[_Foot, list[LineString]] = {}
        for ref in operation.edges:
            line, height = self._edge(ref)
            foot = height - operation.width / self.slope
            alike.setdefault(_Foot(round(height, 4), round(foot, 4), operation.width), []).append(line)
        for sloping in operation.faces:
            drawn = self._drawn(face_of(job.part.part, sloping, operation.name))
            own = _Foot(round(drawn.foot, 4), round(drawn.foot, 4), round(drawn.width, 4))
            alike.setdefault(own, []).extend(drawn.lower)
        for at in sorted(alike, reverse=True):
            if at.width > widest:
                raise BadInput(
                    "cut.chamfer_too_big",
                    operation.name,
                    f"a chamfer of {at.width:g} mm is wider than {job.tool.name} reaches",
                    f"a chamfer up to {widest:.2f} mm",
                )
            merged = linemerge(alike[at]) if len(alike[at]) > 1 else alike[at][0]
            lines = merged.geoms if isinstance(merged, BaseMultipartGeometry) else (merged,)
            for line in lines:
                self._break(line, at)

    def _drawn(self, face: Face) -> DrawnChamfer:
        """A drawn chamfer, told where the cutter's flank slopes otherwise. Raises BadInput."""
        job, operation = self.job, self.operation
        drawn = drawn_chamfer(job.part.part, face, job.zero_from_work, operation.name)
        own, has = (math.degrees(math.atan(slope)) for slope in (self.slope, drawn.slope))
        if abs(own - has) > SLOPE_DEG:
            raise BadInput(
                "cut.chamfer_angle",
                operation.name,
                f"face {face.number} stands at {has:.1f}° to the spindle, the flank of {job.tool.name} at"
                f" {own:.1f}°",
                f"a cutter with a point of {2 * has:.0f}°",
            )
        return drawn

    def _edge(self, ref: EdgeRef) -> tuple[LineString, float]:
        """An edge from above, and its height. Raises BadInput where it does not lie level."""
        edge = edge_of(self.job.part.part, ref, self.operation.name)
        points = moved(self.job.zero_from_work, np.array(edge.points))
        if np.ptp(points[:, 2]) > SAME_MM:
            raise BadInput(
                "cut.not_level",
                self.operation.name,
                f"edge {edge.number} does not lie level in this setup",
                "pick level edges, or another index position",
            )
        return _from_above(points), float(points[:, 2].mean())

    def _part_at(self, height: float) -> BaseGeometry:
        return region_of(self.job.solid.slice(height).to_polygons())

    def _break(self, line: LineString, at: _Foot) -> None:
        """One run of edges. The tip goes TIP_MM under the chamfer's foot, and off the wall by what the flank
        is wide at the foot.
        """
        job, operation, height = self.job, self.operation, at.height
        under = self._part_at(height - LOOK_MM)
        away = TIP_MM * self.slope
        side = self._side(line, under)
        if side == 0:
            job.note(
                "cut.no_edge",
                "warning",
                f"{operation.name}: at Z{height:.2f} no material falls away from the edge picked.",
                np.array([*line.interpolate(0.5, normalized=True).coords[0], height]),
            )
            return
        middle = shapely.offset_curve(line, side * away, quad_segs=24, join_style="round")
        clear = middle.difference(self._walls(line, at))
        if clear.length < middle.length - SAME_MM:
            left = middle.difference(clear.buffer(SAME_MM))
            job.note(
                "cut.edge_left",
                "warning",
                f"{operation.name} leaves {left.length:.1f} mm: {job.tool.name} would touch a wall beside.",
                np.array([*left.interpolate(0.5, normalized=True).coords[0], height]),
                measured=round(left.length, 2),
                limit=0.0,
                unit="mm",
            )
        parts = clear.geoms if isinstance(clear, BaseMultipartGeometry) else (clear,)
        for part in parts:
            if part.length > SAME_MM:
                self._follow(shapely.get_coordinates(part), side, at)

    def _side(self, line: LineString, under: BaseGeometry) -> int:
        """On which side of an edge no material stands just under it: 1 left, -1 right, 0 on neither alone."""
        votes = 0
        for share in (0.2, 0.5, 0.8):
            at = np.array(line.interpolate(share, normalized=True).coords[0])
            ahead = np.array(line.interpolate(line.length * share + 0.01).coords[0])
            left = _left(at, ahead) * 2 * LOOK_MM
            free = [not under.contains(Point(at + sign * left)) for sign in (1, -1)]
            votes += int(free[0]) - int(free[1])
        return 1 if votes > 0 else -1 if votes < 0 else 0

    def _walls(self, line: LineString, at: _Foot) -> BaseGeometry:
        """Where the cutter's middle must not be, for walls beside: at several heights of its flank, and its
        full width over them. What the chamfer itself takes is no wall.
        """
        job, tip, height = self.job, at.foot - TIP_MM, at.foot + at.width / self.slope
        own = line.buffer(at.width + CLEAR_MM + 2 * LOOK_MM)
        whole = tip + job.radius / self.slope
        blocked = []
        ends = [*np.linspace(tip, height, BANDS), *np.linspace(height, whole, BANDS)[1:]]
        for low, high in zip(ends, ends[1:], strict=False):
            part = self._between(low, high)
            radius = min((high - tip) * self.slope, job.radius)
            part = part.difference(own) if high <= height + SAME_MM else part
            blocked.append(part.buffer(radius + CLEAR_MM, quad_segs=24))
        blocked.append(self._between(whole, np.inf).buffer(job.radius + CLEAR_MM, quad_segs=24))
        return shapely.union_all(blocked)

    def _between(self, low: float, high: float) -> BaseGeometry:
        """The part between two heights, from above."""
        return shadow(self.job.solid, low + SAME_MM, high - SAME_MM)

    def _follow(self, way: Floats, side: int, at: _Foot) -> None:
        """Along one stretch, in climb: the material on the right."""
        job, operation, tip = self.job, self.operation, at.foot - TIP_MM
        if side < 0:
            way = way[::-1]
        if not touches(job.stock, at_height(way, tip), cutter_profile(job.tool)):
            return
        off = at.width + CLEAR_MM
        x, y = (float(c) for c in way[0] + off * _left(way[0], way[1]))
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, tip + operation.retract)
        job.go_down(x, y, tip)
        job.lead_to(float(way[0][0]), float(way[0][1]), tip)
        trace(job, way, tip)
        x, y = (float(c) for c in way[-1] + off * _left(way[-2], way[-1]))
        job.lead_to(x, y, tip)
        job.path.rapid(x, y, job.top + operation.clearance)


def _left(start: Floats, end: Floats) -> Floats:
    """The unit normal to the left of a way, (2,)."""
    ahead = end - start
    left: Floats = np.array([-ahead[1], ahead[0]]) / max(float(np.hypot(*ahead)), 1e-9)
    return left
