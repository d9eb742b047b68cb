"""Clearing by layers: what it leaves against Open CASCADE solids, and how wide its passes cut."""

from __future__ import annotations

import math
import unittest

import numpy as np
from shapely import LineString, Point, Polygon, box, unary_union

from pelvrak.core.cutting.fronts import Cleared, Cut, core, steady_fronts
from pelvrak.core.cutting.operations import Clearing
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import transformed
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.stock.above import region_above
from pelvrak.core.stock.cut import CUT
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from tests import solids
from tests.core.planning_bench import model, plane_at, run
from tests.core.test_operations import clean, rounded
from tests.solids import block

WHOLE = solids.box((0, 0, 0), (60, 40, 20))


def clearing(**told):
    return Clearing(**{"id": "c", "name": "clear", "tool": "em10", "step_down": 12, "step_over": 0.1, **told})


def cuts(done):
    """Which straight moves cut level, their lengths and widths of cut."""
    lines = chords(done.job.path)
    length = np.linalg.norm(lines.ends - lines.starts, axis=1)
    level = (lines.what == CUT) & (np.abs(lines.ends[:, 2] - lines.starts[:, 2]) < 1e-9)
    return level & (done.hits.removed > 1e-3 * length), length, done.hits.width


def goes_down_in_material(done):
    # A wall counts as clear within 0.02 mm: 10 mm down along one takes a tenth of a mm³.
    lines = chords(done.job.path)
    down = lines.starts[:, 2] - lines.ends[:, 2] > 1e-6
    return bool((done.hits.removed[down] > 0.5).any())


class Above(unittest.TestCase):
    """The region over which stock stands, against shapely polygons of the same solid."""

    def test_a_turned_block_with_a_blind_hole(self):
        part = model(solids.minus(WHOLE, solids.cylinder((30, 20, 8), 9, 20)))
        angle = math.radians(27)
        turn = np.eye(4)
        turn[:2, :2] = [[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]]
        mesh = transformed(part.mesh, turn)
        field = field_of_mesh(grid_around(mesh.vertices.min(0), mesh.vertices.max(0), 0.5), mesh)
        outline = Polygon(np.array([[0, 0], [60, 0], [60, 40], [0, 40]]) @ turn[:2, :2].T)
        hole = Point(turn[:2, :2] @ [30, 20]).buffer(9, quad_segs=200)
        # Planes are exact however they stand; a chord of a cell across R9 is off by 0.5²/(8·9).
        self.assertAlmostEqual(region_above(field, 5.0).symmetric_difference(outline).area, 0.0, delta=1e-3)
        above = region_above(field, 12.0)
        self.assertLess(above.hausdorff_distance(outline - hole), 0.01)
        self.assertTrue(region_above(field, 20.1).is_empty)


class Fronts(unittest.TestCase):
    """Passes in a plane region, against shapely."""

    def swept(self, room, begun, cut, stock):
        fronts = list(steady_fronts(room, begun, room, stock, cut))
        return unary_union(
            [begun.buffer(cut.radius)] + [f.line.buffer(cut.radius, quad_segs=32) for f in fronts]
        )

    def test_all_that_the_cutter_reaches_is_cut_and_nothing_else(self):
        cut = Cut(1.0, 5.0)
        pocket = unary_union([box(0, 0, 60, 22), box(20, 0, 42, 50)])
        room = pocket.buffer(-5.0)
        middle, radius, inner = core(room, 4.5, cut)
        begun = middle.buffer(radius)
        swept = self.swept(inner, begun, cut, pocket).union(self.swept(room, inner, cut, pocket))
        reached = room.buffer(5.0, quad_segs=32)
        self.assertLess(reached.difference(swept).area, 0.3)
        self.assertLess(swept.difference(reached.buffer(1e-3)).area, 1e-3)

    def test_a_slot_is_cut_in_arcs_across_it(self):
        # A slot 14 wide and a Ø10 cutter: straight on, it would stand in full width.
        cut, room = Cut(1.0, 5.0), box(0, 0, 80, 4)
        fronts = list(steady_fronts(room, box(0, 0, 2, 4), room, box(-5, -5, 85, 9), cut))
        across = [front for front in fronts if front.cut is not None]
        self.assertGreater(len(across), 60)
        self.assertLess(max(front.line.length for front in across), 8.0)

    def test_on_a_straight_wall_passes_lie_a_width_apart(self):
        cut, room = Cut(1.0, 5.0), box(0, 0, 100, 30)
        stock = box(-50, 5, 150, 40)
        fronts = list(steady_fronts(room, box(0, -1, 100, 0.01), room, stock, cut))
        middles = sorted(
            float(front.line.interpolate(0.5, normalized=True).y)
            for front in fronts
            if front.cut is not None and front.line.length > 60
        )
        self.assertGreater(len(middles), 20)
        self.assertTrue(np.allclose(np.diff(middles), cut.step, atol=0.03), np.diff(middles))


