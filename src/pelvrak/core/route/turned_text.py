"""What does a text cut while the work turns under its tool? A flat path laid round that axis, as operations
have it.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from pelvrak.core.cutting.toolpath import Move, Path
from pelvrak.core.cutting.wrapped import UP, laid_round
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import moved, rigid
from pelvrak.core.machine.index import Turned, local_plane, turning_lines
from pelvrak.core.machine.kinematics import tip_by_slides
from pelvrak.core.program.held import Event
from pelvrak.core.route.running import Stretch, TextGiven, angles_at, moves_of

FEEDS = ("line", "cw", "ccw")
# A tool stays so far beside its axis all the while, mm: a thousandth is written, and two are read.
BESIDE_MM = 0.005


def turns_in_cut(one: Stretch) -> bool:
    """Whether something is fed while axes turn."""
    return one.turns and any(event.kind in FEEDS for event in one.events)


def together(stretches: Iterable[Stretch], parts: tuple[int, ...]) -> Iterator[list[Stretch]]:
    """What is told as one: all that a tool does in one part of a text where it cuts while the work turns,
    else each stretch by itself. parts: lines from which on another part of the text runs.
    """
    held: list[Stretch] = []
    for one in stretches:
        if held and (one.number != held[0].number or _part(one, parts) != _part(held[0], parts)):
            yield from _told(held)
            held = []
        held.append(one)
    if held:
        yield from _told(held)


def _part(one: Stretch, parts: tuple[int, ...]) -> int:
    return bisect_left(parts, one.events[0].line)


def _told(held: list[Stretch]) -> list[list[Stretch]]:
    """From the first that cuts while it turns to the last are one, with what lies between."""
    turning = [n for n, one in enumerate(held) if turns_in_cut(one)]
    if not turning:
        return [[one] for one in held]
    first, last = _begins(held, turning[0]), _ends(held, turning[-1])
    return [[one] for one in held[:first]] + [held[first:last]] + [[one] for one in held[last:]]


def _plain(one: Stretch) -> bool:
    """Straight moves alone, with the axes as they stand."""
    return not one.turns and all(event.centre is None for event in one.events)


def _begins(held: list[Stretch], first: int) -> int:
    """From where on it leads to the first cut: a way down before it, while nothing turns."""
    return first - 1 if first and _plain(held[first - 1]) else first


def _ends(held: list[Stretch], last: int) -> int:
    return last + 2 if last + 1 < len(held) and _plain(held[last + 1]) else last + 1


def round_path(own: list[Stretch], given: TextGiven, zero_on_table: Vector) -> Path:
    """The way of a tool while one axis turns the work under it, as a flat path laid round that axis. own:
    what it does, in order. Raises BadInput for what no such path is: several axes at once, arcs, a tool that
    does not stay over the axis, or as far beside it.
    """
    machine, tool = given.machine, own[0].tool
    assert tool is not None
    events = [event for one in own for event in one.events]
    line = f"line {events[0].line}"
    angles = own[0].angles
    stands = [angles_at(machine, event.end) for event in events]
    turned = {name for at in stands for name, angle in at.items() if angle != angles[name]}
    if len(turned) != 1:
        raise _refused(line, f"{' and '.join(sorted(turned))} turn together while it cuts")
    here = Turned("", angles, local_plane(machine, angles), (0.0, 0.0, 1.0))
    lie = laid_round(turning_lines(machine, zero_on_table, here), 1.0, line)
    if {lie.axis} != turned:
        raise _refused(line, f"{turned.pop()} does not lie square to the tool")
    if any(event.centre is not None for event in events):
        raise _refused(line, "an arc is cut between moves that turn the work")
    start, slopes = tip_by_slides(machine, angles, tool.gauge_length)
    to_zero = here.local_from_zero @ rigid(np.eye(3), -np.array(zero_on_table)) @ rigid(slopes, start)
    moving = [event for event in events if moves_of(event)]
    places = moved(to_zero, np.array([event.end[:3] for event in moving]))
    begins = moved(to_zero, np.array([own[0].path.start]))
    along, centre = np.array(lie.along), np.array(lie.centre)
    aside = (np.concatenate([begins, places]) - centre) @ np.cross(UP, along)
    fed = np.array([event.kind in FEEDS for event in moving])
    # A feed keeps from its start to its end as far beside the axis.
    beside = np.concatenate([aside[1:][fed], aside[:-1][fed]])
    if float(np.ptp(beside)) > BESIDE_MM:
        raise _refused(line, f"the tool goes {float(np.ptp(beside)):.3f} mm sideways to {lie.axis} as well")
    radius = max(1.0, float(np.abs(places[fed, 2] - centre[2]).max()))
    lie = replace(lie, radius=radius, aside=float(np.mean(beside)))

    def flat(place: Floats, angle: float) -> Vector:
        turn = lie.sense * math.radians(angle - lie.angle) * radius
        return as_vector([float(place @ along), turn, float(place[2])])

    path = Path(flat(begins[0], angles[lie.axis]), round=lie)
    turns = [angles_at(machine, event.end)[lie.axis] for event in moving]
    ends = [flat(place, turn) for place, turn in zip(places, turns, strict=True)]
    path.moves = _moves(events, ends, path.start)
    return path


def _moves(events: list[Event], ends: list[Vector], start: Vector) -> list[Move]:
    """The moves of events to places on the flat; a dwell is told with the move before it."""
    out: list[Move] = []
    at = start
    for event in events:
        if event.kind == "stop" or (event.kind == "dwell" and not out):
            continue
        if event.kind == "dwell":
            out[-1] = replace(out[-1], dwell_s=out[-1].dwell_s + event.seconds)
            continue
        end = ends[len(out)]
        way = math.dist(at, end)
        # Inverse time says how long it takes.
        feed = way / event.seconds * 60 if event.seconds else event.feed
        rapid = event.kind == "rapid"
        out.append(Move("rapid" if rapid else "line", end, 0.0 if rapid else feed, exact=event.exact))
        at = end
    return out


def _refused(line: str, what: str) -> BadInput:
    return BadInput(
        "program.turned",
        line,
        f"{what}: that is run and not cut from a text",
        "plan it as operations, or turn the work between cuts",
    )
