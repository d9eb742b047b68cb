"""A block with a vee."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import Angle, FixtureKind, Size, Solid, prism

# Room that a vee's relief leaves under a sharp edge lying in it.
RELIEF_SPARE_MM = 1.0


class VBlock(FixtureKind):
    """A block with a vee along x; angle of the vee, width of its mouth and of the relief at its root.

    angle_deg: of the vee; length, width, height: of the block, mm; mouth: width of the vee at the top, mm;
    relief: width of the slot at its root, mm.
    """

    called: ClassVar[str] = "V-block"
    several: ClassVar[str] = "V-blocks"
    sizes: ClassVar[str] = "{angle_deg}° · {length} × {width} × {height} · relief {relief}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise", "plate")

    kind: Literal["v_block"] = "v_block"
    angle_deg: Angle
    length: Size
    width: Size
    height: Size
    mouth: Size
    relief: Annotated[float, Field(ge=0, le=100)] = 2.0

    @model_validator(mode="after")
    def _vee_lies_within(self) -> VBlock:
        deep = self.mouth / 2 / np.tan(np.radians(self.angle_deg / 2)) + RELIEF_SPARE_MM
        if not self.relief < self.mouth < self.width or deep >= self.height - 2:
            raise ValueError("the vee is wider than the block or goes through it")
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        slope = 1 / np.tan(np.radians(self.angle_deg / 2))
        w, m, r = self.width / 2, self.mouth / 2, self.relief / 2
        root = self.height - (m - r) * slope
        # Deep enough for a sharp edge that lies in the vee.
        deep = root - r * slope - RELIEF_SPARE_MM
        floor = [(r, root), (r, deep), (-r, deep), (-r, root)] if r > 0 else [(0.0, root)]
        section = [
            (-w, 0),
            (w, 0),
            (w, self.height),
            (m, self.height),
            *floor,
            (-m, self.height),
            (-w, self.height),
        ]
        body = prism([(float(a), float(b)) for a, b in section], -self.length / 2, self.length / 2)
        return [Solid("V-block", "locates", body)]