class WaysBack(unittest.TestCase):
    def test_round_two_corners_by_the_shortest_way(self):
        """Over a rib of 2 mm, 8 high: twice 3 aside and 7 up, and along its top."""
        around = box(0, 0, 10, 10).difference(box(4, -1, 6, 8))
        way = Cleared(around).way(np.array([1.0, 1.0]), np.array([9.0, 1.0]))
        assert way is not None
        self.assertAlmostEqual(LineString(way).length, 2 * math.hypot(3, 7) + 2, delta=0.1)
        self.assertLess(LineString(way).difference(around).length, 1e-6)

    def test_past_a_hole_and_into_another_piece(self):
        ring = Point(0, 0).buffer(10, quad_segs=90).difference(Point(0, 0).buffer(4, quad_segs=90))
        way = Cleared(ring).way(np.array([-8.0, 0.0]), np.array([8.0, 0.0]))
        assert way is not None
        # Two tangents to the hole and the arc between them.
        exact = 2 * math.sqrt(8**2 - 4**2) + 4 * (math.pi - 2 * math.acos(4 / 8))
        self.assertAlmostEqual(LineString(way).length, exact, delta=0.1)
        apart = box(0, 0, 2, 2).union(box(4, 0, 6, 2))
        self.assertIsNone(Cleared(apart).way(np.array([1.0, 1.0]), np.array([5.0, 1.0])))


class Layers(unittest.TestCase):
    """What is left against Open CASCADE."""

    def near(self, seen, exact, share=1e-3):
        self.assertAlmostEqual(seen / exact, 1.0, delta=share)

    @classmethod
    def setUpClass(cls):
        cls.pocket = clean(solids.minus(WHOLE, rounded((10, 8, 8), (50, 32, 30), 6)))
        cls.part = model(cls.pocket)

    def test_a_pocket(self):
        told = {"leave_side": 0.0, "leave_floor": 0.0, "bottom": plane_at(self.part.part, 8)}
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.125), clearing(**told))
        self.near(done.volume, solids.volume(self.pocket))
        self.assertEqual(done.hits.rapid.max(), 0)
        cutting, length, width = cuts(done)
        total = length[cutting].sum()
        # The stated width of 1 mm is kept: what a ray more or less in the rays' distance makes of it aside.
        self.assertLess(length[cutting & (width > 1.25)].sum() / total, 0.15)
        # Only the round on the floor after the helix is wider.
        self.assertLess(length[cutting & (width > 2.2)].sum(), 2 * math.pi * 4.5 + 5)

    def test_what_stays_on_walls_and_floor(self):
        told = {"leave_side": 0.5, "leave_floor": 0.3, "bottom": plane_at(self.part.part, 8)}
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.25), clearing(**told))
        smaller = rounded((10.5, 8.5, 8.3), (49.5, 31.5, 30), 5.5)
        self.near(done.volume, solids.volume(solids.minus(WHOLE, smaller)))

    def test_round_a_boss_from_outside(self):
        shape = clean(rounded((15, 10, 0), (45, 30, 20), 5))
        done = run(
            model(shape),
            block((0, 0, 0), (60, 40, 20), 0.125),
            clearing(leave_side=0.0, leave_floor=0.0, step_down=25),
        )
        self.near(done.volume, solids.volume(shape))
        self.assertFalse(goes_down_in_material(done))
        cutting, length, width = cuts(done)
        self.assertLess(length[cutting & (width > 1.1)].sum() / length[cutting].sum(), 0.05)
        within = length[cutting & (np.abs(width - 1) < 0.2)].sum() / length[cutting].sum()
        self.assertGreater(within, 0.75)

    def test_an_open_step_is_entered_from_outside(self):
        # 10 mm wide, as wide as the cutter.
        shape = solids.minus(WHOLE, solids.box((50, -1, 10), (61, 41, 21)))
        part = model(clean(shape))
        told = {"leave_side": 0.0, "leave_floor": 0.0, "bottom": plane_at(part.part, 10)}
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), clearing(**told))
        self.near(done.volume, solids.volume(shape))
        self.assertFalse(goes_down_in_material(done))

    def test_a_smaller_cutter_takes_only_what_is_left(self):
        told = {"leave_side": 0.0, "leave_floor": 0.0, "bottom": plane_at(self.tight.part, 8)}
        field = block((0, 0, 0), (60, 40, 20), 0.2)
        first = run(self.tight, field, clearing(**told))
        second = run(self.tight, first.field, clearing(**told, tool="em6", id="d"))
        self.near(second.volume, solids.volume(self.tight_shape))
        cutting, length, _ = cuts(second)
        alone = run(self.tight, field, clearing(**told, tool="em6"))
        whole, lengths, _ = cuts(alone)
        self.assertLess(length[cutting].sum(), 0.15 * lengths[whole].sum())
        third = run(self.tight, second.field, clearing(**told, tool="em6"))
        self.assertEqual([found.code for found in third.job.findings], ["cut.nothing"])

    @property
    def tight_shape(self):
        return clean(solids.minus(WHOLE, rounded((10, 8, 8), (50, 32, 30), 3.5)))

    @property
    def tight(self):
        return model(self.tight_shape)

    def test_floors_on_the_way_down_are_levels(self):
        shape = solids.minus(
            WHOLE, solids.box((20, -1, 13.3), (61, 41, 21)), solids.box((40, -1, 6), (61, 41, 21))
        )
        part = model(clean(shape))
        told = {"leave_side": 0.0, "leave_floor": 0.0, "bottom": plane_at(part.part, 6), "step_over": 0.4}
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), clearing(**told))
        self.near(done.volume, solids.volume(shape))

    def test_rings_leave_the_same(self):
        told = {"leave_side": 0.0, "leave_floor": 0.0, "bottom": plane_at(self.part.part, 8), "way": "rings"}
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.25), clearing(**told, step_over=0.4))
        self.near(done.volume, solids.volume(self.pocket))
        self.assertEqual(done.hits.rapid.max(), 0)


