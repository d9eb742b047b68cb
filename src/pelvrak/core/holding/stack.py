"""How stiff is what the work stands on, from the table up?

Every fixture under the work is a beam of its own sections, one on the other and rigidly joined, pushed
sideways where the work rests: δ = F · ∫ ((H - z)² / (E·I) + κ / (G·A)) dz, the beam of S. P. Timoshenko
(Strength of Materials, part 1, 3rd ed., articles 30 and 39, from memory), across its weaker axis. What joins
them is left out, so a real stack bends more.
"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, to_solid
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.holding.build import Piece
from pelvrak.core.holding.hold import Hold

# Steel, N/mm² (EN 1993-1-1); a rectangle's shear factor.
MODULUS, POISSON, SHEAR = 210e3, 0.3, 1.2
# Places at which the sections of one fixture are taken: exact for what widens evenly.
PLACES, WEIGHTS = np.polynomial.legendre.leggauss(4)


class StackFact(Frozen):
    """What the work stands on: items from the table up, how high it is, mm, and how far it bends for a
    kilonewton across where the work rests, mm.
    """

    items: tuple[str, ...]
    height: float
    per_kn: float


def stack_under(hold: Hold, item: str, pieces: list[Piece], rest: float) -> StackFact | None:
    """The stack under an item that the work rests on at a height; None where it lies on the table.

    pieces: of the holding, the table among them, in the frame of rest, mm.
    """
    chain = hold.under(item)
    table = next((p for p in pieces if p.item == "table"), None)
    if not chain or table is None:
        return None
    standing = [
        [p for p in pieces if p.item == one and p.jaw != "moving" and p.name != "slide"] for one in chain
    ]
    lows = [min((float(p.mesh.vertices[:, 2].min()) for p in own), default=rest) for own in standing]
    foot, bends = float(table.mesh.vertices[:, 2].max()), 0.0
    for own, low, high in zip(standing, [foot, *lows[1:]], [*lows[1:], rest], strict=True):
        bends += _bends(own, low, high, rest)
    return StackFact(items=chain, height=round(rest - foot, 3), per_kn=round(1000 * bends, 9))


def _bends(own: list[Piece], low: float, high: float, top: float) -> float:
    """What one fixture between two heights adds, mm/N at the top."""
    if high - low < 1e-6 or not own:
        return 0.0
    solids = [to_solid(piece.mesh) for piece in own]
    shear = MODULUS / (2 * (1 + POISSON))
    out = 0.0
    for place, weight in zip(PLACES, WEIGHTS, strict=True):
        z = (low + high) / 2 + place * (high - low) / 2
        rings = [ring for solid in solids for ring in solid.slice(z).to_polygons()]
        area, second = section(rings)
        if area > 0:
            share = weight * (high - low) / 2
            out += share * ((top - z) ** 2 / (MODULUS * second) + SHEAR / (shear * area))
    return out


def section(rings: list[Floats]) -> tuple[float, float]:
    """Area, mm², and least second moment of area about its centre, mm⁴, of rings of a section; holes turn the
    other way.
    """
    if not rings:
        return 0.0, 0.0
    x, y = np.concatenate(rings).T
    x2, y2 = np.concatenate([np.roll(ring, -1, axis=0) for ring in rings]).T
    cross = x * y2 - x2 * y
    moments = [
        cross.sum() / 2,
        (cross * (x + x2)).sum() / 6,
        (cross * (y + y2)).sum() / 6,
        (cross * (x * x + x * x2 + x2 * x2)).sum() / 12,
        (cross * (y * y + y * y2 + y2 * y2)).sum() / 12,
        (cross * (x * y2 + 2 * x * y + 2 * x2 * y2 + x2 * y)).sum() / 24,
    ]
    area = float(moments[0])
    if area <= 0:
        return 0.0, 0.0
    mx, my = moments[1] / area, moments[2] / area
    xx, yy = moments[3] - area * mx * mx, moments[4] - area * my * my
    xy = moments[5] - area * mx * my
    least = (xx + yy) / 2 - float(np.hypot((xx - yy) / 2, xy))
    return area, max(least, 1e-9)
