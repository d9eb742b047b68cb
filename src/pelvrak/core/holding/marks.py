"""What does a holding leave on the work: teeth in a finished face, dents under a clamp?

A face is dented where the mean pressure on it comes to the work's yield strength; round contacts begin to
yield at 1.1 times it (K. L. Johnson, Contact Mechanics, 1985, section 6.2, from memory), flat ones are taken
at once.
"""

from __future__ import annotations

from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.holding.contact import NEAR_MM, patches

# Yield strength, N/mm², at least: EN 755-2 (6082 T6, 7075 T6), EN ISO 683-1 (C45 +N), EN 10088-3 (1.4301),
# EN 12164 (CuZn39Pb3 R430); all from memory.
YIELD = {"EN AW-6082": 250.0, "EN AW-7075": 460.0, "C45": 305.0, "X5CrNi18-10": 190.0, "CuZn39Pb3": 220.0}
# A face this much across a jaw's way is a wall it grips, not a step the work stands on.
WALL_COS = 0.7


def finished_area(piece: Mesh, finished: Mesh, deep: float) -> tuple[float, Floats | None]:
    """Over how much of what a jaw grips its teeth reach finished faces, mm², and where most of it is.

    finished: the faces of the part that are to be as drawn, in the frame of the piece; deep: how far the
    teeth go in, mm.
    """
    found = patches(finished, [piece], max(NEAR_MM, deep))
    walls = [patch for patch in found if abs(patch.normal[2]) < WALL_COS]
    if not walls:
        return 0.0, None
    return sum(patch.area for patch in walls), max(walls, key=lambda patch: patch.area).centre
