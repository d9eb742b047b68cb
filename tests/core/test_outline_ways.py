"""Outline: tabs that hold the part, spring passes, leads, the cutter's radius corrected in the control."""

from __future__ import annotations

import math
import re
import unittest

import numpy as np
import shapely

from pelvrak.core.cutting.contour import along_contour
from pelvrak.core.cutting.operations import Outline
from pelvrak.core.cutting.toolpath import Move, Path, chords
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.program.compose import Planned, Where
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Held
from pelvrak.core.route.cut_facts import loose_pieces
from pelvrak.core.route.pieces import PATH, PlannedPath, path_from_json
from tests import solids
from tests.core.planning_bench import bore_of, model, run
from tests.core.test_post import facing, text_of
from tests.solids import block

PLATE = model(solids.box((0, 0, 0), (40, 30, 6)))
STOCK = ((-20, -20, 0), (60, 50, 6))


def outline(**told):
    return Outline(**{"id": "o", "name": "outline", "tool": "em6", "below": 0.5, "step_down": 7.0, **told})


def taken(done) -> float:
    return float(done.hits.removed.sum())


class Tabs(unittest.TestCase):
    def test_they_hold_the_part_and_are_as_large_as_told(self):
        """Slot round a plate: its area by closed form. A tab: its width, the slot's width, its height; at its
        ends the round cutter leaves a little more, (1 - π/4) of the slot's width squared.
        """
        before = block(*STOCK, 0.4)
        whole = run(PLATE, before, outline(tabs=4, tab_width=5.0, tab_height=2.0))
        self.assertEqual(loose_pieces(before, whole.field), [])
        free = run(PLATE, block(*STOCK, 0.4), outline(tabs=1, tab_width=1e-3, tab_height=1e-3))
        self.assertEqual(len(loose_pieces(before, free.field)), 1)
        slot = (2 * (40 + 30) * 6 + math.pi * 36) * 6
        self.assertAlmostEqual(free.volume, 80 * 70 * 6 - slot, delta=0.004 * slot)
        tabs = 4 * 2.0 * (5.0 * 6.0 + (1 - math.pi / 4) * 36)
        self.assertAlmostEqual(whole.volume - free.volume, tabs, delta=0.04 * tabs)
        self.assertLess(whole.hits.rapid.max(), 1e-6)

    def test_more_tabs_than_there_is_room_for(self):
        with self.assertRaises(BadInput) as refused:
            run(PLATE, block(*STOCK, 0.8), outline(tabs=20, tab_width=5.0))
        self.assertEqual(refused.exception.code, "cut.tabs_too_wide")

    def test_a_spring_pass_goes_round_once_more_at_the_bottom_and_takes_nothing(self):
        told = {"tabs": 1, "tab_width": 1e-3, "tab_height": 1e-3, "step_down": 4.0}
        once = run(PLATE, block(*STOCK, 0.8), outline(**told))
        again = run(PLATE, block(*STOCK, 0.8), outline(**told, spring=1))
        round_about = 2 * (40 + 30) + 2 * math.pi * 3
        self.assertAlmostEqual(_fed(again) - _fed(once), round_about, delta=0.2)
        self.assertAlmostEqual(taken(again), taken(once), delta=1.0)


def _fed(done) -> float:
    ends = [done.job.path.start, *(move.end for move in done.job.path.moves)]
    out = 0.0
    for before, move in zip(ends, done.job.path.moves, strict=False):
        if move.kind == "line" and abs(move.end[2] - before[2]) < 1e-9:
            out += math.dist(before, move.end)
        elif move.centre is not None:
            radius = math.dist(before[:2], move.centre)
            turn = math.atan2(move.end[1] - move.centre[1], move.end[0] - move.centre[0])
            turn -= math.atan2(before[1] - move.centre[1], before[0] - move.centre[0])
            out += radius * ((turn if move.kind == "ccw" else -turn) % (2 * math.pi))
    return out


