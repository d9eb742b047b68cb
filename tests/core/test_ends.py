"""Holes end as their tolerances and threads say, or it is told of who cuts them last."""

from __future__ import annotations

import unittest
from typing import Any

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.callout import SCALLOP_RA
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.proposals.chains import tolerance_of
from pelvrak.core.route.ends import ends_of, minor_limits
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids
from tests.core.planning_bench import model

PART = model(
    solids.minus(
        solids.box((0, 0, 0), (60, 30, 12)),
        solids.cylinder((10, 15, -1), 4, 20),
        solids.cylinder((30, 15, -1), 2.5, 20),
        solids.cylinder((40, 15, -1), 2.5, 20),
        solids.cylinder((50, 15, -1), 4, 20),
    )
).part
SHELF = tool_shelf()


def wall(diameter: float, x: float) -> dict[str, Any]:
    hole = next(
        one for one in PART.holes if abs(one.diameter - diameter) < 1e-6 and abs(one.start[0] - x) < 1e-6
    )
    return ref_to(PART.faces[hole.faces[0]]).model_dump(mode="json")


def told(
    text: str, face: dict[str, Any], *operations: dict[str, Any], more: Any = (), tools: Any = ()
) -> dict[tuple[str, str], tuple[Finding, ...]]:
    """What is told of holes cut by operations. more: further faces with the same text; tools: made up."""
    known = {**SHELF, **{one.id: one for one in tools}}
    used = dict.fromkeys(one["tool"] for one in operations)
    rows = [{"id": f"o{n}", "name": f"cut {n}", **one} for n, one in enumerate(operations)]
    for row in rows:
        row.setdefault("faces", [face, *more])
    plan = plan_from(
        {
            "name": "ends",
            "part": {
                "file": "p.step",
                "callouts": [{"face": one, "text": text} for one in (face, *more)],
            },
            "tools": [
                known[name].model_copy(update={"place": n + 1}).model_dump(mode="json")
                for n, name in enumerate(used)
            ],
            "setups": [{"name": "OP10", "operations": rows}],
        }
    )
    return ends_of(plan.settled(), PART)


def drilled(tool: str, cycle: str = "drill") -> dict[str, Any]:
    return {"kind": "drilling", "cycle": cycle, "tool": tool}


def tool_of(kind: str, diameter: float) -> str:
    return next(name for name, one in SHELF.items() if one.kind == kind and abs(one.DC - diameter) < 1e-6)


DRILL_78, DRILL_8, DRILL_5 = (tool_of("drill", size) for size in (7.8, 8.0, 5.0))
SPOT = tool_of("spot_drill", 10.0)
REAMER = next(name for name, one in SHELF.items() if one.kind == "reamer" and abs(one.DC - 8.0) < 0.02)
TAP_M6 = next(name for name, one in SHELF.items() if one.kind == "tap" and (one.DC, one.TP) == (6.0, 1.0))
TAP_M8 = next(name for name, one in SHELF.items() if one.kind == "tap" and (one.DC, one.TP) == (8.0, 1.25))


