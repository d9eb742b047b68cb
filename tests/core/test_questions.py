"""What is asked of the stock, against closed forms and exact solids by manifold3d and Open CASCADE."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import manifold3d
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, mesh_of, to_solid, volume
from pelvrak.core.stock.cut import cut
from pelvrak.core.stock.field import bundle_volumes, grid_around, same_field
from pelvrak.core.stock.profile import ball_nose, flat, slot_cutter
from pelvrak.core.stock.questions import (
    centre_of_mass,
    deepest_overlap,
    first_hit,
    pieces,
    slice_at,
    thinnest,
)
from pelvrak.core.stock.shapes import (
    field_of_block,
    field_of_mesh,
    field_of_profile,
    intersection,
    minus,
    union,
)
from pelvrak.core.stock.surface import simplified, surface
from tests.solids import along, block

GRID = grid_around(np.zeros(3), np.array([40.0, 30, 20]), 0.5)


def brick(low, high, maker=0):
    return field_of_block(GRID, np.array(low, float), np.array(high, float), maker)


class OnTheRays(unittest.TestCase):
    def test_corners_that_lie_on_rays_but_for_a_rounding(self):
        """Every corner of a ball's mesh is brought onto a ray, up to a rounding to either side: each ray
        still leaves as often as it enters, and the volume is the mesh's.
        """
        ball = mesh_of(manifold3d.Manifold.sphere(9.0, 48).translate((15, 14, 10)))
        origin, noise = np.array(GRID.origin), np.random.default_rng(7)
        on_rays = origin + GRID.cell * np.rint((ball.vertices - origin) / GRID.cell)
        for ulps in (0, 1, 3):
            wobble = 1 + noise.integers(-ulps, ulps + 1, on_rays.shape) * np.finfo(float).eps
            mesh = replace(ball, vertices=on_rays * wobble)
            field = field_of_mesh(GRID, mesh)
            for seen in bundle_volumes(field):
                self.assertAlmostEqual(seen, volume(mesh), delta=0.02 * volume(mesh))


class Together(unittest.TestCase):
    """Union, difference and intersection."""

    def test_blocks(self):
        one, two = brick((0, 0, 0), (20, 30, 20), 1), brick((10, 5, 5), (40, 25, 15), 2)
        common = 10 * 20 * 10
        for field, exact in (
            (union(one, two), 20 * 30 * 20 + 30 * 20 * 10 - common),
            (minus(one, two), 20 * 30 * 20 - common),
            (intersection(one, two), common),
        ):
            for seen in bundle_volumes(field):
                self.assertAlmostEqual(seen, exact, delta=1e-3 * exact)
            mesh = surface(field)
            self.assertEqual(to_solid(mesh).status(), manifold3d.Error.NoError)
            self.assertAlmostEqual(volume(mesh) / exact, 1.0, delta=1e-4)

    def test_faces_keep_their_makers_and_look_outwards(self):
        cutaway = minus(brick((0, 0, 0), (40, 30, 20), 1), brick((10, 5, 5), (30, 25, 20), 2))
        bundle = cutaway.bundles[2]
        row, column = (int(np.argmin(np.abs(GRID.nodes(a) - v))) for a, v in ((1, 15), (0, 20)))
        self.assertEqual(bundle.maker[row, column, :2].tolist(), [1, 2])
        self.assertEqual(bundle.position[row, column, :2].tolist(), [0, 5])
        self.assertGreater(bundle.normal[row, column, 1].tolist(), [-1, -1])  # octahedral (0, 0) looks up
        self.assertEqual(bundle.normal[row, column, 1].tolist(), [0, 0])

    def test_against_exact_booleans(self):
        ball = manifold3d.Manifold.sphere(9, 96).translate((20, 15, 12))
        rod = manifold3d.Manifold.cylinder(60, 5, 5, 96).rotate((0, 70, 0)).translate((-10, 15, 5))
        ball, rod = (solid ^ manifold3d.Manifold.cube((40, 30, 20)) for solid in (ball, rod))
        a, b = field_of_mesh(GRID, mesh_of(ball), 1), field_of_mesh(GRID, mesh_of(rod), 2)
        for field, exact in (
            (union(a, b), ball + rod),
            (minus(a, b), ball - rod),
            (intersection(a, b), ball ^ rod),
        ):
            self.assertAlmostEqual(np.mean(bundle_volumes(field)) / exact.volume(), 1.0, delta=4e-3)

    def test_laws(self):
        one, two = brick((2, 2, 2), (20, 30, 20), 1), brick((10, 5, 5), (38, 25, 15), 2)
        self.assertTrue(same_field(minus(one, one), brick((0, 0, 0), (0, 0, 0))))
        for seen, other in zip(
            bundle_volumes(union(minus(one, two), intersection(one, two))), bundle_volumes(one), strict=True
        ):
            self.assertAlmostEqual(seen, other, delta=1e-3)
        with self.assertRaises(ValueError):
            union(one, block((0, 0, 0), (40, 30, 20), 1.0))

    def test_round_bar_and_ball(self):
        bar = field_of_profile(GRID, flat(16, 30), np.array([5.0, 15, 10]), np.array([1.0, 0, 0]))
        self.assertAlmostEqual(volume(surface(bar)) / (math.pi * 64 * 30), 1.0, delta=1e-3)
        lean = np.array([3.0, 2, 1]) / math.sqrt(14)
        bar = field_of_profile(GRID, flat(8, 14), np.array([10.0, 9, 5]), lean)
        self.assertAlmostEqual(volume(surface(bar)) / (math.pi * 16 * 14), 1.0, delta=3e-3)
        ends = surface(
            field_of_profile(GRID, ball_nose(10, 12), np.array([20.0, 15, 3]), np.array([0.0, 0, 1]))
        )
        exact = 2 / 3 * math.pi * 125 + math.pi * 25 * 7
        self.assertAlmostEqual(volume(ends) / exact, 1.0, delta=2e-3)


class Questions(unittest.TestCase):
    def test_centre_of_mass(self):
        field, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.5), along([(10, 60, 0), (10, -60, 0)], flat(20, 40)), 1
        )
        self.assertTrue(np.allclose(centre_of_mass(surface(field)), [30, 15, 10], atol=0.02))
        # A half ball: its centroid lies 3/8 of the radius from the flat (Pappus).
        ball = field_of_profile(GRID, ball_nose(16, 16), np.array([20.0, 15, 2]), np.array([0.0, 0, 1]))
        half = intersection(ball, brick((0, 0, 0), (40, 30, 10)))
        self.assertAlmostEqual(centre_of_mass(surface(half))[2], 10 - 3 / 8 * 8, delta=0.01)
        with self.assertRaises(BadInput):
            centre_of_mass(surface(brick((0, 0, 0), (0, 0, 0))))

    def test_deepest_overlap(self):
        stock = brick((0, 0, 0), (40, 30, 10))
        found = deepest_overlap(stock, brick((5, 5, 9.4), (15, 15, 18)))
        self.assertAlmostEqual(found.length, 0.6, places=5)
        self.assertTrue(5 < found.place[0] < 15 and 5 < found.place[1] < 15)
        self.assertAlmostEqual(found.place[2], 9.7, places=4)
        self.assertIsNone(deepest_overlap(stock, brick((5, 5, 10), (15, 15, 18))))

    def test_thinnest_floor_and_wall(self):
        # Pocket with a floor of 1.3, and a wall of 2.2 to the side at y = 0.
        field, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.5), along([(12, 7.2, 1.3), (28, 7.2, 1.3)], flat(10, 40)), 1
        )
        floor, wall = thinnest(field, np.array([0.0, 0, 1])), thinnest(field, np.array([0.0, 1, 0]))
        self.assertAlmostEqual(floor.length, 1.3, places=5)
        self.assertAlmostEqual(wall.length, 2.2, places=5)
        self.assertLess(wall.place[1], 2.2)
        # The same plate leaning 30°: asked square to it, the floor is as thin.
        lean = math.radians(30)
        turn = manifold3d.Manifold.cube((40, 30, 3)).rotate((0, 30, 0)).translate((0, 0, 25))
        plate = field_of_mesh(grid_around(np.zeros(3), np.array([40.0, 30, 30]), 0.5), mesh_of(turn))
        seen = thinnest(plate, np.array([math.sin(lean), 0, math.cos(lean)]))
        self.assertAlmostEqual(seen.length, 3.0, delta=0.02)

    def test_a_slug_is_a_piece(self):
        start = block((0, 0, 0), (40, 30, 20), 0.5)
        ring = [(20 + 8 * math.cos(a), 15 + 8 * math.sin(a), -1) for a in np.linspace(0, 2 * math.pi, 73)]
        whole, _ = cut(start, along(ring[:60], flat(4, 60)), 1)
        self.assertEqual(len(pieces(whole)), 1)
        freed, _ = cut(start, along(ring, flat(4, 60)), 1)
        found = pieces(freed)
        self.assertEqual(len(found), 2)
        self.assertAlmostEqual(found[1].volume / (math.pi * 36 * 20), 1.0, delta=0.01)
        self.assertTrue(np.allclose(found[1].high - found[1].low, [12, 12, 20], atol=0.6))

    def test_first_hit(self):
        mesh = box(np.zeros(3), np.array([40.0, 30, 20]))
        found = first_hit(mesh, np.array([10.0, 12, 50]), np.array([0, 0, -1.0]))
        self.assertAlmostEqual(found.length, 30)
        self.assertTrue(np.allclose(found.place, [10, 12, 20]))
        slanted = first_hit(mesh, np.array([-10.0, 15, 30]), np.array([1.0, 0, -1]))
        self.assertTrue(np.allclose(slanted.place, [0, 15, 20]))  # the edge itself
        self.assertIsNone(first_hit(mesh, np.array([50.0, 12, 50]), np.array([0, 0, -1.0])))
        self.assertIsNone(first_hit(mesh, np.array([10.0, 12, 50]), np.array([0, 0, 1.0])))

    def test_first_hit_on_the_stock(self):
        field, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.5), along([(-9, 15, 12.3), (50, 15, 12.3)], flat(8, 40)), 1
        )
        mesh = simplified(surface(field), 0.01)
        self.assertAlmostEqual(
            first_hit(mesh, np.array([20.0, 15, 99]), np.array([0, 0, -1.0])).place[2], 12.3, places=3
        )

    def test_slices_are_regions(self):
        field, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.25), along([(-9, 15, 8), (50, 15, 8)], slot_cutter(12, 4)), 1
        )
        mesh = simplified(surface(field), 0.01)
        across, _ = slice_at(mesh, np.array([20.0, 0, 0]), np.array([1.0, 0, 0]))
        self.assertAlmostEqual(across.area, 30 * 20 - 12 * 4, delta=0.5)
        self.assertEqual(sum(len(part.interiors) for part in across.geoms), 1)
        level, frame = slice_at(mesh, np.array([0.0, 0, 10]), np.array([0.0, 0, 1]))
        self.assertAlmostEqual(level.area, 40 * (30 - 12), delta=0.5)
        self.assertEqual(len(level.geoms), 2)
        self.assertTrue(np.allclose(frame @ [0, 0, 10, 1], [*frame[:2] @ [0, 0, 10, 1], 0, 1]))
        slanted, _ = slice_at(mesh, np.array([20.0, 15, 2]), np.array([0.0, 0, 1]) + [0.05, 0, 0])
        self.assertAlmostEqual(slanted.area, 1200 * math.sqrt(1 + 0.05**2), delta=1.0)

    def test_islands_stay_in_slices(self):
        ring = minus(brick((0, 0, 0), (40, 30, 20)), brick((5, 5, 0), (35, 25, 20)))
        mesh = simplified(surface(union(ring, brick((15, 10, 0), (25, 20, 20)))), 0.01)
        level, _ = slice_at(mesh, np.array([0.0, 0, 10]), np.array([0.0, 0, 1]))
        self.assertAlmostEqual(level.area, 1200 - 600 + 100, delta=1.0)


class Surfaces(unittest.TestCase):
    """Joined cells move the surface by less than was allowed."""

    @settings(max_examples=12, deadline=None)
    @given(st.floats(0.005, 0.12), st.integers(0, 10_000))
    def test_joined_cells_stay_closed_and_near(self, tolerance, seed):
        rng = np.random.default_rng(seed)
        spots = rng.uniform([2, 2, 4], [38, 28, 18], (5, 3))
        tool = (flat(7, 40), ball_nose(9, 40), slot_cutter(12, 3))[seed % 3]
        field, _ = cut(block((0, 0, 0), (40, 30, 20), 0.5), along(spots, tool), 3)
        fine, joined = surface(field), surface(field, tolerance)
        self.assertEqual(to_solid(joined).status(), manifold3d.Error.NoError)
        self.assertLess(len(joined.triangles), len(fine.triangles) / 2.5)
        area = 2 * (40 * 30 + 40 * 20 + 30 * 20) + 2000
        self.assertLess(abs(volume(fine) - volume(joined)), tolerance * area)
        self.assertEqual(set(np.unique(joined.label)) - {0}, set(np.unique(fine.label)) - {0})

    def test_planes_stay_plane_and_edges_sharp(self):
        field, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.5), along([(-9, 15, 8.3), (50, 15, 8.3)], flat(10, 40)), 3
        )
        mesh = surface(field, 0.02)
        floor = mesh.vertices[
            (np.abs(mesh.vertices[:, 2] - 8.3) < 0.2) & (np.abs(mesh.vertices[:, 1] - 15) < 5.2)
        ]
        self.assertGreater(len(floor), 8)
        self.assertLess(np.abs(floor[:, 2] - 8.3).max(), 1e-3)
        # The slot's edge in the floor: every vertex near it lies on it within a quarter cell.
        edge = floor[np.abs(floor[:, 1] - 20) < 0.4]
        self.assertLess(np.abs(edge[:, 1] - 20).max(), 0.125)


if __name__ == "__main__":
    unittest.main()
