"""Called with a shift: places of a load, and what is cut alike at several places of one work."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from unittest.mock import patch

import numpy as np
from pygcode import Line as ParsedLine

from pelvrak.core.cutting.toolpath import Path
from pelvrak.core.engine.engine import Engine, Result, _Within
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.compose import Head, composed
from pelvrak.core.program.control import Control
from pelvrak.core.program.dialects import dialects
from pelvrak.core.program.held import Held
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.load_program import PROVE_LOAD, proof_given_for
from pelvrak.core.route.pieces import LINES, PROGRAM, PROOF
from pelvrak.core.route.plan import Plan, plan_from
from tests import solids
from tests.core import test_removal as plate
from tests.core import test_several as several
from tests.core import test_turning as turning
from tests.core.in_dialects import written_in
from tests.core.test_load import STORE, TWO, codes, plan, report, text_of
from tests.core.test_post import facing
from tests.core.test_probing import pocket, probing, side

HELD = Held({"G54": {"X": -300.0, "Y": -200.0, "Z": -400.0}}, {1: 100.0})


def ends(text: str, held: Held = HELD) -> list[tuple[float, ...]]:
    """Where the simulated control goes, without what moves nothing."""
    out: list[tuple[float, ...]] = []
    for one in Control(held, machine=machine_of("vertical-760")).run(text):
        if not out or one.end != out[-1]:
            out.append(one.end)
    return out


def unrolled(text: str) -> list[str]:
    """A program with its subprograms in their calls' places."""
    programs: dict[str, list[str]] = {}
    for line in text.splitlines():
        if head := re.match(r"O(\d+)", line):
            programs[str(int(head[1]))] = []
        elif programs:
            programs[list(programs)[-1]].append(line.replace("%", ""))

    def of(name: str):
        for line in programs[name]:
            called = re.search(r"M98 P(\d+)", line)
            if called:
                yield from of(called[1])
            elif "M99" not in line:
                yield line

    return list(of(next(iter(programs))))


def cuts(text: str) -> list[tuple[float, ...]]:
    """X, Y and Z of every cutting block as pygcode reads it, shifts added up, without what moves nothing."""
    at, shift, out, motion = dict.fromkeys("XYZ", 0.0), dict.fromkeys("XYZ", 0.0), [], "G00"
    for line in unrolled(text):
        words = [str(word) for word in ParsedLine(line).block.words]
        told = {word[0]: float(word[1:]) for word in words if word[0] in "XYZ"}
        motion = next((word for word in words if re.match(r"G0[0-3]$", word)), motion)
        if "G52" in words:
            at = {axis: value + shift[axis] - told[axis] for axis, value in at.items()}
            shift = told
        elif told and "G53" not in words and "G28" not in words:
            at |= told
            place = tuple(round(at[axis] + shift[axis], 3) for axis in "XYZ")
            if motion != "G00" and (not out or place != out[-1]):
                out.append(place)
    return out


class Shifted(unittest.TestCase):
    """G52 as the simulated control has it; alike with several makers of controls, from memory."""

    def test_what_is_counted_from(self):
        """In closed form: register, shift and length add up, in G91 nothing does; one axis alone keeps the
        others; a register that comes after is shifted too.
        """
        held = Held(HELD.registers | {"G55": {"X": -100.0, "Y": -100.0, "Z": -400.0}}, HELD.lengths)
        text = (
            "G21 G17 G90 G54\nG52 X10. Y-20.\nG0 X1. Y2.\nG43 H1 Z5.\nG91 G0 X1.\nG90 G52 X0.\nG0 X1. Y2.\n"
            "G55 G0 X1. Y2.\nG52 X0. Y0.\nG0 X1. Y2.\nM30\n"
        )
        way = [end[:3] for end in ends(text, held)]
        self.assertEqual(
            way,
            [
                (-289.0, -218.0, 0.0),
                (-289.0, -218.0, -295.0),
                (-288.0, -218.0, -295.0),
                (-299.0, -218.0, -295.0),
                (-99.0, -118.0, -295.0),
                (-99.0, -98.0, -295.0),
            ],
        )

    def test_what_cannot_be(self):
        for text, said in (
            ("G52\n", "G52 wants X, Y or Z"),
            ("G52 X1.\nG68 X0. Y0. R10.\n", "a shift is in force"),
            ("G68 X0. Y0. R10.\nG52 X1.\n", "G69 is wanted before"),
        ):
            with self.subTest(said), self.assertRaisesRegex(BadInput, said):
                ends("G21 G17 G90 G54\n" + text)


