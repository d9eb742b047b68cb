"""The strict dialect: every word in its block, every move by itself, arcs by their radius."""

from __future__ import annotations

import unittest

from pelvrak.core.cutting.job import Hole
from pelvrak.core.program.dialects import dialects
from tests.core.test_dialects import planned, written
from tests.core.test_post import drilling

WHOLE = """\
%
O0010 (OP10 TOP)
(PART A)
(INCOMING 60 X 40)
(G57 X-300. Y-200. Z-450.)
(T4 D10 END MILL, OUT 40)
(T11 D5 DRILL, OUT 52)
N10 G21 G17 G90 G40 G49 G80 G94
N20 G91 G28 Z0.000
N30 G90
(FACE D50 TOP 30 DEG)
N40 T4
N50 M6
N60 G57
N70 S5000 M3
N80 G0 X-12.500 Y3.000
N90 G0 G43 H4 Z10.000 M8
N100 G1 X-12.500 Y3.000 Z-1.000 F200
N110 G1 X20.000 Y3.000 Z-1.000 F800
N120 G3 X30.000 Y13.000 Z-1.000 R10.000 F800
N130 G3 X20.000 Y23.000 Z-1.000 R10.000 F800
N140 G2 X26.000 Y29.000 Z-1.375 R6.000 F600
N150 G2 X32.000 Y23.000 Z-1.750 R6.000 F600
N160 G2 X26.000 Y17.000 Z-2.125 R6.000 F600
N170 G2 X20.000 Y23.000 Z-2.500 R6.000 F600
N180 G1 X0.000 Y23.000 Z-2.500 F800
N190 G0 X0.000 Y23.000 Z10.000
(HOLES)
N200 M9
N210 G91 G28 Z0.000
N220 G90
N230 M5
N240 T11
N250 M6
N260 G57
N270 S3000 M3
N280 G0 X0.000 Y0.000
N290 G0 G43 H11 Z10.000 M8
N300 G0 X0.000 Y0.000 Z2.000
N310 G1 X0.000 Y0.000 Z-9.000 F300
N320 G0 X0.000 Y0.000 Z2.000
N330 G0 X12.000 Y5.000 Z10.000
N340 G0 X12.000 Y5.000 Z2.000
N350 G1 X12.000 Y5.000 Z-9.000 F300
N360 G0 X12.000 Y5.000 Z2.000
N370 M9
N380 G91 G28 Z0.000
N390 G90
N400 M5
N410 G91 G28 Y0.000
N420 G90
N430 M30
%
"""


class Strict(unittest.TestCase):
    def test_a_whole_program(self):
        """The same moves; arcs in quarters at most, holes without a cycle."""
        self.assertEqual(written(dialects()["strict"]).text, WHOLE)

    def test_what_it_cannot_say(self):
        """Threads by a cycle, and a line too long."""
        dialect = dialects()["strict"]
        tapped = drilling("tap", [Hole(0.0, 0.0, 2.0, -9.0)], "tpM6")
        found = written(dialect, *planned(), tapped).beyond
        self.assertEqual(found, ("it has no cycle G84, and no moves do the same",))
        short = dialect.model_copy(update={"longest": 30})
        (found,) = written(short).beyond
        self.assertEqual(found, "line 8 has 31 characters, and 30 are taken")

    def test_comments_keep_to_the_line(self):
        short = dialects()["strict"].model_copy(update={"longest": 40})
        said = [line for line in written(short).text.splitlines() if "(" in line]
        self.assertLessEqual(max(map(len, said)), 40)
        self.assertIn("(T11 D5 DRILL, OUT 52)", said)


if __name__ == "__main__":
    unittest.main()
