"""A locating pin."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.iso286 import limits
from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid, rod


class Pin(FixtureKind):
    """A locating pin: round, or relieved so that it locates across x only (diamond); stepped, with a shoulder
    the work rests on; expanding, which takes up its play.

    fit: tolerance class of its diameter by ISO 286. g6 goes into a reamed H7 hole by hand and locates to a
        few hundredths.
    diameter: nominal, mm; height: over what it stands on, mm; relieved: it locates across x only; shoulder:
    diameter of the step under it, mm, 0 for none; shoulder_height: how high that is, mm; expands: by how much
    its diameter grows once it is tightened, mm, 0 for a solid one.
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
    shoulder: Annotated[float, Field(ge=0, le=500)] = 0.0
    shoulder_height: Annotated[float, Field(ge=0, le=500)] = 0.0
    expands: Annotated[float, Field(ge=0, le=5)] = 0.0

    @model_validator(mode="after")
    def _fit_is_known(self) -> Pin:
        try:
            limits(self.diameter, self.fit)
        except BadInput as bad:
            raise ValueError(f"{bad.what}: {bad.mend}") from bad
        return self

    @model_validator(mode="after")
    def _step_lies_under(self) -> Pin:
        stepped = self.shoulder > 0 or self.shoulder_height > 0
        if stepped and not (self.shoulder > self.diameter and 0 < self.shoulder_height < self.height):
            raise ValueError("a step is wider than its pin, and less high than it")
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        body = rod(self.diameter, 0, self.height)
        if self.relieved:
            body ^= cuboid(
                (-self.diameter, -self.diameter / 6, 0), (self.diameter, self.diameter / 6, self.height)
            )
        solids = [Solid("pin", "locates", body)]
        if self.shoulder > 0:
            step = rod(self.shoulder, 0, self.shoulder_height) - rod(self.diameter, -1, self.height)
            solids.append(Solid("pin shoulder", "rests", step))
        return solids
