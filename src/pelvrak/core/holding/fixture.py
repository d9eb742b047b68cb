"""What has every kind of fixture in common, and what does each kind answer for itself?

Every fixture stands in a frame of its own: z up, origin in the middle of its bottom unless its kind says
otherwise. Sizes are ours; those of threads, bolts and tee slots are named beside them.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, ClassVar, Literal

import manifold3d
import numpy as np
from pydantic import ConfigDict, Field
from pydantic.config import JsonDict

from pelvrak.core.geometry.mesh import Mesh, mesh_of
from pelvrak.core.geometry.part import Frozen

# How the page asks for each, see core/forms.py.
Size = Annotated[float, Field(gt=0, le=3000, json_schema_extra={"x-unit": "mm"})]
Force = Annotated[float, Field(gt=0, le=3000, json_schema_extra={"x-unit": "kN"})]
Angle = Annotated[float, Field(ge=60, le=150, json_schema_extra={"x-unit": "°"})]
UNASKED: JsonDict = {"x-widget": "none"}
Ident = Annotated[str, Field(pattern="^[A-Za-z0-9_.-]{1,40}$")]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Role = Literal["rests", "locates", "clamps", "body"]
ROUND = 64

# ISO 4762 cap screws: head diameter and height, mm, and coarse pitch (ISO 261), from memory.
SCREWS: dict[str, tuple[float, float, float, float]] = {
    "M4": (4, 7.0, 4, 0.7),
    "M5": (5, 8.5, 5, 0.8),
    "M6": (6, 10.0, 6, 1.0),
    "M8": (8, 13.0, 8, 1.25),
    "M10": (10, 16.0, 10, 1.5),
    "M12": (12, 18.0, 12, 1.75),
    "M16": (16, 24.0, 16, 2.0),
}
# Through holes for them, ISO 273 medium; counterbores for their heads, DIN 974-1 row 1: diameter, and room
# over the head, mm. From memory.
LET_IN: dict[str, tuple[float, float, float]] = {
    "M4": (4.5, 8.0, 0.4),
    "M5": (5.5, 10.0, 0.4),
    "M6": (6.6, 11.0, 0.4),
    "M8": (9.0, 15.0, 0.6),
    "M10": (11.0, 18.0, 0.6),
    "M12": (13.5, 20.0, 0.6),
    "M16": (17.5, 26.0, 0.6),
}
# Lengths they are sold in, mm (ISO 4762, from memory).
LENGTHS = (10, 12, 16, 20, 25, 30, 35, 40, 45, 50, 55, 60, 65, 70, 80, 90, 100, 110, 120, 130, 140, 150, 160)
Thread = Literal["M4", "M5", "M6", "M8", "M10", "M12", "M16"]


def core_diameter(thread: str) -> float:
    """Diameter of a screw at the root of its thread, mm: d - 1.2269·P (ISO 724 profile, from memory)."""
    d, _, _, pitch = SCREWS[thread]
    return d - 1.2269 * pitch


@dataclass(frozen=True)
class Solid:
    """One solid of a fixture in its own frame. name: what a machinist calls it."""

    name: str
    role: Role
    body: manifold3d.Manifold


@dataclass(frozen=True)
class Draws:
    """What draws the work against a fixture's faces, by their area.

    kpa: square to the face; shear_kpa: along it, None where it rubs as metal does; seals: air gets in through
    openings of the work; steel_only: it draws nothing but iron and steel.
    """

    kpa: float
    shear_kpa: float | None
    seals: bool = False
    steel_only: bool = False


def cuboid(low: tuple[float, float, float], high: tuple[float, float, float]) -> manifold3d.Manifold:
    """A block low … high, mm."""
    return manifold3d.Manifold.cube([float(b - a) for a, b in zip(low, high, strict=True)]).translate(
        [float(a) for a in low]
    )


def standing_block(length: float, width: float, height: float) -> manifold3d.Manifold:
    """A block on the middle of its bottom, mm."""
    return cuboid((-length / 2, -width / 2, 0), (length / 2, width / 2, height))


def rod(diameter: float, low: float, high: float, x: float = 0.0, y: float = 0.0) -> manifold3d.Manifold:
    """An upright cylinder; its corners lie on the circle, mm."""
    return manifold3d.Manifold.cylinder(high - low, diameter / 2, diameter / 2, ROUND).translate([x, y, low])


def prism(section: list[tuple[float, float]], low: float, high: float) -> manifold3d.Manifold:
    """A section in (y, z), counter-clockwise seen from +x, drawn along x from low to high."""
    upright = manifold3d.CrossSection([section]).extrude(high - low)
    # x, y, z of the drawing become y, z, x.
    return upright.transform(np.array([[0.0, 0, 1, low], [1, 0, 0, 0], [0, 1, 0, 0]]))


def _title(field: str) -> str:
    """What the page calls a size: its name in words; the unit stands behind the number."""
    return re.sub("_(kn|deg)$", "", field).replace("_", " ").capitalize()


class FixtureKind(Frozen):
    """What every fixture has. A kind adds its sizes and answers the questions below.

    called, several: what a machinist calls one of the kind, and several; sizes: those that are asked for
    first, with fields in braces; stands_on: kinds it is put on where one is there, else the table; waits: it
    is put where it belongs once the work lies, and not before; asks: the fields of its item in a holding that
    people are asked for (pinned: the hole of the work on it), with what they are called there. id: never
    changes; name: what it is called; maker: who makes it, where it is bought.
    """

    called: ClassVar[str]
    several: ClassVar[str]
    sizes: ClassVar[str]
    stands_on: ClassVar[tuple[str, ...]] = ()
    waits: ClassVar[bool] = False
    asks: ClassVar[dict[str, str]] = {"x": "X", "y": "Y", "turn_deg": "Turned"}

    model_config = ConfigDict(field_title_generator=lambda name, info: _title(name))

    # Each kind has its own, by which it is told from the others.
    kind: str
    id: Annotated[Ident, Field(json_schema_extra=UNASKED)]
    name: Name
    maker: Annotated[str, Field(max_length=60)] = ""

    def solids(self, height: float | None = None) -> list[Solid]:
        """The solids that stand by themselves, in the fixture's frame. height: of one that can take several,
        mm.
        """
        return []

    def top(self, height: float | None = None) -> float:
        """How high what is put on it stands, mm. height: of one that can take several."""
        for name in ("height", "thickness"):
            own = getattr(self, name, None)
            if isinstance(own, (int, float)):
                return float(own)
        return height or 0.0

    def draws(self) -> Draws | None:
        """What draws the work against it by the area that touches; None where nothing does."""
        return None

    def picture(self) -> list[Solid]:
        """The whole fixture for its picture in the library."""
        return self.solids()


@lru_cache(maxsize=64)
def drawn_solids(one: FixtureKind, height: float | None) -> tuple[tuple[Solid, Mesh], ...]:
    """The solids that stand by themselves, each with its surface: of a plate with all its holes those are
    made once, and not for every holding. Not to be written into.
    """
    return tuple((solid, mesh_of(solid.body)) for solid in one.solids(height))