class Leads(unittest.TestCase):
    def test_arcs_of_the_radius_told_touch_the_contour(self):
        done = run(PLATE, block(*STOCK, 0.8), outline(lead=8.0))
        moves = done.job.path.moves
        # Round the plate it goes clockwise: what goes the other way leads in and out.
        at = [i for i, move in enumerate(moves) if move.kind == "ccw"][-2]
        entry, arc = np.array(moves[at - 1].end[:2]), moves[at]
        self.assertAlmostEqual(math.dist(entry, arc.centre), 8.0, places=6)
        self.assertAlmostEqual(math.dist(arc.end[:2], arc.centre), 8.0, places=6)
        # It ends on the contour of the cutter's middle, 3 mm off the plate, square to the centre's direction.
        x, y = arc.end[:2]
        off = max(abs(x - 20) - 20, abs(y - 15) - 15)
        self.assertAlmostEqual(off, 3.0, places=3)
        out = max(abs(arc.centre[0] - 20) - 20, abs(arc.centre[1] - 15) - 15)
        self.assertAlmostEqual(out, 11.0, places=3)

    def test_leads_are_known_from_cuts(self):
        """Whole rings of the cutter's middle, 3 mm off the plate, are cuts; all that is fed off them leads,
        the arcs too, which touch them only where they meet them.
        """
        done = run(PLATE, block(*STOCK, 0.8), outline(lead=8.0))
        fed = [move for move in done.job.path.moves if move.kind != "rapid"]
        contour = shapely.box(0, 0, 40, 30).buffer(3.0, quad_segs=256)
        for move in fed:
            off = contour.exterior.distance(shapely.Point(move.end[:2]))
            rung = min(off % 3.0, -off % 3.0)  # half the cutter from ring to ring
            if not move.lead:
                self.assertAlmostEqual(rung, 0.0, places=2)
        arcs = [move for move in fed if move.kind == "ccw"]
        moves = done.job.path.moves
        downs = [b for a, b in zip(moves, moves[1:], strict=False) if b.feed and b.end[2] < a.end[2]]
        self.assertTrue(all(move.lead for move in (*arcs, *downs)))
        # Of each ring: down to it, and the arcs in and out.
        self.assertEqual(len(arcs), 2 * len(downs))
        kept, _ = path_from_json(PATH.encode(PlannedPath(done.job.path, [], np.zeros(len(fed)))))
        self.assertEqual(kept.moves, done.job.path.moves)


