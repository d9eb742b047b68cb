"""ISO 286 limits, against deviations printed in common handbook tables (from memory of ISO 286-2)."""

from __future__ import annotations

import unittest

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.iso286 import GRADES, RANGES, limits

# (size, class): (lower, upper) in µm, ISO 286-2:2010.
KNOWN = {
    (35, "H7"): (0, 25), (8, "H7"): (0, 15), (52, "H8"): (0, 46), (16, "H11"): (0, 110), (3, "H6"): (0, 6),
    (25, "h6"): (-13, 0), (25, "g6"): (-20, -7), (25, "f7"): (-41, -20), (50, "d9"): (-142, -80), (50, "e8"): (-89, -50),
    (40, "G7"): (9, 34), (40, "F8"): (25, 64), (20, "E9"): (40, 92), (30, "D10"): (65, 149),
    (25, "k6"): (2, 15), (25, "m6"): (8, 21), (25, "n6"): (15, 28), (25, "p6"): (22, 35),
    (25, "K7"): (-15, 6), (25, "M7"): (-21, 0), (25, "N7"): (-28, -7), (25, "P7"): (-35, -14), (25, "N9"): (-52, 0),
    (6, "P9"): (-42, -12), (25, "js6"): (-6.5, 6.5), (100, "JS7"): (-17.5, 17.5), (120, "H7"): (0, 35), (121, "H7"): (0, 40),
    (500, "h9"): (-155, 0),
}  # fmt: skip


class Iso286(unittest.TestCase):
    def test_known_classes(self):
        for (size, name), (lower, upper) in KNOWN.items():
            with self.subTest(size=size, name=name):
                seen = limits(size, name)
                self.assertAlmostEqual(seen.lower * 1000, lower, places=6)
                self.assertAlmostEqual(seen.upper * 1000, upper, places=6)

    def test_tolerances_grow_with_size_and_grade(self):
        for grade, row in GRADES.items():
            self.assertEqual(len(row), len(RANGES))
            self.assertEqual(list(row), sorted(row))
            if grade + 1 in GRADES:
                self.assertTrue(all(a < b for a, b in zip(row, GRADES[grade + 1], strict=True)))
        # From IT6 on the tolerance grows tenfold every five grades (the standard's rule), within its
        # rounding.
        for six, eleven in zip(GRADES[6], GRADES[11], strict=True):
            self.assertAlmostEqual(eleven / six, 10, delta=0.7)

    def test_refused(self):
        for size, name in ((20, "H3"), (20, "Q7"), (20, ""), (20, "7H"), (0, "H7"), (600, "H7"), (-4, "H7")):
            with self.subTest(size=size, name=name), self.assertRaises(BadInput):
                limits(size, name)


if __name__ == "__main__":
    unittest.main()
