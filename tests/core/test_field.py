"""The ray field against closed forms, Open CASCADE solids and its own properties."""

from __future__ import annotations

import math
import os
import subprocess
import sys
import unittest

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.geometry.mesh import volume
from pelvrak.core.stock.cut import RAPID, Profile, Sweep, cut, test
from pelvrak.core.stock.field import bundle_volumes, extents, grid_around, loaded, same_field, saved
from pelvrak.core.stock.surface import surface
from pelvrak.core.stock.sweep import sweep_interval
from tests import solids
from tests.solids import UP, along, block, flat, pointed


def removed(before, after) -> float:
    return volume(surface(before)) - volume(surface(after))


class ClosedForms(unittest.TestCase):
    """Removed volume within 0.1 % of the exact value (issue's bound)."""

    def check(self, points, cutter, exact, cell=0.25, axis=UP, low=(0, 0, 0), high=(60, 40, 20), share=1e-3):
        field = block(low, high, cell)
        after, _ = cut(field, along(points, cutter, axis), 1)
        self.assertAlmostEqual(removed(field, after) / exact, 1.0, delta=share)
        for seen in bundle_volumes(after):  # three bundles describe one body
            self.assertAlmostEqual(seen / volume(surface(after)), 1.0, delta=2e-3)

    def test_block_is_exact(self):
        self.assertEqual(bundle_volumes(block((0, 0, 0), (60, 40, 20), 0.5)), (48000.0, 48000.0, 48000.0))

    def test_plunge_is_a_cylinder(self):
        self.check([(30, 20, 30), (30, 20, 8.3)], flat(12), math.pi * 36 * 11.7)

    def test_slot_is_a_stadium(self):
        self.check(
            [(15.1, 12.2, 9.7), (44.3, 27.9, 9.7)],
            flat(10),
            (10 * math.dist((15.1, 12.2), (44.3, 27.9)) + math.pi * 25) * 10.3,
        )

    def test_drill_point_is_a_cone(self):
        depth, radius = 15.0, 5.0
        point = radius / math.tan(math.radians(59))
        exact = math.pi * radius**2 * (depth - point) + math.pi * radius**2 * point / 3
        self.check([(30, 20, 40), (30, 20, 20 - depth)], pointed(10, 118), exact)

    def test_chamfer_groove_is_a_prism_with_conical_ends(self):
        # 90° cutter, tip t deep: section t², ends together a cone of radius and height t.
        exact = 2.97**2 * 30 + math.pi * 2.97**3 / 3
        self.check([(15, 20.07, 17.03), (45, 20.07, 17.03)], pointed(10, 90), exact)

    def test_ramp(self):
        # Flat end mill ramping down along x: each column is cut to the lowest tip that reached it.
        radius, drop, length = 4.0, 6.0, 30.0
        field = block((0, 0, 0), (60, 40, 20), 0.2)
        after, _ = cut(field, along([(15, 20, 16), (45, 20, 10)], flat(8)), 1)
        xs, ys = np.meshgrid(np.linspace(0, 60, 2401), np.linspace(10, 30, 801))
        half = np.sqrt(np.maximum(0, radius**2 - (ys - 20) ** 2))
        last = np.minimum(45.0, xs + half)
        reached = (np.abs(ys - 20) <= radius) & (xs + half >= 15) & (xs - half <= 45)
        depth = np.where(reached, 20 - (16 - drop * (last - 15) / length), 0)
        exact = depth.mean() * 60 * 20
        self.assertAlmostEqual(removed(field, after) / exact, 1.0, delta=2e-3)

    def test_oblique_drill_at_30_degrees(self):
        # A cylinder right through a plate, leaning 30°: pi r² t / cos 30.
        axis = np.array([math.sin(math.radians(30)), 0, math.cos(math.radians(30))])
        down = np.array([30.0, 20, 10]) - 40 * axis
        self.check(
            [np.array([30.0, 20, 10]) + 30 * axis, down],
            flat(8),
            math.pi * 16 * 20 / math.cos(math.radians(30)),
            axis=axis,
            share=3e-3,
        )


