"""An edit computed with what there is gives what an empty store gives, bit for bit, whatever field of the
plan it changes.
"""

from __future__ import annotations

import random
import unittest
from typing import Any

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.holding.kinds import fixtures_shipped
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import Plan, plan_from
from tests.core.test_removal import DATA, HOLD, face
from tests.edits import computed, edited

FEW = 5


def document() -> dict[str, Any]:
    """A plate in two setups, with every field of the document that has a default written out."""
    used = [tool_shelf()[name].model_dump(mode="json") for name in ("em10", "dr5")]
    drill = {
        "id": "d",
        "name": "Drill",
        "kind": "drilling",
        "cycle": "drill",
        "tool": "dr5",
        "faces": [face("cylinder", radius=2.5)],
    }
    step = {"id": "s", "name": "Step", "kind": "outline", "tool": "em10"}
    plan = plan_from({
        "name": "plate", "part": {"file": "plate.step", "sha256": "0" * 64}, "resolution_mm": 1.0, "tools": used,
        "billet": {"kind": "block", "sizing": {"rule": "allowance", "x_minus": 2, "x_plus": 2, "y_minus": 2, "y_plus": 2, "z_minus": 6, "z_plus": 1}},
        "setups": [
            {"name": "OP10", "hold": HOLD, "operations": [{"id": "f", "name": "Face", "kind": "facing", "tool": "em10"}, step, drill]},
            {"name": "OP20", "hold": HOLD, "seat": {"up": {"rule": "direction", "direction": [0, 0, -1]}},
             "operations": [{"id": "f", "name": "Face", "kind": "facing", "tool": "em10"}]},
        ],
    })  # fmt: skip
    return plan.model_dump(mode="json")


class WarmTest(unittest.TestCase):
    def compared(self, plan: Plan, warm: MemoryStore, said: str) -> None:
        told, contents, _ = computed(plan, DATA, warm)
        fresh, empty, _ = computed(plan, DATA, MemoryStore())
        self.assertEqual(told, fresh, said)
        self.assertEqual(contents, empty, said)

    def test_random_edits(self):
        start, store, chance = document(), MemoryStore(), random.Random(20261127)
        evaluate(plan_from(start), DATA, store)
        for _ in range(FEW):
            said, now, plan = edited(start, chance)
            with self.subTest(said):
                self.compared(plan, store, said)
            # Edits follow one another; now and then one is taken back.
            if chance.random() < 0.7:
                start = now

    def test_a_library_changed_under_a_proposal(self):
        """A set of parallels that was offered is not offered once it has become too thick; a vee that is put
        in is looked at.
        """
        start, store = document(), MemoryStore()
        evaluate(plan_from(start), DATA, store)
        for fixture in (
            fixtures_shipped()["par-125x5"].model_copy(update={"thickness": 20.0}),
            fixtures_shipped()["par-150x8"].model_copy(update={"thickness": 43.0}),
            fixtures_shipped()["vee-90-60"].model_copy(update={"id": "vee-own"}),
        ):
            plan = plan_from({**start, "fixtures": [fixture.model_dump(mode="json")]})
            self.compared(plan, store, fixture.id)


if __name__ == "__main__":
    unittest.main()
