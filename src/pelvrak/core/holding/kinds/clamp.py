"""A strap or toe clamp."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, Thread, cuboid, prism


class Clamp(FixtureKind):
    """A strap (on top of the work) or toe (against its side) clamp; force on its bolt, kN.

    Frame: the arm lies along y and its nose looks to +y, with the tip in y 0, z 0 under the nose.
    bolt_from_nose, heel_from_nose: from the tip, mm; they share the bolt's force: the nose gets bolt·(heel -
    bolt distance)/heel. style: strap or toe; length, width, thickness: of the arm, mm; nose: length of the
    tip that presses, mm; thread: of its bolt; force_kn: on the bolt; rise_min, rise_max: heights the nose can
    stand at over what carries the clamp, mm.
    """

    called: ClassVar[str] = "clamp"
    several: ClassVar[str] = "clamps"
    sizes: ClassVar[str] = "{style} · {length} × {width} · {thread} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    waits: ClassVar[bool] = True
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "turn_deg": "Turned", "force_kn": "Force"}

    kind: Literal["clamp"] = "clamp"
    style: Literal["strap", "toe"] = "strap"
    length: Size
    width: Size
    thickness: Size
    nose: Size
    bolt_from_nose: Size
    heel_from_nose: Size
    thread: Thread = "M12"
    force_kn: Force
    rise_min: Annotated[float, Field(ge=0, le=1000)] = 0.0
    rise_max: Size = 120.0

    @model_validator(mode="after")
    def _bolt_stands_between(self) -> Clamp:
        if not self.nose <= self.bolt_from_nose < self.heel_from_nose <= self.length:
            raise ValueError("the bolt stands between nose and heel, and the heel within the arm")
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("clamp", "clamps", clamp_arm(self))]


def clamp_arm(one: Clamp) -> manifold3d.Manifold:
    """The arm of a clamp in its frame, without heel and bolt."""
    half, t = one.width / 2, one.thickness
    if one.style == "toe":
        return cuboid((-half, -one.length, 0), (half, 0, t))
    nose = [
        (0.0, 0.0),
        (0.0, 0.5 * t),
        (-one.nose, t),
        (-one.length, t),
        (-one.length, 0.25 * t),
        (-one.nose, 0.25 * t),
        (-one.nose, 0.0),
    ]
    return prism(nose, -half, half)
