"""A setup cut by a text of its own: from elsewhere, or changed by hand."""

from __future__ import annotations

import json
import re
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.engine import Engine, Result, _Within
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Alarm, Held
from pelvrak.core.program.own_text import CalledFile, OwnText, called_by, tools_told
from pelvrak.core.route.edits import edited
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import FIELD, PROGRAM
from pelvrak.core.route.plan import Plan, plan_from, plan_from_json
from pelvrak.core.route.proving import Seen, apart, proof_given, run_and_cut
from pelvrak.core.route.report import Report, SetupReport
from pelvrak.core.route.running import control_for
from tests.core import test_wrapped

DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing"


class OwnTexts(unittest.TestCase):
    plan: Plan
    store = MemoryStore()
    report: Report
    body: bytes

    @classmethod
    def setUpClass(cls):
        plan = plan_from_json((DEMO / "plan.json").read_bytes())
        cls.plan = plan.model_copy(update={"resolution_mm": 1.0})
        cls.body = (DEMO / plan.part.file).read_bytes()
        cls.report = evaluate(cls.plan, cls.body, cls.store)

    def text(self, name: str) -> str:
        key = next(one.program_key for one in self.report.setups if one.name == name)
        return Result(key, Engine(self.store)).value(PROGRAM)

    def with_texts(
        self, texts: dict[str, str], keep: bool = False, whole: bool = False, **more
    ) -> tuple[Plan, Report]:
        """The plan with texts in its setups, their operations taken out or kept. whole: or its first setup
        only.
        """
        setups = []
        for setup in self.plan.setups if whole else self.plan.setups[:1]:
            told: dict = {}
            if setup.name in texts:
                told["text"] = OwnText(file=f"{setup.name}.nc", **more)
                if not keep:
                    told["operations"] = ()
            setups.append(setup.model_copy(update=told))
        plan = plan_from(self.plan.model_copy(update={"setups": tuple(setups)}).model_dump(mode="json"))
        return plan, self.evaluated(plan, texts)

    def evaluated(self, plan: Plan, texts: dict[str, str]) -> Report:
        def files(sha256: str | None, name: str) -> bytes:
            return texts[name.removesuffix(".nc")].encode()

        return evaluate(plan, self.body, self.store, files=files)

    def field(self, key: str):
        return Result(key, Engine(self.store)).value(FIELD)

    def codes(self, report: Report) -> list[str]:
        return [one.code for one in report.findings() if one.severity != "note"]

    def test_a_route_of_nothing_but_texts(self):
        """The demo's programs as files from elsewhere: each cuts its setup, and its stock is carried into the
        next, as the operations' is; at index positions, too.
        """
        texts = {name: self.text(name) for name in ("OP10", "OP20", "OP30")}
        _, report = self.with_texts(texts, whole=True)
        self.assertEqual(self.codes(report), self.codes(self.report))
        for one, planned in zip(report.setups, self.report.setups, strict=True):
            if one.makes is not None:
                continue  # solved anew for the stock that comes, which lies off by what a text is rounded by
            most, _ = apart(self.field(one.outgoing_key), self.field(planned.outgoing_key))
            self.assertLess(most, 0.01, one.name)
            self.assertAlmostEqual(one.time_s / planned.time_s, 1.0, delta=0.12)
            if one.name in texts:
                self.assertEqual({report.kind for report in one.operations}, {"text"})
                self.assertIsNone(one.proof.equal)
                self.assertEqual(one.proof.moves, planned.proof.moves)
        self.assertAlmostEqual(report.comparison.max_left_mm, self.report.comparison.max_left_mm, delta=0.02)
        # Called as the comments before them say.
        op10, planned = report.setups[0].operations, self.report.setups[0].operations
        self.assertEqual([o.name for o in op10], [o.name.upper() for o in planned])
        self.assertEqual([o.tool for o in op10], [o.tool for o in planned])
        for one, own in zip(op10, planned, strict=True):
            self.assertAlmostEqual(one.removed_volume_mm3, own.removed_volume_mm3, delta=0.002 * 17550)
        # Every move knows its line.
        lines = json.loads(self.store.get(report.setups[0].program_key, "lines.json"))
        source = texts["OP10"].splitlines()
        for own in op10:
            self.assertEqual(len(lines[own.run]), own.moves)
            self.assertTrue(all(re.search("[XYZR]", source[line]) for line in lines[own.run]))

    def test_what_a_text_meets_is_found(self):
        """A rapid into the work, and a cut into the vise's jaw: as of operations, with their moves."""
        text = self.text("OP10")
        down = re.sub(r"(G43 H\d+ Z)[\d.]+", r"\g<1>-30.", text)
        _, report = self.with_texts({"OP10": down})
        self.assertIn("cut.rapid_in_stock", self.codes(report))
        deep = re.sub(r"Z-(\d+)", lambda z: f"Z-{int(z[1]) + 40}", text)
        _, report = self.with_texts({"OP10": deep})
        self.assertTrue({"cut.cutter_in_holding", "compare.gouge"} & set(self.codes(report)))

    def test_changed_by_hand(self):
        """Its stock carried on, or the planned one, with the difference; and it is told when the plan has
        moved on.
        """
        written = self.text("OP10")
        line = [one for one in written.splitlines() if re.search(r"G1 Z-\d", one)][-1]
        deeper = written.replace(line, re.sub(r"Z-(\d+)", lambda z: f"Z-{int(z[1]) + 2}", line), 1)
        self.assertNotEqual(deeper, written)
        texts, made = {"OP10": deeper}, called_by(written)
        plan, report = self.with_texts(texts, keep=True, made_from=made)
        told = report.setups[0]
        self.assertEqual(told.written_as, made)
        self.assertEqual(told.planned_key, self.report.setups[0].outgoing_key)
        self.assertNotEqual(told.outgoing_key, told.planned_key)
        (found,) = [one for one in told.findings if one.code == "program.changed"]
        self.assertEqual(found.severity, "note")
        self.assertGreater(found.measured, 1.0)
        # The cure carries the planned stock on; the operations are told again.
        document = edited(plan.model_dump(mode="json"), found.cures[0].edits)
        report = self.evaluated(plan_from(document), texts)
        told = report.setups[0]
        self.assertEqual(told.outgoing_key, self.report.setups[0].outgoing_key)
        self.assertEqual(
            [o.kind for o in told.operations], [o.kind for o in self.report.setups[0].operations]
        )
        (found,) = [one for one in told.findings if one.code == "program.changed"]
        self.assertEqual(found.severity, "warning")
        # What runs on the machine is the text; lines that are alike are run by the plan's moves.
        kept = Result(told.program_key, Engine(self.store))
        self.assertEqual(kept.value(PROGRAM), deeper)
        lines = json.loads(self.store.get(told.program_key, "lines.json"))
        before = json.loads(self.store.get(self.report.setups[0].program_key, "lines.json"))
        self.assertEqual(lines, before)
        # Written otherwise since: it is older.
        later = plan.setups[0].operations[0].model_copy(update={"comment": "X", "clearance": 21.0})
        first = plan.setups[0].model_copy(update={"operations": (later, *plan.setups[0].operations[1:])})
        moved_on = plan.model_copy(update={"setups": (first,)})
        report = self.evaluated(moved_on, texts)
        (found,) = [one for one in report.setups[0].findings if one.code == "program.older"]
        document = edited(moved_on.model_dump(mode="json"), found.cures[0].edits)
        self.assertIsNone(plan_from(document).setups[0].text)

    def test_another_name_makes_no_text_older(self):
        written = self.text("OP10")
        self.assertEqual(called_by(written), called_by(written.replace("O0010 (OP10", "O0070 (OP70")))
        self.assertNotEqual(called_by(written), called_by(written.replace("G54\n", "G55\n", 1)))

    def test_an_alarm_is_told_and_nothing_is_lost(self):
        text = self.text("OP10").replace("G54\n", "G59\n", 1)
        _, report = self.with_texts({"OP10": text})
        (found,) = [one for one in report.setups[0].findings if one.code == "program.stops"]
        self.assertIn("G59 has not been set", found.sentence)
        self.assertEqual(report.setups[0].outgoing_key, report.setups[0].incoming_key)
        self.assertEqual(Result(report.setups[0].program_key, Engine(self.store)).value(PROGRAM), text)
        _, report = self.with_texts({"OP10": "G90 G54\nG1 X[\n"})
        (found,) = [one for one in report.setups[0].findings if one.code == "program.stops"]
        self.assertIn("line 2, column", found.sentence)

    def test_a_tool_that_is_not_there(self):
        """The comment tells of it: one of the plan's is taken, or the shelf's comes into the place."""
        text = (
            "G90 G21 G17 G54\n(T77 D10 END MILL)\nT77 M6\nS5000 M3\nG0 X0 Y0\nG43 H77 Z60\nG1 X10 F300\nM30\n"
        )
        plan, report = self.with_texts({"OP10": text})
        (found,) = [one for one in report.setups[0].findings if one.code == "program.stops"]
        self.assertIn("H77", found.sentence)
        without = text.replace("G43 H77 ", "")
        plan, report = self.with_texts({"OP10": without})
        (found,) = [one for one in report.setups[0].findings if one.code == "program.no_tool"]
        document = edited(plan.model_dump(mode="json"), found.cures[0].edits)
        report = self.evaluated(plan_from(document), {"OP10": without})
        self.assertNotIn("program.no_tool", self.codes(report))
        # Ø9 is none of the plan's: the shelf has no such end mill, but a ball of 8.
        ball = without.replace("D10 END MILL", "DIA 8. BALL")
        plan, report = self.with_texts({"OP10": ball})
        (found,) = [one for one in report.setups[0].findings if one.code == "program.no_tool"]
        self.assertEqual(found.cures[0].label, f"Put {tool_shelf()['bm8'].name} in place 77")
        report = self.evaluated(
            plan_from(edited(plan.model_dump(mode="json"), found.cures[0].edits)), {"OP10": ball}
        )
        self.assertEqual(report.setups[0].operations[0].tool, "bm8")

    def test_what_comments_tell_of_tools(self):
        """As people write them; common practice, no source."""
        told = tools_told(
            "(T5 D10 END MILL)\n(T12 - Ø6.8 DRILL)\nT3 M6 (T3 DIA. 1.5 BALL)\n; T7: SPOT DRILL\n"
        )
        self.assertEqual({n: d for n, (_, d) in told.items()}, {5: 10.0, 12: 6.8, 3: 1.5, 7: None})

    def test_what_is_no_text(self):
        plan, _ = self.with_texts({"OP10": self.text("OP10")})
        for body, code in ((b"G90\0G54", "program.no_text"),):
            report = evaluate(plan, self.body, self.store, files=lambda sha, name, body=body: body)
            self.assertIn(code, self.codes(report))

        def gone(sha256, name):
            raise BadInput("billet.no_file", "billet", f"{name} has not been uploaded", "choose it again")

        report = evaluate(plan, self.body, self.store, files=gone)
        self.assertIn("billet.no_file", self.codes(report))

    def test_jaws_take_no_text(self):
        with self.assertRaisesRegex(BadInput, "takes no other text"):
            self.with_texts({"OP20-JAWS": "M30"}, keep=True, whole=True)


