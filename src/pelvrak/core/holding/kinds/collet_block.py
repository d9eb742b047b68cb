"""A square or six-sided block with a collet."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, cuboid, prism, rod, standing_block


class ColletBlock(FixtureKind):
    """A square or six-sided block with a collet along x for round work, its axis half of `across` up.

    A collet closes on it from all sides; force kN, towards the axis, of all of it together. collets: sizes of
    the set, mm, none for one of any size; closes: how much less than its own size each takes, mm. sides: four
    or six; across: flats of the block, mm; length: along its axis, mm; bore_max: the largest work, mm;
    force_kn: of the whole collet towards the axis.
    """

    called: ClassVar[str] = "collet block"
    several: ClassVar[str] = "collet blocks"
    sizes: ClassVar[str] = "{sides} sides · across {across} · bore to {bore_max}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise",)

    kind: Literal["collet_block"] = "collet_block"
    sides: Literal[4, 6]
    across: Size
    length: Size
    bore_max: Size
    force_kn: Force
    collets: Annotated[tuple[Size, ...], Field(max_length=80)] = ()
    closes: Annotated[float, Field(gt=0, le=3)] = 0.5

    @model_validator(mode="after")
    def _collet_lies_within(self) -> ColletBlock:
        if collet_bore(self) >= self.across - 2:
            raise ValueError("the collet is as wide as the block")
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        if self.sides == 4:
            body = standing_block(self.length, self.across, self.across)
        else:
            r = self.across / 2 / np.cos(np.radians(30))
            ring = [
                (float(r * np.cos(a)), float(self.across / 2 + r * np.sin(a)))
                for a in np.radians(np.arange(0, 360, 60))
            ]
            body = prism(ring, -self.length / 2, self.length / 2)
        return [Solid("collet block", "body", body - _along_x(self, collet_bore(self), 1.0))]

    def top(self, height: float | None = None) -> float:
        return self.across

    def picture(self) -> list[Solid]:
        """With its collet, closed on a bar."""
        bar = _along_x(self, 0.6 * self.bore_max, 5.0)
        return [
            *self.solids(),
            *(Solid("collet", "clamps", quarter) for quarter, _ in collet_quarters(self, bar)),
        ]


def collet_bore(one: ColletBlock) -> float:
    """Diameter of the hole in a collet block, into which the collet goes, mm; a collet's wall 4 mm: ours."""
    return one.bore_max + 8.0


def _along_x(one: ColletBlock, diameter: float, longer: float) -> manifold3d.Manifold:
    """A rod in the axis of a collet block, longer than it at both ends."""
    body = rod(diameter, -one.length / 2 - longer, one.length / 2 + longer).rotate([0.0, 90.0, 0.0])
    return body.translate([0.0, 0.0, one.across / 2])


def collet_quarters(one: ColletBlock, work: manifold3d.Manifold) -> list[tuple[manifold3d.Manifold, Floats]]:
    """A collet closed on work (block's frame), slit in four; each quarter with the way it presses."""
    ring = _along_x(one, collet_bore(one), 0.0) - work
    middle, half = one.across / 2, collet_bore(one)
    for turn in (45.0, 135.0):
        slit = cuboid((-one.length, -half, -0.5), (one.length, half, 0.5)).rotate([turn, 0.0, 0.0])
        ring -= slit.translate([0.0, 0.0, middle])
    out = []
    for piece in sorted(ring.decompose(), key=lambda p: -p.volume())[:4]:
        box = piece.bounding_box()
        at = np.array([0.0, (box[1] + box[4]) / 2, (box[2] + box[5]) / 2 - middle])
        way = np.zeros(3)
        way[int(np.argmax(np.abs(at)))] = -np.sign(at[int(np.argmax(np.abs(at)))])
        out.append((piece, way))
    return out
