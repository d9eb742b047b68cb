"""Measuring between picks, against what the solid was built with."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.measure import Target, measured
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids

# A 60 × 40 × 20 block, a Ø8 hole at (20, 10) along z, a Ø6 one at x = 45, z = 12 along y.
SHAPE = solids.minus(
    solids.box((0, 0, 0), (60, 40, 20)),
    solids.cylinder((20, 10, -1), 4, 30),
    solids.cylinder((45, -1, 12), 3, 50, (0, 1, 0)),
)
PART = model_of_solid(SHAPE, "", "MM").part


def plane(*way):
    return Target(
        kind="face", number=next(f.number for f in PART.faces if f.normal and np.dot(f.normal, way) > 0.99)
    )


def hole(diameter):
    return Target(
        kind="face",
        number=next(f.number for f in PART.faces if f.radius and abs(2 * f.radius - diameter) < 1e-6),
    )


def point(*at):
    return Target(kind="point", at=at)


class Measures(unittest.TestCase):
    def values(self, *targets) -> dict[str, float]:
        return {value.name: value.value for value in measured(PART, *targets)}

    def test_one_thing(self):
        self.assertEqual(self.values(hole(8))["diameter"], 8.0)
        self.assertAlmostEqual(self.values(plane(-1, 0, 0))["area"], 800.0, places=6)
        circle = next(e for e in PART.edges if e.kind == "circle" and abs((e.radius or 0) - 4) < 1e-6)
        own = self.values(Target(kind="edge", number=circle.number))
        self.assertEqual(own["diameter"], 8.0)
        self.assertAlmostEqual(own["length"], math.pi * 8, places=5)

    def test_points(self):
        found = self.values(point(0, 0, 0), point(3, 4, 12))
        self.assertEqual(
            (found["distance"], found["along x"], found["along y"], found["along z"]), (13.0, 3.0, 4.0, 12.0)
        )

    def test_point_to_plane_and_to_axis(self):
        self.assertAlmostEqual(self.values(plane(0, 0, 1), point(1, 2, 3))["distance"], 17.0)
        self.assertAlmostEqual(self.values(point(23, 14, 7), hole(8))["distance"], 5.0)

    def test_faces(self):
        parallel = self.values(plane(1, 0, 0), plane(-1, 0, 0))
        self.assertEqual((parallel["distance"], parallel["angle"]), (60.0, 0.0))
        square = self.values(plane(1, 0, 0), plane(0, 0, 1))
        self.assertEqual(square, {"angle": 90.0})

    def test_axes_across_each_other(self):
        # (20, 10) along z and x = 45, z = 12 along y: 25 mm apart at right angles.
        found = self.values(hole(8), hole(6))
        self.assertAlmostEqual(found["distance"], 25.0)
        self.assertAlmostEqual(found["angle"], 90.0)

    def test_axis_to_plane(self):
        found = self.values(hole(8), plane(-1, 0, 0))
        self.assertAlmostEqual(found["distance"], 20.0)
        self.assertEqual(self.values(hole(8), plane(0, 0, 1)), {"angle": 90.0})

    def test_refused(self):
        for target, code in (
            (Target(kind="face", number=999), "measure.no_face"),
            (Target(kind="edge", number=999), "measure.no_edge"),
            (Target(kind="point"), "measure.no_point"),
        ):
            with self.assertRaises(BadInput) as refused:
                measured(PART, target)
            self.assertEqual(refused.exception.code, code)
