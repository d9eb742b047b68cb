"""A control that knows ISO 6983 and nothing beyond it."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.program.dialect import Cycles, Dialect, usual
from pelvrak.core.program.writing import Writer


class Plain(Dialect):
    """Cycles of the standard, six registers, no subprograms and nothing that a control reckons with."""

    called: ClassVar[str] = "Plain ISO 6983"
    writer: ClassVar[type[Writer]] = Writer

    kind: Literal["plain"] = "plain"
    cycles: Cycles = usual("cycles", "standard")
