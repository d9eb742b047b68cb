"""Where does a cutter's middle go when the control corrects its radius (G41, G42)?

Corners and what cannot be: NIST IR 6556, 3.5.10 and appendix B (from memory): round an outside corner the
middle goes by an arc about it, into an inside corner as far as both sides allow; an arc that turns in more
tightly than the cutter, and a corner it does not fit into, is an error. Where the correction begins, the
middle comes beside the beginning of the next move, as several makers of controls have it alike.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from pelvrak.core.cutting.contour import ways
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector

# Corners that turn by less are gone round by going on to where both sides meet, rad.
SLIGHT_RAD = math.radians(6.0)
STRAIGHT_RAD = 1e-7
SHORT_MM = 1e-6


@dataclass(frozen=True)
class Step:
    """One move as the program tells it, or as the cutter's middle makes it: to its end, mm; centre: of an
    arc; line: of the program; rapid, feed: how fast, mm/min.
    """

    kind: Literal["rapid", "line", "cw", "ccw"]
    end: Vector
    line: int
    feed: float = 0.0
    centre: tuple[float, float] | None = None


@dataclass
class _Held:
    """A move whose end waits for the next. start: as the program tells; after: moves along Z that follow
    it.
    """

    start: Vector
    step: Step
    entry: bool = False
    after: list[Step] = field(default_factory=list)


class Contour:
    """The middle's way along a contour. radius: of the cutter, mm; left: it goes on the left of the contour;
    at: where the program stands as it begins.
    """

    def __init__(self, radius: float, left: bool, at: Vector) -> None:
        self.radius = abs(radius)
        # A negative radius in the table corrects to the other side.
        self.side = 1.0 if left == (radius > 0) else -1.0
        self.told, self.middle = at, at
        self.held: _Held | None = None

    def add(self, step: Step) -> list[Step]:
        """The middle's moves that are known once the program makes one more. Raises ValueError."""
        start, self.told = self.told, step.end
        self._fits(start, step)
        if math.dist(start[:2], step.end[:2]) < SHORT_MM and step.centre is None:
            if self.held is None:
                return self._made([replace(step, end=(*self.middle[:2], step.end[2]))])
            self.held.after.append(step)
            return []
        if self.held is None:
            if step.centre is not None:
                raise ValueError("a correction of the radius begins with a straight move")
            self.held = _Held(start, step, entry=True)
            return []
        done = self._ended(self.held, step, ways(start, step)[0])
        self.held = _Held(start, step)
        return done

    def end(self) -> list[Step]:
        """What is left when the correction ends: the last move comes beside its own end."""
        held, self.held = self.held, None
        if held is None:
            return []
        if held.entry:
            return self._made([held.step, *held.after])
        way = ways(held.start, held.step)[1]
        return self._finished(held, self._beside(held.step.end, way), [])

    def _ended(self, held: _Held, following: Step, ahead: Floats) -> list[Step]:
        """A held move, to where it goes over into the next, and round their corner."""
        corner = held.step.end
        if held.entry:
            return self._finished(held, self._beside(corner, ahead), [])
        behind = ways(held.start, held.step)[1]
        turn = math.atan2(float(behind[0] * ahead[1] - behind[1] * ahead[0]), float(behind @ ahead))
        outside = turn * self.side < 0
        if abs(turn) < STRAIGHT_RAD:
            return self._finished(held, self._beside(corner, ahead), [])
        slight = abs(turn) < SLIGHT_RAD and held.step.centre is None and following.centre is None
        if outside and not slight:
            to = self._beside(corner, ahead)
            round_it = Step(
                "cw" if self.side > 0 else "ccw",
                to,
                following.line,
                following.feed,
                (corner[0], corner[1]),
            )
            return self._finished(held, self._beside(corner, behind), [round_it])
        met = self._meet(held, following, corner, outside)
        return self._finished(held, (met[0], met[1], corner[2]), [])

    def _finished(self, held: _Held, end: Vector, more: list[Step]) -> list[Step]:
        step = held.step
        along = [replace(one, end=(end[0], end[1], one.end[2])) for one in held.after]
        height = along[-1].end[2] if along else end[2]
        more = [replace(one, end=(one.end[0], one.end[1], height)) for one in more]
        return self._made([replace(step, end=end), *along, *more])

    def _made(self, steps: list[Step]) -> list[Step]:
        if steps:
            self.middle = steps[-1].end
        return steps

    def _beside(self, place: Vector, way: Floats) -> Vector:
        off = self.side * self.radius
        return (float(place[0] - off * way[1]), float(place[1] + off * way[0]), place[2])

    def _own_radius(self, start: Vector, step: Step) -> float:
        """Radius of the middle's arc beside one of the contour."""
        assert step.centre is not None
        inwards = self.side if step.kind == "ccw" else -self.side
        return math.dist(start[:2], step.centre) - inwards * self.radius

    def _fits(self, start: Vector, step: Step) -> None:
        if step.centre is not None and self._own_radius(start, step) <= SHORT_MM:
            own = math.dist(start[:2], step.centre)
            raise ValueError(
                f"an arc of radius {own:g} turns in more tightly than the cutter of radius {self.radius:g} mm"
            )

    def _meet(self, held: _Held, following: Step, corner: Vector, beyond: bool) -> Floats:
        """Where the middle's ways beside two moves meet, nearest to their corner. beyond: they may meet past
        their ends.
        """
        found = [
            place
            for place in _crossings(self._curve(held.start, held.step), self._curve(corner, following))
            if np.isfinite(place).all()
        ]
        if not found:
            raise ValueError(f"a cutter of radius {self.radius:g} mm does not fit into the corner")
        met = min(found, key=lambda place: float(np.hypot(*(place - corner[:2]))))
        for start, step in ((held.start, held.step), (corner, following)):
            if step.centre is None and not beyond:
                way = ways(start, step)[0]
                along = float((met - start[:2]) @ way)
                if not -SHORT_MM <= along <= math.dist(start[:2], step.end[:2]) + SHORT_MM:
                    raise ValueError(f"a cutter of radius {self.radius:g} mm does not fit into the corner")
        return met

    def _curve(self, start: Vector, step: Step) -> tuple[Floats, Floats | float]:
        """The middle's way beside a move: a line as a point and its direction, a circle as its middle and its
        radius.
        """
        if step.centre is not None:
            return np.array(step.centre), self._own_radius(start, step)
        way = ways(start, step)[0]
        return np.array(self._beside(start, way)[:2]), way


