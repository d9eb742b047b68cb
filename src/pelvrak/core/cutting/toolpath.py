"""What is a tool path, and how do its arcs become chords?"""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting.fit_kernel import is_arc, is_line
from pelvrak.core.cutting.tools import Tool, body_profiles, core_radius, cutter_profile
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.stock.cut import CUT, RAPID, Sweep
from pelvrak.core.stock.moves import arc_points

MoveKind = Literal["rapid", "line", "cw", "ccw"]
Point = tuple[float, float, float]

# Chords stay within this of their arc, half inside and half outside.
CHORD_ERROR_MM = 0.002
# The rim of a cutter is tilted by no more than this at the ends of a chord, mm.
TILTED_MM = 0.01
ARC_FIT_MM = 0.003
# A control takes a corner in about this, s: from memory, none published for all.
CORNER_S = 0.02


@dataclass(frozen=True)
class Move:
    """One move of the tool tip to `end` in the zero frame, mm.

    centre: of cw and ccw arcs in the xy plane (seen from +z); z may change along the arc (helix).
    feed: mm/min; 0 for rapids. dwell_s: how long the tool stands at its end. compensation: the
    control begins to correct the cutter's radius with this straight move, the tool on the left of its way, or
    ends to. lead: it leads down into a cut, to one or away from one. exact: it stops at its end.
    """

    kind: MoveKind
    end: Point
    feed: float = 0.0
    centre: tuple[float, float] | None = None
    dwell_s: float = 0.0
    compensation: Literal["", "left", "off"] = ""
    lead: bool = False
    exact: bool = False


@dataclass(frozen=True)
class Round:
    """How a flat path lies round a rotary axis, in the zero frame of its position.

    along: unit vector along the axis, across the flat's x; centre: its point nearest to zero, mm; radius: of
    the cylinder the flat is laid on: a move of 2π radius in the flat's y turns the work once. axis: its name,
    angle: where it stands at y 0, sense: +1 when it goes up with y; aside: how far beside the axis the tool
    stays, to the left of `along`, mm. The flat's z counts from zero as the tool stands over the axis.
    """

    along: Point
    centre: Point
    radius: float
    axis: str
    angle: float
    sense: int
    aside: float = 0.0

    def angle_at(self, y: float) -> float:
        """Where the rotary axis stands, degrees."""
        return self.angle + self.sense * math.degrees(y / self.radius)

    def place(self, points: Floats) -> Floats:
        """Where the tool's tip stands on the machine (zero frame, the work not turned) for points of the
        flat, (n, 3), mm.
        """
        out: Floats = np.outer(points[:, 0], self.along)
        out[:, :2] += self.centre[:2]
        out[:, 0] -= self.aside * self.along[1]
        out[:, 1] += self.aside * self.along[0]
        out[:, 2] = points[:, 2]
        return out


@dataclass
class Path:
    """Moves of one operation in order, from `start`. round: they are flat and lie round an axis."""

    start: Point
    moves: list[Move] = field(default_factory=list)
    round: Round | None = None
    _leads: bool = field(default=False, repr=False, compare=False)

    @property
    def at(self) -> Point:
        return self.moves[-1].end if self.moves else self.start

    def rapid(self, x: float, y: float, z: float) -> None:
        if (x, y, z) != self.at:
            self.moves.append(Move("rapid", (x, y, z)))

    def feed(self, x: float, y: float, z: float, feed: float) -> None:
        if (x, y, z) != self.at:
            self.moves.append(Move("line", (x, y, z), feed, lead=self._leads))

    @contextmanager
    def leading(self) -> Iterator[None]:
        """What is fed within leads down into a cut, to one or away from one."""
        self._leads = True
        try:
            yield
        finally:
            self._leads = False

    def dwell(self, seconds: float) -> None:
        """Stand where the last move ended."""
        if seconds and self.moves:
            self.moves[-1] = replace(self.moves[-1], dwell_s=seconds)

    def compensate(self, how: Literal["left", "off"]) -> None:
        """With the last move the control begins to correct the cutter's radius, or ends to."""
        self.moves[-1] = replace(self.moves[-1], compensation=how)

    def arc(self, kind: Literal["cw", "ccw"], end: Point, centre: tuple[float, float], feed: float) -> None:
        self.moves.append(Move(kind, end, feed, centre, lead=self._leads))


def retreating(path: Path, height: float, feed: float) -> list[Move]:
    """The moves of a path where the tool leaves a cut straight up at a feed (mm/min) as far as a height over
    it (mm), and only from there in rapid.
    """
    moves: list[Move] = []
    cutting = False
    for before, move in zip([path.start, *(one.end for one in path.moves)], path.moves, strict=False):
        up = move.end[2] - before[2]
        if cutting and move.kind == "rapid" and up > 0 and move.end[:2] == before[:2]:
            moves.append(Move("line", (*before[:2], before[2] + min(height, up)), feed, lead=True))
            if up > height:
                moves.append(move)
        else:
            moves.append(move)
        cutting = move.kind != "rapid"
    return moves


