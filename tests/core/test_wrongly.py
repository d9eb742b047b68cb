"""A machine set up wrongly: what the cuts leave then, in closed form."""

from __future__ import annotations

import unittest
from pathlib import Path

from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.route.two_texts import against, written_text
from pelvrak.core.route.wrongly import ShortTool, Wrongly, set_up_wrongly

DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing"


class WronglyTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        plan = plan_from_json((DEMO / "plan.json").read_bytes())
        cls.plan = plan.model_copy(update={"resolution_mm": 1.0, "setups": plan.setups[:1]})
        cls.store = MemoryStore()
        report = evaluate(cls.plan, (DEMO / plan.part.file).read_bytes(), cls.store)
        cls.told = report.setups[0]

    def so(self, **how):
        return set_up_wrongly(self.plan, self.told, Engine(self.store), Wrongly(**how))

    def test_set_up_rightly_it_is_the_plan(self):
        self.assertTrue(self.so().equal)

    def test_work_to_the_left(self):
        """0.7 mm: every wall square to X is off by that, walls along X are where they were: nothing is
        further off.
        """
        for how in ({"left": 0.7}, {"left": -0.7}, {"back": 0.7}):
            found = self.so(**how)
            # Far ones are known as the drawn surfaces are, at rays 1 mm apart.
            self.assertAlmostEqual(found.most_mm, 0.7, delta=0.08, msg=str(how))
            self.assertGreater(found.left_mm3, 100)
            self.assertGreater(found.gouged_mm3, 100)
        # As much too much on one side as too little on the other, but for what the billet's edge gives.
        self.assertAlmostEqual(found.left_mm3 / found.gouged_mm3, 1.0, delta=0.2)

    def test_a_length_in_the_table(self):
        """A tool 0.3 mm longer than its H cuts so much deeper, and nothing is left standing."""
        tool = next(one for one in self.plan.tools if one.id == self.told.operations[0].tool)
        found = self.so(short=(ShortTool(number=tool.place, by=0.3),))
        self.assertAlmostEqual(found.most_mm, 0.3, delta=0.01)
        self.assertLess(found.left_mm3, 1.0)
        self.assertGreater(found.gouged_mm3, 0.3 * 1000)
        # What the cutter faced last: no more than the whole top, no deeper than that.
        low, high = self.told.low, self.told.high
        self.assertLess(found.gouged_mm3, 0.3 * (high[0] - low[0]) * (high[1] - low[1]) * 1.05)

    def test_turned(self):
        """0.2° about zero: off by no more than its farthest place goes, and some by most of that."""
        low, high = self.told.low, self.told.high
        far = max((x * x + y * y) ** 0.5 for x in (low[0], high[0]) for y in (low[1], high[1]))
        found = self.so(turned=0.2)
        way = far * 0.2 * 3.14159 / 180
        self.assertLess(found.most_mm, way + 0.02)
        self.assertGreater(found.most_mm, way / 3)

    def test_feed_turned(self):
        """At half the feed the same is cut; what is fed takes twice as long, rapids and changes as long."""
        usual, slow, fast = self.so(), self.so(feed=50), self.so(feed=200, spindle=50)
        self.assertTrue(slow.equal and fast.equal)
        fed = slow.time_s - usual.time_s
        self.assertGreater(fed, 0.4 * usual.time_s)
        self.assertLess(fed, usual.time_s)
        # Half of it again is gained at twice the feed, less what speeding up takes.
        self.assertAlmostEqual(usual.time_s - fast.time_s, fed / 2, delta=0.1 * fed)
        self.assertIsNone(usual.met_mm)

    def test_begun_within(self):
        """From the second operation on, all that the first takes is left; from within a cut, the way down to
        where it would stand goes through what stands.
        """
        first, second = self.told.operations[:2]
        after = self.so(begins=second.first_line + 1)
        self.assertLess(after.left_mm3, first.removed_volume_mm3 * 1.02)
        self.assertGreater(after.left_mm3, first.removed_volume_mm3 * 0.5)
        self.assertLess(after.gouged_mm3, 1.0)
        self.assertLess(after.time_s, self.so().time_s - first.time_s / 2)
        deep = next(one for one in self.told.operations if one.cut_z and one.cut_z[0] < -5)
        begins = (deep.first_line + deep.last_line) // 2
        within = self.so(begins=begins)
        self.assertGreater(within.met_mm, 0.3)
        self.assertEqual(within.met_line, begins)
        with self.assertRaisesRegex(BadInput, "lines"):
            self.so(begins=1_000_000)

    def test_two_texts(self):
        """The program against itself, and against one without one operation: what that takes is more."""
        engine = Engine(self.store)
        seat = next(one for one in self.told.operations if one.name == "Seal seat")
        text = written_text(self.told, engine)
        same = against(self.plan, self.told, engine, text)
        self.assertEqual((same.most_mm, same.left_mm3, same.gouged_mm3), (0.0, 0.0, 0.0))
        lines = text.split("\n")
        short = "\n".join([*lines[: seat.first_line - 1], *lines[seat.last_line :]])
        found = against(self.plan, self.told, engine, short)
        self.assertAlmostEqual(found.left_mm3, seat.removed_volume_mm3, delta=0.02 * seat.removed_volume_mm3)
        self.assertLess(found.gouged_mm3, 1.0)
        self.assertLess(found.time_s, same.time_s)

    def test_a_length_that_is_not_there(self):
        with self.assertRaisesRegex(BadInput, "H777"):
            self.so(short=(ShortTool(number=777, by=1.0),))


if __name__ == "__main__":
    unittest.main()
