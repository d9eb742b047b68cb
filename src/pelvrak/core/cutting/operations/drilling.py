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
from pelvrak.core.cutting.regions import bore_region, heights_of, is_through
from pelvrak.core.cutting.standing import top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile, tip_length
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Face, FaceRef, Part, face_of

Cycle = Literal["spot", "drill", "peck", "chip_break", "ream", "bore", "bore_stopped", "bore_lifted", "tap"]
Order = Literal["nearest", "as_picked", "front_first", "back_first"]
# A spot that is not told its size leaves a chamfer so much wider than the hole: common practice, no source.
SPOT_WIDER_MM = 1.0
# A tool this much over the size of its hole still counts as of that size, mm.
SIZE_MM = 0.02
# A drill this much under its hole leaves it to a reamer, as a share of the size: common practice, no source.
UNDER_SHARE = 0.05
BORED: tuple[Cycle, ...] = ("bore", "bore_stopped", "bore_lifted")
DRILLED: tuple[Cycle, ...] = ("drill", "peck", "chip_break")
BELOW: dict[str, list[str]] = {"cycle": [*DRILLED, "ream", *BORED, "tap"]}
# Between two steps that only break the chip the drill goes back by this, mm: common practice, no source.
BREAKS_MM = 0.5
# Holes whose Y differs by less are in one row, mm.
SAME_ROW_MM = 0.01


