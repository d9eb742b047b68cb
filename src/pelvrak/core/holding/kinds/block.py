"""A plain block that a nest or a vee is cut into."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, standing_block


class Block(FixtureKind):
    """A plain block: a custom nest or vee is cut into it.

    length, width, height: of the block, mm; material: what it is made of.
    """

    called: ClassVar[str] = "nest block"
    several: ClassVar[str] = "nest blocks"
    sizes: ClassVar[str] = "{length} × {width} × {height}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise", "plate")
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "turn_deg": "Turned", "cut": "Shape"}

    kind: Literal["block"] = "block"
    length: Size
    width: Size
    height: Size
    material: Annotated[str, Field(max_length=60)] = ""

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("nest", "locates", standing_block(self.length, self.width, self.height))]
