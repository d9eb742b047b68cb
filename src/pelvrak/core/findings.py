"""What did a check find?"""

from __future__ import annotations

from typing import Literal

from pelvrak.core.cures import Cure
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Frozen, Vector

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


class Finding(Frozen):
    """One result of one check.

    place: points in the work frame, mm. measured against limit, both in `unit`. move, time_s: of the
    operation's path, from 0, and seconds from its start, where a move met trouble.
    """

    code: str
    severity: Severity
    setup: str | None = None
    operation: str | None = None
    stage: str | None = None
    sentence: str
    measured: float | None = None
    limit: float | None = None
    unit: str | None = None
    place: tuple[Vector, ...] = ()
    move: int | None = None
    time_s: float | None = None
    cures: tuple[Cure, ...] = ()


def of_bad_input(bad: BadInput, setup: str | None, operation: str | None, stage: str) -> Finding:
    """An input the core refused, as a finding of the setup it stands in."""
    return Finding(
        code=bad.code,
        severity="error",
        setup=setup,
        operation=operation,
        stage=stage,
        sentence=f"{bad.what[:1].upper()}{bad.what[1:]}: {bad.mend}.",
    )


def worst(findings: list[Finding]) -> Severity | None:
    """The gravest severity among findings."""
    return min((f.severity for f in findings), key=SEVERITIES.index, default=None)
