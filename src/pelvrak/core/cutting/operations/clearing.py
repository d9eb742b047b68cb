"""Clearing: all that stands between the stock and the part, layer by layer."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Annotated, ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field
from shapely import Point, Polygon, box, maximum_inscribed_circle
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.boundary import (
    Box,
    Limit,
    Within,
    boundary,
    boundary_field,
    box_field,
    limit_field,
    room_for_middle,
)
from pelvrak.core.cutting.fronts import LOOSE_MM, Cleared, Cut, Front, core, steady_fronts
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
from pelvrak.core.cutting.passes import (
    HELIX_SHARE,
    MARGIN_MM,
    OVER_MM,
    TIGHTEST_SHARE,
    helix_down,
    ramp_along,
    ring_of,
    rings_of,
    trace,
)
from pelvrak.core.cutting.regions import loop_points, lowest_of, offset, shadow, without_cracks
from pelvrak.core.cutting.standing import TOUCH_MM
from pelvrak.core.cutting.toolpath import ARC_FIT_MM
from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.stock.above import region_above
from pelvrak.core.stock.field import error_of

# Stock thinner than this on a wall is none, mm: rays know no more of a wall that was cut.
WALL_MM = 0.02
# Between passes the cutter lifts off the floor by this, mm: common practice, no source.
LIFT_MM = 0.3
# Rooms alike to this are one room, mm.
SAME_MM = 1e-3
# Floors nearer to each other than this are one level, mm.
SAME_LEVEL_MM = 1e-3


class Clearing(OperationKind):
    """Everything between the stock and the part with what stays on it, layer by layer, as far as the cutter
    reaches: a smaller one after it takes only what it has left.
    """

    called: ClassVar[str] = "Clearing"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {
        "": ("end_mill", "corner_mill", "ball_mill", "face_mill")
    }

    kind: Literal["clearing"] = "clearing"
    finish: Annotated[str, Field(max_length=40)] | None = asked(
        "rough",
        title="Finish",
        help="rough, semi-finish or finish: what stays, and how fast it goes, where it is not said here",
        widget="finish",
        place="where",
    )
    within: Within = boundary_field()
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Faces",
        help="what lies over them, seen along the spindle, is cut",
        widget="faces",
        pick="Pick faces that look to the spindle",
        when={"within": ["faces"]},
        place="what",
    )
    box: Box = box_field()
    limit: Limit = limit_field()
    top: Annotated[float, Field(ge=-2000, le=2000)] | None = asked(
        None,
        title="From height",
        help="Z over which it leaves everything, from work zero",
        unit="mm",
        empty="stock’s top",
        place="what",
    )
    bottom: FaceRef | None = asked(
        None,
        title="Down to",
        help="a face at whose height it stops",
        widget="faces",
        pick="Pick the face to stop at",
        empty="the part’s bottom, or the lowest of the faces",
        place="what",
    )
    below: Annotated[float, Field(ge=-100, le=50)] = asked(
        0.0, title="Below bottom", help="how far past its bottom it goes", unit="mm", place="what"
    )
    way: Literal["steady", "rings"] = asked(
        "steady",
        title="Passes",
        help="of one width everywhere, slots and corners too, or rings beside each other",
        called={"steady": "steady width", "rings": "rings"},
        place="what",
    )
    step_down: Depth = depth_of_pass(8.0)
    step_over: StepOver = width_of_pass(0.15)
    leave_side: Leave | None = leaves("Leave side", "what stays on the walls")
    leave_floor: Leave | None = leaves("Leave floor", "what stays on the floors")
    ramp_deg: Ramp = ramp_angle()

    def plan(self, job: Job) -> None:
        _Layers(self, job).cut()


@dataclass(frozen=True)
class _Room:
    """Where the cutter's middle may be at one depth, in one piece. wanted: where it would cut; stock: what
    stands there.
    """

    region: Polygon
    wanted: BaseGeometry
    stock: BaseGeometry


@dataclass
class _Layers:
    """The layers of one operation as they are planned. floors: heights of the part's floors, with their
    regions; within: where the cutter's middle may be at all.
    """

    operation: Clearing
    job: Job
    floors: list[tuple[float, Polygon]] = field(default_factory=list)
    within: BaseGeometry = field(default_factory=Polygon)
    rooms_at: dict[float, list[_Room]] = field(default_factory=dict)
    known: dict[tuple[bytes, ...], list[Front]] = field(default_factory=dict)

    @property
    def width(self) -> float:
        """Of cut, mm."""
        return self.operation.step_over * self.job.tool.DC

    @property
    def wall(self) -> float:
        """What is thinner on a wall counts as none, mm: what rays know of one as round as the cutter."""
        return max(WALL_MM, error_of(self.job.stock.field.grid.cell, self.job.radius))

    def cut(self) -> None:
        """Plan it."""
        operation, job = self.operation, self.job
        region = boundary(job, operation.within, operation.faces, operation.box)
        reach = job.radius + MARGIN_MM
        self.within = box(*(job.stock.low[:2] - reach), *(job.stock.high[:2] + reach))
        if region is not None:
            self.within = self.within.intersection(room_for_middle(region, operation.limit, job.radius))
        top = job.top if operation.top is None else min(operation.top, job.top)
        bottom = self._bottom()
        self.floors = self._floors(top, bottom)
        for piece in pieces(self.within):
            self._below(_Room(piece, piece, piece), top, bottom)

    def _bottom(self) -> float:
        operation, job = self.operation, self.job
        if operation.bottom is not None:
            refs: tuple[FaceRef, ...] = (operation.bottom,)
        elif operation.within == "faces":
            refs = operation.faces
        else:
            return job.part_heights[0] - operation.below
        return lowest_of(job.part.part, refs, job.zero_from_work, operation.name) - operation.below

    def _floors(self, top: float, bottom: float) -> list[tuple[float, Polygon]]:
        """Floors of the part on the way down: levels end on them."""
        part, zero, found = self.job.part.part, self.job.zero_from_work, []
        for face in part.faces:
            if face.normal is None or turned(zero, np.array(face.normal))[2] < 1 - 1e-9:
                continue
            height = float(moved(zero, np.array(face.centre))[2])
            if bottom + SAME_LEVEL_MM < height < top:
                found.append((height, Polygon(loop_points(part, face.loops[0], zero)[:, :2]).buffer(0)))
        return found

    def _below(self, room: _Room, above: float, bottom: float) -> None:
        """Clear what lies under a room, pocket by pocket."""
        floor = self._next_floor(room, above, bottom)
        if floor is None:
            return
        passes = max(1, math.ceil((above - floor) / self.operation.step_down - 1e-9))
        z = above - (above - floor) / passes
        for below in self._rooms(z):
            if below.region.intersects(room.region) and below.region.intersection(room.region).area > 1e-3:
                if not below.wanted.is_empty:
                    self._clear(below, above, z)
                self._below(below, z, bottom)

    def _next_floor(self, room: _Room, above: float, bottom: float) -> float | None:
        """The height to be gone down to next in a room: of a floor of the part in it, or the bottom."""
        near = room.region.buffer(self.job.radius)
        leave = self.operation.on_floors()
        heights = [
            height + leave
            for height, region in self.floors
            if height + leave < above - SAME_LEVEL_MM and near.intersects(region)
        ]
        lowest = bottom + leave
        return max(heights, default=lowest) if above > lowest + SAME_LEVEL_MM else None

    def _rooms(self, z: float) -> list[_Room]:
        """Where the cutter's middle may be at a height, and where it would cut."""
        key = round(z, 6)
        if key not in self.rooms_at:
            operation, job = self.operation, self.job
            part = without_cracks(shadow(job.solid, z - operation.on_floors() + 0.01))
            free = self.within.difference(offset(part, job.radius + operation.on_walls()))
            stock = region_above(job.stock.field, z + TOUCH_MM).buffer(-self.wall)
            met = stock.buffer(job.radius, quad_segs=48)
            self.rooms_at[key] = [
                _Room(piece, _without_slivers(piece.intersection(met), self.wall), stock)
                for piece in pieces(free)
            ]
        return self.rooms_at[key]

    def _clear(self, room: _Room, above: float, z: float) -> None:
        """One layer of one room."""
        self.job.check_reach(above, z)
        begun = room.region.difference(room.wanted.buffer(1e-6))
        layer = _Layer(
            self.operation, self.job, room.region, room.wanted, room.stock, self.width, above, z, self.known
        )
        layer.cut(begun)


