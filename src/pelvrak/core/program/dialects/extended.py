"""A control with registers beyond the six, cycles beyond the standard's, subprograms and variables."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.program.dialect import Dialect, Probes, usual
from pelvrak.core.program.writing import Writer


class Extended(Dialect):
    """As several makers of controls have it alike: G54.1, G68, G68.2, G73 and G76, M98."""

    called: ClassVar[str] = "Extended"
    writer: ClassVar[type[Writer]] = Writer

    kind: Literal["extended"] = "extended"
    extended: bool = usual("extended", True)
    tilted: bool = usual("tilted", True)
    rotation: bool = usual("rotation", True)
    probing: Probes = usual("probing", "G31")
    subprograms: bool = usual("subprograms", True)
    shift: bool = usual("shift", True)
