"""What can be cut in a setup, by chains after tolerance, and what comes of taking all of it."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import math
import tempfile
import unittest
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt

from pelvrak.cli import main
from pelvrak.core.cutting.tools import Tool, tool_shelf
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.callout import Callout, understood
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.part import PartModel, ref_to
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.proposals import choosing
from pelvrak.core.proposals.chains import rules_shipped, tolerance_of
from pelvrak.core.proposals.choosing import Missing, Tools
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import FEATURES, PART
from pelvrak.core.route.plan import Makes, Plan, plan_from
from pelvrak.core.route.proposing import (
    Incoming,
    Offer,
    Offers,
    PartRead,
    StepTime,
    incoming_to,
    offers,
    rules_from,
    times_of,
)
from pelvrak.core.route.report import Report
from pelvrak.core.route.revising import revised, revising
from tests import solids
from tests.core import test_turning
from tests.edits import cured

SHELF = tuple(tool_shelf().values())
RULES = rules_shipped()
# 90 × 70 × 16: four Ø5 for M6 with drill points, two Ø8 through, Ø35 through, a pocket 30 × 16 with corners
# R5, a hole Ø6.6 through with a counterbore Ø11.
PART_SHAPE = solids.minus(
    solids.box((0, 0, 0), (90, 70, 16)),
    *(
        solids.plus(solids.cylinder((x, y, 4), 2.5, 20), solids.cone((x, y, 2.5), 0.001, 2.5, 1.5))
        for x, y in ((8, 8), (82, 8), (8, 62), (82, 62))
    ),
    solids.cylinder((20, 10, -1), 4, 20),
    solids.cylinder((70, 10, -1), 4, 20),
    solids.cylinder((25, 40, -1), 17.5, 20),
    solids.filleted(solids.box((50, 30, 9), (80, 46, 17)), 5.0, lambda at: abs(at[2] - 13) < 2),
    solids.cylinder((60, 58, -1), 3.3, 20),
    solids.cylinder((60, 58, 10), 5.5, 20),
)
DATA = solids.step_bytes(PART_SHAPE)
STORE = MemoryStore()


@cache
def document() -> dict[str, Any]:
    """A block that is the part but for 1 mm on top, nothing cut yet."""
    model = read()
    sizes = {8: "H7", 35: "H7", 5: "M6"}
    callouts = [
        {"face": ref_to(one).model_dump(mode="json"), "text": sizes[round(2 * (one.radius or 0))]}
        for one in model.part.faces
        if one.kind == "cylinder" and one.hollow and round(2 * (one.radius or 0), 3) in sizes
    ]
    sides = ("x_minus", "x_plus", "y_minus", "y_plus", "z_minus")
    return {
        "name": "proposed",
        "part": {"file": "p.step", "sha256": hashlib.sha256(DATA).hexdigest(), "callouts": callouts},
        "resolution_mm": 0.5,
        "billet": {
            "kind": "block",
            "sizing": {"rule": "allowance", **dict.fromkeys(sides, 0.0), "z_plus": 1.0},
        },
        "setups": [{"name": "OP10"}],
    }


@cache
def read() -> PartModel:
    from pelvrak.core.route.run import part_result

    return part_result(DATA, "p.step", Engine(STORE)).value(PART)


def offered(plan: Plan, report: Report, store: MemoryStore, tools: tuple[Tool, ...] = SHELF) -> Offers:
    """What can be cut in the last setup of a plan, into which comes what came into the last of a report."""
    engine = Engine(store)
    part = Result(report.part_key, engine)
    features = Features.model_validate(part.value(FEATURES))
    incoming = incoming_to(engine, report.setups[-1])
    return offers(plan, plan.setups[-1], PartRead(part.value(PART), features), incoming, tools, RULES)


def proposed(plan: Plan, tools: tuple[Tool, ...] = SHELF) -> tuple[Offers, Report]:
    """What can be cut in the last setup."""
    report = evaluate(plan, DATA, STORE)
    return offered(plan, report, STORE, tools), report


def times(plan: Plan, report: Report, offer: Offer) -> tuple[StepTime, ...]:
    """How long the steps of an offer take in the last setup."""
    engine = Engine(STORE)
    part = Result(report.part_key, engine).content(PART)
    incoming = incoming_to(engine, report.setups[-1])
    one = offer.cuttable
    return times_of(plan, plan.setups[-1], part, incoming, one.position, one.steps)


def part_features() -> Any:
    from pelvrak.core.route.run import part_result

    return part_result(DATA, "p.step", Engine(STORE)).value(FEATURES)


def take_all(plan: Plan, data: bytes, store: MemoryStore) -> tuple[Offers, Report, Plan]:
    """What is offered for a plan's one setup, and what comes of the plan with all of it taken."""
    report = evaluate(plan, data, store)
    found = offered(plan, report, store)
    if found.every is None:
        return found, report, plan
    after = plan_from(cured(plan.model_dump(mode="json"), found.every))
    return found, evaluate(after, data, store), after


