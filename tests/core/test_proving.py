"""Does what a program leaves on the simulated machine equal the plan, and are faults in it found?"""

from __future__ import annotations

import contextlib
import io
import json
import re
import unittest
from pathlib import Path

import numpy as np

from pelvrak.cli import main
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import PROGRAM
from pelvrak.core.route.plan import Plan, plan_from_json
from pelvrak.core.route.proving import Proof, apart, proved
from pelvrak.core.route.report import Report, SetupReport
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_block

DEMO = Path(__file__).resolve().parents[2] / "demo"


class Demo:
    """A demo computed once, at coarse rays."""

    def __init__(self, name: str) -> None:
        plan = plan_from_json((DEMO / name / "plan.json").read_bytes())
        self.plan: Plan = plan.model_copy(update={"resolution_mm": 1.0})
        self.store = MemoryStore()
        body = (DEMO / name / plan.part.file).read_bytes()
        self.report: Report = evaluate(self.plan, body, self.store)

    def setup(self, name: str) -> SetupReport:
        return next(one for one in self.report.setups if one.name == name)

    def text(self, name: str) -> str:
        key = self.setup(name).program_key
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


class Commands(unittest.TestCase):
    def test_prove(self):
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            code = main(["prove", str(DEMO / "float-carrier" / "plan.json"), "--setup", "OP10", "--json"])
        (told,) = json.loads(out.getvalue())
        self.assertEqual((code, told["setup"], told["equal"]), (0, "OP10", True))


if __name__ == "__main__":
    unittest.main()
