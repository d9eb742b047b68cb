"""A pair of jaws for a vise."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import manifold3d
from pydantic import Field, model_validator

from pelvrak.core.holding.fixture import FixtureKind, Size, Solid, cuboid, prism

# Dovetails of work holding have flanks at 60° to their floor: common practice, no source.
DOVETAIL_DEG = 60.0


class Jaws(FixtureKind):
    """A pair of jaws for a vise: hard, stepped (work rests on the step), with teeth that bite, with a
    dovetail that draws the work down, or soft blanks to be cut.

    style: hard, stepped, serrated, dovetail or soft; width, height, thickness: of one jaw, mm; step_depth,
    step_below_top: of the step the work rests on, mm (of a dovetail: how far its floor reaches under the lip
    at the top, and how high it is); bites: how deep the teeth go in, mm; friction: with the work, where it is
    another than metal on metal; source: where that is from; flank_deg: of a dovetail, to its floor; material:
    of soft ones.
    """

    called: ClassVar[str] = "jaws"
    several: ClassVar[str] = "jaws"
    sizes: ClassVar[str] = "{style} · {width} × {height} × {thickness}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise",)
    asks: ClassVar[dict[str, str]] = {
        "cut": "Shape",
        "moving": "Front jaw",
        "x": "Along",
        "set_in": "Set in",
        "set_in_moving": "Front set in",
    }

    kind: Literal["jaws"] = "jaws"
    style: Literal["hard", "stepped", "serrated", "dovetail", "soft"] = "hard"
    width: Size
    height: Size
    thickness: Size
    step_depth: Annotated[float, Field(ge=0, le=200)] = 0.0
    step_below_top: Annotated[float, Field(ge=0, le=200)] = 0.0
    bites: Annotated[float, Field(ge=0, le=3, json_schema_extra={"x-unit": "mm"})] = 0.0
    friction: Annotated[float, Field(gt=0, le=2)] | None = None
    source: Annotated[str, Field(max_length=200)] = ""
    flank_deg: Annotated[float, Field(ge=30, lt=90, json_schema_extra={"x-unit": "°"})] = DOVETAIL_DEG
    material: Annotated[str, Field(max_length=60)] = ""

    @model_validator(mode="after")
    def _step_lies_within(self) -> Jaws:
        stepped = self.style in ("stepped", "serrated", "dovetail")
        if stepped and not (0 < self.step_depth < self.thickness and 0 < self.step_below_top < self.height):
            raise ValueError(
                f"a {self.style} jaw needs a step less deep than it is thick, and less low than it is high"
            )
        if self.style == "dovetail" and self.step_depth + self.under_lip >= self.thickness:
            raise ValueError("the dovetail goes through the jaw: a thicker jaw, or a lower step")
        if not stepped and self.step_below_top > 0:
            raise ValueError(f"{self.style} jaws have no step: choose stepped ones, or leave it at 0")
        if (self.style == "serrated") != (self.bites > 0):
            raise ValueError("serrated jaws have teeth that bite so many mm, others have none")
        return self

    @property
    def floor(self) -> float | None:
        """How high the step is that the work rests on, over the jaw's bottom, mm; None without one."""
        return None if self.step_below_top == 0 else self.height - self.step_below_top

    @property
    def under_lip(self) -> float:
        """How far a dovetail's floor reaches behind the edge at its top, mm."""
        return self.step_below_top / math.tan(math.radians(self.flank_deg))

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("jaw", "locates", jaw(self))]

    def picture(self) -> list[Solid]:
        """Both, face to face."""
        other = jaw(self).rotate([0.0, 0.0, 180.0]).translate([0.0, -2 * self.thickness - 40.0, 0.0])
        return [*self.solids(), Solid("jaw", "clamps", other)]


def jaw(one: Jaws) -> manifold3d.Manifold:
    """One jaw, its back in y 0, its bottom in z 0, gripping face towards -y: the fixed one as it stands.
    Teeth are drawn as the face they grip with.
    """
    body = cuboid((-one.width / 2, -one.thickness, 0), (one.width / 2, 0, one.height))
    front, floor = -one.thickness - 1, one.height - one.step_below_top
    lip = -one.thickness + one.step_depth
    if one.style in ("stepped", "serrated"):
        body -= cuboid((-one.width, front, floor), (one.width, lip, one.height + 1))
    if one.style == "dovetail":
        section = [
            (front, floor),
            (lip + one.under_lip, floor),
            (lip, one.height),
            (lip, one.height + 1),
            (front, one.height + 1),
        ]
        body -= prism(section, -one.width, one.width)
    return body