def _without_slivers(region: BaseGeometry, wall: float) -> BaseGeometry:
    """A region without what is thinner than rays know of a wall."""
    return shapely.union_all([piece for piece in pieces(region) if not piece.buffer(-wall).is_empty])


@dataclass
class _Layer:
    """One layer in one room being cut. above: what stands over it is gone down to there; z: its own depth."""

    operation: Clearing
    job: Job
    room: Polygon
    wanted: BaseGeometry
    stock: BaseGeometry
    width: float
    above: float
    z: float
    known: dict[tuple[bytes, ...], list[Front]]
    cleared: Cleared = field(default_factory=lambda: Cleared(Polygon()))

    def cut(self, begun: BaseGeometry) -> None:
        """Cut it. begun: where the cutter's middle meets nothing."""
        job = self.job
        open_to_air = begun.area > 1e-2
        self.cleared = Cleared(begun if open_to_air else Polygon())
        if self.operation.way == "rings":
            self._rings(open_to_air)
        elif open_to_air:
            self._passes(self._fronts(self.room, begun, self.wanted))
        else:
            self._closed()
        x, y, _ = job.path.at
        job.path.rapid(x, y, job.top + self.operation.clearance)

    def _closed(self) -> None:
        """A room with no way in but from above: by a helix, out to its middle, then to its walls."""
        job = self.job
        centre, turn, middle = core(self.room, HELIX_SHARE * job.tool.DC, self.sizes)
        helix = self._down(centre, turn)
        begun = self.cleared.region
        if helix and middle is not self.room:
            self._passes(self._fronts(middle, begun, middle))
            begun = middle
        self._passes(self._fronts(self.room, begun, self.wanted))

    def _down(self, centre: Point, turn: float) -> bool:
        """Down by a helix round a place where there is room for one, else along the room's longest ring.
        Returns whether it was a helix.
        """
        job = self.job
        if turn < TIGHTEST_SHARE * job.tool.DC or not job.tool.cuts_at_centre:
            self._down_along()
            return False
        helix_down(job, (centre.x, centre.y), turn, self.above, self.z, self.operation.ramp_deg)
        self.cleared = Cleared(centre.buffer(turn, quad_segs=48))
        return True

    @property
    def sizes(self) -> Cut:
        return Cut(self.width, self.job.radius)

    def _fronts(self, room: Polygon, begun: BaseGeometry, wanted: BaseGeometry) -> Iterator[Front]:
        """The passes of a room; upright walls are the same at every depth, and their passes kept."""
        key = tuple(shapely.set_precision(one, SAME_MM).normalize().wkb for one in (room, begun, wanted))
        if key not in self.known:
            self.known[key] = list(steady_fronts(room, begun, wanted, self.stock, self.sizes))
        return iter(self.known[key])

    def _down_along(self) -> None:
        """Down along the longest ring of a room too tight for a helix: there the cutter is in full width."""
        job = self.job
        ring = ring_of(self.room, clockwise=False)
        x, y = float(ring[0][0]), float(ring[0][1])
        job.path.rapid(x, y, job.top + self.operation.clearance)
        job.path.rapid(x, y, self.above + OVER_MM + self.operation.retract)
        ramp_along(job, ring, self.above + OVER_MM, self.z, self.operation.ramp_deg)
        trace(job, ring, self.z)
        self.cleared = Cleared(self.room.exterior.buffer(1e-3).intersection(self.room))

    def _rings(self, open_to_air: bool) -> None:
        """Rings from the middle out, or from outside in."""
        rings = rings_of(self.room, self.width)
        touched = self.wanted.buffer(1e-3)
        rings = [ring for ring in rings if touched.intersects(Polygon(ring).exterior)]
        if open_to_air:
            rings.reverse()
        fronts = [
            Front(ring, True, None, Polygon(), Polygon(ring).exterior.buffer(self.width)) for ring in rings
        ]
        if rings and not open_to_air:
            circle = maximum_inscribed_circle(self.room)
            self._down(Point(circle.coords[0]), min(HELIX_SHARE * self.job.tool.DC, float(circle.length)))
        self._passes(iter(fronts))

    def _passes(self, fronts: Iterator[Front]) -> None:
        """Follow passes, with a way to each through what is cleared or over all."""
        job = self.job
        for front in fronts:
            lead, way = front.led(np.array(job.path.at[:2]))
            self._go_to(lead[0])
            if front.cut is not None:
                with job.path.leading():
                    trace(job, np.concatenate([lead[:-1], way[:1]]), self.z, LOOSE_MM)
            trace(job, way, self.z, LOOSE_MM if front.cut else ARC_FIT_MM)
            self.cleared.add(front)

    def _go_to(self, place: Floats) -> None:
        """To where a pass begins."""
        job, z = self.job, self.z
        x, y = float(place[0]), float(place[1])
        at = np.array(job.path.at[:2])
        down = abs(job.path.at[2] - z) < 1e-9
        apart = float(np.hypot(*(place - at)))
        if down and apart < 1e-6:
            return
        if down and self.cleared.holds(at, place):
            if apart > self.width:
                lifted = z + LIFT_MM
                job.path.feed(float(at[0]), float(at[1]), lifted, job.data.link_mm_min)
                job.path.feed(x, y, lifted, job.data.link_mm_min)
                job.go_down(x, y, z)
            else:
                job.path.feed(x, y, z, job.feed)
            return
        if down and apart <= self.width:
            job.path.feed(x, y, z, job.feed)
            return
        job.path.rapid(float(at[0]), float(at[1]), job.top + self.operation.clearance)
        job.path.rapid(x, y, job.top + self.operation.clearance)
        if z + self.operation.retract < job.path.at[2]:
            job.path.rapid(x, y, z + self.operation.retract)
        job.go_down(x, y, z)
