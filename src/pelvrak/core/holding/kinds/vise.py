"""A machine vise."""

from __future__ import annotations

from typing import ClassVar, Literal

import manifold3d

from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, cuboid


class Vise(FixtureKind):
    """A machine vise; force kN.

    Frame: x along the jaws, y 0 in the fixed jaw's mounting face (the jaws close towards +y). bed_height:
    bottom to bed; jaw_height: of the mounting faces above the bed; opening_max: between mounting faces.
    jaw_width: of the mounting faces, mm; body_length, body_width: of what stands on the table, mm; force_kn:
    it closes with.
    """

    called: ClassVar[str] = "vise"
    several: ClassVar[str] = "vises"
    sizes: ClassVar[str] = "jaws {jaw_width} × {jaw_height} · opens {opening_max} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "turn_deg": "Turned", "force_kn": "Force"}

    kind: Literal["vise"] = "vise"
    jaw_width: Size
    jaw_height: Size
    opening_max: Size
    bed_height: Size
    body_length: Size
    body_width: Size
    force_kn: Force

    def solids(self, height: float | None = None) -> list[Solid]:
        half, back = self.body_width / 2, 0.55 * self.jaw_height
        bed = self.bed_height
        return [
            Solid("fixed block", "body", cuboid((-half, 0, bed), (half, back, bed + self.jaw_height - 3))),
            Solid("vise body", "body", cuboid((-half, back - self.body_length, 0), (half, back, bed))),
        ]

    def picture(self) -> list[Solid]:
        """With its moving block, nearly half open."""
        moving = vise_slide(self).translate([0.0, -0.45 * self.opening_max, 0.0])
        return [*self.solids(), Solid("moving block", "body", moving)]


def vise_slide(one: Vise) -> manifold3d.Manifold:
    """The moving block of a vise, its mounting face in y 0, closing towards +y."""
    half, bed = one.body_width / 2, one.bed_height
    return cuboid((-half, -0.7 * one.jaw_height, bed), (half, 0, bed + one.jaw_height - 3))