def arc_sweep(start: Point, move: Move) -> tuple[float, float]:
    """Radius (mm) and swept angle (rad, signed, counter-clockwise positive) of an arc; a full turn when it
    closes.
    """
    assert move.centre is not None
    cx, cy = move.centre
    radius = math.hypot(start[0] - cx, start[1] - cy)
    first = math.atan2(start[1] - cy, start[0] - cx)
    last = math.atan2(move.end[1] - cy, move.end[0] - cx)
    sweep = last - first
    if move.kind == "ccw":
        sweep = sweep % (2 * math.pi) or 2 * math.pi
    else:
        sweep = -((-sweep) % (2 * math.pi) or 2 * math.pi)
    if math.hypot(start[0] - move.end[0], start[1] - move.end[1]) < 1e-9:
        sweep = math.copysign(2 * math.pi, sweep)
    return radius, sweep


def move_length(start: Point, move: Move) -> float:
    """Travel of one move, mm."""
    if move.centre is None:
        return math.dist(start, move.end)
    radius, sweep = arc_sweep(start, move)
    return math.hypot(radius * sweep, move.end[2] - start[2])


@dataclass(frozen=True)
class Chords:
    """A path as straight moves: starts, ends (n, 3) mm; what CUT or RAPID (n,); move: index of its move
    (n,).
    """

    starts: Floats
    ends: Floats
    what: NDArray[np.uint8]
    move: NDArray[np.int64]


def chords(path: Path) -> Chords:
    """The path as straight moves, arcs as chords within CHORD_ERROR_MM."""
    points: list[Point] = [path.start]
    what: list[int] = []
    owner: list[int] = []
    for index, move in enumerate(path.moves):
        start = path.moves[index - 1].end if index else path.start
        if move.centre is None:
            points.append(move.end)
            what.append(RAPID if move.kind == "rapid" else CUT)
            owner.append(index)
            continue
        turn = 1 if move.kind == "ccw" else -1
        inner = arc_points(
            np.array(start), np.array(move.end), np.array(move.centre), 2, turn, 1, CHORD_ERROR_MM
        )
        points += [as_vector(point) for point in inner[1:]]
        what += [CUT] * (len(inner) - 1)
        owner += [index] * (len(inner) - 1)
    array = np.array(points, np.float64).reshape(-1, 3)
    return Chords(array[:-1], array[1:], np.array(what, np.uint8), np.array(owner, np.int64))


def chord_ends_s(path: Path, lines: Chords, rapid_mm_min: float, acceleration: float) -> Floats:
    """When each chord ends, (n,), s from the path's start.

    Programmed feed and rapid rate (mm/min) are reached and left with the acceleration (mm/s²); between feed
    moves the tool goes round a corner as fast as it changes its velocity within CORNER_S, and stops before
    and after rapids.
    """
    rates = np.array([rapid_mm_min if move.kind == "rapid" else move.feed for move in path.moves])
    whole = np.array(
        [
            move_length(start, move)
            for start, move in zip([path.start, *(m.end for m in path.moves)], path.moves, strict=False)
        ]
    )
    length = np.linalg.norm(lines.ends - lines.starts, axis=1)
    # Chords share the length of their arc.
    drawn = np.bincount(lines.move, length, len(path.moves))
    share = length / np.where(drawn > 0, drawn, 1)[lines.move]
    ways = share * whole[lines.move]
    last = np.append(lines.move[1:] != lines.move[:-1], True)
    stops = last & np.array([move.exact for move in path.moves])[lines.move]
    spans = _spans(lines, ways, rates[lines.move] / 60, acceleration, stops)
    stands = np.array([move.dwell_s for move in path.moves])
    return np.cumsum(spans + np.where(last, stands[lines.move], 0.0))


def tilted_error(reach: float, radius: float) -> float:
    """How far a chord may lie from its arc while the work turns, mm, so that the rim of a cutter is not
    tilted by more than TILTED_MM at its ends. reach: farthest any cut lies from the axis, radius: of the
    cutter, mm.
    """
    return min(CHORD_ERROR_MM, reach * (1 - math.cos(math.asin(min(1.0, TILTED_MM / radius)))))


def ends_of_moves(lines: Chords, ends_at: Floats, moves: int) -> Floats:
    """When each move of a path ends, s. ends_at: when its chords do."""
    out = np.zeros(moves)
    np.maximum.at(out, lines.move, ends_at)
    return np.maximum.accumulate(out)


def swept_by(
    tool: Tool, nose: tuple[float, float], starts: Floats, ends: Floats, what: NDArray[np.uint8], axis: Floats
) -> Sweep:
    """Moves of a tool in a spindle with a nose: what of it cuts, and what only turns."""
    return Sweep(starts, ends, what, axis, cutter_profile(tool), body_profiles(tool, nose), core_radius(tool))


