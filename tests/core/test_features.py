"""Features of solids built with known features, and from where each is reached."""

from __future__ import annotations

import json
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

from pelvrak.core.geometry.adjacency import adjacency
from pelvrak.core.geometry.features import Features, features_of, part_facts
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.geometry.visibility import visible
from tests import solids

DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing" / "encoder-housing.step"
BLOCK = ((0.0, 0.0, 0.0), (60.0, 40.0, 20.0))
UP, DOWN = (0.0, 0.0, 1.0), (0.0, 0.0, -1.0)


def model(shape):
    return model_of_solid(shape, "", "MM")


def found_in(shape) -> Features:
    return features_of(model(shape))


def pocket(low, high, radius):
    """A box to be cut out, its upright edges rounded."""
    box = solids.box(low, high)
    middle = (np.array(low) + high) / 2
    return solids.filleted(
        box,
        radius,
        lambda m: bool(abs(m[2] - middle[2]) < 1e-6 and (np.abs(m[:2] - middle[:2]) > 1e-6).all()),
    )


def close(one, two) -> bool:
    return bool(np.allclose(one, two, atol=1e-6))


class Folds(unittest.TestCase):
    def test_a_block_is_convex_all_over(self):
        kinds = adjacency(model(solids.box(*BLOCK)))
        self.assertEqual([fold.kind for fold in kinds], ["convex"] * 12)
        self.assertTrue(all(abs(fold.angle_deg - 90) < 1e-9 for fold in kinds))

    def test_a_pocket_is_concave_inside_and_convex_at_its_mouth(self):
        shape = solids.minus(solids.box(*BLOCK), solids.box((10, 10, 12), (30, 30, 30)))
        kinds = [fold.kind for fold in adjacency(model(shape))]
        # Outside 12, mouth 4 convex; four upright and four floor edges concave.
        self.assertEqual((kinds.count("convex"), kinds.count("concave")), (16, 8))

    def test_a_fillet_runs_on_smoothly(self):
        rounded = solids.filleted(solids.box(*BLOCK), 3, lambda m: m[2] > 19.9 and m[1] < 0.1)
        kinds = [fold.kind for fold in adjacency(model(rounded))]
        self.assertEqual(kinds.count("smooth"), 2)
        self.assertNotIn("concave", kinds)


class Recesses(unittest.TestCase):
    def test_pocket_with_round_corners(self):
        (one,) = found_in(solids.minus(solids.box(*BLOCK), pocket((10, 10, 12), (40, 30, 30), 4))).recesses
        self.assertEqual((one.kind, one.corner_radius, one.width), ("pocket", 4.0, 20.0))
        self.assertAlmostEqual(one.depth, 8.0)
        self.assertTrue(close(one.opens, UP))
        self.assertEqual([tuple(side) for side in one.sides], [UP])
        self.assertIsNone(one.floor_radius)

    def test_pocket_with_a_filleted_floor(self):
        cut = pocket((10, 10, 12), (40, 30, 30), 4)
        cut = solids.filleted(cut, 1.5, lambda m: m[2] < 12.01)
        (one,) = found_in(solids.minus(solids.box(*BLOCK), cut)).recesses
        self.assertEqual((one.kind, one.floor_radius, one.corner_radius), ("pocket", 1.5, 4.0))
        self.assertAlmostEqual(one.depth, 8.0)

    def test_sharp_pocket_is_a_problem_and_a_sharp_step_is_none(self):
        facts = part_facts(model(solids.minus(solids.box(*BLOCK), solids.box((10, 10, 12), (40, 30, 30)))))
        self.assertEqual([p["corner_radius"] for p in facts["pockets"]], [0.0])
        self.assertIn("part.sharp_corner", [problem["code"] for problem in facts["problems"]])
        # In a corner open to two sides the sharp edge is made from beside, with a floor and a wall.
        facts = part_facts(model(solids.minus(solids.box(*BLOCK), solids.box((30, 20, 12), (70, 50, 30)))))
        self.assertTrue(facts["pockets"])
        self.assertEqual(facts["problems"], [])

    def test_step_open_slot_and_closed_slot(self):
        (step,) = found_in(solids.minus(solids.box(*BLOCK), solids.box((40, -1, 12), (70, 50, 30)))).recesses
        self.assertEqual((step.kind, step.depth), ("step", 8.0))
        (slot,) = found_in(solids.minus(solids.box(*BLOCK), solids.box((-1, 14, 12), (70, 26, 30)))).recesses
        self.assertEqual((slot.kind, slot.width, slot.depth), ("open slot", 12.0, 8.0))
        (closed,) = found_in(
            solids.minus(solids.box(*BLOCK), solids.stadium((20, 20), (40, 20), 5, 13, 30))
        ).recesses
        self.assertEqual((closed.kind, closed.width, closed.corner_radius), ("slot", 10.0, 5.0))
        self.assertAlmostEqual(closed.depth, 7.0)

    def test_openings_go_through(self):
        (slot,) = found_in(
            solids.minus(solids.box(*BLOCK), solids.stadium((20, 20), (40, 20), 5, -1, 30))
        ).recesses
        self.assertEqual((slot.kind, slot.floor, slot.depth), ("through slot", None, 20.0))
        self.assertEqual({tuple(side) for side in slot.sides}, {UP, DOWN})
        (window,) = found_in(solids.minus(solids.box(*BLOCK), pocket((10, 10, -1), (40, 30, 30), 3))).recesses
        self.assertEqual((window.kind, window.corner_radius), ("opening", 3.0))

    def test_boss_in_a_pocket_is_an_island(self):
        cut = solids.minus(pocket((10, 5, 12), (50, 35, 30), 4), solids.cylinder((30, 20, 11), 6, 6))
        found = found_in(solids.minus(solids.box(*BLOCK), cut))
        (boss,) = found.bosses
        self.assertEqual(boss.diameter, 12.0)
        self.assertAlmostEqual(boss.height, 5.0)
        self.assertEqual([one.islands for one in found.recesses], [1])

    def test_a_slanted_pocket_opens_along_its_own_way(self):
        shape = solids.turned(
            solids.minus(solids.box(*BLOCK), pocket((10, 10, 12), (40, 30, 30), 4)), 30, (1, 0, 0)
        )
        (one,) = found_in(shape).recesses
        self.assertTrue(close(one.opens, (0, -0.5, np.sqrt(0.75))))
        self.assertTrue(any(close(side, one.opens) for side in one.sides))


