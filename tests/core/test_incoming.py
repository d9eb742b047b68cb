"""Which stock a setup begins with: carried, an earlier moment, or one that was brought in."""

from __future__ import annotations

import hashlib
import math
import unittest

import numpy as np

from pelvrak.core.billet.block import Block, ByCorners
from pelvrak.core.billet.chosen import Brought, Earlier
from pelvrak.core.billet.forms import Bar, KeptStock, Model, raw_of
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, to_stl
from pelvrak.core.route.alone import alone, told_alone
from pelvrak.core.route.evaluate import cut_ahead, evaluate
from pelvrak.core.route.pieces import FIELD
from pelvrak.core.route.plan import plan_from
from pelvrak.core.stock.field import loaded, same_field, saved
from pelvrak.core.stock.kept import StockNote, note_of, saved_with
from tests.core.test_route import STEP, changed, computed, demo
from tests.edits import cured


def begun(choice, plan=None):
    """The demo with OP20 beginning with another stock."""
    return changed(plan or demo(), 1, incoming=choice)


def told(report, code):
    return [one for one in report.findings() if one.code == code]


class Chosen(unittest.TestCase):
    def setUp(self):
        self.store, self.report = computed()
        self.top = self.report.setups[0]

    def evaluated(self, choice, files=b""):
        return evaluate(begun(choice), STEP, self.store, files=lambda sha256, name: files)

    def test_an_earlier_moment(self):
        """OP20 on the stock as it stood before the bore was cut: what the operations since took off is
        there.
        """
        before = next(one for one in self.top.operations if one.id == "outline")
        report = self.evaluated(Earlier(setup="OP10", after="outline"))
        under = report.setups[1]
        self.assertEqual(under.incoming_key, before.key)
        self.assertEqual(under.incoming_volume_mm3, before.outgoing_volume_mm3)
        self.assertEqual(under.incoming.carried_key, self.top.outgoing_key)
        taken = before.outgoing_volume_mm3 - self.top.outgoing_volume_mm3
        self.assertAlmostEqual(under.incoming.more_mm3 / taken, 1.0, delta=0.01)
        self.assertLess(under.incoming.less_mm3, 1.0)
        # Nothing is farther from what is carried than the middle of the bore's mouth: nearest to it is the
        # edge where the bore Ø35 meets the floor of its seat, 6 deep.
        self.assertAlmostEqual(under.incoming.more_mm, math.hypot(17.5, 6.0), delta=0.6)
        self.assertIn("after OP10", under.incoming.said)
        [finding] = told(report, "stock.chosen")
        self.assertEqual(finding.setup, "OP20")
        # What was not cut is left at the end, and its cure carries again.
        self.assertGreater(report.comparison.left_volume_mm3, self.report.comparison.left_volume_mm3 + 1000)
        mended = plan_from(
            cured(begun(Earlier(setup="OP10", after="outline")).model_dump(mode="json"), finding.cures[0])
        )
        self.assertIsNone(mended.setups[1].incoming)

    def test_as_it_came_in_is_the_billet(self):
        report = self.evaluated(Earlier(setup="OP10"))
        self.assertEqual(report.setups[1].incoming_key, self.report.billet.key)
        self.assertEqual(report.setups[1].incoming_volume_mm3, self.report.billet.volume_mm3)

    def test_a_moment_that_is_not_there(self):
        """Nothing is guessed: the setup has no stock, says why, and can go back to the carried one."""
        for choice in (
            Earlier(setup="OP10", after="gone"),
            Earlier(setup="OP20"),
            Earlier(setup="OP99"),
        ):
            with self.subTest(choice):
                report = self.evaluated(choice)
                [finding] = told(report, "stock.no_moment")
                self.assertEqual(finding.setup, "OP20")
                self.assertIsNone(report.setups[1].incoming_key)
                self.assertEqual(finding.cures[0].edits[0].value, None)

    def test_a_shape_made_by_hand(self):
        """A block all round what is carried: what is more is the block less the carried volume, as rays a
        millimetre apart know it.
        """
        part = self.report.billet
        low, high = np.array(part.low) - 1, np.array(part.high) + 2
        block = Block(sizing=ByCorners(low=tuple(low), high=tuple(high)))
        report = self.evaluated(Brought(stock=block))
        under = report.setups[1]
        self.assertAlmostEqual(under.incoming_volume_mm3, float(np.prod(high - low)), delta=0.5)
        more = float(np.prod(high - low)) - self.top.outgoing_volume_mm3
        self.assertAlmostEqual(under.incoming.more_mm3 / more, 1.0, delta=0.01)
        self.assertEqual(under.incoming.less_mm, 0.0)
        self.assertEqual(under.incoming.said, "rectangular block")
        # OP10 does not care, and OP20 does not care for OP10.
        self.assertEqual(report.setups[0].outgoing_key, self.top.outgoing_key)
        face = self.plan_with_less_faced()
        again = evaluate(begun(Brought(stock=block), face), STEP, self.store)
        ran = [one for one in again.computed if one.startswith("OP20")]
        self.assertEqual(ran, [])
        self.assertNotEqual(again.setups[0].outgoing_key, self.top.outgoing_key)

    def plan_with_less_faced(self):
        plan = demo()
        face = plan.setups[0].operations[0]
        self.assertEqual(face.kind, "facing")
        first = face.model_copy(update={"off": True})
        return changed(plan, 0, operations=(first, *plan.setups[0].operations[1:]))

    def test_inches_read_as_millimetres(self):
        """A casting whose file is in inches is told by its size, and its cure makes it cover the part."""
        low, high = np.array(self.report.billet.low), np.array(self.report.billet.high)
        data = to_stl(box(low / 25.4, high / 25.4), "x")
        casting = Model(file="cast.stl", sha256=hashlib.sha256(data).hexdigest())
        report = self.evaluated(Brought(stock=casting), data)
        [finding] = told(report, "stock.unit")
        self.assertEqual((finding.severity, finding.setup), ("error", "OP20"))
        self.assertAlmostEqual(finding.measured, 130 / 120 / 25.4, delta=0.003)
        mended = plan_from(cured(begun(Brought(stock=casting)).model_dump(mode="json"), finding.cures[0]))
        self.assertEqual(mended.setups[1].incoming.stock.scale, 25.4)
        report = evaluate(mended, STEP, self.store, files=lambda sha256, name: data)
        self.assertEqual(told(report, "stock.unit") + told(report, "stock.too_small"), [])
        self.assertAlmostEqual(report.setups[1].incoming_volume_mm3 / np.prod(high - low), 1.0, delta=1e-4)
        # The other way round it would be far too large; as a billet it is told too.
        large = Model(file="cast.stl", sha256=casting.sha256, scale=25.4 * 25.4)
        raw = raw_of(large, None, lambda sha256, name: data, lambda body, name: box(low / 25.4, high / 25.4))
        self.assertAlmostEqual(float((raw.high - raw.low)[0]), 130 * 25.4, places=3)

    def test_a_casting_smaller_than_the_part(self):
        low, high = np.array(self.report.billet.low), np.array(self.report.billet.high)
        high[0] -= 10
        data = to_stl(box(low, high), "x")
        casting = Model(file="cast.stl", sha256=hashlib.sha256(data).hexdigest())
        report = self.evaluated(Brought(stock=casting), data)
        [finding] = told(report, "stock.too_small")
        # The billet is 5 mm longer than the part there.
        self.assertAlmostEqual(finding.measured, -5.0, delta=0.05)
        self.assertEqual(finding.setup, "OP20")

    def test_a_stock_that_was_saved(self):
        """What OP10 left, saved and brought in: the same stock, cut by nobody here; of another part it is
        told.
        """
        field = loaded(self.store.get(self.top.outgoing_key, FIELD.name))
        own = hashlib.sha256(STEP).hexdigest()
        note = StockNote(name="after OP10", part_sha256=own, part_file="housing.step", revision="C")
        data = saved_with(field, note)
        kept = KeptStock(file="op10.rays", sha256=hashlib.sha256(data).hexdigest())
        report = self.evaluated(Brought(stock=kept), data)
        self.assertEqual(told(report, "stock.other_part"), [])
        under = report.setups[1]
        self.assertAlmostEqual(under.incoming_volume_mm3 / self.top.outgoing_volume_mm3, 1.0, delta=1e-6)
        self.assertEqual((under.incoming.more_mm3, under.incoming.less_mm3), (0.0, 0.0))
        came = loaded(self.store.get(under.incoming_key, FIELD.name))
        ends = [
            np.array_equal(a.position, b.position) for a, b in zip(came.bundles, field.bundles, strict=True)
        ]
        self.assertEqual(ends, [True] * 3)
        self.assertEqual([int(bundle.maker.max()) for bundle in came.bundles], [0, 0, 0])
        data = saved_with(
            field, note.model_copy(update={"part_sha256": "1" * 64, "part_file": "bracket.step"})
        )
        report = self.evaluated(Brought(stock=kept), data)
        [finding] = told(report, "stock.other_part")
        self.assertIn("bracket.step rev C", finding.sentence)

    def test_who_helps_cuts_on_the_same_stock(self):
        plan = begun(Brought(stock=Block(sizing=ByCorners(low=(-80, -80, -10), high=(80, 80, 50)))))
        cut_ahead(plan, STEP, self.store)
        self.assertFalse(
            [one for one in evaluate(plan, STEP, self.store).computed if one == "OP20 Face to 42"]
        )


