"""From place to place of a load: by the top of Z, or just over all that stands; what is met on the way."""

from __future__ import annotations

import unittest
from unittest.mock import patch

import numpy as np

from pelvrak.core.load.order import Cut, Machine, spans_of
from pelvrak.core.machine.kinematics import tip_by_slides
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Held
from pelvrak.core.route import load_program
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.load_report import LoadReport
from pelvrak.core.route.plan import Plan, plan_from
from tests.core import test_removal as plate
from tests.core import test_turning as turning
from tests.core.test_load import STORE, TWO, codes, plan, raised, report, text_of
from tests.core.test_probing import pocket

# The plate's top is its zero, 114 over the table; the vise's jaws end below it.
ZERO_MM = 114.0


def with_one_raised(by: float, **load) -> LoadReport:
    """Two plates 400 apart, and between them a third on its vise that stands higher and is not cut."""
    told = plan({}, pocket()).model_dump(mode="json")
    high = raised(told, by)
    stands = [{**TWO, "pitch_x": 400.0}, {"setup": "OP20", "at_x": 60.0}]
    document = told | {
        "setups": [told["setups"][0], high],
        "loads": [{"name": "L1", "stands": stands, **load}],
    }
    return evaluate(plan_from(document), plate.DATA, STORE).loads[0]


def crossings(load: LoadReport, planned: Plan) -> list[tuple[float, float]]:
    """Of every rapid that only goes across from one register to another: the lower of its ends over the
    table, and how far it goes, mm.
    """
    machine = machine_of("vertical-760")
    registers = {
        fact.register_name: dict(zip("XYZ", (one.value for one in fact.value), strict=True))
        for place in load.places
        for fact in place.registers
        if fact.value is not None
    }
    lengths = {place: tool.gauge_length for tool in planned.tools for place in tool.places}
    control = Control(Held(registers, lengths), unknown=True, machine=machine)
    out, before = [], None
    for one in control.run(text_of(load)):
        if before is not None and one.register != before.register and one.kind == "rapid":
            start, slopes = tip_by_slides(machine, {}, lengths.get(one.tool, 0.0))
            ends = [start + slopes @ np.array(at.end[:3]) for at in (before, one)]
            out.append((float(min(ends[0][2], ends[1][2])), float(np.linalg.norm((ends[1] - ends[0])[:2]))))
        before = one
    return out


class Time(unittest.TestCase):
    def test_a_way_in_closed_form(self):
        """From (0, 0, -300) over -200 to (-300, 400, -280): 100 up, 500 across and 80 down; by the top of Z
        300, 500 and 280. A tool change, axes that turn and a way that begins higher go their own way.
        """
        one = Cut(1, 10.0, (0.0, 0.0, -300.0), (0.0, 0.0, -300.0), over=-200.0)
        two = Cut(1, 10.0, (-300.0, 400.0, -280.0), (-300.0, 400.0, -280.0), over=-200.0)
        low, top = Machine(6.0, 20_000, over=True), Machine(6.0, 20_000)
        self.assertAlmostEqual(low.between(one, two), 680 / 20_000 * 60)
        self.assertAlmostEqual(top.between(one, two), 1080 / 20_000 * 60)
        self.assertAlmostEqual(
            spans_of([(0, 0), (1, 0)], [[one], [two]], low)[1][1], 6 + 10 + 680 / 20_000 * 60 + 10
        )
        changed = Cut(2, 10.0, two.begins, two.ends, over=-200.0)
        turned = Cut(1, 10.0, two.begins, two.ends, over=-200.0, lies=(90.0,))
        for other in (changed, turned):
            self.assertAlmostEqual(low.between(one, other), 1080 / 20_000 * 60)
        higher = Cut(1, 10.0, one.begins, (0.0, 0.0, -150.0), over=-200.0)
        self.assertAlmostEqual(low.between(higher, two), (0 + 500 + 130) / 20_000 * 60)