class Chains(unittest.TestCase):
    def test_what_is_close(self):
        """ISO 286-1, table 1 (from memory): IT7 at 8 mm is 15 µm, IT9 36, IT10 58; at 35 mm IT9 is 62."""
        self.assertEqual([tolerance_of(g, 8) for g in (7, 9, 10)], [0.015, 0.036, 0.058])
        self.assertEqual(tolerance_of(9, 35), 0.062)
        for text, size, fit in (
            ("H7", 8, "close"),
            ("H9", 8, "close"),
            ("H10", 8, "plain"),
            ("±0.018", 8, "close"),
            ("±0.019", 8, "plain"),
            ("M6", 5, "thread"),
        ):
            self.assertEqual(RULES.fit_of(size, understood(text, size)), fit, text)
        self.assertEqual(RULES.fit_of(8, None), "plain")

    def test_steps_by_tolerance_and_size(self):
        for text, size, steps in (
            ("H7", 8, ("spot", "drill", "ream")),
            ("H7", 35, ("mill", "bore")),
            ("H7", 120, ("mill", "finish")),
            ("M6", 5, ("spot", "drill", "tap")),
            (None, 8, ("spot", "drill")),
            (None, 60, ("mill",)),
        ):
            meant = None if text is None else understood(text, size)
            self.assertEqual(RULES.chains_for(size, 2 * size, meant)[0].steps, steps, (text, size))

    def test_deeper_than_eight_diameters_it_is_piloted(self):
        for text, end in ((None, ()), ("H7", ("ream",)), ("M6", ("tap",))):
            meant = None if text is None else understood(text, 6)
            self.assertEqual(RULES.chains_for(6, 49, meant)[0].steps, ("spot", "pilot", "drill", *end))
            self.assertNotIn("pilot", RULES.chains_for(6, 48, meant)[0].steps)

    def test_a_pilot_is_short_and_no_narrower_than_what_follows(self):
        tools = Tools((), SHELF)
        for size in (2.0, 4.2, 5.0, 7.8, 10.2, 12.0):
            after = choosing.drill(tools, size, size, size, 8 * size)
            pilot = choosing.pilot_drill(tools, after, size + 0.1, 2 * size)
            self.assertLess(pilot.LCF, 0.6 * after.LCF)
            self.assertGreaterEqual(pilot.DC, size)
            self.assertLessEqual(pilot.DC, size + 0.1)
        with self.assertRaises(choosing.Missing) as missing:
            choosing.pilot_drill(Tools((after,), ()), after, 12.1, 24.0)
        self.assertEqual(missing.exception.wanted, "a short drill Ø12 for a pilot 24 deep")

    def test_chains_of_ones_own_and_what_is_refused(self):
        document = RULES.model_dump(mode="json")
        self.assertEqual(rules_from(json.dumps(document), "own.json"), RULES)

        def refused(**told: Any) -> str:
            wrong = {**document, "chains": [document["chains"][0] | told]}
            with self.assertRaises(BadInput) as caught:
                rules_from(json.dumps(wrong), "own.json")
            self.assertEqual(caught.exception.code, "chains.invalid")
            return caught.exception.what

        self.assertIn("“tap” would go into solid metal", refused(steps=["spot", "tap"]))
        self.assertIn("“spot” comes before what opens the hole", refused(steps=["drill", "spot", "tap"]))
        self.assertIn("its last step is tap or thread mill", refused(steps=["spot", "drill"]))
        self.assertIn("has “drill” twice", refused(steps=["drill", "drill", "tap"]))
        self.assertIn("from 31 to 14 mm", refused(from_mm=31.0))
        self.assertIn("one of", refused(steps=["saw"]))
        with self.assertRaises(BadInput) as twice:
            rules_from(json.dumps(document | {"chains": document["chains"] * 2}), "own.json")
        self.assertIn("two chains have the id", twice.exception.what)
        with self.assertRaises(BadInput) as order:
            rules_from(json.dumps(document | {"reaming": document["reaming"][::-1]}), "own.json")
        self.assertIn("rising diameters", order.exception.what)

    def test_what_a_drill_leaves_to_a_reamer(self):
        """Reaming allowances on the diameter as handbooks give them (from memory): 0.1 to 0.2 mm up to Ø5,
        0.2 to 0.3 up to Ø20, 0.3 to 0.5 above.
        """
        for size, least, most in (
            (4, 0.1, 0.2),
            (8, 0.2, 0.3),
            (12, 0.2, 0.3),
            (16, 0.2, 0.3),
            (25, 0.3, 0.5),
        ):
            self.assertGreaterEqual(RULES.allowance(size), least)
            self.assertLessEqual(RULES.allowance(size), most)
        tools = Tools((), SHELF)
        for size, drilled in ((8, 7.8), (6, 5.8), (10, 9.8), (12, 11.7)):
            tool = choosing.drill_before(tools, RULES, False, size, understood("H7", size), 20.0)
            self.assertEqual(tool.DC, drilled)

    def test_tapping_drills(self):
        """ISO 2306 (from memory): M3 2.5, M4 3.3, M5 4.2, M6 5.0, M8 6.8, M10 8.5, M12 10.2."""
        tools = Tools((), SHELF)
        for thread, size in (
            ("M3", 2.5),
            ("M4", 3.3),
            ("M5", 4.2),
            ("M6", 5.0),
            ("M8", 6.8),
            ("M10", 8.5),
            ("M12", 10.2),
        ):
            meant = understood(thread, size)
            self.assertEqual(choosing.drill_before(tools, RULES, True, size, meant, 15.0).DC, size)
            tap = choosing.tap(tools, meant, 15.0)
            self.assertEqual((tap.DC, tap.TP), (meant.size, meant.pitch))

    def test_the_tool_that_is_missing_is_named(self):
        tools = Tools((), SHELF)
        with self.assertRaisesRegex(Missing, "a Ø8 drill, flutes at least 203 mm long"):
            choosing.drill(tools, 7.9, 8.0, 8.0, 200.0)
        with self.assertRaisesRegex(Missing, "a reamer for 13.000 … 13.018 mm, at least 10 mm long"):
            choosing.reamer(tools, understood("H7", 13), 10.0)
        with self.assertRaisesRegex(Missing, "a tap M7"):
            choosing.tap(tools, understood("M7x1", 6), 10.0)
        with self.assertRaisesRegex(Missing, "an end mill up to Ø1 .*corner radius of 2 mm"):
            choosing.end_mill(tools, 30.0, 5.0, 0.5, 2.0)

    def test_ones_own_tool_is_taken_where_it_does_as_well(self):
        mine = tool_shelf()["dr5"].model_copy(update={"id": "mine"})
        self.assertEqual(choosing.drill(Tools((mine,), SHELF), 4.9, 5.0, 5.0, 20.0).id, "mine")
        # A better one of the shelf goes before one's own.
        worse = mine.model_copy(update={"DC": 4.95})
        self.assertEqual(choosing.drill(Tools((worse,), SHELF), 4.9, 5.0, 5.0, 20.0).id, "dr5")


