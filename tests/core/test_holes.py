"""Holes of solids built with known holes, nasty ones among them."""

from __future__ import annotations

import json
import math
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

from pelvrak.core.geometry.holes import hole_features
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.geometry.visibility import Caster
from tests import solids

DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing" / "encoder-housing.step"
BLOCK = ((0.0, 0.0, 0.0), (60.0, 40.0, 20.0))


def found_in(model):
    return hole_features(model, Caster(model.mesh))


def holes_of(*cuts):
    return found_in(model_of_solid(solids.minus(solids.box(*BLOCK), *cuts), "", "MM"))


class Holes(unittest.TestCase):
    def ways(self, hole) -> set[tuple[int, ...]]:
        return {tuple(round(c) for c in side) for side in hole.sides}

    def test_plain_through(self):
        (hole,) = holes_of(solids.cylinder((20, 20, -1), 4, 30))
        self.assertEqual((hole.diameter, hole.depth, hole.through, hole.form), (8.0, 20.0, True, "plain"))
        self.assertEqual(self.ways(hole), {(0, 0, 1), (0, 0, -1)})

    def test_blind_with_a_drill_point(self):
        point = 4 / math.tan(math.radians(59))
        (hole,) = holes_of(solids.cylinder((20, 20, 8), 4, 20), solids.cone((20, 20, 8 - point), 0, 4, point))
        self.assertFalse(hole.through)
        self.assertEqual(hole.form, "with a drill point")
        self.assertAlmostEqual(hole.depth, 12 + point, places=4)
        self.assertEqual(self.ways(hole), {(0, 0, 1)})
        self.assertEqual([stage.kind for stage in hole.stages], ["cylinder", "cone"])
        self.assertTrue(np.allclose(hole.mouth, [20, 20, 20]))
        self.assertTrue(np.allclose(hole.axis, [0, 0, -1]))

    def test_counterbore_of_iso_4762_m6(self):
        # Socket head cap screw M6: through hole 6.6 (ISO 273, medium), counterbore 11 × 6.5 (DIN 974-1, from
        # memory).
        (hole,) = holes_of(solids.cylinder((20, 20, -1), 3.3, 30), solids.cylinder((20, 20, 13.5), 5.5, 10))
        self.assertEqual((hole.form, hole.through, hole.diameter), ("counterbored", True, 6.6))
        self.assertEqual([round(stage.start_diameter, 3) for stage in hole.stages], [11.0, 6.6])
        self.assertEqual(self.ways(hole), {(0, 0, 1)})  # from below the counterbore cannot be reached

    def test_countersunk(self):
        (hole,) = holes_of(solids.cylinder((20, 20, -1), 3, 30), solids.cone((20, 20, 17), 3, 6, 3))
        self.assertEqual(hole.form, "countersunk")
        self.assertEqual([stage.kind for stage in hole.stages], ["cone", "cylinder"])
        self.assertEqual(self.ways(hole), {(0, 0, 1)})

    def test_two_coaxial_holes_from_opposite_sides_are_two(self):
        two = holes_of(solids.cylinder((20, 20, 14), 4, 10), solids.cylinder((20, 20, -2), 4, 8))
        self.assertEqual([self.ways(hole) for hole in two], [{(0, 0, -1)}, {(0, 0, 1)}])
        self.assertEqual([hole.depth for hole in two], [6.0, 6.0])
        self.assertFalse(any(hole.through or hole.interrupted for hole in two))

    def test_a_hole_crossed_by_a_pocket_is_one(self):
        (hole,) = holes_of(solids.cylinder((20, 20, -1), 3, 30), solids.box((10, -5, 8), (30, 45, 14)))
        self.assertTrue(hole.through and hole.interrupted)
        self.assertEqual(hole.depth, 20.0)
        self.assertEqual(self.ways(hole), {(0, 0, 1), (0, 0, -1)})

    def test_a_mouth_under_a_roof_cannot_be_drilled(self):
        # A slot from the side, a hole in its floor: the roof stands in the way from above.
        slot = solids.box((10, -5, 8), (30, 45, 14))
        (hole,) = holes_of(slot, solids.cylinder((20, 20, 2), 3, 8))
        self.assertEqual(self.ways(hole), set())
        self.assertFalse(hole.through)

    def test_a_ring_groove_is_no_hole(self):
        groove = solids.minus(solids.cylinder((20, 20, 17), 9, 10), solids.cylinder((20, 20, 16), 7, 12))
        (bore,) = holes_of(groove, solids.cylinder((20, 20, -1), 4, 30))
        self.assertEqual((bore.diameter, bore.form), (8.0, "plain"))

    def test_leaning_and_inch(self):
        lean = np.array([math.sin(math.radians(25)), 0, math.cos(math.radians(25))])
        start = np.array([30, 20, 10]) - 60 * lean
        shape = solids.minus(solids.box(*BLOCK), solids.cylinder(tuple(start), 2.5, 120, tuple(lean)))
        for unit in ("MM", "INCH"):
            (hole,) = found_in(read_step(solids.step_bytes(shape, unit)))
            self.assertAlmostEqual(hole.diameter, 5.0, places=4)
            self.assertTrue(hole.through)
            self.assertAlmostEqual(abs(float(np.dot(hole.axis, lean))), 1.0, places=9)

    def test_the_demo(self):
        model = read_step(DEMO.read_bytes())
        seen = found_in(model)
        widths = [hole.diameter for hole in seen]
        self.assertEqual(widths.count(5.0), 8)  # tapping drills of M6 (ISO 2306)
        self.assertEqual(widths.count(10.5), 1)  # of M12 × 1.5
        self.assertEqual(widths.count(8.0), 2)
        bore = next(hole for hole in seen if hole.diameter == 35.0)
        self.assertTrue(bore.through)
        self.assertIn(52.0, [stage.start_diameter for stage in bore.stages])
        self.assertEqual(bore.form, "counterbored")
        self.assertEqual(self.ways(bore), {(0, 0, 1)})


class Headless(unittest.TestCase):
    def test_facts_as_json(self):
        done = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "part", str(DEMO), "--json"],
            capture_output=True,
            text=True,
            check=True,
        )
        facts = json.loads(done.stdout)
        self.assertEqual(facts["unit"], "millimetre")
        self.assertTrue(np.allclose(facts["size"], [120, 80, 42], atol=1e-6))
        self.assertEqual(facts["smallest_inner_radius_mm"], 2.0)  # the sensor window's corners
        self.assertEqual(sum(facts["faces"].values()), len(read_step(DEMO.read_bytes()).part.faces))
        self.assertGreater(len(facts["holes"]), 6)

    def test_said_plainly(self):
        done = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "part", str(DEMO)],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertIn("120.000 × 80.000 × 42.000 mm", done.stdout)
        wrong = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "part", __file__, "--json"],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(wrong.returncode, 2)
        self.assertIn("neither STEP", wrong.stderr)


if __name__ == "__main__":
    unittest.main()
