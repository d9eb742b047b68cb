"""A set of pairs of parallels."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, standing_block


class Parallels(FixtureKind):
    """A set of pairs of parallels: one length and thickness, several heights.

    length, thickness: of each, mm; heights: those in the set, mm.
    """

    called: ClassVar[str] = "parallels"
    several: ClassVar[str] = "parallels"
    sizes: ClassVar[str] = "{length} × {thickness} · {heights} high"
    stands_on: ClassVar[tuple[str, ...]] = ("vise",)
    waits: ClassVar[bool] = True
    asks: ClassVar[dict[str, str]] = {"height": "Height", "x": "Along"}

    kind: Literal["parallels"] = "parallels"
    length: Size
    thickness: Size
    heights: Annotated[tuple[Size, ...], Field(min_length=1, max_length=60)]

    def solids(self, height: float | None = None) -> list[Solid]:
        tall = self.heights[0] if height is None else height
        return [Solid("parallel", "rests", standing_block(self.length, self.thickness, tall))]

    def picture(self) -> list[Solid]:
        """One of each height, side by side."""
        return [
            Solid("parallel", "rests", one.body.translate([0.0, 2.2 * self.thickness * i, 0.0]))
            for i, tall in enumerate(self.heights)
            for one in self.solids(tall)
        ]