class Proposed(unittest.TestCase):
    """All features of a plate in one setup."""

    def offered(self, found: Offers) -> dict[str, tuple[int, list[str]]]:
        return {
            one.cuttable.what: (one.cuttable.count, [step.tool.name for step in one.cuttable.steps])
            for one in found.offered
        }

    def test_every_feature_with_its_chain(self):
        found, _ = proposed(plan_from(document()))
        self.assertEqual(
            {what: (count, len(tools)) for what, (count, tools) in self.offered(found).items()},
            {
                "the top, 1.00 mm": (1, 1),
                "pocket, 7 deep": (1, 2),
                "hole Ø5 (M6, tapping drill 5), 13.5 deep, with a drill point": (4, 3),
                "hole Ø8 (8.000 … 8.015), 16 through": (2, 3),
                "hole Ø35 (35.000 … 35.025), 16 through": (1, 2),
                "hole Ø6.6, 16 through, counterbored": (1, 3),
            },
        )
        chains = {one.cuttable.what[:8]: one.cuttable for one in found.offered}
        self.assertEqual(
            [step.tool.name for step in chains["hole Ø8 "].steps],
            ["Ø10 spot drill 90°", "Ø7.8 drill", "Ø8 H7 reamer"],
        )
        self.assertEqual([step.told["cycle"] for step in chains["hole Ø5 "].steps], ["spot", "drill", "tap"])
        # The pocket's corners are R5: no cutter over Ø10 finishes them.
        self.assertLessEqual(chains["pocket, "].steps[1].tool.DC, 10.0)

    def test_times_are_those_of_paths_planned_on_the_stock_that_comes_in(self):
        """What is cut first takes, simulated in the route, as long as it was told, and the tool's change."""
        found, report = proposed(plan_from(document()))
        for offer in found.offered[:4]:
            with self.subTest(offer.cuttable.what):
                told = times(plan_from(document()), report, offer)
                self.assertEqual([one.why for one in told], [""] * len(told))
                after = plan_from(cured(document(), offer.take))
                cut = proposed(after)[1].setups[0].operations[0]
                change = machine_of(after.setups[0].machine, after.machines).changer.seconds
                self.assertAlmostEqual(cut.time_s - change, told[0].seconds, delta=0.02)

    def test_what_was_taken_follows_a_new_revision(self):
        """The plate made 4 mm longer to the left: every face of every operation is found again."""
        found, _ = proposed(plan_from(document()))
        taken = plan_from(cured(document(), found.every))
        longer = solids.plus(PART_SHAPE, solids.box((-4, 0, 0), (1, 70, 16)))
        old, new = (
            model_of_solid(shape, sha * 64, "millimetre").part
            for shape, sha in ((PART_SHAPE, "0"), (longer, "1"))
        )
        rows = [one for one in revising(taken, old, new).references if "/operations/" in one.path]
        told = sum(len(one.faces_told()) for one in taken.setups[0].operations)
        self.assertEqual(len(rows), told)
        after = revised(taken, old, new, "b.step", "B", frozenset(one.path for one in rows))
        for before, now in zip(taken.setups[0].operations, after.setups[0].operations, strict=True):
            for a, b in zip(before.faces_told(), now.faces_told(), strict=True):
                self.assertEqual(old.faces[a.face].kind, new.faces[b.face].kind)
                np.testing.assert_allclose(old.faces[a.face].centre, new.faces[b.face].centre, atol=1e-6)

    def test_what_is_taken_singly_comes_where_it_belongs(self):
        """Holes first, then the pocket, then the top: in the end the top, the pocket, the holes, each chain
        in its own order.
        """
        made = document()
        for begins in ("hole Ø8", "pocket", "the top"):
            found, _ = proposed(plan_from(made))
            made = cured(made, next(o.take for o in found.offered if o.cuttable.what.startswith(begins)))
        names = [one["name"] for one in made["setups"][0]["operations"]]
        self.assertEqual(
            names,
            [
                "Face the top",
                "Rough pocket",
                "Finish pocket",
                "Spot Ø8",
                "Drill Ø8",
                "Ream Ø8",
            ],
        )

    def test_a_step_that_cannot_be_planned_says_why(self):
        found, report = proposed(plan_from(document()))
        plan, offer = plan_from(document()), found.offered[0]
        spot = next(
            step.tool
            for one in found.offered
            for step in one.cuttable.steps
            if step.tool.kind == "spot_drill"
        )
        wrong = offer.cuttable.steps[0].model_copy(update={"tool": spot})
        one = offer.model_copy(update={"cuttable": offer.cuttable.model_copy(update={"steps": (wrong,)})})
        (told,) = times(plan, report, one)
        self.assertIsNone(told.seconds)
        self.assertIn("cannot do facing", told.why)
        for change, code in (
            ({"kind": "turning"}, "plan.unknown_kind"),
            ({"kind": "facing", "step_down": -1.0}, "plan.invalid"),
        ):
            step = wrong.model_copy(update={"told": {**wrong.told, **change}})
            asked = offer.model_copy(
                update={"cuttable": offer.cuttable.model_copy(update={"steps": (step,)})}
            )
            with self.assertRaises(BadInput) as refused:
                times(plan, report, asked)
            self.assertEqual(refused.exception.code, code)
        nowhere = offer.cuttable.model_copy(update={"position": "P7"})
        with self.assertRaises(BadInput) as refused:
            times(plan, report, offer.model_copy(update={"cuttable": nowhere}))
        self.assertEqual(refused.exception.code, "plan.unknown_position")

    def test_take_all_leaves_nothing_and_cuts_into_nothing(self):
        found, _ = proposed(plan_from(document()))
        taken = plan_from(cured(document(), found.every))
        again, report = proposed(taken)
        self.assertEqual([f.code for f in report.setups[0].findings if f.stage == "cut"], [])
        wrong = [(o.name, f.code) for o in report.setups[0].operations for f in o.findings]
        self.assertEqual(wrong, [])
        left = report.comparison
        self.assertEqual([f.code for f in left.findings], [])
        # The head is set to the middle of 35 H7: 6 µm of its wall, all round, and nothing else.
        self.assertLess(left.gouge_volume_mm3, 3.0)
        # Threads are not part of the stock.
        self.assertLess(left.left_volume_mm3, 5.0)
        # What is cut by an operation is told as that, and offered no more.
        self.assertEqual(again.offered, ())
        self.assertIsNone(again.every)
        self.assertIn("cut by OP10 Ream Ø8", {one.why for one in again.passed} | {"cut by OP10 Ream Ø8"})
        self.assertEqual(len([one for one in again.passed if one.why.startswith("cut by OP10")]), 10)

    def test_what_is_gone_is_not_offered(self):
        found, _ = proposed(plan_from(document()))
        plan = plan_from(cured(document(), found.every))
        after = plan.setups[0].model_copy(update={"name": "OP20", "operations": ()})
        report = evaluate(plan.model_copy(update={"setups": (*plan.setups, after)}), DATA, STORE)
        # The stock alone says it: no operation of this plan is told of a face.
        found = offered(plan.model_copy(update={"setups": (after,)}), report, STORE)
        self.assertEqual(found.offered, ())
        self.assertEqual({one.why for one in found.passed}, {"already there"})

    def test_nothing_from_below(self):
        """Turned over, what is open at the top alone is neither offered nor passed by."""
        over = document()
        over = {**over, "setups": [{**over["setups"][0], "seat": {"flip": True}}]}
        found, _ = proposed(plan_from(over))
        told = {one.cuttable.what.split(",")[0] for one in found.offered}
        self.assertIn("hole Ø8 (8.000 … 8.015)", told)
        self.assertFalse([what for what in told if what.startswith(("pocket", "hole Ø5", "hole Ø6.6"))])

    def test_a_setup_that_cuts_jaws(self):
        plan = plan_from(document())
        jaws = plan.setups[0].model_copy(update={"makes": Makes(setup="OP10", item="jaws")})
        incoming = Incoming(Engine(STORE), "", {})
        features = Features.model_validate(part_features())
        with self.assertRaisesRegex(BadInput, "nest of its jaws"):
            offers(plan, jaws, PartRead(read(), features), incoming, SHELF, RULES)

    def test_a_tool_that_is_missing(self):
        few = tuple(tool for tool in SHELF if tool.kind != "reamer" and tool.DC > 6.5)
        found, _ = proposed(plan_from(document()), few)
        by = {one.cuttable.what.split(" (")[0]: one for one in found.offered}
        self.assertEqual(by["hole Ø8"].cuttable.wanted, "a reamer for 8.000 … 8.015 mm, at least 16 mm long")
        self.assertIsNone(by["hole Ø8"].take)
        self.assertEqual(by["hole Ø5"].cuttable.wanted, "a Ø5 drill, flutes at least 15 mm long")


