"""Dialects: each setting changes what is written, and never where the machine goes."""

from __future__ import annotations

import json
import re
import unittest
from dataclasses import replace

import pygcode
from pydantic import ValidationError

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.toolpath import Path
from pelvrak.core.errors import BadInput
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program import blocks
from pelvrak.core.program.compose import Head, composed
from pelvrak.core.program.control import Control
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.dialects import KINDS, Extended, Strict, dialect_from_json, dialect_of, dialects
from pelvrak.core.program.held import Held
from pelvrak.core.program.writing import Program, Writer
from tests.core.test_post import drilling, facing, post

HELD = Held(registers={"G57": {"X": -300.0, "Y": -200.0, "Z": -450.0}}, lengths={4: 120.0, 11: 150.0})


def planned() -> list:
    """A contour with a half and a full turn and a helix, and holes made by pecks."""
    path = Path((0.0, 0.0, 60.0))
    path.rapid(-12.5, 3.0, 10.0)
    path.feed(-12.5, 3.0, -1.0, 200)
    path.feed(20.0, 3.0, -1.0, 800)
    path.arc("ccw", (20.0, 23.0, -1.0), (20.0, 13.0), 800)
    path.arc("cw", (20.0, 23.0, -2.5), (26.0, 23.0), 600)
    path.feed(0.0, 23.0, -2.5, 800)
    path.rapid(0.0, 23.0, 10.0)
    holes = [Hole(0.0, 0.0, 2.0, -9.0), Hole(12.0, 5.0, 2.0, -9.0)]
    return [facing(path, "em10"), drilling("drill", holes, "dr5")]


def written(dialect: Dialect, *told) -> Program:
    registers = {"G57": (-300.0, -200.0, -450.0)}
    return post("OP10", "Top", "Part A", registers, "60 x 40", list(told) or planned(), dialect=dialect)


def way(text: str, dialect: Dialect) -> list[tuple]:
    """Where the simulated control goes, without the middle of what is cut in parts."""
    held = replace(HELD, dwell_ms=dialect.dwell == "P ms")
    control = Control(held, machine=machine_of("vertical-760"))
    return [(one.kind, one.end) for one in control.run(text)]


class EachOption(unittest.TestCase):
    def setUp(self):
        self.usual = dialects()["extended"]
        self.way = way(written(self.usual).text, self.usual)

    def told(self, **told) -> str:
        dialect = self.usual.model_copy(update=told)
        text = written(dialect).text
        self.assertEqual(len(way(text, dialect)), len(self.way), told)
        for (kind, end), (kind_, end_) in zip(way(text, dialect), self.way, strict=True):
            self.assertEqual(kind, kind_)
            for one, two in zip(end, end_, strict=True):
                self.assertAlmostEqual(one, two, delta=10.0 ** -told.get("decimals", 3))
        return text

    def test_the_text(self):
        self.assertNotIn("%", self.told(percent=False))
        self.assertIn("\n:0010 (OP10 TOP)", self.told(program_name=":"))
        self.assertNotIn("O0010", self.told(program_name="none"))
        self.assertIn("; FACE D50 TOP 30 DEG\n", self.told(comments="semicolon"))
        self.assertNotIn("FACE", self.told(comments="none"))
        self.assertIsNone(re.search(r"^N\d", self.told(numbered=False), re.MULTILINE))
        self.assertIn("G1Z-1.F200", self.told(spaces=False))
        self.assertIn("X-12.5 Y3.\n", self.told(decimals=4))
        self.assertIn("X-12.500 Y3.000\n", self.told(zeros=True))

    def test_the_moves(self):
        repeated = self.told(repeated=True)
        self.assertIn("G1 X20. Y3. Z-1. F800", repeated)
        self.assertEqual(len(re.findall(r"G81 .*R2\.", repeated)), 2)
        self.assertIn("G81", self.told(cycles="standard"))

    def test_the_machine(self):
        dialect = self.usual.model_copy(update={"retreat": "G28"})
        text = re.sub(r"N\d+ ", "", written(dialect).text)
        self.assertIn("G91 G28 Z0.\nG90\n", text)
        self.assertEqual(way(text, dialect)[-1][1][1], 0.0)
        self.assertRegex(self.told(change="apart"), r"T4\nN\d+ M6\n")
        self.assertRegex(self.told(next_tool=True), r"T4 M6\nN\d+ T11\n")
        self.assertIn(" M80\n", written(self.usual.model_copy(update={"flood": "M80"})).text)
        safe = ("G21 G17", "G90 G40 G49 G80 G94")
        self.assertRegex(self.told(safe=safe), r"N10 G21 G17\nN20 G90 G40 G49 G80 G94\n")
        self.assertRegex(self.told(end="M2"), r"M2\n%\n$")

    def test_how_long_it_stands(self):
        told = planned()
        told[1] = drilling("drill", told[1].holes, "dr5")
        operation = told[1].operation.model_copy(update={"dwell_s": 0.4})
        standing = [told[0], told[1].__class__(**{**vars(told[1]), "operation": operation})]
        for dwell, said in (("P s", "P0.4"), ("P ms", "P400"), ("X s", "P0.4")):
            dialect = self.usual.model_copy(update={"dwell": dwell})
            text = written(dialect, *standing).text
            self.assertRegex(text, rf"G82 .* {re.escape(said)} F300")
            held = replace(HELD, dwell_ms=dwell == "P ms")
            control = Control(held, machine=machine_of("vertical-760"))
            stood = [one.seconds for one in control.run(text) if one.kind == "dwell"]
            self.assertEqual(stood, [0.4, 0.4], dwell)

    def test_moves_of_a_hole_instead_of_its_cycle(self):
        """The same places as the cycle goes to."""
        dialect = self.usual.model_copy(update={"cycles": "none"})
        text = written(dialect).text
        self.assertNotIn("G81", text)
        # Their register, the tool's length, and the hole.
        for x, y in ((-300.0, -200.0), (-288.0, -195.0)):
            bottom = ("line", (x, y, -450.0 + 150.0 - 9.0, 0.0, 0.0, 0.0))
            self.assertIn(bottom, self.way)
            self.assertIn(bottom, way(text, dialect))

    def test_every_block_is_written(self):
        for kind in set(blocks.Block.__args__) - {blocks.Closing}:
            self.assertTrue(callable(getattr(Writer, kind.__name__.lower(), None)), kind)


