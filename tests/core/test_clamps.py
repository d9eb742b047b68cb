"""Clamps on the work and on what carries it, screws by torque, pins that are stepped or expand, the order."""

from __future__ import annotations

import math
import unittest

import manifold3d
import numpy as np

from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import box, mesh_of
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import Hold, Item, Pinned, WorkPlace, fixtures_of
from pelvrak.core.holding.holding import Metal, hold_work
from pelvrak.core.holding.kinds import Clamp, Own, Pin
from pelvrak.core.holding.screws import force_by, most_force, torque_for

SHOP = fixtures_of(())
BLOCK = box(np.array([-50.0, -40.0, 0.0]), np.array([50.0, 40.0, 30.0]))


def codes(found) -> set[str]:
    return {one.code for one in found.findings}


def finding(found, code):
    return next(one for one in found.findings if one.code == code)


def on_plate(*items: Item, work=BLOCK, shapes=None, metal: Metal = Metal(), place=None, shop=SHOP):
    hold = Hold(
        items=(Item(id="plate", fixture="grid-400", x=400, y=300), *items),
        work=place or WorkPlace(on="plate"),
    )
    return hold_work(hold, shop, work, "OP10", shapes, metal)


class Screws(unittest.TestCase):
    def test_torque_and_force(self):
        """F = T / (0.2 · d): 80 Nm on M12 are 33.3 kN; and back."""
        self.assertAlmostEqual(force_by(80, "M12"), 80_000 / (0.2 * 12))
        self.assertAlmostEqual(torque_for(force_by(17.5, "M8"), "M8"), 17.5)

    def test_proof_force_against_the_standard(self):
        """ISO 898-1, proof loads of class 8.8 with coarse threads (from memory): M8 21.2 kN, M12 48.9 kN, M16
        91 kN; three quarters of them are left for screws that are used again.
        """
        for thread, proof_kn in (("M8", 21.2), ("M12", 48.9), ("M16", 91.0)):
            self.assertAlmostEqual(most_force(thread) / 750 / proof_kn, 1.0, delta=0.005)

    def test_a_strap_by_torque_and_one_that_is_overtightened(self):
        strap = {"fixture": "strap-125", "on": "plate", "x": 0.0, "y": -30.0}
        by_torque = on_plate(Item(id="s", torque_nm=40.0, **strap))
        [screw] = by_torque.facts.screws
        self.assertAlmostEqual(screw.force, 40_000 / 2.4, delta=0.1)
        piece = next(p for p in by_torque.pieces if p.name == "strap clamp")
        self.assertAlmostEqual(piece.force, 40_000 / 2.4 * 70 / 115, delta=0.1)
        usual = on_plate(Item(id="s", **strap)).facts.screws[0]
        self.assertEqual((usual.force, usual.torque), (16_000.0, 38.4))
        self.assertNotIn("hold.screw_overloaded", codes(by_torque))
        over = finding(on_plate(Item(id="s", force_kn=45.0, **strap)), "hold.screw_overloaded")
        self.assertAlmostEqual(over.limit, most_force("M12") / 1000, delta=0.01)
        value = over.cures[0].edits[0].value
        self.assertNotIn("hold.screw_overloaded", codes(on_plate(Item(id="s", force_kn=value, **strap))))