class Places(unittest.TestCase):
    def test_one_register_for_all(self):
        """Both plates in G54, the second 260 from it; the stock at each is that of the setup alone, and
        unrolled by pygcode the cuts at the second are those at the first, 260 further.
        """
        made, load = report(stands=[TWO], shifts="places")
        self.assertEqual([place.registers[0].register_name for place in load.places], ["G54", "G54"])
        self.assertEqual([place.shifted for place in load.places], [None, (260.0, 0.0, 0.0)])
        self.assertTrue(all(place.equal for place in load.places))
        text = text_of(load)
        self.assertIn("OP10/2 G54 X260.", text)
        self.assertEqual(len(re.findall("G52 X260. Y0. Z0.$", text, re.MULTILINE)), 1)
        self.assertLess(text.rindex("G52 X0. Y0. Z0."), text.index("M30"))
        alone = cuts(Result(made.setups[0].program_key, Engine(STORE)).value(PROGRAM))
        both = cuts(text)
        self.assertGreater(len(alone), 10)
        self.assertEqual(both[: len(alone)], alone)
        self.assertEqual(both[len(alone) :], [(round(x + 260, 3), y, z) for x, y, z in alone])

    def test_more_places_than_registers(self):
        """Eight on a control with six registers and none beyond them."""
        machine = machine_of("vertical-760")
        few = machine.model_copy(
            update={"id": "few", "control": machine.control.model_copy(update={"extended": 0})}
        )
        told = plan({"stands": [{**TWO, "at_x": -250.0, "columns": 8, "pitch_x": 70.0}], "shifts": "places"})
        setup = told.setups[0].model_copy(update={"machine": "few"})
        load = evaluate(
            told.model_copy(update={"machines": (few,), "setups": (setup,)}), plate.DATA, STORE
        ).loads[0]
        self.assertNotIn("load.no_register", codes(load))
        self.assertEqual({place.registers[0].register_name for place in load.places}, {"G54"})
        self.assertEqual([place.equal for place in load.places], [True] * 8)

    def test_a_wrong_shift_is_found(self):
        """0.3 off: the second's stock is not the planned one. Left out, the first is cut twice and the second
        not at all.
        """
        kept = []

        def noted(*told):
            kept.append(proof_given_for(*told))
            return kept[-1]

        with patch("pelvrak.core.route.load_told.proof_given_for", noted):
            evaluate(plan({"stands": [TWO], "shifts": "places"}), plate.DATA, STORE)
        given = kept[0]
        for wrong, equal, most in (
            ("X260.3", [True, False], 0.3),
            ("X0.", [True, False], None),
        ):
            text = given.text.text.replace("G52 X260.", f"G52 {wrong}")
            told = replace(given, text=replace(given.text, text=text))
            made = PROVE_LOAD.compute(told, _Within(Engine(STORE), "test"))[PROOF]
            self.assertEqual([one["equal"] for one in made["places"]], equal)
            if most is not None:
                self.assertAlmostEqual(made["places"][1]["most_mm"], most, delta=0.02)

    def test_turned_about_the_centre(self):
        """On a rotary the shift turns with the table: two blocks 90 apart along Y are, drilled from front,
        90 apart along Z for the spindle.
        """
        positions = [{"name": "front", "face": turning.faces()["hole"]}]
        hole = {"id": "hole", "name": "hole", "kind": "drilling", "tool": "dr5", "position": "front"}
        hole["faces"] = [turning.faces()["hole"]]
        told = turning.document(positions=positions, operations=[hole])
        told["setups"][0]["load"] = "L1"
        stand = {"setup": "OP10", "rows": 2, "pitch_y": 90.0, "stays": ["left", "right"]}
        load = evaluate(
            plan_from(told | {"loads": [{"name": "L1", "stands": [stand], "shifts": "places"}]}),
            turning.part(),
            STORE,
        ).loads[0]
        self.assertEqual(load.places[1].shifted, (0.0, 90.0, 0.0))
        self.assertEqual([place.equal for place in load.places], [True, True], load.findings)
        self.assertRegex(text_of(load), r"G52 X0\. Y0\. Z-90\.\n")

    def test_where_a_register_each_is_needed(self):
        """A setup that probes keeps them; a dialect without a shift does."""
        load = evaluate(
            plan(
                {"stands": [TWO], "shifts": "places"},
                probing("corner", side(0, 0.0), side(1, 44.0), depth=4.0),
                pocket(offset_register="G55"),
            ),
            plate.DATA,
            STORE,
        ).loads[0]
        found = [one for one in load.findings if one.code == "load.no_shift"]
        self.assertEqual([one.severity for one in found], ["note"])
        self.assertIn("it probes", found[0].sentence)
        self.assertEqual(len({place.registers[0].register_name for place in load.places}), 2)
        plain = written_in(plan({"stands": [TWO], "shifts": "places"}), "plain")
        load = evaluate(plain, plate.DATA, STORE).loads[0]
        found = [one for one in load.findings if one.code == "load.no_shift"]
        self.assertEqual([one.severity for one in found], ["warning"])
        self.assertIn("has no local shift", found[0].sentence)
        self.assertEqual([place.registers[0].register_name for place in load.places], ["G54", "G55"])