class OpenCascade(unittest.TestCase):
    """Against solids of the same cuts by Open CASCADE."""

    def test_crossing_slots_and_holes(self):
        points = [(10, 10, 6), (50, 30, 6), (50, 10, 6), (12, 33, 6)]
        field, _ = cut(block((0, 0, 0), (60, 40, 20), 0.25), along(points, flat(8)), 1)
        field, _ = cut(field, along([(20, 20, 30), (20, 20, -5)], flat(9)), 2)
        reference = solids.box((0, 0, 0), (60, 40, 20))
        for a, b in zip(points, points[1:], strict=False):
            reference = solids.minus(reference, solids.stadium(a[:2], b[:2], 4, 6, 60))
        reference = solids.minus(reference, solids.cylinder((20, 20, -5), 4.5, 60))
        self.assertAlmostEqual(volume(surface(field)) / solids.volume(reference), 1.0, delta=5e-4)

    def test_from_the_side(self):
        axis = np.array([1.0, 0, 0])  # spindle points to -x
        field, _ = cut(
            block((0, 0, 0), (60, 40, 20), 0.25), along([(45, 10, 10), (45, 30, 10)], flat(6), axis), 1
        )
        reference = solids.minus(
            solids.box((0, 0, 0), (60, 40, 20)),
            solids.box((45, 10, 7), (90, 30, 13)),
            solids.cylinder((45, 10, 10), 3, 50, (1, 0, 0)),
            solids.cylinder((45, 30, 10), 3, 50, (1, 0, 0)),
        )
        self.assertAlmostEqual(volume(surface(field)) / solids.volume(reference), 1.0, delta=5e-4)


places = st.tuples(st.floats(2, 38), st.floats(2, 28), st.floats(2, 18)).map(
    lambda p: tuple(round(v, 2) for v in p)
)
paths = st.lists(places, min_size=2, max_size=4)
cutters = st.sampled_from([flat(6), flat(3.3), pointed(8, 118), pointed(10, 90)])


class Properties(unittest.TestCase):
    """Facts that hold for any cuts."""

    @settings(max_examples=25, deadline=None)
    @given(paths, paths, cutters, cutters)
    def test_order_does_not_matter(self, first, second, one, two):
        start = block((0, 0, 0), (40, 30, 20), 1.0)
        a, _ = cut(cut(start, along(first, one), 1)[0], along(second, two), 1)
        b, _ = cut(cut(start, along(second, two), 1)[0], along(first, one), 1)
        for seen, other in zip(bundle_volumes(a), bundle_volumes(b), strict=True):
            self.assertAlmostEqual(seen, other, delta=0.05)

    @settings(max_examples=25, deadline=None)
    @given(paths, cutters)
    def test_cutting_twice_changes_nothing(self, points, cutter):
        once, _ = cut(block((0, 0, 0), (40, 30, 20), 1.0), along(points, cutter), 1)
        twice, _ = cut(once, along(points, cutter), 2)
        self.assertTrue(same_field(once, twice))

    @settings(max_examples=25, deadline=None)
    @given(paths, cutters)
    def test_volume_never_grows_and_ends_stay_sorted(self, points, cutter):
        start = block((0, 0, 0), (40, 30, 20), 1.0)
        after, _ = cut(start, along(points, cutter), 1)
        for bundle, seen, was in zip(
            after.bundles, bundle_volumes(after), bundle_volumes(start), strict=True
        ):
            self.assertLessEqual(seen, was + 1e-6)
            used = np.arange(2 * bundle.capacity) < 2 * bundle.count[:, :, None]
            steps = np.diff(bundle.position, axis=2)
            self.assertTrue((steps[used[:, :, 1:]] > 0).all())

    @settings(max_examples=20, deadline=None)
    @given(paths, cutters, st.floats(-0.9, 0.9), st.floats(-0.9, 0.9))
    def test_against_brute_force_sampling(self, points, cutter, lean_x, lean_y):
        """No ray end lies inside the swept tool, nor material well inside it, by sampling the sweep
        densely.
        """
        axis = np.array([lean_x, lean_y, 1.0])
        axis /= np.linalg.norm(axis)
        after, _ = cut(block((0, 0, 0), (40, 30, 20), 1.0), along(points[:2], cutter, axis), 1)
        a, b = np.array(points[0], float), np.array(points[1], float)
        tips = a + np.linspace(0, 1, 400)[:, None] * (b - a)
        slack = 0.02 + np.linalg.norm(b - a) / 400
        bundle = after.bundles[2]
        x, y = after.grid.nodes(0), after.grid.nodes(1)
        for row in range(0, len(y), 4):
            for column in range(0, len(x), 4):
                for i in range(bundle.count[row, column]):
                    low, high = bundle.position[row, column, 2 * i : 2 * i + 2]
                    zs = np.linspace(low, high, 30)
                    rest = np.array([x[column], y[row], 0]) + zs[:, None, None] * UP - tips
                    h = rest @ axis
                    r = np.sqrt(np.maximum(0, (rest**2).sum(axis=2) - h**2))
                    room = np.interp(h, cutter.heights, cutter.radii) - r
                    inside = (h > slack) & (h < cutter.heights[-1] - slack) & (room > slack)
                    self.assertFalse(inside.any())