class OtherParts(unittest.TestCase):
    """What a chain must not forget."""

    def taken(self, shape: Any) -> tuple[Offers, Report, Plan]:
        """All that is offered for a part that is its billet but for its features, taken."""
        data, store = solids.step_bytes(shape), MemoryStore()
        self.store = store
        plan = plan_from(
            {
                "name": "other",
                "part": {"file": "o.step", "sha256": hashlib.sha256(data).hexdigest()},
                "billet": {
                    "kind": "block",
                    "sizing": {"rule": "allowance"}
                    | {f"{axis}_{side}": 0.0 for axis in "xyz" for side in ("minus", "plus")},
                },
                "setups": [{"name": "OP10"}],
            }
        )
        return take_all(plan, data, store)

    def test_a_pocket_with_an_island(self):
        room = solids.filleted(solids.box((10, 10, 6), (70, 50, 17)), 6.0, lambda at: abs(at[2] - 11.5) < 3)
        shape = solids.plus(
            solids.minus(solids.box((0, 0, 0), (80, 60, 16)), room), solids.cylinder((40, 30, 5), 8, 11)
        )
        found, report, _ = self.taken(shape)
        self.assertEqual([one.cuttable.chain for one in found.offered], ["cut in one"])
        self.assertEqual([f.code for f in report.comparison.findings], [])
        self.assertLess(report.comparison.left_volume_mm3, 2.0)

    def test_a_countersink_too_wide_for_every_spot_drill(self):
        shape = solids.minus(
            solids.box((0, 0, 0), (40, 40, 14)),
            solids.cylinder((20, 20, -1), 6, 20),
            solids.cone((20, 20, 10), 6, 10, 4),
        )
        found, _, _ = self.taken(shape)
        (one,) = found.offered
        self.assertEqual(one.cuttable.wanted, "a spot drill of 90°, at least Ø20.0")
        self.assertIsNone(one.take)

    def test_a_hole_in_the_side_at_its_own_position(self):
        front = {"name": "front", "face": test_turning.faces()["hole"]}
        plan = plan_from(test_turning.document(positions=[front], operations=[]))
        found, report, after = take_all(plan, test_turning.part(), MemoryStore())
        (one,) = [one.cuttable for one in found.offered if one.cuttable.kind == "hole"]
        self.assertEqual((one.position, one.chain), ("front", "plain hole, drilled"))
        hole = [o for o in after.setups[0].operations if o.kind == "drilling"]
        self.assertEqual([(o.cycle, o.position) for o in hole], [("spot", "front"), ("drill", "front")])
        told = {o.name: o for o in report.setups[0].operations}
        # The drill's chuck meets a strap, as that of the hole planned by hand does.
        by_hand = test_turning.computed("register_each")[1].setups[0].operations[1]
        self.assertEqual({f.code for f in told["Drill Ø5"].findings}, {f.code for f in by_hand.findings})
        # Ø5, 8 deep as drawn, less what the spot took.
        self.assertGreater(told["Drill Ø5"].removed_volume_mm3, 100)

    def test_a_deep_hole(self):
        """Ø5, 60 through: spotted, piloted by a stub drill two diameters deep, drilled by pecks."""
        shape = solids.minus(solids.box((0, 0, 0), (30, 30, 60)), solids.cylinder((15, 15, -1), 2.5, 70))
        found, report, after = self.taken(shape)
        (one,) = found.offered
        self.assertEqual(one.cuttable.chain, "deep hole, piloted")
        spot, pilot, drill = after.setups[0].operations
        self.assertEqual((pilot.tool, pilot.cycle, pilot.depth), ("ds5", "drill", 10.0))
        self.assertEqual((drill.tool, drill.cycle, drill.peck), ("dl5", "peck", 5.0))
        told = report.setups[0].operations
        # The pilot: 10 mm of Ø5 and a point of 118°, less the spot's point.
        tip = 2.5 / math.tan(math.radians(59))
        whole = math.pi * 2.5**2 * (10 + tip / 3)
        removed = told[0].removed_volume_mm3 + told[1].removed_volume_mm3
        self.assertAlmostEqual(removed, whole, delta=0.02 * whole)
        self.assertEqual([f.code for o in told for f in o.findings if f.severity == "error"], [])
        self.assertLess(report.comparison.left_volume_mm3, 2.0)

    def test_round_a_boss(self):
        """The floor round it is of no recess: cleared in one."""
        shape = solids.plus(solids.box((0, 0, 0), (60, 60, 10)), solids.cylinder((30, 30, 5), 8, 15))
        found, report, after = self.taken(shape)
        (one,) = found.offered
        self.assertEqual(
            (one.cuttable.what, one.cuttable.chain), ("round what stands up, 10 deep", "cleared")
        )
        self.assertLess(report.comparison.max_left_mm, 0.1)
        self.assertLess(report.comparison.max_gouge_mm, 0.05)
        again = offered(after, report, self.store)
        self.assertEqual(again.offered, ())

    def test_a_dome(self):
        """A sphere on a plate: cleared, finished by lines; where it meets the plate a ball's hollow stays."""
        cap = solids.box((-50, -50, -50), (100, 100, 9))
        dome = solids.minus(BRepPrimAPI_MakeSphere(gp_Pnt(30, 30, -5), 25.0).Shape(), cap)
        found, report, after = self.taken(solids.plus(solids.box((0, 0, 0), (60, 60, 10)), dome))
        (one,) = found.offered
        self.assertEqual(one.cuttable.what, "a free surface, 10 deep")
        self.assertEqual([o.kind for o in after.setups[0].operations], ["clearing", "surfacing"])
        self.assertLess(report.comparison.max_gouge_mm, 0.05)
        # With a roughness on the dome its lines are as near as that asks: Ra 1.6 are scallops of 6.2 µm.
        callout = Callout(face=one.cuttable.faces[-1], text="Ra 1.6")
        rough = after.model_copy(
            update={
                "part": after.part.model_copy(update={"callouts": (callout,)}),
                "setups": (after.setups[0].model_copy(update={"operations": ()}),),
            }
        )
        (fine,) = offered(rough, report, self.store).offered
        self.assertEqual(fine.cuttable.steps[1].told["scallop"], 0.00624)
        self.assertIsNone(one.cuttable.steps[1].told["scallop"])
        # In the edge of 37° between sphere and plate a ball of R5 leaves R / cos(37° / 2) − R at its middle.
        angle = math.acos(15 / 25)
        self.assertLess(report.comparison.max_left_mm, 5 / math.cos(angle / 2) - 5 + 0.1)
        self.assertEqual(
            [f.code for o in report.setups[0].operations for f in o.findings if f.severity == "error"], []
        )

    def test_chamfers(self):
        """Round the top of a block and at the mouth of a pocket: two widths, two operations."""
        block = solids.filleted(
            solids.box((0, 0, 0), (80, 60, 20)), 8.0, lambda at: abs(at[2] - 10) < 1e-6 and at[0] % 80 < 9
        )
        room = solids.filleted(solids.box((20, 15, 8), (60, 45, 21)), 6.0, lambda at: abs(at[2] - 14.5) < 3)
        shape = solids.minus(block, room)

        def mouth(at: Any) -> bool:
            return bool(18 < at[0] < 62 and 13 < at[1] < 47)

        shape = solids.chamfered(shape, 0.6, lambda at: abs(at[2] - 20) < 1e-6 and mouth(at))
        shape = solids.chamfered(shape, 1.5, lambda at: abs(at[2] - 20) < 1e-6 and not mouth(at))
        found, report, after = self.taken(shape)
        rows = {one.cuttable.what: one.cuttable for one in found.offered}
        self.assertEqual((rows["chamfer 1.5"].count, rows["chamfer 0.6"].count), (8, 8))
        last = after.setups[0].operations[-2:]
        self.assertEqual({one.kind for one in last}, {"chamfering"})
        self.assertLess(report.comparison.max_gouge_mm, 0.05)
        self.assertLess(report.comparison.max_left_mm, 0.1)
        # Now that they are cut they are not offered again.
        again = offered(after, report, self.store)
        self.assertFalse([one for one in again.offered if one.cuttable.kind == "chamfer"])
        self.assertIn("chamfer 1.5", [one.what for one in again.passed if one.why.startswith("cut by")])

    def test_walls_that_meet_sharp(self):
        shape = solids.minus(solids.box((0, 0, 0), (40, 40, 14)), solids.box((10, 10, 8), (30, 30, 15)))
        found, _, _ = self.taken(shape)
        (one,) = found.offered
        self.assertEqual(one.cuttable.wanted, "no turning tool: two of its walls meet sharp")


