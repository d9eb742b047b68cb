"""Vises that centre, double ones, jaws set unequally or of two blanks, with a dovetail or with teeth."""

from __future__ import annotations

import math
import unittest

import manifold3d
import numpy as np

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, mesh_of
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import Hold, Item, SoftCut, WorkPlace, fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.kinds import Jaws, Own, Vise, jaw, prism
from pelvrak.core.holding.soft_jaws import solve
from pelvrak.core.holding.vises import pair_of, rear_after
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids

SHOP = fixtures_of(())
BLOCK = box(np.array([-40.0, -25.0, 0.0]), np.array([40.0, 25.0, 40.0]))


def in_vise(vise, jaws, *more: Item, work=BLOCK, shop=SHOP, on_vise=None, shapes=None, **pair):
    items = (
        Item(id="vise", fixture=vise, x=400, y=300, **(on_vise or {})),
        Item(id="jaws", fixture=jaws, on="vise", **pair),
        *more,
    )
    return hold_work(Hold(items=items, work=WorkPlace()), shop, work, "OP10", shapes)


def piece(found, name):
    return next(one for one in found.pieces if one.name == name)


def middle_y(found, names=("rear jaw", "front jaw")) -> float:
    """Midway between the gripping faces of both jaws, in the stock's frame."""
    return float(
        (piece(found, names[0]).mesh.vertices[:, 1].min() + piece(found, names[1]).mesh.vertices[:, 1].max())
        / 2
    )


class Centring(unittest.TestCase):
    PARALLELS = Item(id="p", fixture="par-125x5", on="vise", height=20)

    def test_work_of_any_width_stands_in_the_middle(self):
        """Two blocks 50 and 31.7 wide: the middle of each is half the opening from where the jaws start,
        which no number of the block says.
        """
        vise = SHOP["centring-130"]
        for wide in (50.0, 31.7):
            work = box(np.array([-40.0, 3.0, 0.0]), np.array([40.0, 3.0 + wide, 40.0]))
            found = in_vise("centring-130", "hard-130", self.PARALLELS, work=work)
            self.assertAlmostEqual(middle_y(found), 3.0 + wide / 2, delta=1e-6)
            shift = np.array(found.facts.zero_on_table)
            self.assertAlmostEqual(shift[1] + 3.0 + wide / 2, 300 - vise.opening_max / 2, delta=1e-3)
            self.assertAlmostEqual(found.facts.opening, wide, delta=1e-3)
            self.assertAlmostEqual(shift[2], vise.bed_height + 20, delta=1e-3)
            sides = {c.name: c.area for c in found.facts.contacts}
            self.assertAlmostEqual(sides["rear jaw"], 80 * 16, delta=1)
            self.assertAlmostEqual(sides["front jaw"], 80 * 16, delta=1)
            self.assertFalse([f for f in found.findings if f.severity == "error"])

    def test_its_parallels_lie_against_its_jaws(self):
        found = in_vise("centring-130", "hard-130", self.PARALLELS)
        self.assertAlmostEqual(piece(found, "rear parallel").mesh.vertices[:, 1].max(), 25.0, delta=1e-6)
        self.assertAlmostEqual(piece(found, "front parallel").mesh.vertices[:, 1].min(), -25.0, delta=1e-6)

    def test_jaws_set_unequally_take_the_work_off_the_middle(self):
        """Half of the difference, as both close alike."""
        found = in_vise("centring-130", "hard-130", self.PARALLELS, set_in=10.0, set_in_moving=2.0)
        y = found.facts.zero_on_table[1]
        self.assertAlmostEqual(y, 300 - SHOP["centring-130"].opening_max / 2 - 4.0, delta=1e-3)
        self.assertAlmostEqual(found.facts.opening, 50.0, delta=1e-3)
        self.assertAlmostEqual(found.facts.opening_max, 180 - 32 - 12, delta=1e-3)

    def test_too_wide_for_it(self):
        wide = box(np.array([-40.0, -80.0, 0.0]), np.array([40.0, 80.0, 40.0]))
        found = in_vise("centring-130", "hard-130", self.PARALLELS, work=wide)
        told = next(f for f in found.findings if f.code == "hold.opening")
        self.assertAlmostEqual(told.measured, 160.0, delta=1e-3)
        self.assertAlmostEqual(told.limit, 148.0, delta=1e-3)

    def test_soft_jaws_stand_about_the_middle(self):
        """Cut to a block 50 wide and closed on it, they stand as their gap lies in the work."""
        soft = Jaws(
            id="soft-130", name="Blanks", style="soft", width=130, height=40, thickness=30, material="x"
        )
        vise = SHOP["centring-130"]
        nest = solve(BLOCK, SoftCut(), soft, vise)
        self.assertAlmostEqual(rear_after(vise, nest.opening), (nest.opening - 180) / 2)
        hold = Hold(
            items=(
                Item(id="vise", fixture="centring-130", x=400, y=300),
                Item(id="jaws", fixture="soft-130", on="vise", cut=SoftCut()),
            )
        )
        found = hold_work(hold, {**SHOP, "soft-130": soft}, BLOCK, "OP10", Shapes(cut={"jaws": nest.jaws}))
        self.assertAlmostEqual(found.facts.opening, nest.gap, delta=0.02)
        names = {c.name for c in found.facts.contacts}
        self.assertLessEqual({"rear jaw", "front jaw"}, names)
        self.assertNotIn("hold.overlap", {f.code for f in found.findings})


