"""What is the least number of index positions, and of setups, from which a machine reaches every face of a
part?

Exact: a smallest cover, by mixed integer programming, of the faces by the directions that reach them. A
direction counts for a thin straight tool that meets nothing of the part; what holds the work is not known
here.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import Bounds, LinearConstraint, milp

from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import rotation_about_z, square_to
from pelvrak.core.machine.kinematics import solve_direction
from pelvrak.core.machine.machine import Machine

# From below the table nothing is cut; a little below level, still.
LEVEL = -0.02


class Way(Frozen):
    """One position: the direction (part frame, and zero frame of its setup), the angles it needs, the faces
    it is taken for.
    """

    direction: Vector
    in_setup: Vector
    angles: dict[str, float]
    faces: tuple[int, ...]


class Clamping(Frozen):
    """One setup: which way of the part is up, and its positions."""

    up: Vector
    ways: tuple[Way, ...]
    faces: tuple[int, ...]


class SetCover(Frozen):
    """here: positions for the work as this setup seats it; here_left: faces it cannot reach so. setups: the
    fewest clampings for all of the part; never: faces that no direction reaches.
    """

    here: tuple[Way, ...]
    here_left: tuple[int, ...]
    setups: tuple[Clamping, ...]
    never: tuple[int, ...]


def smallest_cover(sets: NDArray[np.bool_], wanted: NDArray[np.bool_]) -> list[int]:
    """Numbers of the fewest sets (rows) whose union holds every wanted column; of those as few as cover as
    much as possible at once.

    Raises ValueError when they do not, all together.
    """
    needed = sets[:, wanted]
    if not needed.any(axis=0).all():
        raise ValueError("the sets do not cover all that is wanted")
    if needed.shape[1] == 0:
        return []
    # Ties go to sets that hold more.
    cost = 1.0 - 1e-4 * needed.mean(axis=1)
    found = milp(
        cost,
        integrality=np.ones(len(sets)),
        bounds=Bounds(0, 1),
        constraints=LinearConstraint(needed.T.astype(float), lb=1.0),
    )
    return [int(i) for i in np.flatnonzero(found.x > 0.5)]


def set_cover(features: Features, machine: Machine, zero_from_work: Floats) -> SetCover:
    """The fewest positions for a setup as it stands (its 4×4), and the fewest setups for the part, on one
    machine.
    """
    ways = np.array(features.directions, float).reshape(-1, 3)
    reach = np.zeros((len(ways), len(features.reach)), bool)
    for face, numbers in enumerate(features.reach):
        reach[list(numbers), face] = True
    never = tuple(int(f) for f in np.flatnonzero(~reach.any(axis=0)))
    all_of_it = np.asarray(reach.any(axis=0), bool)
    angles = _angles(machine, ways @ zero_from_work[:3, :3].T)
    here, left = _covered(reach, all_of_it, ways, ways @ zero_from_work[:3, :3].T, angles)
    return SetCover(
        here=here, here_left=left, setups=tuple(_clampings(reach, all_of_it, ways, machine)), never=never
    )


def _angles(machine: Machine, seen: Floats) -> list[dict[str, float] | None]:
    """The angles for each direction (zero frame); None where it cannot be."""
    out: list[dict[str, float] | None] = []
    for way in seen:
        solved = solve_direction(machine, as_vector(way), None, False) if way[2] > LEVEL else None
        out.append(solved.solutions[0].angles if solved is not None and solved.reachable else None)
    return out


def _covered(
    reach: NDArray[np.bool_],
    wanted: NDArray[np.bool_],
    ways: Floats,
    seen: Floats,
    angles: list[dict[str, float] | None],
) -> tuple[tuple[Way, ...], tuple[int, ...]]:
    can = [i for i, one in enumerate(angles) if one is not None]
    possible = reach[can].any(axis=0) & wanted if can else np.zeros_like(wanted)
    left = tuple(int(f) for f in np.flatnonzero(wanted & ~possible))
    if not can:
        return (), left
    taken, out = np.zeros_like(wanted), []
    for k in smallest_cover(reach[can], possible):
        i = can[k]
        mine = reach[i] & possible & ~taken
        taken |= mine
        out.append(
            Way(
                direction=as_vector(ways[i]),
                in_setup=as_vector(np.round(seen[i], 9) + 0.0),
                angles=angles[i] or {},
                faces=tuple(int(f) for f in np.flatnonzero(mine)),
            )
        )
    return tuple(out), left


def _clampings(
    reach: NDArray[np.bool_], wanted: NDArray[np.bool_], ways: Floats, machine: Machine
) -> list[Clamping]:
    """Candidate clampings: each direction up, in quarter turns about it; the fewest that cover the part, each
    with its fewest positions.
    """
    candidates: list[tuple[Floats, Floats, list[dict[str, float] | None]]] = []
    for up in ways:
        for quarter in range(4 if machine.rotary else 1):
            turn = rotation_about_z(90.0 * quarter) @ square_to(up)
            seen = ways @ turn.T
            candidates.append((up, seen, _angles(machine, seen)))
    sets = np.array([reach[[a is not None for a in angles]].any(axis=0) for _, _, angles in candidates])
    possible = sets.any(axis=0) & wanted
    out, taken = [], np.zeros_like(wanted)
    for k in smallest_cover(sets, possible):
        up, seen, angles = candidates[k]
        mine = sets[k] & possible & ~taken
        taken |= mine
        positions, _ = _covered(reach, mine, ways, seen, angles)
        out.append(
            Clamping(
                up=as_vector(np.round(up, 9) + 0.0),
                ways=positions,
                faces=tuple(int(f) for f in np.flatnonzero(mine)),
            )
        )
    return out
