"""How stiff a stack is: sections against Open CASCADE and closed forms, beams against theirs."""

from __future__ import annotations

import math
import unittest

import manifold3d
import numpy as np
from OCP.BRepGProp import BRepGProp
from OCP.GProp import GProp_GProps

from pelvrak.core.geometry.mesh import box
from pelvrak.core.holding.hold import Hold, Item, WorkPlace
from pelvrak.core.holding.stack import MODULUS, POISSON, SHEAR, section
from tests import solids
from tests.holdings import held

BLOCK = box(np.array([-15.0, -15.0, 0.0]), np.array([15.0, 15.0, 20.0]))


def beam(width: float, depth: float, height: float) -> float:
    """A cantilever pushed at its end across its weaker way, mm/N: F·h³/(3·E·I) + κ·F·h/(G·A)."""
    thin, wide = sorted((width, depth))
    second, shear = wide * thin**3 / 12, MODULUS / (2 * (1 + POISSON))
    return height**3 / (3 * MODULUS * second) + SHEAR * height / (shear * thin * wide)


class Sections(unittest.TestCase):
    def test_rings_by_hand(self):
        square = manifold3d.Manifold.cube([30, 20, 5])
        area, second = section(square.slice(2.0).to_polygons())
        self.assertAlmostEqual(area, 600)
        self.assertAlmostEqual(second, 30 * 20**3 / 12)
        hollow = square - manifold3d.Manifold.cube([10, 10, 9]).translate([10, 5, -1])
        self.assertAlmostEqual(section(hollow.slice(2.0).to_polygons())[1], 30 * 20**3 / 12 - 10**4 / 12)
        turned = section(square.rotate([0, 0, 33]).translate([50, -7, 0]).slice(2.0).to_polygons())
        self.assertAlmostEqual(turned[1], second, delta=1e-6 * second)

    def test_an_angle_by_open_cascade(self):
        """An L 40 × 30 × 6: least moment of inertia of its thin plate, per thickness and density."""
        shape = solids.plus(solids.box((0, 0, 0), (40, 6, 1)), solids.box((0, 0, 0), (6, 30, 1)))
        props = GProp_GProps()
        BRepGProp.VolumeProperties_s(shape, props)
        own = props.PrincipalProperties().Moments()
        # Of a plate 1 thick the second moment of its shape is its inertia less what its thickness adds.
        least = min(own) - props.Mass() / 12
        body = manifold3d.Manifold.cube([40, 6, 1]) + manifold3d.Manifold.cube([6, 30, 1])
        area, second = section(body.slice(0.5).to_polygons())
        self.assertAlmostEqual(area, props.Mass(), places=6)
        self.assertAlmostEqual(second, least, delta=1e-6 * least)


class Stacks(unittest.TestCase):
    def test_a_step_block_is_a_beam(self):
        hold = Hold(
            items=(Item(id="block", fixture="block-40", x=300, y=200, height=60.0),),
            work=WorkPlace(on="block"),
        )
        stack = held(hold, BLOCK).facts.stack
        self.assertEqual((stack.items, stack.height), (("block",), 60.0))
        self.assertAlmostEqual(stack.per_kn, 1000 * beam(40, 40, 60), delta=1e-6)

    def test_one_on_the_other(self):
        """A block of 40 on one of 60: the lower one bends under the moment of what is above it too."""
        items = (
            Item(id="low", fixture="block-40", x=300, y=200, height=60.0),
            Item(id="high", fixture="pad-20", on="low", height=30.0),
        )
        stack = held(Hold(items=items, work=WorkPlace(on="high")), BLOCK).facts.stack
        self.assertEqual(stack.items, ("low", "high"))
        self.assertEqual(stack.height, 90.0)
        second, shear = 40**4 / 12, MODULUS / (2 * (1 + POISSON))
        low = (90**3 - 30**3) / (3 * MODULUS * second) + SHEAR * 60 / (shear * 1600)
        self.assertAlmostEqual(stack.per_kn, 1000 * (low + beam(20, 20, 30)), delta=1e-6)

    def test_a_chain_from_the_table_up(self):
        """On a swivel base a vise bends more than on the table."""

        def in_vise(*below: Item, on: str = "table"):
            items = (
                *below,
                Item(id="vise", fixture="bench-125", x=0 if below else 400, y=0 if below else 300, on=on),
                Item(id="jaws", fixture="hard-125", on="vise"),
                Item(id="p", fixture="par-125x5", on="vise", height=20),
            )
            hold = Hold(items=items)
            return hold, held(hold, BLOCK).facts.stack

        hold, low = in_vise()
        self.assertEqual(hold.under("p"), ("vise", "p"))
        self.assertEqual(low.items, ("vise", "p"))
        _, high = in_vise(Item(id="base", fixture="swivel-240", x=400, y=300), on="base")
        self.assertEqual(high.items, ("base", "vise", "p"))
        self.assertAlmostEqual(high.height - low.height, 32, delta=1e-6)
        self.assertGreater(high.per_kn, low.per_kn)
        self.assertTrue(math.isfinite(high.per_kn))


if __name__ == "__main__":
    unittest.main()
