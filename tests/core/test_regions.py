"""Plane regions from faces and stock, and what stands under the spindle."""

from __future__ import annotations

import math
import unittest

import numpy as np
from shapely import Point, Polygon
from shapely import box as rectangle

from pelvrak.core.cutting.passes import levels, rings_of, started_near
from pelvrak.core.cutting.regions import (
    bore_region,
    floor_region,
    offset,
    silhouette,
    smallest_inner_radius,
)
from pelvrak.core.cutting.standing import standing, top_within, touches
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, joined
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.geometry.rigid import inverse, moved, rigid, rotation_about_z
from tests import solids
from tests.core.planning_bench import SAME, model
from tests.solids import flat


def face_at(part, height, normal=1.0):
    return next(
        f
        for f in part.faces
        if f.normal and f.normal[2] * normal > 0.999 and abs(f.centre[2] - height) < 1e-6
    )


class Regions(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.box((10, 8, 8), (50, 32, 30)))
        shape = solids.plus(shape, solids.cylinder((20, 20, 8), 4, 12))  # an island as high as the top
        shape = solids.minus(shape, solids.cylinder((40, 20, -1), 5, 30))  # a hole in the floor
        cls.model = model(shape)
        cls.part = cls.model.part

    def test_islands_are_left_out_and_holes_are_not(self):
        region, height = floor_region(self.part, face_at(self.part, 8), SAME, "test")
        self.assertAlmostEqual(height, 8)
        self.assertEqual(len(region.interiors), 1)
        self.assertAlmostEqual(region.area, 40 * 24 - math.pi * 16, delta=0.05)
        self.assertTrue(region.contains(Point(40, 20)))
        self.assertFalse(region.contains(Point(20, 20)))

    def test_region_follows_the_seat(self):
        zero_from_work = rigid(rotation_about_z(90), np.array([5.0, -3.0, -20.0]))
        region, height = floor_region(self.part, face_at(self.part, 8), zero_from_work, "test")
        self.assertAlmostEqual(height, -12)
        np.testing.assert_allclose(region.bounds, (-32 + 5, 10 - 3, -8 + 5, 50 - 3), atol=1e-6)

    def test_a_floor_that_looks_down_is_refused(self):
        with self.assertRaises(BadInput) as caught:
            floor_region(self.part, face_at(self.part, 0, -1.0), SAME, "pocket")
        self.assertEqual((caught.exception.code, caught.exception.where), ("cut.not_square", "pocket"))

    def test_bore(self):
        wall = next(f for f in self.part.faces if f.kind == "cylinder" and f.hollow)
        disc, bottom, top = bore_region(self.part, wall, SAME, "test")
        self.assertAlmostEqual(disc.area / (math.pi * 25), 1.0, delta=2e-3)
        self.assertEqual((round(bottom, 6), round(top, 6)), (0.0, 8.0))
        boss = next(f for f in self.part.faces if f.kind == "cylinder" and not f.hollow)
        with self.assertRaises(BadInput):
            bore_region(self.part, boss, SAME, "test")

    def test_silhouette_has_no_holes(self):
        outline = silhouette(self.model.mesh, SAME)
        self.assertAlmostEqual(outline.area, 2400, delta=0.01)
        self.assertEqual(len(outline.interiors), 0)

    def test_silhouette_of_a_leaning_body(self):
        lean = np.eye(4)
        lean[:3, :3] = [[1, 0, 0], [0, math.cos(0.3), -math.sin(0.3)], [0, math.sin(0.3), math.cos(0.3)]]
        outline = silhouette(self.model.mesh, lean)
        self.assertAlmostEqual(outline.area, 60 * (40 * math.cos(0.3) + 20 * math.sin(0.3)), delta=0.05)


class PlaneWork(unittest.TestCase):
    def test_smallest_inner_radius(self):
        rounded = rectangle(0, 0, 40, 30).buffer(-6).buffer(6, quad_segs=64)
        self.assertAlmostEqual(smallest_inner_radius(rounded), 6.0, delta=0.3)
        self.assertLess(smallest_inner_radius(rectangle(0, 0, 40, 30)), 0.4)

    def test_offset_areas(self):
        square = rectangle(0, 0, 20, 20)
        self.assertAlmostEqual(offset(square, -3).area, 14 * 14, places=6)
        self.assertAlmostEqual(offset(square, 3).area, 400 + 4 * 20 * 3 + math.pi * 9, delta=0.02)
        self.assertEqual(pieces(offset(square, -11)), [])

    def test_rings_go_from_the_inside_out_and_climb(self):
        annulus = Point(0, 0).buffer(20, quad_segs=64) - Point(0, 0).buffer(8, quad_segs=64)
        rings = rings_of(annulus, 3.0)
        reach = [float(np.hypot(*ring.T).max()) for ring in rings]
        self.assertEqual(max(reach[-2:]), max(reach))
        for ring in rings:
            x, y = ring[:-1, 0], ring[:-1, 1]
            area = float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum() / 2)
            # Boundaries counter-clockwise, the island clockwise: material stands on the right.
            self.assertGreater(area if abs(area) > math.pi * 14**2 * 0.9 else -area, 0)

    def test_a_ring_started_elsewhere_is_the_same_ring(self):
        ring = np.array([(0, 0), (10, 0), (10, 5), (0, 5), (0, 0)], float)
        started = started_near(ring, (7.0, -3.0))
        np.testing.assert_allclose(started[0], (7, 0))
        np.testing.assert_allclose(started[-1], started[0])
        self.assertAlmostEqual(Polygon(started).area, 50)
        self.assertAlmostEqual(float(np.hypot(*np.diff(started, axis=0).T).sum()), 30)

    def testlevels(self):
        self.assertEqual(levels(10, 0, 4), [10 - 10 / 3, 10 - 20 / 3, 0.0])
        self.assertEqual(levels(10, 9.5, 4), [9.5])
        self.assertEqual(levels(5, 5, 1), [])


class UnderTheSpindle(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        # A plate 60 × 40 × 10 with a block 20 × 40 × 15 standing on its left end.
        cls.stock = standing(joined([box([0, 0, 0], [60, 40, 10]), box([0, 0, 5], [20, 40, 25])]), 0.5)

    def test_top_within(self):
        self.assertAlmostEqual(top_within(self.stock, rectangle(30, 5, 50, 35)), 10, places=5)
        self.assertAlmostEqual(top_within(self.stock, rectangle(10, 5, 50, 35)), 25, places=5)
        self.assertIsNone(top_within(self.stock, rectangle(70, 5, 80, 35)))

    def test_touches(self):
        along_top = np.array([(25.0, 20, 11), (55, 20, 11)])
        self.assertTrue(touches(self.stock, along_top, flat(12)))  # 25 - 6 reaches the standing block
        self.assertFalse(touches(self.stock, along_top, flat(8)))
        self.assertTrue(touches(self.stock, along_top - [0, 0, 1.1], flat(8)))
        self.assertFalse(touches(self.stock, np.array([(80.0, 20, 5)]), flat(8)))

    def test_nothing_stands(self):
        self.assertIsNone(standing(joined([]), 0.5))


class Frames(unittest.TestCase):
    def test_there_and_back(self):
        rng = np.random.default_rng(3)
        for _ in range(20):
            turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
            a_from_b = rigid(turn, rng.normal(size=3) * 100)
            points = rng.normal(size=(5, 3)) * 50
            np.testing.assert_allclose(moved(inverse(a_from_b), moved(a_from_b, points)), points, atol=1e-9)


if __name__ == "__main__":
    unittest.main()
