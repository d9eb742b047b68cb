"""Surface finishing: over the part's surface in parallel lines, or round it level by level."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field
from shapely import LineString, Point, affinity
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
from pelvrak.core.cutting.drop_cutter import Laid, Rounded, follow, laid_out, rounded
from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.level_lines import LevelLines
from pelvrak.core.cutting.operation import Depth, Leave, OperationKind, depth_of_pass, leaves
from pelvrak.core.cutting.passes import at_height, trace
from pelvrak.core.cutting.regions import lowest_of
from pelvrak.core.cutting.standing import TOUCH_MM, top_within, touched
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats, transformed
from pelvrak.core.geometry.part import FaceRef, Part, face_of
from pelvrak.core.geometry.rigid import rigid, rotation_about_z

# Between the places looked at, and once more where places are left out: a path is off its surface by no more
# than both together, mm.
SAMPLED_MM, SMOOTHED_MM = 0.004, 0.004
# Runs nearer to each other than so many steps are joined over the surface: common practice, no source.
JOINED_STEPS = 3.0
# Where nothing is cut for no longer than this, the cutter stays down, mm: common practice, no source.
STAYS_DOWN_MM = 3.0
Slope = Annotated[float, Field(ge=0, le=90)]


class Surfacing(OperationKind):
    """Over the part's surface with the end of the cutter, in parallel lines or level by level, where
    something stands on it.
    """

    called: ClassVar[str] = "Surface finishing"
    leave_is: ClassVar[str] = "leave_floor"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("ball_mill", "corner_mill", "end_mill")}

    kind: Literal["surfacing"] = "surfacing"
    within: Within = boundary_field()
    faces: tuple[FaceRef, ...] = asked(
        (),
        title="Faces",
        help="faces it finishes; it keeps off the others all the same",
        widget="faces",
        pick="Pick faces that look to the spindle",
        when={"within": ["faces"]},
        place="what",
    )
    box: Box = box_field()
    limit: Limit = limit_field()
    pattern: Literal["lines", "levels"] = asked(
        "lines",
        title="Passes",
        help="parallel lines over it, or round it level by level",
        called={"lines": "parallel lines", "levels": "level by level"},
        place="what",
    )
    angle_deg: Annotated[float, Field(ge=-180, le=180)] = asked(
        0.0, title="Angle", help="of the lines from X", unit="°", when={"pattern": ["lines"]}, place="what"
    )
    step: Annotated[float, Field(ge=0.02, le=50)] = asked(
        0.5,
        title="Step",
        help="from one line to the next",
        unit="mm",
        when={"pattern": ["lines"]},
        place="what",
    )
    scallop: Annotated[float, Field(ge=0.0005, le=2)] | None = asked(
        None,
        title="Scallop",
        help="height left between two lines on the flat, in place of the step",
        unit="mm",
        empty="by the step",
        when={"pattern": ["lines"]},
        place="what",
    )
    both_ways: bool = asked(
        True, title="Both ways", help="lines go to and fro", when={"pattern": ["lines"]}, place="what"
    )
    step_down: Depth = depth_of_pass(0.5)
    steep_from: Slope = asked(
        0.0, title="Slope from", help="flatter places than this are left out", unit="°", place="what"
    )
    steep_to: Slope = asked(
        90.0, title="Slope to", help="steeper places than this are left out", unit="°", place="what"
    )
    leave: Leave | None = leaves("Leave", "what stays on the surface")

    def engagement(self, cutter_mm: float) -> tuple[float, float] | None:
        """It cuts what is left, of no certain depth."""
        return None

    def scallops_left(self, tool: Tool) -> float | None:
        """On the flat, by lines and a round end."""
        if self.pattern != "lines" or tool.kind == "end_mill":
            return None
        radius = rounded(tool, self.name).corner
        step = min(self.step, 2 * radius)
        return scallop_height(radius, step) if self.scallop is None else self.scallop

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """A smaller one than for clearing."""
        return abs(tool.DC - 6.0)

    def plan(self, job: Job) -> None:
        if self.steep_from >= self.steep_to:
            raise BadInput(
                "cut.boundary",
                self.name,
                f"no place is steeper than {self.steep_from:g}° and flatter than {self.steep_to:g}°",
                "give the flatter slope first",
            )
        if self.pattern == "lines":
            _Lines(self, job).plan()
        else:
            _Levels(self, job).plan()


def scallop_height(radius: float, step: float) -> float:
    """What a round of a radius leaves between two passes a step apart on the flat, mm: R − √(R² − s²/4)."""
    return radius - math.sqrt(max(0.0, radius**2 - step**2 / 4))


def step_for(radius: float, scallop: float) -> float:
    """The step that leaves a scallop on the flat, mm: 2·√(h·(2R − h))."""
    return 2 * math.sqrt(scallop * (2 * radius - scallop))


@dataclass
class _Surface:
    """What both patterns have: the part under the cutter, and where its middle may be."""

    operation: Surfacing
    job: Job

    def region(self) -> BaseGeometry:
        """Where the cutter's middle may be. Raises BadInput."""
        operation, job = self.operation, self.job
        radius = job.radius
        low, high = job.stock.low[:2] - radius, job.stock.high[:2] + radius
        whole = shapely.box(*low, *high)
        chosen = boundary(job, operation.within, operation.faces, operation.box)
        if chosen is None:
            return whole
        limit = "past" if operation.within == "faces" else operation.limit
        return room_for_middle(chosen, limit, radius).intersection(whole)

    @cached_property
    def chosen_faces(self) -> np.ndarray | None:
        """Numbers of the faces it finishes; None for all."""
        if self.operation.within != "faces":
            return None
        part = self.job.part.part
        return np.array([face_of(part, ref, self.operation.name).number for ref in self.operation.faces])

    @cached_property
    def lowest(self) -> float:
        """Under this nothing is finished, mm: the part's bottom, or the lowest of the faces."""
        job, operation = self.job, self.operation
        if operation.within != "faces":
            return job.part_heights[0]
        return lowest_of(job.part.part, operation.faces, job.zero_from_work, operation.name)

    @property
    def cutter(self) -> Rounded:
        return rounded(self.job.tool, self.operation.name).thicker(self.operation.on_floors())

    def cutting_runs(self, runs: list[Floats]) -> list[Floats]:
        """The stretches of runs (n, 3) in which something is cut."""
        if not runs:
            return []
        met = touched(self.job.stock, runs, cutter_profile(self.job.tool))
        out = []
        for run, deep in zip(runs, met, strict=True):
            length = np.linalg.norm(np.diff(run, axis=0), axis=1)
            ends = np.concatenate([[0.0], np.cumsum(length)])
            cutting = np.flatnonzero(deep > TOUCH_MM)
            if len(cutting) == 0:
                continue
            gaps = np.flatnonzero(ends[cutting[1:]] - ends[cutting[:-1] + 1] > STAYS_DOWN_MM)
            firsts = np.concatenate([[cutting[0]], cutting[gaps + 1]])
            lasts = np.concatenate([cutting[gaps], [cutting[-1]]])
            out += [run[first : last + 2] for first, last in zip(firsts, lasts, strict=True)]
        return out

    def over(self, x: float, y: float, z: float) -> None:
        """From above to where a run begins."""
        job, operation = self.job, self.operation
        job.path.rapid(*job.path.at[:2], job.top + operation.clearance)
        job.path.rapid(x, y, job.top + operation.clearance)
        stands = top_within(job.stock, Point(x, y).buffer(job.radius + job.stock.field.grid.cell))
        low = max(z, z if stands is None else stands) + operation.retract
        if low < job.top + operation.clearance:
            job.path.rapid(x, y, low)
        job.go_down(x, y, z)