class ZeroOnAJaw(unittest.TestCase):
    def test_a_jaw_that_moves_is_no_place_for_zero(self):
        """The one at the back of a vise that centres goes with the work's width; of another it stays."""

        def found(vise: str, jaws: str):
            zero = {"of": "holding", "x": 0, "y": 0, "z": 1}
            items = [
                {"id": "vise", "fixture": vise, "x": 400, "y": 300},
                {"id": "jaws", "fixture": jaws, "on": "vise"},
                {"id": "p", "fixture": "par-125x5", "on": "vise", "height": 20},
            ]
            document = {
                "name": "p",
                "part": {"file": "p.step"},
                "setups": [{"name": "OP10", "seat": {"zero": zero}, "hold": {"items": items}}],
            }
            data = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20)))
            setup = evaluate(plan_from(document), data, MemoryStore()).setups[0]
            return next((f for f in setup.findings if f.code == "seat.zero_on_moving_jaw"), None)

        told = found("centring-130", "hard-130")
        self.assertEqual(told.severity, "warning")
        self.assertEqual([(e.field, e.value) for e in told.cures[0].edits], [("seat/zero/of", "jaws")])
        self.assertIsNone(found("bench-125", "hard-125"))


class Double(unittest.TestCase):
    def test_either_station_holds_alike_on_its_side_of_the_block(self):
        vise = SHOP["double-125"]
        p = Item(id="p", fixture="par-125x5", on="vise", height=20)
        front = in_vise("double-125", "hard-125", p)
        rear = in_vise("double-125", "hard-125", p, on_vise={"station": "rear"})
        self.assertAlmostEqual(front.facts.zero_on_table[1] + 25, 300 - 18, delta=1e-3)
        self.assertAlmostEqual(rear.facts.zero_on_table[1] - 25, 300 + vise.block + 18, delta=1e-3)
        for one, two in zip(front.facts.contacts, rear.facts.contacts, strict=True):
            self.assertAlmostEqual(one.area, two.area, delta=0.1)
        self.assertFalse([f for f in (*front.findings, *rear.findings) if f.severity == "error"])
        idle = [one for one in front.pieces if one.name == "other station's jaw"]
        self.assertEqual(len(idle), 2)
        self.assertTrue(all(one.mesh.vertices[:, 1].min() > 25 + 18 for one in idle))

    def test_only_a_double_one_has_a_block(self):
        with self.assertRaises(ValueError):
            Vise.model_validate({**SHOP["bench-160"].model_dump(), "block": 40})
        with self.assertRaises(ValueError):
            Vise.model_validate({**SHOP["double-125"].model_dump(), "block": 0})


