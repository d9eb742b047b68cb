"""The plan's JSON Schema: by an independent validator, every field told, and the page made from it."""

from __future__ import annotations

import copy
import json
import unittest
from pathlib import Path

import jsonschema_rs

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Frozen, said_of_fields
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.schema_page import schema_page

TOP = Path(__file__).resolve().parents[2]
DEMOS = sorted((TOP / "demo").glob("*/plan.json"))


class Screw(Frozen):
    """A screw. thread: metric coarse; length, head: under the head and across it, mm.

    Note: what is no field is no head of a meaning. grade: of strength.
    """

    thread: str
    length: float
    head: float
    grade: str = "8.8"


class PlanSchema(unittest.TestCase):
    def setUp(self):
        self.schema = Plan.model_json_schema()

    def test_the_demo_plans_hold_by_an_independent_validator(self):
        valid = jsonschema_rs.Draft202012Validator(self.schema)
        self.assertTrue(DEMOS)
        for path in DEMOS:
            self.assertEqual(
                [error.message for error in valid.iter_errors(json.loads(path.read_text()))], [], path
            )

    def test_what_the_schema_refuses_the_program_refuses(self):
        valid = jsonschema_rs.Draft202012Validator(self.schema)
        plan = json.loads(DEMOS[0].read_text())
        for change in (
            lambda plan: plan.update(resolution_mm=0),
            lambda plan: plan["setups"][0].update(name="OP 10"),
            lambda plan: plan["setups"][0]["operations"][0].update(step_over=2),
            lambda plan: plan["setups"][0]["operations"][0].update(kind="carving"),
            lambda plan: plan.update(colour="red"),
            lambda plan: plan.pop("part"),
        ):
            wrong = copy.deepcopy(plan)
            change(wrong)
            self.assertFalse(valid.is_valid(wrong))
            with self.assertRaises(BadInput):
                plan_from(wrong)

    def test_every_field_is_told(self):
        for name, model in {"Plan": self.schema, **self.schema["$defs"]}.items():
            for field, told in model.get("properties", {}).items():
                if "const" not in told:
                    self.assertTrue(
                        told.get("description"), f"{name}.{field}: say it in the class's docstring"
                    )

    def test_the_page_is_made_from_it(self):
        page = schema_page(self.schema)
        self.assertEqual(
            (TOP / "docs" / "plan-schema.md").read_text(), page, "run: bin/pelvrak schema --page"
        )
        self.assertIn(
            "| `resolution_mm` | number | ≥ 0.1; ≤ 5 | `0.5` | distance of the stock's rays |", page
        )

    def test_meanings_are_read_out_of_docstrings(self):
        self.assertEqual(
            said_of_fields(Screw),
            {
                "thread": "metric coarse",
                "length": "under the head and across it, mm. Note: what is no field is no head of a meaning",
                "head": "under the head and across it, mm. Note: what is no field is no head of a meaning",
                "grade": "of strength",
            },
        )


if __name__ == "__main__":
    unittest.main()
