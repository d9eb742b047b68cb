"""A tailstock with a point."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
import numpy as np
from pydantic import Field

from pelvrak.core.holding.fixture import ROUND, FixtureKind, Force, Size, Solid, rod

# What presses with its cone.
POINT = "tailstock's point"


class Tailstock(FixtureKind):
    """A tailstock whose point goes into a centre hole at the far end of the work, on a chuck's axis.

    point_deg: of its cone, 60 by ISO 866; diameter, reach: of the quill behind it, mm; body_diameter,
    body_length: round what carries the quill, mm, which stands still while the work turns, and is taken as
    round; force_kn: it presses with.
    """

    called: ClassVar[str] = "tailstock"
    several: ClassVar[str] = "tailstocks"
    sizes: ClassVar[str] = "point {point_deg}° · quill Ø{diameter} × {reach} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("chuck",)
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "force_kn": "Force"}

    kind: Literal["tailstock"] = "tailstock"
    point_deg: Annotated[float, Field(ge=30, le=120, json_schema_extra={"x-unit": "°"})] = 60.0
    diameter: Size
    reach: Size
    body_diameter: Size
    body_length: Size
    force_kn: Force

    def solids(self, height: float | None = None) -> list[Solid]:
        return []

    def picture(self) -> list[Solid]:
        """Point and body, as they stand over the work."""
        return [Solid(POINT, "clamps", point_of(self)), *tailstock_body(self)]


def _cone_height(one: Tailstock) -> float:
    return one.diameter / 2 / float(np.tan(np.radians(one.point_deg / 2)))


def point_of(one: Tailstock) -> manifold3d.Manifold:
    """Its cone, the tip in the origin, upwards."""
    return manifold3d.Manifold.cylinder(_cone_height(one), 0.0, one.diameter / 2, ROUND)


def tailstock_body(one: Tailstock) -> list[Solid]:
    """Quill and body behind the cone."""
    high = _cone_height(one)
    end = high + one.reach
    return [
        Solid("quill", "body", rod(one.diameter, high, end)),
        Solid("tailstock body", "body", rod(one.body_diameter, end, end + one.body_length)),
    ]
