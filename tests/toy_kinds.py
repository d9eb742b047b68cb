"""Kinds from outside the tree, as another package brings them: tests put this module's entry points on the
path.
"""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import Depth, OperationKind
from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.forms import asked
from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid
from pelvrak.core.program import blocks
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.writing import Writer


class Kerf(OperationKind):
    """One straight cut along x through the middle of what stands."""

    called: ClassVar[str] = "Kerf"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("end_mill",)}

    kind: Literal["kerf"] = "kerf"
    depth: Depth = asked(3.0, title="Depth", help="under the top", unit="mm", place="what")

    def plan(self, job: Job) -> None:
        low, high = job.stock.low, job.stock.high
        y, z = float(low[1] + high[1]) / 2, float(high[2]) - self.depth
        ends = float(low[0]) - job.tool.DC, float(high[0]) + job.tool.DC
        job.path.rapid(ends[0], y, job.top + self.clearance)
        job.path.feed(ends[0], y, z, job.plunge)
        job.path.feed(ends[1], y, z, job.feed)


class Loud(Writer):
    """Every tool is announced."""

    def bring(self, block: blocks.Bring) -> None:
        self.plain(f"(HERE COMES TOOL {block.place})")
        super().bring(block)


class Announcing(Dialect):
    """Says which tool comes."""

    called: ClassVar[str] = "Announcing"
    writer: ClassVar[type[Writer]] = Loud

    kind: Literal["announcing"] = "announcing"
    bell: bool = asked(False, title="Bell", help="a bell is rung with it", place="program")


class Rail(FixtureKind):
    """Two rails side by side that work rests on.

    length, height: of each, mm; apart: from middle to middle, mm.
    """

    called: ClassVar[str] = "pair of rails"
    several: ClassVar[str] = "rails"
    sizes: ClassVar[str] = "{length} × {height}"

    kind: Literal["rail"] = "rail"
    length: Size
    height: Size
    apart: Size

    def solids(self, height: float | None = None) -> list[Solid]:
        half = self.length / 2
        return [
            Solid(
                "rail",
                "rests",
                cuboid((-half, side * self.apart / 2 - 5, 0), (half, side * self.apart / 2 + 5, self.height)),
            )
            for side in (-1, 1)
        ]
