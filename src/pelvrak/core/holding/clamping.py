"""Does friction hold the cut? The greatest cutting force the clamped contacts can stand, over the one there
is.

Every contact pushes and rubs (Coulomb) at the corners of its area. What load the whole can stand is a linear
programme over those forces: limit analysis of a rigid body on dry contacts, friction cones taken as pyramids
within them, as in S. H. Lee and M. R. Cutkosky, "Fixture planning with friction", Journal of Engineering for
Industry 113(3), 1991. Where the work is pressed between two jaws and pulled along them it becomes the
handbook's F = 2·μ·force.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import highspy
import numpy as np
from scipy.optimize import nnls
from scipy.sparse import csc_matrix

from pelvrak.core.geometry.mesh import Floats, Ints
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.holding.contact import Patch
from pelvrak.core.holding.locating import contact_points

# Smooth metal on metal, wet with coolant: common practice, no source.
FRICTION = 0.2
# Wanted above 1: common practice, no source.
SAFETY_WANTED = 2.0
# A milling cutter with few teeth in the work pushes about twice its mean: common practice, no source.
TOOTH_FACTOR = 2.0
# Upward pull of a helix, of the force across: common practice, no source.
PULL_SHARE = 0.4
GRAVITY = 9.80665
# A face that looks against a push by less than 60° to it is pressed.
PRESSED_COS = 0.5
# A factor above this is as good as any.
MOST = 999.0
MOST_POINTS, MOST_IN_ALL = 8, 240
# How much more a balance counts than small forces, and how far off it may be, as shares of the largest force.
HARD, BALANCED = 1e3, 1e-3
STRAIGHT = 0.01


@dataclass(frozen=True)
class Load:
    """What one operation does to the work at worst; N, N·mm, frame of the contacts.

    across: force square to the tool at any direction; along: force along the tool axis, positive into the
    work; torque: about the tool; places (n, 3): where.
    """

    operation: str
    name: str
    across: float
    along: float
    torque: float
    places: Floats


# Factors that differ by less than this share are alike.
ALIKE = 1e-9


@dataclass(frozen=True)
class Holding:
    """The contacts and what pushes: places (n, 3) and normals (n, 3) into the work where contact forces act.

    clamp (n,): the clamp each belongs to, -1 for what only stands there; patch (n,): the patch. clamps: push
    (unit) and force, N, of each clamp. weight: N, down at centre. friction (n,): of those that rub otherwise
    than metal on metal, NaN for the others.
    """

    points: Floats
    normals: Floats
    clamp: Ints
    patch: Ints
    clamps: tuple[tuple[Floats, float], ...]
    weight: float
    centre: Floats
    friction: Floats

    def as_json(self) -> dict[str, Any]:
        """Plain values, to be kept."""
        return {
            "points": self.points.tolist(),
            "normals": self.normals.tolist(),
            "clamp": self.clamp.tolist(),
            "patch": self.patch.tolist(),
            "clamps": [[push.tolist(), force] for push, force in self.clamps],
            "weight": self.weight,
            "centre": self.centre.tolist(),
            "friction": [None if np.isnan(one) else float(one) for one in self.friction],
        }


def holding_of(
    patches: list[Patch],
    clamp_of: list[int],
    clamps: list[tuple[Floats, float]],
    weight: float,
    centre: Floats,
    friction_of: Sequence[float | None] = (),
) -> Holding:
    """The holding of some patches; each acts at no more than MOST_POINTS of its corners, at fewer where there
    are many. friction_of: of the first patches, None for metal on metal.
    """
    most = int(np.clip(MOST_IN_ALL // max(len(patches), 1), 3, MOST_POINTS))
    points, normals, clamp, source, friction = [], [], [], [], []
    for number, (patch, owner) in enumerate(zip(patches, clamp_of, strict=True)):
        spread = contact_points(patch)
        kept = np.arange(len(spread))
        if len(spread) > most and patch.kind != "bore":
            kept = np.linspace(0, len(spread) - 1, most).astype(int)
        spread = spread[kept]
        points += list(spread)
        # What a surface is off must not become a wedge: small parts of a normal are none.
        looks = patch.looks if patch.kind == "bore" else np.tile(patch.normal, (len(spread), 1))
        straight = np.where(np.abs(looks) < STRAIGHT, 0.0, looks)
        normals += list(straight / np.linalg.norm(straight, axis=1, keepdims=True))
        clamp += [owner] * len(spread)
        source += [number] * len(spread)
        own = friction_of[number] if number < len(friction_of) else None
        friction += [np.nan if own is None else own] * len(spread)
    return Holding(
        np.array(points).reshape(-1, 3),
        np.array(normals).reshape(-1, 3),
        np.array(clamp, np.int64),
        np.array(source, np.int64),
        tuple(clamps),
        weight,
        centre,
        np.array(friction, float),
    )


def holding_from(kept: dict[str, Any]) -> Holding:
    """The holding of kept plain values."""
    return Holding(
        np.array(kept["points"]).reshape(-1, 3),
        np.array(kept["normals"]).reshape(-1, 3),
        np.array(kept["clamp"], np.int64),
        np.array(kept["patch"], np.int64),
        tuple((np.array(push), force) for push, force in kept["clamps"]),
        kept["weight"],
        np.array(kept["centre"]),
        np.array(kept["friction"], float),
    )


@dataclass(frozen=True)
class Programme:
    """The linear programme of a holding: columns are contact forces, rows the six balances and one for each
    clamp.
    """

    columns: Floats
    clamp_rows: Floats
    clamp_values: Floats
    cone: Floats
    weight: Floats
    middle: Floats


def programme(holding: Holding, friction: float = FRICTION) -> Programme | None:
    """Set up once for all loads of a holding; None when nothing touches."""
    if len(holding.points) == 0:
        return None
    forces: list[Floats] = []
    cone_rows: list[int] = []
    for normal in holding.normals:
        one, two, _ = square_to(normal)
        cone_rows.append(len(forces))
        forces += [normal, one, -one, two, -two]
    ways, places, owners = np.array(forces), np.repeat(holding.points, 5, axis=0), np.repeat(holding.clamp, 5)
    columns = np.vstack([ways.T, np.cross(places - holding.centre, ways).T])
    cone = np.zeros((len(cone_rows), len(ways)))
    # Only what something presses against rubs: rigid walls that face each other could else be wedged without
    # end.
    pushes = np.array([*(push for push, _ in holding.clamps), [0.0, 0.0, -1.0]])
    pressed = (holding.clamp >= 0) | ((holding.normals @ pushes.T).min(axis=1) < -PRESSED_COS)
    rubs = np.where(np.isnan(holding.friction), friction, holding.friction)
    for row, normal in enumerate(cone_rows):
        cone[row, normal] = -rubs[row] if pressed[row] else 0.0
        cone[row, normal + 1 : normal + 5] = 1.0
    rows, values = [], []
    for number, (push, force) in enumerate(holding.clamps):
        own = owners == number
        if own.any():
            rows.append(np.where(own, ways @ push, 0.0))
            values.append(force)
    weight = np.array([0, 0, -holding.weight, 0, 0, 0.0])
    return Programme(
        columns, np.array(rows).reshape(-1, len(ways)), np.array(values), cone, weight, holding.centre
    )


def stands(problem: Programme) -> bool:
    """Whether the work stays where it is under its clamps and its weight alone."""
    return _Slipping(problem).greatest(np.zeros(6)) > 0


class _Slipping:
    """The programme of a holding, asked for one wrench after the other: only its last column is another each
    time, so the solver goes on from where it stood.
    """

    def __init__(self, problem: Programme) -> None:
        forces, hard = problem.columns.shape[1], 6 + len(problem.clamp_rows)
        self.scale = max(
            float(np.abs(problem.clamp_values).max(initial=0.0)), float(np.abs(problem.weight).max()), 1.0
        )
        self.size = np.array([1, 1, 1, 0.01, 0.01, 0.01])
        rows = np.zeros((hard + len(problem.cone), forces + 1))
        rows[:6, :forces], rows[6:hard, :forces] = problem.columns * self.size[:, None], problem.clamp_rows
        rows[hard:, :forces] = problem.cone
        # Places for the wrench, whatever stands there.
        rows[:6, forces] = 1.0
        right = np.concatenate([-problem.weight * self.size, problem.clamp_values]) / self.scale
        sparse, free = csc_matrix(rows), np.full(len(problem.cone), -highspy.kHighsInf)
        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = forces + 1, len(rows)
        model.col_cost_ = np.append(np.zeros(forces), -1.0)
        model.col_lower_ = np.zeros(forces + 1)
        model.col_upper_ = np.append(np.full(forces, highspy.kHighsInf), MOST / self.scale)
        model.row_lower_, model.row_upper_ = np.append(right, free), np.append(right, np.zeros(len(free)))
        model.a_matrix_.format_ = highspy.MatrixFormat.kColwise
        model.a_matrix_.start_, model.a_matrix_.index_, model.a_matrix_.value_ = (
            sparse.indptr,
            sparse.indices,
            sparse.data,
        )
        self.last = forces
        self.solver = highspy.Highs()
        self.solver.setOptionValue("output_flag", False)
        self.solver.passModel(model)

    def greatest(self, wrench: Floats) -> float:
        """By how much a wrench (6,) can be multiplied before the work slips, lifts or tips; 0 when it does so
        without it.
        """
        for row, value in enumerate(wrench * self.size):
            self.solver.changeCoeff(row, self.last, float(value))
        self.solver.run()
        if self.solver.getModelStatus() != highspy.HighsModelStatus.kOptimal:
            # Not because of where it went on from.
            self.solver.clearSolver()
            self.solver.run()
        if self.solver.getModelStatus() != highspy.HighsModelStatus.kOptimal:
            return 0.0
        return min(float(self.solver.getSolution().col_value[self.last]) * self.scale, MOST)


def shares(problem: Programme) -> Floats:
    """Normal force at every contact point, N, as the clamps and the weight alone make it.

    Of all sets of forces that balance, the one with the least sum of squares: what equally stiff contacts do.
    What no clamp presses against, as a pin in its hole, carries nothing where the others can; there is no
    friction where it balances without; else no contact rubs by more than its friction times what it is
    pressed with.
    """
    scale = max(
        float(np.abs(problem.clamp_values).max(initial=0.0)), float(np.abs(problem.weight).max()), 1.0
    )
    size = np.array([1, 1, 1, 0.01, 0.01, 0.01])
    hard = np.vstack([problem.columns * size[:, None], problem.clamp_rows])
    right = np.concatenate([-problem.weight * size, problem.clamp_values]) / scale
    contacts = hard.shape[1] // 5
    plain = hard[:, ::5]
    friction = -problem.cone[np.arange(contacts), np.arange(contacts) * 5]
    for carrying in (friction > 0, np.ones(contacts, bool)):
        own = plain * carrying
        found, _ = nnls(
            np.vstack([HARD * own, np.eye(contacts)]), np.concatenate([HARD * right, np.zeros(contacts)])
        )
        if np.abs(own @ found - right).max() < BALANCED:
            return np.asarray(found * scale)
    # Each contact's force as a sum of the edges of its friction pyramid and of its axis: none leaves the
    # pyramid.
    edges = np.repeat(plain, 5, axis=1)
    pressing, rubbing = np.kron(np.eye(contacts), np.ones(5)), np.zeros((2 * contacts, 5 * contacts))
    for i, most in enumerate(friction):
        for edge in range(1, 5):
            edges[:, 5 * i + edge] += most * hard[:, 5 * i + edge]
            rubbing[2 * i + (edge - 1) // 2, 5 * i + edge] = most * (1 if edge % 2 else -1)
    found, _ = nnls(
        np.vstack([HARD * edges, pressing, rubbing]), np.concatenate([HARD * right, np.zeros(3 * contacts)])
    )
    return np.asarray(found.reshape(contacts, 5).sum(axis=1) * scale)


def wrench_at(force: Floats, point: Floats, middle: Floats, torque: float = 0.0) -> Floats:
    """A force (N) at a point and a torque about z (N·mm), as a wrench about `middle`."""
    return np.concatenate([force, np.cross(point - middle, force) + [0, 0, torque]])


@dataclass(frozen=True)
class Safety:
    """factor: of the worst moment; operation, name: whose; way: the force on the work then, N; place: where
    it acts.
    """

    factor: float
    operation: str
    name: str
    force: Floats
    place: Floats


def safety(problem: Programme, loads: list[Load]) -> list[Safety]:
    """The worst moment of every operation, in their order."""
    out = []
    slipping = _Slipping(problem)
    for load in loads:
        worst: Safety | None = None
        for place in load.places:
            for force, torque in _cases(load):
                wrench = wrench_at(force, place, problem.middle, torque)
                factor = slipping.greatest(wrench)
                # Of places alike the first: the last digits are noise.
                if worst is None or factor < worst.factor * (1 - ALIKE):
                    worst = Safety(factor, load.operation, load.name, force, place)
        if worst is not None:
            out.append(worst)
    return out


def _cases(load: Load) -> list[tuple[Floats, float]]:
    if load.across <= 0:
        return [(np.array([0, 0, -load.along]), load.torque), (np.array([0, 0, -load.along]), -load.torque)]
    angles = np.radians(np.arange(0, 360, 45))
    return [(np.array([load.across * np.cos(a), load.across * np.sin(a), -load.along]), 0.0) for a in angles]


def friction_clamp(force: float, friction: float, faces: int) -> float:
    """What friction holds, N: F = faces · μ · force. Every handbook of fixtures has it."""
    return faces * friction * force


def strap_force(bolt: float, bolt_from_nose: float, heel_from_nose: float) -> float:
    """Force of a strap clamp's nose, N: the bolt's share by the lever, bolt·(heel - bolt)/heel."""
    return bolt * (1 - bolt_from_nose / heel_from_nose)


def wedge_normal(force: float, half_angle_deg: float, friction: float = 0.0) -> float:
    """Force square to each flank of a symmetrical wedge or vee pressed in with `force`, N.

    N = F / (2·(sin α + μ·cos α)), α between flank and the direction of the force.
    """
    a = np.radians(half_angle_deg)
    return float(force / (2 * (np.sin(a) + friction * np.cos(a))))
