"""Chamfers along picked edges: their volumes by closed form, and walls beside them."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.cutting.operations import Chamfering
from pelvrak.core.cutting.repeated import shared_out
from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import cutter_profile, tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.part import EdgeRef, ref_to
from pelvrak.core.stock.compare import Meant, compare
from pelvrak.core.stock.cut import CUT, Sweep
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from pelvrak.core.stock.surface import surface
from tests import solids
from tests.core.planning_bench import JOINED_MM, enclosed, model, run
from tests.core.test_operations import clean, rounded

WHOLE = solids.box((0, 0, 0), (60, 40, 20))


def edges_at(part, wanted):
    """References to the edges all points of which a function wants."""
    return tuple(
        EdgeRef(edge=edge.number, at=tuple(np.mean(edge.points, axis=0)))
        for edge in part.part.edges
        if edge.points and all(wanted(np.array(point)) for point in edge.points)
    )


def chamfering(part, wanted, **told):
    return Chamfering(
        **{"id": "c", "name": "deburr", "tool": "ch10", "edges": edges_at(part, wanted), **told}
    )


class Chamfers(unittest.TestCase):
    def cut(self, shape, wanted, **told):
        part = model(clean(shape))
        mesh = part.mesh
        field = field_of_mesh(grid_around(mesh.vertices.min(0), mesh.vertices.max(0), 0.2), mesh)
        done = run(part, field, chamfering(part, wanted, **told))
        return done, enclosed(field) - done.volume

    def test_round_a_block_with_round_corners(self):
        shape = rounded((5, 5, 0), (55, 35, 20), 8)
        done, taken = self.cut(shape, lambda p: abs(p[2] - 20) < 1e-6, width=1.0)
        # Triangles along the straights, and rings of them (Pappus) round the corners.
        exact = 0.5 * 2 * (34 + 14) + 0.5 * 2 * math.pi * (8 - 1 / 3)
        self.assertAlmostEqual(taken / exact, 1.0, delta=0.03)
        self.assertEqual(done.job.findings, [])
        self.assertLess(done.hits.rapid.max(), 1e-6)

    def test_the_mouth_of_a_bore(self):
        shape = solids.minus(WHOLE, solids.cylinder((30, 20, -1), 9, 30))
        done, taken = self.cut(
            shape, lambda p: abs(p[2] - 20) < 1e-6 and math.hypot(p[0] - 30, p[1] - 20) < 9.1, width=0.8
        )
        exact = 0.8**2 / 2 * 2 * math.pi * (9 + 0.8 / 3)
        self.assertAlmostEqual(taken / exact, 1.0, delta=0.04)
        self.assertEqual(done.job.findings, [])

    def test_one_straight_edge(self):
        done, taken = self.cut(WHOLE, lambda p: abs(p[2] - 20) < 1e-6 and abs(p[1]) < 1e-6, width=1.0)
        self.assertAlmostEqual(taken / (0.5 * 60), 1.0, delta=0.04)
        # In climb: seen from above the material, y > 0, on the right of the way: towards -x.
        level = [m for m in done.job.path.moves if m.kind == "line" and abs(m.end[1] + 0.5) < 1e-3]
        self.assertLess(level[-1].end[0], level[0].end[0])

    def test_a_wall_beside_is_not_touched(self):
        # A step 20 wide and 8 lower; its outer edge ends at a rib across it.
        shape = solids.plus(
            solids.minus(WHOLE, solids.box((-1, -1, 12), (61, 10, 21))), solids.box((28, 0, 12), (32, 10, 20))
        )
        done, taken = self.cut(shape, lambda p: abs(p[2] - 12) < 1e-6 and abs(p[1]) < 1e-6, width=1.0)
        codes = [found.code for found in done.job.findings]
        self.assertEqual(set(codes), {"cut.edge_left"})
        # The rib is 4 mm thick; beside it the cutter stands 5 mm wide, 0.5 off the edge's line.
        left = sum(found.measured for found in done.job.findings)
        self.assertAlmostEqual(left, 2 * (5 + 0.05), delta=0.5)
        self.assertAlmostEqual(taken / (0.5 * (56 - left)), 1.0, delta=0.06)

    def test_a_chamfer_that_is_not_drawn_is_no_gouge_where_it_is_meant(self):
        done, _ = self.cut(WHOLE, lambda p: abs(p[2] - 20) < 1e-6, width=0.5)
        mesh, lines = model(WHOLE).mesh, chords(done.job.path)
        plainly = compare(done.field, surface(done.field, JOINED_MM), mesh)
        self.assertAlmostEqual(plainly.max_gouge_mm, 0.5 / math.sqrt(2), delta=0.08)
        feeds = lines.what == CUT
        sweep = Sweep(
            lines.starts[feeds],
            lines.ends[feeds],
            lines.what[feeds],
            UP,
            cutter_profile(tool_shelf()["ch10"]),
        )
        meant = compare(done.field, surface(done.field, JOINED_MM), mesh, [Meant(sweep, 257)])
        self.assertLess(meant.max_gouge_mm, 0.02)
        self.assertLess(meant.gouge_volume_mm3, 1.0)
        # Meant and not cut, it is left on.
        fresh = field_of_mesh(done.field.grid, mesh)
        self.assertGreater(compare(fresh, mesh, mesh, [Meant(sweep, 257)]).left_volume_mm3, 10.0)

    def test_chamfers_that_are_drawn_are_cut_as_wide_as_drawn(self):
        """Round a block with round corners, against Open CASCADE's solid of it."""
        plain = clean(rounded((5, 5, 0), (55, 35, 20), 8))
        shape = clean(solids.chamfered(plain, 1.0, lambda at: abs(at[2] - 20) < 1e-6))
        part, raw = model(shape), model(plain).mesh
        found = features_of(part).chamfers
        self.assertEqual(len(found), 8)
        faces = tuple(ref_to(part.part.faces[one.face]) for one in found)
        operation = Chamfering(id="c", name="chamfer", tool="ch10", faces=faces)
        self.assertFalse(operation.means_to_cut_in())
        field = field_of_mesh(grid_around(raw.vertices.min(0), raw.vertices.max(0), 0.2), raw)
        done = run(part, field, operation)
        exact = solids.volume(plain) - solids.volume(shape)
        self.assertAlmostEqual((enclosed(field) - done.volume) / exact, 1.0, delta=0.03)
        self.assertLess(compare(done.field, surface(done.field, JOINED_MM), part.mesh).max_gouge_mm, 0.03)
        self.assertEqual(done.job.findings, [])

    def test_a_drawn_mouth_at_60(self):
        """A cone of 30° to its axis round a boss, by a cutter of 60°; by one of 90° it is refused."""
        high = 2 / math.tan(math.radians(30))
        point = solids.cone((30, 20, 20 - high), 9, 7, high)
        boss = solids.plus(solids.cylinder((30, 20, 5), 9, 15 - high), point)
        base = solids.box((0, 0, 0), (60, 40, 5))
        part = model(clean(solids.plus(base, boss)))
        raw = model(clean(solids.plus(base, solids.cylinder((30, 20, 5), 9, 15)))).mesh
        (one,) = features_of(part).chamfers
        told = {"id": "c", "name": "chamfer", "faces": (ref_to(part.part.faces[one.face]),)}
        field = field_of_mesh(grid_around(raw.vertices.min(0), raw.vertices.max(0), 0.2), raw)
        done = run(part, field, Chamfering(tool="ch6_60", **told))
        exact = math.pi * high * (81 - (81 + 63 + 49) / 3)
        self.assertAlmostEqual((enclosed(field) - done.volume) / exact, 1.0, delta=0.03)
        with self.assertRaises(BadInput) as refused:
            run(part, field, Chamfering(tool="ch10", **told))
        self.assertEqual(refused.exception.code, "cut.chamfer_angle")
        self.assertIn("a point of 60°", refused.exception.mend)
        flat = ref_to(next(f for f in part.part.faces if f.normal and f.normal[2] > 0.9))
        with self.assertRaises(BadInput) as none:
            run(part, field, Chamfering(tool="ch10", **{**told, "faces": (flat,)}))
        self.assertEqual(none.exception.code, "cut.no_chamfer")
        with self.assertRaisesRegex(ValueError, "no edge and no chamfer"):
            Chamfering(id="c", name="c", tool="ch10")

    def test_at_several_positions_each_is_cut_where_it_looks_up(self):
        """Chamfers along the top and along the bottom, the work as seated and turned over."""
        part = model(
            clean(solids.chamfered(WHOLE, 1.0, lambda at: abs(at[0] - 30) < 1e-6 and abs(at[1]) < 1e-6))
        )
        sloping = [one for one in part.part.faces if one.normal and 0.1 < abs(one.normal[2]) < 0.9]
        faces = {round(one.centre[2]): ref_to(one) for one in sloping}
        operation = Chamfering(id="c", name="chamfer", tool="ch10", faces=tuple(faces.values()))
        planes = {"": np.eye(4), "over": np.diag([1.0, -1.0, -1.0, 1.0])}
        shared, nowhere = shared_out(operation, planes, part)
        self.assertEqual(nowhere, ())
        self.assertEqual(shared[""].faces, (faces[20],))
        self.assertEqual(shared["over"].faces, (faces[0],))

    def test_refused(self):
        part = model(WHOLE)
        field = field_of_mesh(grid_around(np.zeros(3), np.array([60.0, 40, 20]), 0.5), part.mesh)
        upright = chamfering(part, lambda p: abs(p[0]) < 1e-6 and abs(p[1]) < 1e-6)
        with self.assertRaises(BadInput) as refused:
            run(part, field, upright)
        self.assertEqual(refused.exception.code, "cut.not_level")
        with self.assertRaises(BadInput) as refused:
            run(part, field, chamfering(part, lambda p: abs(p[2] - 20) < 1e-6, width=8.0))
        self.assertEqual(refused.exception.code, "cut.chamfer_too_big")

    def test_an_edge_from_which_nothing_falls_away(self):
        # The foot of a wall: material lies on either side of it.
        shape = solids.minus(WHOLE, solids.box((30, -1, 10), (61, 41, 21)))
        done, taken = self.cut(shape, lambda p: abs(p[2] - 10) < 1e-6 and abs(p[0] - 30) < 1e-6)
        self.assertEqual([found.code for found in done.job.findings], ["cut.no_edge"])
        self.assertLess(taken, 1e-6)


if __name__ == "__main__":
    unittest.main()
