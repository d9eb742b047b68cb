"""A chuck standing on the table."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field

from pelvrak.core.holding.fixture import FixtureKind, Force, Size, Solid, cuboid, rod


class Chuck(FixtureKind):
    """A chuck standing on the table with its axis upright: jaws close on round or square work; force per jaw
    kN.

    jaws: how many; diameter, height: of the body, mm; bore: through it, mm; jaw_width, jaw_height,
    jaw_length: of one jaw, mm; force_kn: of each jaw.
    """

    called: ClassVar[str] = "chuck"
    several: ClassVar[str] = "chucks"
    sizes: ClassVar[str] = "{jaws} jaws · Ø{diameter} · bore {bore} · {force_kn} kN"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    asks: ClassVar[dict[str, str]] = {
        "x": "X",
        "y": "Y",
        "turn_deg": "Turned",
        "force_kn": "Force",
        "stand_off": "Stand-off",
    }

    kind: Literal["chuck"] = "chuck"
    jaws: Literal[3, 4]
    diameter: Size
    height: Size
    bore: Annotated[float, Field(ge=0, le=1000)]
    jaw_width: Size
    jaw_height: Size
    jaw_length: Size
    force_kn: Force

    def solids(self, height: float | None = None) -> list[Solid]:
        body = rod(self.diameter, 0, self.height)
        return [
            Solid(
                "chuck body", "rests", body - rod(self.bore, -1, self.height + 1) if self.bore > 0 else body
            )
        ]

    def top(self, height: float | None = None) -> float:
        return self.height

    def picture(self) -> list[Solid]:
        """With its jaws."""
        open_to = chuck_jaw(self).translate([0.0, max(self.bore / 2, 6.0), 0.0])
        turns = [360.0 * k / self.jaws for k in range(self.jaws)]
        return [*self.solids(), *(Solid("jaw", "clamps", open_to.rotate([0.0, 0.0, turn])) for turn in turns)]


def chuck_jaw(one: Chuck) -> manifold3d.Manifold:
    """One jaw of a chuck: its gripping face in y 0 looking to -y, standing on the body's top."""
    return cuboid(
        (-one.jaw_width / 2, 0, one.height), (one.jaw_width / 2, one.jaw_length, one.height + one.jaw_height)
    )
