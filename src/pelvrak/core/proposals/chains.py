"""By which chain of tools is a hole made? By its tolerance and its diameter, after rules that are data."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.geometry.callout import Understood
from pelvrak.core.geometry.iso286 import GRADES, RANGES
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.shelf import shelf

Fit = Literal["thread", "close", "plain"]
StepName = Literal["spot", "pilot", "drill", "ream", "tap", "thread_mill", "mill", "finish", "bore"]


# What opens a hole, what may only follow it, and what a kind of hole ends with.
OPENS: tuple[StepName, ...] = ("drill", "mill")
GUIDES: tuple[StepName, ...] = ("spot", "pilot")
ENDS: dict[Fit, tuple[StepName, ...]] = {
    "thread": ("tap", "thread_mill"),
    "close": ("ream", "bore", "finish"),
    "plain": ("drill", "mill", "finish", "bore", "ream"),
}


class Chain(Frozen):
    """One way to make a hole.

    id: never changes; called: what it is called; fit: the holes it is for; from_mm, to_mm: their diameters;
    deeper_than: and only those deeper than so many diameters; steps: one after the other, each removes what
    the next expects; source: where the rule comes from.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)]
    called: Annotated[str, Field(min_length=1, max_length=60)]
    fit: Fit
    from_mm: Annotated[float, Field(gt=0, le=1000)]
    to_mm: Annotated[float, Field(gt=0, le=1000)]
    deeper_than: Annotated[float, Field(ge=0, le=100)] = 0.0
    steps: Annotated[tuple[StepName, ...], Field(min_length=1, max_length=6)]
    source: Annotated[str, Field(max_length=200)] = ""

    @model_validator(mode="after")
    def _sound(self) -> Chain:
        """Raises ValueError for steps that leave nothing for the next, or not what the hole is to be."""
        if self.from_mm > self.to_mm:
            raise ValueError(f"“{self.called}” is for no hole: from {self.from_mm:g} to {self.to_mm:g} mm")
        opened = False
        for n, step in enumerate(self.steps):
            words = step.replace("_", " ")
            if step in self.steps[:n]:
                raise ValueError(f"“{self.called}” has “{words}” twice")
            if step in GUIDES and opened:
                raise ValueError(f"“{self.called}”: “{words}” comes before what opens the hole")
            if step not in (*GUIDES, *OPENS) and not opened:
                raise ValueError(f"“{self.called}”: “{words}” would go into solid metal; drill or mill first")
            opened = opened or step in OPENS
        if self.steps[-1] not in ENDS[self.fit]:
            ends = " or ".join(one.replace("_", " ") for one in ENDS[self.fit])
            raise ValueError(f"“{self.called}” is for {self.fit} holes: its last step is {ends}")
        return self


class Allowance(Frozen):
    """What a drill leaves to a reamer on the diameter, mm. to_mm: for holes up to this diameter."""

    to_mm: Annotated[float, Field(gt=0, le=1000)]
    allowance_mm: Annotated[float, Field(gt=0, le=5)]


class Rules(Frozen):
    """All chains, the one that is tried first first.

    close_to_grade: a hole whose limits lie no further apart than this grade of ISO 286-1 is a close one;
    peck_over: deeper than so many diameters is drilled by pecks; peck_share: of so many diameters each;
    pilot_share: a pilot is so many diameters deep; pilot_wider_mm: and up to so much wider than the drill;
    plain_under_mm: a plain hole may be drilled so much under its size; leave_mm: what the mill leaves on a
    wall that is finished; reaming: what is left to a reamer.
    """

    chains: Annotated[tuple[Chain, ...], Field(min_length=1, max_length=100)]
    close_to_grade: Annotated[int, Field(ge=5, le=14)]
    peck_over: Annotated[float, Field(gt=0, le=50)]
    peck_share: Annotated[float, Field(gt=0, le=10)]
    pilot_share: Annotated[float, Field(gt=0, le=10)] = 2.0
    pilot_wider_mm: Annotated[float, Field(ge=0, le=1)] = 0.1
    plain_under_mm: Annotated[float, Field(ge=0, le=5)]
    leave_mm: Annotated[float, Field(ge=0, le=5)]
    reaming: Annotated[tuple[Allowance, ...], Field(min_length=1, max_length=40)]

    @model_validator(mode="after")
    def _told_apart(self) -> Rules:
        """Raises ValueError for two chains of one id, and for allowances out of order."""
        ids = [one.id for one in self.chains]
        twice = next((one for one in ids if ids.count(one) > 1), None)
        if twice is not None:
            raise ValueError(f"two chains have the id {twice}; give each its own")
        sizes = [one.to_mm for one in self.reaming]
        if sizes != sorted(set(sizes)):
            raise ValueError("what is left to a reamer goes by rising diameters, each once")
        return self

    def chains_for(self, diameter: float, depth: float, meant: Understood | None) -> tuple[Chain, ...]:
        """The chains for a hole. diameter: of its narrowest stage, mm; depth: mm; meant: its tolerance or
        thread.
        """
        fit = self.fit_of(diameter, meant)
        return tuple(
            chain
            for chain in self.chains
            if chain.fit == fit
            and chain.from_mm <= diameter <= chain.to_mm
            and depth > chain.deeper_than * diameter
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