class Notes(unittest.TestCase):
    def test_a_note_comes_back_and_the_rays_are_as_they_were(self):
        store, report = computed()
        field = loaded(store.get(report.billet.key, FIELD.name))
        rows = tuple(tuple(float(one) for one in row) for row in np.eye(4))
        note = StockNote(name="a", setup="OP10", register_name="G54", zero_from_part=rows)
        data = saved_with(field, note)
        self.assertEqual(note_of(data), note)
        self.assertTrue(same_field(loaded(data), field))
        self.assertEqual(note_of(saved(field)), StockNote())
        for broken in (b"", b"junk", saved(field, np.frombuffer(b"{not json", np.uint8))):
            self.assertEqual(note_of(broken), StockNote())


class AloneOn(unittest.TestCase):
    def test_an_operation_on_an_earlier_stock(self):
        """The last operation of OP20 alone on the billet cuts what it would: more than after the others."""
        store, report = computed()
        plan = alone(demo(), "OP20", "face", Earlier(setup="OP10"))
        self.assertEqual([len(one.operations) for one in plan.setups], [14, 1])
        found = told_alone(evaluate(plan, STEP, store), plan.setups[-1])
        self.assertEqual(found.said, "as it came into OP10")
        self.assertEqual(len(found.operations), 1)
        usual = report.setups[1].operations[0]
        self.assertGreater(found.removed_volume_mm3, usual.removed_volume_mm3 + 100)
        self.assertAlmostEqual(
            found.outgoing_volume_mm3, found.incoming_volume_mm3 - found.removed_volume_mm3, delta=0.01
        )

    def test_a_brought_stock_needs_no_other_setup(self):
        bar = Brought(stock=Bar(axis="z", allowance=1.0))
        plan = alone(demo(), "OP20", None, bar)
        self.assertEqual([one.name for one in plan.setups], ["OP20"])

    def test_what_is_not_there_is_refused(self):
        for setup, operation in (("OP99", None), ("OP20", "none")):
            with self.assertRaises(BadInput):
                alone(demo(), setup, operation, None)
