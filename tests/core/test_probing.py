"""Probing: what is touched, which axes of which register that sets, and what the program does on work that
does not lie where it should.
"""

from __future__ import annotations

import json
import math
import re
import unittest
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np

from pelvrak.core.engine.engine import Engine, Result, _Within
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.machine.machine import Setter, machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.dialects import dialect_from_json, dialects
from pelvrak.core.program.held import Alarm, Held
from pelvrak.core.program.own_text import OwnText
from pelvrak.core.route.edits import edited
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import FIELD, PROGRAM
from pelvrak.core.route.plan import Plan, plan_from, plan_from_json
from pelvrak.core.route.proving import Seen, apart, proof_given, run_and_cut
from pelvrak.core.route.report import Report, SetupReport
from pelvrak.core.route.running import control_for, work_from_table
from pelvrak.core.route.wrongly import ShortTool, Wrongly, set_up_wrongly
from tests.core import test_removal as plate
from tests.core.in_dialects import written_in

STORE = MemoryStore()


def wall(**about: float) -> dict:
    return plate.face("plane", **about)


def side(axis: int, value: float) -> dict:
    """The plane face square to X or Y at a coordinate of the part."""
    for one in plate.model().part.faces:
        if one.normal and abs(one.normal[axis]) > 0.9 and abs(one.centre[axis] - value) < 1e-6:
            return {"face": one.number, "at": list(one.centre)}
    raise LookupError((axis, value))


def probing(what: str, *faces: dict, **more) -> dict:
    return {
        "id": f"probe-{what}",
        "name": f"Find {what}",
        "kind": "probing",
        "tool": "pr6",
        "what": what,
        "faces": list(faces),
        **more,
    }


def pocket(**more) -> dict:
    """The step along the front."""
    return {"id": "step", "name": "Step", "kind": "pocket", "tool": "em16", "faces": [wall(z=10.0)], **more}


def plan_with(*operations: dict, around: float = 0.0, **setup) -> Plan:
    zeros = [{"name": "found", "offset_register": "G55"}, {"name": "next", "offset_register": "G56"}]
    hold = {**plate.HOLD}
    return plan_from(
        {
            "name": "plate",
            "part": {"file": "plate.step", "sha256": "0" * 64},
            "resolution_mm": 0.5,
            "tools": [
                tool.model_dump() | {"place": {"pr6": 24, "pr2": 23}.get(tool.id, tool.place)}
                for tool in plate.tool_shelf().values()
            ],
            "billet": {
                "kind": "block",
                "sizing": {
                    "rule": "allowance",
                    **dict.fromkeys(plate.SIDES, around),
                    "z_minus": 0,
                    "z_plus": 0,
                },
            },
            "setups": [
                {
                    "name": "OP10",
                    "hold": hold,
                    "seat": {"zeros": zeros},
                    "operations": list(operations),
                    **setup,
                }
            ],
        }
    )


def computed(*operations: dict, **setup) -> tuple[Plan, SetupReport]:
    plan = plan_with(*operations, **setup)
    return plan, evaluate(plan, plate.DATA, STORE).setups[0]


def codes(report) -> list[str]:
    return [one.code for one in report.findings if one.severity != "note"]


def text_of(setup: SetupReport) -> str:
    return Result(setup.program_key, Engine(STORE)).value(PROGRAM)


