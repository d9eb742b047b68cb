"""A pair of jaws for a vise."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid


class Jaws(FixtureKind):
    """A pair of jaws for a vise: hard, stepped (work rests on the step), or soft blanks to be cut.

    style: hard, stepped or soft; width, height, thickness: of one jaw, mm; step_depth, step_below_top: of the
    step the work rests on, mm; material: of soft ones.
    """

    called: ClassVar[str] = "jaws"
    several: ClassVar[str] = "jaws"
    sizes: ClassVar[str] = "{style} · {width} × {height} × {thickness}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise",)
    asks: ClassVar[dict[str, str]] = {"cut": "Shape"}

    kind: Literal["jaws"] = "jaws"
    style: Literal["hard", "stepped", "soft"] = "hard"
    width: Size
    height: Size
    thickness: Size
    step_depth: Annotated[float, Field(ge=0, le=200)] = 0.0
    step_below_top: Annotated[float, Field(ge=0, le=200)] = 0.0
    material: Annotated[str, Field(max_length=60)] = ""

    @model_validator(mode="after")
    def _step_lies_within(self) -> Jaws:
        if self.style == "stepped" and not (
            0 < self.step_depth < self.thickness and 0 < self.step_below_top < self.height
        ):
            raise ValueError(
                "a stepped jaw needs a step less deep than it is thick, and less low than it is high"
            )
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("jaw", "locates", jaw(self))]

    def picture(self) -> list[Solid]:
        """Both, face to face."""
        other = jaw(self).rotate([0.0, 0.0, 180.0]).translate([0.0, -2 * self.thickness - 40.0, 0.0])
        return [*self.solids(), Solid("jaw", "clamps", other)]


def jaw(one: Jaws) -> manifold3d.Manifold:
    """One jaw, its back in y 0, its bottom in z 0, gripping face towards -y: the fixed one as it stands."""
    body = cuboid((-one.width / 2, -one.thickness, 0), (one.width / 2, 0, one.height))
    if one.style == "stepped":
        step = cuboid(
            (-one.width, -one.thickness - 1, one.height - one.step_below_top),
            (one.width, -one.thickness + one.step_depth, one.height + 1),
        )
        body -= step
    return body
