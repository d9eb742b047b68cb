"""A machine vise."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, cuboid


class Vise(FixtureKind):
    """A machine vise; force kN.

    Frame: x along the jaws, y 0 in the mounting face of the jaw at the back (the one at the front closes
    towards +y), as far open as it goes. style: its jaw at the back is fixed; or it centres, both jaws closing
    alike; or it is double, two stations back to back at one block. bed_height: bottom to bed; jaw_height: of
    the mounting faces above the bed; opening_max: between mounting faces. jaw_width: of the mounting faces,
    mm; body_length, body_width: of what stands on the table, mm; block: how thick the middle block of a
    double one is, mm; force_kn: it closes with.
    """

    called: ClassVar[str] = "vise"
    several: ClassVar[str] = "vises"
    sizes: ClassVar[str] = "{style} · jaws {jaw_width} × {jaw_height} · opens {opening_max} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("plate", "swivel")
    asks: ClassVar[dict[str, str]] = {
        "x": "X",
        "y": "Y",
        "turn_deg": "Turned",
        "force_kn": "Force",
        "station": "Work in the",
    }

    kind: Literal["vise"] = "vise"
    style: Literal["fixed jaw", "centring", "double"] = "fixed jaw"
    jaw_width: Size
    jaw_height: Size
    opening_max: Size
    bed_height: Size
    body_length: Size
    body_width: Size
    block: Annotated[float, Field(ge=0, le=500)] = 0.0
    force_kn: Force

    @model_validator(mode="after")
    def _double_has_a_block(self) -> Vise:
        if (self.style == "double") != (self.block > 0):
            raise ValueError("a double vise has a middle block with a thickness, others have none")
        return self

    @property
    def centres(self) -> bool:
        """Whether both jaws close alike."""
        return self.style == "centring"

    def solids(self, height: float | None = None) -> list[Solid]:
        half, back, bed = self.body_width / 2, 0.55 * self.jaw_height, self.bed_height
        if self.style == "centring":
            middle = -self.opening_max / 2
            ends = middle - self.body_length / 2, middle + self.body_length / 2
        elif self.style == "double":
            back = self.block
            ends = (self.block - self.body_length) / 2, (self.block + self.body_length) / 2
        else:
            ends = back - self.body_length, back
        body = Solid("vise body", "body", cuboid((-half, ends[0], 0), (half, ends[1], bed)))
        if self.style == "centring":
            return [body]
        fixed = cuboid((-half, 0, bed), (half, back, bed + self.jaw_height - 3))
        return [Solid("fixed block", "body", fixed), body]

    def picture(self) -> list[Solid]:
        """With its moving blocks, nearly half open."""
        front = -0.45 * self.opening_max
        places = {
            "fixed jaw": [(front, 0.0)],
            "centring": [(front * 1.6, 0.0), (-self.opening_max - front * 1.6, 180.0)],
            "double": [(front, 0.0), (self.block - front, 180.0)],
        }[self.style]
        slide = vise_slide(self)
        moving = [slide.rotate([0.0, 0.0, turn]).translate([0.0, y, 0.0]) for y, turn in places]
        return [*self.solids(), *(Solid("moving block", "body", one) for one in moving)]


def vise_slide(one: Vise) -> manifold3d.Manifold:
    """The moving block of a vise, its mounting face in y 0, closing towards +y."""
    half, bed = one.body_width / 2, one.bed_height
    return cuboid((-half, -0.7 * one.jaw_height, bed), (half, 0, bed + one.jaw_height - 3))