class _Lines(_Surface):
    """Parallel lines at an angle."""

    def plan(self) -> None:
        """Fill the job's path."""
        operation, job = self.operation, self.job
        turn = rigid(rotation_about_z(-operation.angle_deg), np.zeros(3))
        mesh = transformed(job.lying, turn)
        laid, cutter = laid_out(mesh, job.radius), self.cutter
        region = affinity.rotate(self.region(), -operation.angle_deg, origin=(0.0, 0.0))
        step = self._step(rounded(job.tool, operation.name))
        rows: list[list[Floats]] = []
        for y in _rows(region, step):
            row = []
            for left, right in _stretches(region, y):
                row += self._runs(laid, cutter, mesh.label, np.array([left, y]), np.array([right, y]))
            rows.append(row)
        cut = [self.cutting_runs([run @ turn[:3, :3] for run in row]) for row in rows]
        self._write(cut, lambda at, to: self._between((laid, cutter, turn[:3, :3]), at, to, step))

    def _step(self, cutter: Rounded) -> float:
        operation = self.operation
        if operation.scallop is None:
            return operation.step
        if operation.scallop >= cutter.corner:
            raise BadInput(
                "cut.boundary",
                operation.name,
                f"{self.job.tool.name} leaves no scallop of {operation.scallop:g} mm",
                "give the step itself, or take a ball mill or a corner mill",
            )
        return step_for(cutter.corner, operation.scallop)

    def _runs(
        self, laid: Laid, cutter: Rounded, label: np.ndarray, start: Floats, end: Floats
    ) -> list[Floats]:
        """The tip over the surface along a line, where the line is to be finished."""
        operation = self.operation
        points, which = follow(laid, cutter, start, end, SAMPLED_MM)
        points = points + [0.0, 0.0, operation.on_floors()]
        good = (which >= 0) & (points[:, 2] > self.lowest - 1e-6)
        slope = np.degrees(np.arccos(np.clip(laid.normals[which, 2], 0.0, 1.0)))
        good &= (slope >= operation.steep_from - 1e-6) & (slope <= operation.steep_to + 1e-6)
        chosen = self.chosen_faces
        if chosen is not None:
            good &= np.isin(label[which], chosen)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], good.astype(np.int8), [0]])))
        runs = [points[a:b] for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a > 1]
        return [_thinned(run) for run in runs]

    def _write(self, rows: list[list[Floats]], between: Callable[[Floats, Floats], Floats | None]) -> None:
        """Row by row, to and fro or one way. between: the way over the surface from one place to another."""
        job, operation = self.job, self.operation
        for number, row in enumerate(rows):
            turned = operation.both_ways and number % 2 == 1
            for run in [one[::-1] for one in reversed(row)] if turned else row:
                at = np.array(job.path.at)
                joined = between(at, run[0])
                if joined is None:
                    self.over(*(float(c) for c in run[0]))
                else:
                    for x, y, z in joined[1:]:
                        job.path.feed(float(x), float(y), float(z), job.feed)
                for x, y, z in run[1:]:
                    job.path.feed(float(x), float(y), float(z), job.feed)

    def _between(
        self, over: tuple[Laid, Rounded, Floats], at: Floats, to: Floats, step: float
    ) -> Floats | None:
        """A way over the surface from the end of a run to the next; None where they do not lie near. over:
        the mesh, turned so that the lines lie along x, the cutter, and the turn.
        """
        if not self.job.path.moves or np.hypot(*(to - at)[:2]) > JOINED_STEPS * step:
            return None
        laid, cutter, turn = over
        points, which = follow(laid, cutter, (turn @ at)[:2], (turn @ to)[:2], SAMPLED_MM)
        if (which < 0).any():
            return None
        points = points @ turn + [0.0, 0.0, self.operation.on_floors()]
        points[0], points[-1] = at, to
        return points if points[:, 2].max() < self.job.top + self.operation.clearance else None


