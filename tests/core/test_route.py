"""The whole route of the demo: what is computed again, what comes out, and what the programs say."""

from __future__ import annotations

import contextlib
import io
import json
import math
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import trimesh
from pygcode import Line

from pelvrak.cli import main
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.holding.hold import fixtures_of, vise_hold
from pelvrak.core.holding.kinds import fixtures_shipped
from pelvrak.core.route.evaluate import cut_ahead, evaluate
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import mesh_from_bytes, path_from_json
from pelvrak.core.route.plan import Plan, plan_from, plan_from_json
from pelvrak.core.route.report import Report
from pelvrak.core.stock.field import loaded, same_field
from tests.edits import cured

TOP = Path(__file__).resolve().parents[2]
DEMO = TOP / "demo" / "encoder-housing"
STEP = (DEMO / "encoder-housing.step").read_bytes()


def demo(**changes) -> Plan:
    """The demo plan at a coarse resolution and with OP20 in hard jaws, for speed; its soft jaws are
    tests.core.test_soft_jaws'.
    """
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    top, _, under, _ = plan.setups
    under = under.model_copy(update={"hold": vise_hold(height=38.0, closes="x", at=(358, 225))})
    return plan.model_copy(update={"resolution_mm": 1.0, "setups": (top, under), **changes})


def changed(plan: Plan, setup: int, **changes) -> Plan:
    setups = list(plan.setups)
    setups[setup] = setups[setup].model_copy(update=changes)
    return plan.model_copy(update={"setups": tuple(setups)})


@cache
def computed() -> tuple[MemoryStore, Report]:
    """The demo computed once for all that only look at it."""
    store, plan = MemoryStore(), demo()
    return store, evaluate(plan, STEP, store)


