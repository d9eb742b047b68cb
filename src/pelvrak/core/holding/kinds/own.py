"""The shop's own solid."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.holding.fixture import UNASKED, FixtureKind


class Own(FixtureKind):
    """The shop's own solid from a STEP or STL file, in the file's own frame.

    file: of the solid; sha256: of its bytes, once known.
    """

    called: ClassVar[str] = "own solid"
    several: ClassVar[str] = "our own solids"
    sizes: ClassVar[str] = "{file}"
    asks: ClassVar[dict[str, str]] = {
        "x": "X",
        "y": "Y",
        "z": "Z",
        "turn_deg": "Turned",
        "rides": "Rides on",
    }

    kind: Literal["own"] = "own"
    file: Annotated[str, Field(min_length=1, max_length=200, json_schema_extra=UNASKED)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = Field(
        default=None, json_schema_extra=UNASKED
    )