class AllButLevel(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(
        st.floats(-2.5, 2.5),
        st.floats(-2.5, 2.5),
        st.floats(-14, 14),
        st.floats(5, 85),
        st.floats(0, 360),
        st.floats(0.01, 5),
        st.floats(-11, -5),
    )
    @example(0.0, 0.0, 0.0, 66.0, 1.0, 3.0, -7.0)
    def test_cuts_as_a_level_one(self, x, y, h, lean, way, length, rise):
        """A flat cutter's move rises by next to nothing: a ray meets it where it meets the level one, or, at
        an edge that it grazes, within the cutter's reach of the rim.
        """
        heights, radii = np.array([0.0, 20.0]), np.array([1.5, 1.5])
        m0, m1 = (length * turn(math.radians(way)) for turn in (math.cos, math.sin))
        dx, dh = math.cos(math.radians(lean)), math.sin(math.radians(lean))
        near, level = (
            sweep_interval(heights, radii, 0, 1, 0.0, 0.0, x, y, h, dx, dh, m0, m1, up)
            for up in (10.0**rise, 0.0)
        )
        for end, other in zip(near, level, strict=True):
            if abs(end[0]) < 1e100 and abs(other[0]) < 1e100:
                self.assertAlmostEqual(end[0], other[0], delta=1e-3)
            elif abs(end[0]) < 1e100:
                # Only a touch: no longer than what it rises.
                self.assertLess(near[1][0] - near[0][0], 1e-3)


class Carrying(unittest.TestCase):
    """The field lives in the work frame: turning the work over turns the tool, not the stock."""

    def test_flip_is_the_same_as_cutting_from_below(self):
        start = block((0, 0, 0), (60, 40, 20), 0.5)
        pocket = np.array([(15, 12, 14), (45, 12, 14), (45, 28, 14)], float)
        carried, _ = cut(start, along(pocket, flat(8)), 257)
        # Turned over about x, seen from the machine: y and z change sign.
        turn = np.diag([1.0, -1.0, -1.0])
        in_machine = np.array([(20, -30, -6), (40, -10, -6)], float)
        flipped, _ = cut(carried, along(in_machine @ turn, flat(6), turn.T @ UP), 513)
        straight = np.array([(20, 30, 6), (40, 10, 6)], float)
        without, _ = cut(carried, along(straight, flat(6), np.array([0, 0, -1.0])), 513)
        self.assertTrue(same_field(flipped, without))
        reference = solids.minus(
            solids.box((0, 0, 0), (60, 40, 20)),
            solids.stadium((15, 12), (45, 12), 4, 14, 60),
            solids.stadium((45, 12), (45, 28), 4, 14, 60),
            solids.stadium((20, 30), (40, 10), 3, -60, 6),
        )
        self.assertAlmostEqual(volume(surface(flipped)) / solids.volume(reference), 1.0, delta=1e-3)

    def test_many_flips_change_nothing(self):
        start = block((0, 0, 0), (40, 30, 20), 1.0)
        turn = np.diag([1.0, -1.0, -1.0])
        flipping = straight = start
        for i in range(20):
            points = np.array([(5 + i, 8, 15 - i / 4), (30, 20, 15 - i / 4)])
            straight, _ = cut(straight, along(points, flat(4)), i + 1)
            there = points @ turn
            flipping, _ = cut(flipping, along(there @ turn, flat(4), turn @ (turn @ UP)), i + 1)
        self.assertTrue(same_field(flipping, straight))

    def test_one_thread_and_many_give_the_same_bits(self):
        code = (
            "import hashlib, numpy as np\n"
            "from tests.solids import *\n"
            "from pelvrak.core.stock.cut import cut\n"
            "from pelvrak.core.stock.field import saved\n"
            "rng = np.random.default_rng(4)\n"
            "p = np.column_stack([rng.uniform(0, 40, 60), rng.uniform(0, 30, 60), rng.uniform(5, 18, 60)])\n"
            "f, _ = cut(block((0, 0, 0), (40, 30, 20), 0.5), along(p, pointed(6, 118)), 3)\n"
            "print(hashlib.sha256(saved(f)).hexdigest())\n"
        )
        seen = {
            subprocess.run(
                [sys.executable, "-c", code],
                env={**os.environ, "NUMBA_NUM_THREADS": n},
                text=True,
                capture_output=True,
                check=True,
            ).stdout
            for n in ("1", "2")
        }
        self.assertEqual(len(seen), 1)


class Keeping(unittest.TestCase):
    """Saving, growing, makers, refusing."""

    def test_saved_and_loaded_are_the_same(self):
        field, _ = cut(block((0, 0, 0), (40, 30, 20), 0.5), along([(5, 5, 10), (30, 20, 8)], flat(6)), 7)
        self.assertTrue(same_field(field, loaded(saved(field))))

    def test_a_ray_that_runs_out_of_room_grows(self):
        field = block((0, 0, 0), (60, 10, 10), 0.5)
        for i in range(20):  # twenty slots across: rays along x hold 21 pieces
            field, _ = cut(field, along([(2 + 2.8 * i, -5, 4), (2 + 2.8 * i, 15, 4)], flat(1.4)), i + 1)
        self.assertEqual(int(field.bundles[0].count.max()), 21)
        self.assertAlmostEqual(volume(surface(field)), 6000 - 20 * 1.4 * 10 * 6, delta=12)

    def test_ends_remember_their_maker(self):
        field, _ = cut(block((0, 0, 0), (40, 30, 20), 1.0), along([(20, 15, 30), (20, 15, 12)], flat(8)), 42)
        bundle = field.bundles[2]
        row, column = (int(np.argmin(np.abs(field.grid.nodes(a) - v))) for a, v in ((1, 15), (0, 20)))
        self.assertEqual(bundle.maker[row, column, :2].tolist(), [0, 42])
        self.assertAlmostEqual(float(bundle.position[row, column, 1]), 12.0, places=5)

    def test_extents(self):
        field, _ = cut(block((0, 0, 0), (40, 30, 20), 1.0), along([(-20, 15, 15), (60, 15, 15)], flat(60)), 1)
        low, high = extents(field)
        self.assertEqual((low.tolist(), high.tolist()), ([0, 0, 0], [40, 30, 15]))
        gone, _ = cut(field, along([(-20, 15, -5), (60, 15, -5)], flat(60)), 1)
        self.assertIsNone(extents(gone))

    def test_refuses_sizes_without_meaning(self):
        for low, high, cell in (
            ((0, 0, 0), (1, 1, float("nan")), 1),
            ((0, 0, 0), (0, 1, 1), 1),
            ((0, 0, 0), (1, 1, 1), -1),
        ):
            with self.assertRaises(BadInput):
                grid_around(np.array(low, float), np.array(high, float), cell)
        with self.assertRaises(BadInput) as caught:
            grid_around(np.zeros(3), np.array([2000.0, 2000, 2000]), 0.05)
        self.assertEqual(caught.exception.code, "stock.memory")
        self.assertIn("or coarser", caught.exception.mend)

    def test_stops_when_asked(self):
        with self.assertRaises(Stopped):
            cut(
                block((0, 0, 0), (40, 30, 20), 1.0),
                along([(0, 0, 5), (9, 9, 5)], flat(3)),
                1,
                lambda share: False,
            )


class Trouble(unittest.TestCase):
    """What moves run into."""

    def setUp(self):
        self.field = block((0, 0, 0), (40, 30, 20), 0.5)

    def test_rapid_through_material_by_its_depth(self):
        points = np.array([(-10, 15, 17.0), (50, 15, 17.0)])
        sweep = Sweep(points[:1], points[1:], np.array([RAPID], np.uint8), UP, flat(6))
        after, hits = cut(self.field, sweep, 1)
        self.assertAlmostEqual(float(hits.rapid[0]), 3.0, places=4)
        self.assertTrue(same_field(after, self.field))  # a rapid cuts nothing

    def test_rapid_above_is_free(self):
        sweep = Sweep(
            np.array([(-10, 15, 20.5)]), np.array([(50, 15, 20.5)]), np.array([RAPID], np.uint8), UP, flat(6)
        )
        self.assertEqual(float(cut(self.field, sweep, 1)[1].rapid[0]), 0.0)

    def test_holder_meets_the_wall_beside_a_deep_slot(self):
        holder = Profile((12.0, 40.0), (15.0, 15.0))  # 12 mm above the tip, 3 mm too low for 15 deep
        _, hits = cut(self.field, along([(20, 15, 30), (20, 15, 5)], flat(6), bodies=(holder,)), 1)
        self.assertAlmostEqual(float(hits.bodies[0, 0]), 3.0, places=4)

    def test_shank_in_its_own_bore_is_free(self):
        shank = Profile((5.0, 40.0), (3.0, 3.0))
        _, hits = cut(self.field, along([(20, 15, 30), (20, 15, 2)], flat(6, 5.0), bodies=(shank,)), 1)
        self.assertLess(float(hits.bodies[0, 0]), 1e-3)

    def test_holding_is_tested_not_cut(self):
        hits = test(self.field, along([(20, 15, 30), (20, 15, 18)], flat(6)))
        self.assertAlmostEqual(float(hits.rapid[0]), 2.0, places=4)


if __name__ == "__main__":
    unittest.main()
