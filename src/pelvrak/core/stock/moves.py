"""How do arcs, helices and turning axes become straight moves, within a stated error?"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.errors import BadInput
from pelvrak.core.stock.field import Floats


def arc_points(
    start: Floats, end: Floats, centre: Floats, axis: int, turn: int, turns: int, error: float
) -> Floats:
    """Points of a circle or helix as chords within `error` of it, half inside and half outside, (n + 1, 3),
    mm.

    start, end (3,): the ends; centre (2,): in the plane square to `axis` (0, 1, 2), along axis+1 and
    axis+2; turn: +1 counter-clockwise seen from +axis, -1 clockwise; turns: how often the end's
    direction is met (1: the first time; a full circle when start and end lie in one direction).
    Raises BadInput when the ends do not lie on one circle or the error is none.
    """
    if not (math.isfinite(error) and error > 0):
        raise BadInput("move.error", "error", f"{error:g} mm is no error to allow", "give more than 0")
    u, v = (axis + 1) % 3, (axis + 2) % 3
    radius = math.hypot(start[u] - centre[0], start[v] - centre[1])
    if abs(math.hypot(end[u] - centre[0], end[v] - centre[1]) - radius) > max(0.01, 1e-4 * radius):
        raise BadInput(
            "move.arc", "centre", "start and end are not equally far from the centre", "correct the centre"
        )
    first = math.atan2(start[v] - centre[1], start[u] - centre[0])
    last = math.atan2(end[v] - centre[1], end[u] - centre[0])
    sweep = (turn * (last - first)) % (2 * math.pi)
    if sweep < 1e-9 or 2 * math.pi - sweep < 1e-9:
        sweep = 2 * math.pi
    sweep += 2 * math.pi * (turns - 1)
    step = 2 * math.acos(max(0.0, 1 - error / max(radius, error)))
    n = max(2, math.ceil(sweep / max(step, 1e-3)))
    # Inner points stand outside the arc by two thirds of the sagitta, so that the swept area is right on
    # average.
    out = radius * (1 + (1 - math.cos(sweep / n / 2)) * 2 / 3)
    share = np.arange(n + 1) / n
    angle = first + turn * sweep * share
    points = np.empty((n + 1, 3))
    points[:, u] = centre[0] + out * np.cos(angle)
    points[:, v] = centre[1] + out * np.sin(angle)
    points[:, axis] = start[axis] + (end[axis] - start[axis]) * share
    points[0], points[-1] = start, end
    return points


def turn_step_deg(reach: float, error: float) -> float:
    """How far work may turn within a chord that stays within an error so far from the axis, mm."""
    return 2 * math.degrees(math.acos(max(0.0, 1 - error / max(reach, error))))


def turned_moves(
    tips: Floats,
    angles_deg: Floats,
    tool_axis: Floats,
    centre: Floats,
    rotary: Floats,
    reach: float,
    error: float,
) -> tuple[Floats, Floats, Floats, NDArray[np.int64]]:
    """Straight moves in the work for a tool that moves while the work turns: (starts, ends, axes), each (n,
    3), and of which move each is.

    tips (k, 3), mm, and angles_deg (k,): where the tool stands and how far the work has turned about
    the line through `centre` along `rotary`, going evenly from each to the next, seen from the machine.
    tool_axis: unit vector towards the spindle there. reach: farthest the cut reaches from that line, mm:
    a chord of it stays within `error`. The tool axis of a chord is that of its middle. Raises BadInput
    when the error is none.
    """
    if not (math.isfinite(error) and error > 0):
        raise BadInput("move.error", "error", f"{error:g} mm is no error to allow", "give more than 0")
    step = turn_step_deg(reach, error)
    starts, ends, axes, owner = [], [], [], []
    for i in range(len(tips) - 1):
        n = max(1, math.ceil(abs(angles_deg[i + 1] - angles_deg[i]) / step))
        share = np.arange(n + 1) / n
        places = tips[i] + share[:, None] * (tips[i + 1] - tips[i])
        angles = angles_deg[i] + share * (angles_deg[i + 1] - angles_deg[i])
        points = np.array(
            [_about(rotary, -a) @ (p - centre) + centre for p, a in zip(places, angles, strict=True)]
        )
        middles = (angles[1:] + angles[:-1]) / 2
        starts.append(points[:-1])
        ends.append(points[1:])
        axes.append(np.array([_about(rotary, -a) @ tool_axis for a in middles]))
        owner.append(np.full(n, i, np.int64))
    return np.concatenate(starts), np.concatenate(ends), np.concatenate(axes), np.concatenate(owner)


def _about(axis: Floats, angle_deg: float) -> Floats:
    """Rotation by an angle about a unit axis (Rodrigues)."""
    x, y, z = axis
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    angle = math.radians(angle_deg)
    out: Floats = np.eye(3) + math.sin(angle) * k + (1 - math.cos(angle)) * k @ k
    return out
