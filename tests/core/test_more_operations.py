"""Slots, undercuts, helical bores, threads and boring, against Open CASCADE and closed forms."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.cutting.operations import Drilling, Helical, Slotting, Threading, Undercut
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from tests import solids
from tests.core.planning_bench import bore_of, model, plane_at, run
from tests.core.test_operations import clean
from tests.solids import block

WHOLE = solids.box((0, 0, 0), (60, 40, 20))


class Near(unittest.TestCase):
    def near(self, seen, exact, share=1e-3):
        self.assertAlmostEqual(seen / exact, 1.0, delta=share)

    def stock_of(self, shape, cell=0.2):
        mesh = model(shape).mesh
        return field_of_mesh(grid_around(mesh.vertices.min(0), mesh.vertices.max(0), cell), mesh)


class Slots(Near):
    def slotting(self, part, **told):
        return Slotting(
            **{"id": "s", "name": "slot", "faces": (plane_at(part.part, 12),), "step_down": 4, **told}
        )

    def test_as_wide_as_the_cutter(self):
        shape = clean(solids.minus(WHOLE, solids.stadium((15, 20), (45, 20), 5, 12, 21)))
        part = model(shape)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.2), self.slotting(part, tool="em10"))
        self.near(done.volume, solids.volume(shape))
        self.assertLess(done.hits.rapid.max(), 1e-9)
        # Never straight down into material: at the ramp angle, 3°.
        lines = chords(done.job.path)
        cutting = (done.hits.removed > 0.01) & (lines.ends[:, 2] < lines.starts[:, 2] - 1e-9)
        fall = lines.starts[cutting, 2] - lines.ends[cutting, 2]
        along = np.hypot(*(lines.ends - lines.starts)[cutting, :2].T)
        self.assertLess((fall / along).max(), math.tan(math.radians(3.0)) * 1.05)

    def test_wider_than_the_cutter(self):
        shape = clean(solids.minus(WHOLE, solids.stadium((15, 20), (45, 20), 6, 12, 21)))
        part = model(shape)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.2), self.slotting(part, tool="em10"))
        self.near(done.volume, solids.volume(shape))

    def test_open_at_its_ends_it_is_entered_from_outside(self):
        shape = clean(solids.minus(WHOLE, solids.box((-1, 15, 12), (61, 25, 21))))
        part = model(shape)
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.2), self.slotting(part, tool="em10"))
        self.near(done.volume, solids.volume(shape))
        lines = chords(done.job.path)
        down = lines.ends[:, 2] < lines.starts[:, 2] - 1e-9
        self.assertLess(done.hits.removed[down].max(), 0.2)

    def test_refused(self):
        shape = clean(solids.minus(WHOLE, solids.stadium((15, 20), (45, 20), 12, 12, 21)))
        part = model(shape)
        with self.assertRaises(BadInput) as refused:
            run(part, block((0, 0, 0), (60, 40, 20), 0.5), self.slotting(part, tool="em10"))
        self.assertEqual(refused.exception.code, "cut.no_slot")
        narrow = model(clean(solids.minus(WHOLE, solids.stadium((15, 20), (45, 20), 4, 12, 21))))
        done = run(narrow, block((0, 0, 0), (60, 40, 20), 0.5), self.slotting(narrow, tool="em10"))
        self.assertEqual([found.code for found in done.job.findings], ["cut.tool_too_big"])


class Undercuts(Near):
    def test_a_t_slot(self):
        # The upper slot is there: 13 wide; under it 22 wide and 4 high, as the Ø20 × 4 cutter is.
        upper = solids.minus(WHOLE, solids.box((-1, 13.5, 8), (61, 26.5, 21)))
        shape = solids.minus(upper, solids.box((-1, 9, 8), (61, 31, 12)))
        part, stock = model(clean(shape)), self.stock_of(clean(upper))
        operation = Undercut(id="u", name="T-slot", tool="sm20", faces=(plane_at(part.part, 8),))
        done = run(part, stock, operation)
        self.near(done.volume, solids.volume(shape))
        self.assertLess(done.hits.bodies.max(initial=0.0), 0.01)
        self.assertLess(done.hits.rapid.max(), 1e-9)

    def test_a_groove_in_a_bore(self):
        bored = solids.minus(WHOLE, solids.cylinder((30, 20, -1), 12, 30))
        shape = solids.minus(bored, solids.cylinder((30, 20, 8), 14, 4))
        part, stock = model(clean(shape)), self.stock_of(clean(bored))
        operation = Undercut(id="u", name="groove", tool="sm20", faces=(plane_at(part.part, 8),))
        done = run(part, stock, operation)
        self.near(done.volume, solids.volume(shape))
        self.assertLess(done.hits.bodies.max(initial=0.0), 0.01)

    def test_higher_than_the_cutter(self):
        upper = solids.minus(WHOLE, solids.box((-1, 13.5, 5), (61, 26.5, 21)))
        shape = solids.minus(upper, solids.box((-1, 9, 5), (61, 31, 11.5)))
        part = model(clean(shape))
        operation = Undercut(id="u", name="T-slot", tool="sm20", faces=(plane_at(part.part, 5),))
        self.near(run(part, self.stock_of(clean(upper)), operation).volume, solids.volume(shape))

    def test_a_neck_in_the_way_is_told(self):
        upper = solids.minus(WHOLE, solids.box((-1, 14.5, 8), (61, 25.5, 21)))
        part = model(clean(solids.minus(upper, solids.box((-1, 9, 8), (61, 31, 12)))))
        operation = Undercut(id="u", name="T-slot", tool="sm20", faces=(plane_at(part.part, 8),))
        done = run(part, self.stock_of(clean(upper), 0.5), operation)
        self.assertEqual([found.code for found in done.job.findings], ["cut.corners_left"])
        # The neck of 10 goes 0.4 to either side of the middle; the walls lie 11 off it, the rim reaches 10.4.
        self.assertAlmostEqual(done.job.findings[0].measured, 2 * 0.6 * 60, delta=4.0)

    def test_refused(self):
        pocket = model(clean(solids.minus(WHOLE, solids.box((10, 10, 8), (50, 30, 21)))))
        operation = Undercut(id="u", name="u", tool="sm20", faces=(plane_at(pocket.part, 8),))
        with self.assertRaises(BadInput) as refused:
            run(pocket, block((0, 0, 0), (60, 40, 20), 0.5), operation)
        self.assertEqual(refused.exception.code, "cut.no_undercut")
        upper = solids.minus(WHOLE, solids.box((-1, 13.5, 8), (61, 26.5, 21)))
        low = model(clean(solids.minus(upper, solids.box((-1, 9, 8), (61, 31, 10.5)))))
        operation = Undercut(id="u", name="u", tool="sm20", faces=(plane_at(low.part, 8),))
        with self.assertRaises(BadInput) as refused:
            run(low, self.stock_of(clean(upper), 0.5), operation)
        self.assertEqual(refused.exception.code, "cut.tool_too_high")
        closed = solids.minus(WHOLE, solids.box((20, 14, 8), (40, 26, 21)))
        part = model(clean(solids.minus(closed, solids.box((15, 9, 8), (45, 31, 12)))))
        operation = Undercut(id="u", name="u", tool="sm20", faces=(plane_at(part.part, 8),))
        done = run(part, self.stock_of(clean(closed), 0.5), operation)
        self.assertEqual([found.code for found in done.job.findings], ["cut.no_way_in"])


class HelicalBores(Near):
    def setUp(self):
        self.shape = solids.minus(WHOLE, solids.cylinder((30, 20, -1), 9, 30))
        self.part = model(self.shape)

    def test_from_the_solid(self):
        operation = Helical(id="h", name="bore", tool="em12", faces=bore_of(self.part.part, 18), pitch=2)
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.2), operation)
        self.near(done.volume, solids.volume(self.shape))
        self.assertLess(done.hits.rapid.max(), 1e-9)
        falls = [
            b.end[2] - a.end[2] for a, b in zip(done.job.path.moves, done.job.path.moves[1:], strict=False)
        ]
        arcs = [fall for fall, move in zip(falls, done.job.path.moves[1:], strict=True) if move.centre]
        self.assertAlmostEqual(min(arcs), -(20.2 + 0.5) / math.ceil(20.7 / 2), places=6)

    def test_what_it_leaves_and_spring_passes(self):
        told = {"faces": bore_of(self.part.part, 18), "leave": 0.3}
        operation = Helical(id="h", name="bore", tool="em12", pitch=2, spring=2, **told)
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.2), operation)
        self.near(done.volume, 60 * 40 * 20 - math.pi * 8.7**2 * 20)

    def test_too_big(self):
        operation = Helical(id="h", name="bore", tool="em20", faces=bore_of(self.part.part, 18))
        done = run(self.part, block((0, 0, 0), (60, 40, 20), 0.5), operation)
        self.assertEqual([found.code for found in done.job.findings], ["cut.tool_too_big"])


class Threads(Near):
    """M12 × 1.5 in a hole of D − P (ISO 2306); its depth to the major diameter as ISO 68-1 draws it."""

    def setUp(self):
        self.shape = solids.minus(WHOLE, solids.cylinder((30, 20, -1), 10.5 / 2, 30))
        self.part = model(self.shape)
        self.mill = tool_shelf()["tm10"].model_copy(update={"DC": 8.0, "DCON": 8.0})

    def threading(self, **told):
        return Threading(
            **{"id": "t", "name": "thread", "tool": "tm10", "faces": bore_of(self.part.part, 10.5), **told}
        )

    def helices(self, done):
        moves = [done.job.path.start, *(move.end for move in done.job.path.moves)]
        return [
            (moves[n], move)
            for n, move in enumerate(done.job.path.moves)
            if move.centre is not None
            and math.hypot(moves[n][0] - 30, moves[n][1] - 20) > 1e-6
            and math.hypot(move.end[0] - 30, move.end[1] - 20) > 1e-6
        ]

    def test_up_by_the_pitch_on_every_turn_to_the_major_diameter(self):
        done = run(self.part, self.stock_of(self.shape, 0.25), self.threading(), self.mill)
        found = self.helices(done)
        self.assertTrue(found)
        for start, move in found:
            self.assertAlmostEqual(move.end[2] - start[2], 1.5, places=9)
            self.assertEqual(move.kind, "ccw")
            # The rim of the mill reaches M12's major diameter.
            reach = math.hypot(start[0] - 30, start[1] - 20) + self.mill.DC / 2
            self.assertAlmostEqual(2 * reach, 12.0, places=9)
        # The teeth, 24 mm of them, cover the 20 mm of the hole and a turn.
        self.assertEqual(len(found), 1)
        # Threads are no part of the stock: nothing is cut off the wall of its hole.
        self.assertLess(done.hits.removed.sum(), 2.0)

    def test_a_short_mill_goes_up_in_several_sets(self):
        short = self.mill.model_copy(update={"LCF": 6.0})
        found = self.helices(run(self.part, self.stock_of(self.shape, 0.5), self.threading(), short))
        self.assertEqual(len(found), math.ceil((20 + 0.75) / 6.0))

    def test_left_hand_goes_down(self):
        found = self.helices(
            run(self.part, self.stock_of(self.shape, 0.5), self.threading(hand="left"), self.mill)
        )
        self.assertAlmostEqual(found[0][1].end[2] - found[0][0][2], -1.5, places=9)

    def test_in_passes(self):
        found = self.helices(
            run(self.part, self.stock_of(self.shape, 0.5), self.threading(passes=2), self.mill)
        )
        first = 2 * (math.hypot(found[0][0][0] - 30, found[0][0][1] - 20) + 4)
        self.assertAlmostEqual(first, 10.5 + math.sqrt(0.5) * 1.5, places=9)

    def test_refused(self):
        with self.assertRaises(BadInput) as refused:
            run(self.part, self.stock_of(self.shape, 0.5), self.threading(size=14.0), self.mill)
        self.assertEqual(refused.exception.code, "cut.not_tapping_size")
        done = run(self.part, self.stock_of(self.shape, 0.5), self.threading())
        self.assertEqual([found.code for found in done.job.findings], ["cut.tool_too_big"])


class Boring(Near):
    """Boring cycles, dwell, order and feeds of a drilling operation."""

    @classmethod
    def setUpClass(cls):
        cls.final = solids.minus(WHOLE, solids.cylinder((30, 20, -1), 14, 30))
        cls.part = model(cls.final)

    def boring(self, **told):
        return Drilling(
            **{
                "id": "b",
                "name": "bore",
                "tool": "bh28",
                "cycle": "bore",
                "faces": bore_of(self.part.part, 28),
                **told,
            }
        )

    def test_a_bore_to_size(self):
        stock = self.stock_of(solids.minus(WHOLE, solids.cylinder((30, 20, -1), 13.8, 30)))
        done = run(self.part, stock, self.boring(dwell_s=0.5))
        self.near(done.volume, solids.volume(self.final))
        self.assertEqual([found.code for found in done.job.findings], [])
        self.assertLess(done.hits.core.max(), 1e-6)
        self.assertEqual([move.dwell_s for move in done.job.path.moves if move.dwell_s], [0.5])
        kinds = [move.kind for move in done.job.path.moves]
        self.assertEqual(kinds.count("line"), 2)
        stopped = run(self.part, stock, self.boring(cycle="bore_stopped"))
        self.assertEqual([move.kind for move in stopped.job.path.moves].count("line"), 1)

    def test_a_boring_head_is_set_to_its_hole(self):
        head = tool_shelf()["bh28"].model_copy(update={"DC": 20.0})
        operation = self.boring()
        self.assertEqual(operation.unsuitable(head, self.part.part), 0.0)
        self.assertEqual(operation.adjusted(head, self.part.part).DC, 28.0)
        self.assertEqual(operation.unsuitable(tool_shelf()["bh42"], self.part.part), math.inf)

    def test_a_chip_is_broken(self):
        shape = solids.minus(WHOLE, solids.cylinder((30, 20, 4), 2.5, 30))
        part = model(shape)
        operation = Drilling(
            id="d", name="d", tool="dr5", cycle="chip_break", peck=4, faces=bore_of(part.part, 5), dwell_s=0.2
        )
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), operation)
        backs = [
            b.end[2] - a.end[2]
            for a, b in zip(done.job.path.moves, done.job.path.moves[1:], strict=False)
            if b.kind == "rapid" and 0 < b.end[2] - a.end[2] < 1
        ]
        self.assertEqual(len(backs), 3)
        self.assertTrue(np.allclose(backs, 0.5))
        self.assertEqual(sum(move.dwell_s for move in done.job.path.moves), 0.2)

    def test_holes_row_by_row(self):
        holes = [solids.cylinder((x, y, -1), 2.5, 30) for x in (10, 30, 50) for y in (10, 30)]
        part = model(solids.minus(WHOLE, *holes))
        for order, first, last in (("front_first", (10, 10), (10, 30)), ("back_first", (10, 30), (10, 10))):
            operation = Drilling(id="d", name="d", tool="dr5", faces=bore_of(part.part, 5), order=order)
            done = run(part, block((0, 0, 0), (60, 40, 20), 0.5), operation)
            places = [(round(hole.x), round(hole.y)) for hole in done.job.holes]
            self.assertEqual((places[0], places[-1]), (first, last), order)
            self.assertEqual(places[2][0], 50)

    def test_feeds_of_their_own(self):
        shape = clean(solids.minus(WHOLE, solids.stadium((15, 20), (45, 20), 5, 12, 21)))
        part = model(shape)
        told = {"faces": (plane_at(part.part, 12),), "entry_feed": 111, "retract_feed": 333, "tool": "em10"}
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.5), Slotting(id="s", name="s", **told))
        feeds = {move.feed for move in done.job.path.moves}
        self.assertLessEqual({111, 333}, feeds)
        ups = [
            (a, b)
            for a, b in zip(done.job.path.moves, done.job.path.moves[1:], strict=False)
            if a.kind != "rapid" and b.kind == "rapid" and b.end[2] > a.end[2]
        ]
        # Out of the cut at its feed; in rapid only from the retract height on.
        self.assertTrue(ups)
        self.assertTrue(all(a.feed == 333 for a, _ in ups))


if __name__ == "__main__":
    unittest.main()
