"""Operations kept for the next plan: put on other faces, with their tools or those the plan has already."""

from __future__ import annotations

import unittest

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.templates import Template, from_template
from tests.edits import cured

THERE, HERE = FaceRef(face=3, at=(1.0, 2.0, 3.0)), FaceRef(face=8, at=(9.0, 8.0, 7.0))


def drilling(number: int, cycle: str, tool: str) -> dict:
    return {
        "kind": "drilling",
        "id": f"drilling-{number}",
        "name": f"{cycle} it",
        "tool": tool,
        "cycle": cycle,
        "faces": [THERE.model_dump(mode="json")],
        "position": "P1",
        "finish": "rough",
        "group": "g",
    }


def template() -> Template:
    tools = [tool_shelf()[name].model_dump(mode="json") for name in ("sd10", "dr8")]
    operations = [drilling(1, "spot", "sd10"), drilling(2, "drill", "dr8")]
    return Template.model_validate({"id": "t", "name": "a hole", "operations": operations, "tools": tools})


def document(*tools: dict, **more: object) -> dict:
    own = {
        "kind": "drilling",
        "id": "drilling-1",
        "name": "its own",
        "tool": "x",
        "faces": [HERE.model_dump()],
    }
    return {
        "name": "p",
        "part": {"file": "p.step"},
        "tools": list(tools),
        "setups": [{"name": "OP10", "operations": [own]}],
        **more,
    }


class Templates(unittest.TestCase):
    def used(self, plan: dict) -> dict:
        own = plan_from(plan)
        return cured(plan, from_template(own, own.setups[0], template(), (HERE,)))

    def test_it_is_put_on_other_faces_in_its_order(self):
        plan = plan_from(self.used(document()))
        own = plan.setups[0].operations
        self.assertEqual([one.id for one in own], ["drilling-1", "drilling-2", "drilling-3"])
        self.assertEqual([one.cycle for one in own[1:]], ["spot", "drill"])
        for one in own[1:]:
            self.assertEqual(one.faces_told(), (HERE,))
            self.assertEqual((one.position, one.group, one.finish), (None, None, "rough"))
        self.assertEqual([tool.id for tool in plan.tools], ["sd10", "dr8"])
        self.assertEqual([tool.place for tool in plan.tools], [1, 2])

    def test_a_tool_of_the_plan_that_is_alike_is_used(self):
        mine = tool_shelf()["dr8"].model_dump(mode="json") | {"id": "mine", "name": "our Ø8", "place": 1}
        other = tool_shelf()["em12"].model_dump(mode="json") | {"id": "sd10", "place": 2}
        plan = plan_from(self.used(document(mine, other)))
        self.assertEqual([tool.id for tool in plan.tools], ["mine", "sd10", "sd10-2"])
        self.assertEqual(plan.tools[2].kind, "spot_drill")
        self.assertEqual([one.tool for one in plan.setups[0].operations[1:]], ["sd10-2", "mine"])

    def test_a_finish_the_plan_has_not_got_is_left_out(self):
        plan = plan_from(self.used(document(finishes=[])))
        self.assertEqual([one.finish for one in plan.setups[0].operations], [None] * 3)

    def test_without_a_face_or_a_tool_it_is_refused(self):
        plan = plan_from(document())
        with self.assertRaises(BadInput) as refused:
            from_template(plan, plan.setups[0], template(), ())
        self.assertEqual(refused.exception.code, "templates.no_face")
        bare = template().model_copy(update={"tools": ()})
        with self.assertRaises(BadInput) as refused:
            from_template(plan, plan.setups[0], bare, (HERE,))
        self.assertEqual(refused.exception.code, "templates.no_tool")


if __name__ == "__main__":
    unittest.main()
