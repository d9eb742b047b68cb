"""Do the locators fix the work, once and no more? Rank, conditioning and the motions left free or fought.

The locator matrix has one row for each contact point: how fast the work would leave it in each of six small
motions. Its rank is the number of degrees of freedom taken: H. Asada and A. B. By, "Kinematic analysis of
workpart fixturing for flexible assembly with automatically reconfigurable fixtures", IEEE Journal of Robotics
and Automation RA-1(2), 1985. Plane, line and point contact take three, two and one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.holding.contact import Patch

# Of the largest singular value: below it a motion counts as free.
FREE_SHARE = 0.02
# Two locators fight along the line between them, and not across it.
ALONG_COS = 0.7
AXES = "XYZ"

# An axis this near to whole millimetres is told as there: what is round is known to a tenth.
WHOLE_MM = 0.15


@dataclass(frozen=True)
class Motion:
    """A small motion: kind slides or turns, its unit direction or axis, a point of that axis, and what a
    machinist calls it.
    """

    kind: str
    way: Floats
    through: Floats
    told: str


@dataclass(frozen=True)
class Locating:
    """rank: degrees of freedom taken, of 6; condition: largest over least singular value of those taken; free
    and fought motions.
    """

    rank: int
    condition: float
    free: tuple[Motion, ...]
    fought: tuple[str, ...]


def contact_points(patch: Patch) -> Floats:
    """Where a patch's forces and locating act, (n, 3): its corners, its ends, or its middle."""
    if patch.kind in ("point", "thread"):
        return patch.centre[None]
    if patch.kind == "line":
        along = (patch.hull - patch.centre) @ patch.long
        return np.array([patch.centre + patch.long * along.min(), patch.centre + patch.long * along.max()])
    return patch.hull


def contact_looks(patch: Patch) -> Floats:
    """The way a patch pushes at each of its contact points, (n, 3)."""
    return (
        patch.looks
        if patch.kind in ("face", "bore")
        else np.tile(patch.normal, (len(contact_points(patch)), 1))
    )


def locator_matrix(points: Floats, normals: Floats, middle: Floats, length: float) -> Floats:
    """Rows (n, 6): [normal, (point - middle) × normal / length], so that turning and sliding weigh alike."""
    return np.hstack([normals, np.cross(points - middle, normals) / length])


def rows_of(patches: list[Patch], middle: Floats, length: float) -> Floats:
    """The locator matrix of some patches."""
    if not patches:
        return np.zeros((0, 6))
    points = np.concatenate([contact_points(patch) for patch in patches])
    return locator_matrix(points, np.concatenate([contact_looks(patch) for patch in patches]), middle, length)


def _null(matrix: Floats) -> tuple[int, float, Floats]:
    """Rank, condition of what is taken, and a basis (k, 6) of what is free."""
    if len(matrix) == 0:
        return 0, float("inf"), np.eye(6)
    _, sizes, basis = np.linalg.svd(matrix)
    sizes = np.concatenate([sizes, np.zeros(6 - len(sizes))]) if len(sizes) < 6 else sizes
    rank = int((sizes > FREE_SHARE * sizes[0]).sum())
    return rank, float(sizes[0] / sizes[rank - 1]), basis[rank:]


def _named(way: Floats) -> str:
    axis = int(np.argmax(np.abs(way)))
    if abs(way[axis]) > 0.999:
        return AXES[axis]
    return "(" + ", ".join(f"{c:.2f}" for c in way) + ")"


def motions(matrix: Floats, middle: Floats, length: float) -> tuple[int, float, list[Motion]]:
    """Rank, condition, and the free motions of a locator matrix: first those that slide, then those that
    turn.
    """
    rank, condition, null = _null(matrix)
    out: list[Motion] = []
    if len(null) == 0:
        return rank, condition, out
    # Motions of the null space without turning.
    _, sizes, mix = np.linalg.svd(null[:, 3:].T)
    turning = int((sizes > 1e-3).sum())
    slides = mix[turning:] @ null[:, :3]
    for way in _tidy(slides):
        out.append(Motion("slides", way, middle, f"sliding along {_named(way)}"))
    for way in _tidy((mix[:turning] @ null)[:, 3:]):
        # The motion of the null space that turns this way, and the line that stays where it is.
        weights = np.linalg.lstsq(null[:, 3:].T, way, rcond=None)[0]
        velocity, spin = weights @ null[:, :3], way / length
        through = middle + np.cross(spin, velocity) / (spin @ spin)
        near = [round(v) if abs(v - round(v)) < WHOLE_MM else v for v in through.tolist()]
        at = ", ".join(f"{AXES[d]}{near[d]:.1f}" for d in range(3) if abs(way[d]) < 0.999)
        out.append(Motion("turns", way, through, f"turning about {_named(way)} through {at}"))
    return rank, condition, out


def _tidy(ways: Floats) -> list[Floats]:
    """A basis of the space that some directions span: along the axes where it holds them."""
    if len(ways) == 0:
        return []
    _, sizes, rows = np.linalg.svd(np.atleast_2d(ways))
    space = rows[: int((sizes > 1e-6).sum())]
    out: list[Floats] = []
    for candidate in (*np.eye(3), *space):
        inside = space.T @ (space @ candidate)
        left = inside - sum((np.outer(o, o) @ inside for o in out), np.zeros(3))
        size = float(np.linalg.norm(left))
        if (
            np.linalg.norm(inside) > 0.999 or (len(out) < len(space) and candidate is not None and size > 0.5)
        ) and size > 0.3:
            if np.linalg.norm(inside) < 0.999 and any(candidate is row for row in np.eye(3)):
                continue
            way = left / size
            out.append(
                np.where(np.abs(way) < 1e-9, 0.0, way) * (1 if way[int(np.argmax(np.abs(way)))] > 0 else -1)
            )
        if len(out) == len(space):
            break
    return out


def locating(patches: list[Patch], owner: Callable[[Patch], str], middle: Floats, length: float) -> Locating:
    """What a set of locating contacts does. owner: the name of the item a patch belongs to; length: half the
    work's size.
    """
    rank, condition, free = motions(rows_of(patches, middle, length), middle, length)
    return Locating(rank, condition, tuple(free), tuple(_fought(patches, owner)))


def _fought(patches: list[Patch], owner: Callable[[Patch], str]) -> list[str]:
    """Directions in which two locators both insist on where the work is."""
    names = sorted({owner(patch) for patch in patches})
    normals = {
        name: np.concatenate(
            [p.looks if p.kind == "bore" else p.normal[None] for p in patches if owner(p) == name]
        )
        for name in names
    }
    centres = {name: np.mean([p.centre for p in patches if owner(p) == name], axis=0) for name in names}
    out = []
    for i, one in enumerate(names):
        for two in names[i + 1 :]:
            between = centres[two] - centres[one]
            size = float(np.linalg.norm(between))
            ways = [*np.eye(3)] + ([between / size] if size > 1 else [])
            for way in ways:
                a, b = normals[one] @ way, normals[two] @ way
                # Square to the line between them, the second only keeps the work from turning.
                along = size > 1 and abs(float(way @ between)) > ALONG_COS * size
                both = along and a.max() > 0.5 and a.min() < -0.5 and b.max() > 0.5 and b.min() < -0.5
                faced = (
                    min(a.min(), b.min()) < -0.9
                    and max(a.max(), b.max()) > 0.9
                    and ((a.min() > -0.5 and b.max() < 0.5) or (b.min() > -0.5 and a.max() < 0.5))
                )
                if both or faced:
                    out.append(f"{one} and {two} both fix the work along {_named(way)}")
                    break
    return out