class Corner(unittest.TestCase):
    """The left and the back wall found, X and Y of G55 set, and the step counted from there."""

    @classmethod
    def setUpClass(cls):
        corner = probing("corner", side(0, 0.0), side(1, 44.0), depth=4.0)
        cls.plan, cls.setup = computed(corner, pocket(offset_register="G55"))
        cls.probe, cls.step = cls.setup.operations

    def test_what_it_sets(self):
        self.assertEqual((self.probe.probe.sets, self.probe.probe.axes), ("G55", ("X", "Y")))
        left, back = self.probe.probe.touches
        np.testing.assert_allclose(left.at[0], 0.0, atol=1e-6)
        np.testing.assert_allclose(back.at[1], 44.0, atol=1e-6)
        self.assertEqual((left.way, back.way), ((1.0, 0.0, 0.0), (0.0, -1.0, 0.0)))
        self.assertEqual(codes(self.probe), [])
        self.assertEqual(self.probe.removed_volume_mm3, 0.0)

    def test_the_program_proves(self):
        self.assertIsNone(self.setup.proof.alarm, self.setup.proof)
        self.assertTrue(self.setup.proof.equal, self.setup.proof)

    def test_work_to_the_left(self):
        """0.7 mm off, the step is where it should be all the same; without the probe it is 0.7 mm off."""
        for how in ({"left": 0.7}, {"back": -0.6}):
            found = set_up_wrongly(self.plan, self.setup, Engine(STORE), Wrongly(**how))
            self.assertLess(found.most_mm, 0.02, how)
        plan, setup = computed(pocket())
        self.assertGreater(set_up_wrongly(plan, setup, Engine(STORE), Wrongly(back=-0.6)).most_mm, 0.5)

    def test_further_off_than_it_may_be(self):
        with self.assertRaisesRegex(Alarm, "stops itself"):
            set_up_wrongly(self.plan, self.setup, Engine(STORE), Wrongly(left=1.4))

    def test_by_hand_where_the_control_cannot(self):
        """A stop with what to do in the plain dialect; the registers stay as they are told."""
        setup = evaluate(written_in(self.plan, "plain"), plate.DATA, STORE).setups[0]
        text = text_of(setup)
        self.assertIn("M0 (PROBE A CORNER FROM G54, SET G55 X Y)", text)
        self.assertNotIn("#", text)
        self.assertTrue(setup.proof.equal)

    def test_with_the_words_of_rs274(self):
        """G38.2 touches; a way down is no touch, because there it would be an alarm to meet nothing."""
        told = dialects()["extended"].model_copy(update={"id": "rs", "probing": "G38.2"})
        setup = evaluate(written_in(self.plan, "rs", told), plate.DATA, STORE).setups[0]
        text = re.sub(r"N\d+ ", "", text_of(setup))
        self.assertIn("G1 Z-7. F1500\nG38.2 X-29. F100\n#101=#5061\n", text)
        self.assertTrue(setup.proof.equal)


def after(
    plan: Plan, setup: SetupReport, left: float, back: float, turned: float = 0.0
) -> tuple[dict[str, dict[str, float]], Control]:
    """What the registers hold after the program ran on work that lies off, mm and degrees about zero."""
    given = proof_given(plan, setup, Engine(STORE))
    lies = rigid(rotation_about_z(turned), np.array([-left, back, 0.0]))
    text = replace(given.text, work_from_table=work_from_table(setup, lies))
    control = control_for(text)
    run_and_cut(replace(given, text=text), _Within(Engine(STORE), "test"), control, Seen())
    return control.held.registers, control


class EachKind(unittest.TestCase):
    """What is set, by hand: register = where it is driven from + where it touched − where that should be."""

    def control(self, lies: tuple[float, float], *operations: dict) -> tuple[Control, SetupReport]:
        """The control after the program ran on work that lies off, to the left and to the back."""
        plan, setup = computed(*operations)
        return after(plan, setup, *lies)[1], setup

    def shifts(self, lies: tuple[float, float], *operations: dict) -> dict[str, float]:
        control, setup = self.control(lies, *operations)
        self.assertEqual([codes(one) for one in setup.operations], [[]] * len(operations))
        held = control.held.registers
        return {axis: held["G55"][axis] - held["G54"][axis] for axis in "XYZ"}

    def test_each(self):
        """Work 0.7 to the left and 0.4 to the back: the axes that are set follow, and no others."""
        for operation, axes in (
            (probing("face", side(0, 0.0)), "X"),
            (probing("face", side(1, 44.0)), "Y"),
            (probing("web", side(0, 0.0), side(0, 60.0)), "X"),
            (probing("corner", side(0, 60.0), side(1, 44.0)), "XY"),
            (probing("top", wall(z=15.0), along=-5.0), "Z"),
        ):
            with self.subTest(operation["what"], axes=axes):
                found = self.shifts((0.7, 0.4), operation)
                wanted = {"X": -0.7, "Y": 0.4, "Z": 0.0}
                for axis in "XYZ":
                    set_to = wanted[axis] if axis in axes else 0.0
                    self.assertAlmostEqual(found[axis], set_to, delta=0.002, msg=axis)

    def test_a_bore_and_walls_that_were_cut_before(self):
        """An opening 20 wide and a bore Ø8 are made, and found by what was made of them; a small ball."""
        bore = plate.face("cylinder", radius=4.0)
        drill = plate.drilling("drill", "dr7_8", bore)
        found = {}
        for lies in ((0.0, 0.0), (0.7, 0.4)):
            _, setup = self.control(lies, drill, probing("bore", bore, tool="pr2", depth=4.0))
            self.assertEqual([codes(one) for one in setup.operations][1], [], setup.operations[1].findings)
            control, _ = self.control(lies, drill, probing("bore", bore, tool="pr2", depth=4.0))
            found[lies] = control.held.registers
        # Drilled from G54 wherever the work lies, it is where the register said.
        for axis in "XY":
            self.assertAlmostEqual(
                found[0.7, 0.4]["G55"][axis], found[0.0, 0.0]["G55"][axis], delta=0.002, msg=axis
            )
            self.assertAlmostEqual(found[0.0, 0.0]["G55"][axis], found[0.0, 0.0]["G54"][axis], delta=0.002)