class Graph(unittest.TestCase):
    """An edit computes again what it touches, and nothing else."""

    @classmethod
    def setUpClass(cls):
        cls.store, cls.report = computed()
        cls.plan = demo()

    @classmethod
    def run_plan(cls, plan: Plan):
        return evaluate(plan, STEP, cls.store)

    def test_first_everything_then_nothing(self):
        self.assertEqual(self.report.reused, ())
        ran = self.report.computed
        once = [f"{s.name} {o.name}" for s in self.plan.setups for o in s.operations]
        once += [
            f"{s.name} {what}"
            for s in self.plan.setups
            for what in ("holding", "ways for the tools", "clamping")
        ]
        self.assertEqual({name: ran.count(name) for name in once}, dict.fromkeys(once, 1))
        # The volume of the billet alone: what a cut removes is known with it; surfaces only of what a seat, a
        # picture or the comparison needs.
        self.assertEqual((ran.count("volume"), ran.count("surface")), (1, 3))
        again = self.run_plan(self.plan)
        self.assertEqual(again.computed, ())
        self.assertEqual(
            again.model_copy(update={"computed": (), "reused": ()}),
            self.report.model_copy(update={"computed": (), "reused": ()}),
        )

    def test_an_edit_of_op20_does_not_compute_op10(self):
        groove = self.plan.setups[1].operations[3].model_copy(update={"step_down": 1.5})
        operations = (*self.plan.setups[1].operations[:3], groove)
        report = self.run_plan(changed(self.plan, 1, operations=operations))
        # In two levels instead of one the same is left: nothing is compared again.
        self.assertEqual(
            set(report.computed),
            {
                "OP20 Ring groove",
                "OP20 Ring groove: path",
                "OP20 ways for the tools",
                "OP20 clamping",
                "OP20: its program proved",
            },
        )
        self.assertEqual(report.setups[0].outgoing_key, self.report.setups[0].outgoing_key)
        undone = self.run_plan(self.plan)  # undo brings results back without computing
        self.assertEqual(undone.computed, ())

    def test_what_the_next_setups_wait_for_is_cut_ahead(self):
        groove = self.plan.setups[1].operations[3].model_copy(update={"step_down": 1.25})
        plan = changed(self.plan, 1, operations=(*self.plan.setups[1].operations[:3], groove))
        cut_ahead(plan, STEP, self.store)
        report = self.run_plan(plan)
        # What is told beside the cuts is left: the ways through what comes in, and how the holding stands the
        # forces.
        beside = {
            "OP20 ways for the tools",
            "OP20 Ring groove: path",
            "OP20 clamping",
            "OP20: its program proved",
        }
        self.assertLessEqual(set(report.computed), beside)
        self.assertIn("OP20 ways for the tools", report.computed)
        self.assertIn("OP20 Ring groove", report.reused)

    def test_another_sentence_cuts_nothing(self):
        """Every step that still writes sentences under a new version: paths, holdings, ways and forces are
        told anew; no stock, no comparison.
        """
        told = {
            "cutting.PLAN_PATH",
            "clearance.PLAN_PATH",
            "clearance.CLEARANCE",
            "holding.HOLD",
            "holding.SAFETY",
        }
        with contextlib.ExitStack() as stack:
            for name in told:
                module, step = name.split(".")
                here = f"pelvrak.core.route.{module}"
                changed_step = replace(getattr(import_module(here), step), version=99)
                stack.enter_context(patch(f"{here}.{step}", changed_step))
            report = self.run_plan(self.plan)
        self.assertIn("OP10 Rough outline: path", report.computed)
        stocks = {f"{s.name} {o.name}" for s in self.plan.setups for o in s.operations}
        self.assertEqual(stocks & {*report.computed}, set())
        self.assertNotIn("compare", report.computed)
        self.assertEqual(
            [s.outgoing_key for s in report.setups], [s.outgoing_key for s in self.report.setups]
        )

    def test_an_edit_of_op10_reaches_op20(self):
        tapless = tuple(o for o in self.plan.setups[0].operations if o.id != "outline")
        report = self.run_plan(changed(self.plan, 0, operations=tapless))
        self.assertNotIn("OP10 Rough outline", report.computed)
        self.assertIn("OP20 Face to 42", report.computed)
        self.assertGreater(report.setups[1].incoming_volume_mm3, self.report.setups[1].incoming_volume_mm3)

    def test_shown_as_it_comes(self):
        """Billet, then each setup seated and held before it is cut, then cut; each part as it stands in the
        whole report.
        """
        seen: list[Report] = []
        whole = evaluate(self.plan, STEP, self.store, partly=seen.append)
        steps = [(tuple(one.name for one in part.setups), part.begun) for part in seen]
        self.assertEqual(
            steps,
            [
                ((), None),
                (("OP10",), "OP10"),
                (("OP10",), None),
                (("OP10", "OP20"), "OP20"),
                (("OP10", "OP20"), None),
            ],
        )
        for part in seen:
            self.assertEqual(part.billet, whole.billet)
            for one, final in zip(part.setups, whole.setups, strict=False):
                if one.name != part.begun:
                    # Programs are proved once all is cut.
                    self.assertEqual(one, final.model_copy(update={"proof": None}))
                    continue
                self.assertEqual((one.operations, one.program_key), ((), None))
                for name in (
                    "incoming_key",
                    "zero_from_work",
                    "register_value",
                    "positions",
                    "offsets",
                    "seen",
                    "nest",
                ):
                    self.assertEqual(getattr(one, name), getattr(final, name), name)
                self.assertEqual(one.hold.contacts, final.hold.contacts)
                self.assertLessEqual({f.code for f in one.findings}, {f.code for f in final.findings})

    def test_a_name_computes_nothing(self):
        report = self.run_plan(changed(self.plan, 0, title="Upper side"))
        self.assertEqual(report.computed, ())

    def renamed(self, change: Callable[[dict[str, Any]], None]) -> Report:
        document = self.plan.model_dump(mode="json")
        change(document)
        return self.run_plan(plan_from(document))

    def test_another_name_cuts_nothing(self):
        """Names, ids and places of the changer stand in no key of a cut or a contact, and are told as they
        are now.
        """

        def tool(document: dict[str, Any]) -> None:
            own = document["tools"][0]
            for operation in (
                o for s in document["setups"] for o in s["operations"] if o["tool"] == own["id"]
            ):
                operation["tool"] = "cutter"
            own.update(id="cutter", name="Another {cutter}", place=19)

        def ids(document: dict[str, Any]) -> None:
            for number, operation in enumerate(document["setups"][0]["operations"]):
                operation["id"] = f"o{number}"

        # Another place is another T in the text.
        self.assertLessEqual(
            set(self.renamed(tool).computed), {"OP10: its program proved", "OP20: its program proved"}
        )
        for change in (
            lambda d: d["setups"][0].update(name="OP70"),
            lambda d: d["setups"][0]["operations"][0].update(name="First ⟦tool⟧ of all"),
            ids,
            lambda d: d["tools"].append(
                {**tool_shelf()["dr5"].model_dump(mode="json"), "id": "spare", "place": 18}
            ),
        ):
            self.assertEqual(self.renamed(change).computed, ())
        report = self.renamed(lambda d: d["setups"][0].update(name="OP70"))
        self.assertEqual({f.setup for f in report.setups[0].findings}, {"OP70"})
        self.assertNotIn("OP10", " ".join(f.sentence for f in report.setups[0].findings))
        self.assertNotIn("⟦", report.model_dump_json())

    def test_a_library_is_never_stale(self):
        """Proposals and rooms come from the whole library: another fixture in it is looked at."""
        block = fixtures_shipped()["vee-90-60"].model_dump(mode="json") | {
            "id": "vee-own",
            "name": "Vee of our own",
        }
        report = self.renamed(lambda d: d["fixtures"].append(block))
        self.assertEqual(
            set(report.computed),
            {f"{setup} {what}" for setup in ("OP10", "OP20") for what in ("holding", "ways for the tools")},
        )

    def test_progress_and_stop(self):
        seen = []

        def progress(share: float, what: str) -> bool:
            seen.append(share)
            return len(seen) < 6

        with self.assertRaises(Stopped):
            evaluate(self.plan, STEP, MemoryStore(), progress)
        self.assertEqual(seen, sorted(seen))

    def test_carried_stock_is_the_outgoing_stock(self):
        op10, op20 = self.report.setups
        self.assertEqual(op20.incoming_key, op10.outgoing_key)
        self.assertEqual(op20.incoming_volume_mm3, op10.outgoing_volume_mm3)
        field = loaded(self.store.get(op10.outgoing_key, "field"))
        self.assertTrue(same_field(field, loaded(self.store.get(op20.incoming_key, "field"))))

    def test_makers_name_setup_and_operation(self):
        surface = mesh_from_bytes(piece_of(self.store, self.report.setups[1].outgoing_key, "surface.npz"))
        setups = {int(label) >> 8 for label in np.unique(surface.label)}
        self.assertEqual(setups, {1, 2})  # nothing raw is left, both setups cut
        bore = surface.vertices[surface.triangles].mean(axis=1)
        wall = (np.abs(np.hypot(bore[:, 0] + 19, bore[:, 1]) - 17.5) < 0.1) & (np.abs(bore[:, 2] - 20) < 10)
        finish = [o.id for o in self.plan.setups[0].operations].index("bore")
        self.assertEqual(set(surface.label[wall].tolist()), {256 + finish + 1})

    def test_volumes_add_up(self):
        for setup in self.report.setups:
            self.assertAlmostEqual(
                setup.incoming_volume_mm3 - setup.outgoing_volume_mm3, setup.removed_volume_mm3, places=3
            )
            taken = sum(o.removed_volume_mm3 for o in setup.operations)
            self.assertAlmostEqual(taken, setup.removed_volume_mm3, places=3)


