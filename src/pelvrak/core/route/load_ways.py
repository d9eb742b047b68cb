"""By which way does the tool go from place to place of a load, and is all that stands there below it?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.load.load import Load
from pelvrak.core.load.order import Cut, Machine, Step
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import Tips, direction_of
from pelvrak.core.program.compose import Planned
from pelvrak.core.route.load_checks import Occupied
from pelvrak.core.route.load_neighbours import Passing
from pelvrak.core.route.load_places import Stood, planned_at, wrong, zero_of
from pelvrak.core.route.report import SetupReport

# So high is a tool over all that stands where it goes from place to place: common practice, no source.
OVER_MM = 5.0


@dataclass(frozen=True)
class Going:
    """An operation at a place as the ways to it and from it need it. position: how its work is turned; tip:
    where it begins, in that plane, mm.
    """

    one: Stood
    step: Planned
    position: str
    cut: Cut
    tip: Vector

    @property
    def at(self) -> Turned:
        """The work as it is turned."""
        return self.one.turning.turned[self.position]


def goings(passing: Passing, places: list[Occupied], reports: dict[str, SetupReport]) -> list[list[Going]]:
    """All operations of all places, in their order."""
    steps = [planned_at(there.one) for there in places]
    # A probe may set a register as far off as it is let to.
    off = max((s.measured.tolerance for own in steps for s in own if s.measured is not None), default=0.0)
    over = _Over(passing.tips, _points(passing, places), OVER_MM + off)
    return [
        [_going(there.one, step, reports, over) for step in own]
        for there, own in zip(places, steps, strict=True)
    ]


def _points(passing: Passing, places: list[Occupied]) -> Floats:
    """Points on the table that nothing of what stands on it, or of itself, lies outside of, (n, 3), mm."""
    out = [passing.boxes.reshape(-1, 3)]
    for there in {there.one.place.setup: there for there in places}.values():
        planned = np.subtract(zero_of(there.one), there.one.shift)
        for piece in there.one.cut.turning.hold.pieces:
            if piece.item in ("table", "machine"):
                out.append(box_corners(piece.low, piece.high) + planned)
    return np.concatenate(out)


def _going(one: Stood, step: Planned, reports: dict[str, SetupReport], above: _Over) -> Going:
    """How long an operation at a place takes, and where the slides stand before, after and over all."""
    own = step.run.partition(":")[2]
    report = next(told for told in reports[one.place.cut_as].operations if told.run == own)
    position = report.position if report.position in one.turning.turned else ""
    at = one.turning.turned[position]
    moves = step.path.moves
    ends = np.array([moves[0].end, moves[-1].end]) if moves else np.zeros((2, 3))
    if step.path.round is not None:
        ends = step.path.round.place(ends)
    tip = as_vector(np.round(ends[0], 4))
    places = moved(inverse(at.local_from_zero), ends) + np.array(zero_of(one))
    gauge = step.tool.gauge_length
    begins, ends = above.tips.slides(places, at.angles, gauge)
    over = above(step, at)
    lies = tuple(at.angles[axis] for axis in sorted(at.angles))
    cut = Cut(step.tool.place, report.moving_s, as_vector(begins), as_vector(ends), over, lies)
    if over < 0:
        start, slopes = above.tips(at.angles, gauge)
        there = start + slopes @ np.array([*begins[:2], over])
        step = replace(step, over=float(moved(at.local_from_zero, (there - zero_of(one))[None])[0, 2]))
    if one.first is not None:
        by = np.round(turned(at.local_from_zero, one.shifted), 6) + 0.0
        step = replace(step, shifted=as_vector(by))
    return Going(one, step, position, cut, tip)


class _Over:
    """How high each tool is over all that stands. highest: points that nothing stands outside of, (n, 3), mm
    on the table; room: between them and the tip, mm.
    """

    def __init__(self, tips: Tips, highest: Floats, room: float) -> None:
        self.tips, self.highest, self.room = tips, highest, room
        self._known: dict[tuple[object, ...], float] = {}

    def __call__(self, step: Planned, at: Turned) -> float:
        """Z of the slides then, 0 where only its top surely is: the work turns on the way, or the control
        turns its plane, or the spindle is not turned along Z.
        """
        said = step.operation
        stops = said.stop_before != "no" or said.stop_after != "no"
        if step.path.round is not None or step.where.tilted is not None or stops:
            return 0.0
        key = step.tool.gauge_length, *sorted(at.angles.items())
        if key not in self._known:
            self._known[key] = self._level(step.tool.gauge_length, at.angles)
        return self._known[key]

    def _level(self, gauge: float, angles: dict[str, float]) -> float:
        _, slopes = self.tips(angles, gauge)
        if slopes[:, 2] @ direction_of(self.tips.machine, angles) < 1 - 1e-9:
            return 0.0
        level = float(self.tips.slides(self.highest, angles, gauge)[:, 2].max()) + self.room
        return min(0.0, round(level, 3))


def ways_met(
    load: Load, passing: Passing, all_steps: Sequence[Sequence[Going]], order: list[Step], machine: Machine
) -> list[Finding]:
    """What a tool runs into, or comes near to, on its way from place to place: the worst of each tool."""
    worst: dict[int, tuple[float, Finding]] = {}
    for (p, a), (q, b) in zip(order, order[1:], strict=False):
        if p == q:
            continue
        one, two = all_steps[p][a], all_steps[q][b]
        level = machine.level(one.cut, two.cut)
        for depth, finding in _way_met(load, passing, one, two, level):
            tool = two.step.tool.place
            if tool not in worst or depth > worst[tool][0]:
                worst[tool] = depth, finding
    return [finding for _, finding in worst.values()]


def _way_met(
    load: Load, passing: Passing, one: Going, two: Going, level: float
) -> list[tuple[float, Finding]]:
    """From one operation to another at another place, at a height of the slides; how deep with each."""
    tool, zero = two.step.tool, np.array(zero_of(two.one))
    start, slopes = passing.tips(two.at.angles, tool.gauge_length)
    stands = np.array([[*one.cut.ends[:2], level], [*two.cut.begins[:2], level]])
    local = np.round(moved(two.at.local_from_zero, stands @ slopes.T + start - zero), 6)
    path = as_vector(local[0]), as_vector(local[1])
    box = local.min(axis=0), local.max(axis=0)
    out = []
    way = f"on the way from {one.one.place.key} to {two.one.place.key} of {load.name}"
    for there, facts in passing.met(two.one, two.position, tool, path, box):
        said: list[tuple[float, str]] = []
        if facts["into"]:
            by = f"comes {facts['into']:.2f} mm into {there.stands}"
            said.append((facts["into"], f"{tool.name} {by} {way}."))
        if facts["slide"] is not None:
            slide, deep = facts["slide"]
            said.append((deep, f"The {slide} of the machine runs {deep:.1f} mm into {there.stands} {way}."))
        for deep, sentence in said:
            more: dict[str, Any] = {"measured": -deep, "limit": 0.0, "unit": "mm", "stage": "reach"}
            out.append((deep, wrong(two.one.place, "load.way", sentence, **more)))
    return out
