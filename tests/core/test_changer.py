"""Places of the changer over a route: shared or refused, twins that take over from a worn edge, changes."""

from __future__ import annotations

import unittest
from typing import Any

from pelvrak.core.cutting.tools import Tool, tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.route.changer import changer
from pelvrak.core.route.drafting import drafted
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids
from tests.edits import cured

PART = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 14)))


def tool(name: str, **told: Any) -> dict[str, Any]:
    return tool_shelf()[name].model_dump(mode="json") | told


def facing(number: int, tool: str) -> dict[str, Any]:
    return {"kind": "facing", "id": f"f{number}", "name": f"Face {number}", "tool": tool}


def document(tools: list[dict[str, Any]], *setups: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "name": "changer",
        "part": {"file": "p.step"},
        "tools": tools,
        "resolution_mm": 1.0,
        "billet": {"kind": "block", "material": "EN AW-6082"},
        "setups": [{"name": f"OP{10 * i}", "operations": own} for i, own in enumerate(setups, 1)],
    }


class Places(unittest.TestCase):
    def test_two_tools_may_share_a_place_unless_one_load_needs_both(self):
        tools = [tool("em12", place=3), tool("em8", place=3)]
        plan_from(document(tools, [facing(1, "em12")], [facing(2, "em8")]))
        with self.assertRaises(BadInput) as refused:
            plan_from(document(tools, [facing(1, "em12"), facing(2, "em8")]))
        self.assertIn("are both in place 3, and OP10 needs both", refused.exception.what)
        twin = [tool("em12", place=3), tool("em8", place=5, twin_places=[3])]
        with self.assertRaises(BadInput):
            plan_from(document(twin, [facing(1, "em12"), facing(2, "em8")]))
        both = document(tools, [facing(1, "em12")], [facing(2, "em8")])
        for setup in both["setups"]:
            setup["load"] = "A"
        with self.assertRaises(BadInput):
            plan_from(both)

    def test_a_tool_that_is_added_does_not_come_into_a_twins_place(self):
        plan = plan_from(document([tool("em12", place=1, twin_places=[2])], []))
        self.assertEqual(plan.taken_places, {1, 2})
        told = {"kind": "facing", "tool": ""}
        found = drafted(plan, plan.setups[0], told, None, [tool_shelf()["fm50"]])
        self.assertEqual(found.tool and found.tool.place, 3)

    def test_what_is_changed_between_setups(self):
        tools = [tool("em12", place=3), tool("em8", place=3), tool("fm50", place=9, twin_places=[10])]
        first, second = [facing(1, "em12"), facing(2, "fm50")], [facing(3, "em8"), facing(4, "fm50")]
        found = changer(plan_from(document(tools, first, second, first)), ())
        rows = [(one.setup, one.place, one.put, one.taken) for one in found.changes]
        self.assertEqual(
            rows,
            [
                ("OP10", 3, "em12", None),
                ("OP10", 9, "fm50", None),
                ("OP10", 10, "fm50", None),
                ("OP20", 3, "em8", "em12"),
                ("OP30", 3, "em12", "em8"),
            ],
        )


class Wear(unittest.TestCase):
    def test_the_twin_that_is_in_use(self):
        one = Tool.model_validate(tool("em12", place=3, twin_places=[21, 22], life_min=10))
        self.assertEqual([one.after(60 * t).place for t in (0, 9.9, 10, 25, 99)], [3, 3, 21, 22, 22])

    def test_over_the_route_it_wears_and_its_twin_takes_over(self):
        face = facing(1, "em12")
        plain = document([tool("em12", place=3)], [face])
        report = evaluate(plan_from(plain), PART, MemoryStore())
        (one,) = report.setups[0].operations
        # In cut it is as long as it moves, less its rapids and what it feeds through air.
        self.assertGreater(one.in_cut_s, 0.3 * one.moving_s)
        self.assertLess(one.in_cut_s, one.moving_s)
        life = one.in_cut_s / 60 * 0.6
        worn = document([tool("em12", place=3, life_min=life)], [face])
        store = MemoryStore()
        report = evaluate(plan_from(worn), PART, store)
        (told,) = [f for f in report.setups[0].operations[0].findings if f.code == "cut.worn"]
        self.assertAlmostEqual(told.measured, one.in_cut_s / 60, places=2)
        use = changer(plan_from(worn), report.setups).uses[0]
        self.assertAlmostEqual(use.worn, 1 / 0.6, places=6)
        self.assertEqual(use.pieces, 0)
        mended = cured(worn, told.cures[0])
        self.assertEqual(mended["tools"][0]["twin_places"], [1])
        report = evaluate(plan_from(mended), PART, store)
        codes = [f.code for f in report.setups[0].operations[0].findings]
        self.assertNotIn("cut.worn", codes)
        # How long an edge lasts cuts nothing anew.
        self.assertFalse([name for name in report.computed if "cut" in name])


if __name__ == "__main__":
    unittest.main()
