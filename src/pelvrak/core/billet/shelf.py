"""Which size of bar on the shelf covers the part with the least waste, and what is to be ordered when none
does?
"""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from itertools import permutations
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from pelvrak.core.billet.block import Block, BySize
from pelvrak.core.billet.forms import Axis, Bar, circle_round
from pelvrak.core.errors import BadInput, plain, refuse_unkept
from pelvrak.core.geometry.part import Frozen, PartModel, Vector
from pelvrak.core.geometry.shelf import shelf

# Longer blocks no plan takes, mm.
LONGEST_MM = 2000.0
# Common practice, no source: what the saw takes, mm.
KERF_MM = 3.0
AXES: tuple[Axis, ...] = ("x", "y", "z")
COLUMNS = ("form", "material", "width_mm", "height_mm", "diameter_mm", "length_mm", "price_per_kg", "count")


class Bought(Frozen):
    """Bars of one size: flat (width × height) or round (diameter), each `length_mm` long; price in whatever
    money the shop counts in.
    """

    form: Literal["flat", "round"]
    material: Annotated[str, Field(min_length=1, max_length=80)]
    width_mm: Annotated[float, Field(gt=0, le=2000)] | None = None
    height_mm: Annotated[float, Field(gt=0, le=2000)] | None = None
    diameter_mm: Annotated[float, Field(gt=0, le=2000)] | None = None
    length_mm: Annotated[float, Field(gt=0, le=20000)]
    price_per_kg: Annotated[float, Field(ge=0, le=1e6)] = 0.0
    count: Annotated[int, Field(ge=0, le=1_000_000)] = 1

    @property
    def size(self) -> str:
        """As it is asked for: 130 × 60, or Ø80."""
        if self.form == "round":
            return f"Ø{self.diameter_mm:g}"
        return f"{self.width_mm:g} × {self.height_mm:g}"


class Pick(Frozen):
    """One way to saw the billet from a bar. along: the part's axis the bar lies along; size: what is sawn off
    (mm).

    waste_mm3: beyond what the part and its allowances need; in_stock: whether the shelf has it.
    """

    bought: Bought
    along: Axis
    size: tuple[float, float, float]
    volume_mm3: float
    waste_mm3: float
    mass_kg: float
    cost: float
    in_stock: bool
    billet: Block | Bar


class Picks(Frozen):
    """What to take from the shelf, least volume first, and what to order when nothing there fits."""

    needed: tuple[float, float, float]
    from_shelf: tuple[Pick, ...]
    order: Pick | None


def starting_shelf() -> list[Bought]:
    """The sizes the program ships with."""
    return [Bought.model_validate(row) for row in shelf("billet", "shelf.json")]


def standard_sizes() -> list[Bought]:
    """Usual sizes of drawn and extruded bar (EN 754-3 and -5, EN 755-3 and -5 give their tolerances); the
    rows from memory.
    """
    rows = shelf("billet", "standard.json")
    return [
        *(Bought(form="round", material="any", diameter_mm=d, length_mm=3000) for d in rows["round"]),
        *(
            Bought(form="flat", material="any", width_mm=w, height_mm=h, length_mm=3000)
            for w in rows["flat"]
            for h in rows["flat"]
            if h <= w
        ),
    ]


def picks(
    part: PartModel, material: str, density_g_cm3: float, allowance: tuple[float, ...], bought: list[Bought]
) -> Picks:
    """Every bar of a material that covers the part plus allowances (x-, x+, y-, y+, z-, z+; mm), in all
    orientations.
    """
    wanted = _Wanted(part, material, density_g_cm3, allowance[0::2], allowance[1::2])
    own = [row for row in bought if row.material == material]
    found = [one for row in own if row.count > 0 for one in wanted.ways(row, True)]
    found.sort(key=lambda pick: (pick.volume_mm3, pick.cost))
    order = None
    if not found:
        prices = [row.price_per_kg for row in own if row.price_per_kg > 0]
        price = sum(prices) / len(prices) if prices else 0.0
        sizes = [
            row.model_copy(update={"material": material, "price_per_kg": price}) for row in standard_sizes()
        ]
        ordered = [one for row in sizes for one in wanted.ways(row, False)]
        order = min(ordered, key=lambda pick: pick.volume_mm3, default=None)
    return Picks(needed=wanted.needed, from_shelf=tuple(found[:30]), order=order)


