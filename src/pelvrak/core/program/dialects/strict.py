"""A control that is strict and poor: every move by itself, every word in its block, short lines."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.program.dialect import (
    Arcs,
    ArcsMost,
    Change,
    Cycles,
    Dialect,
    Dwell,
    Letters,
    Longest,
    Retreat,
    usual,
)
from pelvrak.core.program.writing import Writer


class Strict(Dialect):
    """No cycles, no registers beyond the six, arcs by their radius in quarters at most."""

    called: ClassVar[str] = "Strict"
    writer: ClassVar[type[Writer]] = Writer

    kind: Literal["strict"] = "strict"
    longest: Longest = usual("longest", 64)
    letters: Letters = usual("letters", "ABCDFGHMNORSTXYZ")
    zeros: bool = usual("zeros", True)
    repeated: bool = usual("repeated", True)
    arcs: Arcs = usual("arcs", "radius")
    arcs_most: ArcsMost = usual("arcs_most", 90)
    cycles: Cycles = usual("cycles", "none")
    inverse_time: bool = usual("inverse_time", False)
    retreat: Retreat = usual("retreat", "G28")
    change: Change = usual("change", "apart")
    dwell: Dwell = usual("dwell", "X s")