def _spans(
    lines: Chords, ways: Floats, speeds: Floats, acceleration: float, stops: NDArray[np.bool_]
) -> Floats:
    """Time of each chord, s: no faster at its ends than its neighbours and corners allow, and than it can
    brake to. stops: where it stands at the end.
    """
    if len(ways) == 0:
        return np.zeros(0)
    steps = lines.ends - lines.starts
    units = steps / np.maximum(np.linalg.norm(steps, axis=1), 1e-12)[:, None]
    apart = np.linalg.norm(np.diff(units, axis=0), axis=1)
    corner = np.minimum(speeds[:-1], speeds[1:])
    corner = np.minimum(corner, acceleration * CORNER_S / np.maximum(apart, 1e-9))
    corner[(lines.what[:-1] != CUT) | (lines.what[1:] != CUT) | stops[:-1]] = 0.0
    limits = [0.0, *corner.tolist(), 0.0]
    gained = (2 * acceleration * ways).tolist()
    for i, gain in enumerate(gained):
        limits[i + 1] = min(limits[i + 1], math.sqrt(limits[i] ** 2 + gain))
    for i in range(len(gained) - 1, -1, -1):
        limits[i] = min(limits[i], math.sqrt(limits[i + 1] ** 2 + gained[i]))
    first, last = np.array(limits[:-1]), np.array(limits[1:])
    # The speed it would reach if it braked at the last moment; no more than programmed.
    peak = np.minimum(speeds, np.sqrt((2 * acceleration * ways + first**2 + last**2) / 2))
    ramps = (2 * peak**2 - first**2 - last**2) / (2 * acceleration)
    flat = np.maximum(ways - ramps, 0.0)
    spans: Floats = (2 * peak - first - last) / acceleration + flat / np.maximum(peak, 1e-12)
    return np.where(ways > 1e-12, spans, 0.0)


def fitted(
    points: Floats, tolerance: float = ARC_FIT_MM
) -> list[tuple[MoveKind, tuple[float, float], tuple[float, float] | None]]:
    """A polyline (n, 2) as lines and arcs: (kind, end, centre) from points[0] on.

    Greedy: the longest run of points whose own positions and chord middles lie within `tolerance`
    of one circle becomes an arc; what is straight becomes one line.
    """
    points = np.ascontiguousarray(points)
    out: list[tuple[MoveKind, tuple[float, float], tuple[float, float] | None]] = []
    i, n = 0, len(points)
    while i < n - 1:
        line_end = _longest(points, i, is_line, tolerance)
        arc_end = _longest(points, i, _is_arc, tolerance) if line_end < n - 1 else i
        if arc_end > line_end and arc_end - i >= 4:
            centre, radius, turn = _circle(points[i], points[(i + arc_end) // 2], points[arc_end])
            end = (float(points[arc_end][0]), float(points[arc_end][1]))
            out.append(("ccw" if turn > 0 else "cw", end, (float(centre[0]), float(centre[1]))))
            i = arc_end
        else:
            end = (float(points[line_end][0]), float(points[line_end][1]))
            out.append(("line", end, None))
            i = line_end
    return out


def _longest(points: Floats, i: int, fits, tolerance: float) -> int:  # type: ignore[no-untyped-def]
    """Last index j > i for which points i…j fit, by doubling and halving."""
    n = len(points) - 1
    good, step = i + 1, 1
    while good < n and fits(points[i : min(n, good + step) + 1], tolerance):
        good = min(n, good + step)
        step *= 2
    bad = min(n + 1, good + step)
    while bad - good > 1:
        middle = (good + bad) // 2
        if fits(points[i : middle + 1], tolerance):
            good = middle
        else:
            bad = middle
    return good


def _circle(a: Floats, b: Floats, c: Floats) -> tuple[Floats, float, float]:
    """Circle through three points: centre, radius, and the sign of its turn."""
    ab, ac = b - a, c - a
    cross = 2 * (ab[0] * ac[1] - ab[1] * ac[0])
    if abs(cross) < 1e-12:
        return a, float("inf"), 0.0
    ux = (ac[1] * (ab @ ab) - ab[1] * (ac @ ac)) / cross
    uy = (ab[0] * (ac @ ac) - ac[0] * (ab @ ab)) / cross
    return a + np.array([ux, uy]), float(np.hypot(ux, uy)), float(np.sign(cross))


def _is_arc(points: Floats, tolerance: float) -> bool:
    if len(points) < 4:
        return True
    centre, radius, turn = _circle(points[0], points[len(points) // 2], points[-1])
    if not 0.05 < radius < 1000 or turn == 0:
        return False
    return bool(is_arc(points, tolerance, centre[0], centre[1], radius, turn))
