"""How does a hole of the work go on a locating pin: how much play, over how much height, and what does the
pin hold?

Decided by the two exact cylinders and their limits of size (ISO 286), never by the triangles they are drawn
with: a pin in its own size of hole is the normal case.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.iso286 import limits
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.holding import kinds
from pelvrak.core.holding.contact import Patch

# A locating hole without limits of its own is taken as reamed: common practice, no source.
REAMED = "H7"
# A relieved pin bears on a third of its width either side; a full one is taken at so many places round it.
ROUND_PLACES = 8


@dataclass(frozen=True)
class PinFit:
    """One hole of the work on one pin; mm.

    at: a point of the pin's axis; low, high: heights between which the pin stands in the hole (high ≤ low:
    nowhere); way: unit, across which a relieved pin locates, None for a full one; least, most: play on the
    diameter, below 0 where the pin is the larger; said: both fits in words.
    """

    pin: str
    hole: int
    at: Floats
    radius: float
    low: float
    high: float
    way: Floats | None
    least: float
    most: float
    said: str

    @property
    def depth(self) -> float:
        return max(0.0, self.high - self.low)


def pin_fit(item: str, pin: kinds.Pin, pose: Floats, face: int, hole: UprightHole, shift: Floats) -> PinFit:
    """How a hole (the work's frame) goes on a pin that stands at `pose`, the work moved by `shift`."""
    shaft = limits(pin.diameter, pin.fit)
    if hole.limits is None:
        own = limits(hole.diameter, REAMED)
        bore, named = (hole.diameter + own.lower, hole.diameter + own.upper), f"{REAMED} taken"
    else:
        bore, named = hole.limits, f"{hole.limits[0]:.3f} … {hole.limits[1]:.3f}"
    foot = float(pose[2, 3])
    across: Floats | None = pose[:3, 0] if pin.relieved else None
    # Tightened, an expanding one fills what it can.
    least, most = (
        max(min(size, 0.0), size - pin.expands)
        for size in (bore[0] - pin.diameter - shaft.upper, bore[1] - pin.diameter - shaft.lower)
    )
    return PinFit(
        item,
        face,
        pose[:3, 3],
        hole.diameter / 2,
        max(foot, hole.low + float(shift[2])),
        min(foot + pin.height, hole.high + float(shift[2])),
        across,
        least,
        most,
        f"hole Ø{hole.diameter:g} {named}, pin Ø{pin.diameter:g} {pin.fit}"
        + (f", expanding by {pin.expands:g}" if pin.expands else ""),
    )


def bore_patch(piece: int, fit: PinFit) -> Patch:
    """What the pin does to the work: it pushes outward all round, or a relieved one both ways across.

    area: as bearing is reckoned, diameter × height. The patch's looks are what locates; it has no one normal.
    """
    if fit.way is None:
        angle = np.linspace(0, 2 * np.pi, ROUND_PLACES, endpoint=False)
        ways = np.column_stack([np.cos(angle), np.sin(angle), np.zeros(ROUND_PLACES)])
    else:
        ways = np.array([fit.way, -fit.way])
    ways[np.abs(ways) < 1e-12] = 0.0
    middle = np.array([*fit.at[:2], (fit.low + fit.high) / 2])
    up = np.array([0.0, 0.0, fit.depth / 2])
    hull = np.concatenate([middle + fit.radius * ways - up, middle + fit.radius * ways + up])
    triangles = _band(middle, fit.radius, up, fit.way)
    return Patch(
        piece,
        2 * fit.radius * fit.depth,
        middle,
        ways[0],
        "bore",
        fit.depth,
        2 * fit.radius,
        np.array([0.0, 0.0, 1.0]),
        hull,
        np.concatenate([ways, ways]),
        triangles,
    )


def _band(middle: Floats, radius: float, up: Floats, way: Floats | None) -> Floats:
    """The wall the pin bears on, as triangles (t, 3, 3) for the picture."""
    turns = [(0.0, 2 * np.pi)]
    if way is not None:
        first = float(np.arctan2(way[1], way[0]))
        half = float(np.arcsin(1 / 3))
        turns = [(first - half, first + half), (first + np.pi - half, first + np.pi + half)]
    out = []
    for start, end in turns:
        angle = np.linspace(start, end, max(3, round((end - start) * kinds.ROUND / 2 / np.pi)) + 1)
        rim = middle + radius * np.column_stack([np.cos(angle), np.sin(angle), np.zeros(len(angle))])
        low, high = rim - up, rim + up
        out += [
            np.stack([low[:-1], low[1:], high[1:]], axis=1),
            np.stack([low[:-1], high[1:], high[:-1]], axis=1),
        ]
    return np.concatenate(out)


def turns_by(first: PinFit, second: PinFit) -> float | None:
    """How far work on two pins can turn, degrees to either side: half of both plays over the distance of
    their axes. None where they stand on one axis.
    """
    apart = float(np.linalg.norm((second.at - first.at)[:2]))
    play = (max(first.most, 0.0) + max(second.most, 0.0)) / 2
    return None if apart < 1e-6 else float(np.degrees(np.arctan2(play, apart)))
