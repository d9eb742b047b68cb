"""A program cut by itself out of a block: what is left, in closed form, and what it meets."""

from __future__ import annotations

import contextlib
import io
import json
import math
import tempfile
import unittest
from pathlib import Path

import trimesh

from pelvrak.cli import main
from pelvrak.core.cutting.tool_files import tools_to_csv
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.held import Alarm
from pelvrak.core.route.cut_file import cut_file, offsets_from, sizes_of
from pelvrak.core.stock.kept import note_of

TOOL = tool_shelf()["em10"]
HEAD = f"%\nO1 (SLOT)\nG21 G17 G90 G40 G49 G80 G94\nG53 G0 Z0.\nT{TOOL.place} M6\nG54\nS5000 M3\n"
SLOT = f"G0 X-20. Y0.\nG43 H{TOOL.place} Z5.\nG1 Z-4. F300\nX20. F800\nG0 Z5.\nM5\nG53 G0 Z0.\nM30\n%\n"
MIDDLE = {"G54": (50.0, 40.0, 30.0)}


def cut(text: str, offsets=MIDDLE, machine: str = "vertical-760", sizes=(100.0, 80.0, 30.0)):
    return cut_file(text, sizes, [TOOL], offsets, machine_of(machine))


class Slot(unittest.TestCase):
    def test_what_is_left_in_closed_form(self):
        """A slot 40 mm long, Ø10, 4 deep: (40·10 + π·25)·4 mm³."""
        left = cut(HEAD + SLOT)
        exact = 100 * 80 * 30 - (40 * 10 + math.pi * 25) * 4
        self.assertAlmostEqual(left.facts.left_mm3, exact, delta=2.0)
        self.assertEqual(left.facts.met, ())
        (tool,) = left.facts.tools
        self.assertEqual((tool.tool, tool.name), (TOOL.place, TOOL.name))
        # Down 9 mm at 300 and 40 mm at 800, feed for feed; the rest are rapids and the tool's change.
        feeds = 9 / 300 * 60 + 40 / 800 * 60
        self.assertGreater(left.facts.time_s, feeds)

    def test_zero_lies_where_it_is_told(self):
        """The same text from a zero in the corner: half the slot lies in the block."""
        left = cut(HEAD + SLOT, {"G54": (0.0, 40.0, 30.0)})
        exact = 100 * 80 * 30 - (20 * 10 + math.pi * 25 / 2) * 4
        self.assertAlmostEqual(left.facts.left_mm3, exact, delta=2.0)
        # On another machine it comes to the same.
        other = cut(HEAD + SLOT, {"G54": (0.0, 40.0, 30.0)}, "vertical-500")
        self.assertAlmostEqual(other.facts.left_mm3, left.facts.left_mm3, delta=0.5)

    def test_what_it_meets_is_told_by_its_line(self):
        left = cut(HEAD + SLOT.replace("G1 Z-4. F300", "G0 Z-4."))
        (met,) = left.facts.met
        self.assertEqual((met.part, met.line), ("rapid", 10))
        self.assertAlmostEqual(met.depth, 4.0, delta=0.01)
        left = cut(HEAD.replace("S5000 M3\n", "") + SLOT)
        self.assertIn("stopped", {one.part for one in left.facts.met})

    def test_alarms_and_wrong_inputs(self):
        with self.assertRaisesRegex(Alarm, "G55 has not been set"):
            cut(HEAD.replace("G54", "G55") + SLOT)
        with self.assertRaisesRegex(BadInput, "H77"):
            cut(HEAD + SLOT.replace(f"H{TOOL.place}", "H77"))
        for text in ("100x80", "0x10x10", "100x80x99999", "axbxc", "1e3x1x1"):
            with self.assertRaisesRegex(BadInput, "is no block"):
                sizes_of(text)
        self.assertEqual(sizes_of("100 x 80.5 × 30"), (100.0, 80.5, 30.0))
        for data in (b"[]", b"{}", b'{"G54": [1, 2]}', b'{"G53": [1, 2, 3]}', b'{"G54": ["a", 1, 2]}', b"{"):
            with self.assertRaises(BadInput):
                offsets_from(data, "O.json")
        self.assertEqual(offsets_from(b'{"G54.1 P3": [1, 2, 3]}', "O.json"), {"G54.1 P3": (1.0, 2.0, 3.0)})
        with self.assertRaisesRegex(BadInput, "rays"):
            cut_file(HEAD + SLOT, (100.0, 80.0, 30.0), [TOOL], MIDDLE, machine_of("vertical-760"), 0.001)


class Command(unittest.TestCase):
    def test_files_and_facts(self):
        with tempfile.TemporaryDirectory() as folder:
            top = Path(folder)
            (top / "slot.nc").write_text(HEAD + SLOT)
            (top / "T.csv").write_text(tools_to_csv([TOOL]))
            (top / "O.json").write_text('{"G54": [50, 40, 30]}')
            told = ["cut", str(top / "slot.nc"), "--billet", "100x80x30", "--tools", str(top / "T.csv")]
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                code = main([*told, "--offsets", str(top / "O.json"), "--out", str(top / "left"), "--json"])
            facts = json.loads(out.getvalue())
            self.assertEqual((code, facts["met"]), (0, []))
            # The surface it writes, measured by a reader of others.
            made = trimesh.load(top / "left" / "slot.stl")
            self.assertAlmostEqual(abs(made.volume), facts["left_mm3"], delta=1.0)
            self.assertEqual(note_of((top / "left" / "slot.rays").read_bytes()).name, "left by slot.nc")
            (top / "slot.nc").write_text(HEAD + SLOT.replace("G1 Z-4. F300", "G0 Z-4."))
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                self.assertEqual(main([*told, "--out", str(top / "left")]), 1)
            self.assertIn("line 10: A rapid move runs 4.00 mm into the stock", out.getvalue())


if __name__ == "__main__":
    unittest.main()
