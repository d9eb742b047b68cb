"""A locating pin."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.iso286 import limits
from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid, rod


class Pin(FixtureKind):
    """A locating pin: round, or relieved so that it locates across x only (diamond).

    fit: tolerance class of its diameter by ISO 286. g6 goes into a reamed H7 hole by hand and locates to a
        few hundredths.
    diameter: nominal, mm; height: over what it stands on, mm; relieved: it locates across x only.
    """

    called: ClassVar[str] = "pin"
    several: ClassVar[str] = "pins"
    sizes: ClassVar[str] = "Ø{diameter} × {height}{relieved}"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "turn_deg": "Turned", "pinned": "In the hole"}

    kind: Literal["pin"] = "pin"
    diameter: Annotated[Size, Field(le=500)]
    height: Size
    relieved: bool = False
    fit: Annotated[str, Field(max_length=5)] = "g6"

    @model_validator(mode="after")
    def _fit_is_known(self) -> Pin:
        try:
            limits(self.diameter, self.fit)
        except BadInput as bad:
            raise ValueError(f"{bad.what}: {bad.mend}") from bad
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        body = rod(self.diameter, 0, self.height)
        if self.relieved:
            body ^= cuboid(
                (-self.diameter, -self.diameter / 6, 0), (self.diameter, self.diameter / 6, self.height)
            )
        return [Solid("pin", "locates", body)]
