"""Faces that stay as they came: what stands on them is not left, what is missing there is still missing."""

from __future__ import annotations

import hashlib
import unittest

import numpy as np

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.mesh import Mesh, box, to_stl
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.stock.compare import Rough, compare, refined
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


class Cut(unittest.TestCase):
    def test_who_cut_over_them(self):
        """A block 3 mm over its top, which is to stay: the top faced by maker 257 is told with its area, its
        sides and what lies beyond it are not.
        """
        mesh = box(np.array([-5.0, -5, 0]), np.array([65.0, 45, 23]))
        up = mesh.vertices[mesh.triangles][:, :, 2].min(axis=1) > 22
        right = mesh.vertices[mesh.triangles][:, :, 0].min(axis=1) > 64
        label = np.where(up, 257, np.where(right, 513, 0))
        stays = Rough(PART.mesh, [face(0.0, 0.0, 1.0)])
        fine = refined(Mesh(mesh.vertices, mesh.triangles, label), 1.0)
        [(maker, area, at)] = stays.cut_in(fine)
        self.assertEqual(maker, 257)
        self.assertAlmostEqual(area, 60 * 40, delta=0.05 * 2400)
        self.assertAlmostEqual(at[2], 23.0, delta=1e-9)
        self.assertEqual(Rough(PART.mesh, [face(0.0, -1.0, 0.0)]).cut_in(fine), ())


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

    def test_facing_a_side_that_stays_is_told(self):
        """The top, marked to stay, faced all the same: the operation is named."""
        step = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20)))
        facing = {"kind": "facing", "id": "f", "name": "Face top", "tool": "em10"}
        document = {
            "name": "p",
            "part": {"file": "a.step", "as_came": [{"face": face(0.0, 0.0, 1.0), "at": (30.0, 20.0, 20.0)}]},
            "setups": [{"name": "OP10", "operations": [facing]}],
            "tools": [tool_shelf()["em10"].model_dump(mode="json")],
        }
        report = evaluate(plan_from(document), step, MemoryStore())
        told = next(one for one in report.findings() if one.code == "compare.cut_rough")
        self.assertEqual((told.setup, told.operation, told.severity), ("OP10", "f", "warning"))
        self.assertIn("Face top cuts", told.sentence)
        self.assertAlmostEqual(told.measured, 60 * 40, delta=250)