class Turned(unittest.TestCase):
    """The middle of the ends and the back wall found, then its turn; the step counted from there."""

    def told(self) -> list[dict]:
        return [
            probing("web", side(0, 0.0), side(0, 60.0), depth=4.0, along=8.0),
            probing("face", side(1, 44.0), depth=4.0, along=-12.0),
            probing("angle", side(1, 44.0), depth=4.0),
        ]

    def test_what_it_sets(self):
        _, setup = computed(*self.told(), pocket(offset_register="G55"))
        turn = setup.operations[2].probe
        self.assertEqual((turn.sets, turn.axes), ("G55", ("turn",)))
        # Two thirds of 60 apart, about the middle.
        np.testing.assert_allclose([one.at[0] for one in turn.touches], [10.0, 50.0], atol=1e-6)
        np.testing.assert_allclose([one.at[1] for one in turn.touches], 44.0, atol=1e-6)
        for one in setup.operations:
            self.assertEqual(codes(one), [], one.name)
        self.assertTrue(setup.proof.equal, setup.proof)
        text = re.sub(r"N\d+ ", "", text_of(setup))
        self.assertIn("#151=ATAN[#102-#101]/[40.]\n", text)
        # About where they were found, as G55 counts; off again before anything else.
        self.assertIn("\nG55\nG68 X-12. Y8. R[#151]\n", text)
        self.assertLess(text.index("G68 X"), text.index("G69"))

    def test_work_turned(self):
        """By 0.5° about zero, and off along both: with the turn the step is where it should be, without it is
        not; other walls say the same turn.
        """
        lies = Wrongly(left=0.3, back=0.2, turned=0.5)
        for face, apart_mm in ((side(1, 44.0), 40.0), (side(0, 60.0), 30.0), (side(0, 0.0), 20.0)):
            told = [*self.told()[:2], probing("angle", face, depth=4.0, apart=apart_mm)]
            plan, setup = computed(*told, pocket(offset_register="G55"))
            found = set_up_wrongly(plan, setup, Engine(STORE), lies)
            self.assertLess(found.most_mm, 0.02, face)
            _, control = after(plan, setup, 0.3, 0.2, 0.5)
            self.assertAlmostEqual(control.variables.value(151), 0.5, delta=0.01, msg=face)
        plan, setup = computed(*self.told()[:2], pocket(offset_register="G55"))
        self.assertGreater(set_up_wrongly(plan, setup, Engine(STORE), lies).most_mm, 0.15)

    def test_turned_too_far(self):
        """40 apart, 1.6° is 1.1 deeper: more than 1."""
        plan, setup = computed(*self.told(), pocket(offset_register="G55"))
        with self.assertRaisesRegex(Alarm, "stops itself"):
            set_up_wrongly(plan, setup, Engine(STORE), Wrongly(turned=1.6))

    def test_what_it_is_not_found_by(self):
        """Its own register, a wall that is cut later in part, a ball afterwards in the turned one."""
        for told, code in (
            ([probing("angle", side(1, 44.0), sets="G54")], "probe.own_register"),
            ([probing("angle", side(1, 44.0), apart=70.0)], "probe.nothing_there"),
            (
                [*self.told(), probing("top", wall(z=15.0), sets="G56", offset_register="G55")],
                "probe.in_turned",
            ),
        ):
            _, setup = computed(*told)
            self.assertIn(code, codes(setup.operations[-1]) + codes(setup), code)

    def test_where_the_control_cannot(self):
        """By hand where it has no probe; told where it has one and cannot turn what it counts."""
        plan = plan_with(*self.told(), pocket(offset_register="G55"))
        setup = evaluate(written_in(plan, "plain"), plate.DATA, STORE).setups[0]
        text = text_of(setup)
        self.assertIn("M0 (PROBE THE TURN OF A WALL IN G54, TURN THE WORK UNTIL IT IS SQUARE)", text)
        self.assertNotIn("G68", text)
        told = dialects()["extended"].model_copy(update={"id": "flat", "rotation": False})
        setup = evaluate(written_in(plan, "flat", told), plate.DATA, STORE).setups[0]
        self.assertIn("program.dialect", codes(setup))