class Over(unittest.TestCase):
    def test_just_over_all_that_stands(self):
        """The way of 400 goes 5 over the third's top; without it by the height the paths keep themselves, 10
        over the plates. The program leaves what was planned, and saves what it says.
        """
        planned = plan({}, pocket())
        load = with_one_raised(80.0, between="over")
        ways = [height for height, across in crossings(load, planned) if abs(across - 400) < 100]
        self.assertEqual([round(height, 3) for height in ways], [ZERO_MM + 80 + 5])
        self.assertTrue(all(place.equal for place in load.places if place.setup == "OP10"))
        flat = report(stands=[TWO], order="tools", between="over")[1]
        heights = [height for height, across in crossings(flat, plan({})) if 100 < across < 400]
        self.assertEqual([round(height, 3) for height in heights], [ZERO_MM + 10, ZERO_MM + 10])
        self.assertEqual(flat.time_s, flat.over_s)
        top = report(stands=[TWO], order="tools")[1]
        self.assertEqual((top.time_s, top.over_s), (top.top_s, flat.over_s))
        # Two ways by the top of Z less: by the planned times, and by the control's.
        self.assertGreater(top.time_s - flat.time_s, 3.0)
        self.assertAlmostEqual(top.control_s - flat.control_s, top.time_s - flat.time_s, delta=1.0)
        self.assertEqual(text_of(flat).count("G53 G0 Z0."), text_of(top).count("G53 G0 Z0.") - 2)

    def test_like_places_are_still_proved_once(self):
        made = plan({"stands": [{**TWO, "at_x": -140.0}], "order": "tools", "between": "over"})
        with patch.object(load_program, "_run", wraps=load_program._run) as run:
            load = evaluate(made, plate.DATA, STORE).loads[0]
        self.assertEqual([call.kwargs.get("alike", True) for call in run.call_args_list], [True])
        self.assertTrue(all(place.equal for place in load.places))

    def test_a_stop_between_places_goes_up(self):
        top = report(stands=[TWO], order="tools", stops=True)[1]
        over = report(stands=[TWO], order="tools", stops=True, between="over")[1]
        self.assertEqual(text_of(over), text_of(top))
        self.assertEqual(over.time_s, top.time_s)


class Met(unittest.TestCase):
    def test_what_stands_higher_than_the_top_of_z(self):
        """The bare nose is at zero at Z -526, 114 over the table: a tool 122 long ends 518 over it with Z at
        its top. What stands 524 high is run 6 deep into, what stands 517 high is not.
        """
        tool = next(one for one in plan({}).tools if one.id == "em16")
        self.assertEqual(tool.gauge_length, 122.0)
        for top, deep in ((517.0, None), (524.0, 6.0)):
            for between in ("top", "over"):
                load = with_one_raised(top - ZERO_MM, between=between)
                found = [one for one in load.findings if one.code == "load.way"]
                if deep is None:
                    self.assertEqual(found, [])
                    continue
                self.assertEqual(len(found), 1)
                self.assertAlmostEqual(found[0].measured, -deep, delta=0.05)
                self.assertIn("OP20/1 on the way from OP10/1 to OP10/2", found[0].sentence)

    def test_a_tool_that_lies_along_the_table(self):
        """Turned by 90° the holder lies over the table: what stands 150 in front is in its way, far from the
        tip; what stands behind is not.
        """
        positions = [{"name": "front", "face": turning.faces()["hole"]}]
        hole = {"id": "hole", "name": "hole", "kind": "drilling", "tool": "dr5", "position": "front"}
        hole |= {"faces": [turning.faces()["hole"]]}
        told = turning.document(positions=positions, operations=[hole])
        stand = {"setup": "OP10", "rows": 2, "pitch_y": 150.0}
        told["setups"][0]["load"] = "L1"
        load = evaluate(
            plan_from(told | {"loads": [{"name": "L1", "stands": [stand]}]}), turning.part(), STORE
        ).loads[0]
        found = [one.sentence for one in load.findings if one.code == "load.neighbour"]
        self.assertEqual(len(found), 1, codes(load))
        self.assertIn("of hole at OP10/2 comes", found[0])
        self.assertIn("into what stands at OP10/1", found[0])

    def test_what_all_places_have_in_common(self):
        """Beside the plate another's vise, 80 higher, is there once for all its places: the end mill's holder
        comes into its jaw, 62.5 from its middle, from where the cutter is furthest right, 39.6.
        """
        told = plan({}, pocket()).model_dump(mode="json")
        high = raised(told, 80.0)
        tool = next(one for one in plan({}).tools if one.id == "em16")
        holder = tool.holder.stack[0][1] / 2
        stays = [item["id"] for item in high["hold"]["items"]]
        for gap, severities in ((6.0, []), (1.5, ["warning"]), (-5.0, ["error"])):
            # Planned aside: what is in common stands where it is planned.
            high["hold"]["items"][0]["x"] = 39.6 + holder + gap + 62.5 + self.planned_at(told)
            document = told | {
                "setups": [told["setups"][0], high],
                "loads": [{"name": "L1", "stands": [{"setup": "OP20", "stays": stays}]}],
            }
            load = evaluate(plan_from(document), plate.DATA, STORE).loads[0]
            found = [one for one in load.findings if one.code == "load.neighbour"]
            self.assertEqual([one.severity for one in found], severities, codes(load))
            for one in found:
                self.assertIn("what all places of OP20 have in common", one.sentence)

    @staticmethod
    def planned_at(document: dict) -> float:
        """Where the first thing of a setup's holding stands on the table, along X."""
        return document["setups"][0]["hold"]["items"][0].get("x", 0.0)


if __name__ == "__main__":
    unittest.main()
