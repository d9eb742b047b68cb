"""Something to stand work on."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, standing_block


class Riser(FixtureKind):
    """Something to stand work on: a step block or rest pad with heights it can take.

    length, width: of its top, mm; heights: those it can take, mm.
    """

    called: ClassVar[str] = "step block"
    several: ClassVar[str] = "step blocks"
    sizes: ClassVar[str] = "{length} × {width} · {heights} high"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    asks: ClassVar[dict[str, str]] = {"height": "Height", "x": "X", "y": "Y", "turn_deg": "Turned"}

    kind: Literal["riser"] = "riser"
    length: Size
    width: Size
    heights: Annotated[tuple[Size, ...], Field(min_length=1, max_length=60)]

    def solids(self, height: float | None = None) -> list[Solid]:
        tall = self.heights[0] if height is None else height
        return [Solid("step block", "rests", standing_block(self.length, self.width, tall))]

    def top(self, height: float | None = None) -> float:
        return self.heights[0] if height is None else height