def called() -> Dialect:
    """The dialect of the demo: touching cycles of the control's own."""
    return plan_from_json((LATCH / "plan.json").read_bytes()).dialects[0]


class OwnCycles(unittest.TestCase):
    """Cycles that the control is told to run: they set what the same moves written out set."""

    def test_each_as_written_out(self):
        bore = plate.face("cylinder", radius=4.0)
        drill = plate.drilling("drill", "dr7_8", bore)
        for told in (
            [probing("face", side(0, 0.0))],
            [probing("face", side(0, 60.0))],
            [probing("face", side(1, 44.0), along=7.0)],
            [probing("web", side(0, 60.0), side(0, 0.0))],
            [probing("top", wall(z=15.0), along=-5.0)],
            [drill, probing("bore", bore, tool="pr2", depth=4.0)],
        ):
            plan = plan_with(*told)
            held, texts = [], []
            for dialect, own in (("extended", ()), ("touching", (called(),))):
                now = written_in(plan, dialect, *own)
                setup = evaluate(now, plate.DATA, STORE).setups[0]
                self.assertTrue(setup.proof.equal, setup.proof)
                texts.append(text_of(setup))
                held.append(after(now, setup, 0.7, 0.4)[0]["G55"])
            self.assertIn("G31", texts[0])
            self.assertNotIn("G31", texts[1])
            self.assertEqual(texts[1].count("G65 P97"), 1)
            for axis in "XYZ":
                self.assertAlmostEqual(held[0][axis], held[1][axis], delta=0.002, msg=(told, axis))

    def test_a_boss_and_two_walls(self):
        """Against closed forms: a boss of Ø30 that lies 0.3, -0.2 off, an opening of 40 that lies 0.5 off."""

        def boss(_: int, start: tuple[float, ...], end: tuple[float, ...]) -> float | None:
            a, b = (np.array(at[:2]) - [10.3, 19.8] for at in (start, end))
            return meets(a, b - a, 15.0 + 3.0)

        def opening(_: int, start: tuple[float, ...], end: tuple[float, ...]) -> float | None:
            if start[1] == end[1]:
                return None
            shares = [(wall_ - start[1]) / (end[1] - start[1]) for wall_ in (20.5 - 17.0, 20.5 + 17.0)]
            return next((one for one in shares if 0 <= one <= 1), None)

        names = {"X": 10.0, "Y": 20.0, "Z": -5.0, "BALL": 3.0, "APPROACH": 4.0, "BEYOND": 4.0, "FEED": 100}
        names |= {
            "WAYFEED": 1500,
            "OVER": 10.0,
            "STOPS": 1.0,
            "L": 2,
            "P": 2,
            "V": 5221,
            "SX": 10.0,
            "SY": 20.0,
        }
        for what, touch, more, wanted in (
            ("boss", boss, {"SIZE": 30.0}, (0.3, -0.2)),
            ("walls", opening, {"SIZE": 40.0, "WX": 0, "WY": 1}, (0.0, 0.5)),
        ):
            line = called().call_of(what).format_map({k: f"{v:g}" for k, v in (names | more).items()})
            held = Held({"G54": {}, "G55": {"X": 0.0, "Y": 0.0}}, {}, beside=("\n".join(called().programs),))
            control = Control(held, touch=touch)
            control.run(f"G90 G54\nT1 M6\nG0 X-20 Y20 Z10\n{line}\nM30")
            for axis, value in zip("XY", wanted, strict=True):
                self.assertAlmostEqual(control.held.registers["G55"][axis], value, places=6, msg=what)
            # It goes up again to where it came from.
            self.assertEqual(control.at["Z"], 10.0)

    def test_what_a_control_is_not_told(self):
        told = called()
        plan = plan_with(probing("face", side(0, 0.0)))
        bare = told.model_copy(update={"programs": ()})
        setup = evaluate(written_in(plan, "touching", bare), plate.DATA, STORE).setups[0]
        self.assertIn("no program O9715", setup.proof.alarm)
        asks = told.model_copy(update={"calls": ("FACE: G65 P9715 D{SIZE}",)})
        setup = evaluate(written_in(plan, "touching", asks), plate.DATA, STORE).setups[0]
        self.assertIn("program.dialect", codes(setup))
        for calls, said in (
            (("FACE: G65 P1 X{ACROSS}",), "{ACROSS} is no number"),
            (("FACE: G65 P1", "FACE: G65 P2"), "two cycles for FACE"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                dialect_from_json(json.dumps(told.model_dump(mode="json") | {"calls": calls}), "d.json")


def meets(start: np.ndarray, way: np.ndarray, radius: float) -> float | None:
    """Where a straight way first comes into a circle about zero, as a share."""
    a, b, c = way @ way, 2 * start @ way, start @ start - radius**2
    root = b * b - 4 * a * c
    if a == 0 or root < 0:
        return None
    share = (-b - math.sqrt(root)) / (2 * a)
    return float(share) if 0 <= share <= 1 else None


class Measured(unittest.TestCase):
    """A bore's size after it was cut, by hand: what lies between the touches and the ball."""

    def measured(self, *before: dict, **told) -> SetupReport:
        bore = plate.face("cylinder", radius=4.0)
        one = {
            "id": "m",
            "name": "Measure",
            "kind": "measuring",
            "tool": "pr2",
            "faces": [bore],
            "depth": 4.0,
        }
        return computed(*before, one | told)[1]

    def setUp(self):
        self.bore = plate.face("cylinder", radius=4.0)
        self.drill = plate.drilling("drill", "dr7_8", self.bore)
        self.ream = plate.drilling("ream", "rm8", self.bore)

    def test_within_its_limits(self):
        setup = self.measured(self.drill, self.ream, lower=-0.02, upper=0.02)
        self.assertEqual(codes(setup.operations[2]), [])
        self.assertTrue(setup.proof.equal, setup.proof)
        text = re.sub(r"N\d+ ", "", text_of(setup))
        self.assertIn("#131=ABS[#102-#101]+2.\n", text)
        self.assertIn("IF [#132 GT 8.02] THEN #3000=2 (A BORE IS OUTSIDE ITS LIMITS)", text)

    def test_outside(self):
        """Drilled only, it is Ø7.8: told beforehand, and the program stops there; or goes on where it may."""
        setup = self.measured(self.drill)
        found = [one for one in setup.operations[1].findings if one.code == "probe.out_of_limits"]
        self.assertEqual([one.severity for one in found], ["warning", "warning"])
        for one in found:
            self.assertAlmostEqual(one.measured, 7.8, delta=0.02)
        self.assertIn("alarm 2", setup.proof.alarm)
        self.assertTrue(self.measured(self.drill, then="go on").proof.equal)
        with self.assertRaisesRegex(BadInput, "not under its upper"):
            self.measured(self.drill, lower=0.1, upper=0.0)

    def test_wear_is_corrected(self):
        """The cutter is 0.06 thinner than told: a web left 0.4 too wide is 0.52, told as 0.06 of wear less,
        and the pass that finishes it is right.
        """
        outline = {
            "id": "o",
            "name": "Outline",
            "kind": "outline",
            "tool": "em16",
            "bottom": wall(z=10.0),
            "compensation": "wear",
            "step_down": 20,
        }
        ends = [side(0, 0.0), side(0, 60.0)]
        one = {
            "id": "m",
            "name": "Measure",
            "kind": "measuring",
            "tool": "pr2",
            "what": "web",
            "faces": ends,
            "depth": 3.0,
            "then": "wear",
            "lower": 0.35,
            "upper": 0.45,
            "corrects": "em16",
        }
        # A skin thinner than the rays' distance is finished like any.
        rough, again = {**outline, "leave": 0.2}, {**outline, "id": "o2", "name": "Again"}
        plan, setup = computed(rough, one, again, around=1.0)
        self.assertTrue(setup.proof.equal, setup.proof)
        place = next(tool.place for tool in plan.tools if tool.id == "em16")
        given = proof_given(plan, setup, Engine(STORE))
        text = replace(given.text, radii=((place, 0.06),))
        control = control_for(text)
        reads = _Within(Engine(STORE), "test")
        _, stock, _ = run_and_cut(replace(given, text=text), reads, control, Seen())
        self.assertAlmostEqual(control.held.radii[place], 0.0, delta=0.003)
        most, _ = apart(stock, reads.read(given.wanted, FIELD))
        self.assertLess(most, 0.01)
        _, told = computed(rough, {**one, "corrects": None}, around=1.0)
        self.assertIn("probe.no_tool", [f.code for o in told.operations for f in o.findings])

    def test_by_hand(self):
        self.measured(self.drill, self.ream)
        setup = evaluate(
            written_in(plan_with(self.drill, self.ream, self.told()), "strict"), plate.DATA, STORE
        )
        self.assertIn("(MEASURE A BORE, 7.950 TO 8.050)", text_of(setup.setups[0]))

    def told(self) -> dict:
        return {
            "id": "m",
            "name": "Measure",
            "kind": "measuring",
            "tool": "pr2",
            "faces": [self.bore],
            "depth": 4.0,
        }


LATCH = Path(__file__).resolve().parents[2] / "demo" / "latch-plate"
LATCH_DATA = (LATCH / "latch-plate.step").read_bytes()


@cache
def latch() -> tuple[Plan, Report]:
    """The demo that is probed, and what it comes to."""
    plan = plan_from_json((LATCH / "plan.json").read_bytes())
    return plan, evaluate(plan, LATCH_DATA, STORE)


class Chain(unittest.TestCase):
    """The demo: the fixed jaw says Y and Z, from there the middle of the ends, from that the bore."""

    @classmethod
    def setUpClass(cls):
        cls.plan, cls.report = latch()
        cls.second = cls.report.setups[1]

    def test_nothing_is_wrong_with_it(self):
        for setup in self.report.setups:
            found = [*setup.findings, *(one for each in setup.operations for one in each.findings)]
            self.assertEqual([one.code for one in found if one.severity != "note"], [])
            self.assertTrue(setup.proof.equal)
        rows = {row.register_name: (row.found, row.state, row.set_by) for row in self.second.offsets}
        self.assertEqual(rows["G54"], ("fixed point", "known", ()))
        self.assertEqual(rows["G55"], ("probe", "to be found", ("Find the ends",)))
        self.assertEqual(rows["G56"], ("probe", "to be found", ("Find the bore",)))

    def test_work_anywhere_along_the_jaws(self):
        """Each register as by hand: the ends set X alone, the bore X and Y; the cuts are where they should
        be.
        """
        nominal, _ = after(self.plan, self.second, 0.0, 0.0)
        for off in (0.7, -0.8):
            found = set_up_wrongly(self.plan, self.second, Engine(STORE), Wrongly(left=off))
            self.assertTrue(found.equal, found)
            registers, _ = after(self.plan, self.second, off, 0.0)
            for name, axes in (("G54", ""), ("G55", "X"), ("G56", "X")):
                for axis in "XYZ":
                    moved = -off if axis in axes else 0.0
                    self.assertAlmostEqual(
                        registers[name][axis] - nominal[name][axis], moved, delta=0.002, msg=(name, axis)
                    )
        # Off the jaw, too: faced from the jaw all the same, and the bore says where it is.
        registers, _ = after(self.plan, self.second, 0.7, 0.4)
        self.assertAlmostEqual(registers["G55"]["Y"], nominal["G55"]["Y"], places=6)
        self.assertAlmostEqual(registers["G56"]["Y"] - nominal["G56"]["Y"], 0.4, delta=0.002)

    def test_work_turned(self):
        """By 0.2° about zero: the bore's middle lies where the turn takes it, x·cos − y·sin."""
        nominal, _ = after(self.plan, self.second, 0.0, 0.0)
        registers, _ = after(self.plan, self.second, 0.0, 0.0, 0.2)
        x, y = (nominal["G56"][axis] - nominal["G54"][axis] for axis in "XY")
        turn = math.radians(0.2)
        there = x * math.cos(turn) - y * math.sin(turn), x * math.sin(turn) + y * math.cos(turn)
        for axis, at in zip("XY", there, strict=True):
            self.assertAlmostEqual(registers["G56"][axis] - nominal["G54"][axis], at, delta=0.005, msg=axis)


class Foreign(unittest.TestCase):
    def test_a_text_from_elsewhere_probes_the_stock_as_it_comes_in(self):
        """The demo's second program as a file: it leaves what the operations leave."""
        demo, planned = latch()
        written = text_of(planned.setups[1])
        own = OwnText(file="op20.nc")
        second = demo.setups[1].model_copy(update={"operations": (), "text": own})
        plan = plan_from(demo.model_copy(update={"setups": (demo.setups[0], second)}).model_dump(mode="json"))
        report = evaluate(plan, LATCH_DATA, STORE, files=lambda sha, name: written.encode())
        setup = report.setups[1]
        self.assertEqual([one.code for one in setup.findings if one.severity == "error"], [])
        field = lambda key: Result(key, Engine(STORE)).value(FIELD)  # noqa: E731
        most, _ = apart(field(setup.outgoing_key), field(planned.setups[1].outgoing_key))
        self.assertLess(most, 0.01)
        probes = [one for one in setup.operations if "Probe" in one.tool_name]
        self.assertEqual([one.removed_volume_mm3 for one in probes], [0.0, 0.0])
        for one in setup.operations:
            self.assertEqual(codes(one), [], one.name)


class Circle(unittest.TestCase):
    """The middle of a bore from two, three and four points, on work 0.7 off along X and 0.4 along Y."""

    def test_each(self):
        demo, _ = latch()
        first, second = demo.setups
        for points, axes in (("four", "XY"), ("three", "XY"), ("two", "X")):
            probe = second.operations[2].model_copy(update={"points": points})
            only = second.model_copy(update={"operations": (*second.operations[:2], probe)})
            plan = demo.model_copy(update={"setups": (first, only)})
            setup = evaluate(plan, LATCH_DATA, STORE).setups[1]
            self.assertEqual(codes(setup.operations[2]), [], points)
            nominal, _ = after(plan, setup, 0.0, 0.0)
            held, _ = after(plan, setup, 0.7, 0.4)
            for axis, wanted in (("X", -0.7), ("Y", 0.4)):
                found, set_to = held["G56"][axis] - nominal["G56"][axis], wanted if axis in axes else 0.0
                # As near as the bore is drawn from its rays.
                self.assertAlmostEqual(found, set_to, delta=0.01, msg=(points, axis))


class ToolsSet(unittest.TestCase):
    """Each tool touched on the setter before anything is cut; a length in the table that was wrong is right
    then.
    """

    def plan(self, setter: bool, at: tuple[float, float, float] = (700.0, 380.0, 60.0)) -> Plan:
        machine = machine_of("vertical-760")
        mine = machine.model_copy(update={"id": "mine", "setter": Setter(at=at) if setter else None})
        told = plan_with(pocket(), plate.drilling("drill", "dr7_8", plate.face("cylinder", radius=4.0)))
        setup = told.setups[0].model_copy(update={"machine": "mine", "set_tools": True})
        return told.model_copy(update={"machines": (mine,), "setups": (setup,)})

    def test_lengths_are_as_long_as_the_tools(self):
        plan = self.plan(True)
        setup = evaluate(plan, plate.DATA, STORE).setups[0]
        self.assertTrue(setup.proof.equal, setup.proof)
        tools = {one.place: one for one in plan.tools if one.id in ("em16", "dr7_8")}
        for number in tools:
            found = set_up_wrongly(
                plan, setup, Engine(STORE), Wrongly(short=(ShortTool(number=number, by=0.4),))
            )
            self.assertLess(found.most_mm, 0.002)
        given = proof_given(plan, setup, Engine(STORE))
        text = replace(given.text, short=tuple((number, 0.4) for number in tools))
        control = control_for(text)
        run_and_cut(replace(given, text=text), _Within(Engine(STORE), "test"), control, Seen())
        for number, tool in tools.items():
            self.assertAlmostEqual(control.held.lengths[number], tool.gauge_length, places=2)
        # It takes its time, in the plan as by the control.
        without = evaluate(
            plan.model_copy(update={"setups": (plan.setups[0].model_copy(update={"set_tools": False}),)}),
            plate.DATA,
            STORE,
        ).setups[0]
        self.assertGreater(setup.time_s - without.time_s, 10.0)
        by_control = setup.proof.time_s - without.proof.time_s
        self.assertAlmostEqual((setup.time_s - without.time_s) / by_control, 1.0, delta=0.25)

    def test_what_stands_in_the_way(self):
        """A setter 30 under the top of the work: within it the cutter comes through all of its 15; beside it,
        over the jaw, into that alone; far from both it is free.
        """
        usual = evaluate(self.plan(True), plate.DATA, STORE).setups[0]
        zero, top = np.array(usual.hold.zero_on_table), usual.high[2]
        for off, met in (((-20.0, 0.0), {"work"}), ((0.0, 35.0), {"jaw"}), ((-250.0, 0.0), set())):
            at = tuple((zero + [*off, top - 30.0]).tolist())
            setup = evaluate(self.plan(True, at), plate.DATA, STORE).setups[0]
            found = [one for one in setup.findings if one.code == "program.setter_blocked"]
            into = {one.sentence.rsplit(" ", 1)[1].rstrip("."): one.measured for one in found}
            self.assertEqual(set(into), {"holding" if one == "jaw" else one for one in met}, off)
            if "work" in into:
                self.assertAlmostEqual(into["work"], 15.0, delta=0.01)

    def test_where_there_is_none(self):
        setup = evaluate(self.plan(False), plate.DATA, STORE).setups[0]
        (found,) = [one for one in setup.findings if one.code == "program.no_setter"]
        document = edited(self.plan(False).model_dump(mode="json"), found.cures[0].edits)
        self.assertFalse(plan_from(document).setups[0].set_tools)

    def test_by_hand(self):
        setup = evaluate(written_in(self.plan(True), "plain"), plate.DATA, STORE).setups[0]
        self.assertIn("M0 (SET H2 ON THE SETTER)", text_of(setup))


class Refused(unittest.TestCase):
    def told(self, *operations: dict, **setup) -> dict[str, str]:
        _, report = computed(*operations, **setup)
        found = [*report.findings, *(one for o in report.operations for one in o.findings)]
        return {one.code: one.sentence for one in found if one.severity == "error"}

    def test_what_is_no_such_thing(self):
        left, back, top = side(0, 0.0), side(1, 44.0), wall(z=15.0)
        bore = plate.face("cylinder", radius=4.0)
        for operation, code in (
            (probing("face", top), "probe.not_a_wall"),
            (probing("face", bore), "probe.slanting"),
            (probing("walls", left, side(0, 60.0)), "probe.no_pair"),
            (probing("web", left, back), "probe.no_pair"),
            (probing("corner", left, side(0, 60.0)), "probe.no_corner"),
            (probing("boss", bore), "probe.not_round"),
            (probing("top", left), "probe.not_up"),
            (probing("face", left, back), "probe.faces"),
            (probing("bore", plate.face("cylinder", radius=2.5)), "probe.ball_too_big"),
            (probing("face", left, sets="G54"), "probe.own_register"),
        ):
            with self.subTest(operation["what"], code=code):
                self.assertIn(code, self.told(operation))
        with self.assertRaisesRegex(BadInput, "would pass for one that is off"):
            computed(probing("face", left, beyond=2.0))

    def test_what_the_stock_has_not(self):
        """A bore that is not drilled yet; a touch where the step was cut away; one past the corner."""
        bore = plate.face("cylinder", radius=4.0)
        early = self.told(probing("bore", bore, tool="pr2"))
        self.assertIn("not there yet", early["probe.nothing_there"])
        # The left wall at the front went with the step, 1.5 deep; before that it was there.
        left = side(0, 0.0)
        self.assertEqual(self.told(probing("face", left, along=-20.0, depth=1.5)), {})
        cut = self.told(pocket(), probing("face", left, along=-20.0, depth=1.5))
        self.assertIn("meets nothing", cut["probe.nothing_there"])
        past = self.told(probing("face", left, along=-26.0))
        self.assertIn("probe.nothing_there", past)

    def test_over_a_hole(self):
        """On top over a bore of Ø5 the ball sinks in by 3 − √(3² − 2.5²); beside it, it does not."""
        top, drilled = wall(z=15.0), plate.drilling("drill", "dr5", plate.face("cylinder", radius=2.5))
        # The top's middle to the bore's, along X and Y of the part.
        away = 26.0 - top["at"][0], 26.0 - top["at"][1]
        self.assertLess(abs(away[1]), 1.5)
        _, report = computed(drilled, probing("top", top, along=away[0]))
        (found,) = [one for one in report.operations[1].findings if one.code == "probe.elsewhere"]
        deep = 3.0 - math.sqrt(9.0 - 2.5**2)
        self.assertLess(found.measured, deep + 0.02)
        self.assertGreater(found.measured, 0.3)
        self.assertEqual(self.told(drilled, probing("top", top, along=away[0] + 6.0)), {})

    def test_used_before_it_is_set(self):
        found = self.told(pocket(offset_register="G55"), probing("face", side(0, 60.0)))
        self.assertIn("that comes only with Find face", found["offsets.used_before_found"])
        chain = self.told(
            probing("face", side(0, 60.0), offset_register="G56"),
            {**probing("web", side(0, 0.0), side(0, 60.0), sets="G56")},
        )
        self.assertIn("offsets.used_before_found", chain)


if __name__ == "__main__":
    unittest.main()
