"""Round work in chucks and collets: located, stood off, slender, on a point, on a rotary lying down."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np

from pelvrak.core.geometry.mesh import mesh_of
from pelvrak.core.holding.hold import Hold, Item, WorkPlace
from pelvrak.core.holding.on_table import middle_of_table
from pelvrak.core.machine.kinematics import direction_of, pose, table_frame
from pelvrak.core.machine.machine import machine_of
from tests.holdings import SHOP, held


def bar(diameter: float, length: float, centre: float = 0.0):
    """A bar standing, with a centre hole of 60° at its top, so wide at its mouth."""
    body = manifold3d.Manifold.cylinder(length, diameter / 2, diameter / 2, 128)
    if centre > 0:
        deep = centre / 2 / np.tan(np.radians(30.0))
        hole = manifold3d.Manifold.cylinder(deep, 0.0, centre / 2, 128)
        body -= hole.translate([0, 0, length - deep])
    return mesh_of(body)


def chucked(work, *more: Item, chuck="chuck-3-160", **field):
    items = (Item(id="chuck", fixture=chuck, x=100, y=100, **field), *more)
    return held(Hold(items=items, work=WorkPlace()), work)


def codes(found) -> set[str]:
    return {f.code for f in found.findings}


class Chucks(unittest.TestCase):
    def test_a_chuck_locates_and_presses_alike(self):
        """Three jaws of 12 kN each, by hand: three forces at 120° balance only when they are alike. Of the
        six freedoms the turn about the axis is left.
        """
        found = chucked(bar(60, 90))
        self.assertEqual(found.facts.locating.rank, 5)
        self.assertIn("turning about Z", found.facts.locating.free[0])
        by_jaw: dict[str, float] = {}
        for one in found.facts.contacts:
            if one.name.startswith("jaw"):
                by_jaw[one.name] = by_jaw.get(one.name, 0.0) + one.force
        self.assertEqual(set(by_jaw), {"jaw 1", "jaw 2", "jaw 3"})
        for force in by_jaw.values():
            self.assertAlmostEqual(force, 12000, delta=120)
        self.assertAlmostEqual(found.facts.grip_depth, 40, delta=0.01)
        self.assertAlmostEqual(found.facts.stands_above, 50, delta=0.01)
        self.assertIn("Close the chuck by hand, tighten.", found.facts.sequence)
        self.assertFalse([f for f in found.findings if f.severity != "note"])

    def test_four_jaws_on_square_work(self):
        square = mesh_of(manifold3d.Manifold.cube([50, 50, 80]))
        found = chucked(square, chuck="chuck-4-200")
        self.assertEqual(found.facts.locating.rank, 6)
        forces = [c.force for c in found.facts.contacts if c.name.startswith("jaw")]
        for force in forces:
            self.assertAlmostEqual(force, 15000, delta=150)

    def test_stood_off_the_face(self):
        """25 mm off: 15 of the 40 mm of jaw grip, and nothing holds it along the axis but friction."""
        found = chucked(bar(60, 90), stand_off=25.0)
        self.assertAlmostEqual(found.facts.zero_on_table[2], 70 + 25, delta=1e-3)
        self.assertAlmostEqual(found.facts.grip_depth, 15, delta=0.01)
        self.assertFalse([c for c in found.facts.contacts if c.name == "chuck body"])
        free = next(f for f in found.findings if f.code == "hold.not_located")
        self.assertEqual(free.severity, "note")
        self.assertIn("sliding along Z", free.sentence)

    def test_low_in_the_chuck(self):
        """37 mm off its face 3 mm are gripped: further in by what is wanted, and a little."""
        found = chucked(bar(60, 90), stand_off=37.0)
        told = next(f for f in found.findings if f.code == "hold.shallow")
        self.assertAlmostEqual(told.measured, 3.0, delta=0.01)
        [edit] = told.cures[0].edits
        self.assertEqual(edit.field, "stand_off")
        deeper = chucked(bar(60, 90), stand_off=edit.value)
        self.assertAlmostEqual(deeper.facts.grip_depth, 6.0, delta=0.01)
        self.assertNotIn("hold.shallow", codes(deeper))

    def test_slender_work_wants_a_point(self):
        """Ø50 × 250: 210 mm stand out, 4.2 of its thicknesses; on a point it is held at both ends."""
        told = next(f for f in chucked(bar(50, 250)).findings if f.code == "hold.slender")
        self.assertAlmostEqual(told.measured, 210 / 50, delta=0.02)
        point = Item(id="point", fixture="tailstock-25", on="chuck")
        on_point = chucked(bar(50, 250, centre=8.0), point)
        self.assertNotIn("hold.slender", codes(on_point))
        self.assertFalse([f for f in on_point.findings if f.severity == "error"])
        centre = next(c for c in on_point.facts.contacts if c.name == "tailstock's point")
        # The cone fills its hole: the rim is 8 across, its middle at the work's end.
        self.assertAlmostEqual(centre.width, 8.0, delta=0.2)
        self.assertAlmostEqual(centre.centre[2], 250.0, delta=0.2)
        self.assertNotIn("sliding along Z", " ".join(on_point.facts.locating.free))
        down = sum(c.force for c in on_point.facts.contacts if c.name == "chuck body")
        self.assertAlmostEqual(down, 2000, delta=60)

    def test_a_point_on_a_face_without_a_hole(self):
        found = chucked(bar(50, 250), Item(id="point", fixture="tailstock-25", on="chuck"))
        self.assertIn("hold.no_centre", codes(found))
        beside = chucked(bar(50, 250), Item(id="point", fixture="tailstock-25", on="chuck", x=60.0))
        self.assertIn("hold.clamp_misses", codes(beside))

    def test_a_point_leans_as_its_cone_does(self):
        """60°: what presses 2 kN along the axis presses 4 kN square to the cone, on all sides together."""
        point = Item(id="point", fixture="tailstock-25", on="chuck")
        found = chucked(bar(50, 250, centre=8.0), point)
        number = next(i for i, p in enumerate(found.pieces) if p.name == "tailstock's point")
        patch = next(p for p in found.patches if p.piece == number)
        np.testing.assert_allclose(patch.looks[:, 2], -0.5, atol=1e-9)
        force = next(c.force for c in found.facts.contacts if c.name == "tailstock's point")
        self.assertAlmostEqual(force, 4000, delta=40)


class Collets(unittest.TestCase):
    def test_the_collet_of_the_size(self):
        """A set of whole sizes, each closing half a millimetre: Ø19.8 goes into 20, Ø19 into none."""

        def lying(diameter):
            work = mesh_of(
                manifold3d.Manifold.cylinder(120, diameter / 2, diameter / 2, 128).rotate([0, 90, 0])
            )
            items = (Item(id="block", fixture="collet-4", x=300, y=200),)
            return held(Hold(items=items, work=WorkPlace(x=20.0)), work)

        self.assertIn("collet Ø20", {p.name for p in lying(19.8).pieces})
        self.assertIn("collet Ø20", {p.name for p in lying(20.0).pieces})
        moves = {p.name: p.moves for p in lying(20.0).facts.pieces}
        self.assertEqual(moves, {"collet block": False, "collet Ø20": True, "table": False})
        told = next(f for f in lying(19.0).findings if f.code == "hold.collet_size")
        self.assertEqual((told.measured, told.limit), (19.0, 18.0))


class FacePlate(unittest.TestCase):
    """A chuck on the face plate of a rotary that lies along X."""

    def test_up_is_along_the_rotary_and_every_side_comes_to_the_tool(self):
        """What stands up on the plate lies along X; a turn of A by 90° brings the next side up: by hand."""
        machine = machine_of("vertical-760-face")
        frame = table_frame(machine)
        np.testing.assert_allclose(frame[:3, 2], [1, 0, 0], atol=1e-12)
        first, second = direction_of(machine, {"A": 0.0}), direction_of(machine, {"A": 90.0})
        np.testing.assert_allclose([first[2], second[2], first @ second], 0, atol=1e-12)
        np.testing.assert_allclose(direction_of(machine, {"A": 180.0}), -first, atol=1e-12)
        # The middle of the plate is the axis: it stays where it is.
        middle = np.array([100.0, 100.0, 0.0, 1.0])
        for angle in (0.0, 77.0):
            at = pose(machine, {"A": angle}).base_from_table @ middle
            np.testing.assert_allclose(at[:3], [-560, -215, -480], atol=1e-9)

    def test_the_chuck_stands_in_its_middle(self):
        self.assertEqual(SHOP["tailstock-25"].stands_on, ("chuck",))
        machine = machine_of("vertical-760-face")
        at = middle_of_table(SHOP["chuck-3-160"], machine.table.length, machine.table.depth)
        self.assertEqual(at, (100.0, 100.0))


if __name__ == "__main__":
    unittest.main()