def _crossings(one: tuple[Floats, Floats | float], two: tuple[Floats, Floats | float]) -> list[Floats]:
    """Where two lines or circles of the plane meet."""
    (p, a), (q, b) = one, two
    if isinstance(a, np.ndarray) and isinstance(b, np.ndarray):
        across = float(a[0] * b[1] - a[1] * b[0])
        if abs(across) < 1e-12:
            return []
        t = float((q - p)[0] * b[1] - (q - p)[1] * b[0]) / across
        return [p + t * a]
    if isinstance(a, np.ndarray) and isinstance(b, float):
        along = float((q - p) @ a)
        left = b * b - float(np.sum((p + along * a - q) ** 2))
        # Touching to within what a program is written to.
        half = math.sqrt(max(left, 0.0))
        return [] if left < -2 * abs(b) * 1e-3 else [p + (along + s * half) * a for s in (-1, 1)]
    if isinstance(b, np.ndarray):
        return _crossings(two, one)
    assert isinstance(a, float) and isinstance(b, float)
    away = float(np.hypot(*(q - p)))
    if away < 1e-12 or away > a + b + 1e-3 or away < abs(a - b) - 1e-3:
        return []
    along = (a * a - b * b + away * away) / (2 * away)
    half = math.sqrt(max(a * a - along * along, 0.0))
    way = (q - p) / away
    return [p + along * way + s * half * np.array([-way[1], way[0]]) for s in (-1, 1)]