class Beside(unittest.TestCase):
    """Programs of other files that a text calls, lines that may be left out, macros."""

    def test_a_program_of_another_file(self):
        """Its moves are told at the line that calls it, there and back."""
        beside = "%\nO8001\nG1 X[#24] F100\nY5 F100\nM99\nO8002\nG1 Z-1 F50\nM98 P8001\nM99\n%\n"
        text = "G90 G21 G17 G54\nT1 M6\nS9 M3\nG0 X0 Y0\nG65 P8001 X12.5\nM98 P8002\nM30\n"
        held = Held(registers={"G54": {}}, lengths={1: 100.0})
        with self.assertRaisesRegex(Alarm, "no program O8001"):
            Control(held).run(text)
        control = Control(replace(held, beside=(beside,)))
        # #24 of a call by M98 was put by nobody.
        with self.assertRaisesRegex(Alarm, "line 6.*#24"):
            control.run(text)
        ends = [(one.line, one.end[:3]) for one in control.events if one.kind == "line"]
        self.assertEqual(ends, [(5, (12.5, 0.0, 0.0)), (5, (12.5, 5.0, 0.0)), (6, (12.5, 5.0, -1.0))])

    def test_a_macro_has_variables_of_its_own(self):
        text = (
            "G90 G21 G17 G54\nT1 M6\nS9 M3\n#1=7\nG65 P100 A3 L2\nG1 X#1 F100\nM30\n"
            "O100\nG1 Y#1 F100\n#1=#1+1\nM99\n"
        )
        events = Control(Held(registers={"G54": {}}, lengths={1: 100.0})).run(text)
        self.assertEqual([one.end[:2] for one in events], [(0.0, 3.0), (0.0, 4.0), (7.0, 4.0)])

    def test_lines_that_may_be_left_out(self):
        """NIST IR 6556 3.3.1: with the control's block delete on, lines that begin with / are not run."""
        text = "G90 G21 G17 G54\nT1 M6\nS9 M3\n/G1 X5 F100\nG1 Y5 F100\nM30\n"
        held = Held(registers={"G54": {}}, lengths={1: 100.0})
        for deletes, ends in ((True, [(0.0, 5.0)]), (False, [(5.0, 0.0), (5.0, 5.0)])):
            self.assertEqual([one.end[:2] for one in Control(replace(held, deletes=deletes)).run(text)], ends)

    def test_on_the_route(self):
        """A block's corner cut by a program in a file beside the one that calls it."""
        plan = plan_from_json((DEMO / "plan.json").read_bytes())
        place = plan.tools[0].place
        text = f"G90 G21 G54\nT{place} M6\nS900 M3\nG0 G43 H{place} Z20\nX-90 Y0\nM98 P77\nM30\n"
        texts = {"t.nc": text, "s.nc": "O77\nG1 Z-2 F500\nX90\nM99\n"}
        for beside, code in (((), "program.stops"), ((CalledFile(file="s.nc"),), None)):
            own = OwnText(file="t.nc", beside=beside)
            first = plan.setups[0].model_copy(update={"operations": (), "text": own})
            only = plan.model_copy(update={"setups": (first,), "resolution_mm": 2.0})
            body = (DEMO / plan.part.file).read_bytes()
            files = lambda sha, name: texts[name].encode()  # noqa: E731
            setup = evaluate(only, body, MemoryStore(), files=files).setups[0]
            found = [one.code for one in setup.findings if one.code.startswith("program.")]
            self.assertEqual(found, [code] if code else [])
            self.assertEqual(setup.removed_volume_mm3 > 1000, code is None)


