"""Kinds of operation: each tells its form, a fresh one is ready to be cut, and another package can bring its
own.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from pelvrak.core.cutting.operations import KINDS, Drilling, Facing, Pocket
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.kinds import KINDS as FIXTURES
from pelvrak.core.holding.kinds import fixtures_shipped
from pelvrak.core.registered import registered
from pelvrak.core.route.drafting import drafted
from pelvrak.core.route.plan import Plan, plan_from
from tests import solids
from tests.core.planning_bench import bore_of, model

TOP = Path(__file__).resolve().parents[2]


def plan_with(*tools: str, operations: tuple = ()) -> Plan:
    shelf = tool_shelf()
    return plan_from(
        {
            "name": "toy",
            "part": {"file": "toy.step"},
            "tools": [shelf[tool].model_dump() for tool in tools],
            "setups": [{"name": "OP10", "operations": list(operations)}],
        }
    )


class FormsOfKinds(unittest.TestCase):
    def test_every_field_tells_what_it_is_for(self):
        for kind in KINDS.values():
            for name, field in kind.model_json_schema()["properties"].items():
                if name == "kind":
                    continue
                with self.subTest(kind=kind.called, field=name):
                    self.assertTrue(field["title"])
                    self.assertGreater(len(field["description"]), 10)
                    self.assertNotEqual(field["title"].lower(), field["description"].lower())

    def test_every_condition_names_a_field_or_the_tool(self):
        for kind in KINDS.values():
            schema = kind.model_json_schema()["properties"]
            for name, field in schema.items():
                for asked, values in field.get("x-when", {}).items():
                    with self.subTest(kind=kind.called, field=name):
                        self.assertIn(asked, [*schema, "tool.kind"])
                        known = schema.get(asked, {}).get("enum")
                        if known:
                            self.assertLessEqual(set(values), set(known))

    def test_the_tools_of_a_kind_are_told_for_every_value_they_depend_on(self):
        for kind in KINDS.values():
            values = kind.model_json_schema()["properties"][kind.tools_by]["enum"] if kind.tools_by else [""]
            self.assertEqual(sorted(kind.tools), sorted(values), kind.called)

    def test_fixtures_name_fields_and_kinds_that_are_there(self):
        for name, kind in FIXTURES.items():
            asked = re.findall(r"{(\w+)}", kind.sizes)
            self.assertTrue(asked, name)
            self.assertLessEqual(set(asked), set(kind.model_fields), name)
            self.assertLessEqual(set(kind.stands_on), set(FIXTURES), name)
            self.assertNotIn(name, kind.stands_on)
            self.assertLessEqual(set(kind.asks), {*Item.model_fields, "pinned"}, name)

    def test_every_shipped_fixture_has_a_picture(self):
        for one in fixtures_shipped().values():
            self.assertTrue(all(solid.body.volume() > 0 for solid in one.picture()), one.id)
            self.assertTrue(one.picture(), one.id)


class FreshOperations(unittest.TestCase):
    def setUp(self):
        block = solids.box((0, 0, 0), (40, 40, 12))
        self.part = model(solids.minus(block, solids.cylinder((12, 12, -1), 2.5, 20))).part
        self.hole = bore_of(self.part, 5.0)[0].model_dump()

    def draft(self, plan: Plan, **told):
        return drafted(plan, plan.setups[0], told, self.part, tool_shelf().values())

    def test_a_drill_is_as_wide_as_its_hole(self):
        found = self.draft(plan_with("dr7_8", "dr5"), kind="drilling", faces=[self.hole])
        self.assertEqual((found.operation.tool, found.tool), ("dr5", None))

    def test_what_the_plan_has_not_got_comes_from_the_shelf_to_a_free_place(self):
        plan = plan_with("dr7_8", "em10")
        found = self.draft(plan, kind="drilling", faces=[self.hole])
        self.assertEqual(found.operation.tool, "dr5")
        self.assertEqual(found.tool.DC, 5.0)
        self.assertNotIn(found.tool.place, [tool.place for tool in plan.tools])

    def test_a_hole_that_is_reamed_later_is_drilled_a_little_under(self):
        block = solids.minus(solids.box((0, 0, 0), (40, 40, 12)), solids.cylinder((12, 12, -1), 4.0, 20))
        self.part = model(block).part
        hole = bore_of(self.part, 8.0)[0].model_dump()
        plan = plan_with("dr5", "dr7_8", "dr12")
        self.assertEqual(self.draft(plan, kind="drilling", faces=[hole]).operation.tool, "dr7_8")

    def test_ones_own_is_taken_where_the_shelf_has_none_much_better(self):
        """A fresh pocket takes the cutter nearest to Ø10: Ø12 of one's own does, Ø20 does not."""
        for own, taken in (("em12", "em12"), ("em20", "em10")):
            found = self.draft(plan_with(own), kind="pocket", faces=[self.hole])
            self.assertEqual(found.operation.tool, taken)

    def test_facing_takes_the_widest(self):
        self.assertEqual(self.draft(plan_with("em6", "em20", "em10"), kind="facing").operation.tool, "em20")

    def test_another_cycle_brings_another_tool_and_keeps_the_rest(self):
        drill = Drilling(id="a", name="Holes", tool="dr5", faces=[self.hole], retract=3.5).model_dump()
        found = self.draft(plan_with("dr5"), **{**drill, "cycle": "spot"})
        self.assertEqual(tool_shelf()[found.operation.tool].kind, "spot_drill")
        self.assertGreaterEqual(tool_shelf()[found.operation.tool].DC, 6.0)
        self.assertEqual(
            (found.operation.id, found.operation.name, found.operation.retract), ("a", "Holes", 3.5)
        )

    def test_a_tool_that_can_do_it_stays(self):
        drill = Drilling(id="a", name="Holes", tool="dr7_8", faces=[self.hole]).model_dump()
        self.assertEqual(self.draft(plan_with("dr7_8", "dr5"), **drill).operation.tool, "dr7_8")

    def test_ids_and_names_are_free(self):
        there = Facing(id="facing-1", name="Facing 1", tool="em20").model_dump()
        found = self.draft(plan_with("em20", operations=(there,)), kind="facing")
        self.assertEqual((found.operation.id, found.operation.name), ("facing-2", "Facing 2"))

    def test_what_cannot_be_is_refused_by_its_field(self):
        plan = plan_with("em10")
        for told, where in (
            ({"kind": "carving"}, "kind"),
            ({"kind": "pocket"}, "operation"),
            ({"kind": "facing", "step_over": 3}, "step_over"),
        ):
            with self.subTest(**told), self.assertRaises(BadInput) as refused:
                self.draft(plan, **told)
            self.assertIn(where, refused.exception.where)

    def test_a_wrapped_line_of_before_without_its_diameter_is_still_read(self):
        old = {
            "id": "w",
            "name": "Wrapped",
            "tool": "em10",
            "faces": [self.hole],
            "diameter": None,
            "depth": None,
        }
        plan = plan_with("em10", operations=({"kind": "wrapped", **old},))
        self.assertEqual(plan.setups[0].operations[0].diameter, 50.0)

    def test_faces_of_a_kind(self):
        pocket = Pocket(id="p", name="Pocket", tool="em10", faces=[self.hole])
        self.assertEqual(pocket.of_faces(()).faces_told(), ())
        self.assertEqual(pocket.engagement(10.0), (5.0, 4.5))


