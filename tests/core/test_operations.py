"""Operations: the volumes they leave against Open CASCADE solids of the same cuts, and what they refuse."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.cutting.operations import Drilling, Facing, Outline, Pocket
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.stock.field import same_field
from tests import solids
from tests.core.planning_bench import bore_of, enclosed, model, plane_at, run
from tests.solids import block


def rounded(low, high, radius):
    """A block whose four upright edges are rounded, as a union of Open CASCADE solids."""
    (x0, y0, z0), (x1, y1, z1) = low, high
    corners = [(x, y) for x in (x0 + radius, x1 - radius) for y in (y0 + radius, y1 - radius)]
    return solids.plus(
        solids.box((x0 + radius, y0, z0), (x1 - radius, y1, z1)),
        solids.box((x0, y0 + radius, z0), (x1, y1 - radius, z1)),
        *[solids.cylinder((x, y, z0), radius, z1 - z0) for x, y in corners],
    )


def clean(shape):
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    unify = ShapeUpgrade_UnifySameDomain(shape, True, True, True)
    unify.Build()
    return TopExp_Explorer(unify.Shape(), TopAbs_ShapeEnum.TopAbs_SOLID).Current()


class Volumes(unittest.TestCase):
    """Facing, pocket, bore and outline leave what an exact solid says, within 0.1 %."""

    def near(self, seen: float, exact: float, share: float = 1e-3):
        self.assertAlmostEqual(seen / exact, 1.0, delta=share)

    def test_facing(self):
        part = model(solids.box((0, 0, 0), (60, 40, 20)))
        done = run(part, block((-3, -3, 0), (63, 43, 23.7), 0.5), Facing(id="f", name="face", tool="em20"))
        self.near(done.volume, 66 * 46 * 20)
        self.assertEqual(done.hits.rapid.max(), 0)

    def test_pocket_with_corner_radius(self):
        cavity = rounded((10, 8, 8), (50, 32, 30), 6)
        shape = clean(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), cavity))
        part = model(shape)
        operation = Pocket(id="p", name="pocket", tool="em10", faces=(plane_at(part.part, 8),), step_down=4)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        self.near(done.volume, solids.volume(shape))
        self.assertEqual([f.code for f in done.job.findings], [])
        self.assertLess(done.hits.rapid.max(), 0.01)

    def test_bore(self):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 12, 30))
        part = model(shape)
        operation = Pocket(
            id="p", name="bore", tool="em10", faces=bore_of(part.part, 24), below=0.5, step_down=5
        )
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        self.near(done.volume, solids.volume(shape))

    def test_outline(self):
        shape = rounded((5, 5, 0), (55, 35, 20), 8)
        part = model(clean(shape))
        operation = Outline(id="o", name="outline", tool="em12", below=0, step_down=7)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        self.near(done.volume, solids.volume(shape))
        self.assertLess(done.hits.rapid.max(), 0.01)

    def test_ring_groove_with_island(self):
        groove = solids.minus(solids.cylinder((30, 20, 17), 14, 10), solids.cylinder((30, 20, 10), 10, 20))
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), groove)
        part = model(shape)
        operation = Pocket(id="g", name="groove", tool="em3", faces=(plane_at(part.part, 17),), step_down=1)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        self.near(done.volume, solids.volume(shape))

    def test_leave(self):
        cavity = rounded((10, 8, 8), (50, 32, 30), 6)
        part = model(clean(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), cavity)))
        operation = Pocket(
            id="p",
            name="pocket",
            tool="em10",
            faces=(plane_at(part.part, 8),),
            step_down=4,
            leave_side=0.5,
            leave_floor=0.3,
        )
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        smaller = rounded((10.5, 8.5, 8.3), (49.5, 31.5, 30), 5.5)
        self.near(done.volume, solids.volume(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), smaller)))

    def test_a_spot_that_is_not_told_its_size_is_a_millimetre_wider_than_the_hole(self):
        part = model(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, 8), 4, 20)))
        spot = Drilling(id="s", name="spot", tool="sd10", cycle="spot", faces=bore_of(part.part, 8))
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.2), spot)
        # A 90° point goes as deep as it is wide at the top, halved.
        self.assertAlmostEqual(done.job.holes[0].bottom, 20 - 9.0 / 2, places=6)

    def test_drill_and_spot(self):
        # Blind Ø8 with a 118° point and a 90° chamfer Ø10.4: a cylinder, a cone and a ring of a cone.
        hole = solids.cylinder((30, 20, 8), 4, 20)
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), hole)
        part = model(shape)
        wall = bore_of(part.part, 8)
        tools = tool_shelf()
        eight = tools["dr7_8"].model_copy(update={"DC": 8.0})
        field = block((0, 0, 0), (60, 40, 20), 0.2)
        spotted = run(
            part, field, Drilling(id="s", name="spot", tool="sd10", cycle="spot", faces=wall, chamfer=9.4)
        )
        drilled = run(
            part, spotted.field, Drilling(id="d", name="drill", tool="dr7_8", cycle="peck", faces=wall), eight
        )
        point = 4 / math.tan(math.radians(59))
        reference = solids.minus(
            solids.box((0, 0, 0), (60, 40, 20)),
            solids.cylinder((30, 20, 8 + point), 4, 20),
            solids.cone((30, 20, 8), 0, 4, point),
            solids.cone((30, 20, 20 - 4.7), 0, 4.7, 4.7),
        )
        self.near(drilled.volume, solids.volume(reference), 5e-4)


class Chamfers(unittest.TestCase):
    """A chamfer cutter along an edge leaves the chamfer that was asked for."""

    def test_outside(self):
        part = model(clean(rounded((5, 5, 0), (55, 35, 20), 8)))
        field = run(
            part,
            block((0, 0, 0), (60, 40, 20), 0.2),
            Outline(id="o", name="outline", tool="em12", step_down=20),
        ).field
        before = enclosed(field)
        operation = Outline(id="c", name="chamfer", tool="ch10", chamfer=1.0)
        done = run(part, field, operation)
        # A 45° chamfer of 1 mm all round: half a square mm along the straights (34 and 14 mm, twice each)
        # and, at each round corner of 8 mm, a ring of that triangle about the corner's axis (Pappus:
        # its middle stands 8 - 1/3 mm from the axis).
        exact = 0.5 * 2 * (34 + 14) + 0.5 * 2 * math.pi * (8 - 1 / 3)
        self.assertAlmostEqual((before - done.volume) / exact, 1.0, delta=0.03)
        self.assertEqual(done.job.findings, [])

    def test_inside_a_bore(self):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 12, 30))
        part = model(shape)
        bored = run(
            part,
            block((0, 0, 0), (60, 40, 20), 0.2),
            Pocket(id="p", name="bore", tool="em10", faces=bore_of(part.part, 24), below=0.5, step_down=10),
        )
        operation = Outline(
            id="c", name="chamfer", tool="ch10", side="inside", faces=bore_of(part.part, 24), chamfer=1.5
        )
        done = run(part, bored.field, operation)
        exact = (
            1.5**2 / 2 * 2 * math.pi * (12 + 0.5)
        )  # Pappus: the triangle's middle is a third of 1.5 mm outside the wall
        self.assertAlmostEqual((bored.volume - done.volume) / exact, 1.0, delta=0.03)

    def test_refused(self):
        part = model(solids.box((0, 0, 0), (60, 40, 20)))
        field = block((0, 0, 0), (60, 40, 20), 1.0)
        for wrong in ({"tool": "ch10"}, {"tool": "em10", "chamfer": 1.0}, {"tool": "ch10", "chamfer": 8.0}):
            with self.assertRaises(BadInput):
                run(part, field, Outline(id="c", name="chamfer", **wrong))


class FromTheStock(unittest.TestCase):
    """Operations know the incoming stock."""

    @classmethod
    def setUpClass(cls):
        cls.shape = clean(
            solids.minus(solids.box((0, 0, 0), (60, 40, 20)), rounded((10, 8, 8), (50, 32, 30), 6))
        )
        cls.part = model(cls.shape)
        cls.pocket = Pocket(
            id="p", name="pocket", tool="em10", faces=(plane_at(cls.part.part, 8),), step_down=4
        )

    def test_nothing_is_cut_twice(self):
        once = run(self.part, block((0, 0, 0), (60, 40, 20), 0.5), self.pocket)
        twice = run(self.part, once.field, self.pocket)
        self.assertEqual(len(twice.job.path.moves), 0)
        self.assertEqual([f.code for f in twice.job.findings], ["cut.already_there"])
        self.assertTrue(same_field(twice.field, once.field))

    def test_more_stock_on_top_makes_more_passes(self):
        low = run(self.part, block((0, 0, 0), (60, 40, 20), 0.5), self.pocket)
        high = run(self.part, block((0, 0, 0), (60, 40, 28), 0.5), self.pocket)
        levels = [
            sorted({round(m.end[2], 3) for m in d.job.path.moves if m.kind == "line"}) for d in (low, high)
        ]
        self.assertGreater(len(levels[1]), len(levels[0]))

    def test_facing_air_is_left_out(self):
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.5), Facing(id="f", name="face", tool="em20"))
        self.assertEqual(len(done.job.path.moves), 0)
        self.assertEqual([f.code for f in done.job.findings], ["cut.nothing"])

    def test_a_hole_already_there_is_not_drilled(self):
        part = model(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 4, 40)))
        eight = tool_shelf()["dr7_8"].model_copy(update={"DC": 8.0})
        operation = Drilling(id="d", name="drill", tool="dr7_8", cycle="drill", faces=bore_of(part.part, 8))
        once = run(part, block((0, 0, 0), (60, 40, 20), 0.5), operation, eight)
        self.assertGreater(len(once.job.path.moves), 0)
        twice = run(part, once.field, operation, eight)
        self.assertEqual(
            ([f.code for f in twice.job.findings], len(twice.job.path.moves)), (["cut.already_there"], 0)
        )


class Refused(unittest.TestCase):
    """Wrong tools, wrong faces, wrong depths."""

    @classmethod
    def setUpClass(cls):
        shape = clean(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), rounded((10, 8, 2), (40, 32, 30), 4)))
        cls.part = model(solids.minus(shape, solids.cylinder((50, 20, -1), 3, 40)))
        cls.field = block((0, 0, 0), (60, 40, 24), 0.5)
        cls.floor = plane_at(cls.part.part, 2)

    def codes(self, operation, tool=None):
        return [f.code for f in run(self.part, self.field, operation, tool).job.findings]

    def test_a_cutter_too_big_for_the_corner_says_what_fits(self):
        done = run(self.part, self.field, Pocket(id="p", name="pocket", tool="em12", faces=(self.floor,)))
        finding = next(f for f in done.job.findings if f.code == "cut.corners_left")
        self.assertAlmostEqual(finding.limit, 8.0, delta=0.3)

    def test_a_cutter_too_big_for_the_pocket(self):
        big = tool_shelf()["em20"].model_copy(update={"DC": 26.0})
        self.assertIn(
            "cut.tool_too_big", self.codes(Pocket(id="p", name="p", tool="em20", faces=(self.floor,)), big)
        )

    def test_deeper_than_the_flutes(self):
        short = tool_shelf()["em8"].model_copy(update={"LCF": 10.0})
        self.assertIn(
            "cut.deeper_than_flutes",
            self.codes(Pocket(id="p", name="p", tool="em8", faces=(self.floor,)), short),
        )

    def test_a_tool_longer_than_the_clearance_hits_with_its_holder(self):
        stub = tool_shelf()["em8"].model_copy(update={"LCF": 12.0, "overhang": 14.0})
        done = run(self.part, self.field, Pocket(id="p", name="p", tool="em8", faces=(self.floor,)), stub)
        self.assertGreater(
            done.hits.bodies[:, 2].max(), 5.0
        )  # the holder's nose is 14 mm above a floor 22 mm deep

    def test_a_drill_too_big_for_its_hole(self):
        operation = Drilling(
            id="d", name="drill", tool="dr7_8", cycle="drill", faces=bore_of(self.part.part, 6)
        )
        self.assertEqual(self.codes(operation), ["cut.drill_too_big"])

    def test_wrong_kind_of_tool(self):
        with self.assertRaises(BadInput) as caught:
            run(self.part, self.field, Facing(id="f", name="face", tool="dr5"))
        self.assertIn("end mill", caught.exception.mend)

    def test_a_wall_is_not_a_floor(self):
        side = next(f for f in self.part.part.faces if f.normal and f.normal[0] > 0.99)
        from pelvrak.core.geometry.part import ref_to

        with self.assertRaises(BadInput) as caught:
            run(self.part, self.field, Pocket(id="p", name="p", tool="em8", faces=(ref_to(side),)))
        self.assertEqual(caught.exception.code, "cut.open_side")

    def test_facing_into_the_part(self):
        with self.assertRaises(BadInput) as caught:
            run(self.part, self.field, Facing(id="f", name="face", tool="em20", face=self.floor))
        self.assertEqual(caught.exception.code, "cut.facing_too_low")

    def test_numbers_out_of_meaning(self):
        for wrong in (
            {"step_down": -1},
            {"step_down": float("nan")},
            {"step_over": 0},
            {"clearance": float("inf")},
            {"leave": -0.1},
        ):
            with self.assertRaises(ValueError, msg=str(wrong)):
                Facing(id="f", name="face", tool="em20", **wrong)


class Entries(unittest.TestCase):
    """How the cutter gets in."""

    def test_pocket_never_plunges_into_material(self):
        shape = clean(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), rounded((10, 8, 8), (50, 32, 30), 6)))
        part = model(shape)
        done = run(
            part,
            block((0, 0, 0), (60, 40, 20), 0.5),
            Pocket(
                id="p", name="pocket", tool="em10", faces=(plane_at(part.part, 8),), step_down=4, ramp_deg=3
            ),
        )
        lines = chords(done.job.path)
        down = (lines.starts[:, 2] - lines.ends[:, 2]) * (lines.what == 0)
        flat = np.hypot(*(lines.ends - lines.starts)[:, :2].T)
        steep = down > np.tan(np.radians(3.3)) * flat + 1e-6
        # Steep moves only above the stock, or down into what a level before has opened.
        reached = np.minimum.accumulate(np.minimum(lines.starts[:, 2], lines.ends[:, 2]))
        for index in np.flatnonzero(steep):
            self.assertGreaterEqual(lines.ends[index, 2], min(20.0, reached[index - 1]), f"move {index}")

    def test_outline_leads_in_on_an_arc(self):
        part = model(clean(rounded((5, 5, 0), (55, 35, 20), 8)))
        done = run(
            part,
            block((0, 0, 0), (60, 40, 20), 0.5),
            Outline(id="o", name="outline", tool="em12", step_down=20),
        )
        kinds = [m.kind for m in done.job.path.moves]
        self.assertIn(
            "ccw", kinds
        )  # the lead arcs; the contour itself is walked clockwise, so cutting climbs
        self.assertIn("cw", kinds)


if __name__ == "__main__":
    unittest.main()
