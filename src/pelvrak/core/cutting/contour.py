"""Which moves does a program have whose control corrects the cutter's whole radius?

A path is planned for the cutter's middle. Between the move that begins G41 and the one that ends it the
program goes along the contour itself, a radius to the right of the middle: what the control makes of that is
the planned path again.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Protocol

import numpy as np

from pelvrak.core.cutting.toolpath import Move, Path, Point
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats

# An arc of the contour shorter than this is a point, mm.
POINT_MM = 0.01
# Where fitted lines and arcs meet the middle turns by so little: the contour turns at one place, rad.
MEETS_RAD, STRAIGHT_RAD = math.radians(6.0), 1e-6


def along_contour(path: Path, radius: float, where: str) -> list[tuple[Move, ...]]:
    """The program's moves for each move of a path; none for an arc that shrinks to a point, with an arc about
    a corner before the move that leaves it.

    radius: of the cutter, mm. Raises BadInput ("cut.no_contour") where the contour turns in more tightly than
    the cutter, which a control would refuse; where names the operation.
    """
    contour = _Contour(radius, where)
    starts = [path.start, *(move.end for move in path.moves)]
    for n, (start, move) in enumerate(zip(starts, path.moves, strict=False)):
        contour.made.append([])
        if move.compensation == "left":
            contour.begin(move, ways(move.end, path.moves[n + 1])[0])
        elif move.compensation == "off" or contour.way is None:
            contour.way = None
            contour.write(move)
        else:
            contour.follow(start, move)
    return [tuple(moves) for moves in contour.made]


class _Contour:
    """The program as far as it is written. way: the direction in which the middle's last move ends, None
    where nothing is corrected.
    """

    def __init__(self, radius: float, where: str) -> None:
        self.radius, self.where = radius, where
        self.made: list[list[Move]] = []
        self.way: Floats | None = None

    def write(self, move: Move) -> None:
        self.made[-1].append(move)

    def begin(self, move: Move, ahead: Floats) -> None:
        """The straight way in, to beside where the middle's next move begins."""
        self.way = ahead
        self.write(replace(move, end=_beside(move.end, ahead, self.radius)))

    def follow(self, start: Point, move: Move) -> None:
        """A move along the contour. start: of the middle's."""
        assert self.way is not None
        if move.centre is None and math.dist(start[:2], move.end[:2]) < POINT_MM:
            # Straight up or down.
            self.write(replace(move, end=_beside(move.end, self.way, self.radius)))
            return
        first, last = ways(start, move)
        self._turn(start, first, move.feed)
        self.way, end = last, _beside(move.end, last, self.radius)
        if move.centre is not None:
            own = math.dist(start[:2], move.centre) + (self.radius if move.kind == "ccw" else -self.radius)
            if own < -POINT_MM:
                raise _tight(self.where, start)
            if own < POINT_MM:
                return
        self.write(replace(move, end=end))

    def _turn(self, corner: Point, ahead: Floats, feed: float) -> None:
        """From one direction of the middle to the next, where they differ."""
        assert self.way is not None
        turn = math.atan2(
            float(self.way[0] * ahead[1] - self.way[1] * ahead[0]), float(np.dot(self.way, ahead))
        )
        if abs(turn) < STRAIGHT_RAD:
            return
        if abs(turn) < MEETS_RAD:
            middle = (self.way + ahead) / np.linalg.norm(self.way + ahead)
            at = _beside(corner, middle, self.radius / math.cos(turn / 2))
            before = next(moves for moves in reversed(self.made) if moves)
            before[-1] = replace(before[-1], end=(at[0], at[1], before[-1].end[2]))
        elif turn < 0:
            raise _tight(self.where, corner)
        else:
            end = _beside(corner, ahead, self.radius)
            self.write(Move("ccw", end, feed, (corner[0], corner[1])))


def _tight(where: str, place: Point) -> BadInput:
    return BadInput(
        "cut.no_contour",
        where,
        f"at X{place[0]:.2f} Y{place[1]:.2f} the contour turns in more tightly than the cutter",
        "have the radius computed, or take a smaller cutter",
    )


class Way(Protocol):
    """A move as far as its way goes."""

    @property
    def kind(self) -> str: ...
    @property
    def end(self) -> Point: ...
    @property
    def centre(self) -> tuple[float, float] | None: ...


def ways(start: Point, move: Way) -> tuple[Floats, Floats]:
    """The directions in which a move begins and ends in XY, (2,) each."""
    if move.centre is None:
        way = np.subtract(move.end[:2], start[:2])
        way = way / max(float(np.hypot(*way)), 1e-12)
        return way, way
    sign = 1.0 if move.kind == "ccw" else -1.0
    out = []
    for place in (start, move.end):
        x, y = np.subtract(place[:2], move.centre)
        out.append(sign * np.array([-y, x]) / math.hypot(x, y))
    return out[0], out[1]


def _beside(place: Point, way: Floats, radius: float) -> Point:
    """A radius to the right of a way."""
    return (float(place[0] + radius * way[1]), float(place[1] - radius * way[0]), place[2])
