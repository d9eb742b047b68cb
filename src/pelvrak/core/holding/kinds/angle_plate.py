"""An angle plate."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid


class AnglePlate(FixtureKind):
    """An angle plate; its upright face looks along -y and stands in y 0.

    width, height: of the upright face, mm; depth: of the foot, mm; thickness: of both walls, mm.
    """

    called: ClassVar[str] = "angle plate"
    several: ClassVar[str] = "angle plates"
    sizes: ClassVar[str] = "{width} × {height} × {depth}"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)

    kind: Literal["angle_plate"] = "angle_plate"
    width: Size
    height: Size
    depth: Size
    thickness: Size

    def solids(self, height: float | None = None) -> list[Solid]:
        half = self.width / 2
        upright = cuboid((-half, 0, 0), (half, self.thickness, self.height))
        foot = cuboid((-half, 0, 0), (half, self.depth, self.thickness))
        return [Solid("angle plate", "locates", upright + foot)]
