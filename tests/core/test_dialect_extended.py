"""The extended dialect: what several makers of controls have alike beyond ISO 6983-1."""

from __future__ import annotations

import unittest
from dataclasses import replace

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
N20 G53 G0 Z0.
(FACE D50 TOP 30 DEG)
N30 T4 M6
N40 G57
N50 S5000 M3
N60 M98 P1001
(HOLES)
N70 M9
N80 G53 G0 Z0.
N90 M5
N100 T11 M6
N110 G57
N120 S3000 M3
N130 G0 X0. Y0.
N140 G43 H11 Z10. M8
N150 G98 G81 X0. Y0. Z-9. R2. F300
N160 X12. Y5.
N170 G80
(FACE D50 TOP 30 DEG)
N180 M9
N190 G53 G0 Z0.
N200 M5
N210 T4 M6
N220 G57
N230 S5000 M3
N240 M98 P1001
N250 M9
N260 G53 G0 Z0.
N270 M5
N280 G53 G0 Y0.
N290 M30
O1001
N300 G0 X-12.5 Y3.
N310 G43 H4 Z10. M8
N320 G1 Z-1. F200
N330 X20. F800
N340 G3 X20. Y23. I0. J10.
N350 G2 X20. Y23. Z-2.5 I6. J0. F600
N360 G1 X0. F800
N370 G0 Z10.
N380 M99
%
"""


class Extended(unittest.TestCase):
    def test_a_whole_program(self):
        """As plain, and moves that are made twice are written once, after the end."""
        contour, holes = planned()
        again = replace(contour, run="again")
        self.assertEqual(written(dialects()["extended"], contour, holes, again).text, WHOLE)

    def test_what_it_has_beyond_the_standard(self):
        contour, _ = planned()
        there = replace(contour.where, register="G54.1 P3", tilted=(0.0, 30.0, 0.0))
        bored = drilling("bore_lifted", [Hole(0.0, 0.0, 2.0, -9.0)], "bh28")
        program = written(dialects()["extended"], replace(contour, where=there), bored)
        self.assertEqual(program.beyond, ())
        for said in ("G54.1 P3\n", "G68.2 X0. Y0. Z0. I0. J30. K0.", "G53.1", "G76 X0. Y0. Z-9. R2. Q0.2"):
            self.assertIn(said, program.text)


if __name__ == "__main__":
    unittest.main()
