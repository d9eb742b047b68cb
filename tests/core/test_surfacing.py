"""Surface finishing: how low a cutter goes, against closed forms and Open CASCADE, and what it leaves."""

from __future__ import annotations

import math
import unittest

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeVertex
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism, BRepPrimAPI_MakeSphere, BRepPrimAPI_MakeTorus
from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.TColgp import TColgp_Array2OfPnt
from shapely import LineString, box

from pelvrak.core.cutting.drop_cutter import Rounded, drop, follow, laid_out
from pelvrak.core.cutting.level_lines import LevelLines
from pelvrak.core.cutting.operations import Clearing, Surfacing
from pelvrak.core.cutting.operations.surfacing import scallop_height, step_for
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.geometry.step_reader import DEFLECTION_MM
from pelvrak.core.stock.shapes import material_top
from tests import solids
from tests.core.planning_bench import model, plane_at, run
from tests.solids import block

BALL, FLAT, BULL = Rounded(0.0, 4.0), Rounded(4.0, 0.0), Rounded(2.5, 1.5)
AROUND = np.linspace(0.1, 6.2, 40)


def rays_out(distance):
    """Places at a distance from the axis."""
    return distance * np.column_stack([np.cos(AROUND), np.sin(AROUND)])


def surfacing(**told):
    return Surfacing(**{"id": "s", "name": "finish", "tool": "bm6", **told})


class Resting(unittest.TestCase):
    """The height of the tip against closed forms; the mesh lies within DEFLECTION_MM of the shape."""

    def near(self, shape, distance, cutter, exact, steep=1.0):
        laid = laid_out(model(shape).mesh, cutter.radius)
        heights, _ = drop(laid, cutter, rays_out(distance))
        self.assertLess(np.abs(heights - exact).max(), DEFLECTION_MM * steep + 1e-6, (cutter, distance))

    def test_sphere(self):
        shape = BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 0), 12.0).Shape()
        for cutter in (BALL, FLAT, BULL):
            for distance in (0.0, 3.0, 7.0, 10.0):
                out, reach = max(0.0, distance - cutter.flat), 12.0 + cutter.corner
                exact = math.sqrt(reach**2 - out**2) - cutter.corner
                self.near(shape, distance, cutter, exact, reach / math.sqrt(reach**2 - out**2))

    def test_cone(self):
        # A frustum of radius 20 at z 0 and 5 at z 15: flanks of 45°.
        shape = solids.cone((0, 0, 0), 20, 5, 15)
        for cutter in (BALL, FLAT, BULL):
            distance = 12.0 + cutter.flat
            exact = 20.0 - 12.0 + cutter.corner * (math.sqrt(2) - 1)
            self.near(shape, distance, cutter, exact, math.sqrt(2))

    def test_torus(self):
        axis = gp_Ax2(gp_Pnt(0, 0, 0), gp_Dir(0, 0, 1))
        shape = BRepPrimAPI_MakeTorus(axis, 20.0, 5.0).Shape()
        for distance in (16.0, 20.0, 25.0):
            exact = math.sqrt(9.0**2 - (distance - 20) ** 2) - 4.0
            self.near(shape, distance, BALL, exact, 9.0 / math.sqrt(81 - (distance - 20) ** 2))

    def test_corner_and_edge_of_a_block(self):
        laid = laid_out(model(solids.box((0, 0, 0), (20, 20, 10))).mesh, 4.0)
        places = np.array([[22.0, 10.0], [22.0, 22.0], [10.0, 10.0], [25.0, 10.0]])
        heights, which = drop(laid, BALL, places)
        self.assertAlmostEqual(heights[0], 10 - (4 - math.sqrt(16 - 4)), places=9)
        self.assertAlmostEqual(heights[1], 10 - (4 - math.sqrt(16 - 8)), places=9)
        self.assertEqual(heights[2], 10.0)
        self.assertEqual((heights[3], which[3]), (-np.inf, -1))
        self.assertEqual(drop(laid, FLAT, places)[0][0], 10.0)

    def test_a_free_surface_by_open_cascade(self):
        points = TColgp_Array2OfPnt(1, 6, 1, 6)
        for i in range(1, 7):
            for j in range(1, 7):
                z = 20 + 3 * math.sin(i * 1.1) + 2.5 * math.cos(j * 0.9)
                points.SetValue(i, j, gp_Pnt(10.0 * i, 8.0 * j, z))
        face = BRepBuilderAPI_MakeFace(GeomAPI_PointsToBSplineSurface(points).Surface(), 1e-6).Face()
        shape = BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, -15)).Shape()
        laid = laid_out(model(shape).mesh, 4.0)
        rng = np.random.default_rng(3)
        places = rng.uniform([16, 14], [54, 42], (60, 2))
        heights, _ = drop(laid, BALL, places)
        for (x, y), z in zip(places, heights, strict=True):
            middle = BRepBuilderAPI_MakeVertex(gp_Pnt(float(x), float(y), float(z) + 4.0)).Vertex()
            apart = BRepExtrema_DistShapeShape(middle, shape).Value()
            self.assertAlmostEqual(apart, 4.0, delta=1.1 * DEFLECTION_MM)

    def test_between_two_places_a_line_is_no_farther_off_than_told(self):
        shape = BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 0), 12.0).Shape()
        laid = laid_out(model(shape).mesh, 4.0)
        points, _ = follow(laid, BALL, np.array([-9.0, 2.0]), np.array([9.0, 2.0]), 0.004)
        x = np.linspace(-9, 9, 4001)
        exact = np.sqrt(16.0**2 - x**2 - 4) - 4
        off = np.abs(np.interp(x, points[:, 0], points[:, 2]) - exact)
        self.assertLess(off.max(), 0.004 + 1.3 * DEFLECTION_MM)
        self.assertLess(len(points), 200)


