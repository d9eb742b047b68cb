"""Faces that stay as they came: what stands on them is not left, what is missing there is still missing."""

from __future__ import annotations

import hashlib
import unittest

import numpy as np

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.mesh import box, to_stl
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.stock.compare import compare
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_block
from pelvrak.core.stock.surface import surface
from tests import solids

PART = model_of_solid(solids.box((0, 0, 0), (60, 40, 20)), "0" * 64, "millimetre")


def face(*way: float) -> int:
    return next(one.number for one in PART.part.faces if one.normal == way)


def compared(low, high, as_came):
    low, high = np.array(low, float), np.array(high, float)
    grid = grid_around(np.minimum(low, 0) - 1, np.maximum(high, [60, 40, 20]) + 1, 0.5)
    field = field_of_block(grid, low, high)
    return compare(field, surface(field), PART.mesh, (), as_came)


class Comparing(unittest.TestCase):
    def test_what_stands_on_a_rough_face_is_not_left(self):
        """3 mm on top that stay and 1 mm underneath that should have gone, by closed form."""
        whole = compared((0, 0, -1), (60, 40, 23), ())
        self.assertAlmostEqual(whole.max_left_mm, 3.0, delta=1e-3)
        self.assertAlmostEqual(whole.left_volume_mm3, 60 * 40 * 4, delta=10)
        found = compared((0, 0, -1), (60, 40, 23), (face(0.0, 0.0, 1.0),))
        self.assertAlmostEqual(found.max_left_mm, 1.0, delta=1e-3)
        self.assertAlmostEqual(found.left_volume_mm3, 60 * 40, delta=60)
        self.assertAlmostEqual(found.as_came_mm3, 60 * 40 * 3, delta=60)
        self.assertAlmostEqual(found.as_came_mm3 + found.left_volume_mm3, whole.left_volume_mm3, delta=1)
        self.assertAlmostEqual(float(found.away.max()), 1.0, delta=1e-3)

    def test_what_is_missing_there_is_missing(self):
        found = compared((0, 0, 0), (60, 40, 19.5), (face(0.0, 0.0, 1.0),))
        self.assertAlmostEqual(found.max_gouge_mm, 0.5, delta=1e-3)
        self.assertAlmostEqual(found.gouge_volume_mm3, 60 * 40 * 0.5, delta=10)


class Route(unittest.TestCase):
    def test_a_casting_whose_sides_stay(self):
        """Cast to size but on top: the sides lie on the part's own and ask for no cover, the top for its."""
        step = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20)))
        data = to_stl(box(np.array([-0.3, 0.2, 0.0]), np.array([59.7, 40.0, 22.0])), "x")
        sides = [one for one in PART.part.faces if one.normal and abs(one.normal[2]) < 0.5]
        document = {
            "name": "cast",
            "part": {"file": "a.step"},
            "billet": {"kind": "model", "file": "c.stl", "sha256": hashlib.sha256(data).hexdigest()},
            "setups": [{"name": "OP10"}],
        }

        def codes(rough) -> set[str]:
            plan = plan_from({**document, "part": {"file": "a.step", "as_came": rough}})
            report = evaluate(plan, step, MemoryStore(), files=lambda sha256, name: data)
            return {one.code for one in report.findings()}

        self.assertIn("billet.too_small", codes([]))
        stay = [{"face": one.number, "at": one.centre} for one in sides]
        self.assertNotIn("billet.too_small", codes(stay))
