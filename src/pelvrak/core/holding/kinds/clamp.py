"""A clamp: strap, toe, side or toggle."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, Thread, cuboid, prism, rod


class Clamp(FixtureKind):
    """A clamp: a strap (on top of the work) or a toe (against its side), drawn down by a bolt; a side clamp,
    whose plunger pushes against the side; a toggle, whose spindle presses from above.

    Frame: the arm lies along y and its nose looks to +y, with the tip in y 0, z 0 under the nose.
    bolt_from_nose, heel_from_nose: from the tip, mm; they share the bolt's force: the nose of a strap or toe
    gets bolt·(heel - bolt distance)/heel. style: of the four; length, width, thickness: of the arm, or of a
    side clamp's body, mm; nose: length of the tip that presses, or diameter of a plunger or spindle, mm;
    thread: of its bolt; force_kn: on the bolt, or of the plunger or spindle itself; down_deg: how far a toe
    or plunger pushes downwards, degrees; rise_min, rise_max: heights the nose can stand at over what carries
    the clamp, of a side clamp how far its plunger comes out, mm.
    """

    called: ClassVar[str] = "clamp"
    several: ClassVar[str] = "clamps"
    sizes: ClassVar[str] = "{style} · {length} × {width} · {thread} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    waits: ClassVar[bool] = True
    asks: ClassVar[dict[str, str]] = {
        "x": "X",
        "y": "Y",
        "turn_deg": "Turned",
        "force_kn": "Force",
        "torque_nm": "Torque",
    }

    kind: Literal["clamp"] = "clamp"
    style: Literal["strap", "toe", "side", "toggle"] = "strap"
    length: Size
    width: Size
    thickness: Size
    nose: Size
    bolt_from_nose: Size
    heel_from_nose: Size
    thread: Thread = "M12"
    force_kn: Force
    # A toe pushes down a little too: 15° is common practice, no source.
    down_deg: Annotated[float, Field(ge=0, le=45, json_schema_extra={"x-unit": "°"})] = 15.0
    rise_min: Annotated[float, Field(ge=0, le=1000)] = 0.0
    rise_max: Size = 120.0

    @property
    def bolted(self) -> bool:
        """Whether a bolt draws it down, and shares its force with the heel."""
        return self.style in ("strap", "toe")

    def nose_force(self, bolt: float) -> float:
        """What presses on the work, of the force on its bolt or of its own, N."""
        return bolt * (1 - self.bolt_from_nose / self.heel_from_nose) if self.bolted else bolt

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
    if one.style == "side":
        return clamp_body(one) + plunger(one, 0.4 * one.rise_max)
    if one.style == "toggle":
        return cuboid((-half, -one.length, 0), (half, one.nose, t)) + rod(one.nose, -one.nose, t, 0.0, 0.0)
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


def plunger(one: Clamp, out: float) -> manifold3d.Manifold:
    """A side clamp's plunger, so far out of its body, mm."""
    upright = rod(one.nose, -one.length / 2, out)
    return upright.rotate([-90.0, 0.0, 0.0]).translate([0.0, 0.0, one.thickness / 2])


def clamp_body(one: Clamp) -> manifold3d.Manifold:
    """A side clamp's body, behind y 0."""
    return cuboid((-one.width / 2, -one.length, 0), (one.width / 2, 0, one.thickness))