class Levels(unittest.TestCase):
    """Lines round a shape at a height, against closed forms."""

    def test_round_a_cone(self):
        laid = laid_out(model(solids.cone((0, 0, 0), 20, 5, 15)).mesh, 4.0)
        lines = LevelLines(laid, BALL, box(-40, -40, 40, 40), 0.0)
        (line,) = lines.at(5.0, 0.004, (0.0, 90.0))
        # On a flank of 45° a ball's tip is R·(√2 − 1) higher than the flank under it.
        exact = 20.0 - 5.0 + 4.0 * (math.sqrt(2) - 1)
        out = np.hypot(*line.T)
        self.assertLess(np.abs(out - exact).max(), 0.004 + 1.5 * DEFLECTION_MM)
        middles = np.hypot(*((line[1:] + line[:-1]) / 2).T)
        self.assertLess(np.abs(middles - exact).max(), 0.008 + 1.5 * DEFLECTION_MM)
        # The part on its right: seen from above, clockwise round a hill.
        x, y = line.T
        self.assertLess(float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))), 0.0)
        self.assertEqual(lines.at(5.0, 0.004, (60.0, 90.0)), [])
        self.assertEqual(len(lines.at(5.0, 0.004, (40.0, 50.0))), 1)

    def test_round_an_upright_wall(self):
        laid = laid_out(model(solids.box((0, 0, 0), (20, 30, 10))).mesh, 4.0)
        lines = LevelLines(laid, FLAT, box(-40, -40, 60, 70), 0.5)
        (line,) = lines.at(4.0, 0.004, (0.0, 90.0))
        apart = LineString(line).distance(box(0, 0, 20, 30))
        self.assertAlmostEqual(apart, 4.0, delta=0.004)


class Scallops(unittest.TestCase):
    """What stays between lines: R − √(R² − s²/4), as handbooks of die making write it (from memory)."""

    def test_formula(self):
        self.assertAlmostEqual(scallop_height(5.0, 1.0), 5 - math.sqrt(25 - 0.25), places=12)
        self.assertAlmostEqual(scallop_height(5.0, step_for(5.0, 0.01)), 0.01, places=12)

    def test_as_cut(self):
        part = model(solids.box((0, 0, 0), (40, 30, 10)))
        field = block((0, 0, 0), (40, 30, 10.4), 0.1)
        done = run(part, field, surfacing(tool="bm10", scallop=0.05))
        left = material_top(done.field, 2, 1)[100:200, 100:300] - 10.0
        self.assertAlmostEqual(float(left.max()), 0.05, delta=0.003)
        self.assertGreater(float(left.min()), -1e-3)
        # The mean of a scallop is a third of its height: a parabola near enough.
        self.assertAlmostEqual(float(left.mean()), 0.05 / 3, delta=0.002)

    def test_an_end_mill_leaves_none(self):
        part = model(solids.box((0, 0, 0), (40, 30, 10)))
        with self.assertRaises(BadInput) as refused:
            run(part, block((0, 0, 0), (40, 30, 10.4), 0.5), surfacing(tool="em6", scallop=0.05))
        self.assertIn("step", refused.exception.mend)


