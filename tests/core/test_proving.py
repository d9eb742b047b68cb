"""Does what a program leaves on the simulated machine equal the plan, and are faults in it found?"""

from __future__ import annotations

import contextlib
import io
import json
import re
import unittest
from pathlib import Path

import numpy as np
import pygcode

from pelvrak.cli import main
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.holding.hold import Hold
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import PROGRAM
from pelvrak.core.route.plan import Plan, plan_from_json
from pelvrak.core.route.proving import apart, proof_findings, proved
from pelvrak.core.route.report import Proof, Report, SetupReport
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_block
from tests.core.in_dialects import written_in

DEMO = Path(__file__).resolve().parents[2] / "demo"


class Demo:
    """A demo computed once, at coarse rays."""

    def __init__(self, name: str) -> None:
        plan = plan_from_json((DEMO / name / "plan.json").read_bytes())
        self.plan: Plan = plan.model_copy(update={"resolution_mm": 1.0})
        self.store = MemoryStore()
        self.body = (DEMO / name / plan.part.file).read_bytes()
        self.report: Report = evaluate(self.plan, self.body, self.store)

    def setup(self, name: str) -> SetupReport:
        return next(one for one in self.report.setups if one.name == name)

    def text(self, name: str) -> str:
        return self.text_of(self.report, name)

    def text_of(self, report: Report, name: str) -> str:
        key = next(one for one in report.setups if one.name == name).program_key
        assert key is not None
        return Result(key, Engine(self.store)).value(PROGRAM)

    def proved(self, name: str, text: str | None = None) -> Proof:
        return proved(self.plan, self.setup(name), self.store, text)


def _other_sign(word: re.Match[str]) -> str:
    return word[1] + ("" if word[2] else "-")


class Apart(unittest.TestCase):
    def test_a_step_as_deep_as_it_is(self):
        """A block, and the same with one side 0.3 mm further out."""
        grid = grid_around(np.zeros(3), np.array([20.3, 10.0, 10.0]), 0.5)
        one = field_of_block(grid, np.zeros(3), np.array([20.0, 10.0, 10.0]))
        two = field_of_block(grid, np.zeros(3), np.array([20.3, 10.0, 10.0]))
        for first, second in ((one, two), (two, one)):
            most, place = apart(first, second)
            self.assertAlmostEqual(most, 0.3, places=4)
            self.assertAlmostEqual(place[0], 20.15, places=4)
        self.assertEqual(apart(one, one)[0], 0.0)


