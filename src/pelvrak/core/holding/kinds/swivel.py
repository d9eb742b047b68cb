"""A swivel base under a vise."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, rod


class Swivel(FixtureKind):
    """A swivel base: what stands on it is turned on its graduated ring and clamped there.

    diameter, height: of it, mm.
    """

    called: ClassVar[str] = "swivel base"
    several: ClassVar[str] = "swivel bases"
    sizes: ClassVar[str] = "Ø{diameter} × {height}"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)

    kind: Literal["swivel"] = "swivel"
    diameter: Size
    height: Size

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("swivel base", "body", rod(self.diameter, 0, self.height))]
