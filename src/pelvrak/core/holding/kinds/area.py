"""What holds work by its area: a vacuum plate, a magnet, adhesive tape."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.holding.fixture import Draws, FixtureKind, Size, Solid, standing_block

Pressure = Annotated[float, Field(gt=0, le=2000, json_schema_extra={"x-unit": "kPa"})]
Source = Annotated[str, Field(max_length=200)]


class VacuumPlate(FixtureKind):
    """A plate that air is drawn from under the work through: the air above presses the work on it.

    length, width, height: of the plate, mm; below_kpa: how far under the air outside the pump draws; never
    more than the air has (101.3 kPa at sea level, ISO 2533); used: share of the area under the work that lies
    within the seal; source: where these numbers are from.
    """

    called: ClassVar[str] = "vacuum plate"
    several: ClassVar[str] = "vacuum plates"
    sizes: ClassVar[str] = "{length} × {width} × {height} · {below_kpa} kPa"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)

    kind: Literal["vacuum_plate"] = "vacuum_plate"
    length: Size
    width: Size
    height: Size
    below_kpa: Annotated[float, Field(gt=0, le=101.3, json_schema_extra={"x-unit": "kPa"})] = 80.0
    used: Annotated[float, Field(gt=0, le=1)] = 0.85
    source: Source = ""

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("vacuum plate", "rests", standing_block(self.length, self.width, self.height))]

    def draws(self) -> Draws:
        return Draws(self.below_kpa * self.used, None, seals=True)


class Magnet(FixtureKind):
    """A magnet chuck: it draws iron and steel down on its top.

    length, width, height: of the chuck, mm; pull_kpa: what it draws with, of ground steel thick enough to
    fill with its field; source: where that is from.
    """

    called: ClassVar[str] = "magnet chuck"
    several: ClassVar[str] = "magnet chucks"
    sizes: ClassVar[str] = "{length} × {width} × {height} · {pull_kpa} kPa"
    stands_on: ClassVar[tuple[str, ...]] = ("plate",)

    kind: Literal["magnet"] = "magnet"
    length: Size
    width: Size
    height: Size
    pull_kpa: Pressure = 600.0
    source: Source = ""

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("magnet chuck", "rests", standing_block(self.length, self.width, self.height))]

    def draws(self) -> Draws:
        return Draws(self.pull_kpa, None, steel_only=True)


class Tape(FixtureKind):
    """Adhesive tape, sticky on both sides, under the work.

    length, width: of what is stuck down, mm; thickness: pressed, mm; pull_kpa, shear_kpa: what it stands
    square to its face and along it; source: where these numbers are from.
    """

    called: ClassVar[str] = "adhesive tape"
    several: ClassVar[str] = "adhesive tapes"
    sizes: ClassVar[str] = "{length} × {width} · {pull_kpa} / {shear_kpa} kPa"
    stands_on: ClassVar[tuple[str, ...]] = ("plate", "riser", "block")

    kind: Literal["tape"] = "tape"
    length: Size
    width: Size
    thickness: Annotated[float, Field(gt=0, le=5)] = 0.2
    pull_kpa: Pressure = 250.0
    shear_kpa: Pressure = 150.0
    source: Source = ""

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("tape", "rests", standing_block(self.length, self.width, self.thickness))]

    def draws(self) -> Draws:
        return Draws(self.pull_kpa, self.shear_kpa)
