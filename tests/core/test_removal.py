"""Cuts nobody was told about: finishing tools in solid metal, operations in air, corners taken for bores,
places and registers that are not there.
"""

from __future__ import annotations

import math
import unittest
from hashlib import sha256
from typing import Any

from pelvrak.core.cures import Element, Put
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.part import PartModel, ref_to, unpacked
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import Plan, plan_from, program_numbers
from pelvrak.core.route.removal import hole_before, reaming_limit
from pelvrak.core.route.report import OperationReport, Report
from tests import solids

STORE = MemoryStore()
PLANS: list[Plan] = []
# 60 × 44 × 15: holes Ø8 and Ø5 (for M6), an opening 20 × 12 with corners R5 through it, a step 10 wide and 5
# deep along the front.
PLATE = solids.minus(
    solids.box((0, 0, 0), (60, 44, 15)),
    solids.cylinder((12, 26, -1), 4, 20),
    solids.cylinder((26, 26, -1), 2.5, 20),
    solids.filleted(solids.box((36, 20, -1), (56, 32, 16)), 5.0, lambda at: abs(at[2] - 7.5) < 1),
    solids.box((-1, -1, 10), (61, 10, 16)),
)
DATA = solids.step_bytes(PLATE)


def model() -> PartModel:
    from pelvrak.core.route.run import part_key, part_result

    part_result(DATA, "plate.step", Engine(STORE))
    return unpacked(STORE.get(part_key(sha256(DATA).hexdigest()), "part.npz"))


def face(kind: str, **about: Any) -> dict:
    """The one face of a kind with a radius, or at a height, that looks up or stands at a side."""
    for one in model().part.faces:
        if one.kind != kind:
            continue
        if "radius" in about and abs((one.radius or 0) - about["radius"]) > 1e-6:
            continue
        if "z" in about and not (
            one.normal and one.normal[2] > 0.9 and abs(one.centre[2] - about["z"]) < 1e-6
        ):
            continue
        if "x" in about and not (
            one.normal and abs(one.normal[0]) > 0.9 and abs(one.centre[0] - about["x"]) < 1e-6
        ):
            continue
        return ref_to(one).model_dump(mode="json")
    raise LookupError((kind, about))


HOLD = {
    "items": [
        {"id": "vise", "fixture": "bench-125", "x": 300, "y": 300},
        {"id": "jaws", "fixture": "hard-125", "on": "vise"},
        {"id": "p", "fixture": "par-125x5", "on": "vise", "height": 34},
    ]
}


SIDES = ("x_minus", "x_plus", "y_minus", "y_plus")


def computed(*operations: dict, around: float = 0.0, **setup: Any) -> Report:
    plan = plan_from(
        {
            "name": "plate",
            "part": {"file": "plate.step", "sha256": "0" * 64},
            "resolution_mm": 0.5,
            "tools": setup.pop("tools", [tool.model_dump() for tool in tool_shelf().values()]),
            "billet": {
                "kind": "block",
                "sizing": {"rule": "allowance", **dict.fromkeys(SIDES, around), "z_minus": 0, "z_plus": 0},
            },
            "setups": [{"name": "OP10", "hold": HOLD, "operations": list(operations), **setup}],
        }
    )
    PLANS.append(plan)
    return evaluate(plan, DATA, STORE)


def last_plan() -> Plan:
    """The plan that was computed last."""
    return PLANS[-1]


def tool(kind: str, **sizes: float) -> str:
    return next(
        t.id
        for t in tool_shelf().values()
        if t.kind == kind and all(abs(getattr(t, k) - v) < 1e-6 for k, v in sizes.items())
    )


def drilling(cycle: str, which: str, ref: dict, **more: Any) -> dict:
    return {
        "id": cycle,
        "name": cycle,
        "kind": "drilling",
        "cycle": cycle,
        "tool": which,
        "faces": [ref],
        **more,
    }


def codes(report: OperationReport) -> list[str]:
    return [f.code for f in report.findings if f.severity != "note"]


class Skins(unittest.TestCase):
    def test_what_is_thinner_than_the_rays_distance_is_cut(self):
        """A wall left 0.1, 0.2 and 0.3 mm at rays 0.5 mm apart is finished, and once only."""
        outline = {
            "name": "Outline",
            "kind": "outline",
            "tool": tool("end_mill", DC=16.0),
            "bottom": face("plane", z=10.0),
            "step_down": 20,
        }
        for leave in (0.1, 0.2, 0.3):
            one, two, three = (
                computed(
                    {**outline, "id": "o1", "leave": leave},
                    {**outline, "id": "o2", "leave": 0.0},
                    {**outline, "id": "o3", "leave": 0.0},
                    around=1.0,
                )
                .setups[0]
                .operations
            )
            self.assertGreater(two.moves, 5)
            self.assertEqual(codes(two), [])
            # Round 60 × 44 with its corners as they are cut, 5 high.
            self.assertAlmostEqual(two.removed_volume_mm3 / (2 * (60 + 44) * 5 * leave), 1.0, delta=0.05)
            self.assertEqual((three.moves, [f.code for f in three.findings]), (0, ["cut.nothing"]))