class Drilling(OperationKind):
    """Holes, one after the other by the shortest way."""

    called: ClassVar[str] = "Drilling"
    pick_first: ClassVar[str] = "Pick the wall of a hole"
    tools_by: ClassVar[str] = "cycle"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {
        "spot": ("spot_drill",),
        "drill": ("drill",),
        "peck": ("drill",),
        "chip_break": ("drill",),
        "ream": ("reamer",),
        "bore": ("boring_bar",),
        "bore_stopped": ("boring_bar",),
        "bore_lifted": ("boring_bar",),
        "tap": ("tap",),
    }

    kind: Literal["drilling"] = "drilling"
    cycle: Cycle = asked(
        "drill",
        title="Cycle",
        help="what is made: a spot to a chamfer, a hole in one go, by pecks or with the chip broken, a fit, a"
        " thread",
        called={
            "chip_break": "break the chip",
            "bore": "bore, feed out",
            "bore_stopped": "bore, stop, out",
            "bore_lifted": "bore, lift, out",
        },
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
        when={"cycle": ["peck", "chip_break"]},
        place="what",
    )
    depth: Annotated[float, Field(gt=0, le=500)] | None = asked(
        None,
        title="Depth",
        help="how far below the hole’s mouth it goes at full width: a pilot guides the drill after it",
        unit="mm",
        empty="to its bottom",
        when={"cycle": list(DRILLED)},
        place="what",
    )
    lift: Annotated[float, Field(ge=0.05, le=2)] = asked(
        0.2,
        title="Lift",
        help="off the wall before the bar comes out, its edge turned there",
        unit="mm",
        when={"cycle": ["bore_lifted"]},
        place="what",
    )
    dwell_s: Annotated[float, Field(ge=0, le=60)] = asked(
        0.0, title="Dwell", help="how long it stands at the bottom", unit="s", place="what"
    )
    order: Order = asked(
        "nearest",
        title="Order",
        help="of the holes: the nearest next, as picked, or row by row from the operator or from the back",
        called={"as_picked": "as picked", "front_first": "front first", "back_first": "back first"},
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
        if self.cycle == "bore_lifted":
            return self.lift
        return self.peck if self.cycle in ("peck", "chip_break") else None

    def dwell_s_at_bottom(self) -> float:
        return self.dwell_s

    def bore_made(self, tool: Tool, drawn: float) -> float | None:
        return None if self.cycle in ("spot", "tap") else tool.DC

    def thread_made(self, tool: Tool, drawn: float) -> tuple[float, float] | None:
        return (tool.DC, tool.TP) if self.cycle == "tap" and tool.TP is not None else None

    def is_drilled(self) -> bool:
        return self.cycle in DRILLED

    def adjusted(self, tool: Tool, part: Part | None) -> Tool:
        """A boring head set to its hole."""
        size = self._size(part)
        if self.cycle not in BORED or size is None or tool.DCN is None or tool.DCX is None:
            return tool
        return tool.model_copy(update={"DC": size}) if tool.DCN <= size <= tool.DCX else tool

    def _size(self, part: Part | None) -> float | None:
        """Diameter of its first hole, mm."""
        face = self.first_face(part)
        return None if face is None or face.radius is None else round(2 * face.radius, 6)

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """As wide as its hole, as its thread before it, or wide enough for its chamfer."""
        face = self.first_face(part)
        if face is None or face.radius is None:
            return super().unsuitable(tool, part)
        if self.cycle == "spot":
            over = tool.DC - (self.chamfer or _spot_for(face))
            return over if over >= 0 else math.inf
        size = 2 * face.radius
        if self.cycle in BORED and tool.DCN is not None and tool.DCX is not None:
            return 0.0 if tool.DCN <= size <= tool.DCX else math.inf
        under = size - _size_of(self, tool)
        least = -SIZE_MM
        most = UNDER_SHARE * size if self.cycle in DRILLED else SIZE_MM
        return abs(under) if least <= under <= most else math.inf

    def plan(self, job: Job) -> None:
        found = [hole_to_drill(self, job, ref) for ref in self.faces]
        drill(self, job, [hole for hole in found if hole is not None])


def _spot_for(face: Face) -> float:
    """The chamfer's diameter, mm, of a spot over a hole that is not told its size."""
    return 2 * (face.radius or 0.0) + SPOT_WIDER_MM


def _size_of(operation: Drilling, tool: Tool) -> float:
    """Diameter of the hole a tool makes, mm: a tap's is that under its thread."""
    return tool.DC - (tool.TP or 0.0) if operation.cycle == "tap" else tool.DC


def drill(operation: Drilling, job: Job, holes: list[Hole]) -> None:
    """The cycles of some holes, one after the other."""
    at = (0.0, 0.0)
    for hole in _in_order(holes, operation.order):
        if job.holes:
            # Straight up first: something higher may stand between two holes.
            job.path.rapid(at[0], at[1], job.top + operation.clearance)
        at = (hole.x, hole.y)
        job.holes.append(hole)
        job.path.rapid(hole.x, hole.y, job.top + operation.clearance)
        job.path.rapid(hole.x, hole.y, hole.start)
        _CYCLES[operation.cycle](operation, job, hole)


def _in_order(holes: list[Hole], order: Order) -> list[Hole]:
    """Holes one after the other."""
    if order == "as_picked":
        return holes
    if order != "nearest":
        # Row by row, to and fro.
        sign = 1 if order == "front_first" else -1
        rows: list[list[Hole]] = []
        for hole in sorted(holes, key=lambda hole: sign * hole.y):
            if rows and abs(rows[-1][0].y - hole.y) < SAME_ROW_MM:
                rows[-1].append(hole)
            else:
                rows.append([hole])
        return [hole for n, row in enumerate(rows) for hole in sorted(row, key=lambda h: h.x * (-1) ** n)]
    out, left, at = [], list(holes), (0.0, 0.0)
    while left:
        hole = min(left, key=lambda one: math.hypot(one.x - at[0], one.y - at[1]))
        left.remove(hole)
        out.append(hole)
        at = (hole.x, hole.y)
    return out


def hole_to_drill(operation: Drilling, job: Job, ref: FaceRef) -> Hole | None:
    """One hole that looks up, from where to where; None, and told, where it is too narrow for the tool or
    already there. Raises BadInput.
    """
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
        if is_through(job.part.part, face):
            bottom -= tip_length(tool) + operation.below
        elif pointed and operation.cycle in DRILLED:
            # The model has the drill's point under the hole: its full diameter goes down to there.
            bottom -= tip_length(tool)
        else:
            bottom += operation.short
        if operation.depth is not None and operation.cycle in DRILLED:
            bottom = max(bottom, entry - operation.depth - tip_length(tool))
    stock_top = top_within(job.stock, Point(x, y).buffer(tool.DC / 2 + job.stock.field.grid.cell))
    line = np.array([[x, y, entry], [x, y, bottom]])
    if operation.cycle in (*DRILLED, "spot") and not touches(job.stock, line, cutter_profile(tool)):
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
    job.path.dwell(operation.dwell_s)
    job.path.rapid(hole.x, hole.y, hole.start)


def _in_pecks(operation: Drilling, job: Job, hole: Hole) -> None:
    depth = hole.start - operation.retract
    while depth > hole.bottom + 1e-9:
        before = depth
        depth = max(hole.bottom, depth - operation.peck)
        if before < hole.start - operation.retract:
            job.path.rapid(hole.x, hole.y, before + 0.5)
        job.path.feed(hole.x, hole.y, depth, job.feed)
        if depth <= hole.bottom + 1e-9:
            job.path.dwell(operation.dwell_s)
        job.path.rapid(hole.x, hole.y, hole.start)


def _breaking_chips(operation: Drilling, job: Job, hole: Hole) -> None:
    depth = hole.start - operation.retract
    while depth > hole.bottom + 1e-9:
        depth = max(hole.bottom, depth - operation.peck)
        job.path.feed(hole.x, hole.y, depth, job.feed)
        if depth > hole.bottom:
            job.path.rapid(hole.x, hole.y, depth + BREAKS_MM)
    job.path.dwell(operation.dwell_s)
    job.path.rapid(hole.x, hole.y, hole.start)


def _in_and_out_at_feed(operation: Drilling, job: Job, hole: Hole) -> None:
    job.path.feed(hole.x, hole.y, hole.bottom, job.feed)
    job.path.dwell(operation.dwell_s)
    job.path.feed(hole.x, hole.y, hole.start, operation.retract_feed or job.feed)


_CYCLES: dict[str, Callable[[Drilling, Job, Hole], None]] = {
    "spot": _in_one_go,
    "drill": _in_one_go,
    "peck": _in_pecks,
    "chip_break": _breaking_chips,
    "ream": _in_and_out_at_feed,
    "bore": _in_and_out_at_feed,
    "bore_stopped": _in_one_go,
    "bore_lifted": _in_one_go,
    "tap": _in_and_out_at_feed,
}
