"""Where on a machine's table does a fixture go when it is first put there?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, moved_box
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding.kinds import Fixture


def footprint(one: Fixture, turn_deg: float = 0.0) -> tuple[Floats, Floats]:
    """The box of a fixture, open as its picture shows it, turned from above: low and high (2,), mm. (0, 0)
    for the shop's own solids.
    """
    boxes = [np.array(solid.body.bounding_box()).reshape(2, 3) for solid in one.picture()]
    if not boxes:
        return np.zeros(2), np.zeros(2)
    turn = rigid(rotation_about_z(turn_deg), np.zeros(3))
    ends = [moved_box(turn, low, high) for low, high in boxes]
    return np.min([low for low, _ in ends], axis=0)[:2], np.max([high for _, high in ends], axis=0)[:2]


def middle_of_table(one: Fixture, length: float, depth: float) -> tuple[float, float]:
    """Where a fixture's origin goes so that it stands in the middle of a table, from the table's front left
    corner, whole mm.
    """
    low, high = footprint(one)
    middle = np.array([length, depth]) / 2 - (low + high) / 2
    return float(np.rint(middle[0])), float(np.rint(middle[1]))