class Findings(unittest.TestCase):
    """Wrong plans say what is wrong."""

    @classmethod
    def setUpClass(cls):
        cls.store, _ = computed()

    def codes(self, plan: Plan) -> set[str]:
        report = evaluate(plan, STEP, self.store)
        return {f.code for f in report.findings()}

    def only(self, setup: int, *operations: str) -> Plan:
        plan = demo(resolution_mm=2.0)
        kept = tuple(o for o in plan.setups[setup].operations if o.id in operations)
        return changed(plan, setup, operations=kept).model_copy(
            update={"setups": (plan.setups[0].model_copy(update={"operations": kept}),)}
        )

    def test_no_holding(self):
        plan = demo(resolution_mm=2.0)
        data = plan.model_dump(mode="json")
        data["setups"] = [data["setups"][0]]
        data["setups"][0]["hold"] = {}
        data["setups"][0]["operations"] = []
        self.assertIn("hold.nothing", self.codes(plan_from(data)))

    def test_cutting_the_jaws(self):
        plan = self.only(0, "outline-rough")
        deep = plan.setups[0].operations[0].model_copy(update={"below": 5.0})
        codes = self.codes(changed(plan, 0, operations=(deep,)))
        self.assertIn("cut.cutter_in_holding", codes)

    def test_a_drill_over_a_parallel(self):
        """Holes drilled 10 mm past the part, over parallels that reach under them: told from the plan, and
        again by the simulation.
        """
        plan = self.only(0, "drill-dowel")
        deep = plan.setups[0].operations[0].model_copy(update={"below": 10.0})
        plan = changed(plan, 0, operations=(deep,))
        self.assertNotIn("hold.under_the_drill", self.codes(plan))
        own = fixtures_of(())["par-150x8"].model_copy(update={"id": "wide", "thickness": 43.0})
        items = tuple(
            i.model_copy(update={"fixture": "wide"}) if i.id == "parallels" else i
            for i in plan.setups[0].hold.items
        )
        hold = plan.setups[0].hold.model_copy(update={"items": items})
        wide = changed(plan, 0, hold=hold).model_copy(update={"fixtures": (own,)})
        found = {f.code: f for f in evaluate(wide, STEP, self.store).findings()}
        told = found["hold.under_the_drill"]
        self.assertIn("parallel", told.sentence)
        # 8.5 mm of billet stand under the part: 10 and the drill's point of 3.9/tan 59°, less that.
        self.assertAlmostEqual(told.measured, 10 + 3.9 / math.tan(math.radians(59)) - 8.5, delta=0.05)
        self.assertIn("cut.cutter_in_holding", found)
        self.assertEqual([c.edits[0].value for c in told.cures], ["par-150x8"])

    def test_an_outline_lower_than_the_jaws(self):
        """An outline cut 5 mm lower than the part, beside jaws that stand higher: told from the planned
        moves, and again by the simulation.
        """
        plan = self.only(0, "outline-rough")
        deep = plan.setups[0].operations[0].model_copy(update={"below": 5.0})
        report = evaluate(changed(plan, 0, operations=(deep,)), STEP, self.store)
        found = [f for f in report.findings() if f.code == "hold.under_the_cut"]
        self.assertEqual(
            {w for f in found for w in ("fixed jaw", "moving jaw") if w in f.sentence},
            {"fixed jaw", "moving jaw"},
        )
        hold = report.setups[0].hold
        cut = report.setups[0].operations[0].cut_z[0]
        for one in found:
            self.assertAlmostEqual(one.measured, hold.jaw_top - cut, delta=0.01)
        self.assertNotIn("hold.under_the_cut", self.codes(plan))

    def clamped(self, x: float, y: float, turn: float, *operations: str) -> Plan:
        """The billet on the table with two straps: one out of the way on the far side, one as asked."""
        plan = self.only(0, *operations)
        work = {"fixture": "grid-400", "id": "plate", "x": 400, "y": 300}
        straps = [
            {"fixture": "strap-80", "id": "far", "on": "plate", "x": 0, "y": 30, "turn_deg": 180},
            {"fixture": "strap-80", "id": "near", "on": "plate", "x": x, "y": y, "turn_deg": turn},
        ]
        data = plan.model_dump(mode="json")
        data["setups"][0]["hold"] = {"items": [work, *straps]}
        return plan_from(data)

    def test_a_strap_in_the_way_is_moved_off_the_cut(self):
        """A pocket is cut where a strap's nose lies: told before the simulation, with a place beside it that
        does.
        """
        plan = self.clamped(38.0, -15.0, 0.0, "pocket-rough")
        report = evaluate(plan, STEP, self.store)
        found = next(f for f in report.findings() if f.code == "hold.clamp_in_the_way")
        beside = {one.item: one.clearance for one in report.setups[0].hold.beside}
        self.assertLess(beside["near"], 0)
        self.assertEqual(found.measured, beside["near"])
        moved = plan_from(cured(plan.model_dump(mode="json"), found.cures[0]))
        again = evaluate(moved, STEP, self.store)
        self.assertNotIn("hold.clamp_in_the_way", {f.code for f in again.findings()})
        self.assertGreaterEqual(min(one.clearance for one in again.setups[0].hold.beside), 2.0)
        for code in (
            "hold.clamp_misses",
            "hold.clamp_rise",
            "cut.cutter_in_holding",
            "cut.holder_in_holding",
        ):
            self.assertNotIn(code, {f.code for f in again.findings()})

    def test_the_cut_is_centred_on_the_jaws(self):
        """The dowel holes lie off the work's middle: the proposal brings the middle between them over the
        jaws' middle.
        """
        plan = self.only(0, "pocket-rough")
        report = evaluate(plan, STEP, self.store)
        proposal = next(p for p in report.setups[0].hold.proposals if "Centre the cut" in p.cure.label)
        again = evaluate(plan_from(cured(plan.model_dump(mode="json"), proposal.cure)), STEP, self.store)
        self.assertEqual([p for p in again.setups[0].hold.proposals if "Centre the cut" in p.cure.label], [])
        # The pocket's own middle, from its moves, now lies over the jaws' middle.
        done = again.setups[0].operations[0]
        jaw = again.setups[0].hold.jaw
        along = 0 if jaw[1][0] - jaw[0][0] > jaw[1][1] - jaw[0][1] else 1
        self.assertAlmostEqual(
            (done.low[along] + done.high[along]) / 2, (jaw[0][along] + jaw[1][along]) / 2, delta=1.5
        )

    def test_a_tool_longer_than_the_clearance(self):
        """A stub tool whose holder comes down into the pocket: named, with depth and place."""
        plan = self.only(0, "pocket-rough")
        tools = tuple(
            t.model_copy(update={"LCF": 14.0, "overhang": 16.0}) if t.id == "em10" else t for t in plan.tools
        )
        plan = plan.model_copy(update={"tools": tools})
        report = evaluate(plan, STEP, self.store)
        found = {f.code: f for f in report.findings()}
        self.assertIn("cut.deeper_than_flutes", found)
        hit = found["cut.holder_in_stock"]
        # The pocket's floor is 24 mm below its top, 25.5 below the raw face; the holder's nose 16 above the
        # tip.
        self.assertAlmostEqual(hit.measured, 25.5 - 16, delta=0.1)
        x, y, z = hit.place[0]
        self.assertTrue(20 < x < 56 and -25 < y < 25 and abs(z - 18) < 0.1, hit.place)
        self.assertEqual((hit.setup, hit.operation, hit.severity), ("OP10", "pocket-rough", "error"))

    def test_a_slug_is_set_free(self):
        """An outline inside a bore, right through: what stands in the ring comes loose, with its size."""
        plan = self.only(0, "bore")
        through = plan.setups[0].operations[0].model_copy(update={"below": 9.0, "step_down": 12.0})
        report = evaluate(changed(plan, 0, operations=(through,)), STEP, self.store)
        (slug,) = [f for f in report.findings() if f.code == "cut.loose_piece"]
        # Ø35 less the tool's Ø10 on both sides, through the billet's 52 mm: π · 7.5² · 52.
        self.assertAlmostEqual(slug.measured / (np.pi * 7.5**2 * 52), 1.0, delta=0.06)
        self.assertEqual((slug.setup, slug.operation, slug.severity), ("OP10", "bore", "warning"))
        self.assertIn("mm free", slug.sentence)

    def test_trouble_says_when(self):
        plan = self.only(0, "pocket-rough")
        tools = tuple(
            t.model_copy(update={"LCF": 14.0, "overhang": 16.0}) if t.id == "em10" else t for t in plan.tools
        )
        report = evaluate(plan.model_copy(update={"tools": tools}), STEP, self.store)
        (operation,) = report.setups[0].operations
        named = plan.setups[0].operations[0].model_copy(update={"name": "Pocket {0} {odd}"})
        odd = evaluate(
            changed(plan, 0, operations=(named,)).model_copy(update={"tools": tools}),
            STEP,
            self.store,
        )
        self.assertTrue(any("in Pocket {0} {odd} (" in f.sentence for f in odd.findings()))
        hit = next(f for f in operation.findings if f.code == "cut.holder_in_stock")
        self.assertTrue(0 < hit.time_s <= operation.moving_s)
        self.assertTrue(0 <= hit.move < operation.moves)

    def test_a_cutter_without_a_centre_edge_goes_straight_down(self):
        plan = self.only(0, "spot-m6")
        hole = plan.setups[0].operations[0]
        tools = tuple(
            t.model_copy(update={"cuts_at_centre": False}) if t.id == hole.tool else t for t in plan.tools
        )
        self.assertIn("cut.plunge_off_centre", self.codes(plan.model_copy(update={"tools": tools})))

    def test_close_clearance_still_clears_the_stock(self):
        plan = self.only(0, "spot-m6")
        low = plan.setups[0].operations[0].model_copy(update={"clearance": 0.1, "retract": 0.1})
        self.assertNotIn("cut.rapid_in_stock", self.codes(changed(plan, 0, operations=(low,))))

    def test_facing_alone_has_no_trouble(self):
        self.assertEqual(
            self.codes(self.only(0, "face")), {"compare.left", "seat.zero_cut_away", "hold.not_located"}
        )

    def test_out_of_travel(self):
        plan = self.only(0, "face")
        hold = vise_hold(height=44.0, at=(880.0, 402))
        self.assertIn("reach.travel", self.codes(changed(plan, 0, hold=hold)))

    def test_a_drill_longer_than_the_machine_is_high(self):
        plan = self.only(0, "drill-dowel")
        name = plan.setups[0].operations[0].tool
        tools = tuple(
            one.model_copy(update={"overhang": 640.0, "OAL": 700.0}) if one.id == name else one
            for one in plan.tools
        )
        found = [
            one
            for setup in evaluate(plan.model_copy(update={"tools": tools}), STEP, MemoryStore()).setups
            for one in (*setup.findings, *(f for o in setup.operations for f in o.findings))
            if one.code == "reach.travel"
        ]
        self.assertTrue(any("Z" in one.sentence for one in found), found)

    def test_a_tool_that_is_not_there(self):
        plan = self.only(0, "face")
        lost = plan.setups[0].operations[0].model_copy(update={"tool": "gone"})
        self.assertIn("cut.no_tool", self.codes(changed(plan, 0, operations=(lost,))))

    def test_a_face_that_moved(self):
        plan = self.only(0, "seat")
        first = plan.setups[0].operations[0]
        ref = first.faces[0].model_copy(update={"at": (9.0, 9.0, 9.0)})
        self.assertIn(
            "part.face_lost",
            self.codes(changed(plan, 0, operations=(first.model_copy(update={"faces": (ref,)}),))),
        )

    def test_billet_too_small(self):
        data = demo(resolution_mm=2.0).model_dump(mode="json")
        data["setups"] = []
        data["billet"]["sizing"]["size"] = [118, 90, 52]
        self.assertIn("billet.too_small", self.codes(plan_from(data)))


