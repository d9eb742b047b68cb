"""By which chain of tools is a hole made? By its tolerance and its diameter, after rules that are data."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from pelvrak.core.geometry.callout import Understood
from pelvrak.core.geometry.iso286 import GRADES, RANGES
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.shelf import shelf

Fit = Literal["thread", "close", "plain"]
StepName = Literal["spot", "drill", "ream", "tap", "thread_mill", "mill", "finish", "bore"]


class Chain(Frozen):
    """One way to make a hole.

    id: never changes; called: what it is called; fit: the holes it is for; from_mm, to_mm: their diameters;
    steps: one after the other, each removes what the next expects; source: where the rule comes from.
    """

    id: str
    called: str
    fit: Fit
    from_mm: Annotated[float, Field(gt=0)]
    to_mm: Annotated[float, Field(gt=0)]
    steps: tuple[StepName, ...]
    source: str


class Allowance(Frozen):
    """What a drill leaves to a reamer on the diameter, mm. to_mm: for holes up to this diameter."""

    to_mm: float
    allowance_mm: float


class Rules(Frozen):
    """All chains, the one that is tried first first.

    close_to_grade: a hole whose limits lie no further apart than this grade of ISO 286-1 is a close one;
    peck_over: deeper than so many diameters is drilled by pecks; peck_share: of so many diameters each;
    plain_under_mm: a plain hole may be drilled so much under its size; leave_mm: what the mill leaves on a
    wall that is finished; reaming: what is left to a reamer.
    """

    chains: tuple[Chain, ...]
    close_to_grade: int
    peck_over: float
    peck_share: float
    plain_under_mm: float
    leave_mm: float
    reaming: tuple[Allowance, ...]

    def chains_for(self, diameter: float, meant: Understood | None) -> tuple[Chain, ...]:
        """The chains for a hole. diameter: of its narrowest stage, mm; meant: its tolerance or thread."""
        fit = self.fit_of(diameter, meant)
        return tuple(
            chain for chain in self.chains if chain.fit == fit and chain.from_mm <= diameter <= chain.to_mm
        )

    def fit_of(self, diameter: float, meant: Understood | None) -> Fit:
        """What kind of fit a hole has."""
        if meant is None:
            return "plain"
        if meant.kind == "thread":
            return "thread"
        wide = round(meant.high - meant.low, 6)
        return "close" if wide <= tolerance_of(self.close_to_grade, diameter) else "plain"

    def allowance(self, diameter: float) -> float:
        """What a drill leaves to a reamer on the diameter, mm."""
        return next(
            (one.allowance_mm for one in self.reaming if diameter <= one.to_mm),
            self.reaming[-1].allowance_mm,
        )


def tolerance_of(grade: int, size: float) -> float:
    """The standard tolerance of a grade at a size (mm), mm: ISO 286-1, table 1."""
    at = next((i for i, end in enumerate(RANGES) if size <= end), len(RANGES) - 1)
    return GRADES[grade][at] / 1000


def rules_shipped() -> Rules:
    """The chains that ship with the program."""
    return Rules.model_validate(shelf("proposals", "chains.json"))