def six(called: bool, dialect: str = "") -> Plan:
    """Six plates in one block, each with its hole and its opening."""
    document = several.plan(several.rows(3, 2)).model_dump(mode="json")
    document["setups"][0]["features_called"] = called
    return plan_from(document) if not dialect else written_in(plan_from(document), dialect)


def written(told: Plan) -> tuple[str, dict[str, list[int]]]:
    made = Result(several.computed(told).setups[0].program_key, Engine(several.STORE))
    return made.value(PROGRAM), made.value(LINES)


class Features(unittest.TestCase):
    """What six plates have alike is written once."""

    @classmethod
    def setUpClass(cls):
        cls.plain, cls.plain_lines = written(six(False))
        cls.called, cls.lines = written(six(True))
        tools = {tool.place: tool.gauge_length for tool in six(True).tools}
        cls.held = Held({"G54": {"X": -300.0, "Y": -200.0, "Z": -400.0}}, tools)

    def test_once_for_all_six(self):
        """The opening, three layers deep, is one subprogram, called at the pitch of the plates."""
        calls = re.findall(r"G52 X(\S+) Y(\S+) Z0\.\n(?:N\d+ )?M98 P(\d+)", self.called)
        self.assertEqual(len(calls), 6)
        self.assertEqual(len({number for _, _, number in calls}), 1)
        xs = sorted({float(x) for x, _, _ in calls})
        ys = sorted({float(y) for _, y, _ in calls})
        # 60 × 44 with 14 between them.
        self.assertEqual(np.round(np.diff(xs), 3).tolist(), [74.0, 74.0])
        self.assertEqual(np.round(np.diff(ys), 3).tolist(), [58.0])
        self.assertLess(len(self.called), len(self.plain) / 3)

    def test_goes_where_it_went(self):
        """By the simulated control, and unrolled by pygcode."""
        one, two = (np.array(ends(text, self.held)) for text in (self.plain, self.called))
        self.assertEqual(one.shape, two.shape)
        self.assertLess(abs(one - two).max(), 0.0011)
        read, other = (np.array(cuts(text)) for text in (self.plain, self.called))
        self.assertEqual(read.shape, other.shape)
        self.assertLess(abs(read - other).max(), 0.0021)

    def test_the_line_of_every_move(self):
        """Each move's line says, where it is called, where the plain one's does."""
        self.assertEqual(list(self.lines), list(self.plain_lines))
        plain, called = self.plain.splitlines(), self.called.splitlines()
        for run, own in self.lines.items():
            self.assertEqual(len(own), len(self.plain_lines[run]))
            for one, other in zip(own, self.plain_lines[run], strict=True):
                words = [re.findall(r"[ZFR]-?[\d.]+", text) for text in (called[one], plain[other])]
                self.assertTrue(set(words[1]) <= set(words[0]), (run, called[one], plain[other]))

    def test_called_within_the_program_itself(self):
        """By labels, what is called is known before."""
        own = dialects()["extended"].model_copy(update={"id": "labels", "called_by": "label"})
        told = six(True)
        machine = machine_of("vertical-760")
        control = machine.control.model_copy(update={"dialect": "labels"})
        mine = machine.model_copy(update={"id": "mine", "control": control})
        setup = told.setups[0].model_copy(update={"machine": "mine"})
        text, _ = written(
            told.model_copy(update={"machines": (mine,), "dialects": (own,), "setups": (setup,)})
        )
        self.assertLess(text.index("SUB"), text.index("CALL"))
        self.assertEqual(text.count(" CALL"), 6)
        self.assertEqual(ends(text, self.held), ends(self.called, self.held))

    def test_a_dialect_without(self):
        made = several.computed(six(True, "plain"))
        found = [one for one in made.findings() if one.code == "program.no_shift"]
        self.assertEqual([one.severity for one in found], ["warning"])
        text = Result(made.setups[0].program_key, Engine(several.STORE)).value(PROGRAM)
        self.assertNotIn("M98", text)

    def test_nothing_is_shifted_in_a_turned_plane(self):
        """What does the same at two places, 50 apart, in a plane as it is and in one that is turned."""
        path = Path((0.0, 0.0, 60.0))
        for x in (0.0, 50.0):
            path.rapid(x, 0.0, 10.0)
            path.feed(x, 0.0, -1.0, 200)
            path.feed(x + 20.0, 0.0, -1.0, 800)
            path.feed(x + 20.0, 10.0, -1.0, 800)
            path.rapid(x + 20.0, 10.0, 10.0)
        own = facing(path, "em10")
        dialect = dialects()["extended"].model_copy(update={"tilted": True})
        for tilted, shifts in ((None, 2), ((0.0, 30.0, 0.0), 0)):
            one = replace(own, where=replace(own.where, tilted=tilted))
            said = composed("OP10", "Top", "A", {"G57": (0.0, 0.0, 0.0)}, "b", [one], Head(features=True))
            text = dialect.writer(dialect).write(said).text
            self.assertEqual(len(re.findall(r"G52 .*\n.*M98", text)), shifts, text)

    def test_in_a_load(self):
        """Two round pockets in each of two plates: a plate is called at both places, from it a pocket twice.
        The stock at each is the setup's.
        """
        data = solids.step_bytes(
            solids.minus(plate.PLATE, *(solids.cylinder((x, 37, 11), 4.5, 5) for x in (14, 46)))
        )
        faces = read_step(data, "plate.step").part.faces
        floors = [
            ref_to(one).model_dump(mode="json")
            for one in faces
            if one.normal and one.normal[2] > 0.9 and abs(one.centre[2] - 11) < 1e-6
        ]
        self.assertEqual(len(floors), 2)
        cut_out = {"id": "round", "name": "Round", "kind": "pocket", "tool": "em6", "faces": floors}
        made = evaluate(plan({"stands": [TWO], "shifts": "features"}, cut_out), data, STORE)
        load = made.loads[0]
        self.assertTrue(all(place.equal for place in load.places))
        self.assertNotIn("load.no_shift", codes(load))
        text = text_of(load)
        self.assertEqual(text.count("M98 P101"), 2)
        inside = text[text.index("\nO0101\n") :].split("M99")[0]
        shifts = [float(x) for x in re.findall(r"G52 X(\S+) Y\S+ Z0\.\n(?:N\d+ )?M98 P102", inside)]
        self.assertEqual(len(shifts), 2)
        self.assertAlmostEqual(abs(shifts[0] - shifts[1]), 32.0)
        none = evaluate(
            plan({"stands": [TWO], "shifts": "features", "subprograms": False}), plate.DATA, STORE
        ).loads[0]
        self.assertIn("load.no_shift", codes(none))


if __name__ == "__main__":
    unittest.main()