class Ends(unittest.TestCase):
    def only(self, found: Any, operation: str) -> Finding:
        self.assertEqual(list(found), [("OP10", operation)])
        (finding,) = found["OP10", operation]
        self.assertEqual((finding.setup, finding.operation, finding.stage), ("OP10", operation, "cut"))
        return finding

    def test_a_whole_chain_says_nothing(self):
        chain = drilled(SPOT, "spot"), drilled(DRILL_78), drilled(REAMER, "ream")
        self.assertEqual(told("H7", wall(8, 10), *chain), {})
        self.assertEqual(told("M6", wall(5, 30), drilled(DRILL_5), drilled(TAP_M6, "tap")), {})
        # A plain size may be drilled: ±0.1 is wider than IT9 of 8 mm, 0.036 (ISO 286-1, from memory).
        self.assertEqual(tolerance_of(9, 8.0), 0.036)
        self.assertEqual(told("±0.1", wall(8, 10), drilled(DRILL_8)), {})
        # Nothing is said of a hole that nobody cuts.
        self.assertEqual(told("H7", wall(8, 10)), {})

    def test_too_narrow_too_wide_and_drilled(self):
        narrow = self.only(told("H7", wall(8, 10), drilled(DRILL_78)), "o0")
        self.assertEqual((narrow.code, narrow.severity), ("cut.hole_too_narrow", "warning"))
        self.assertEqual((narrow.measured, narrow.limit), (7.8, 8.0))
        # 8 P7 is 7.976 … 7.991 (ISO 286-2, from memory): a Ø8 drill makes it too wide, whatever follows.
        wide = self.only(told("P7", wall(8, 10), drilled(DRILL_8)), "o0")
        self.assertEqual((wide.code, wide.severity, wide.limit), ("cut.hole_too_wide", "error", 7.991))
        loose = self.only(told("H7", wall(8, 10), drilled(DRILL_8)), "o0")
        self.assertEqual((loose.code, loose.severity), ("cut.hole_not_held", "warning"))

    def test_what_stays_on_a_milled_wall_counts(self):
        rough = {"kind": "helical", "tool": "em6", "leave": 0.2}
        found = self.only(told("H9", wall(8, 10), rough), "o0")
        self.assertEqual((found.code, found.measured), ("cut.hole_too_narrow", 7.6))
        self.assertEqual(told("H9", wall(8, 10), rough, {"kind": "helical", "tool": "em6"}), {})

    def test_threads(self):
        hole = wall(5, 30)
        none = self.only(told("M6", hole, drilled(DRILL_5)), "o0")
        self.assertEqual((none.code, none.severity), ("cut.no_thread", "warning"))
        other = self.only(told("M6", hole, drilled(DRILL_5), drilled(TAP_M8, "tap")), "o1")
        self.assertEqual((other.code, other.severity), ("cut.other_thread", "error"))
        self.assertIn("8 × 1.25", other.sentence)
        for size in (4.8, 5.2):
            off = self.only(told("M6", hole, drilled(tool_of("drill", size)), drilled(TAP_M6, "tap")), "o0")
            self.assertEqual((off.code, off.measured), ("cut.tap_drill", size))

    def test_minor_diameters_of_6h(self):
        """ISO 965-1, table of limits for 6H, minor diameter of the nut thread (from memory), mm."""
        for size, pitch, least, most in (
            (3.0, 0.5, 2.459, 2.599),
            (4.0, 0.7, 3.242, 3.422),
            (6.0, 1.0, 4.917, 5.153),
            (8.0, 1.25, 6.647, 6.912),
            (10.0, 1.5, 8.376, 8.676),
            (12.0, 1.75, 10.106, 10.441),
            (16.0, 2.0, 13.835, 14.210),
        ):
            found = minor_limits(size, pitch)
            self.assertAlmostEqual(found[0], least, delta=0.0015)
            self.assertAlmostEqual(found[1], most, delta=0.006)
            # Every tapping drill of ISO 2306, size less pitch, makes such a hole.
            self.assertTrue(found[0] <= size - pitch <= found[1])

    def test_holes_alike_are_told_once_with_their_places(self):
        found = self.only(told("M6", wall(5, 30), drilled(DRILL_5), more=(wall(5, 40),)), "o0")
        self.assertEqual(len(found.place), 2)

    def test_a_surface_rougher_than_it_may_be(self):
        """A ball of R5 by steps of 1 mm leaves 5 − √(25 − 1/4) = 25.06 µm: Ra 6.4."""
        top = next(one for one in PART.faces if one.normal and one.normal[2] > 0.9)
        face = ref_to(top).model_dump(mode="json")
        lines = {"kind": "surfacing", "tool": tool_of("ball_mill", 10.0), "within": "faces", "step": 1.0}
        found = self.only(told("Ra 1.6", face, lines), "o0")
        self.assertEqual((found.code, found.severity, found.limit), ("cut.rougher", "warning", 1.6))
        self.assertAlmostEqual(found.measured, 25.063 / SCALLOP_RA, places=2)
        (edit,) = found.cures[0].edits
        self.assertEqual((edit.of.operation, edit.field), ("o0", "scallop"))
        self.assertEqual(told("Ra 1.6", face, {**lines, "scallop": edit.value}), {})
        self.assertEqual(told("Ra 6.5", face, lines), {})

    def test_the_report_tells_it_beside_the_operation(self):
        shape = solids.minus(solids.box((0, 0, 0), (30, 30, 8)), solids.cylinder((15, 15, -1), 4, 20))
        own = model(shape).part
        face = ref_to(own.faces[own.holes[0].faces[0]]).model_dump(mode="json")
        plan = {
            "name": "ends",
            "part": {"file": "p.step", "callouts": [{"face": face, "text": "H7"}]},
            "resolution_mm": 1.0,
            "tools": [SHELF[DRILL_78].model_dump(mode="json")],
            "setups": [
                {
                    "name": "OP10",
                    "operations": [
                        {"id": "d", "name": "Drill", "faces": [face], **drilled(DRILL_78)},
                        {"id": "e", "name": "Again", "faces": [face], "off": True, **drilled(DRILL_78)},
                    ],
                }
            ],
        }
        report = evaluate(plan_from(plan), solids.step_bytes(shape), MemoryStore())
        (operation,) = report.setups[0].operations
        self.assertEqual([one.code for one in operation.findings], ["cut.hole_too_narrow"])


if __name__ == "__main__":
    unittest.main()
