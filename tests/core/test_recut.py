"""The stock a program leaves, cut by an independent cutter, against the planned one: one setup of each kind
of machine and work.
"""

from __future__ import annotations

import json
import unittest
from pathlib import Path

import numpy as np

from pelvrak.core.engine.store import MemoryStore, Store
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import SetupReport
from tests.core import test_removal, test_turning, test_wrapped
from tests.core.in_dialects import written_in
from tests.recut import recut

MEAN_MM, MOST_MM = 0.02, 0.15
DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing"


class Recut(unittest.TestCase):
    def compared(self, store: Store, plan: Plan, setup: SetupReport, moves: int = 20) -> None:
        """Cut a setup's program into what comes in; both stocks have to be the same."""
        laid = recut(store, plan, setup)
        self.assertGreater(laid.moves, moves)
        self.assertGreater(laid.removed_mm3, 100)
        self.assertAlmostEqual(laid.volume_ratio, 1.0, delta=2e-3)
        self.assertLess(laid.mean_mm, MEAN_MM)
        self.assertLess(laid.most_mm, MOST_MM)

    def in_dialects(self, store: Store, plan: Plan, body: bytes, index: int, *strict: str) -> None:
        """Written in each dialect a setup's program leaves the same stock. strict: what the strict one is
        told to lack.
        """
        for dialect in ("extended", "plain", "strict"):
            setup = evaluate(written_in(plan, dialect), body, store).setups[index]
            self.assertTrue(setup.proof.equal, (dialect, setup.proof))
            beyond = [one.sentence for one in setup.findings if one.code == "program.dialect"]
            if dialect == "strict":
                self.assertEqual(len(beyond), len(strict), beyond)
                for said, what in zip(beyond, strict, strict=True):
                    self.assertIn(what, said)
            elif dialect == "extended":
                self.assertEqual(beyond, [])

    def test_three_axes(self):
        """A step open to three sides, and drilled, reamed and tapped holes."""
        t = test_removal
        wall, small = t.face("cylinder", radius=4.0), t.face("cylinder", radius=2.5)
        drill = min(
            (x for x in t.tool_shelf().values() if x.kind == "drill" and 7.4 < x.DC < 8),
            key=lambda x: 8 - x.DC,
        )
        report = t.computed(
            {
                "id": "p",
                "name": "Step",
                "kind": "pocket",
                "tool": t.tool("end_mill", DC=16.0),
                "faces": [t.face("plane", z=10.0)],
            },
            {**t.drilling("drill", drill.id, wall), "id": "d8"},
            {**t.drilling("ream", t.tool("reamer", DC=8.0), wall), "id": "r8"},
            {**t.drilling("peck", t.tool("drill", DC=5.0), small), "id": "d5"},
            {**t.drilling("tap", t.tool("tap", DC=6.0), small), "id": "t6"},
        )
        self.compared(t.STORE, t.last_plan(), report.setups[0])
        self.in_dialects(t.STORE, t.last_plan(), t.DATA, 0, "no cycle G84")

    def test_indexed(self):
        """A slanting face and a hole in the front, on a rotary about X, each with its register."""
        store, report = test_turning.computed("register_each")
        self.compared(store, test_turning.turned_plan(), report.setups[0], moves=3)
        self.in_dialects(store, test_turning.turned_plan(), test_turning.part(), 0)

    def trunnion(self, run: str) -> tuple[Store, Plan, SetupReport]:
        """The slanting face and the front hole on two rotary axes, the block turned a quarter on its cradle,
        so that both turn.
        """
        t = test_turning
        strap = {"fixture": "strap-80", "on": "table", "x": 140}
        straps = [
            {"id": "front", **strap, "y": 62, "turn_deg": 0},
            {"id": "back", **strap, "y": 218, "turn_deg": 180},
        ]
        hold = {"items": straps, "work": {"x": 0, "y": 0}}
        seat = {"x": {"rule": "turn", "quarter_turns": 1}}
        plan = t.turned_plan(run, machine="trunnion-ac", hold=hold, seat=seat)
        store = MemoryStore()
        return store, plan, evaluate(plan, t.part(), store).setups[0]

    def test_trunnion(self):
        """Two rotary axes, a register for each position; and all of them from the rotary centre."""
        store, plan, setup = self.trunnion("register_each")
        self.assertGreater(len({tuple(one.angles.values()) for one in setup.positions}), 1)
        self.compared(store, plan, setup, moves=3)
        self.in_dialects(store, plan, test_turning.part(), 0)
        centre = plan.setups[0].model_copy(update={"rotary_run": "centre"})
        self.in_dialects(store, plan.model_copy(update={"setups": (centre,)}), test_turning.part(), 0)

    def test_trunnion_in_a_tilted_plane(self):
        """Two rotary axes, planes turned by the control: where they lie, and that the axes stand square to
        them.
        """
        store, plan, setup = self.trunnion("tilted_plane")
        self.assertIn("G68.2", store.get(setup.program_key, "program.nc").decode())
        self.compared(store, plan, setup, moves=3)
        self.in_dialects(store, plan, test_turning.part(), 0, "no tilted plane", "the letter I")

    def test_no_register_is_set_from_a_turned_plane(self):
        """What a probe finds there lies along no slide."""
        _, plan, _ = self.trunnion("tilted_plane")
        setup = plan.setups[0]
        hole = next(one for one in setup.operations if one.kind == "drilling")
        probe = {
            "id": "p",
            "name": "Find",
            "kind": "probing",
            "tool": "pr2",
            "what": "bore",
            "faces": [one.model_dump() for one in hole.faces],
            "position": hole.position,
        }
        told = setup.model_dump(mode="json") | {"operations": [probe]}
        document = plan.model_dump(mode="json") | {"setups": [told]}
        document["tools"].append(test_removal.tool_shelf()["pr2"].model_dump() | {"place": 40})
        report = evaluate(plan_from(document), test_turning.part(), MemoryStore())
        (found,) = report.setups[0].operations[0].findings
        self.assertEqual(found.code, "probe.tilted_plane")

    def test_soft_jaws(self):
        """The demo's jaws, cut for a part of which only the outline was cut before."""
        document = json.loads((DEMO / "plan.json").read_text())
        document["setups"] = document["setups"][:3]
        top, jaws, under = document["setups"]
        top["operations"] = [one for one in top["operations"] if one["id"] in ("outline-rough", "outline")]
        under["operations"] = []
        # Along the walls and the rim, in one level: a few of the moves, and every wall and corner all the
        # same.
        jaws["operations"] = [one for one in jaws["operations"] if one["kind"] == "outline"]
        for one in jaws["operations"]:
            one["step_down"] = 10.0
        plan, store = plan_from(document), MemoryStore()
        report = evaluate(plan, (DEMO / "encoder-housing.step").read_bytes(), store)
        self.assertEqual(report.setups[1].makes, "OP20")
        self.compared(store, plan, report.setups[1])
        self.in_dialects(store, plan, (DEMO / "encoder-housing.step").read_bytes(), 1)

    def test_wrapped(self):
        """A groove round a sixth of a bar, in inverse time, the work turning as it is cut."""
        arc = test_wrapped.BAR / 2 * np.radians(30)
        operation = {"tool": "em8", "line": [[0, -arc], [0, arc]], "diameter": test_wrapped.BAR, "depth": 2.0}
        report = test_wrapped.computed(operation)
        plan = test_wrapped.plan_from(test_wrapped.document(operation))
        self.compared(test_wrapped.STORE, plan, report.setups[0], moves=1)
        self.in_dialects(test_wrapped.STORE, plan, test_wrapped.part(), 0, "no inverse time")


if __name__ == "__main__":
    unittest.main()
