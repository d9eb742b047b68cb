"""What a cure would change and leave, told before it is taken."""

from __future__ import annotations

import unittest

from pelvrak.core.cures import Element, Put, put
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.holding.hold import vise_hold
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.tried import tried
from tests import solids


class Trying(unittest.TestCase):
    """A block gripped too shallow: on parallels of 48 in jaws of 50, 2 mm are held."""

    @classmethod
    def setUpClass(cls):
        cls.data = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20)))
        cls.store = MemoryStore()
        document = {
            "name": "p",
            "part": {"file": "p.step"},
            "setups": [{"name": "OP10", "hold": vise_hold(height=48.0).model_dump(mode="json")}],
        }
        cls.plan = plan_from(document)
        cls.report = cls.run_of(cls.plan)

    @classmethod
    def run_of(cls, plan):
        return evaluate(plan, cls.data, cls.store)

    def test_the_offered_cure_leaves_what_it_says(self):
        shallow = next(f for f in self.report.setups[0].findings if f.code == "hold.shallow")
        found = tried(self.plan, shallow.cures[0].edits, "OP10", self.run_of)
        self.assertEqual(found.changes, ("height of parallels: 48 → 44",))
        self.assertIn("hold.shallow", [f.code for f in found.gone])
        self.assertNotIn("hold.shallow", [f.code for f in found.left])
        # Taken for good, the report says the same.
        setup = self.plan.setups[0].model_copy(update={"hold": vise_hold(height=44.0)})
        report = self.run_of(self.plan.model_copy(update={"setups": (setup,)}))
        own = [f.code for f in report.setups[0].findings]
        self.assertEqual(sorted(own), sorted(f.code for f in found.left))

    def test_a_change_that_makes_it_worse_says_what_is_new(self):
        jaws = put("", Element(setup="OP10", item="jaws"), "fixture", "hard-100")
        away = Put(of=Element(setup="OP10"), field="hold/items", value=[])
        found = tried(self.plan, (*jaws.edits, away), "OP10", self.run_of)
        self.assertEqual(found.changes[0], "fixture of jaws: hard-160 → hard-100")
        self.assertEqual([f.code for f in found.new], ["hold.nothing"])

    def test_what_has_gone_is_refused(self):
        gone = put("", Element(setup="OP10", item="riser"), "height", 10.0)
        with self.assertRaises(BadInput):
            tried(self.plan, gone.edits, "OP10", self.run_of)
        with self.assertRaises(BadInput):
            tried(self.plan, (), "OP99", self.run_of)
