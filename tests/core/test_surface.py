"""The stock's surface: closed, plane where planes are, sharp at edges, and knowing its makers."""

from __future__ import annotations

import io
import math
import unittest

import manifold3d
import numpy as np
import trimesh

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import Mesh, box, crease_lines, joined, mesh_of, to_stl, volume
from pelvrak.core.route.pieces import JOIN_MM, SIMPLIFY_MM
from pelvrak.core.stock.compare import Comparison, compare, signed_distance
from pelvrak.core.stock.cut import cut
from pelvrak.core.stock.field import bundle_volumes, error_of, grid_around
from pelvrak.core.stock.shapes import field_of_mesh, volume_without
from pelvrak.core.stock.surface import removed_between, simplified, surface
from tests.solids import along, block, flat, pointed


def pocketed(cell: float = 0.5):
    field = block((0, 0, 0), (60, 40, 20), cell)
    field, _ = cut(field, along([(15.1, 12.2, 9.7), (44.3, 12.2, 9.7), (44.3, 27.9, 9.7)], flat(10)), 257)
    field, _ = cut(field, along([(12, 31, 30), (12, 31, -5)], pointed(6, 118)), 258)
    return field


def to_trimesh(mesh: Mesh) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)


class Surface(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.field = pocketed()
        cls.full = surface(cls.field)
        cls.light = simplified(cls.full, 0.02)

    def test_watertight_and_oriented_by_trimesh(self):
        for mesh in (self.full, self.light):
            seen = to_trimesh(mesh)
            self.assertTrue(seen.is_watertight)
            self.assertTrue(seen.is_winding_consistent)
            self.assertAlmostEqual(seen.volume, volume(mesh), places=3)

    def test_planes_are_plane(self):
        """The pocket floor and the block's top to 0.001 mm."""
        corners = self.full.vertices[self.full.triangles]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
        up = normal[:, 2] > 0.999
        floor = up & (self.full.label == 257)
        self.assertGreater(floor.sum(), 1000)
        self.assertLess(np.abs(corners[floor][:, :, 2] - 9.7).max(), 1e-3)
        top = up & (self.full.label == 0) & (corners[:, :, 2].min(axis=1) > 10)
        self.assertGreater(top.sum(), 1000)
        self.assertLess(np.abs(corners[top][:, :, 2] - 20).max(), 1e-3)

    def test_edges_are_sharp(self):
        """A quarter of a cell at the most from the block's upper edges."""
        near = self.full.vertices[
            (np.abs(self.full.vertices[:, 0]) < 0.3) & (self.full.vertices[:, 2] > 19.7)
        ]
        near = near[(near[:, 1] > 1) & (near[:, 1] < 39)]
        on_edge = near[np.argsort(np.hypot(near[:, 0], near[:, 2] - 20))[:60]]
        self.assertLess(np.hypot(on_edge[:, 0], on_edge[:, 2] - 20).max(), 0.5 / 4)

    def test_simplified_is_light_and_near(self):
        self.assertLess(len(self.light.triangles), len(self.full.triangles) / 20)
        away = signed_distance(self.light.vertices, self.full)
        self.assertLess(np.abs(away).max(), 0.02)
        self.assertAlmostEqual(volume(self.light) / volume(self.full), 1.0, delta=1e-3)

    def test_every_triangle_knows_its_maker(self):
        self.assertEqual(set(np.unique(self.light.label)), {0, 257, 258})
        # The hole's wall has the drill's number: points 3 mm from its axis, well inside.
        middle = self.light.vertices[self.light.triangles].mean(axis=1)
        wall = (
            (np.abs(np.hypot(middle[:, 0] - 12, middle[:, 1] - 31) - 3) < 0.05)
            & (middle[:, 2] > 2)
            & (middle[:, 2] < 18)
        )
        self.assertGreater(wall.sum(), 10)
        self.assertEqual(set(self.light.label[wall]), {258})

    def test_stl_is_read_by_trimesh(self):
        seen = trimesh.load(io.BytesIO(to_stl(self.light, "test")), file_type="stl")
        self.assertTrue(seen.is_watertight)
        self.assertAlmostEqual(seen.volume, volume(self.light), delta=0.5)

    def test_glb_is_read_by_trimesh(self):
        data = to_glb(self.light, crease_lines(self.light))
        scene = trimesh.load(io.BytesIO(data), file_type="glb")
        bounds = scene.bounds
        np.testing.assert_allclose(bounds, [[0, 0, 0], [60, 40, 20]], atol=0.002)

    def test_creases_are_the_edges_of_a_box(self):
        self.assertEqual(len(crease_lines(box([0, 0, 0], [1, 2, 3]))), 12)


class Removed(unittest.TestCase):
    """What lies between two surfaces is the difference of the whole ones, found where they differ."""

    def test_as_two_whole_surfaces_say(self):
        stock = block((0, 0, 0), (60, 40, 20), 0.5)
        cuts = (
            along([(15.1, 12.2, 9.7), (44.3, 12.2, 9.7), (44.3, 27.9, 9.7)], flat(10)),
            along([(12, 31, 30), (12, 31, -5)], pointed(6, 118)),
            along([(3.3, -8, 16.4), (3.3, 48, 12.1)], flat(4)),
            along([(12, 31, 30), (12, 31, 4)], flat(5)),  # within the drilled hole: nothing
        )
        for number, sweep in enumerate(cuts):
            after, _ = cut(stock, sweep, 257 + number)
            for tolerance in (0.0, JOIN_MM):
                whole = volume(surface(stock, tolerance)) - volume(surface(after, tolerance))
                self.assertAlmostEqual(removed_between(stock, after, tolerance), whole, places=3)
            stock = after
        self.assertEqual(removed_between(stock, stock), 0.0)

    def test_a_slot_and_a_slab(self):
        """A slab of 60 × 40 × 2.3, and half a slot of 10 wide with its round end: plane geometry."""
        stock = block((0, 0, 0), (60, 40, 20), 0.5)
        top = [(-10, y, 17.7) for y in (0, 8, 16, 24, 32, 40)]
        faced, _ = cut(stock, along([p for q in top for p in (q, (70, q[1], 17.7))], flat(12)), 1)
        self.assertAlmostEqual(removed_between(stock, faced, JOIN_MM), 60 * 40 * 2.3, delta=0.05)
        slot, _ = cut(faced, along([(-10, 20.2, 10), (30, 20.2, 10)], flat(10)), 2)
        exact = (30 * 10 + math.pi * 25 / 2) * 7.7
        self.assertAlmostEqual(removed_between(faced, slot, JOIN_MM) / exact, 1.0, delta=1e-3)


class FromMesh(unittest.TestCase):
    """Meshes to fields, against trimesh's exact volumes."""

    def test_bodies(self):
        for name, body in (
            ("sphere", trimesh.creation.icosphere(subdivisions=4, radius=12)),
            ("ring", trimesh.creation.annulus(6, 14, 9)),
            ("capsule", trimesh.creation.capsule(20, 7)),
        ):
            with self.subTest(name):
                mesh = Mesh(body.vertices, body.faces.astype(np.int64), np.zeros(len(body.faces), np.int64))
                grid = grid_around(mesh.vertices.min(axis=0), mesh.vertices.max(axis=0), 0.25)
                field = field_of_mesh(grid, mesh)
                for seen in bundle_volumes(field):
                    self.assertAlmostEqual(seen / body.volume, 1.0, delta=3e-3)

    def test_own_surface_comes_back(self):
        field = pocketed(1.0)
        again = field_of_mesh(field.grid, surface(field))
        self.assertLess(volume_without(field, again, 0.01) + volume_without(again, field, 0.01), 3e-4 * 48000)

    def test_open_mesh_is_refused(self):
        closed = box([0, 0, 0], [10, 10, 10])
        torn = Mesh(closed.vertices, closed.triangles[1:], closed.label[1:])
        with self.assertRaises(BadInput) as caught:
            field_of_mesh(grid_around(np.zeros(3), np.full(3, 10.0), 0.5), torn)
        self.assertEqual(caught.exception.code, "mesh.open")

    def test_overlapping_boxes_count_once(self):
        two = joined([box([0, 0, 0], [10, 10, 10]), box([5, 0, 0], [15, 10, 10])])
        field = field_of_mesh(grid_around(np.zeros(3), np.array([15.0, 10, 10]), 0.5), two)
        self.assertAlmostEqual(bundle_volumes(field)[2], 1500, delta=1e-6)


class Compare(unittest.TestCase):
    """Stock against part where the answer is known."""

    def test_left_on_and_cut_into(self):
        part = box([0, 0, 0], [60, 40, 20])
        field = block((0, 0, 0), (60, 40, 21.5), 0.5)  # 1.5 mm left on top
        field, _ = cut(field, along([(30, 20, 40), (30, 20, 12)], flat(10)), 1)  # 8 mm into the part
        seen = compare(field, surface(field), part)
        self.assertAlmostEqual(seen.max_left_mm, 1.5, places=3)
        # The deepest point of the bore is as far from the part's surface as its nearest side: the top, 8 mm.
        self.assertAlmostEqual(seen.max_gouge_mm, 8.0, delta=0.01)
        self.assertAlmostEqual(seen.gouge_volume_mm3 / (math.pi * 25 * 8), 1.0, delta=5e-3)
        self.assertAlmostEqual(seen.left_volume_mm3 / ((2400 - math.pi * 25) * 1.5), 1.0, delta=5e-3)

    def test_a_wall_cut_away_is_found_from_the_part(self):
        part = joined([box([0, 0, 0], [20, 20, 2]), box([0, 0, 2], [1, 20, 12])])
        solid = trimesh.boolean.union(
            [trimesh.creation.box(bounds=b) for b in ([[0, 0, 0], [20, 20, 2]], [[0, 0, 1], [1, 20, 12]])]
        )
        part = Mesh(
            np.array(solid.vertices), np.array(solid.faces, np.int64), np.zeros(len(solid.faces), np.int64)
        )
        field = block((0, 0, 0), (20, 20, 2), 0.5)
        self.assertAlmostEqual(compare(field, surface(field), part).max_gouge_mm, 10.0, delta=0.01)

    def seen(self, part: manifold3d.Manifold, stock: manifold3d.Manifold) -> Comparison:
        field = field_of_mesh(grid_around(np.zeros(3), np.array([40.0, 40, 30]), 0.5), mesh_of(stock))
        return compare(field, simplified(surface(field, JOIN_MM), SIMPLIFY_MM - JOIN_MM), mesh_of(part))

    def test_a_sliver_between_the_rays_is_no_gouge(self):
        """Where a slope of 80° meets a bore's mouth an edge of 10° stands: it is there, and its picture falls
        short of it.
        """
        bore = manifold3d.Manifold.cylinder(80, 6, 6, 128).translate([20, 20, -20])
        slope = manifold3d.Manifold.cube([80, 80, 40]).translate([-40, -40, 0]).rotate([0, 80, 0])
        part = manifold3d.Manifold.cube([40, 40, 30]) - bore - slope.translate([24.8, 20, 24])
        stated = error_of(0.5) + SIMPLIFY_MM
        seen = self.seen(part, part)
        self.assertGreater(seen.undrawn_mm, 0.5)
        self.assertLess(seen.max_gouge_mm, stated)
        self.assertLess(seen.max_left_mm, stated)
        edge = seen.undrawn_at
        broken = self.seen(part, part - manifold3d.Manifold.sphere(1.5, 64).translate(list(edge)))
        self.assertGreater(broken.max_gouge_mm, 0.7)
        # The same edge left on a part without it.
        left = self.seen(part - manifold3d.Manifold.sphere(1.5, 64).translate(list(edge)), part)
        self.assertGreater(left.max_left_mm, 0.7)

    def test_a_broken_edge_by_its_depth(self):
        """An edge of 90° broken by c is c/√2 deep, cut away or left on."""
        cube = manifold3d.Manifold.cube([40, 40, 30])
        for c in (0.5, 1.0):
            ring = [(0, 0), (40, 0), (40, 30 - c), (40 - c, 30), (0, 30)]
            broken = manifold3d.CrossSection([ring]).extrude(40).rotate([90, 0, 0]).translate([0, 40, 0])
            self.assertAlmostEqual(self.seen(cube, broken).max_gouge_mm, c / math.sqrt(2), delta=0.01)
            self.assertAlmostEqual(self.seen(broken, cube).max_left_mm, c / math.sqrt(2), delta=0.01)


if __name__ == "__main__":
    unittest.main()