class Pressing(unittest.TestCase):
    def test_a_side_clamp_pushes_against_a_stop(self):
        """Its own force, 5° down, nothing by a lever; the plunger comes out as far as the work is away."""
        side = Item(id="side", fixture="side-45", on="plate", x=0.0, y=-46.0)
        stop = Item(id="stop", fixture="angle-150", on="plate", x=0.0, y=40.0)
        found = on_plate(side, stop)
        piece = next(p for p in found.pieces if p.name == "side clamp")
        self.assertAlmostEqual(piece.force, 8000.0)
        down = math.radians(5.0)
        np.testing.assert_allclose(piece.push, [0, math.cos(down), -math.sin(down)], atol=1e-9)
        self.assertAlmostEqual(float(piece.mesh.vertices[:, 1].max()), -40.0, delta=1e-6)
        self.assertFalse({"hold.clamp_misses", "hold.clamp_rise", "hold.not_clamped"} & codes(found))
        against = next(c for c in found.facts.contacts if c.item == "stop")
        self.assertAlmostEqual(against.force, 8000 * math.cos(down), delta=80)

    def test_a_side_clamp_too_far_away_is_moved(self):
        """20 mm off with 12 of stroke: told, with where it would stand in the middle of it."""
        hold = Hold(
            items=(Item(id="side", fixture="side-45", x=400.0, y=300.0),),
            work=WorkPlace(on="side", y=65.0),
        )
        found = hold_work(hold, SHOP, BLOCK, "OP10")
        told = finding(found, "hold.clamp_rise")
        self.assertAlmostEqual(told.measured, 25.0, delta=0.01)
        [edit] = told.cures[0].edits
        self.assertEqual((edit.field, edit.value), ("y", 319.0))

    def test_a_toggle_presses_with_its_own_force(self):
        found = on_plate(Item(id="t", fixture="toggle-2", on="plate", x=0.0, y=-30.0))
        piece = next(p for p in found.pieces if p.name == "toggle clamp")
        self.assertEqual(piece.force, 2000.0)
        self.assertEqual(found.facts.screws, ())
        touch = next(c for c in found.facts.contacts if c.item == "t")
        self.assertAlmostEqual(touch.area, math.pi * 36, delta=2.0)
        self.assertNotIn("hold.clamp_rise", codes(found))

    def test_a_clamp_on_what_carries_the_work(self):
        """A holder 60 high round work 30 high, a strap on its wall: it holds the holder, and says so."""
        wall = mesh_of(
            manifold3d.Manifold.cube([160, 120, 60], True) - manifold3d.Manifold.cube([100.2, 80.2, 61], True)
        )
        wall = box(np.array([-80.0, -60.0, 0.0]), np.array([80.0, -41.0, 60.0]))
        own = Own(id="wall", name="Our wall", file="wall.stl")
        shop = {**SHOP, "wall": own}
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="wall", fixture="wall", on="plate"),
                Item(id="s", fixture="strap-125", on="plate", x=0.0, y=-50.0),
            ),
            work=WorkPlace(on="wall"),
        )
        found = hold_work(hold, shop, BLOCK, "OP10", Shapes(own={"wall": wall}))
        told = finding(found, "hold.on_holder")
        self.assertIn("Our wall", told.sentence)
        piece = next(p for p in found.pieces if p.name == "strap clamp")
        self.assertIsNone(piece.push)
        self.assertIn("hold.not_clamped", codes(found))

    def test_shapes_of_clamps_that_have_none(self):
        with self.assertRaises(ValueError):
            Clamp.model_validate({**SHOP["side-45"].model_dump(), "down_deg": 60})


