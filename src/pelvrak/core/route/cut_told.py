"""How is a finding of a cut told: whose it is, and where the tool met something?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from pelvrak.core.findings import Finding, Severity
from pelvrak.core.route.cut_facts import Meeting


class Called(Protocol):
    """What is cut, as far as it is told of."""

    @property
    def id(self) -> str: ...
    @property
    def name(self) -> str: ...
    def canned_cycle(self) -> str: ...


@dataclass(frozen=True)
class Told:
    """Whose cut is told of: the operation in its setup, and what it is called."""

    setup: str
    operation: Called

    def found(
        self, code: str, sentence: str, severity: Severity = "error", stage: str = "cut", **more: Any
    ) -> Finding:
        """A finding of the cut. more: what else a finding holds."""
        return Finding(
            code=code,
            severity=severity,
            setup=self.setup,
            operation=self.operation.id,
            stage=stage,
            sentence=sentence,
            **more,
        )

    def met(self, code: str, sentence: str, one: Meeting) -> Finding:
        """A finding of where the tool met something."""
        return self.found(
            code,
            sentence,
            measured=round(one.depth, 3),
            limit=0.0,
            unit="mm",
            place=(one.place,),
            move=one.move,
            time_s=one.time_s,
        )


def moves(count: int) -> str:
    """A number of moves in words."""
    return "1 move" if count == 1 else f"{count} moves"