class Proofs(unittest.TestCase):
    demo: Demo

    @classmethod
    def setUpClass(cls):
        cls.demo = Demo("encoder-housing")

    def test_every_program_of_the_demo_leaves_what_was_planned(self):
        """Soft jaws, two sides, and index positions of a rotary axis."""
        for one in self.demo.report.setups:
            found = self.demo.proved(one.name)
            self.assertIsNone(found.alarm, one.name)
            self.assertTrue(found.equal, found)
            # Written to a thousandth.
            self.assertLess(found.most_mm, 0.003)
            self.assertGreater(found.moves, 100)
            self.assertLess(abs(found.time_s / found.planned_s - 1), 0.15)

    def test_in_every_dialect(self):
        """The demo's programs in each: soft jaws, two sides, index positions; what one lacks is told."""
        for dialect in ("plain", "strict"):
            report = evaluate(written_in(self.demo.plan, dialect), self.demo.body, self.demo.store)
            for one in report.setups:
                self.assertTrue(one.proof.equal, (dialect, one.proof))
                self.assertEqual(one.outgoing_key, self.demo.setup(one.name).outgoing_key)
                beyond = [found.sentence for found in one.findings if found.code == "program.dialect"]
                lacks = dialect == "strict" and one.name == "OP10"
                self.assertEqual(len(beyond), lacks)
                self.assertTrue(all("no cycle G84" in said for said in beyond))
            text = self.demo.text_of(report, "OP10")
            self.assertEqual("I" in re.sub(r"\(.*?\)", "", text), dialect == "plain")

    def test_faults_are_found(self):
        """Faults put into the first program, line by line: each ends in an alarm or in another stock; where a
        later cut takes off what it left standing, in another time.
        """
        text = self.demo.text("OP10")
        lines = text.splitlines()
        cuts = [i for i, one in enumerate(lines) if re.search(r"G[123] .*[XYZ]", one)]
        second = re.findall(r"(T\d+) M6$", text, flags=re.MULTILINE)[1]
        faults: dict[str, str] = {
            "another register": text.replace("G54\n", "G55\n"),
            "no register": text.replace("G54\n", "G4 P0\n"),
            "no G90": text.replace("G90 ", ""),
            "inches": text.replace("G21 ", "G20 "),
            "tools swapped": re.sub(r"T\d+ M6$", f"{second} M6", text, count=1, flags=re.MULTILINE),
            "a length": re.sub(r"G43 H\d+", second.replace("T", "G43 H"), text, count=1),
            "no length": re.sub(r"G43 H\d+ ", "", text, count=1),
            "no spindle": re.sub(r" M3$", "", text, flags=re.MULTILINE),
            "a lost tool change": re.sub(r"^.*T\d+ M6\n", "", text, count=1, flags=re.MULTILINE),
        }
        for i in cuts[:: max(1, len(cuts) // 24)]:
            for what, changed in (
                ("sign", re.sub(r"([XYZ])(-?)(?=\d)", _other_sign, lines[i], count=1)),
                ("digit", re.sub(r"([XYZ]-?)(\d)", r"\g<1>9\2", lines[i], count=1)),
            ):
                number = re.sub(r".*?([XYZ])([-.\d]+).*", r"\g<2>", lines[i])
                if float(number) != 0:
                    faults[f"{what} in {lines[i]}"] = "\n".join([*lines[:i], changed, *lines[i + 1 :]])
        self.assertGreaterEqual(len(faults), 50)
        right, missed, by_time = self.demo.proved("OP10"), [], 0
        for what, wrong in faults.items():
            found = self.demo.proved("OP10", wrong)
            slower = found.time_s is not None and abs(found.time_s - right.time_s) > 0.02
            by_time += bool(found.equal) and slower
            if found.equal and not slower:
                missed.append(what)
        self.assertEqual(missed, [])
        self.assertLess(by_time, len(faults) / 10)

    def test_what_is_found_of_a_text(self):
        """Told as findings of the setup, in the report; each of its kinds by a text that has it."""
        told = self.demo.setup("OP10")
        self.assertEqual((told.proof, told.proof.key is not None), (self.demo.proved("OP10"), True))
        self.assertEqual(proof_findings(told, told.proof), [])
        text = self.demo.text("OP10")
        deeper = re.sub(r"Z-(\d)", r"Z-1\1", text)
        (apart_,) = proof_findings(told, self.demo.proved("OP10", deeper))
        self.assertEqual((apart_.code, apart_.severity, apart_.stage), ("program.apart", "error", "prove"))
        self.assertGreater(apart_.measured, 9.0)
        self.assertEqual(len(apart_.place), 1)
        wrong = text.replace("G54\n", "G59\n", 1)
        proof = self.demo.proved("OP10", wrong)
        (alarm,) = proof_findings(told, proof)
        self.assertEqual(alarm.code, "program.stops")
        self.assertIn("G59 has not been set", alarm.sentence)
        self.assertEqual(wrong.splitlines()[proof.alarm_line - 1].split()[-1], "G59")

    def test_the_trace_is_the_way_the_text_runs(self):
        """Line by line, with X, Y and Z as the text writes them: read by a second reader, pygcode."""
        told = self.demo.setup("OP10")
        trace = json.loads(self.demo.store.get(told.proof.key, "control.json"))
        lines = self.demo.text("OP10").splitlines()
        at: dict[int, list[float]] = {}
        for line, _, x, y, z, *_ in trace["events"]:
            at[line] = [x, y, z]
        checked = 0
        for number, place in at.items():
            text = lines[number - 1]
            if "G53" in text or re.search(r"G8\d|G98", text):
                continue
            words = {w.letter: float(w.value) for w in pygcode.Line(text).block.words if w.letter in "XYZ"}
            for axis, value in words.items():
                self.assertAlmostEqual(place["XYZ".index(axis)], value, places=3, msg=text)
                checked += 1
        self.assertGreater(checked, 500)
        ends = [row[8] for row in trace["events"]]
        self.assertEqual(ends, sorted(ends))
        self.assertAlmostEqual(ends[-1], told.proof.time_s, delta=0.01)
        stood = [(line, now["spindle"], now["tool"]) for line, now in trace["stood"]]
        for line, spindle, tool in stood:
            if lines[line - 1].endswith(" M6"):
                self.assertEqual(int(re.search(r"T(\d+)", lines[line - 1])[1]), tool)
            if lines[line - 1].endswith("M3"):
                self.assertEqual(spindle, 1)

    def test_without_a_layout_nothing_is_proved(self):
        plan = self.demo.plan
        first = plan.setups[0].model_copy(update={"hold": Hold()})
        only = plan.model_copy(update={"setups": (first,)})
        body = (DEMO / "encoder-housing" / plan.part.file).read_bytes()
        (told,) = evaluate(only, body, self.demo.store).setups
        self.assertIn("nobody knows where its zero stands", told.proof.unproved)
        self.assertIsNone(told.proof.equal)


class Commands(unittest.TestCase):
    def test_prove(self):
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            code = main(["prove", str(DEMO / "float-carrier" / "plan.json"), "--setup", "OP10", "--json"])
        (told,) = json.loads(out.getvalue())
        self.assertEqual((code, told["setup"], told["equal"]), (0, "OP10", True))


if __name__ == "__main__":
    unittest.main()