class Arcs(unittest.TestCase):
    """By their radius, in parts: read by a reader that is not ours, and reckoned by hand."""

    def test_a_half_turn_in_quarters(self):
        text = re.sub(
            r"N\d+ ",
            "",
            written(dialects()["extended"].model_copy(update={"arcs": "radius", "arcs_most": 90})).text,
        )
        # About (20, 13), from below: by the right, then the top.
        self.assertIn("G3 X30. Y13. R10.\nX20. Y23. R10.\n", text)
        # A helix all round about (26, 23) by the other hand, 1.5 down in four.
        self.assertIn(
            "G2 X26. Y29. Z-1.375 R6. F600\nX32. Y23. Z-1.75 R6.\n"
            "X26. Y17. Z-2.125 R6.\nX20. Y23. Z-2.5 R6.\n",
            text,
        )

    def test_no_wider_than_its_radius_tells(self):
        with self.assertRaisesRegex(ValidationError, "tells its centre badly"):
            Extended(id="x", name="X", arcs="radius", arcs_most=180)

    def test_another_reader_goes_the_same_way(self):
        """pygcode, which knows the words of RS274/NGC: the ends of all blocks."""
        for dialect in dialects().values():
            ends, at = [], {}
            for line in written(dialect).text.splitlines():
                block = pygcode.Line(re.sub(r"^N\d+ |\(.*\)|^[%O:].*", "", line)).block
                places = {w.letter: w.value for w in block.words if w.letter in "XYZ"}
                if places and not any(str(w) in ("G53", "G28") for w in block.words):
                    at |= places
                    ends.append(tuple(at.values()))
            self.assertEqual(ends[-1][:2], (12.0, 5.0))
            self.assertIn((20.0, 23.0, -2.5), ends)


class Subprograms(unittest.TestCase):
    def setUp(self):
        contour, holes = planned()
        self.twice = [contour, holes, contour.__class__(**{**vars(contour), "run": "again"})]

    def test_moves_that_are_alike_are_written_once(self):
        program = written(dialects()["extended"], *self.twice)
        self.assertEqual(program.text.count("M98 P1001"), 2)
        self.assertEqual(program.text.count("\nO1001\n"), 1)
        self.assertLess(program.text.index("M30"), program.text.index("O1001"))
        self.assertEqual(program.lines["f"], program.lines["again"])
        lines = program.text.splitlines()
        self.assertIn("G43 H4", lines[program.lines["f"][0]])
        plainly = written(dialects()["plain"], *self.twice)
        self.assertNotIn("M98", plainly.text)
        one, two = dialects()["extended"], dialects()["plain"]
        self.assertEqual(way(program.text, one), way(plainly.text, two))

    def test_none_of_another_program(self):
        """A control keeps all programs in one memory: a number that is taken is not given again."""
        dialect = dialects()["extended"]
        said = written(dialect, *self.twice)
        self.assertIn("O1001", said.text)
        head = Head(taken=(1001, 1002))
        again = composed("OP10", "Top", "A", {"G57": (0.0, 0.0, 0.0)}, "b", self.twice, head)
        self.assertIn("M98 P1003", dialect.writer(dialect).write(again).text)


class Files(unittest.TestCase):
    def test_there_and_back(self):
        for one in dialects().values():
            self.assertEqual(dialect_from_json(one.model_dump_json(), "d.json"), one)

    def test_what_is_none(self):
        good = json.loads(Strict(id="s", name="S").model_dump_json())
        for told, where in (
            ({"kind": "klingon"}, "kind"),
            ({"decimals": 9}, "decimals"),
            ({"letters": "abc"}, "letters"),
            ({"flood": "on"}, "flood"),
            ({"colour": "red"}, "colour"),
        ):
            with self.assertRaises(BadInput) as bad:
                dialect_from_json(json.dumps(good | told), "d.json")
            self.assertIn(where, str(bad.exception))
        with self.assertRaises(BadInput):
            dialect_from_json(b"\xff{", "d.json")
        with self.assertRaisesRegex(BadInput, "no dialect 'none'"):
            dialect_of("none")

    def test_every_setting_says_what_it_is_for(self):
        for kind in KINDS.values():
            for name, field in kind.model_json_schema()["properties"].items():
                if name != "kind":
                    self.assertTrue(field["title"], name)
                    self.assertGreater(len(field["description"]), 10, name)


if __name__ == "__main__":
    unittest.main()