class FinishingTools(unittest.TestCase):
    def test_a_reamer_in_solid_metal(self):
        wall, reamer = face("cylinder", radius=4.0), tool("reamer", DC=8.0)
        solid = computed(drilling("ream", reamer, wall)).setups[0].operations[0]
        self.assertIn("cut.ream_in_solid", codes(solid))
        self.assertIn("solid metal", " ".join(f.sentence for f in solid.findings))
        drill = min(
            (t for t in tool_shelf().values() if t.kind == "drill" and 7.4 < t.DC < 8), key=lambda t: 8 - t.DC
        )
        done = (
            computed(drilling("drill", drill.id, wall), drilling("ream", reamer, wall)).setups[0].operations
        )
        self.assertEqual(codes(done[1]), [])

    def test_a_tap_in_solid_metal(self):
        wall, tap = face("cylinder", radius=2.5), tool("tap", DC=6.0)
        solid = computed(drilling("tap", tap, wall)).setups[0].operations[0]
        self.assertIn("cut.tap_in_solid", codes(solid))
        done = (
            computed(drilling("drill", tool("drill", DC=5.0), wall), drilling("tap", tap, wall))
            .setups[0]
            .operations
        )
        self.assertEqual(codes(done[1]), [])

    def test_the_hole_before_from_what_was_taken(self):
        """Closed form: a ring between two circles, over its depth."""
        for was in (0.0, 3.0, 7.8):
            ring = math.pi / 4 * (8**2 - was**2) * 20
            self.assertAlmostEqual(hole_before(8.0, ring, 20.0), was, places=9)
        self.assertEqual([reaming_limit(d) for d in (4, 8, 16, 40)], [0.4, 0.4, 0.4, 0.8])

    def test_a_smaller_drill_in_a_hole_that_is_there(self):
        wall = face("cylinder", radius=4.0)
        first = drilling(
            "drill",
            tool("drill", DC=max(t.DC for t in tool_shelf().values() if t.kind == "drill" and t.DC <= 8)),
            wall,
        )
        small = min((t for t in tool_shelf().values() if t.kind == "drill"), key=lambda t: abs(t.DC - 5))
        again = {**drilling("drill", small.id, wall), "id": "again", "name": "again"}
        told = computed(first, again).setups[0].operations[1]
        self.assertTrue({"cut.removes_nothing", "cut.already_there"} & {f.code for f in told.findings})


class Air(unittest.TestCase):
    def test_cut_again_where_it_was_cut(self):
        outline = {"id": "o", "name": "Outline", "kind": "outline", "tool": "em10", "step_down": 20}
        told = (
            computed(outline, {**outline, "id": "again", "name": "Again", "step_over": 0.4}, around=1.0)
            .setups[0]
            .operations
        )
        self.assertEqual(codes(told[0])[:1] == ["cut.removes_nothing"], False)
        self.assertGreater(told[0].removed_volume_mm3, 1000)
        if told[1].moves:
            self.assertIn("cut.removes_nothing", codes(told[1]))
            self.assertIn("in air", told[1].findings[-1].sentence)


class CornersAndSides(unittest.TestCase):
    def test_a_rounded_corner_is_no_bore(self):
        corner = face("cylinder", radius=5.0)
        for operation in (drilling("drill", tool("drill", DC=5.0), corner),):
            told = computed(operation).setups[0].operations[0]
            self.assertIn("cut.not_a_bore", [f.code for f in told.findings])
            self.assertIn("rounded corner", told.findings[0].sentence)

    def test_a_through_opening_with_rounded_corners(self):
        """Picked by a corner, or by a wall: 20 × 12 less four corners of r²(1 - π/4) each, through 15 mm."""
        exact = (20 * 12 - (4 - math.pi) * 25) * 15
        for ref in (face("cylinder", radius=5.0), face("plane", x=36.0)):
            pocket = {
                "id": "p",
                "name": "Opening",
                "kind": "pocket",
                "tool": tool("end_mill", DC=8.0),
                "faces": [ref],
                "below": 1.0,
            }
            told = computed(pocket).setups[0].operations[0]
            self.assertEqual([f.sentence for f in told.findings if f.severity == "error"], [])
            self.assertAlmostEqual(told.removed_volume_mm3 / exact, 1.0, delta=0.01)

    def test_an_open_step_is_no_closed_pocket(self):
        """10 mm wide, open to three sides: a Ø16 clears it from outside, 60 × 10 × 5."""
        pocket = {
            "id": "p",
            "name": "Step",
            "kind": "pocket",
            "tool": tool("end_mill", DC=16.0),
            "faces": [face("plane", z=10.0)],
        }
        told = computed(pocket).setups[0].operations[0]
        self.assertEqual(codes(told), [])
        self.assertAlmostEqual(told.removed_volume_mm3 / (60 * 10 * 5), 1.0, delta=0.01)

    def test_square_corners_get_no_cutter_nobody_has(self):
        part = solids.minus(solids.box((0, 0, 0), (40, 30, 15)), solids.box((10, 10, 5), (30, 20, 16)))
        from pelvrak.core.route.run import part_key, part_result

        data, store = solids.step_bytes(part), MemoryStore()
        part_result(data, "a.step", Engine(store))
        floor = next(
            f
            for f in unpacked(store.get(part_key(sha256(data).hexdigest()), "part.npz")).part.faces
            if f.normal and f.normal[2] > 0.9 and abs(f.centre[2] - 5) < 1e-6
        )
        plan = plan_from(
            {
                "name": "a",
                "part": {"file": "a.step", "sha256": "1" * 64},
                "tools": [t.model_dump() for t in tool_shelf().values()],
                "setups": [
                    {
                        "name": "OP10",
                        "operations": [
                            {
                                "id": "p",
                                "name": "P",
                                "kind": "pocket",
                                "tool": "em10",
                                "faces": [ref_to(floor).model_dump()],
                            }
                        ],
                    }
                ],
            }
        )
        told = evaluate(plan, data, store).setups[0].operations[0]
        said = " ".join(f.sentence for f in told.findings)
        self.assertIn("square", said)
        self.assertNotIn("Ø0", said)


