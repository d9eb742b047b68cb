"""Ten parts with known features: all that is offered, taken in two setups, leaves nothing and gouges none."""

from __future__ import annotations

import unittest
from typing import Any

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids
from tests.core.test_proposals import offered
from tests.edits import cured

BLOCK = solids.box((0, 0, 0), (60, 44, 18))


def pocket(low: Any, high: Any, radius: float) -> Any:
    """A room with upright corners of a radius."""
    middle = (low[2] + high[2]) / 2
    deep = (high[2] - low[2]) / 2
    return solids.filleted(solids.box(low, high), radius, lambda at: abs(at[2] - middle) < deep - 0.1)


def hole(x: float, y: float, diameter: float, low: float = -1.0, high: float = 20.0) -> Any:
    return solids.cylinder((x, y, low), diameter / 2, high - low)


def rounded(radius: float) -> Any:
    """The block with its upright edges rounded."""
    return solids.filleted(BLOCK, radius, lambda at: abs(at[2] - 9) < 1)


PARTS = {
    "block": BLOCK,
    "round corners": rounded(8.0),
    "through holes": solids.minus(BLOCK, hole(15, 15, 8), hole(45, 15, 8), hole(30, 30, 12)),
    "counterbore": solids.minus(rounded(5.0), hole(20, 22, 6.6), hole(20, 22, 11, 11)),
    "pocket": solids.minus(BLOCK, pocket((12, 10, 10), (48, 34, 20), 6.0)),
    "two sides": solids.minus(
        rounded(6.0), pocket((12, 10, 12), (48, 34, 20), 6.0), pocket((15, 12, -1), (45, 32, 5), 8.0)
    ),
    "opening": solids.minus(BLOCK, pocket((15, 12, -1), (45, 32, 20), 8.0)),
    "step": solids.minus(BLOCK, solids.box((-5, -5, 9), (20, 60, 20))),
    "disc": solids.cylinder((30, 22, 0), 22, 14),
    "ring": solids.minus(solids.cylinder((30, 22, 0), 22, 14), hole(30, 22, 24)),
}


def document(tools: tuple[dict[str, Any], ...] = ()) -> dict[str, Any]:
    """3 mm on every side; the second setup turned over about the length."""
    sides = ("x_minus", "x_plus", "y_minus", "y_plus", "z_minus", "z_plus")
    down = {"up": {"rule": "direction", "direction": [0, 0, -1]}}
    return {
        "name": "ten",
        "part": {"file": "p.step"},
        "resolution_mm": 0.8,
        "billet": {"kind": "block", "sizing": {"rule": "allowance", **dict.fromkeys(sides, 3.0)}},
        "setups": [{"name": "OP10"}, {"name": "OP20", "seat": down}],
    }


class TenParts(unittest.TestCase):
    def taken(self, shape: Any) -> Any:
        """The report with all taken in both setups, and what is offered after that."""
        data, store, made = solids.step_bytes(shape), MemoryStore(), document()
        for count in (1, 2):
            now = plan_from({**made, "setups": made["setups"][:count]})
            found = offered(now, evaluate(now, data, store), store)
            if found.every is not None:
                made = cured(made, found.every)
        plan = plan_from(made)
        report = evaluate(plan, data, store)
        return report, offered(plan, report, store)

    def test_take_all_in_two_setups(self):
        self.assertEqual(len(PARTS), 10)
        for name, shape in PARTS.items():
            with self.subTest(name):
                report, after = self.taken(shape)
                told = [
                    (one.name, finding.code)
                    for setup in report.setups
                    for one in setup.operations
                    for finding in one.findings
                    if finding.severity == "error"
                ]
                self.assertEqual(told, [])
                assert report.comparison is not None
                self.assertEqual([one.code for one in report.comparison.findings], [], name)
                self.assertLess(report.comparison.max_left_mm, 0.1)
                self.assertLess(report.comparison.max_gouge_mm, 0.05)
                self.assertEqual([one.cuttable.what for one in after.offered], [])


if __name__ == "__main__":
    unittest.main()