class Pins(unittest.TestCase):
    """Two holes Ø12 H7 50 apart: 0 … +18 µm (ISO 286-2, from memory)."""

    def on_pins(self, **changes):
        body = manifold3d.Manifold.cube([120, 80, 20])
        for x in (20, 70):
            body -= manifold3d.Manifold.cylinder(30, 6, 6, 64).translate([x, 40, -5])
        holes = {n: UprightHole(np.array([x, 40.0, 0]), 12.0, 0.0, 20.0) for n, x in ((1, 20.0), (2, 70.0))}
        first = SHOP["pin-12"].model_copy(update=changes)
        second = first.model_copy(update={"id": "diamond", "relieved": True})
        ref = {n: FaceRef(face=n, at=(0.0, 0.0, 0.0)) for n in (1, 2)}
        return on_plate(
            Item(id="a", fixture="pin-12", on="plate", hole=(3, 4)),
            Item(id="b", fixture="diamond", on="plate", hole=(5, 4), turn_deg=90),
            work=mesh_of(body),
            shapes=Shapes(holes=holes),
            place=WorkPlace(on="plate", pinned=(Pinned(hole=ref[1], pin="a"), Pinned(hole=ref[2], pin="b"))),
            shop={**SHOP, "pin-12": first, "diamond": second},
        )

    def test_play_turn_and_lift(self):
        """12 g6 is -6 … -17 µm: 6 to 35 µm of play; over 50 mm the work turns by atan(0.035 / 50)."""
        one, two = self.on_pins().facts.pins
        self.assertEqual((one.least, one.most, one.turns_deg), (0.006, 0.035, None))
        self.assertAlmostEqual(two.turns_deg, math.degrees(math.atan(0.035 / 50)), places=4)
        self.assertEqual(one.lifts_off, 18.0)

    def test_an_expanding_pin_takes_its_play_up(self):
        one, two = self.on_pins(expands=0.05).facts.pins
        self.assertEqual((one.least, one.most, two.turns_deg), (0.0, 0.0, 0.0))
        self.assertIn("expanding", one.said)
        little = self.on_pins(expands=0.01).facts.pins[0]
        self.assertEqual((little.least, little.most), (0.0, 0.025))

    def test_work_rests_on_the_step_of_a_pin(self):
        """A step 5 high: the work stands so high over the plate, and 13 mm of the pin are in the hole."""
        found = self.on_pins(shoulder=20.0, shoulder_height=5.0)
        self.assertAlmostEqual(found.facts.zero_on_table[2], 35.0, places=3)
        self.assertEqual(found.facts.pins[0].lifts_off, 13.0)
        self.assertNotIn("hold.on_pins", codes(found))
        rests = [c for c in found.facts.contacts if c.name == "pin shoulder"]
        self.assertEqual(len(rests), 2)
        self.assertAlmostEqual(rests[0].area, math.pi * (100 - 36), delta=2.0)
        with self.assertRaises(ValueError):
            Pin.model_validate({**SHOP["pin-12"].model_dump(), "shoulder": 10, "shoulder_height": 5})

    def test_another_pin_is_offered(self):
        """Pins 12.2 in holes of 12: of the library's that go in the one with the least play, by name."""
        told = finding(self.on_pins(id="pin-12-thick", diameter=12.2), "hold.pin_too_big")
        self.assertEqual(told.cures[0].edits[0].value, "pin-12-high")
        shop = {**SHOP, "thick": SHOP["pin-12"].model_copy(update={"id": "thick", "diameter": 12.2})}
        body = manifold3d.Manifold.cube([120, 80, 20]) - manifold3d.Manifold.cylinder(30, 6, 6, 64).translate(
            [20, 40, -5]
        )
        found = on_plate(
            Item(id="a", fixture="thick", on="plate", hole=(3, 4)),
            work=mesh_of(body),
            shapes=Shapes(holes={1: UprightHole(np.array([20.0, 40.0, 0]), 12.0, 0.0, 20.0)}),
            place=WorkPlace(on="plate", pinned=(Pinned(hole=FaceRef(face=1, at=(0.0, 0.0, 0.0)), pin="a"),)),
            shop=shop,
        )
        cure = finding(found, "hold.pin_too_big").cures[0]
        self.assertEqual((cure.edits[0].field, cure.edits[0].value), ("fixture", "pin-12"))
        self.assertIn("35 µm", cure.label)


class Told(unittest.TestCase):
    def test_the_order_of_tightening(self):
        side = Item(id="side", fixture="side-45", on="plate", x=0.0, y=-46.0)
        stop = Item(id="stop", fixture="angle-150", on="plate", x=0.0, y=40.0)
        strap = Item(id="s", fixture="strap-125", on="plate", x=55.0, y=0.0, turn_deg=90.0)
        found = on_plate(side, stop, strap)
        self.assertEqual(
            found.facts.sequence,
            (
                "Lay the work down on the base plate.",
                "Push it against the angle plate.",
                "Close the side clamp by hand, tighten.",
                "Tighten the strap clamp.",
            ),
        )

    def test_what_nobody_lifts_alone(self):
        """200 × 150 × 120 of steel: 28.3 kg by hand."""
        work = box(np.array([-100.0, -75.0, 0.0]), np.array([100.0, 75.0, 120.0]))
        found = on_plate(work=work, metal=Metal(7.85e-6, "C45", True))
        told = finding(found, "hold.heavy")
        self.assertAlmostEqual(told.measured, 28.26, places=2)
        self.assertEqual(found.facts.mass_kg, 28.26)
        self.assertNotIn("hold.heavy", codes(on_plate(work=work)))

    def test_a_vise_that_opens_wider_is_offered(self):
        work = box(np.array([-40.0, -40.0, 0.0]), np.array([40.0, 40.0, 30.0]))
        items = (
            Item(id="vise", fixture="low-100", x=400, y=300),
            Item(id="jaws", fixture="hard-160", on="vise"),
        )
        wide = box(np.array([-40.0, -60.0, 0.0]), np.array([40.0, 60.0, 30.0]))
        found = hold_work(Hold(items=items), SHOP, wide, "OP10")
        told = finding(found, "hold.opening")
        best = told.cures[0].edits[0].value
        self.assertGreater(SHOP[best].opening_max, 120)
        swapped = (items[0].model_copy(update={"fixture": best}), items[1])
        self.assertNotIn("hold.opening", codes(hold_work(Hold(items=swapped), SHOP, wide, "OP10")))
        self.assertNotIn("hold.opening", codes(hold_work(Hold(items=items), SHOP, work, "OP10")))