@dataclass(frozen=True)
class _Wanted:
    """What a bar must cover: a part of a material (g/cm³), with an allowance below and above it along each
    axis, mm.
    """

    part: PartModel
    material: str
    density: float
    minus: tuple[float, ...]
    plus: tuple[float, ...]

    @property
    def needed(self) -> Vector:
        """Size with the allowances, mm."""
        x, y, z = (
            size + a + b for size, a, b in zip(self.part.part.size, self.minus, self.plus, strict=True)
        )
        return x, y, z

    def ways(self, row: Bought, in_stock: bool) -> list[Pick]:
        """All ways a bar lies round the part; for a flat one, the way with its section turned as well."""
        found = (
            self._round(row, d, in_stock) if row.form == "round" else self._flat(row, d, in_stock)
            for d in range(3)
            if self.needed[d] + KERF_MM <= row.length_mm
        )
        return [pick for along in found for pick in along]

    def _round(self, row: Bought, d: int, in_stock: bool) -> list[Pick]:
        assert row.diameter_mm
        minus, plus, axis = self.minus, self.plus, AXES[d]
        u, v = (d + 1) % 3, (d + 2) % 3
        across = circle_round(self.part, axis)[2] + 2 * max(0.0, min(minus[u], plus[u], minus[v], plus[v]))
        if row.diameter_mm < across - 1e-9:
            return []
        size = [row.diameter_mm] * 3
        size[d] = self.needed[d]
        bar = Bar(material=self.material, axis=axis, diameter=row.diameter_mm, minus=minus[d], plus=plus[d])
        return [self._pick(row, axis, size, math.pi / 4 * row.diameter_mm**2 * size[d], in_stock, bar)]

    def _flat(self, row: Bought, d: int, in_stock: bool) -> list[Pick]:
        assert row.width_mm and row.height_mm
        u, v = (d + 1) % 3, (d + 2) % 3
        place = tuple(
            min(1.0, max(0.0, m / (m + p))) if abs(m + p) > 1e-9 else 0.5
            for m, p in zip(self.minus, self.plus, strict=True)
        )
        out = []
        for a, b in set(permutations((row.width_mm, row.height_mm))):
            size = [0.0, 0.0, 0.0]
            size[d], size[u], size[v] = self.needed[d], a, b
            if a < self.needed[u] - 1e-9 or b < self.needed[v] - 1e-9 or max(size) > LONGEST_MM:
                continue
            block = Block(
                material=self.material, sizing=BySize(size=(size[0], size[1], size[2]), place=place)
            )
            out.append(self._pick(row, AXES[d], size, a * b * size[d], in_stock, block))
        return out

    def _pick(
        self, row: Bought, axis: Axis, size: list[float], amount: float, in_stock: bool, billet: Block | Bar
    ) -> Pick:
        """amount: volume, mm³."""
        mass = amount * self.density * 1e-6
        return Pick(
            bought=row,
            along=axis,
            size=(size[0], size[1], size[2]),
            volume_mm3=round(amount, 3),
            waste_mm3=round(amount - math.prod(self.needed), 3),
            mass_kg=round(mass, 5),
            cost=round(mass * row.price_per_kg, 4),
            in_stock=in_stock,
            billet=billet,
        )


def to_csv(rows: list[Bought]) -> str:
    """The shelf as CSV with a header line."""
    out = io.StringIO()
    writer = csv.DictWriter(out, COLUMNS, lineterminator="\n")
    writer.writeheader()
    for row in rows:
        writer.writerow({name: "" if value is None else value for name, value in row.model_dump().items()})
    return out.getvalue()


def from_csv(text: str, name: str = "shelf.csv") -> list[Bought]:
    """Rows of a CSV with the columns of `to_csv`, in any order; comma or semicolon between them.

    Raises BadInput naming the line and column that is wrong; then nothing is taken.
    """
    text = text.removeprefix("\ufeff")
    refuse_unkept(text, name, "shelf.unreadable")
    first = text.split("\n", 1)[0]
    reader = csv.DictReader(io.StringIO(text), delimiter=";" if first.count(";") > first.count(",") else ",")
    missing = [
        column for column in ("form", "material", "length_mm") if column not in (reader.fieldnames or ())
    ]
    if missing:
        raise BadInput(
            "shelf.columns",
            name,
            f"there is no column {missing[0]}",
            f"the first line is to hold {', '.join(COLUMNS)}",
        )
    try:
        lines = list(enumerate(reader, start=2))
    except csv.Error as wrong:
        raise BadInput("shelf.unreadable", name, "this is no CSV file", "save it as CSV, as text") from wrong
    rows = []
    for number, line in lines:
        given = {
            key: value.strip() for key, value in line.items() if key in COLUMNS and value and value.strip()
        }
        try:
            row = Bought.model_validate(given)
        except ValidationError as wrong:
            error = wrong.errors(include_url=False)[0]
            column = str(error["loc"][0]) if error["loc"] else "row"
            raise BadInput(
                "shelf.row",
                f"{name} line {number}",
                f"{column} is {given.get(column, 'empty')!r}: {plain(error)[0]}",
                "correct it and bring the file in again",
            ) from wrong
        wanted = ("diameter_mm",) if row.form == "round" else ("width_mm", "height_mm")
        for column in wanted:
            if getattr(row, column) is None:
                raise BadInput(
                    "shelf.row", f"{name} line {number}", f"a {row.form} bar needs {column}", "fill it in"
                )
        rows.append(row)
    if not rows:
        raise BadInput("shelf.empty", name, "there are no rows below the header", "give at least one size")
    return rows
