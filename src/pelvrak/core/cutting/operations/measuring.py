"""Measuring: touch what was cut, and go on, or stop where its size is not within its limits."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.measuring import Measured, Size
from pelvrak.core.cutting.touching import CALLED, Touching, ask_the_stock, touch
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked

What = Literal["walls", "web", "bore", "boss"]
Off = Annotated[float, Field(ge=-20, le=20)]


class Measuring(Touching):
    """Measure a bore, a boss, a slot or a web after it was cut: its size from two touches, of a round wall on
    both axes the mean of both.
    """

    called: ClassVar[str] = "Measuring"

    kind: Literal["measuring"] = "measuring"
    what: What = asked(
        "bore",
        title="Measures",
        help="the size of what",
        called={name: CALLED[name] for name in ("walls", "web", "bore", "boss")},
        place="what",
    )
    lower: Off = asked(
        -0.05, title="Lower", help="how much it may be under its size in the part", unit="mm", place="what"
    )
    upper: Off = asked(0.05, title="Upper", help="how much it may be over it", unit="mm", place="what")
    then: Literal["stop", "go on", "wear"] = asked(
        "stop",
        title="Outside",
        help="what the program does where it is not within: stops; goes on; goes on with the wear of a tool"
        " corrected, which the control takes where it corrects the radius",
        called={"wear": "corrects wear"},
        place="what",
    )
    corrects: Annotated[str, Field(max_length=40)] | None = asked(
        None,
        title="Wear of",
        help="the tool that cut it, and cuts it again",
        widget="corrects",
        place="what",
        when={"then": ["wear"]},
    )

    @model_validator(mode="after")
    def _sizes_are_of_pairs(self) -> Measuring:
        if self.what in ("bore", "boss") and self.points == "three":
            raise ValueError(f"{self.name} measures across: take two points or four")
        return self

    def tool_corrected(self) -> str | None:
        """The tool whose wear it corrects. Raises BadInput where none is told."""
        if self.then != "wear":
            return None
        if self.corrects is None:
            raise BadInput(
                "probe.no_tool",
                self.name,
                "nobody says whose wear it corrects",
                "choose the tool that cut it",
            )
        return self.corrects

    @model_validator(mode="after")
    def _limits_are_in_order(self) -> Measuring:
        if self.lower >= self.upper:
            raise ValueError(f"the lower limit of {self.name} is not under its upper one")
        return self

    def plan(self, job: Job) -> None:
        spots, finds, touches = touch(self, job)
        offs = ask_the_stock(self, job, spots, finds)
        sizes = []
        for found in finds:
            one, two = found.touches
            axis = spots[one].axis
            # Between the ball's middles, and what it is wider or narrower than that.
            apart = abs(float(spots[two].at[axis] - spots[one].at[axis]))
            inside = self.what in ("walls", "bore")
            ball = 2 * job.radius if inside else -2 * job.radius
            nominal = apart + ball
            sizes.append(Size(found.axis, found.touches, ball, nominal + self.lower, nominal + self.upper))
            past = [offs[n] for n in found.touches]
            if all(off is not None for off in past):
                off = sum(off or 0.0 for off in past) * (1 if inside else -1)
                self._as_expected(job, found.axis, nominal, off)
        job.measured = Measured(
            touches,
            job.radius,
            self.touch_feed,
            self.guard_feed,
            CALLED[self.what],
            sizes=tuple(sizes),
            then=self.then,
        )

    def _as_expected(self, job: Job, axis: str, nominal: float, off: float) -> None:
        """Tell where the planned stock would be outside the limits already. off: over the size, mm."""
        known = 0.01
        if self.lower - known <= off <= self.upper + known:
            return
        job.note(
            "probe.out_of_limits",
            "warning",
            f"{self.name} would measure {nominal + off:.3f} mm along {axis} as the stock is planned, and"
            f" {nominal + self.lower:.3f} to {nominal + self.upper:.3f} mm are wanted: it is measured before"
            " it is finished, or cut to another size.",
            measured=round(nominal + off, 3),
            limit=round(nominal + (self.upper if off > self.upper else self.lower), 3),
            unit="mm",
        )
