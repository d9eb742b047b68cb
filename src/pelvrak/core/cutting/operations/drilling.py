"""Drilling: holes, one after the other by the shortest way."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from shapely import Point

from pelvrak.core.cutting.job import Hole, Job
from pelvrak.core.cutting.operation import Depth, OperationKind
from pelvrak.core.cutting.regions import bore_region, heights_of
from pelvrak.core.cutting.standing import top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile, tip_length
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Face, FaceRef, Part, face_of

Cycle = Literal["spot", "drill", "peck", "ream", "tap"]
# A spot that is not told its size leaves a chamfer so much wider than the hole: common practice, no source.
SPOT_WIDER_MM = 1.0
# A tool this much over the size of its hole still counts as of that size, mm.
SIZE_MM = 0.02
# A drill this much under its hole leaves it to a reamer, as a share of the size: common practice, no source.
UNDER_SHARE = 0.05
BELOW = {"cycle": ["drill", "peck", "ream", "tap"]}


class Drilling(OperationKind):
    """Holes, one after the other by the shortest way."""

    called: ClassVar[str] = "Drilling"
    pick_first: ClassVar[str] = "Pick the wall of a hole"
    tools_by: ClassVar[str] = "cycle"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {
        "spot": ("spot_drill",),
        "drill": ("drill",),
        "peck": ("drill",),
        "ream": ("reamer",),
        "tap": ("tap",),
    }

    kind: Literal["drilling"] = "drilling"
    cycle: Cycle = asked(
        "drill",
        title="Cycle",
        help="what is made: a spot to a chamfer, a hole in one go or by pecks, a fit, a thread",
        place="what",
    )
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)] = asked(
        title="Holes",
        help="the walls of the holes",
        widget="faces",
        pick="Pick the wall of a hole",
        place="what",
    )
    chamfer: Annotated[float, Field(gt=0, le=100)] | None = asked(
        None,
        title="Chamfer Ø",
        help="diameter a spot leaves at the top",
        unit="mm",
        empty=f"hole + {SPOT_WIDER_MM:g}",
        when={"cycle": ["spot"]},
        place="what",
    )
    peck: Depth = asked(
        3.0,
        title="Peck",
        help="depth between two retreats",
        unit="mm",
        when={"cycle": ["peck"]},
        place="what",
    )
    below: Annotated[float, Field(ge=0, le=50)] = asked(
        1.0,
        title="Below through",
        help="how far past through holes it goes, besides its point",
        unit="mm",
        when=BELOW,
        place="what",
    )
    short: Annotated[float, Field(ge=0, le=100)] = asked(
        0.0,
        title="Short of bottom",
        help="how far above the bottom of blind holes it stops",
        unit="mm",
        when=BELOW,
        place="what",
    )

    def canned_cycle(self) -> str:
        return self.cycle

    def peck_mm(self) -> float | None:
        return self.peck if self.cycle == "peck" else None

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """As wide as its hole, as its thread before it, or wide enough for its chamfer."""
        face = None if part is None else next((f for f in part.faces if f.number == self.faces[0].face), None)
        if face is None or face.radius is None:
            return super().unsuitable(tool, part)
        if self.cycle == "spot":
            over = tool.DC - (self.chamfer or _spot_for(face))
            return over if over >= 0 else math.inf
        size = 2 * face.radius
        under = size - _size_of(self, tool)
        least = -SIZE_MM
        most = UNDER_SHARE * size if self.cycle in ("drill", "peck") else SIZE_MM
        return abs(under) if least <= under <= most else math.inf

    def plan(self, job: Job) -> None:
        _plan(self, job)


def _spot_for(face: Face) -> float:
    """The chamfer's diameter, mm, of a spot over a hole that is not told its size."""
    return 2 * (face.radius or 0.0) + SPOT_WIDER_MM


def _size_of(operation: Drilling, tool: Tool) -> float:
    """Diameter of the hole a tool makes, mm: a tap's is that under its thread."""
    return tool.DC - (tool.TP or 0.0) if operation.cycle == "tap" else tool.DC


def _plan(operation: Drilling, job: Job) -> None:
    holes = []
    for ref in operation.faces:
        hole = _hole_to_drill(operation, job, ref)
        if hole is not None:
            holes.append(hole)
    at = (0.0, 0.0)
    while holes:  # nearest next
        hole = min(holes, key=lambda h: math.hypot(h.x - at[0], h.y - at[1]))
        holes.remove(hole)
        if job.holes:
            # Straight up first: something higher may stand between two holes.
            job.path.rapid(at[0], at[1], job.top + operation.clearance)
        at = (hole.x, hole.y)
        job.holes.append(hole)
        job.path.rapid(hole.x, hole.y, job.top + operation.clearance)
        job.path.rapid(hole.x, hole.y, hole.start)
        _CYCLES[operation.cycle](operation, job, hole)


