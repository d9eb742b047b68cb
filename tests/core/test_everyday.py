"""Everyday holdings, a fixture where it first goes, and a holding as it is typed."""

from __future__ import annotations

import unittest

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.holding.everyday import everyday, next_item
from pelvrak.core.holding.hold import STRAIGHT_WALL_MM, Hold, Item, SoftCut, fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.route.typed_holding import ROLES, typed_holding
from tests import solids

SHOP = fixtures_of(())
TABLE = (760.0, 420.0)


def block(x: float, y: float, z: float):
    """A block as it is seated: its top in z 0."""
    return box(np.array([-x / 2, -y / 2, -z]), np.array([x / 2, y / 2, 0.0]))


class Everydays(unittest.TestCase):
    def test_each_holds_a_block_without_a_finding(self):
        """Small, middling and long blocks: the whole holding judged, by the rules of every holding. That it
        can slide along the jaws is all there is to say.
        """
        for size in ((40.0, 30.0, 20.0), (110.0, 70.0, 40.0), (150.0, 120.0, 50.0)):
            hard = next(one for one in everyday(SHOP, size, TABLE) if "hard" in one.called)
            held = hold_work(Hold(items=hard.items), SHOP, block(*size), "OP10")
            self.assertEqual([f.code for f in held.findings], ["hold.not_located"], size)
            self.assertGreaterEqual(held.facts.grip_depth, STRAIGHT_WALL_MM)
            # Gripped all along.
            self.assertAlmostEqual(held.facts.grip_length, size[0], places=3)

    def test_tall_work_is_gripped_deeper(self):
        """Eight grips above the jaws at most: common practice, no source."""
        (hard, _) = everyday(SHOP, (60.0, 60.0, 90.0), TABLE)
        facts = hold_work(Hold(items=hard.items), SHOP, block(60, 60, 90), "OP10").facts
        self.assertLessEqual(facts.stands_above, 8 * facts.grip_depth + 1e-6)
        self.assertGreater(facts.grip_depth, 9)

    def test_what_the_library_lacks_is_not_proposed(self):
        bare = {name: one for name, one in SHOP.items() if one.kind != "parallels"}
        self.assertEqual([one.called for one in everyday(bare, None, TABLE)], ["vise, soft jaws"])
        self.assertEqual(everyday({}, None, TABLE), ())

    def test_wider_than_any_vise_opens(self):
        """Still the one that opens widest: what is wrong with it the holding says."""
        (hard, _) = everyday(SHOP, (400.0, 400.0, 40.0), TABLE)
        self.assertEqual(hard.items[0].fixture, "bench-160")

    def test_in_the_middle_of_the_table(self):
        for one in everyday(SHOP, (110.0, 70.0, 40.0), TABLE):
            vise = one.items[0]
            self.assertAlmostEqual(vise.x, TABLE[0] / 2, delta=0.5)
            self.assertTrue(0 < vise.y < TABLE[1] + 100)


class Next(unittest.TestCase):
    def test_on_what_suits_it_and_called_apart(self):
        vise = Item(id="vise", fixture="bench-160", x=380, y=300)
        first = next_item(Hold(items=(vise,)), SHOP["par-150x8"], SHOP, TABLE)
        self.assertEqual((first.id, first.on, first.height, first.x), ("parallels", "vise", 14.0, 0.0))
        again = next_item(Hold(items=(vise, first)), SHOP["par-150x8"], SHOP, TABLE)
        self.assertEqual(again.id, "parallels-2")
        other = next_item(Hold(items=(vise,)), SHOP["bench-125"], SHOP, TABLE)
        self.assertEqual((other.id, other.on, other.x), ("vise-2", "table", 380.0))


class AsTyped(unittest.TestCase):
    """A block 60 × 40 × 30 whose zero is its left front top corner."""

    part = model_of_solid(solids.box((0, 0, 0), (60, 40, 30)), "0" * 64, "millimetre").part
    work = box(np.zeros(3), np.array([60.0, 40, 30]))
    zero = rigid(np.eye(3), np.array([0.0, 0.0, -30.0]))

    def drawn(self, hold: Hold):
        return typed_holding(hold, SHOP, self.work, self.part, self.zero, {})

    def test_what_stands_where_is_what_is_computed(self):
        """Every solid lies where the computed holding has it, the work's zero in between."""
        (hard, _) = everyday(SHOP, (60.0, 40.0, 30.0), TABLE)
        hold = Hold(items=hard.items)
        mesh = self.drawn(hold)
        computed = hold_work(hold, SHOP, self.work, "OP10")
        for label, role in enumerate(ROLES[:-1]):
            own = [p.mesh.vertices for p in computed.pieces if p.role == role and p.name != "table"]
            seen = mesh.vertices[np.unique(mesh.triangles[mesh.label == label])]
            self.assertEqual(len(seen) > 0, len(own) > 0, role)
            if own:
                meant = np.concatenate(own) + self.zero[:3, 3]
                np.testing.assert_allclose(seen.min(axis=0), meant.min(axis=0), atol=1e-9)
                np.testing.assert_allclose(seen.max(axis=0), meant.max(axis=0), atol=1e-9)

    def test_another_x_of_the_parallels_moves_them_alone(self):
        (hard, _) = everyday(SHOP, (60.0, 40.0, 30.0), TABLE)
        moved = tuple(
            one.model_copy(update={"x": 7.0}) if one.id == "parallels" else one for one in hard.items
        )
        before, after = self.drawn(Hold(items=hard.items)), self.drawn(Hold(items=moved))
        shift = (after.vertices - before.vertices)[np.unique(after.triangles[after.label == 1])]
        np.testing.assert_allclose(shift, np.tile([7.0, 0, 0], (len(shift), 1)), atol=1e-9)

    def test_what_has_to_be_solved_is_refused(self):
        vise = Item(id="vise", fixture="bench-160", x=380, y=300)
        soft = Item(id="jaws", fixture="soft-160x45", on="vise", cut=SoftCut())
        for hold in (Hold(), Hold(items=(vise, soft))):
            with self.assertRaises(BadInput) as caught:
                self.drawn(hold)
            self.assertEqual(caught.exception.code, "hold.not_quick")


if __name__ == "__main__":
    unittest.main()