class Swivelled(unittest.TestCase):
    def test_a_vise_on_a_swivel_base_turns_on_it_and_stands_higher(self):
        items = (
            Item(id="base", fixture="swivel-240", x=400, y=300),
            Item(id="vise", fixture="bench-125", on="base", turn_deg=30),
            Item(id="jaws", fixture="hard-125", on="vise"),
            Item(id="p", fixture="par-125x5", on="vise", height=20),
        )
        turn = manifold3d.Manifold.cube([80, 50, 40], True).rotate([0, 0, 30]).translate([0, 0, 20])
        found = hold_work(Hold(items=items), SHOP, mesh_of(turn), "OP10")
        self.assertAlmostEqual(found.facts.zero_on_table[2], 32 + 65 + 20, delta=1e-3)
        areas = {c.name: c.area for c in found.facts.contacts}
        self.assertAlmostEqual(areas["fixed jaw"], 80 * 20, delta=1)
        self.assertFalse([f for f in found.findings if f.severity == "error"])


class TwoBlanks(unittest.TestCase):
    def test_two_different_blanks_and_jaws_longer_than_the_vise(self):
        """A 45 mm blank at the front, 30 at the back, and 200 long jaws on a vise 160 wide."""
        p = Item(id="p", fixture="par-150x8", on="vise", height=30)
        found = in_vise("bench-160", "soft-160x30", p, moving="soft-160x45")
        self.assertAlmostEqual(found.facts.opening, 50.0, delta=1e-3)
        self.assertAlmostEqual(found.facts.opening_max, 274 - 75, delta=1e-3)
        rear = piece(found, "fixed jaw").mesh.vertices
        front = piece(found, "moving jaw").mesh.vertices
        self.assertAlmostEqual(np.ptp(rear[:, 1]), 30, delta=1e-6)
        self.assertAlmostEqual(np.ptp(front[:, 1]), 45, delta=1e-6)
        self.assertAlmostEqual(front[:, 1].max(), -25, delta=1e-6)
        long = box(np.array([-95.0, -25.0, 0.0]), np.array([95.0, 25.0, 40.0]))
        wider = in_vise("bench-160", "soft-200x70", p, work=long)
        areas = {c.name: c.area for c in wider.facts.contacts}
        self.assertAlmostEqual(areas["fixed jaw"], 190 * 30, delta=1)
        self.assertEqual((wider.facts.sticks_out_left, wider.facts.sticks_out_right), (0, 0))

    def test_a_nest_in_two_different_blanks(self):
        back, front = SHOP["soft-160x30"], SHOP["soft-160x45"]
        alike = solve(BLOCK, SoftCut(), back, SHOP["bench-160"])
        other = solve(BLOCK, SoftCut(), (back, front), SHOP["bench-160"])
        self.assertAlmostEqual(other.opening, alike.opening + 15)
        self.assertAlmostEqual(other.walls[0], alike.walls[0])
        self.assertAlmostEqual(other.walls[1], alike.walls[1] + 15)
        wide = np.ptp(other.jaws.moving.vertices[:, 1])
        self.assertAlmostEqual(wide, 45, delta=1e-6)
        higher = solve(BLOCK, SoftCut(), (back, SHOP["soft-160x70"]), SHOP["bench-160"])
        self.assertIn("jaws.blanks_differ", {code for code, *_ in higher.trouble})

    def test_a_front_jaw_that_is_not_there(self):
        with self.assertRaises(BadInput):
            pair_of(Item(id="j", fixture="hard-160", on="vise", moving="bench-160"), SHOP)


