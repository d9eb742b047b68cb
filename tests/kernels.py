"""Compiles the kernels into their cache, so that tests side by side do not each do it."""

from __future__ import annotations

import numpy as np

from pelvrak.core.stock.compare import compare
from pelvrak.core.stock.cut import RAPID, Profile, Sweep, cut, test
from pelvrak.core.stock.surface import simplified, surface
from tests.solids import UP, along, block, flat


def compile_all() -> None:
    """Touch every kernel once: rays along, square to and across the tool, tests, surface, comparison."""
    field = block((0, 0, 0), (12, 10, 8), 1.0)
    holder = Profile((6.0, 9.0), (4.0, 4.0))
    lean = np.array([0.3, 0.2, 1.0]) / np.linalg.norm([0.3, 0.2, 1.0])
    for axis in (UP, lean):
        field, _ = cut(field, along([(3, 3, 6), (8, 6, 5)], flat(2), axis, (holder,)), 1)
    rapid = Sweep(np.zeros((1, 3)), np.ones((1, 3)), np.array([RAPID], np.uint8), UP, flat(2))
    test(field, rapid)
    compare(field, simplified(surface(field), 0.01), surface(block((0, 0, 0), (12, 10, 8), 1.0)))


if __name__ == "__main__":
    compile_all()
