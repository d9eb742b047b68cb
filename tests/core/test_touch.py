"""Where a ball that goes straight first touches: closed forms on a block, its edges, a corner and a bore."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.route.pictures import drawn
from pelvrak.core.stock.cut import cut
from pelvrak.core.stock.touch import touched
from tests.solids import along, block, flat


def cube() -> Mesh:
    """0 to 10 on each axis, as a stock on the standard rays is drawn."""
    return drawn(block((0, 0, 0), (10, 10, 10), 0.5))


class Touched(unittest.TestCase):
    def share(self, start, end, radius: float) -> float | None:
        return touched(cube(), np.array(start, float), np.array(end, float), radius)

    def test_a_face(self):
        """From 20 off towards it: 20 less the radius, of 40."""
        self.assertAlmostEqual(self.share((-20, 5, 5), (20, 5, 5), 3.0) * 40, 17.0, places=9)
        self.assertAlmostEqual(self.share((5, 5, 40), (5, 5, 0), 1.0) * 40, 29.0, places=9)
        # Slanting: its centre comes to 3 off the face.
        found = self.share((-20, -15, 5), (0, 5, 5), 3.0)
        self.assertAlmostEqual(-20 + 20 * found, -3.0, places=9)

    def test_an_edge(self):
        """Past the top by less than the radius: √(3² − 1²) before the face."""
        self.assertAlmostEqual(self.share((-20, 5, 11), (20, 5, 11), 3.0) * 40, 20 - math.sqrt(8), places=9)

    def test_a_corner(self):
        """Past two edges by 1 each: √(3² − 2) before it."""
        self.assertAlmostEqual(self.share((-20, 11, 11), (20, 11, 11), 3.0) * 40, 20 - math.sqrt(7), places=9)

    def test_past_it(self):
        self.assertIsNone(self.share((-20, 5, 13.001), (20, 5, 13.001), 3.0))
        self.assertIsNone(self.share((-20, 5, 5), (-3.5, 5, 5), 3.0))
        self.assertIsNone(self.share((13.5, 5, 5), (30, 5, 5), 3.0))

    def test_begun_in_it(self):
        self.assertEqual(self.share((-1, 5, 5), (20, 5, 5), 3.0), 0.0)
        # Away from what it begins in.
        self.assertIsNone(self.share((-1, 5, 5), (-20, 5, 5), 3.0))

    def test_a_bore_in_a_stock(self):
        """Ø16 bored through a block on rays 0.5 mm apart: from the middle each way the same, 8 − 3; and from
        1 off the middle √(5² − 1²).
        """
        bored, _ = cut(
            block((0, 0, 0), (40, 40, 20), 0.5), along([(20, 20, 30), (20, 20, -1)], flat(16.0)), 1
        )
        mesh = drawn(bored)
        for way in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            end = np.array([20.0 + 10 * way[0], 20.0 + 10 * way[1], 10.0])
            self.assertAlmostEqual(
                touched(mesh, np.array([20.0, 20.0, 10.0]), end, 3.0) * 10, 5.0, delta=0.01
            )
        found = touched(mesh, np.array([20.0, 21.0, 10.0]), np.array([30.0, 21.0, 10.0]), 3.0)
        self.assertAlmostEqual(found * 10, math.sqrt(24), delta=0.01)
        # Over the bore nothing is touched.
        self.assertIsNone(touched(mesh, np.array([20.0, 20.0, 40.0]), np.array([20.0, 20.0, 5.0]), 3.0))


if __name__ == "__main__":
    unittest.main()