class TwoPieces(unittest.TestCase):
    """A holder in two halves, each screwed to a jaw: a wall 12 thick with a ledge 6 wide, 10 high."""

    def halves(self, vise: str, jaws: str, ledge: bool = True):
        half = manifold3d.Manifold.cube([60, 12, 30]).translate([-30, -12, 5])
        if ledge:
            half += manifold3d.Manifold.cube([60, 6, 10]).translate([-30, -18, 5])
        own = Own(id="half", name="half holder", file="half.stl")
        hold = Hold(
            items=(
                Item(id="vise", fixture=vise, x=400, y=300),
                Item(id="jaws", fixture=jaws, on="vise"),
                Item(id="a", fixture="half", on="jaws", rides="rear"),
                Item(id="b", fixture="half", on="jaws", rides="front"),
            )
        )
        mesh = mesh_of(half)
        return hold_work(hold, {**SHOP, "half": own}, BLOCK, "OP10", Shapes(own={"a": mesh, "b": mesh}))

    def test_they_go_with_their_jaws_and_carry_the_work(self):
        found = self.halves("bench-160", "hard-160")
        self.assertAlmostEqual(found.facts.zero_on_table[2], 78 + 15, delta=1e-3)
        # The halves' walls: 60 long, from the ledge to 20 over it.
        areas: dict[tuple[str, bool], float] = {}
        for one in found.facts.contacts:
            key = one.item, abs(one.normal[2]) > 0.9
            areas[key] = areas.get(key, 0.0) + one.area
        self.assertAlmostEqual(areas["a", False], 60 * 20, delta=1)
        self.assertAlmostEqual(areas["b", False], 60 * 20, delta=1)
        self.assertAlmostEqual(areas["a", True], 60 * 6, delta=1)
        self.assertAlmostEqual(found.facts.opening, 50 + 24, delta=1e-3)
        self.assertAlmostEqual(found.facts.grip_depth, 20, delta=0.01)
        # One force, not two: what the vise closes with.
        across = sum(c.force for c in found.facts.contacts if c.item == "b" and abs(c.normal[1]) > 0.9)
        self.assertAlmostEqual(across, 35000, delta=350)
        self.assertFalse([f for f in found.findings if f.severity == "error"])
        self.assertTrue(next(w for w in found.facts.ways if w.way == "up").free)

    def test_what_cannot_ride_is_refused(self):
        pin = Item(id="pin", fixture="pin-12", on="jaws", rides="front")
        with self.assertRaises(BadInput) as refused:
            in_vise("bench-160", "hard-160", pin)
        self.assertEqual(refused.exception.code, "hold.cannot_ride")
        with self.assertRaises(ValueError):
            Item(id="jaws", fixture="soft-160x30", on="vise", cut=SoftCut(), set_in=5.0)

    def test_in_a_vise_that_centres_both_come_alike(self):
        found = self.halves("centring-130", "hard-130")
        self.assertAlmostEqual(middle_y(found), 0.0, delta=1e-6)
        self.assertEqual({c.item for c in found.facts.contacts}, {"a", "b"})


class Marks(unittest.TestCase):
    def test_teeth_bite_raw_metal_and_not_a_finished_face(self):
        """The part's own walls are 2 mm within the block on the left and right alone: front and back are as
        drawn already, and the step under them is no wall.
        """
        raw = box(np.array([-38.0, -20.0, 2.0]), np.array([38.0, 20.0, 38.0]))
        done = box(np.array([-38.0, -25.0, 2.0]), np.array([38.0, 25.0, 38.0]))
        teeth = {"work": BLOCK}
        fine = in_vise("centring-130", "teeth-130", shapes=Shapes(finished=raw), **teeth)
        self.assertNotIn("hold.marks", {f.code for f in fine.findings})
        self.assertFalse([f for f in fine.findings if f.severity == "error"])
        bitten = in_vise("centring-130", "teeth-130", shapes=Shapes(finished=done), **teeth)
        told = [f for f in bitten.findings if f.code == "hold.marks"]
        self.assertEqual(len(told), 2)
        # Walls as drawn begin 2 mm over the step of 3.5.
        for one in told:
            self.assertAlmostEqual(one.measured, 76 * 1.5, delta=1.0)
        [cure] = told[0].cures
        self.assertEqual(cure.edits[0].value, "hard-130")
        # Through 0.2 mm that are left on, teeth 0.3 deep reach it too.
        near = box(np.array([-38.0, -24.8, 2.0]), np.array([38.0, 24.8, 38.0]))
        reached = in_vise("centring-130", "teeth-130", shapes=Shapes(finished=near), **teeth)
        self.assertEqual(len([f for f in reached.findings if f.code == "hold.marks"]), 2)
        smooth = in_vise("centring-130", "hard-130", shapes=Shapes(finished=done), **teeth)
        self.assertNotIn("hold.marks", {f.code for f in smooth.findings})

    def test_teeth_hold_as_their_fixture_says(self):
        found = in_vise("centring-130", "teeth-130")
        self.assertEqual({p.friction for p in found.pieces if p.jaw}, {0.4})
        self.assertEqual(float(np.nanmax(found.problem.friction)), 0.4)

    def test_a_clamp_on_too_little_dents(self):
        """Steel on a strip 80 × 1.5 of EN AW-6082, 35 kN: 292 N/mm² on 250."""
        low = SHOP["hard-160"].model_copy(
            update={"id": "low", "style": "stepped", "step_depth": 8.0, "step_below_top": 1.5}
        )
        found = in_vise("bench-160", "low", shop={**SHOP, "low": low})
        told = [f for f in found.findings if f.code == "hold.dents"]
        self.assertEqual(len(told), 2)
        for one in told:
            self.assertAlmostEqual(one.measured, 35000 / (80 * 1.5), delta=0.01 * 292)
        self.assertEqual([f for f in in_vise("bench-160", "hard-160").findings if f.code == "hold.dents"], [])


