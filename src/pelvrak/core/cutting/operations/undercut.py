"""Undercut: T-slots and grooves wider than the way in to them, by a cutter on a neck."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from shapely import Point, Polygon, box
from shapely.geometry.base import BaseGeometry
from shapely.ops import nearest_points

from pelvrak.core.cutting.fronts import LOOSE_MM, Cleared, Cut, steady_fronts
from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import Leave, OperationKind, StepOver, leaves, width_of_pass
from pelvrak.core.cutting.passes import MARGIN_MM, levels, trace
from pelvrak.core.cutting.regions import floor_region, offset, shadow, without_cracks
from pelvrak.core.cutting.toolpath import ARC_FIT_MM
from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats, corners_of
from pelvrak.core.geometry.part import FaceRef, face_of
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.stock.above import region_above, region_between

# Beside its neck so much has to be free, mm: common practice, no source.
NECK_CLEAR_MM = 0.1
# A face that looks down when its normal is within this of straight down (cosine).
DOWN = -1 + 1e-6
# Faces and floors this near to each other are at one height, mm.
SAME_MM = 1e-3
# It comes down so far from where something stands, mm: common practice, no source.
INSIDE_MM = 0.5
# Less of a floor left is none, mm².
MISSED_MM2 = 0.5


class Undercut(OperationKind):
    """A T-slot, or a groove in a wall: the cutter comes down beside the stock or in an opening, and goes from
    there where its neck has room.
    """

    called: ClassVar[str] = "T-slot, undercut"
    pick_first: ClassVar[str] = "Pick the floor of the undercut"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("slot_mill",)}

    kind: Literal["undercut"] = "undercut"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)] = asked(
        title="Floors",
        help="the floors of the undercuts, under what hangs over them",
        widget="faces",
        pick="Pick the floor of an undercut",
        place="what",
    )
    step_over: StepOver = width_of_pass(0.1)
    leave_side: Leave | None = leaves("Leave side", "what stays on the walls")

    def engagement(self, cutter_mm: float) -> tuple[float, float] | None:
        return None

    def plan(self, job: Job) -> None:
        for ref in self.faces:
            face = face_of(job.part.part, ref, self.name)
            region, floor = floor_region(job.part.part, face, job.zero_from_work, self.name)
            _Groove(self, job, region, floor).cut()


class _Groove:
    """One undercut."""

    def __init__(self, operation: Undercut, job: Job, floor: Polygon, height: float) -> None:
        self.operation, self.job, self.floor, self.low = operation, job, floor, height
        reach = job.radius + MARGIN_MM
        self.around = box(*(job.stock.low[:2] - reach), *(job.stock.high[:2] + reach))
        # The groove itself, and round it as far as the cutter comes in from.
        self.near = floor.buffer(2 * job.tool.DC + MARGIN_MM)

    def cut(self) -> None:
        """Plan it. Raises BadInput where nothing hangs over the floor, or the cutter is too high for it."""
        job, operation = self.job, self.operation
        assert job.tool.CW is not None
        high = self._ceiling()
        if high - self.low < job.tool.CW - SAME_MM:
            raise BadInput(
                "cut.tool_too_high",
                operation.name,
                f"{job.tool.name} cuts {job.tool.CW:g} mm high, and the undercut is {high - self.low:.4g}",
                f"choose a cutter up to {high - self.low:.4g} mm",
            )
        heights = [self.low]
        if high - self.low > job.tool.CW + SAME_MM:
            top = high - job.tool.CW
            heights = [self.low, *(top - z + self.low for z in levels(top, self.low, job.tool.CW)[:-1]), top]
        for z in sorted(set(heights)):
            self._layer(z)

    def _ceiling(self) -> float:
        """The height of what hangs over the floor, mm. Raises BadInput where nothing does."""
        job, found = self.job, []
        for face in job.part.part.faces:
            if face.normal is None or turned(job.zero_from_work, np.array(face.normal))[2] > DOWN:
                continue
            height = float(moved(job.zero_from_work, np.array(face.centre))[2])
            own = corners_of(job.lying, face.number)[:, :, :2]
            shadow = [Polygon(three) for three in own]
            if height > self.low + SAME_MM and any(
                self.floor.intersection(one).area > 1e-3 for one in shadow
            ):
                found.append(height)
        if not found:
            raise BadInput(
                "cut.no_undercut",
                self.operation.name,
                "nothing hangs over the floor picked",
                "take a pocket or a slot, or pick the floor under the overhang",
            )
        return min(found)

    def _part(self, low: float, high: float) -> BaseGeometry:
        """The part between two heights, seen from above."""
        return without_cracks(shadow(self.job.solid, low + SAME_MM, high - SAME_MM))

    def _layer(self, z: float) -> None:
        """The cutter at one height."""
        job, operation = self.job, self.operation
        assert job.tool.CW is not None
        top, reach = z + job.tool.CW, job.radius + operation.on_walls()
        neck = (job.tool.DN or job.tool.DCON) / 2 + NECK_CLEAR_MM
        beside = offset(self._part(z, top), reach).union(offset(self._part(top, np.inf), neck))
        stock = region_between(job.stock.field, z + SAME_MM, top - SAME_MM)
        standing = region_above(job.stock.field, z + SAME_MM)
        for room in pieces(self.around.intersection(self.near).difference(beside)):
            begun = room.difference(offset(standing.union(self._part(z, np.inf)), job.radius + 1e-3))
            wanted = room.intersection(stock.buffer(-LOOSE_MM).buffer(job.radius, quad_segs=48))
            if wanted.area < 1e-2 or wanted.intersection(self.floor.buffer(job.radius)).area < 1e-2:
                continue
            if begun.area < 1e-2:
                job.note(
                    "cut.no_way_in",
                    "error",
                    f"{job.tool.name} cannot come down to {operation.name} anywhere: no opening is Ø"
                    f"{job.tool.DC:g} wide, and it is open to no side.",
                    np.array([*room.representative_point().coords[0], z]),
                    measured=job.tool.DC,
                    unit="mm",
                )
                continue
            missed = self.floor.difference(offset(room, job.radius)).area
            if missed > MISSED_MM2 and operation.on_walls() == 0:
                job.note(
                    "cut.corners_left",
                    "warning",
                    f"{job.tool.name} leaves {missed:.1f} mm² of the floor: its neck or its size stops it.",
                    np.array([*room.representative_point().coords[0], z]),
                    measured=round(missed, 2),
                    limit=MISSED_MM2,
                    unit="mm²",
                )
            # In and out at one place: between two the part may stand.
            self._passes(room, max(pieces(begun), key=lambda one: one.area), (wanted, stock), z)

    def _passes(
        self, room: Polygon, begun: BaseGeometry, met: tuple[BaseGeometry, BaseGeometry], z: float
    ) -> None:
        """Passes from where the cutter comes down, at one height all the time."""
        job, operation = self.job, self.operation
        cleared, down = Cleared(begun), False
        cut = Cut(operation.step_over * job.tool.DC, job.radius)
        for front in steady_fronts(room, begun, met[0], met[1], cut):
            at = np.array(job.path.at[:2])
            lead, way = front.led(at)
            if not down:
                at, down = self._down(begun, lead[0], z), True
            self._along(cleared, at, lead[0], z)
            if front.cut is not None:
                trace(job, np.concatenate([lead[:-1], way[:1]]), z, LOOSE_MM)
            trace(job, way, z, LOOSE_MM if front.cut else ARC_FIT_MM)
            cleared.add(front)
        if down:
            at = np.array(job.path.at[:2])
            self._along(cleared, at, _nearest(begun, at), z)
            x, y, _ = job.path.at
            job.path.rapid(x, y, job.top + operation.clearance)

    def _down(self, begun: BaseGeometry, towards: Floats, z: float) -> Floats:
        """Down where nothing stands, near to where the first pass begins; the place."""
        job = self.job
        inner = begun.buffer(-INSIDE_MM)
        place = _nearest(begun if inner.is_empty else inner, towards)
        x, y = float(place[0]), float(place[1])
        job.path.rapid(x, y, job.top + self.operation.clearance)
        job.path.rapid(x, y, z + self.operation.retract)
        job.go_down(x, y, z)
        return place

    def _along(self, cleared: Cleared, at: Floats, to: Floats, z: float) -> None:
        """From one place to another through what is cleared: over the part it cannot go. Raises BadInput."""
        way = cleared.way(at, to)
        if way is None:
            raise BadInput(
                "cut.no_undercut",
                self.operation.name,
                "from one part of it there is no way to the other",
                "pick its floors in operations of their own",
            )
        for x, y in way[1:]:
            self.job.path.feed(float(x), float(y), z, self.job.data.link_mm_min)


def _nearest(region: BaseGeometry, place: Floats) -> Floats:
    """The place in a region nearest to another, (2,)."""
    _, near = nearest_points(Point(place), region)
    return np.array(near.coords[0])
