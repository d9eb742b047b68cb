"""Operations switched off, groups of them, and who cuts what of the part."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.route.cut_by import CutFeature, cut_features
from pelvrak.core.route.plan import Plan, plan_from
from tests import solids
from tests.core.planning_bench import model


def _plan(operations: list[dict], groups: list[dict] | None = None) -> Plan:
    setup = {"name": "OP10", "operations": operations, "groups": groups or []}
    return plan_from({"name": "p", "part": {"file": "p.step"}, "setups": [setup]})


def _outline(number: int, **more: object) -> dict:
    return {"kind": "outline", "id": f"o{number}", "name": f"Round {number}", "tool": "t", **more}


def _holding(rows: tuple[CutFeature, ...], face: int) -> CutFeature:
    return next(row for row in rows if any(ref.face == face for ref in row.faces))


class Groups(unittest.TestCase):
    def test_what_is_switched_off_is_not_cut_and_stays_in_the_plan(self):
        plan = _plan([_outline(1), _outline(2, off=True), _outline(3)])
        self.assertEqual([one.id for one in plan.settled().setups[0].operations], ["o1", "o3"])
        self.assertEqual(len(plan.setups[0].operations), 3)

    def test_a_group_says_what_its_operations_do_not(self):
        group = {"id": "g", "name": "outside", "finish": "rough", "offset_register": "G55"}
        own = _outline(2, group="g", finish="finish", offset_register="G56")
        plan = _plan([_outline(1, group="g"), own, _outline(3)], [group])
        one, two, three = plan.settled().setups[0].operations
        self.assertEqual((one.finish, one.offset_register, one.on_walls()), ("rough", "G55", 0.3))
        self.assertEqual((two.finish, two.offset_register, two.on_walls()), ("finish", "G56", 0.0))
        self.assertEqual((three.finish, three.offset_register), (None, None))
        off = _plan([_outline(1, group="g"), _outline(3)], [{**group, "off": True}])
        self.assertEqual([one.id for one in off.settled().setups[0].operations], ["o3"])

    def test_a_group_that_is_not_there_is_refused(self):
        with self.assertRaises(BadInput) as refused:
            _plan([_outline(1, group="g")])
        self.assertIn("round 1 is in a group that OP10 has not got", refused.exception.what)
        two = [{"id": "a", "name": "x"}, {"id": "b", "name": "x"}]
        with self.assertRaises(BadInput) as refused:
            _plan([], two)
        self.assertIn("two groups of OP10 are called x", refused.exception.what)


class CutBy(unittest.TestCase):
    def test_each_feature_tells_who_cuts_it_by_its_faces_and_by_its_surface(self):
        block = solids.box((0, 0, 0), (40, 30, 14))
        step = solids.box((-1, -1, 10), (8, 32, 9))
        part = model(solids.minus(solids.minus(block, solids.cylinder((20, 15, -1), 4, 20)), step))
        features = features_of(part)
        hole = next(face for face in part.part.faces if face.kind == "cylinder")
        told = ref_to(hole).model_dump(mode="json")

        def drilling(number: int, cycle: str) -> dict:
            return {
                "kind": "drilling",
                "id": f"d{number}",
                "name": f"Hole {number}",
                "tool": "t",
                "cycle": cycle,
                "faces": [told],
            }

        plan = _plan([drilling(1, "drill"), drilling(2, "ream"), _outline(3)])
        rows = cut_features(plan, part, features, None, {})
        found = {one.what.split(",")[0]: one for one in rows}
        drilled = found["hole Ø8"]
        self.assertEqual([one.operation for one in drilled.by], ["d1", "d2"])
        self.assertEqual((drilled.state, drilled.twice), (None, ()))
        low = next(f for f in part.part.faces if f.normal and f.normal[2] > 0.9 and f.centre[2] < 13)
        self.assertEqual(_holding(rows, low.number).by, ())
        # The outcome is the part itself: all surfaces by the outline but the hole's, which is the billet's.
        made = np.where(part.mesh.label == hole.number, 0, 7).astype(part.mesh.label.dtype)
        outcome = replace(part.mesh, label=made)
        rows = cut_features(plan, part, features, outcome, {7: ("OP10", "o3")})
        found = {one.what.split(",")[0]: one for one in rows}
        step = _holding(rows, low.number)
        self.assertEqual([(one.operation, one.told) for one in step.by], [("o3", False)])
        self.assertEqual(step.state, "cut")
        self.assertEqual(found["hole Ø8"].state, "raw")
        # Holes that are alike and cut alike are one row.
        two = solids.minus(block, solids.cylinder((10, 15, -1), 4, 20))
        pair = model(solids.minus(two, solids.cylinder((30, 15, -1), 4, 20)))
        alike = [row.count for row in cut_features(_plan([]), pair, features_of(pair), None, {})]
        self.assertEqual(alike, [2, 1])
        # Every face of the part stands in one row, and in one only.
        faces = sorted(ref.face for row in rows for ref in row.faces)
        self.assertEqual(faces, [face.number for face in part.part.faces])

    def test_the_same_done_twice_to_a_feature_is_told(self):
        part = model(solids.minus(solids.box((0, 0, 0), (40, 30, 14)), solids.cylinder((20, 15, -1), 4, 20)))
        hole = next(face for face in part.part.faces if face.kind == "cylinder")
        drill = {
            "kind": "drilling",
            "id": "a",
            "name": "A",
            "tool": "t",
            "faces": [ref_to(hole).model_dump(mode="json")],
        }
        plan = _plan([drill, {**drill, "id": "b", "name": "B"}])
        row = next(
            one
            for one in cut_features(plan, part, features_of(part), None, {})
            if one.what.startswith("hole")
        )
        self.assertEqual(row.twice, ("OP10 A", "OP10 B"))
        off = _plan([drill, {**drill, "id": "b", "name": "B", "off": True}])
        row = next(
            one for one in cut_features(off, part, features_of(part), None, {}) if one.what.startswith("hole")
        )
        self.assertEqual((row.twice, [one.operation for one in row.by]), ((), ["a"]))


if __name__ == "__main__":
    unittest.main()