class Dovetails(unittest.TestCase):
    """Flanks at 60° to the floor (common practice, no source)."""

    def dovetailed(self, neck: float, high: float = 7.0, deg: float = 60.0):
        """A block with a dovetail under it: its neck so wide, its foot wider by twice high / tan."""
        foot = neck / 2 + high / math.tan(math.radians(deg))
        tail = prism([(-foot, 0.0), (foot, 0.0), (neck / 2, high), (-neck / 2, high)], -40, 40)
        block = manifold3d.Manifold.cube([80, 70, 30]).translate([-40, -35, high])
        return mesh_of(tail + block)

    def test_a_jaw_is_as_much_under_its_lip_as_the_angle_says(self):
        one = SHOP["dovetail-130"]
        self.assertAlmostEqual(one.under_lip, 6 / math.sqrt(3), places=9)
        plain = 130 * 24 * 40
        away = 130 * 6 * (5 + 6 / math.sqrt(3) / 2)
        self.assertAlmostEqual(jaw(one).volume(), plain - away, delta=1e-4)

    def test_it_draws_the_work_down_on_its_floor(self):
        found = in_vise("bench-160", "dovetail-160", work=self.dovetailed(50.0), shop=self.shop)
        flanks = [c for c in found.facts.contacts if "jaw" in c.name and c.normal[2] < -0.3]
        self.assertEqual({c.name for c in flanks}, {"fixed jaw", "moving jaw"})
        length = 6 / math.sin(math.radians(60))
        for one in flanks:
            self.assertAlmostEqual(one.area, 80 * length, delta=0.01 * 80 * length)
            self.assertAlmostEqual(one.normal[2], -math.cos(math.radians(60)), places=4)
        floors = [c for c in found.facts.contacts if "jaw" in c.name and c.normal[2] > 0.9]
        self.assertEqual(len(floors), 2)
        # By hand: F across 35 kN; the flank adds F·cot 60° downwards at each side.
        down = sum(c.force for c in floors)
        self.assertAlmostEqual(down, 2 * 35000 / math.tan(math.radians(60)), delta=0.03 * 2 * 35000 / 1.73)
        self.assertFalse([f for f in found.findings if f.severity == "error"])
        ways = {w.way: w for w in found.facts.ways}
        self.assertTrue(ways["left"].free and ways["right"].free)
        self.assertFalse(ways["up"].free)

    @property
    def shop(self):
        one = SHOP["dovetail-130"].model_copy(
            update={"id": "dovetail-160", "width": 160, "height": 50, "step_below_top": 6.0}
        )
        return {**SHOP, "dovetail-160": one}

    def test_jaws_that_cannot_be(self):
        for wrong in ({"step_depth": 22.0}, {"bites": 0.3}, {"flank_deg": 5.0}):
            with self.assertRaises(ValueError):
                Jaws.model_validate({**SHOP["dovetail-130"].model_dump(), **wrong})
        with self.assertRaises(ValueError):
            Jaws.model_validate({**SHOP["teeth-130"].model_dump(), "bites": 0})


if __name__ == "__main__":
    unittest.main()
