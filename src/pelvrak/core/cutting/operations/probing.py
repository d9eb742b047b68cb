"""Probing: touch what the work is found by, and set a register from it."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.measuring import Measured
from pelvrak.core.cutting.touching import CALLED, Touching, ask_the_stock, depth_of, touch, turned_by
from pelvrak.core.forms import asked
from pelvrak.core.machine.machine import Register

What = Literal["face", "walls", "web", "corner", "bore", "boss", "top", "angle"]


class Probing(Touching):
    """Touch faces as they stand, and set axes of a register by where they are: a face its one axis, a corner
    two, the middle of two walls one, of a bore or boss two; two touches of one wall say how it is turned.
    """

    called: ClassVar[str] = "Probing"

    kind: Literal["probing"] = "probing"
    what: What = asked("face", title="Touches", help="what is measured", called=CALLED, place="what")
    sets: Register = asked(
        "G55", title="Sets", help="the register whose axes are set by it", widget="sets", place="what"
    )
    apart: Annotated[float, Field(gt=0, le=1000)] | None = asked(
        None,
        title="Apart",
        help="its two places, along the wall",
        unit="mm",
        empty="two thirds of the wall",
        place="what",
        when={"what": ["angle"]},
    )
    tolerance: Annotated[float, Field(gt=0, le=20)] = asked(
        1.0,
        title="Stops at",
        help="the program stops where it finds something further off",
        unit="mm",
        place="feeds",
    )

    @model_validator(mode="after")
    def _what_is_not_there_is_noticed(self) -> Probing:
        if self.beyond <= 2 * self.tolerance:
            raise ValueError(
                f"{self.name} looks {self.beyond:g} mm beyond and stops at {self.tolerance:g} mm: a face that"
                " is not there would pass for one that is off. Look more than twice as far as it stops at"
            )
        return self

    def places_apart(self) -> float | None:
        """How far the two places lie from each other where the turn of a wall is found, mm."""
        return self.apart

    def register_set(self) -> Register | None:
        """The register whose axes it sets by what it touches."""
        return None if self.what == "angle" else self.sets

    def register_turned(self) -> Register | None:
        """The register that it finds turned."""
        return self.sets if self.what == "angle" else None

    def plan(self, job: Job) -> None:
        spots, finds, touches = touch(self, job)
        angle = turned_by(self, job, spots) if self.what == "angle" else None
        if angle is None:
            ask_the_stock(self, job, spots, finds)
        job.measured = Measured(
            touches,
            job.radius,
            self.touch_feed,
            self.guard_feed,
            CALLED[self.what],
            finds=tuple(finds),
            tolerance=self.tolerance,
            sets=self.sets,
            angle=angle,
            what="" if self.what in ("corner", "angle") or self.points != "four" else self.what,
            approach=self.approach,
            depth=depth_of(self, job),
        )