class Compensation(unittest.TestCase):
    """G40, G41 and D as ISO 6983-1 names them; begun and ended on straight moves in the plane."""

    def said(self, done) -> list[str]:
        text = text_of(facing(done.job.path))
        return [re.sub(r"^N\d+ ", "", line) for line in text.splitlines()]

    def check(self, done):
        lines = self.said(done)
        on = [i for i, line in enumerate(lines) if "G41" in line]
        off = [i for i, line in enumerate(lines) if "G40" in line and "G21" not in line]
        self.assertEqual(len(on), len(off))
        self.assertGreater(len(on), 0)
        for first, last in zip(on, off, strict=True):
            self.assertLess(first, last)
            self.assertRegex(lines[first], r"G41 D\d+ .*[XY]")
            self.assertNotRegex(lines[first], "G[23]|Z|I")
            self.assertNotRegex(lines[last], "G[23]|Z|I")
            # No rapid while it is corrected.
            self.assertFalse([line for line in lines[first:last] if re.match("G0", line)])

    def test_outside_and_inside(self):
        done = run(PLATE, block(*STOCK, 0.8), outline(compensation="wear"))
        self.check(done)
        ring = model(solids.minus(solids.box((0, 0, 0), (40, 30, 6)), solids.cylinder((20, 15, -1), 10, 20)))
        bored = block((0, 0, 0), (40, 30, 6), 0.5)
        operation = outline(side="inside", faces=bore_of(ring.part, 10.0), compensation="wear")
        first = run(ring, bored, operation.model_copy(update={"compensation": "computed", "leave": 0.5}))
        done = run(ring, first.field, operation.model_copy(update={"leave": 0.0}))
        self.check(done)
        self.assertEqual([one.code for one in done.job.findings], [])

    def corrected(self, done) -> tuple[list[np.ndarray], list[np.ndarray]]:
        """Rings that are corrected, without their leads: as the program has them, and as the middle has them,
        (n, 2) each.
        """
        path = done.job.path
        made = along_contour(path, done.job.radius, "o")
        rings: tuple[list[np.ndarray], list[np.ndarray]] = ([], [])
        for which, written in enumerate((made, [(move,) for move in path.moves])):
            flat = [(one, move) for moves, move in zip(written, path.moves, strict=True) for one in moves]
            lines = chords(Path(path.start, [one for one, _ in flat]))
            on, ring = False, []
            for n, (_, move) in enumerate(flat):
                if move.compensation:
                    on = move.compensation == "left"
                    if not on:
                        rings[which].append(np.concatenate(ring))
                    ring = []
                elif on and not move.lead:
                    own = lines.move == n
                    ring.append(np.concatenate([lines.starts[own], lines.ends[own]])[:, :2])
        return rings

    def test_the_program_goes_along_the_contour_and_the_control_makes_the_path_of_it(self):
        """What shapely offsets from the program to the left by the radius is the middle's path again."""
        rounded = solids.filleted(solids.box((0, 0, 0), (40, 30, 6)), 5.0, lambda at: abs(at[2] - 3) < 1)
        room = solids.filleted(solids.box((8, 8, -1), (32, 22, 7)), 4.0, lambda at: abs(at[2] - 3) < 1)
        tight = solids.filleted(solids.box((8, 8, -1), (32, 22, 7)), 3.0, lambda at: abs(at[2] - 3) < 1)
        whole = solids.box((0, 0, 0), (40, 30, 6))
        for shape, side, radius in (
            (whole, "outside", 0.0),
            (rounded, "outside", 5.0),
            (solids.minus(whole, room), "inside", 4.0),
            (solids.minus(whole, tight), "inside", 3.0),
        ):
            sharp = shapely.box(0, 0, 40, 30) if side == "outside" else shapely.box(8, 8, 32, 22)
            edge = sharp.buffer(-radius).buffer(radius, quad_segs=256).exterior
            part = model(shape)
            told: dict = {"compensation": "contour", "side": side, "leave": 0.0}
            field = block(*STOCK, 0.8)
            if side == "inside":
                told["faces"] = tuple(
                    ref_to(one) for one in part.part.faces if one.kind == "plane" and one.centre[0] == 32.0
                )
                rough = {**told, "compensation": "computed", "leave": 0.8}
                field = run(part, field, outline(**rough)).field
            done = run(part, field, outline(**told))
            programmed, middles = self.corrected(done)
            self.assertGreater(len(middles), 0)
            reach = done.job.radius * (1 if side == "outside" else -1)
            for program, middle in zip(programmed, middles, strict=True):
                made = shapely.Polygon(program).buffer(reach, quad_segs=256).exterior
                away = shapely.distance(made, shapely.points(middle))
                self.assertLess(float(away.max()), 0.01, (side, len(middle)))
            # The last is the part's own edge.
            off = shapely.distance(edge, shapely.points(programmed[-1]))
            self.assertLess(float(off.max()), 0.01)

    def test_the_program_tells_what_d_is(self):
        for how, said in (("wear", "wear of the radius"), ("contour", "radius of the cutter, 3. mm")):
            done = run(PLATE, block(*STOCK, 0.8), outline(compensation=how))
            job = done.job
            text = text_of(Planned("o", job.operation, job.tool, job.path, [], 5000, 800, Where("G54")))
            self.assertIn(said.upper(), text.upper())

    def test_a_control_makes_the_middle_of_it_again(self):
        """The text along the contour, run with the radius under D: the cutter's middle goes as planned."""
        for side in ("outside", "inside"):
            stock = block(*STOCK, 0.8)
            job = run(PLATE, stock, outline(compensation="contour", side=side)).job
            text = text_of(Planned("o", job.operation, job.tool, job.path, [], 5000, 800, Where("G54")))
            place = job.tool.place
            held = Held({"G54": {}}, {place: 0.0}, {place: job.tool.DC / 2})
            events = [one for one in Control(held).run(text) if one.kind in ("line", "cw", "ccw")]
            path = Path(events[0].told, [Move(o.kind, o.told, o.feed, o.centre) for o in events[1:]])
            made, planned = (
                shapely.LineString(np.concatenate([[one.start[:2]], chords(one).ends[:, :2]]))
                for one in (path, job.path)
            )
            away = shapely.distance(shapely.points(chords(path).ends[:, :2]), planned)
            self.assertLess(float(away.max()), 0.005, side)
            feeds = np.array([m.end[:2] for m in job.path.moves if m.kind != "rapid"])
            self.assertLess(float(shapely.distance(shapely.points(feeds), made).max()), 0.005, side)

    def test_a_contour_that_turns_in_more_tightly_than_the_cutter(self):
        """To the right by 90° where the middle has a corner: no contour has its middle there."""
        path = Path(
            (0.0, -20.0, 0.0),
            [
                Move("line", (0.0, -10.0, 0.0), 100.0, compensation="left"),
                Move("line", (0.0, 10.0, 0.0), 100.0),
                Move("line", (20.0, 10.0, 0.0), 100.0),
            ],
        )
        with self.assertRaises(BadInput) as refused:
            along_contour(path, 3.0, "outline")
        self.assertEqual(refused.exception.code, "cut.no_contour")
        # To the left it goes round the corner.
        path.moves[2] = Move("line", (-20.0, 10.0, 0.0), 100.0)
        moves = [one for made in along_contour(path, 3.0, "outline") for one in made]
        self.assertEqual([one.kind for one in moves], ["line", "line", "ccw", "line"])
        self.assertEqual(moves[2].centre, (0.0, 10.0))
        np.testing.assert_allclose([one.end[:2] for one in moves], [(3, -10), (3, 10), (0, 13), (-20, 13)])

    def test_computed_it_says_nothing(self):
        done = run(PLATE, block(*STOCK, 0.8), outline())
        self.assertFalse([line for line in self.said(done) if "G41" in line])

    def test_where_there_is_no_room_for_a_straight_way_in(self):
        ring = model(solids.minus(solids.box((0, 0, 0), (40, 30, 6)), solids.cylinder((20, 15, -1), 10, 20)))
        operation = outline(side="inside", faces=bore_of(ring.part, 10.0), compensation="wear", leave=0.0)
        done = run(ring, block((0, 0, 0), (40, 30, 6), 0.5), operation)
        self.assertIn("cut.no_compensation", [one.code for one in done.job.findings])
        self.assertFalse([line for line in self.said(done) if "G41" in line])


if __name__ == "__main__":
    unittest.main()
