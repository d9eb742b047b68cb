"""How hard does a screw press, and how hard may it?

Tightening: T = K·F·d with K about 0.2 for steel as it comes (J. E. Shigley, Mechanical Engineering Design, on
torque requirements; from memory). Proof stress of class 8.8: 580 N/mm² up to M16 (ISO 898-1, from memory), on
the stress area π/4·(d - 0.9382·P)² (ISO 898-1); a screw that is taken out again is loaded to three quarters
of it: the same book.
"""

from __future__ import annotations

import math

from pelvrak.core.geometry.part import Frozen
from pelvrak.core.holding.fixture import SCREWS

NUT_FACTOR = 0.2
PROOF_N_MM2, REUSED_SHARE = 580.0, 0.75


class ScrewFact(Frozen):
    """One screw of a holding: force on it, N, the torque that gives it, Nm, and the most it may have, N."""

    item: str
    thread: str
    force: float
    torque: float
    most: float


def force_by(torque_nm: float, thread: str) -> float:
    """Force of a screw tightened with a torque, N."""
    return torque_nm * 1000 / (NUT_FACTOR * SCREWS[thread][0])


def torque_for(force: float, thread: str) -> float:
    """Torque that tightens a screw to a force (N), Nm."""
    return force * NUT_FACTOR * SCREWS[thread][0] / 1000


def most_force(thread: str) -> float:
    """What a screw of class 8.8 that is used again may be tightened to, N."""
    d, _, _, pitch = SCREWS[thread]
    return REUSED_SHARE * PROOF_N_MM2 * math.pi / 4 * (d - 0.9382 * pitch) ** 2


def screw(item: str, thread: str, force: float) -> ScrewFact:
    """What is told of a screw."""
    return ScrewFact(
        item=item,
        thread=thread,
        force=round(force, 1),
        torque=round(torque_for(force, thread), 2),
        most=round(most_force(thread), 1),
    )