class PlanDocument(unittest.TestCase):
    """The document refuses what has no meaning, naming the field."""

    def refused(self, *path_and_value) -> BadInput:
        data = json.loads((DEMO / "plan.json").read_text())
        *path, value = path_and_value
        at = data
        for step in path[:-1]:
            at = at[step]
        at[path[-1]] = value
        with self.assertRaises(BadInput) as caught:
            plan_from(data)
        return caught.exception

    def test_wrong_fields(self):
        for path in (
            ("billet", "sizing", "size", [-1, 90, 52]),
            ("billet", "sizing", "size", [float("nan"), 90, 52]),
            ("billet", "sizing", "size", [1e7, 90, 52]),
            ("resolution_mm", 0.0001),
            ("setups", 0, "offset_register", "G60"),
            ("setups", 0, "operations", 0, "step_down", 0),
            ("setups", 0, "hold", "kind", "glue"),
            ("setups", 0, "hold", "items", 0, "turn_deg", 400),
            ("setups", 0, "hold", "items", 1, "on", "nothing"),
            ("setups", 0, "hold", "work", "pushed", ["up"]),
            ("tools", 0, "DC", -4),
            ("surprise", 1),
        ):
            bad = self.refused(*path)
            self.assertEqual(bad.code, "plan.invalid")
            wanted = [str(step) for step in path[:-1] if not isinstance(step, int)][-1]
            self.assertIn(wanted, bad.where + bad.what)

    def test_names_must_differ(self):
        self.assertIn("OP10", self.refused("setups", 1, "name", "OP10").what)

    def test_round_trip_and_schema(self):
        plan = plan_from_json((DEMO / "plan.json").read_bytes())
        self.assertEqual(plan_from_json(plan.model_dump_json()), plan)
        schema = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "schema"], capture_output=True, text=True, check=True
        )
        self.assertEqual(json.loads(schema.stdout), Plan.model_json_schema())