class Boundaries(unittest.TestCase):
    """Within a box, over faces, from a height."""

    @classmethod
    def setUpClass(cls):
        cls.shape = clean(solids.minus(WHOLE, solids.box((-1, -1, 12), (61, 41, 21))))
        cls.part = model(cls.shape)
        cls.field = block((0, 0, 0), (60, 40, 20), 0.25)

    def removed(self, **told):
        done = run(self.part, self.field, clearing(leave_side=0.0, leave_floor=0.0, step_over=0.5, **told))
        return 60 * 40 * 20 - done.volume

    def test_a_box(self):
        told = {"bottom": plane_at(self.part.part, 12), "within": "box", "box": (10, 10, 40, 30)}
        inside = self.removed(**told, limit="inside")
        # The cutter's round leaves its corners: 4 − π times the square of its radius.
        self.assertAlmostEqual(inside / ((30 * 20 - (4 - math.pi) * 25) * 8), 1.0, delta=2e-3)
        on = self.removed(**told, limit="on")
        self.assertAlmostEqual(on / ((40 * 30 - (4 - math.pi) * 25) * 8), 1.0, delta=2e-3)

    def test_over_faces(self):
        shape = solids.minus(WHOLE, solids.box((30, -1, 12), (61, 41, 21)))
        part = model(clean(shape))
        faces = (plane_at(part.part, 12),)
        done = run(
            part,
            self.field,
            clearing(leave_side=0.0, leave_floor=0.0, step_over=0.5, within="faces", faces=faces),
        )
        self.assertAlmostEqual(done.volume / solids.volume(shape), 1.0, delta=1e-3)

    def test_from_a_height_on(self):
        removed = self.removed(bottom=plane_at(self.part.part, 12), top=15.0)
        self.assertAlmostEqual(removed / (60 * 40 * 8), 1.0, delta=1e-3)

    def test_refused(self):
        for told in ({"within": "box"}, {"within": "box", "box": (5, 5, 5, 9)}, {"within": "faces"}):
            with self.assertRaises(BadInput) as refused:
                self.removed(**told)
            self.assertEqual(refused.exception.code, "cut.boundary")
        wall = next(f for f in self.part.part.faces if f.normal and abs(f.normal[2]) < 1e-9)
        with self.assertRaises(BadInput):
            self.removed(within="faces", faces=(ref_to(wall),))

    def test_a_way_over_a_wall_is_lifted(self):
        """No pass and no way between passes goes where the part is."""
        shape = clean(solids.minus(WHOLE, rounded((10, 8, 8), (50, 32, 30), 6)))
        part = model(shape)
        done = run(part, self.field, clearing(bottom=plane_at(part.part, 8), step_over=0.3, leave_side=0.3))
        lines = chords(done.job.path)
        low = np.minimum(lines.starts[:, 2], lines.ends[:, 2]) < 19.9
        room = box(10, 8, 50, 32).buffer(-5.29)
        self.assertTrue(low.any())
        for start, end in zip(lines.starts[low], lines.ends[low], strict=True):
            self.assertTrue(room.buffer(0.01).covers(LineString([start[:2], end[:2] + 1e-9])))


if __name__ == "__main__":
    unittest.main()