class OneLoad(unittest.TestCase):
    def test_two_works_in_one_place(self):
        """Two setups of one load in the same vise at the same place; moved aside by more than the vise they
        stand clear.
        """

        def found(x: float, load: str = "day") -> list[str]:
            hold = {"items": [{**HOLD["items"][0], "x": x}, *HOLD["items"][1:]]}
            plan = plan_from(
                {
                    "name": "plate",
                    "part": {"file": "plate.step", "sha256": "0" * 64},
                    "setups": [
                        {"name": "OP10", "hold": HOLD, "load": load},
                        {"name": "OP20", "hold": hold, "load": load, "offset_register": "G55"},
                    ],
                }
            )
            return [f.code for f in evaluate(plan, DATA, STORE).setups[1].findings]

        self.assertIn("load.same_place", found(300))
        self.assertIn("load.same_place", found(340))
        self.assertNotIn("load.same_place", found(460))
        self.assertNotIn("load.same_place", found(300, load=""))


class PlacesAndNumbers(unittest.TestCase):
    def test_a_place_the_changer_has_not(self):
        tools = [
            {**t.model_dump(), "place": 90 if t.id == "em10" else t.place} for t in tool_shelf().values()
        ]
        report = computed({"id": "f", "name": "Face", "kind": "facing", "tool": "em10"}, tools=tools)
        found = next(f for f in report.setups[0].findings if f.code == "cut.no_place")
        self.assertEqual((found.measured, found.limit), (90, 24))
        (edit,) = found.cures[0].edits
        self.assertEqual((edit.of, edit.field), (Element(tool="em10"), "place"))
        self.assertNotIn(edit.value, [tool["place"] for tool in tools])

    def test_a_twin_in_a_place_the_changer_has_not(self):
        tools = [
            {**t.model_dump(), "twin_places": (90,) if t.id == "em10" else ()} for t in tool_shelf().values()
        ]
        report = computed({"id": "f", "name": "Face", "kind": "facing", "tool": "em10"}, tools=tools)
        found = next(f for f in report.setups[0].findings if f.code == "cut.no_place")
        self.assertEqual((found.measured, found.limit, found.cures), (90, 24, ()))

    def test_a_reserved_register_typed_by_hand(self):
        report = computed(offset_register="G59")
        found = next(f for f in report.setups[0].findings if f.code == "offsets.reserved")
        (edit,) = found.cures[0].edits
        self.assertEqual(edit, Put(of=Element(setup="OP10"), field="offset_register", value="G54"))

    def test_programs_have_numbers_of_their_own(self):
        def numbers(*setups: dict) -> list[int]:
            return list(
                program_numbers(
                    plan_from({"name": "x", "part": {"file": "a.step"}, "setups": list(setups)})
                ).values()
            )

        self.assertEqual(
            numbers({"name": "OP20-JAWS"}, {"name": "OP20"}, {"name": "SoftJaw"}, {"name": "OP123456"}),
            [20, 21, 1, 2],
        )
        self.assertEqual(numbers({"name": "OP10", "program_number": 20}, {"name": "OP20"}), [20, 21])
        with self.assertRaisesRegex(ValueError, "O0007"):
            numbers({"name": "A", "program_number": 7}, {"name": "B", "program_number": 7})
        report = computed(program_number=12345)
        self.assertIn("program.number", [f.code for f in report.setups[0].findings])
        five = computed(program_number=1234)
        text = STORE.get(five.setups[0].program_key, "program.nc").decode()
        self.assertEqual(text.splitlines()[1], "O1234 (OP10)")


if __name__ == "__main__":
    unittest.main()
