"""Several works on the machine at once: where they stand, which registers they have, what meets what, and one
program that leaves at every place what was planned.
"""

from __future__ import annotations

import json
import re
import unittest
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace
from functools import cache
from io import StringIO
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

import numpy as np
from pygcode import Line as ParsedLine

from pelvrak.cli import main
from pelvrak.core.engine.engine import Engine, Result, _Within
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, to_solid
from pelvrak.core.load.load import Load, places_of
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.dialects import dialects
from pelvrak.core.program.held import Held
from pelvrak.core.route.evaluate import Beside, evaluate
from pelvrak.core.route.load_program import PROVE_LOAD, proof_given_for
from pelvrak.core.route.load_report import LoadReport
from pelvrak.core.route.pieces import FIELD, PROGRAM, PROOF, SURFACE
from pelvrak.core.route.plan import Plan, load_numbers, numbers_taken, plan_from
from pelvrak.core.route.report import Report
from pelvrak.core.stock.cut import cut
from pelvrak.core.stock.field import bundle_volumes
from tests.core import test_removal as plate
from tests.core import test_turning as turning
from tests.core.in_dialects import written_in
from tests.core.test_probing import plan_with, pocket, probing, side

STORE = MemoryStore()
GUEST = {"name": "P", "plan": "other.json", "setup": "OP10", "at_x": 260.0}
# Two vises on the table of 900, away from its edges.
TWO = {"setup": "OP10", "at_x": -150.0, "columns": 2, "pitch_x": 260.0}


def plan(load: dict, *operations: dict, **more) -> Plan:
    """The plate with its step and its bore in a load."""
    told = operations or (pocket(), plate.drilling("drill", "dr7_8", plate.face("cylinder", radius=4.0)))
    base = plan_with(*told, load="L1", **more).model_dump(mode="json")
    # Zeros that nothing counts from keep no registers.
    if not operations:
        base["setups"][0]["seat"]["zeros"] = []
    return plan_from(base | {"loads": [{"name": "L1", **load}]})


def raised(document: dict, by: float) -> dict:
    """A second setup like the first of a plan, standing higher by so much, mm, in which nothing is cut."""
    high = json.loads(json.dumps(document["setups"][0])) | {"name": "OP20", "operations": []}
    high |= {"offset_register": "G57", "seat": high["seat"] | {"zeros": []}}
    for item in high["hold"]["items"]:
        if item["on"] == "table":
            item["z"] = item.get("z", 0.0) + by
    return high


@cache
def computed(text: str) -> Report:
    return evaluate(plan(json.loads(text)), plate.DATA, STORE)


def report(**load) -> tuple[Report, LoadReport]:
    made = computed(json.dumps(load))
    return made, made.loads[0]


def text_of(told: LoadReport) -> str:
    return Result(told.program_key, Engine(STORE)).value(PROGRAM)


def codes(told: LoadReport) -> list[str]:
    return [one.code for one in told.findings]


def cuts_by_register(text: str) -> dict[str, list[str]]:
    """The cutting blocks of a program by the register in force, as pygcode writes their words; subprograms
    unrolled, numbers and feeds with them, rapids and what is said in brackets left out.
    """
    programs: dict[int, list[str]] = {}
    for line in text.splitlines():
        if head := re.match(r"O(\d+)", line):
            programs[int(head[1])] = []
        elif programs:
            programs[list(programs)[-1]].append(line)

    def unrolled(number: int):
        for line in programs[number]:
            called = re.search(r"M98 P(\d+)", line)
            if called:
                yield from unrolled(int(called[1]))
            elif not re.search(r"M99\b", line):
                yield line

    out: dict[str, list[str]] = {}
    motion, register = "G00", "?"
    for line in unrolled(next(iter(programs))):
        words = [str(word) for word in ParsedLine(line.replace("%", "")).block.words]
        register = next((word for word in words if re.match(r"G5[4-9]", word)), register)
        motion = next((word for word in words if re.match(r"G(0[0-3]|7[34]|8\d)$", word)), motion)
        moves = any(word[0] in "XYZ" for word in words)
        if moves and motion not in ("G00", "G80") and "G53" not in words:
            told = [word for word in words if word[0] in "XYZIJRQF"]
            out.setdefault(register, []).append(" ".join([motion, *told]))
    return out


