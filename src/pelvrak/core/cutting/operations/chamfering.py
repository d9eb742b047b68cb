"""Chamfer: edges broken along picked edges, without touching walls beside."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field
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
from pelvrak.core.geometry.part import EdgeRef, Part, edge_of
from pelvrak.core.geometry.planar import region_of
from pelvrak.core.geometry.rigid import moved

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


class Chamfering(OperationKind):
    """Level edges, broken by a chamfer cutter: on the side where the material falls away, and only as far as
    no wall stands in the cutter's way.
    """

    called: ClassVar[str] = "Chamfer, deburr"
    pick_first: ClassVar[str] = "Pick an edge"
    picks: ClassVar[str] = "edges"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("chamfer_mill", "spot_drill")}

    kind: Literal["chamfering"] = "chamfering"
    edges: Annotated[tuple[EdgeRef, ...], Field(min_length=1)] = asked(
        title="Edges",
        help="level edges of the part, sharp or already drawn with their chamfer (its lower edge)",
        widget="edges",
        pick="Pick an edge",
        place="what",
    )
    width: Annotated[float, Field(gt=0, le=20)] = asked(
        0.3, title="Width", help="of the chamfer, across", unit="mm", place="what"
    )

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The smallest whose flank is wide enough."""
        assert tool.SIG is not None
        needs = self.width + TIP_MM * math.tan(math.radians(tool.SIG / 2))
        return tool.DC / 2 - needs if needs <= tool.DC / 2 else math.inf

    def means_to_cut_in(self) -> bool:
        return True

    def plan(self, job: Job) -> None:
        _Broken(self, job).plan()


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
        if operation.width > widest:
            raise BadInput(
                "cut.chamfer_too_big",
                operation.name,
                f"a chamfer of {operation.width:g} mm is wider than {job.tool.name} reaches",
                f"a chamfer up to {widest:.2f} mm",
            )
        by_height: dict[float, list[LineString]] = {}
        for ref in operation.edges:
            line, height = self._edge(ref)
            by_height.setdefault(round(height, 4), []).append(line)
        for height in sorted(by_height, reverse=True):
            merged = linemerge(by_height[height]) if len(by_height[height]) > 1 else by_height[height][0]
            lines = merged.geoms if isinstance(merged, BaseMultipartGeometry) else (merged,)
            for line in lines:
                self._break(line, height)

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
        snapped = np.round(points[:, :2] / SAME_MM) * SAME_MM
        return LineString(snapped), float(points[:, 2].mean())

    def _part_at(self, height: float) -> BaseGeometry:
        return region_of(self.job.solid.slice(height).to_polygons())

    def _break(self, line: LineString, height: float) -> None:
        """One run of edges. Its foot lies the chamfer's depth under the edge; the tip TIP_MM lower still, and
        off the wall by what the flank is wide at the foot.
        """
        job, operation = self.job, self.operation
        under = self._part_at(height - LOOK_MM)
        foot = height - operation.width / self.slope
        tip, away = foot - TIP_MM, TIP_MM * self.slope
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
        clear = middle.difference(self._walls(line, height, tip))
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
                self._follow(shapely.get_coordinates(part), side, tip)

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

    def _walls(self, line: LineString, height: float, tip: float) -> BaseGeometry:
        """Where the cutter's middle must not be, for walls beside: at several heights of its flank, and its
        full width over them. What the chamfer itself takes is no wall.
        """
        job = self.job
        own = line.buffer(self.operation.width + CLEAR_MM + 2 * LOOK_MM)
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

    def _follow(self, way: Floats, side: int, tip: float) -> None:
        """Along one stretch, in climb: the material on the right."""
        job, operation = self.job, self.operation
        if side < 0:
            way = way[::-1]
        if not touches(job.stock, at_height(way, tip), cutter_profile(job.tool)):
            return
        off = operation.width + CLEAR_MM
        x, y = (float(c) for c in way[0] + off * _left(way[0], way[1]))
        job.path.rapid(x, y, job.top + operation.clearance)
        job.path.rapid(x, y, tip + operation.retract)
        job.path.feed(x, y, tip, job.plunge)
        job.path.feed(float(way[0][0]), float(way[0][1]), tip, job.lead)
        trace(job, way, tip)
        x, y = (float(c) for c in way[-1] + off * _left(way[-2], way[-1]))
        job.path.feed(x, y, tip, job.lead)
        job.path.rapid(x, y, job.top + operation.clearance)


def _left(start: Floats, end: Floats) -> Floats:
    """The unit normal to the left of a way, (2,)."""
    ahead = end - start
    left: Floats = np.array([-ahead[1], ahead[0]]) / max(float(np.hypot(*ahead)), 1e-9)
    return left
