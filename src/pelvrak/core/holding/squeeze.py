"""How far does a clamp bend a thin wall? Published beam and plate formulas over the wall behind the contact.

Beams of unit width: W. C. Young and R. G. Budynas, Roark's Formulas for Stress and Strain, 7th ed., table
8.1, cases 2a (cantilever) and 2d (both ends fixed), uniform load. Plate with all edges fixed: S. Timoshenko
and S. Woinowsky-Krieger, Theory of Plates and Shells, 2nd ed., table 35 (ν = 0.3). Coefficients from memory.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.holding.contact import Patch
from pelvrak.core.stock.shapes_kernel import crossings

# Young's modulus, N/mm²: EN 1999-1-1 and EN 1993-1-1 for aluminium and steel, brass from memory.
MODULUS = {"EN AW-6082": 70e3, "EN AW-7075": 71e3, "C45": 210e3, "X5CrNi18-10": 200e3, "CuZn39Pb3": 97e3}
POISSON = 0.3
_RATIO = (1.0, 1.1, 1.2, 1.3, 1.4, 1.5, 1.6, 1.7, 1.8, 1.9, 2.0, np.inf)
_FIXED = (
    0.00126,
    0.00150,
    0.00172,
    0.00191,
    0.00207,
    0.00220,
    0.00230,
    0.00238,
    0.00245,
    0.00249,
    0.00254,
    0.00260,
)
# Bending worth a word, mm: common practice, no source.
SQUEEZE_MM = 0.02
STEP_MM = 2.0
# Rays start this far before the contact, mm.
BEFORE_MM = 0.1
# A wall counts as thin when there is a hollow behind it and it is thinner than this share of the hollow's
# shorter side.
THIN_SHARE = 0.5


def beam_fixed(q: float, length: float, thickness: float, modulus: float) -> float:
    """Deflection, mm, in the middle of a strip fixed at both ends under pressure q, N/mm²: q·L⁴/(384·E·I)."""
    return q * length**4 / (384 * modulus * thickness**3 / 12)


def beam_cantilever(q: float, length: float, thickness: float, modulus: float) -> float:
    """Deflection, mm, at the free end of a strip fixed at the other: q·L⁴/(8·E·I)."""
    return q * length**4 / (8 * modulus * thickness**3 / 12)


def plate_fixed(q: float, short: float, long: float, thickness: float, modulus: float) -> float:
    """Deflection, mm, in the middle of a plate with all edges fixed: α·q·a⁴/D, α by b/a."""
    stiffness = modulus * thickness**3 / (12 * (1 - POISSON**2))
    return float(np.interp(-short / long, -1 / np.array(_RATIO), _FIXED)) * q * short**4 / stiffness


@dataclass(frozen=True)
class ThinWall:
    """A wall pressed by a clamp with a hollow behind it; mm. bends: estimated; how: the formula used; place:
    of its middle.
    """

    thickness: float
    span: float
    height: float
    bends: float
    how: str
    place: Floats


def thin_wall(work: Mesh, patch: Patch, force: float, modulus: float) -> ThinWall | None:
    """The thinnest wall behind a clamping patch (all in one frame) and what the clamp's pressure does to it;
    None without one.

    Rays STEP_MM apart go in from the contact: material, then a hollow. Where the wall has no edge above, the
    better of two strips is taken: along it, fixed at both ends, and up it, fixed at its foot.
    """
    turn = square_to(patch.normal)
    flat = (patch.triangles.reshape(-1, 3) - patch.centre) @ turn.T
    low, high = flat[:, :2].min(axis=0), flat[:, :2].max(axis=0)
    up = turn @ np.array([0.0, 0.0, 1.0])
    steps = [np.arange(a + STEP_MM / 2, max(b, a + STEP_MM), STEP_MM) for a, b in zip(low, high, strict=True)]
    wall = np.zeros((len(steps[0]), len(steps[1])))
    across, along = wall.shape
    ray, depth, _, _ = crossings(
        (work.vertices - patch.centre) @ turn.T,
        work.triangles,
        2,
        steps[0][0],
        steps[1][0],
        STEP_MM,
        across,
        along,
    )
    ray = ray % across * along + ray // across
    # From a little before the contact on.
    within = depth > -BEFORE_MM + 0.05
    ray, depth = ray[within], depth[within] + BEFORE_MM
    order = np.lexsort((depth, ray))
    ray, depth = ray[order], depth[order]
    count, first = np.bincount(ray, minlength=wall.size), np.searchsorted(ray, np.arange(wall.size))
    # Material ends at the second crossing; another after it means a hollow, not the far side.
    behind_hollow = np.flatnonzero(count >= 3)
    behind_hollow = behind_hollow[depth[first[behind_hollow]] < 0.3]
    at_first = first[behind_hollow]
    wall.ravel()[behind_hollow] = depth[at_first + 1] - depth[at_first]
    behind, count = ndimage.label(wall > 0)
    best: ThinWall | None = None
    for number in range(1, count + 1):
        own = behind == number
        rows, columns = np.nonzero(own)
        sizes = ((np.ptp(rows) + 1) * STEP_MM, (np.ptp(columns) + 1) * STEP_MM)
        upright = 0 if abs(up[0]) > abs(up[1]) else 1
        height, span = sizes[upright], sizes[1 - upright]
        t = float(np.median(wall[own]))
        if t > THIN_SHARE * max(height, span):
            continue
        q = force / patch.area
        bends, how = min(
            (beam_fixed(q, span, t, modulus), "strip fixed at both ends, Roark table 8.1 case 2d"),
            (beam_cantilever(q, height, t, modulus), "strip fixed at its foot, Roark table 8.1 case 2a"),
            (
                plate_fixed(q, min(height, span), max(height, span), t, modulus) * 4,
                "plate fixed on three edges, taken as four times Timoshenko's table 35",
            ),
        )
        at = patch.centre + turn.T @ np.array([steps[0][rows].mean(), steps[1][columns].mean(), 0.0])
        if best is None or bends > best.bends:
            best = ThinWall(t, span, height, bends, how, at)
    return best
