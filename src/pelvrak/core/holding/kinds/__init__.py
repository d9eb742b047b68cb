"""Which kinds of fixture are there? Each is one file here and one line below.

A package outside this tree adds its own by an entry point of the group `pelvrak.fixtures` that names the
class.
"""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Field, TypeAdapter, ValidationError

from pelvrak.core.errors import BadInput, json_from, plain, refuse_unkept
from pelvrak.core.geometry.shelf import shelf
from pelvrak.core.holding.fixture import (
    ROUND,
    SCREWS,
    FixtureKind,
    Ident,
    Role,
    Solid,
    core_diameter,
    cuboid,
    prism,
    rod,
)
from pelvrak.core.holding.kinds.angle_plate import AnglePlate
from pelvrak.core.holding.kinds.area import Magnet, Tape, VacuumPlate
from pelvrak.core.holding.kinds.block import Block
from pelvrak.core.holding.kinds.bolt import Bolt
from pelvrak.core.holding.kinds.chuck import Chuck, chuck_jaw
from pelvrak.core.holding.kinds.clamp import Clamp, clamp_arm, clamp_body, plunger
from pelvrak.core.holding.kinds.collet_block import ColletBlock, collet_bore, collet_quarters
from pelvrak.core.holding.kinds.jaws import Jaws, jaw
from pelvrak.core.holding.kinds.own import Own
from pelvrak.core.holding.kinds.parallels import Parallels
from pelvrak.core.holding.kinds.pin import Pin
from pelvrak.core.holding.kinds.plate import Plate, plate_holes
from pelvrak.core.holding.kinds.riser import Riser
from pelvrak.core.holding.kinds.stop import Stop, stop_rod
from pelvrak.core.holding.kinds.swivel import Swivel
from pelvrak.core.holding.kinds.tailstock import POINT, Tailstock, point_of, tailstock_body
from pelvrak.core.holding.kinds.v_block import VBlock
from pelvrak.core.holding.kinds.vise import Vise, vise_slide
from pelvrak.core.registered import registered

SHIPPED: tuple[type[FixtureKind], ...] = (
    Vise,
    Jaws,
    Parallels,
    Stop,
    VBlock,
    AnglePlate,
    Plate,
    VacuumPlate,
    Magnet,
    Tape,
    Clamp,
    Riser,
    Swivel,
    Bolt,
    Pin,
    Chuck,
    Tailstock,
    ColletBlock,
    Block,
    Own,
)
KINDS = registered(SHIPPED, "pelvrak.fixtures")
if TYPE_CHECKING:
    Fixture = FixtureKind
else:
    Fixture = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]
_FIXTURES: TypeAdapter[list[Fixture]] = TypeAdapter(list[Fixture])


def fixtures_shipped() -> dict[str, Fixture]:
    """The shipped fixtures by id; sizes ours."""
    return {one.id: one for one in _FIXTURES.validate_python(shelf("holding", "fixtures.json"))}


def fixtures_from(rows: Any, where: str = "fixtures") -> list[Fixture]:
    """Fixtures from JSON values. Raises BadInput naming the first field that is wrong."""
    refuse_unkept(rows, where, "hold.library")
    try:
        found = _FIXTURES.validate_python(rows)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False)[0]
        field = "/".join(str(step) for step in first["loc"])
        what, mend = plain(first)
        raise BadInput("hold.library", f"{where}/{field}", what, mend) from wrong
    twice = {one.id for one in found if sum(other.id == one.id for other in found) > 1}
    if twice:
        raise BadInput("hold.library", where, f"two fixtures are called {min(twice)}", "give each its own id")
    return found


def fixtures_from_json(text: bytes, where: str) -> list[Fixture]:
    """Fixtures of a library file. Raises BadInput with the line where the JSON breaks, or the field that is
    wrong.
    """
    rows = json_from(text, where, "hold.library")
    return fixtures_from(rows["fixtures"] if isinstance(rows, dict) and "fixtures" in rows else rows, where)


__all__ = [
    "KINDS",
    "POINT",
    "ROUND",
    "SCREWS",
    "AnglePlate",
    "Block",
    "Bolt",
    "Chuck",
    "Clamp",
    "ColletBlock",
    "Fixture",
    "FixtureKind",
    "Ident",
    "Jaws",
    "Magnet",
    "Own",
    "Parallels",
    "Pin",
    "Plate",
    "Riser",
    "Role",
    "Solid",
    "Stop",
    "Swivel",
    "Tailstock",
    "Tape",
    "VBlock",
    "VacuumPlate",
    "Vise",
    "chuck_jaw",
    "clamp_arm",
    "clamp_body",
    "collet_bore",
    "collet_quarters",
    "core_diameter",
    "cuboid",
    "fixtures_from",
    "fixtures_from_json",
    "fixtures_shipped",
    "jaw",
    "plate_holes",
    "plunger",
    "point_of",
    "prism",
    "rod",
    "stop_rod",
    "tailstock_body",
    "vise_slide",
]