class _Levels(_Surface):
    """Round the part, level by level."""

    def plan(self) -> None:
        """Fill the job's path."""
        operation, job = self.operation, self.job
        lines = LevelLines(laid_out(job.lying, job.radius), self.cutter, self.region(), operation.on_floors())
        top = min(lines.highest, job.top)
        steps = max(1, math.ceil((top - self.lowest) / operation.step_down - 1e-9))
        for number in range(1, steps + 1):
            z = max(top - number * operation.step_down, self.lowest)
            runs = [
                at_height(line, z)
                for line in lines.at(z, SAMPLED_MM, (operation.steep_from, operation.steep_to))
            ]
            for run in self.cutting_runs(runs):
                self.over(*(float(c) for c in run[0]))
                trace(job, run[:, :2], z)


def _thinned(run: Floats) -> Floats:
    """A run in an upright plane with what lies on straights left out, within SMOOTHED_MM."""
    along = np.hypot(*(run[:, :2] - run[0, :2]).T)
    kept = shapely.get_coordinates(
        LineString(np.column_stack([along, run[:, 2]])).simplify(SMOOTHED_MM, preserve_topology=False)
    )
    index = np.unique(np.clip(np.searchsorted(along, kept[:, 0] - 1e-9), 0, len(run) - 1))
    thinned: Floats = run[index]
    return thinned


def _rows(region: BaseGeometry, step: float) -> Floats:
    """Where lines across a region lie, evenly from its middle, mm."""
    _, low, _, high = region.bounds
    count = max(1, math.ceil((high - low) / step))
    rows: Floats = (low + high) / 2 + (np.arange(count) - (count - 1) / 2) * step
    return rows


def _stretches(region: BaseGeometry, y: float) -> list[tuple[float, float]]:
    """Where a line along x lies in a region."""
    left, _, right, _ = region.bounds
    met = region.intersection(LineString([(left - 1, y), (right + 1, y)]))
    parts = getattr(met, "geoms", [met])
    ends = [(part.bounds[0], part.bounds[2]) for part in parts if part.length > 1e-6]
    return sorted(ends)