class Edges(unittest.TestCase):
    def test_fillets_and_chamfers(self):
        ledge = solids.minus(solids.box(*BLOCK), solids.box((40, -1, 12), (70, 50, 30)))
        shape = solids.filleted(ledge, 2, lambda m: abs(m[0] - 40) < 1e-6 and abs(m[2] - 12) < 1e-6)
        shape = solids.chamfered(shape, 1, lambda m: m[0] < 1e-6 and m[2] > 19.9)
        found = found_in(shape)
        self.assertEqual([(f.radius, f.hollow) for f in found.fillets], [(2.0, True)])
        (chamfer,) = found.chamfers
        self.assertAlmostEqual(chamfer.width, np.sqrt(2), places=3)
        self.assertAlmostEqual(chamfer.angle_deg, 45.0, places=6)

    def test_hole_meeting_a_fillet_is_still_one_hole(self):
        ledge = solids.minus(solids.box(*BLOCK), solids.box((40, -1, 12), (70, 50, 30)))
        shape = solids.filleted(ledge, 3, lambda m: abs(m[0] - 40) < 1e-6 and abs(m[2] - 12) < 1e-6)
        found = found_in(solids.minus(shape, solids.cylinder((43, 20, -1), 2.5, 40)))
        (hole,) = found.holes
        self.assertEqual((hole.diameter, hole.through), (5.0, True))
        self.assertEqual([f.radius for f in found.fillets if f.hollow], [3.0])

    def test_hole_split_by_a_pocket(self):
        cut = pocket((20, 10, 6), (40, 30, 14), 3)
        channel = solids.box((-1, 12, 7), (30, 28, 13))
        found = found_in(solids.minus(solids.box(*BLOCK), cut, channel, solids.cylinder((30, 20, -1), 3, 40)))
        self.assertEqual([(h.diameter, h.through, h.interrupted) for h in found.holes], [(6.0, True, True)])


class Reach(unittest.TestCase):
    def test_t_slot_hides_what_no_straight_tool_reaches(self):
        neck = solids.box((-1, 17, 10), (70, 23, 30))
        under = solids.box((10, 10, 4), (50, 30, 10))
        found = found_in(solids.minus(solids.box(*BLOCK), neck, under))
        self.assertTrue(found.hidden)
        shares = dict(found.hidden)
        self.assertTrue(all(share < 0.97 for share in shares.values()))
        facts = part_facts(model(solids.minus(solids.box(*BLOCK), neck, under)))
        self.assertIn("part.hidden", [problem["code"] for problem in facts["problems"]])

    def test_share_is_the_area_that_is_seen(self):
        # A roof of 60 × 10 over a floor of 60 × 40: three quarters of the floor are seen from above.
        shape = solids.minus(
            solids.box(*BLOCK), solids.box((-1, -1, 8), (70, 41, 14)), solids.box((-1, 10, 13), (70, 50, 30))
        )
        shape = solids.plus(shape, solids.box((0, 0, 7), (60, 0.5, 15)))
        part = model(shape)
        share, _ = visible(part, [UP])
        floor = max(
            (f for f in part.part.faces if f.normal and f.normal[2] > 0.99 and abs(f.centre[2] - 8) < 1e-6),
            key=lambda f: f.area,
        )
        self.assertAlmostEqual(share[floor.number, 0], 30 / 39.5, delta=0.08)
        bottom = next(f for f in part.part.faces if f.normal and f.normal[2] < -0.99 and f.centre[2] < 1e-6)
        self.assertEqual(share[bottom.number, 0], 0.0)

    def test_every_face_of_the_demo_is_reached_from_somewhere(self):
        found = features_of(read_step(DEMO.read_bytes(), DEMO.name))
        self.assertEqual(found.hidden, ())
        # As it was drawn (demo/encoder-housing/build_part.py): electronics pocket, relief pocket, seal
        # groove, slanted recess.
        depths = sorted(round(recess.depth, 3) for recess in found.recesses)
        self.assertEqual(depths, [3.0, 4.0, 8.0, 24.0])
        self.assertEqual([boss.diameter for boss in found.bosses], [42.0])


class Headless(unittest.TestCase):
    def test_facts_of_the_demo_as_json(self):
        done = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "part", str(DEMO), "--json"],
            capture_output=True,
            text=True,
            check=True,
        )
        facts = json.loads(done.stdout)
        self.assertEqual(facts["faces"], {"cone": 14, "cylinder": 31, "plane": 25})
        self.assertEqual(len(facts["holes"]), 12)
        self.assertEqual(facts["smallest_inner_radius_mm"], 2.0)
        self.assertEqual(facts["problems"], [])
        self.assertEqual({pocket["corner_radius"] for pocket in facts["pockets"]}, {None, 5.0, 6.0, 2.0})