class Turned(unittest.TestCase):
    """What a text cuts while the work turns under the tool, on the bar of the wrapped operations."""

    store = test_wrapped.STORE

    def plan(self) -> Plan:
        told = test_wrapped.document(
            {"line": [[0, -5], [0, 5]], "diameter": 50.0, "depth": 1.0, "tool": "em8"}
        )
        told["setups"][0] |= {"operations": [], "text": {"file": "t.nc"}}
        return plan_from(told)

    def cut(self, text: str) -> SetupReport:
        """The bar cut by a text alone."""
        files = lambda sha, name: text.encode()  # noqa: E731
        return evaluate(self.plan(), test_wrapped.part(), self.store, files=files).setups[0]

    def as_run(self, setup: SetupReport, text: str):
        """The stock as the control's moves cut it, by the other way: chords in the work."""
        engine = Engine(self.store, files=lambda sha, name: text.encode())
        given = proof_given(self.plan(), setup, engine)
        given = replace(given, wanted=given.stock)
        return run_and_cut(given, _Within(engine, "test"), control_for(given.text), Seen())[1]

    def field(self, key: str):
        return Result(key, Engine(self.store)).value(FIELD)

    def test_the_written_program_as_a_file(self):
        planned = test_wrapped.computed({"faces": [test_wrapped.floor()], "step_down": 3}).setups[0]
        text = Result(planned.program_key, Engine(self.store)).value(PROGRAM)
        setup = self.cut(text)
        self.assertNotIn("prove", [one.stage for one in setup.findings])
        most, _ = apart(self.field(setup.outgoing_key), self.field(planned.outgoing_key))
        self.assertLess(most, 0.03)
        (own,), (wrap,) = setup.operations, planned.operations
        self.assertEqual(own.findings, ())
        self.assertAlmostEqual(own.moving_s / wrap.moving_s, 1.0, delta=0.1)
        # Every move knows its line.
        source = text.split("\n")
        lines = json.loads(self.store.get(setup.program_key, "lines.json"))[own.run]
        self.assertEqual(len(lines), own.moves)
        self.assertTrue(all(re.search("[XYZA]", source[line]) for line in lines))

    def test_beside_the_axis(self):
        """A slot turned 60° with the cutter 6 beside the axis: as the control's moves cut it; what goes
        sideways as it turns is refused with by how much.
        """
        place = next(one["place"] for one in test_wrapped.TOOLS if one["id"] == "em8")
        begin = f"G90 G21 G17 G94 G54\nT{place} M6\nS9000 M3\nG0 X0 Y6 A0\nG43 H{place} Z5\n"
        text = f"{begin}G1 Z-3 F300\nA60 F600\nX20 A30\nG0 Z20\nM30\n"
        setup = self.cut(text)
        self.assertNotIn("prove", [one.stage for one in setup.findings])
        self.assertGreater(setup.operations[0].removed_volume_mm3, 100)
        most, _ = apart(self.field(setup.outgoing_key), self.as_run(setup, text))
        self.assertLess(most, 0.03)
        for wrong, said in (
            ("G1 Z-3 F300\nY7 A60 F600", "1.000 mm sideways to A"),
            ("G1 Z-3 F300\nA60 F600\nG2 X4 I2 J0 F600\nG1 A0", "an arc is cut between"),
        ):
            setup = self.cut(f"{begin}{wrong}\nG0 Z20\nM30\n")
            (found,) = [one for one in setup.findings if one.code == "program.turned"]
            self.assertIn(said, found.sentence)
            self.assertTrue(np.isfinite(setup.outgoing_volume_mm3))


if __name__ == "__main__":
    unittest.main()