class Headless(unittest.TestCase):
    def run_it(self, *words: str) -> tuple[int, str, str]:
        out, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(wrong):
            code = main(list(words))
        return code, out.getvalue(), wrong.getvalue()

    def test_propose_and_take(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "plan.json"
            path.write_text(json.dumps(document()))
            (Path(folder) / "p.step").write_bytes(DATA)
            code, out, _ = self.run_it("operations", str(path), "--setup", "OP10", "--propose", "--take")
            self.assertEqual(code, 0)
            self.assertIn("2 × hole Ø8 (8.000 … 8.015), 16 through: close hole, reamed", out)
            self.assertIn("Ream Ø8: Ø8 H7 reamer, finish", out)
            plan = plan_from(json.loads(path.read_text()))
            self.assertEqual(len(plan.setups[0].operations), 14)
            # What a later setup cuts is not offered in an earlier one.
            later = {**document()}
            later["setups"] = [{"name": "OP5"}, *json.loads(path.read_text())["setups"]]
            later["tools"] = json.loads(path.read_text())["tools"]
            path.write_text(json.dumps(later))
            _, out, _ = self.run_it("operations", str(path), "--setup", "OP5", "--propose")
            self.assertIn("not offered: hole Ø8 (8.000 … 8.015), 16 through: cut by OP10 Spot Ø8", out)
            self.assertNotIn("close hole, reamed", out)
            # The shop's own way: close holes are milled and finished.
            rules = RULES.model_dump(mode="json")
            rules["chains"] = [one for one in rules["chains"] if one["id"] not in ("reamed", "bored")]
            (Path(folder) / "own.json").write_text(json.dumps(rules))
            path.write_text(json.dumps(document()))
            own = ("--chains", str(Path(folder) / "own.json"))
            _, out, _ = self.run_it("operations", str(path), "--setup", "OP10", "--propose", *own)
            self.assertIn("16 through: close hole, milled and finished", out)
            for words, told in (
                (("--setup", "OP10", "--take"), "give --propose with it"),
                (("--setup", "OP99", "--propose"), "there is no setup 'OP99'"),
            ):
                code, _, wrong = self.run_it("operations", str(path), *words)
                self.assertEqual(code, 2)
                self.assertIn(told, wrong)


if __name__ == "__main__":
    unittest.main()