class Pattern(unittest.TestCase):
    def test_rows_and_columns(self):
        """3 × 3 to 5 × 4 in closed form, with one place left empty and one moved."""
        for columns, rows in ((3, 3), (4, 3), (5, 4)):
            load = Load.model_validate(
                {
                    "name": "L1",
                    "stands": [
                        {
                            "setup": "OP10",
                            "at_x": 5,
                            "columns": columns,
                            "rows": rows,
                            "pitch_x": 70,
                            "pitch_y": 55.5,
                            "different": [{"place": 2, "empty": True}, {"place": columns + 1, "by_x": 1.5}],
                        }
                    ],
                }
            )
            places = places_of(load, ("OP10", "OP20"))
            self.assertEqual(len(places), columns * rows - 1 + 1)
            for one in places[:-1]:
                row, column = divmod(one.number - 1, columns)
                more = 1.5 if one.number == columns + 1 else 0.0
                self.assertEqual(one.at, (5 + 70 * column + more, 55.5 * row))
            # What is not told of stands once, as it is planned.
            self.assertEqual((places[-1].key, places[-1].at), ("OP20/1", (0.0, 0.0)))

    def test_no_subprogram_has_a_load_s_number(self):
        """A load is numbered by its name, or the next that no setup has; both are taken."""
        told = plan({}).model_copy(update={"loads": (Load(name="L10"), Load(name="L7"))})
        self.assertEqual(load_numbers(told), {"L10": 11, "L7": 7})
        self.assertEqual(numbers_taken(told), {10, 11, 7})

    def test_what_cannot_be(self):
        for stand, said in (
            ({"setup": "OP10", "columns": 2}, "want a pitch"),
            ({"setup": "OP77"}, "no such setup"),
            ({"setup": "OP10", "different": [{"place": 1, "left_out": ["x"]}]}, "no operation 'x'"),
            ({"setup": "OP10", "different": [{"place": 1}, {"place": 1}]}, "told twice"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                plan({"stands": [stand]})


class TwoVises(unittest.TestCase):
    """Two like works: registers, stock and program."""

    @classmethod
    def setUpClass(cls):
        cls.report, cls.load = report(stands=[TWO], order="tools", lot=12)
        cls.setup = cls.report.setups[0]

    def test_where_they_stand(self):
        """The second 260 along X: its register is that of the setup 260 on, by hand."""
        one, two = self.load.places
        self.assertEqual((one.registers[0].register_name, two.registers[0].register_name), ("G54", "G55"))
        own = np.array([value.value for value in self.setup.register_value])
        for place, shift in ((one, -150.0), (two, 110.0)):
            found = np.array([value.value for value in place.registers[0].value])
            np.testing.assert_allclose(found - own, [shift, 0.0, 0.0], atol=1e-6)
        self.assertEqual((one.like, two.like), (None, "OP10/1"))
        self.assertNotIn("error", [one.severity for one in self.load.findings])

    def test_the_stock_of_each_is_that_of_the_setup_alone(self):
        alone = evaluate(plan_from(self.alone()), plate.DATA, STORE)
        self.assertEqual(alone.setups[0].outgoing_key, self.setup.outgoing_key)
        for place in self.load.places:
            self.assertTrue(place.equal, place)
            self.assertLess(place.most_mm, 0.001)

    def alone(self) -> dict:
        told = plan({"stands": [TWO]}).model_dump(mode="json")
        told["setups"][0]["load"] = ""
        return told | {"loads": []}

    def test_each_tool_round(self):
        """Two changes instead of four, and the seconds that saves; nothing of a place comes too early."""
        self.assertEqual([step.tool for step in self.load.order], [2, 2, 12, 12])
        self.assertEqual(self.load.changes, 2)
        change = machine_of("vertical-760").changer.seconds
        self.assertGreater(self.load.places_s - self.load.tools_s, 2 * change - 1)
        self.assertEqual(self.load.time_s, self.load.tools_s)
        self.assertAlmostEqual(self.load.control_s / self.load.time_s, 1.0, delta=0.2)

    def test_what_a_cycle_gives(self):
        self.assertEqual((self.load.finished, self.load.cycles), (2, 6))
        each = (self.load.time_s + 2 * 60.0) / 60 / 2
        self.assertAlmostEqual(self.load.minutes_each, each, places=2)
        self.assertAlmostEqual(self.load.per_hour, 60 / each, delta=0.02)
        _, built = report(stands=[TWO], order="tools", lot=12, setup_min=30.0)
        self.assertAlmostEqual(built.minutes_each, each + 30 / 12, places=2)

    def test_one_program_by_subprogram(self):
        """Called once for each place after its register; unrolled, every move is one of the setup's own
        program, counted from the place's register.
        """
        text = text_of(self.load)
        self.assertEqual(text.count("M98 P101"), 2)
        self.assertEqual(len(re.findall(r"^O0101$", text, re.MULTILINE)), 1)
        written = Result(self.setup.program_key, Engine(STORE)).value(PROGRAM)
        held = {name: {"X": 0.0, "Y": 0.0, "Z": -100.0} for name in ("G54", "G55")}
        lengths = {tool.place: 50.0 for tool in plan({}).tools}

        def told(text: str, register: str) -> list[tuple]:
            control = Control(Held(held, lengths), machine=machine_of("vertical-760"))
            return [
                (one.kind, one.told, one.feed, one.tool)
                for one in control.run(text)
                if one.register == register and one.end[2] < 0
            ]

        alone = told(written, "G54")
        self.assertGreater(len(alone), 20)
        self.assertEqual(told(text, "G54"), alone)
        self.assertEqual(told(text, "G55"), alone)

    def test_unrolled_by_a_general_purpose_parser(self):
        """The words of both programs by pygcode, subprograms put in where they are called (ISO 6983-1 has
        none; M98 P and M99 as most controls do): at each place the cuts of the setup's own program, word for
        word and in its order.
        """
        alone = cuts_by_register(Result(self.setup.program_key, Engine(STORE)).value(PROGRAM))
        self.assertEqual(list(alone), ["G54"])
        self.assertGreater(len(alone["G54"]), 10)
        for kind in ("places", "tools", "fastest"):
            _, load = report(stands=[TWO], order=kind)
            together = cuts_by_register(text_of(load))
            self.assertEqual(sorted(together), ["G54", "G55"])
            for register, cuts in together.items():
                self.assertEqual(cuts, alone["G54"], (kind, register))

    def test_too_many_orders(self):
        """The better of two, and told."""
        with patch("pelvrak.core.load.order.MOST_WAYS", 3):
            load = evaluate(plan({"stands": [TWO], "order": "fastest"}), plate.DATA, STORE).loads[0]
        self.assertIn("load.orders", codes(load))
        self.assertIsNone(load.fastest_s)
        self.assertEqual(load.time_s, min(load.tools_s, load.places_s))

    def test_what_stands_on_the_table(self):
        """One more place weighs its work, of the density told, and its vise, jaws and parallels as of steel,
        by manifold3d. A table that takes less says so.
        """
        _, one = report(stands=[{"setup": "OP10"}])
        surface = Result(self.setup.hold.key, Engine(STORE)).value(SURFACE)
        own = [n for n, p in enumerate(self.setup.hold.pieces) if p.item not in ("table", "machine")]
        steel = sum(
            to_solid(Mesh(surface.vertices, t := surface.triangles[surface.label == n], t[:, 0] * 0)).volume()
            for n in own
        )
        wanted = self.setup.incoming_mass_kg + 7.85e-6 * steel
        self.assertAlmostEqual(one.mass_kg, wanted, delta=0.02)
        self.assertAlmostEqual(self.load.mass_kg, 2 * wanted, delta=0.03)
        self.assertNotIn("load.too_heavy", codes(self.load))
        heavy = plan({"stands": [TWO]}).model_dump(mode="json")
        weak = machine_of("vertical-760").model_dump(mode="json")
        weak["table"]["load_kg"] = 20
        heavy["machines"] = [weak]
        (told,) = [
            found
            for found in evaluate(plan_from(heavy), plate.DATA, STORE).loads[0].findings
            if found.code == "load.too_heavy"
        ]
        self.assertEqual((told.limit, told.severity), (20, "error"))
        self.assertAlmostEqual(told.measured, 2 * wanted, delta=0.1)

    def test_stops_and_a_counter(self):
        _, load = report(stands=[TWO], stops=True, counts=True, order="tools")
        text = text_of(load)
        self.assertEqual(text.count("M1 (PLACE"), 2)
        self.assertIn("#500=#500+1\n", text)
        self.assertIsNone(load.alarm)

    def test_written_out(self):
        _, load = report(stands=[TWO], subprograms=False)
        self.assertNotIn("M98", text_of(load))
        self.assertEqual([place.equal for place in load.places], [True, True])
        self.assertEqual([step.place for step in load.order], ["OP10/1"] * 2 + ["OP10/2"] * 2)
        made = evaluate(written_in(plan({"stands": [TWO]}), "plain"), plate.DATA, STORE).loads[0]
        self.assertIn("load.no_subprograms", codes(made))
        self.assertEqual([place.equal for place in made.places], [True, True])

    def test_called_within_the_program_itself(self):
        """Between O… SUB and O… ENDSUB, as open controls that grew from RS274/NGC have it: defined before it
        is called, no program of its own; every move is the one of the form by M98.
        """
        own = dialects()["extended"].model_copy(
            update={"id": "labels", "name": "Labels", "called_by": "label"}
        )
        told = written_in(plan({"stands": [TWO], "order": "tools"}), "labels", own)
        made = evaluate(told, plate.DATA, STORE).loads[0]
        self.assertEqual([place.equal for place in made.places], [True, True], made.findings)
        text = text_of(made)
        self.assertEqual((text.count("O101 SUB\n"), text.count("O101 CALL\n")), (1, 2))
        self.assertLess(text.index("O101 ENDSUB"), text.index("O101 CALL"))
        self.assertNotIn("M98", text)
        zeros = {name: {"X": 0.0, "Y": 0.0, "Z": -100.0} for name in ("G54", "G55")}
        held = Held(zeros, {tool.place: 50.0 for tool in plan({}).tools})

        def moves(one: str) -> list[tuple]:
            control = Control(held, unknown=True, machine=machine_of("vertical-760"))
            return [(step.kind, step.end, step.feed, step.register) for step in control.run(one)]

        self.assertEqual(moves(text), moves(text_of(self.load)))
        # What is not called is gone past; what is not there, or does not end, stops with its line.
        alone = "O1\nO7 SUB\nG0 X9\nO7 ENDSUB\nG90 G54\nG0 X5\nM30\n"
        self.assertEqual(len(moves(alone)), 1)
        for wrong, said in (
            ("O1\nG54\nO8 CALL\nM30\n", "line 3.*no subroutine O8"),
            ("O1\nO7 SUB\nG54\nM30\n", "line 2.*O7 SUB has no ENDSUB"),
            ("O1\nO7 SUB\nO7 CALL\nO7 ENDSUB\nO7 CALL\nM30\n", "line 3.*more than"),
            ("O1\nO7 ENDSUB\nM30\n", "line 2"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                moves(wrong)

    def test_a_wrong_register_value_is_found(self):
        """The second vise's register 0.3 off: its stock is not the planned one, the first's is."""
        kept = []

        def noted(*told):
            kept.append(proof_given_for(*told))
            return kept[-1]

        with patch("pelvrak.core.route.load_told.proof_given_for", noted):
            evaluate(plan({"stands": [TWO]}), plate.DATA, STORE)
        given = kept[0]
        registers = tuple(
            (
                name,
                tuple(
                    (axis, value + (0.3 if (name, axis) == ("G55", "X") else 0.0)) for axis, value in values
                ),
            )
            for name, values in given.text.registers
        )
        wrong = replace(given, text=replace(given.text, registers=registers))
        made = PROVE_LOAD.compute(wrong, _Within(Engine(STORE), "test"))[PROOF]
        # As the program counts both are alike: the second is cut where the work is, 0.3 beside.
        self.assertEqual([one["equal"] for one in made["places"]], [True, False])
        self.assertAlmostEqual(made["places"][1]["most_mm"], 0.3, delta=0.02)


class OtherPlaces(unittest.TestCase):
    def test_one_place_treated_differently(self):
        """Without the bore at the second: no drilling there, and its stock is what the step alone leaves."""
        stand = {**TWO, "different": [{"place": 2, "left_out": ["drill"], "offset_register": "G59"}]}
        _, load = report(stands=[stand])
        self.assertEqual(
            [(step.place, step.run) for step in load.order],
            [("OP10/1", "step"), ("OP10/1", "drill"), ("OP10/2", "step")],
        )
        self.assertEqual([place.equal for place in load.places], [True, True])
        self.assertEqual(load.places[1].registers[0].register_name, "G59")
        told = plan({"stands": [stand]}).model_dump(mode="json")
        told["setups"][0]["operations"] = told["setups"][0]["operations"][:1]
        told["loads"][0]["stands"][0]["different"] = []
        alone = evaluate(plan_from(told), plate.DATA, STORE).setups[0]
        self.assertEqual(load.places[1].outgoing_key, alone.outgoing_key)

    def test_a_measured_billet_and_an_operation_more(self):
        """At the second place the casting came 1.5 higher, and it is faced: what stands there is by closed
        form, and the program of both leaves it.
        """
        facing = {"id": "face", "name": "Face", "kind": "facing", "tool": plate.tool("face_mill", DC=50)}
        sides = dict.fromkeys(plate.SIDES, 0.0)
        stock = {"kind": "block", "sizing": {"rule": "allowance", **sides, "z_minus": 0, "z_plus": 1.5}}
        stand = {**TWO, "different": [{"place": 2, "stock": stock, "added": [facing]}]}
        made, load = report(stands=[stand])
        self.assertEqual([one.equal for one in load.places], [True, True], load.findings)
        self.assertEqual([one.differs for one in load.places], [False, True])
        self.assertEqual([one.run for one in load.order if one.place == "OP10/2"], ["step", "drill", "face"])
        came, left = (
            float(np.mean(bundle_volumes(Result(key, Engine(STORE)).value(FIELD))))
            for key in (load.places[1].incoming_key, load.places[1].outgoing_key)
        )
        self.assertAlmostEqual(came, 60 * 44 * 16.5, delta=40)
        usual = made.setups[0].outgoing_volume_mm3
        self.assertAlmostEqual(left, usual, delta=0.002 * usual)
        # Nothing of it is the setup's own.
        self.assertEqual([one.name for one in made.setups[0].operations], ["Step", "drill"])

    def test_a_place_where_nothing_is_cut(self):
        stand = {**TWO, "different": [{"place": 2, "left_out": ["step", "drill"]}]}
        _, load = report(stands=[stand])
        self.assertIn("load.nothing_cut", codes(load))

    def test_an_added_operation_has_its_own_id(self):
        again = {"id": "step", "name": "Face", "kind": "facing", "tool": "fm50"}
        with self.assertRaisesRegex(BadInput, "give it its own id"):
            plan({"stands": [{**TWO, "different": [{"place": 2, "added": [again]}]}]})

    def test_two_in_one_place(self):
        """40 apart, the works and vises stand in each other."""
        _, load = report(stands=[{**TWO, "pitch_x": 40.0}])
        (found,) = [one for one in load.findings if one.code == "load.overlap"]
        self.assertGreater(found.measured, 1000)

    def test_two_setups_planned_in_one_place(self):
        """As they are planned both stand in one vise; the load has them 260 apart, and nothing is wrong."""
        told = plan({}).model_dump(mode="json")
        second = told["setups"][0] | {"name": "OP20", "operations": [], "offset_register": "G57"}
        both = told | {"setups": [told["setups"][0], second]}
        alone = evaluate(plan_from(both | {"loads": []}), plate.DATA, STORE)
        self.assertIn("load.same_place", [one.code for one in alone.findings()])
        apart = both | {"loads": [{"name": "L1", "stands": [{"setup": "OP20", "at_x": 260.0}]}]}
        made = evaluate(plan_from(apart), plate.DATA, STORE)
        self.assertNotIn("load.same_place", [one.code for one in made.findings()])
        self.assertNotIn("load.overlap", codes(made.loads[0]))
        self.assertEqual(made.loads[0].first_cycle, ("1 piece after OP10, for OP20",))

    def test_off_the_table_and_past_the_travels(self):
        _, load = report(stands=[{**TWO, "pitch_x": 760.0}])
        self.assertIn("load.off_table", codes(load))
        self.assertIn("load.travel", codes(load))

    def test_one_register_twice(self):
        stand = {**TWO, "different": [{"place": 2, "offset_register": "G54"}]}
        _, load = report(stands=[stand])
        self.assertIn("load.register_twice", codes(load))

    def test_registers_run_out(self):
        """More places than the control has registers left."""
        machine = machine_of("vertical-760")
        control = machine.control.model_copy(update={"extended": 0})
        few = machine.model_copy(update={"id": "few", "control": control})
        told = plan({"stands": [{**TWO, "columns": 8, "pitch_x": 130.0}]})
        setup = told.setups[0].model_copy(update={"machine": "few"})
        made = evaluate(
            told.model_copy(update={"machines": (few,), "setups": (setup,)}), plate.DATA, STORE
        ).loads[0]
        self.assertIn("load.no_register", codes(made))

    def test_what_a_load_cannot_be(self):
        """A register that is reserved; two machines; nothing cut; no program."""
        reserved = machine_of("vertical-760").control.reserved
        self.assertTrue(reserved)
        stand = {**TWO, "different": [{"place": 2, "offset_register": reserved[0]}]}
        self.assertIn("load.register_reserved", codes(report(stands=[stand])[1]))
        told = plan({}).model_dump(mode="json")
        other = told["setups"][0] | {"name": "OP20", "machine": "vertical-760-a", "offset_register": "G57"}
        document = told | {"setups": [told["setups"][0], other]}
        load = evaluate(plan_from(document), plate.DATA, STORE).loads[0]
        self.assertEqual(codes(load), ["load.machines"])
        bare = told | {"setups": [told["setups"][0] | {"hold": {}}], "loads": [{"name": "L1"}]}
        load = evaluate(plan_from(bare), plate.DATA, STORE).loads[0]
        self.assertEqual(codes(load), ["load.empty"])
        # A setup that has left it keeps its pattern there, and nothing is told of a load nobody stands in.
        left = told | {
            "setups": [told["setups"][0] | {"load": ""}],
            "loads": [{"name": "L1", "stands": [TWO]}],
        }
        self.assertEqual(evaluate(plan_from(left), plate.DATA, STORE).loads, ())
        refused = BadInput("program.none", "L1", "it cannot be written", "plan it otherwise")
        with patch("pelvrak.core.route.load_told.load_program", side_effect=refused):
            load = evaluate(plan({"stands": [TWO]}), plate.DATA, STORE).loads[0]
        self.assertEqual(codes(load), ["load.no_program"])

    def test_by_hand(self):
        order = ["OP10/2 step", "OP10/1 step", "OP10/1 drill", "OP10/2 drill"]
        _, load = report(stands=[TWO], order="hand", hand=order)
        self.assertEqual([f"{step.place} {step.run}" for step in load.order], order)
        _, load = report(stands=[TWO], order="hand", hand=order[::-1])
        self.assertIn("load.order", codes(load))

    def test_a_holder_that_meets_only_the_neighbour(self):
        """Beside the plate another stands 80 higher on its vise: the end mill's holder, 62 over its tip,
        comes past the jaw of that by what geometry leaves: to the jaw's side, 62.5 from its middle, from
        where the cutter is furthest right, and half the holder.
        """
        told = plan({}, pocket()).model_dump(mode="json")
        high = raised(told, 80.0)
        tool = next(one for one in plan({}).tools if one.id == "em16")
        # The jaw ends 71 over zero, by the height of the holder's lowest step, which is 57 to 87.
        holder = tool.holder.stack[0][1] / 2
        right = 39.6
        for gap in (6.0, 1.5, -5.0):
            at = right + holder + gap + 62.5
            stands = [{"setup": "OP20", "at_x": at}]
            document = told | {
                "setups": [told["setups"][0], high],
                "loads": [{"name": "L1", "stands": stands}],
            }
            load = evaluate(plan_from(document), plate.DATA, STORE).loads[0]
            found = [one for one in load.findings if one.code == "load.neighbour"]
            if gap > 3:
                self.assertEqual(found, [])
                continue
            self.assertEqual([one.severity for one in found], ["warning" if gap > 0 else "error"])
            self.assertIn("OP20/1", found[0].sentence)
            if gap > 0:
                self.assertAlmostEqual(found[0].measured, gap, delta=0.6)

    def test_the_head_meets_a_neighbour_that_tool_and_holder_clear(self):
        """A head 160 wide to each side, 20 over the nose; beside the plate another that stands 200 higher.
        With the cutter 39.6 right of the plate's middle and half the vise 62.5 the head reaches what is left
        of their sum.
        """
        told = plan({}, pocket()).model_dump(mode="json")
        low = machine_of("vertical-760").model_dump(mode="json")
        head = next(one for one in low["solids"] if one["name"] == "head")
        head["low"][2] = 20.0
        high = raised(told, 200.0)
        for at, deep in ((250.0, 39.6 + 160 + 62.5 - 250.0), (268.0, None)):
            document = told | {
                "machines": [low],
                "setups": [told["setups"][0], high],
                "loads": [{"name": "L1", "stands": [{"setup": "OP20", "at_x": at}]}],
            }
            load = evaluate(plan_from(document), plate.DATA, STORE).loads[0]
            self.assertNotIn("load.neighbour", codes(load))
            found = [one for one in load.findings if one.code == "load.slide_meets"]
            if deep is None:
                self.assertEqual(found, [])
                continue
            self.assertAlmostEqual(found[0].measured, deep, delta=0.6)
            self.assertIn("the head of the machine", found[0].sentence)
            self.assertIn("OP20/1", found[0].sentence)

    def test_what_is_turned_with_the_rest(self):
        """On a trunnion one setup turns its small plate; another in the load has half a plate of 400 × 300,
        250 from the table's centre, where the cradle's sides stand 210 from it.
        """
        own = turning.document(
            positions=[{"name": "side", "angles": {"A": -60.0, "C": -90.0}}],
            operations=[turning.facing("side")],
        )
        first = own["setups"][0] | {"machine": "trunnion-ac", "load": "L1"}

        def on(name: str) -> dict:
            return {"items": [{"id": "plate", "fixture": name, "on": "table", "x": 140, "y": 140}]}

        for other, meets in (("grid-400", True), ("grid-250", False)):
            second = first | {"name": "OP20", "positions": [], "offset_register": "G58", "hold": on(other)}
            second["operations"] = [turning.facing("side") | {"position": None}]
            document = own | {
                "setups": [first | {"hold": on("grid-250")}, second],
                "loads": [{"name": "L1"}],
            }
            report = evaluate(plan_from(document), turning.part(), STORE)
            self.assertNotIn("reach.swing", [one.code for one in report.setups[0].findings])
            found = [one for one in report.loads[0].findings if one.code == "reach.swing"]
            self.assertEqual(bool(found), meets, report.loads[0].findings)
            if meets:
                self.assertIn("the work at OP20/1 runs into the cradle", found[0].sentence)


class OfAnotherPlan(unittest.TestCase):
    """A setup of another plan beside this one's, read only."""

    def other(self, **more) -> Plan:
        """The same plate with nothing but its bore."""
        return plan({}, plate.drilling("drill", "dr7_8", plate.face("cylinder", radius=4.0)), **more)

    def load(self, other: Plan | None, **guest) -> LoadReport:
        asked: list[str] = []

        def others(name: str):
            asked.append(name)
            if other is None:
                raise BadInput("load.no_project", "loads", f"there is no {name}", "choose another")
            return other, plate.DATA, lambda _, file: plate.DATA

        told = plan({"guests": [GUEST | guest], "order": "tools"})
        beside = Beside(lambda _, file: plate.DATA, others)
        made = evaluate(told, plate.DATA, STORE, files=beside).loads[0]
        self.assertEqual(set(asked), {"other.json"})
        return made

    def test_one_program_for_both(self):
        """Its own register beside the host's, its own cuts, proved; each drill one change for both."""
        load = self.load(self.other())
        self.assertEqual([one.key for one in load.places], ["OP10/1", "P.OP10/1"])
        self.assertEqual([one.equal for one in load.places], [True, True], load.findings)
        self.assertEqual([one.registers[0].register_name for one in load.places], ["G54", "G55"])
        self.assertEqual([(one.place, one.run) for one in load.order][-1][1], "drill")
        self.assertEqual(load.changes, 2)
        self.assertEqual((load.guests[0].called, load.guests[0].setup), ("P.OP10", "OP10"))
        alone = evaluate(self.other(), plate.DATA, STORE).setups[0]
        self.assertEqual(load.places[1].outgoing_key, alone.outgoing_key)
        together = cuts_by_register(text_of(load))
        written = Result(alone.program_key, Engine(STORE)).value(PROGRAM)
        self.assertEqual(together["G55"], cuts_by_register(written)["G54"])
        # Only the host's parts count for its lot.
        self.assertEqual(load.finished, 1)

    def test_what_changes_there_changes_here(self):
        deeper = plate.drilling("drill", "dr7_8", plate.face("cylinder", radius=4.0), below=2.0)
        before, after = self.load(self.other()), self.load(plan({}, deeper))
        self.assertNotEqual(before.places[1].outgoing_key, after.places[1].outgoing_key)
        self.assertEqual(before.places[0].outgoing_key, after.places[0].outgoing_key)

    def test_what_cannot_be(self):
        self.assertIn("load.no_guest", codes(self.load(None)))
        self.assertIn("load.no_guest", codes(self.load(self.other(), setup="OP77")))
        alone = evaluate(plan({"guests": [GUEST]}), plate.DATA, STORE).loads[0]
        self.assertIn("load.no_guest", codes(alone))
        self.assertIn("load.machines", codes(self.load(self.other(machine="vertical-500"))))
        told = self.other().model_dump(mode="json")
        tool = next(one for one in told["tools"] if one["id"] == "dr7_8")
        tool["DC"] = 7.5
        clash = self.load(plan_from(told))
        (found,) = [one for one in clash.findings if one.code == "load.changer"]
        self.assertIn(f"place {tool['place']} of the changer", found.sentence)
        self.assertIn("load.overlap", codes(self.load(self.other(), at_x=20.0)))
        for guests, said in (
            ([GUEST, GUEST], "two guests of L1"),
            ([GUEST | {"different": [{"place": 1, "left_out": ["drill"]}]}], "planned elsewhere"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                plan({"guests": guests})


class Probed(unittest.TestCase):
    def test_each_place_sets_its_own_registers(self):
        told = plan(
            {"stands": [TWO]},
            probing("corner", side(0, 0.0), side(1, 44.0), depth=4.0),
            pocket(offset_register="G55"),
        )
        load = evaluate(told, plate.DATA, STORE).loads[0]
        self.assertIsNone(load.alarm, load)
        self.assertEqual([place.equal for place in load.places], [True, True])
        text = text_of(load)
        names = {place.key: {r.of: r.register_name for r in place.registers} for place in load.places}
        self.assertEqual(names["OP10/1"]["G55"], "G55")
        other = names["OP10/2"]["G55"]
        self.assertNotEqual(other, "G55")
        self.assertIn(f"\n{other}\n", re.sub(r"N\d+ ", "", text))


class Command(unittest.TestCase):
    def test_load(self):
        """Places with their registers, order and parts of a cycle; its program beside those of the setups; a
        load that is not there is refused with those that are.
        """
        with TemporaryDirectory() as folder:
            here = Path(folder)
            (here / "plate.step").write_bytes(plate.DATA)
            told = plan({"stands": [TWO], "order": "tools"}).model_dump(mode="json")
            told["part"]["sha256"] = None
            (here / "plan.json").write_text(json.dumps(told))
            said = StringIO()
            with redirect_stdout(said):
                self.assertEqual(main(["load", str(here / "plan.json"), "--load", "L1", "--json"]), 0)
            found = json.loads(said.getvalue())
            self.assertEqual([one["key"] for one in found["places"]], ["OP10/1", "OP10/2"])
            self.assertEqual((found["changes"], found["finished"]), (2, 2))
            with redirect_stderr(StringIO()) as wrong:
                self.assertEqual(main(["load", str(here / "plan.json"), "--load", "L7"]), 2)
            self.assertIn("it tells of L1", wrong.getvalue())
            main(["evaluate", str(here / "plan.json"), "--out", str(here / "out")])
            self.assertIn("M98", (here / "out" / "L1.nc").read_text())


class Five(unittest.TestCase):
    def test_like_places_are_cut_once(self):
        """Five vises in a row: what is cut for the load is what is cut for two."""
        cuts = {}
        for columns in (2, 5):
            stand = {**TWO, "columns": columns, "pitch_x": 130.0, "at_x": -250.0}
            with patch("pelvrak.core.route.load_program.cut", wraps=cut) as cutting:
                load = evaluate(plan({"stands": [stand]}), plate.DATA, MemoryStore()).loads[0]
            self.assertEqual([place.equal for place in load.places], [True] * columns)
            self.assertEqual({place.like for place in load.places}, {None, "OP10/1"})
            cuts[columns] = cutting.call_count
        self.assertEqual(cuts[2], cuts[5])
        self.assertGreater(cuts[2], 1)


if __name__ == "__main__":
    unittest.main()
