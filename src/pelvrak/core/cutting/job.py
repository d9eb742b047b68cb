"""What planning an operation works on, and what it has found so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import manifold3d
import numpy as np
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.feeds import CuttingData
from pelvrak.core.cutting.measuring import Measured
from pelvrak.core.cutting.neighbours import look_at_neighbours
from pelvrak.core.cutting.operation import OperationKind
from pelvrak.core.cutting.standing import Standing
from pelvrak.core.cutting.toolpath import Path, Point, retreating
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, to_solid, transformed
from pelvrak.core.geometry.part import PartModel, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.machine.index import TurningLine


@dataclass(frozen=True)
class Hole:
    """One hole of a drilling operation for the program: x, y, top of approach, bottom, mm."""

    x: float
    y: float
    start: float
    bottom: float


@dataclass
class Job:
    """One operation being planned. Zero frame, mm.

    nest: rooms of the nest to be cut, with their floors; turning: the rotary axes that can turn the work;
    surface: of the stock; top: of the stock, over which the tool is clear.
    """

    part: PartModel
    zero_from_work: Floats
    stock: Standing
    tool: Tool
    data: CuttingData
    setup: str
    operation: OperationKind
    path: Path
    nest: dict[str, tuple[BaseGeometry, float]] = field(default_factory=dict)
    turning: list[TurningLine] = field(default_factory=list)
    surface: Mesh | None = None
    findings: list[Finding] = field(default_factory=list)
    holes: list[Hole] = field(default_factory=list)
    measured: Measured | None = None
    top: float = 0.0

    @cached_property
    def lying(self) -> Mesh:
        """The part's mesh as it lies."""
        return transformed(self.part.mesh, self.zero_from_work)

    @cached_property
    def solid(self) -> manifold3d.Manifold:
        """The part as it lies, for exact operations."""
        return to_solid(self.lying)

    @cached_property
    def part_heights(self) -> tuple[float, float]:
        """Lowest and highest point of the part as it lies, mm."""
        heights = self.lying.vertices[:, 2]
        return float(heights.min()), float(heights.max())

    @property
    def radius(self) -> float:
        """Of the cutter, mm."""
        return self.tool.DC / 2

    @property
    def feed(self) -> float:
        """mm/min, across."""
        return self.data.feed_mm_min.value

    @property
    def plunge(self) -> float:
        """mm/min, down."""
        return self.operation.entry_feed or self.data.plunge_mm_min

    @property
    def lead(self) -> float:
        """mm/min, to and from a pass."""
        return self.operation.lead_feed or self.feed

    def go_down(self, x: float, y: float, z: float) -> None:
        """Feed down to a place, mm, where a cut begins."""
        with self.path.leading():
            self.path.feed(x, y, z, self.plunge)

    def lead_to(self, x: float, y: float, z: float) -> None:
        """Feed straight to a cut, or away from one, mm."""
        with self.path.leading():
            self.path.feed(x, y, z, self.lead)

    def lead_round(self, end: Point, centre: tuple[float, float]) -> None:
        """Feed to a cut, or away from one, by an arc counter-clockwise, mm."""
        with self.path.leading():
            self.path.arc("ccw", end, centre, self.lead)

    def note(self, code: str, severity: Any, sentence: str, at: Floats | None = None, **more: Any) -> None:
        """Tell a finding. at: (3,) in the zero frame; more: what else a finding holds."""
        place: tuple[Vector, ...] = ()
        if at is not None:
            place = (as_vector(moved(inverse(self.zero_from_work), np.array(at))),)
        self.findings.append(
            Finding(
                code=code,
                severity=severity,
                setup=self.setup,
                operation=self.operation.id,
                stage="cut",
                sentence=sentence,
                place=place,
                **more,
            )
        )

    def check_reach(self, top: float, bottom: float) -> None:
        """Tell where the cut goes deeper than the flutes are long."""
        if top - bottom > self.tool.reach + 1e-6:
            self.note(
                "cut.deeper_than_flutes",
                "warning",
                f"{self.operation.name} goes {top - bottom:.1f} mm deep;"
                f" {self.tool.name} cuts {self.tool.reach:g} mm deep at most.",
                measured=round(top - bottom, 3),
                limit=self.tool.reach,
                unit="mm",
            )

    def room(self, name: str) -> tuple[BaseGeometry, float]:
        """A room of the nest, with its floor. Raises BadInput where this setup cuts no such."""
        if name not in self.nest:
            raise BadInput(
                "cut.no_nest",
                self.operation.name,
                "there is no such room to be cut in this setup",
                "pick faces of the part",
            )
        return self.nest[name]


def plan_operation(job: Job) -> None:
    """Fill job.path, job.holes and job.findings. Raises BadInput when the operation cannot be planned."""
    operation = job.operation
    allowed = operation.tool_kinds()
    if job.tool.kind not in allowed:
        raise BadInput(
            "cut.wrong_tool",
            operation.name,
            f"a {job.tool.kind.replace('_', ' ')} cannot do {operation.kind}",
            f"choose a {' or '.join(kind.replace('_', ' ') for kind in allowed)}",
        )
    if operation.not_at and not operation.round_each:
        raise BadInput(
            "pieces.as_a_whole",
            operation.name,
            "it is told no faces and is cut once over the whole billet, at no piece by itself",
            "give it faces, or cut it at all",
        )
    job.top = float(job.stock.high[2])
    operation.plan(job)
    if operation.retract_feed is not None:
        job.path.moves = retreating(job.path, operation.retract, operation.retract_feed)
    if job.path.moves:
        # The program comes from above: over the first place at full height, and then straight down.
        job.path.start = (*job.path.moves[0].end[:2], job.path.start[2])
        x, y, _ = job.path.at
        job.path.rapid(x, y, job.top + operation.clearance)
        look_at_neighbours(job)
    elif not any(found.operation == operation.id for found in job.findings):
        job.note("cut.nothing", "note", f"{operation.name}: nothing stands here to be cut.")