PLANNED = """
import json
from pelvrak.core.cutting.operations import KINDS
from tests import solids
from tests.core.planning_bench import model, run
from tests.solids import block
kerf = KINDS["kerf"](id="k", name="Kerf", tool="em10", depth=4.0)
done = run(model(solids.box((0, 0, 0), (60, 40, 20))), block((0, 0, 0), (60, 40, 20), 0.5), kerf)
from pelvrak.core.route.plan import plan_from
setup = {"name": "OP10", "operations": [kerf.model_dump()]}
plan = plan_from({"name": "toy", "part": {"file": "a.step"}, "setups": [setup]}).model_dump(mode="json")
from pelvrak.server.app import library
forms = {form.kind: form.fields["properties"] for form in library().operations}
print(json.dumps([done.volume, plan["setups"][0]["operations"][0]["depth"], forms["kerf"]["depth"]["x-unit"]]))
"""
HELD = """
import json
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.holding.kinds import fixtures_from
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids
rail = {"kind": "rail", "id": "rails", "name": "Rails", "length": 80, "height": 25, "apart": 30}
plan = plan_from({"name": "toy", "part": {"file": "a.step"}, "fixtures": [rail],
                  "billet": {"kind": "block", "sizing": {"rule": "size", "size": [60, 40, 20]}},
                  "setups": [{"name": "OP10", "hold": {"items": [{"id": "r", "fixture": "rails", "x": 200, "y": 100}]}}]})
setup = evaluate(plan, solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20))), MemoryStore()).setups[0]
print(json.dumps([sorted({contact.name for contact in setup.hold.contacts}), sum(c.area for c in setup.hold.contacts),
                  setup.hold.pieces[0].name, fixtures_from([rail])[0].called]))
"""
WRITTEN = """
import json
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import PROGRAM
from pelvrak.core.route.plan import plan_from
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.machine.machine import machines
from pelvrak.server.app import library
from tests import solids
machine = machines()["vertical-760"].model_dump(mode="json")
machine |= {"id": "mine", "control": {**machine["control"], "dialect": "loud"}}
plan = plan_from({"name": "toy", "part": {"file": "a.step"}, "machines": [machine],
                  "dialects": [{"kind": "announcing", "id": "loud", "name": "Loud"}],
                  "tools": [tool_shelf()["em20"].model_dump(mode="json")],
                  "billet": {"kind": "block", "sizing": {"rule": "size", "size": [60, 40, 22]}},
                  "setups": [{"name": "OP10", "machine": "mine", "operations": [
                      {"id": "f", "name": "Face", "kind": "facing", "tool": "em20"}]}]})
store = MemoryStore()
setup = evaluate(plan, solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20))), store).setups[0]
text = Result(setup.program_key, Engine(store)).value(PROGRAM)
print(json.dumps([text, [one.fields["properties"]["bell"]["title"] for one in library().dialect_forms if one.kind == "announcing"]]))
"""


