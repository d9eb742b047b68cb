"""Where do table and tool stand for some axis values, and which values put the tool where it is wanted?

The chain from the table to the spindle is written as a product of motions about the axes as they lie with
every axis at 0; directions are solved by the two elementary problems of turning about one line, and about two
lines that meet: R. M. Murray, Z. Li and S. S. Sastry, "A Mathematical Introduction to Robotic Manipulation",
1994, ch. 3 (Paden and Kahan's subproblems 1 and 2).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize
from scipy.spatial.transform import Rotation

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, rigid
from pelvrak.core.machine.machine import Axis, Machine, machines

# Of axes by their names, each a number or (n,).
Values = Mapping[str, float] | Mapping[str, Floats]
SPINDLE = np.array([0.0, 0.0, 1.0])
# A direction is reached when it is missed by no more than this, degrees: what control and encoder resolve.
REACHED_DEG = 1e-3
SAME_DEG = 1e-6
# A solution this near to a limit is not taken when another keeps clear of them, degrees.
NEAR_LIMIT_DEG = 2.0
# Alike: turning times that differ by less, s.
ALIKE_S = 0.05


class Angles(Frozen):
    """One way to stand: the rotary axes' values (degrees), how far the direction is missed (degrees), and
    whether it is taken and why.
    """

    angles: dict[str, float]
    residual_deg: float
    turning_s: float
    preferred: bool = False
    why: str = ""


class Solved(Frozen):
    """What a machine can do about a tool direction (table frame). nearest: direction and angles when it
    cannot; could: shipped machines that can.
    """

    machine: str
    direction: Vector
    reachable: bool
    singular: bool
    solutions: tuple[Angles, ...]
    nearest: Angles | None = None
    nearest_direction: Vector | None = None
    could: tuple[str, ...] = ()


@dataclass(frozen=True)
class Pose:
    """Where things stand, base frame, 4×4, or (n, 4, 4) of many stands: base_from_table (the table's corner,
    its z up), base_from_spindle (the nose).
    """

    base_from_table: Floats
    base_from_spindle: Floats

    @property
    def table_from_spindle(self) -> Floats:
        return np.asarray(inverse(self.base_from_table) @ self.base_from_spindle)


def home_angles(machine: Machine) -> dict[str, float]:
    """Where the rotary axes stand at home, degrees."""
    return {axis.name: axis.home for axis in machine.rotary}


def motion(axis: Axis, value: float | Floats, carries_table: bool) -> Floats:
    """How what rides on an axis has moved, base frame, 4×4, or (n, 4, 4) for n values. The table goes the
    other way than the tool seen from it.
    """
    amount, along = -value if carries_table else value, np.array(axis.direction)
    if not axis.rotary:
        return rigid(np.eye(3), np.multiply.outer(amount, along))
    turn = Rotation.from_rotvec(np.multiply.outer(np.radians(amount), along)).as_matrix()
    point = np.array(axis.point)
    return rigid(turn, point - turn @ point)


def moved_by(machine: Machine, rides: str, values: Values) -> Floats:
    """How what rides on an axis has moved from where it was with every axis at 0, base frame, 4×4, or
    (n, 4, 4) for n values.
    """
    table_side = {axis.name for axis in machine.chain(machine.table.rides)}
    out = np.eye(4)
    for axis in machine.chain(rides):  # from the ride down to the base: the base's motion comes last
        out = motion(axis, values.get(axis.name, 0.0), axis.name in table_side) @ out
    return out


def table_frame(machine: Machine) -> Floats:
    """base_from_table with every axis at 0, 4×4."""
    x, up = np.array(machine.table.x), np.array(machine.table.up)
    return rigid(np.column_stack([x, np.cross(up, x), up]), np.array(machine.table.at))


def pose(machine: Machine, values: Values) -> Pose:
    """Where table and spindle stand for some axis values, or for n of each; axes that are not named stand at
    0.
    """
    return Pose(
        moved_by(machine, machine.table.rides, values) @ table_frame(machine),
        moved_by(machine, machine.spindle.rides, values),
    )


def direction_of(machine: Machine, angles: dict[str, float]) -> Floats:
    """Which way the spindle points away from the work, table frame."""
    return np.asarray(pose(machine, angles).table_from_spindle[:3, 2])


def _about_one(axis: Floats, start: Floats, end: Floats) -> float:
    """The turn about an axis that brings one direction nearest to another, radians."""
    a, b = start - axis * (axis @ start), end - axis * (axis @ end)
    return math.atan2(float(axis @ np.cross(a, b)), float(a @ b))


def _raw_angles(
    machine: Machine, wanted: Floats, now: dict[str, float]
) -> tuple[list[tuple[float, ...]], bool]:
    """Angles of the rotary axes, radians, that bring the spindle nearest to a direction (base frame, axes at
    0); whether one is free.
    """
    axes = [np.array(axis.direction) for axis in machine.rotary]
    if not axes:
        return [()], False
    if len(axes) == 1:
        if abs(float(axes[0] @ SPINDLE)) > 1 - 1e-12:
            return [(math.radians(now.get(machine.rotary[0].name, 0.0)),)], True
        return [(_about_one(axes[0], SPINDLE, wanted),)], False
    one, two = axes
    cosine = float(one @ two)
    if abs(cosine) > 1 - 1e-9:
        raise BadInput(
            "machine.parallel", machine.id, "both rotary axes run alike", "give them different directions"
        )
    # The direction half way: turned by the second axis only.
    p, q = float(two @ SPINDLE), float(one @ wanted)
    along_one, along_two = (cosine * p - q) / (cosine**2 - 1), (cosine * q - p) / (cosine**2 - 1)
    square = np.cross(one, two)
    left = (1 - along_one**2 - along_two**2 - 2 * along_one * along_two * cosine) / float(square @ square)
    middle = along_one * one + along_two * two
    ways = (
        [middle + sign * math.sqrt(left) * square for sign in ((1, -1) if left > 1e-16 else (1,))]
        if left > 0
        else [middle / np.linalg.norm(middle)]
    )
    out: list[tuple[float, ...]] = []
    singular = False
    for half in ways:
        second = _about_one(two, SPINDLE, half)
        if np.linalg.norm(half - one * (one @ half)) < 1e-7:
            # Along the first axis: it can stand anywhere, so it stays.
            singular = True
            first = math.radians(now.get(machine.rotary[0].name, machine.rotary[0].home))
        else:
            first = _about_one(one, half, wanted)
        if np.linalg.norm(SPINDLE - two * (two @ SPINDLE)) < 1e-7:
            singular = True
            second = math.radians(now.get(machine.rotary[1].name, machine.rotary[1].home))
        out.append((first, second))
    return out, singular


def _within(axis: Axis, angle_deg: float) -> list[float]:
    """Every value of an axis that stands as an angle does, within its limits."""
    # What is nothing but rounding is none.
    angle = round(angle_deg, 9) + 0.0
    low = math.ceil((axis.low - angle) / 360 - 1e-12)
    high = math.floor((axis.high - angle) / 360 + 1e-12)
    return [angle + 360.0 * k for k in range(low, high + 1)]


def turning_time(axis: Axis, by: float) -> float:
    """Time of a move of an axis from stand to stand, s: with its acceleration up to its rapid and down
    again.
    """
    way, speed = abs(by), axis.rapid / 60
    ramp = speed**2 / axis.acceleration
    return 2 * math.sqrt(way / axis.acceleration) if way < ramp else way / speed + speed / axis.acceleration


def missed_by(machine: Machine, angles: dict[str, float], wanted: Floats) -> float:
    """Angle between where the spindle points and where it should, degrees."""
    got = direction_of(machine, angles)
    return math.degrees(math.atan2(float(np.linalg.norm(np.cross(got, wanted))), float(got @ wanted)))


def solve_direction(
    machine: Machine, direction: Vector, now: dict[str, float] | None = None, others: bool = True
) -> Solved:
    """Every way a machine can point its tool.

    direction: away from the work, along the tool, table frame, any length but 0; now: where the rotary axes
    stand (their home when not said). others: whether to look which shipped machines could, when this one
    cannot. Raises BadInput for a direction of no length.
    """
    wanted = np.array(direction, float)
    size = float(np.linalg.norm(wanted))
    if not np.isfinite(size) or size < 1e-9:
        raise BadInput(
            "machine.no_direction",
            "direction",
            "the direction has no length",
            "give three numbers that are not all 0",
        )
    wanted = wanted / size
    here = home_angles(machine) | (now or {})
    found, singular = _pointing(machine, wanted, here)
    told = as_vector(np.round(wanted, 12) + 0.0)
    if found:
        return Solved(
            machine=machine.id,
            direction=told,
            reachable=True,
            singular=singular,
            solutions=tuple(_preferred(machine, found)),
        )
    near = _nearest(machine, wanted, here)
    others_too = [m for m in machines().values() if others and m.id != machine.id]
    could = [m.id for m in others_too if solve_direction(m, direction, None, False).reachable]
    return Solved(
        machine=machine.id,
        direction=told,
        reachable=False,
        singular=False,
        solutions=(),
        nearest=near,
        nearest_direction=as_vector(np.round(direction_of(machine, near.angles), 9) + 0.0),
        could=tuple(could),
    )


def _pointing(machine: Machine, wanted: Floats, here: dict[str, float]) -> tuple[list[Angles], bool]:
    """All angles at which the tool points a way, each once; whether an axis may stand anywhere. here: where
    the axes stand.
    """
    raw, singular = _raw_angles(machine, table_frame(machine)[:3, :3] @ wanted, here)
    found: list[Angles] = []
    for angles in raw:
        choices = [_within(axis, math.degrees(a)) for axis, a in zip(machine.rotary, angles, strict=True)]
        for values in itertools.product(*choices):
            named: dict[str, float] = {
                axis.name: value for axis, value in zip(machine.rotary, values, strict=True)
            }
            residual = missed_by(machine, named, wanted)
            time = max(
                (turning_time(axis, named[axis.name] - here[axis.name]) for axis in machine.rotary),
                default=0.0,
            )
            twin = any(all(abs(named[k] - f.angles[k]) < SAME_DEG for k in named) for f in found)
            if residual < REACHED_DEG and not twin:
                found.append(Angles(angles=named, residual_deg=residual, turning_s=time))
    return found, singular


def _clear(machine: Machine, one: Angles) -> float:
    """How far the nearest limit is, degrees."""
    return min(
        (min(v - a.low, a.high - v) for a in machine.rotary if not a.endless for v in [one.angles[a.name]]),
        default=360.0,
    )


def _side(machine: Machine, one: Angles) -> int:
    """How many axes stand on the side they prefer, less those that do not."""
    return sum(
        axis.prefers
        * (1 if one.angles[axis.name] > SAME_DEG else -1 if one.angles[axis.name] < -SAME_DEG else 0)
        for axis in machine.rotary
    )


def _preferred(machine: Machine, found: list[Angles]) -> list[Angles]:
    """The same, the one to take first, with the reason."""
    clear = [one for one in found if _clear(machine, one) >= NEAR_LIMIT_DEG] or found
    best_side = max(_side(machine, one) for one in clear)
    steady = [one for one in clear if _side(machine, one) == best_side]
    best = min(
        steady, key=lambda one: (round(one.turning_s / ALIKE_S), sum(abs(v) for v in one.angles.values()))
    )
    if len(found) == 1:
        why = "the only one within the limits"
    elif len(clear) < len(found) and len(clear) == 1:
        why = f"the others stand within {NEAR_LIMIT_DEG:g}° of a limit"
    elif len(steady) < len(clear):
        sides = [f"{a.name}{'+' if a.prefers > 0 else '-'}" for a in machine.rotary if a.prefers]
        why = f"on the side that is steadier ({', '.join(sides)})" + (
            ", and the least turning there" if len(steady) > 1 else ""
        )
    else:
        why = f"the least turning: {best.turning_s:.2f} s"
    rest = sorted((one for one in found if one is not best), key=lambda one: one.turning_s)
    return [best.model_copy(update={"preferred": True, "why": why}), *rest]


def _nearest(machine: Machine, wanted: Floats, here: dict[str, float]) -> Angles:
    """The angles within the limits that miss a direction least."""
    axes = machine.rotary
    if not axes:
        return Angles(angles={}, residual_deg=missed_by(machine, {}, wanted), turning_s=0.0)

    def miss(values: Floats) -> float:
        named: dict[str, float] = {axis.name: float(v) for axis, v in zip(axes, values, strict=True)}
        return 1.0 - float(direction_of(machine, named) @ wanted)

    limits = [(max(a.low, -360.0), min(a.high, 360.0)) for a in axes]
    starts = itertools.product(*[np.linspace(low, high, 13) for low, high in limits])
    start = min(starts, key=lambda s: (round(miss(np.array(s)), 9), sum(abs(v) for v in s)))
    better = minimize(
        miss, np.array(start), bounds=limits, method="L-BFGS-B", options={"ftol": 1e-15, "gtol": 1e-12}
    )
    values = better.x if better.fun <= miss(np.array(start)) else np.array(start)
    named: dict[str, float] = {
        axis.name: round(float(v), 6) + 0.0 for axis, v in zip(axes, values, strict=True)
    }
    time = max(turning_time(axis, named[axis.name] - here[axis.name]) for axis in axes)
    return Angles(angles=named, residual_deg=missed_by(machine, named, wanted), turning_s=time)


def linear_for(
    machine: Machine, tip: Floats, angles: dict[str, float], gauge: float = 0.0
) -> dict[str, float]:
    """X, Y and Z that bring the tip of a tool to a point of the table frame, mm, with the rotary axes as they
    stand.

    gauge: from the spindle's nose to the tip, mm. Limits are not looked at.
    """
    x, y, z = linear_for_all(machine, np.asarray(tip, float)[None], angles, gauge)[0]
    return {"X": float(x), "Y": float(y), "Z": float(z)}


def linear_for_all(machine: Machine, tips: Floats, angles: dict[str, float], gauge: float = 0.0) -> Floats:
    """The same for many points (n, 3), as rows of X, Y and Z."""
    return Tips(machine).slides(tips, angles, gauge)


def tip_by_slides(machine: Machine, angles: dict[str, float], gauge: float) -> tuple[Floats, Floats]:
    """Where the tip of a tool stands in the table frame with X, Y and Z at 0, mm, and a 3×3 whose columns say
    how far it goes for each mm of them, with the rotary axes as they stand.
    """
    from_tip = np.array([0.0, 0.0, -gauge, 1.0])
    stand = {axis.name: angles.get(axis.name, 0.0) for axis in machine.rotary}

    def at(values: dict[str, float]) -> Floats:
        return np.asarray((pose(machine, stand | values).table_from_spindle @ from_tip)[:3])

    start = at({})
    return start, np.column_stack([at({name: 1.0}) - start for name in "XYZ"])


class Tips:
    """Tips of tools on a machine by its slides: `tip_by_slides` of each tool and angle, worked out once."""

    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self._known: dict[tuple[object, ...], tuple[Floats, Floats]] = {}

    def __call__(self, angles: dict[str, float], gauge: float) -> tuple[Floats, Floats]:
        key = gauge, *sorted(angles.items())
        if key not in self._known:
            self._known[key] = tip_by_slides(self.machine, angles, gauge)
        return self._known[key]

    def slides(self, places: Floats, angles: dict[str, float], gauge: float) -> Floats:
        """X, Y and Z that bring a tip to each of many places, as `linear_for_all`."""
        start, slopes = self(angles, gauge)
        return np.asarray(np.linalg.solve(slopes, (places - start).T).T)
