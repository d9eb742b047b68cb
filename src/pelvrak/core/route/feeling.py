"""What does a probe meet while a program runs? The stock as it stands by then, wherever the work lies."""

from __future__ import annotations

import math
import re

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.machine.kinematics import direction_of, tip_by_slides
from pelvrak.core.machine.machine import Setter
from pelvrak.core.route.pictures import drawn
from pelvrak.core.route.running import TextGiven, angles_at
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.touch import touched

# What a program that probes has in it.
PROBING = re.compile(r"G\s*(31|38\.2)(?!\d)", re.ASCII)


def probes(given: TextGiven) -> bool:
    """Whether a text, or what it calls, looks for touches."""
    return any(PROBING.search(text) for text in (given.text, *given.beside))


class Feeling:
    """A control's probe. now: the stock as it stands, to be told whenever something was cut; a program cuts
    with other tools than it probes with, so whoever reads a control's events tool by tool has cut all that
    comes before a touch.
    """

    def __init__(self, given: TextGiven, stock: RayField) -> None:
        self.given, self.stock = given, stock
        self._drawn: tuple[RayField, Mesh] | None = None

    def now(self, stock: RayField) -> None:
        """The stock as it stands from here on."""
        self.stock = stock

    def __call__(self, number: int, start: tuple[float, ...], end: tuple[float, ...]) -> float | None:
        """How far a probe goes between two stands of slides and axes, as a share; None: nothing is met.
        Raises BadInput for a tool that is no probe.
        """
        tool = dict(self.given.tools).get(number)
        if tool is not None and tool.kind != "probe" and self.given.machine.setter is not None:
            return self._on_the_setter(self.given.machine.setter, tool.gauge_length, start, end)
        if tool is None or tool.kind != "probe":
            raise BadInput(
                "program.no_probe",
                f"T{number}",
                "a touch is looked for with a tool that is no probe",
                "call the probe before",
            )
        ball = tool.DC / 2
        angles = angles_at(self.given.machine, start)
        zero, slopes = tip_by_slides(self.given.machine, angles, tool.gauge_length)
        up = turned(self.given.work_from_table, direction_of(self.given.machine, angles))
        centres = [self._in_work(zero + slopes @ np.array(at[:3])) + ball * up for at in (start, end)]
        return touched(self._surface(), centres[0], centres[1], ball)

    def _on_the_setter(
        self, setter: Setter, gauge: float, start: tuple[float, ...], end: tuple[float, ...]
    ) -> float | None:
        """How far a tool goes straight down until its tip is on the setter."""
        zero, slopes = tip_by_slides(self.given.machine, angles_at(self.given.machine, start), gauge)
        one, two = (zero + slopes @ np.array(at[:3]) for at in (start, end))
        if math.dist(one[:2], setter.at[:2]) > setter.diameter / 2 or math.dist(one[:2], two[:2]) > 1e-6:
            return None
        share = (one[2] - setter.at[2]) / (one[2] - two[2]) if one[2] != two[2] else -1.0
        return float(share) if 0 <= share <= 1 else None

    def _in_work(self, tip: Floats) -> Floats:
        return moved(self.given.work_from_table, tip)

    def _surface(self) -> Mesh:
        if self._drawn is None or self._drawn[0] is not self.stock:
            self._drawn = self.stock, drawn(self.stock)
        return self._drawn[1]