class KindsFromOutside(unittest.TestCase):
    """What another package brings by its entry points, in a process of its own that has it on its path."""

    def said(self, program: str) -> list:
        with tempfile.TemporaryDirectory() as folder:
            about = Path(folder, "toy-1.dist-info")
            about.mkdir()
            (about / "METADATA").write_text("Metadata-Version: 2.1\nName: toy\nVersion: 1\n")
            (about / "entry_points.txt").write_text(
                "[pelvrak.operations]\nkerf = tests.toy_kinds:Kerf\n[pelvrak.fixtures]\nrail ="
                " tests.toy_kinds:Rail\n[pelvrak.dialects]\nannouncing = tests.toy_kinds:Announcing\n"
            )
            path = os.pathsep.join([folder, str(TOP)])
            done = subprocess.run(
                [sys.executable, "-c", program],
                env={**os.environ, "PYTHONPATH": path},
                capture_output=True,
                text=True,
            )
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout.splitlines()[-1])

    def test_an_operation_is_planned_cut_and_asked_for(self):
        left, depth, unit = self.said(PLANNED)
        # A straight kerf of a Ø10 cutter, 4 deep, through 60 × 40 × 20.
        self.assertAlmostEqual(left / (60 * 40 * 20 - 60 * 10 * 4), 1.0, delta=1e-3)
        self.assertEqual((depth, unit), (4.0, "mm"))

    def test_work_rests_on_a_fixture(self):
        names, area, piece, called = self.said(HELD)
        # Two rails 10 wide under work 60 long.
        self.assertEqual((names, piece, called), (["rail"], "rail", "pair of rails"))
        self.assertAlmostEqual(area, 2 * 10 * 60, delta=1.0)

    def test_a_program_is_written_in_a_dialect(self):
        text, bell = self.said(WRITTEN)
        place = tool_shelf()["em20"].place
        self.assertIn(f"(HERE COMES TOOL {place})\nN30 T{place} M6", text)
        self.assertEqual(bell, ["Bell"])

    def test_a_kind_that_is_there_is_refused(self):
        with self.assertRaisesRegex(TypeError, "that is there: facing"):
            registered((Facing, Facing_), "pelvrak.none")


class Facing_(Facing):  # noqa: N801  a kind that takes another's name
    """Another facing."""


if __name__ == "__main__":
    unittest.main()