class Finished(unittest.TestCase):
    """A dome on a plate, cleared and finished."""

    @classmethod
    def setUpClass(cls):
        dome = BRepPrimAPI_MakeSphere(gp_Pnt(30, 20, 4), 14.0).Shape()
        whole = solids.plus(solids.box((0, 0, 0), (60, 40, 6)), dome)
        cls.shape = solids.minus(whole, solids.box((-5, -5, -30), (65, 45, 0)))
        cls.part = model(cls.shape)
        rough = Clearing(
            id="c",
            name="c",
            tool="em10",
            step_over=0.4,
            step_down=2,
            leave_side=0.3,
            leave_floor=0.2,
            bottom=plane_at(cls.part.part, 6),
        )
        cls.roughed = run(cls.part, block((0, 0, 0), (60, 40, 18.5), 0.25), rough).field

    def cap(self):
        """The dome's face."""
        return ref_to(next(face for face in self.part.part.faces if face.kind == "sphere"))

    def test_lines_leave_the_part(self):
        done = run(self.part, self.roughed, surfacing(step=0.6, angle_deg=30))
        exact = solids.volume(self.shape)
        # A scallop of R6 … 0.6 apart is 15 µm high; the foot of the dome keeps the cutter's round.
        foot = 2 * math.pi * math.sqrt(14**2 - 4) * 3.0**2 * 0.25
        self.assertGreater(done.volume, exact * (1 - 2e-4))
        self.assertLess(done.volume, exact + 60 * 40 * 0.02 + foot)
        self.assertEqual(done.hits.rapid.max(), 0.0)
        again = run(self.part, done.field, surfacing(step=0.6, angle_deg=30))
        self.assertLess(len(again.job.path.moves), len(done.job.path.moves) / 20)

    def test_only_the_faces_chosen(self):
        done = run(self.part, self.roughed, surfacing(step=1.0, within="faces", faces=(self.cap(),)))
        lines = chords(done.job.path)
        cutting = done.hits.removed > 1e-3
        # Off the dome it does not go: its tip stays within the dome's foot and the cutter's radius.
        away = np.hypot(lines.ends[cutting, 0] - 30, lines.ends[cutting, 1] - 20)
        self.assertLess(away.max(), math.sqrt(14**2 - 4) + 3.0)
        self.assertGreater(cutting.sum(), 100)

    def test_between_two_slopes(self):
        done = run(self.part, self.roughed, surfacing(step=1.0, steep_from=20, steep_to=50))
        lines = chords(done.job.path)
        cutting = done.hits.removed > 1e-2
        away = np.hypot(lines.ends[cutting, 0] - 30, lines.ends[cutting, 1] - 20)
        # A ball of 3 on a sphere of 14: its axis stands (14 + 3)·sin(slope) from the dome's.
        self.assertGreater(away.min(), 17 * math.sin(math.radians(20)) - 0.6)
        self.assertLess(away.max(), 17 * math.sin(math.radians(50)) + 0.6)

    def test_level_by_level(self):
        done = run(
            self.part, self.roughed, surfacing(pattern="levels", step_down=1.0, steep_from=35, tool="em6")
        )
        self.assertEqual(done.hits.rapid.max(), 0.0)
        self.assertGreater(done.volume, solids.volume(self.shape) * (1 - 2e-4))
        heights = {round(move.end[2], 3) for move in done.job.path.moves if move.kind in ("cw", "ccw")}
        self.assertGreater(len(heights), 6)
        # Round the dome at each height: the sphere there, and the cutter's radius.
        for move in done.job.path.moves:
            if move.kind in ("cw", "ccw") and move.end[2] > 6.5:
                away = math.hypot(move.end[0] - 30, move.end[1] - 20)
                exact = math.sqrt(14**2 - (move.end[2] - 4) ** 2) + 3.0
                self.assertAlmostEqual(away, exact, delta=0.03)

    def test_refused(self):
        for told, word in (
            ({"steep_from": 50, "steep_to": 20}, "flatter"),
            ({"within": "faces"}, "faces"),
        ):
            with self.assertRaises(BadInput) as refused:
                run(self.part, self.roughed, surfacing(**told))
            self.assertIn(word, refused.exception.mend)
        with self.assertRaises(BadInput):
            run(self.part, self.roughed, surfacing(tool="ch10"), tool_shelf()["ch10"])


if __name__ == "__main__":
    unittest.main()
