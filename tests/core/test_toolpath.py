"""Arcs, chords and times of tool paths."""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pelvrak.core.cutting.toolpath import CHORD_ERROR_MM, Path, chord_ends_s, chords, fitted, move_length


def circle(radius: float, n: int, first: float = 0.0, sweep: float = 2 * math.pi) -> np.ndarray:
    angles = first + np.linspace(0, sweep, n)
    return radius * np.column_stack([np.cos(angles), np.sin(angles)])


class Fitting(unittest.TestCase):
    def test_a_circle_becomes_few_arcs(self):
        moves = fitted(circle(20, 300))
        self.assertLessEqual(len(moves), 4)
        for kind, _, centre in moves:
            self.assertEqual(kind, "ccw")
            self.assertLess(math.hypot(*centre), 1e-6)

    def test_a_clockwise_circle(self):
        self.assertEqual({kind for kind, _, _ in fitted(circle(20, 300)[::-1])}, {"cw"})

    def test_a_rectangle_stays_lines(self):
        dense = np.concatenate(
            [
                np.linspace(a, b, 30)[:-1]
                for a, b in (((0, 0), (9, 0)), ((9, 0), (9, 5)), ((9, 5), (0, 5)), ((0, 5), (0, 0)))
            ]
            + [[[0, 0]]]
        )
        moves = fitted(dense)
        self.assertEqual([kind for kind, _, _ in moves], ["line"] * 4)
        self.assertEqual([end for _, end, _ in moves], [(9.0, 0.0), (9.0, 5.0), (0.0, 5.0), (0.0, 0.0)])

    def test_rounded_slot(self):
        points = np.concatenate([[[0, -5]], circle(5, 60, -math.pi / 2, math.pi) + [30, 0], [[0, 5]]])
        self.assertEqual([kind for kind, _, _ in fitted(points)], ["line", "ccw", "line"])

    @given(st.floats(1, 60), st.floats(0, 6), st.floats(0.4, 3.0))
    def test_an_arc_of_any_size_is_found(self, radius, first, sweep):
        moves = fitted(circle(radius, 400, first, sweep))
        self.assertTrue(all(kind == "ccw" for kind, _, _ in moves))
        end = moves[-1][1]
        self.assertAlmostEqual(math.hypot(*end), radius, places=6)


class Chords(unittest.TestCase):
    def test_chords_stay_within_the_stated_error(self):
        path = Path((20.0, 0.0, 5.0))
        path.arc("ccw", (-20.0, 0.0, 5.0), (0.0, 0.0), 100)
        path.arc("ccw", (20.0, 0.0, 5.0), (0.0, 0.0), 100)
        lines = chords(path)
        ends = np.hypot(*lines.ends[:, :2].T)
        middles = np.hypot(*((lines.starts + lines.ends)[:, :2] / 2).T)
        self.assertLess(np.abs(ends - 20).max(), CHORD_ERROR_MM)
        self.assertLess(np.abs(middles - 20).max(), CHORD_ERROR_MM)
        # Enclosed area is the circle's: the chords lie out and in by turns.
        x, y = lines.starts[:, 0], lines.starts[:, 1]
        area = (x * np.roll(y, -1) - y * np.roll(x, -1)).sum() / 2
        self.assertAlmostEqual(area / (math.pi * 400), 1.0, delta=2e-6)

    def test_helix(self):
        path = Path((5.0, 0.0, 10.0))
        path.arc("ccw", (5.0, 0.0, 7.0), (0.0, 0.0), 300)
        self.assertAlmostEqual(
            move_length(path.start, path.moves[0]), math.hypot(2 * math.pi * 5, 3), places=9
        )
        lines = chords(path)
        self.assertAlmostEqual(float(lines.ends[-1, 2]), 7.0)
        self.assertTrue((np.diff(lines.ends[:, 2]) < 0).all())

    def test_clockwise_quarter(self):
        path = Path((0.0, 10.0, 0.0))
        path.arc("cw", (10.0, 0.0, 0.0), (0.0, 0.0), 300)
        self.assertAlmostEqual(move_length(path.start, path.moves[0]), math.pi / 2 * 10, places=9)

    def test_time_by_hand(self):
        path = Path((0.0, 0.0, 0.0))
        path.rapid(
            240.0, 0.0, 0.0
        )  # 240 mm at 400 mm/s, 2000 mm/s²: 0.6 s, and 0.2 s more to speed up and brake
        path.feed(240.0, 100.0, 0.0, 600.0)  # 100 mm at 10 mm/s: 10 s, and half of 5 ms to speed up
        path.arc("ccw", (220.0, 120.0, 0.0), (220.0, 100.0), 300.0)  # 31.42 mm at 5 mm/s: 6.28 s
        lines = chords(path)
        ends = chord_ends_s(path, lines, 24000, 2000)
        self.assertAlmostEqual(ends[0], 0.8, places=9)
        # It slows to the 5 mm/s of the arc, in which (10² - 5²) / 4000 mm are 0.01875 mm longer on the way
        # than at 10 mm/s.
        self.assertAlmostEqual(ends[1], 0.8 + 10 + 0.0025 + 0.0025 - (0.01875 / 10), places=6)
        self.assertAlmostEqual(ends[-1] - ends[1], math.pi / 2 * 20 / 5 + 5 / 2000 / 2, places=6)
        self.assertTrue((np.diff(ends) > 0).all())

    def test_a_corner_slows_and_a_straight_does_not(self):
        """A square corner is taken as fast as the velocity changes in 20 ms: √2 v = a·t."""
        fast = 30_000.0
        straight, corner = Path((0.0, 0.0, 0.0)), Path((0.0, 0.0, 0.0))
        for path, (x, y) in ((straight, (200.0, 0.0)), (corner, (100.0, 100.0))):
            path.feed(100.0, 0.0, 0.0, fast)
            path.feed(x, y, 0.0, fast)
        one, two = (float(chord_ends_s(path, chords(path), fast, 1000)[-1]) for path in (straight, corner))
        # 200 mm from stand to stand at 1000 mm/s² never reaches 500 mm/s: 2·√(200/1000) s.
        self.assertAlmostEqual(one, 2 * math.sqrt(0.2), places=9)
        v = 1000 * 0.02 / math.sqrt(2)
        # Each leg from 0 up to the peak and down to v: by energy, peak² = (2·a·s + v²) / 2.
        peak = math.sqrt((2 * 1000 * 100 + v**2) / 2)
        self.assertAlmostEqual(two, 2 * (2 * peak - v) / 1000, places=9)


if __name__ == "__main__":
    unittest.main()