class Headless(unittest.TestCase):
    """bin/pelvrak evaluate, and its programs read back by pygcode, a general-purpose parser of ISO 6983
    words.
    """

    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        out = Path(cls.folder.name)
        (out / "encoder-housing.step").write_bytes(STEP)
        (out / "plan.json").write_text(demo().model_dump_json())
        cls.done = subprocess.run(
            [TOP / "bin" / "pelvrak", "evaluate", out / "plan.json", "--out", out / "out"],
            capture_output=True,
            text=True,
            check=False,
        )
        cls.out = out / "out"

    @classmethod
    def tearDownClass(cls):
        cls.folder.cleanup()

    def test_report(self):
        self.assertEqual(self.done.returncode, 0, self.done.stderr)
        report = json.loads((self.out / "report.json").read_text())
        self.assertEqual([s["name"] for s in report["setups"]], ["OP10", "OP20"])
        for setup in report["setups"]:
            for field in ("incoming_volume_mm3", "outgoing_volume_mm3", "removed_volume_mm3", "time_s"):
                self.assertGreater(setup[field], 0)
            self.assertIsInstance(setup["findings"], list)
        self.assertEqual(
            set(report["comparison"])
            & {"left_volume_mm3", "gouge_volume_mm3", "max_left_mm", "max_gouge_mm"},
            {"left_volume_mm3", "gouge_volume_mm3", "max_left_mm", "max_gouge_mm"},
        )

    def test_stl(self):
        report = json.loads((self.out / "report.json").read_text())
        for setup in report["setups"]:
            mesh = trimesh.load(self.out / f"{setup['name']}.stl")
            self.assertTrue(mesh.is_watertight)
            self.assertAlmostEqual(mesh.volume / setup["outgoing_volume_mm3"], 1.0, delta=2e-3)

    def read(self, name: str):
        """Positions and words of a program, line by line, by pygcode."""
        at, seen = {"X": None, "Y": None, "Z": None}, []
        for number, text in enumerate((self.out / f"{name}.nc").read_text().splitlines()):
            if text.startswith(("%", "O", "(")):
                continue
            words = [(w.letter, w.value) for w in Line(text).block.words]
            self.assertTrue(words, text)
            for letter, value in words:
                if letter in at and "G53" not in text:
                    at[letter] = float(value)
            seen.append((number, dict(at), words))
        return seen

    def test_programs_are_read_back(self):
        store, report = computed()
        for setup in report.setups:
            lines = json.loads(store.get(setup.program_key, "lines.json"))
            self.assertEqual(
                (self.out / f"{setup.name}.nc").read_bytes(), store.get(setup.program_key, "program.nc")
            )
            at_line = {number: at for number, at, _ in self.read(setup.name)}
            for operation in setup.operations:
                path, holes = path_from_json(store.get(operation.key, "path.json"))
                self.assertEqual(len(lines[operation.id]), len(path.moves))
                if holes:
                    drilled = {(round(h.x, 3), round(h.y, 3)) for h in holes}
                    said = {(at_line[n]["X"], at_line[n]["Y"]) for n in lines[operation.id]}
                    self.assertLessEqual(drilled, said)
                    continue
                for move, number in zip(path.moves, lines[operation.id], strict=True):
                    for axis, value in zip("XYZ", move.end, strict=True):
                        if number == lines[operation.id][0] and axis == "Z":
                            continue
                        self.assertAlmostEqual(
                            at_line[number][axis], value, delta=0.0006, msg=f"line {number}"
                        )

    def test_arcs_close(self):
        """Start and end of every arc lie at the same distance from its centre, within the rounding of three
        digits.
        """
        for name in ("OP10", "OP20"):
            before = None
            for number, at, words in self.read(name):
                given = dict(words)
                if "I" in given and before and None not in before.values():
                    centre = (before["X"] + float(given["I"]), before["Y"] + float(given["J"]))
                    first = math.dist((before["X"], before["Y"]), centre)
                    last = math.dist((at["X"], at["Y"]), centre)
                    self.assertAlmostEqual(first, last, delta=0.006, msg=f"{name} line {number}")
                before = at

    def test_safe_and_with_the_right_register(self):
        for name, register in (("OP10", "G54"), ("OP20", "G55")):
            text = (self.out / f"{name}.nc").read_text()
            lines = text.splitlines()
            self.assertEqual((lines[0], lines[-1]), ("%", "%"))
            self.assertIn("G21 G17 G90 G40 G49 G80 G94", text)
            changes = [i for i, line in enumerate(lines) if line.startswith("N") and line.endswith(" M6")]
            for i in changes:
                self.assertTrue(any(f" {register}" in line for line in lines[i : i + 3]))
                self.assertTrue(any("G43" in line for line in lines[i : i + 6]))
            for i in changes[1:]:  # the spindle goes up before the tool is changed
                self.assertTrue(any("G53 G0 Z0." in line for line in lines[i - 4 : i]))
            self.assertNotIn("G56", text)
            self.assertTrue(lines[-2].endswith("M30"))

    def test_wrong_inputs(self):
        for text, wanted in (("{", "plan"), ('{"schema_version": 7}', "schema_version"), ("{}", "name")):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "plan.json"
                path.write_text(text)
                wrong = io.StringIO()
                with contextlib.redirect_stderr(wrong):
                    self.assertEqual(main(["evaluate", str(path), "--out", folder]), 2)
                self.assertIn(wanted, wrong.getvalue())


if __name__ == "__main__":
    unittest.main()