def _hole_to_drill(operation: Drilling, job: Job, ref: FaceRef) -> Hole | None:
    face = face_of(job.part.part, ref, operation.name)
    disc, bottom, _ = bore_region(job.part.part, face, job.zero_from_work, operation.name)
    x, y = disc.centroid.x, disc.centroid.y
    along = _along_the_axis(job, face)
    entry = max(high for _, (_, high) in along)
    tool = job.tool
    if operation.cycle == "spot":
        bottom = entry - _spot_depth(operation, tool, face)
    else:
        size = _size_of(operation, tool)
        assert face.radius is not None
        if size > 2 * face.radius + SIZE_MM:
            job.note(
                "cut.drill_too_big",
                "error",
                f"{tool.name} is bigger than the hole Ø{2 * face.radius:.2f}.",
                np.array([x, y, entry]),
                measured=size,
                limit=round(2 * face.radius, 3),
                unit="mm",
            )
            return None
        pointed = any(kind == "cone" and low < bottom - 1e-3 for kind, (low, _) in along)
        if any(face.number in hole.faces and hole.through for hole in job.part.part.holes):
            bottom -= tip_length(tool) + operation.below
        elif pointed and operation.cycle in ("drill", "peck"):
            # The model has the drill's point under the hole: its full diameter goes down to there.
            bottom -= tip_length(tool)
        else:
            bottom += operation.short
    stock_top = top_within(job.stock, Point(x, y).buffer(tool.DC / 2 + job.stock.field.grid.cell))
    line = np.array([[x, y, entry], [x, y, bottom]])
    if operation.cycle in ("drill", "peck", "spot") and not touches(job.stock, line, cutter_profile(tool)):
        job.note(
            "cut.already_there",
            "note",
            f"{operation.name}: the hole at X{x:.2f} Y{y:.2f} is already there.",
            np.array([x, y, entry]),
        )
        return None
    start = max(entry, stock_top if stock_top is not None else entry) + operation.retract
    job.check_reach(start - operation.retract, bottom)
    return Hole(x, y, start, bottom)


def _along_the_axis(job: Job, face: Face) -> list[tuple[str, tuple[float, float]]]:
    """Kind and heights of the hollow faces on a bore's axis that are no wider than it: what the drill goes
    through.
    """
    assert face.axis_point is not None and face.axis is not None
    out: list[tuple[str, tuple[float, float]]] = []
    for f in job.part.part.faces:
        if not (
            f.hollow and f.axis_point and f.axis and f.kind in ("cylinder", "cone") and f.radius is not None
        ):
            continue
        apart = np.linalg.norm(np.cross(np.subtract(f.axis_point, face.axis_point), face.axis))
        alike = abs(abs(np.dot(f.axis, face.axis)) - 1) < 1e-9
        if apart < 1e-6 and alike and f.radius <= (face.radius or 0) + 1e-6:
            out.append((f.kind, heights_of(job.part.part, f, job.zero_from_work)))
    return out


def _spot_depth(operation: Drilling, tool: Tool, face: Face) -> float:
    """How deep a spot goes for its chamfer, mm. Raises BadInput for one wider than the tool."""
    assert tool.SIG is not None
    chamfer = operation.chamfer or _spot_for(face)
    if chamfer > tool.DC:
        raise BadInput(
            "cut.chamfer_too_big",
            operation.name,
            f"Ø{chamfer:g} is wider than {tool.name}",
            f"a chamfer up to Ø{tool.DC:g}",
        )
    return chamfer / 2 / math.tan(math.radians(tool.SIG / 2))


def _in_one_go(operation: Drilling, job: Job, hole: Hole) -> None:
    job.path.feed(hole.x, hole.y, hole.bottom, job.feed)
    job.path.rapid(hole.x, hole.y, hole.start)


def _in_pecks(operation: Drilling, job: Job, hole: Hole) -> None:
    depth = hole.start - operation.retract
    while depth > hole.bottom + 1e-9:
        before = depth
        depth = max(hole.bottom, depth - operation.peck)
        if before < hole.start - operation.retract:
            job.path.rapid(hole.x, hole.y, before + 0.5)
        job.path.feed(hole.x, hole.y, depth, job.feed)
        job.path.rapid(hole.x, hole.y, hole.start)


def _in_and_out_at_feed(operation: Drilling, job: Job, hole: Hole) -> None:
    job.path.feed(hole.x, hole.y, hole.bottom, job.feed)
    job.path.feed(hole.x, hole.y, hole.start, job.feed)


_CYCLES: dict[str, Callable[[Drilling, Job, Hole], None]] = {
    "spot": _in_one_go,
    "drill": _in_one_go,
    "peck": _in_pecks,
    "ream": _in_and_out_at_feed,
    "tap": _in_and_out_at_feed,
}
