"""Stages of finish: operations take from them what they do not say."""

from __future__ import annotations

import unittest

from pydantic import ValidationError

from pelvrak.core.cutting.feeds import cutting_data, material_of
from pelvrak.core.cutting.finish import USUAL, Finish, finished
from pelvrak.core.cutting.operations import Clearing, Facing, Outline, Pocket
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.naming import unregistered
from pelvrak.core.route.plan import PartFile, Plan, Setup
from tests import solids
from tests.core.planning_bench import model, plane_at, run
from tests.core.test_operations import clean, rounded
from tests.solids import block

FLOOR = (FaceRef(face=1, at=(0.0, 0.0, 0.0)),)
SEMI = Finish(id="semi", name="semi", leave_side=0.15, leave_floor=0.05, feed_share=0.5, speed_share=0.8)


def plan_of(*operations, finishes=USUAL):
    return Plan(
        name="p",
        part=PartFile(file="p.step", sha256="0" * 64, revision="A"),
        tools=(tool_shelf()["em10"],),
        finishes=finishes,
        setups=(Setup(name="OP10", operations=operations),),
    )


class Finishes(unittest.TestCase):
    def test_an_operation_takes_what_it_does_not_say(self):
        pocket = Pocket(id="p", name="p", tool="em10", faces=FLOOR, finish="semi")
        plan = plan_of(pocket, finishes=(SEMI,))
        settled = plan.settled().setups[0].operations[0]
        self.assertEqual((settled.on_walls(), settled.on_floors()), (0.15, 0.05))
        said = pocket.model_copy(update={"leave_side": 0.4})
        settled = plan_of(said, finishes=(SEMI,)).settled().setups[0].operations[0]
        self.assertEqual((settled.on_walls(), settled.on_floors()), (0.4, 0.05))
        # A zero that is said is said.
        zero = pocket.model_copy(update={"leave_side": 0.0})
        self.assertEqual(plan_of(zero, finishes=(SEMI,)).settled().setups[0].operations[0].on_walls(), 0.0)
        self.assertEqual(finished(pocket, None).on_walls(), 0.0)

    def test_on_a_face_it_is_the_floors_allowance_and_along_a_wall_the_walls(self):
        self.assertEqual(finished(Facing(id="f", name="f", tool="em10"), SEMI).leave, 0.05)
        self.assertEqual(finished(Outline(id="o", name="o", tool="em10"), SEMI).leave, 0.15)

    def test_speed_and_feed_follow(self):
        pocket = Pocket(id="p", name="p", tool="em10", faces=FLOOR, finish="semi")
        plan = plan_of(pocket, finishes=(SEMI,))
        told = (tool_shelf()["em10"], material_of("EN AW-6082"), machine_of("vertical-760"))
        plain, slower = cutting_data(*told), cutting_data(*told, shares=plan.shares_of(pocket))
        self.assertAlmostEqual(slower.speed_rpm.value / plain.speed_rpm.value, 0.8, delta=0.01)
        self.assertAlmostEqual(slower.feed_mm_min.value / plain.feed_mm_min.value, 0.4, delta=0.01)
        typed = cutting_data(*told, 5000.0, 777.0, plan.shares_of(pocket))
        self.assertEqual((typed.speed_rpm.value, typed.feed_mm_min.value), (5000.0, 777.0))

    def test_another_name_cuts_nothing_anew(self):
        clear = Clearing(id="c", name="c", tool="em10")
        self.assertEqual(clear.finish, "rough")
        one = plan_of(clear).settled().setups[0].operations[0]
        own = (USUAL[0].model_copy(update={"id": "own", "name": "first"}),)
        other = plan_of(clear.model_copy(update={"finish": "own"}), finishes=own)
        self.assertEqual(unregistered(one), unregistered(other.settled().setups[0].operations[0]))

    def test_a_finish_the_plan_has_not_got_is_refused(self):
        with self.assertRaises(ValidationError) as refused:
            plan_of(Facing(id="f", name="Face", tool="em10", finish="mirror"))
        self.assertIn("Face of OP10 names a finish the plan has not got", str(refused.exception))
        with self.assertRaises(ValidationError):
            plan_of(finishes=(SEMI, SEMI))

    def test_as_cut(self):
        cavity = rounded((10, 8, 8), (50, 32, 30), 6)
        part = model(clean(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), cavity)))
        operation = Pocket(
            id="p", name="p", tool="em10", faces=(plane_at(part.part, 8),), step_down=4, finish="semi"
        )
        done = run(part, block((0, 0, 0), (60, 40, 20), 0.25), finished(operation, SEMI))
        smaller = rounded((10.15, 8.15, 8.05), (49.85, 31.85, 30), 5.85)
        exact = solids.volume(solids.minus(solids.box((0, 0, 0), (60, 40, 20)), smaller))
        self.assertAlmostEqual(done.volume / exact, 1.0, delta=1e-3)


if __name__ == "__main__":
    unittest.main()
