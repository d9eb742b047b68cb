"""The post: words, comments, canned cycles of ISO 6983-1, tool changes."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace

from scipy.spatial.transform import Rotation

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.operations import Drilling, Facing
from pelvrak.core.cutting.toolpath import Path
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.program.compose import Head, Planned, Where, composed, turn_in_words
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.dialects import dialects
from pelvrak.core.program.writing import CYCLE_CODES, Program
from pelvrak.core.route.registers import _euler

WALL = (FaceRef(face=1, at=(0.0, 0.0, 0.0)),)


def facing(path: Path, tool: str = "em10", name: str = "Face Ø50 (top) 30°") -> Planned:
    return Planned(
        "f", Facing(id="f", name=name, tool=tool), tool_shelf()[tool], path, [], 5000, 800, Where("G57")
    )


def drilling(cycle: str, holes: list[Hole], tool: str) -> Planned:
    path = Path((0.0, 0.0, 60.0))
    for hole in holes:
        path.rapid(hole.x, hole.y, 10.0)
        path.rapid(hole.x, hole.y, hole.start)
        path.feed(hole.x, hole.y, hole.bottom, 300)
        path.rapid(hole.x, hole.y, hole.start)
    operation = Drilling(id="d", name="holes", tool=tool, cycle=cycle, faces=WALL, chamfer=6.0, peck=3.5)
    return Planned(operation.id, operation, tool_shelf()[tool], path, holes, 3000, 300, Where("G57"))


def post(*told, dialect: Dialect | None = None) -> Program:
    """What is composed of these, written."""
    dialect = dialect or dialects()["extended"]
    return dialect.writer(dialect).write(composed(*told))


def text_of(*planned: Planned, dialect: Dialect | None = None) -> str:
    return post(
        "OP10",
        "Top",
        "Part REV A",
        {"G57": (-380.0, -105.5, -467.25)},
        "130 x 90 x 52 mm",
        list(planned),
        dialect=dialect,
    ).text


class Words(unittest.TestCase):
    def setUp(self):
        path = Path((0.0, 0.0, 60.0))
        path.rapid(-12.5, 3.0, 10.0)
        path.feed(-12.5, 3.0, 0.0, 200)
        path.feed(20.0, 3.0, 0.0, 800)
        path.feed(20.0, 9.123456, 0.0, 800)
        path.arc("ccw", (10.0, 9.0, 0.0), (15.0, 9.0), 800)
        path.rapid(10.0, 9.0, 10.0)
        self.planned = facing(path)
        self.lines = text_of(self.planned).splitlines()

    def moves(self):
        start = next(i for i, line in enumerate(self.lines) if "G43" in line)
        return [re.sub(r"^N\d+ ", "", line) for line in self.lines[start + 1 :]]

    def test_a_move_to_where_it_is_puts_no_g_in_force(self):
        """A ramp ends by an arc where the next cut begins: the line to that place is not written, and the
        line after it has to say G1 itself (ISO 6983-1: G codes stay in force).
        """
        path = Path((0.0, 0.0, 60.0))
        path.rapid(10.0, 0.0, 5.0)
        path.arc("cw", (0.0, 10.0, 1.0), (0.0, 0.0), 300)
        path.feed(0.0, 10.0, 1.0, 300)
        path.feed(30.0, 10.0, 1.0, 800)
        lines = text_of(facing(path)).splitlines()
        arc = next(n for n, line in enumerate(lines) if " G2 " in line or line.startswith("G2"))
        self.assertRegex(lines[arc + 1], r"G1 X30\. F800")

    def test_modal_words_are_written_once(self):
        self.assertEqual(
            self.moves()[:5], ["G1 Z0. F200", "X20. F800", "Y9.123", "G3 X10. Y9. I-5. J-0.123", "G0 Z10."]
        )

    def test_safe_start_and_end(self):
        self.assertEqual((self.lines[0], self.lines[1]), ("%", "O0010 (OP10 TOP)"))
        self.assertIn("N10 G21 G17 G90 G40 G49 G80 G94", self.lines)
        self.assertEqual(
            [re.sub(r"^N\d+ ", "", line) for line in self.lines[-6:]],
            ["M9", "G53 G0 Z0.", "M5", "G53 G0 Y0.", "M30", "%"],
        )

    def test_comments_are_plain_capitals_without_inner_brackets(self):
        comments = [line for line in self.lines if line.startswith("(")]
        self.assertIn("(FACE D50 TOP 30 DEG)", comments)
        self.assertIn("(G57 X-380. Y-105.5 Z-467.25)", comments)
        for line in self.lines:
            self.assertLessEqual(line.count("("), 1)
            self.assertTrue(line.isascii())

    def test_numbers_rise_by_ten(self):
        numbers = [int(line[1:].split()[0]) for line in self.lines if line.startswith("N")]
        self.assertEqual(numbers, list(range(10, 10 * len(numbers) + 10, 10)))

    def test_register_before_every_operation(self):
        other = Path((0.0, 0.0, 60.0))
        other.rapid(1.0, 1.0, 10.0)
        other.feed(1.0, 1.0, -1.0, 100)
        text = text_of(self.planned, facing(other, "em8", "Second"), facing(other, "em8", "Third"))
        self.assertEqual(len(re.findall(r"N\d+ G57\b", text)), 3)
        self.assertEqual(len(re.findall(r"M6\b", text)), 2)  # the third keeps its tool

    def test_an_operation_without_moves_is_left_out(self):
        program = post("OP10", "", "p", {}, "b", [facing(Path((0.0, 0.0, 0.0)), name="Nothing")])
        self.assertNotIn("NOTHING", program.text)
        self.assertEqual(program.lines, {})

    def test_a_turned_plane_and_a_stop(self):
        """Turning: spindle up, clamps off, angle, clamps on; the plane by Euler angles and square to it;
        cancelled before the next.
        """
        rotary = (("A", -30.0, "M10", "M11"),)
        first = replace(self.planned, where=Where("G54", rotary, tilted=(0.0, -30.0, 0.0)))
        second = replace(
            facing(self.planned.path), where=Where("G54", (("A", 90.0, "M10", "M11"),), message="SECOND SIDE")
        )
        text = post("OP10", "", "p", {}, "b", [first, second]).text
        lines = [" ".join(w for w in line.split() if not w.startswith("N")) for line in text.splitlines()]
        at = lines.index("G0 A-30.")
        self.assertEqual((lines[at - 1], lines[at + 1]), ("M11", "M10"))
        plane = lines.index("G68.2 X0. Y0. Z0. I0. J-30. K0.")
        self.assertEqual(lines[plane + 1], "G53.1")
        again = lines.index("G0 A90.")
        self.assertLess(lines.index("G69"), again)
        self.assertIn("M0 (SECOND SIDE)", lines[plane:again])
        self.assertIn("G53 G0 Z0.", lines[plane:again])

    def test_nothing_turns_or_changes_under_a_tool_that_is_down(self):
        """Wherever the last jog left Z: up before the first tool change and the first rotary word, and before
        every later one.
        """
        here = Where("G55", (("A", -30.0, "M10", "M11"),))
        program = post(
            "OP10",
            "",
            "p",
            {},
            "b",
            [replace(self.planned, where=here)],
            Head(home=(("A", 0.0, "M10", "M11"),)),
        )
        lines = [re.sub(r"^N\d+ ", "", line) for line in program.text.splitlines()]
        first = next(i for i, line in enumerate(lines) if "M6" in line or line.startswith("G0 A"))
        self.assertIn("G53 G0 Z0.", lines[:first])
        # The rotary goes home at the end, unclamped and clamped, with the spindle up: the next part is loaded
        # as this one was.
        home = lines.index("G0 A0.")
        self.assertEqual(lines[home - 1 : home + 2], ["M11", "G0 A0.", "M10"])
        self.assertIn("G53 G0 Z0.", lines[home - 5 : home])
        self.assertLess(home, lines.index("M30"))

    def test_the_head_says_what_the_operator_finds(self):
        head = Head(found_in="G54", number=20, digits=5)
        text = post(
            "OP30", "Side", "p", {"G54": (1.0, 2.0, 3.0), "G55": (4.0, 5.0, 6.0)}, "b", [self.planned], head
        ).text
        self.assertIn("(G54 X1. Y2. Z3.)\n(G55 X4. Y5. Z6.)\n(FIND G54, THE OTHERS ARE TURNED FROM IT)", text)
        self.assertEqual(text.splitlines()[1], "O00020 (OP30 SIDE)")

    def test_block_numbers_end_where_the_control_ends(self):
        def numbers(last: int) -> list[int]:
            text = post("OP10", "", "p", {}, "b", [self.planned], Head(last_block=last)).text
            return [int(line[1:].split()[0]) for line in text.splitlines() if line.startswith("N")]

        count = len(numbers(9999))
        for last, step in ((9999, 10), (10 * count, 10), (10 * count - 1, 5), (2 * count, 2), (count, 1)):
            self.assertEqual(numbers(last), [step * i for i in range(1, count + 1)], last)
        self.assertEqual(numbers(count - 1), [])

    def test_a_plain_turn_is_told_as_one(self):
        """Against scipy's own rotation vectors: the same plane, and the angle an operator can read."""
        for vector in ([-30, 0, 0], [0, 45, 0], [0, 0, 90], [10, 20, 30], [180, 0, 0]):
            turn = Rotation.from_rotvec(vector, degrees=True)
            told = _euler(turn)
            self.assertAlmostEqual(
                (Rotation.from_euler("ZXZ", told, degrees=True) * turn.inv()).magnitude(), 0.0, places=7
            )
        self.assertEqual(_euler(Rotation.from_rotvec([-30, 0, 0], degrees=True)), (0.0, -30.0, 0.0))
        self.assertEqual(turn_in_words((0.0, -30.0, 0.0)), "turned -30. ° about X")
        self.assertEqual(
            turn_in_words(_euler(Rotation.from_rotvec([0, 45, 0], degrees=True))), "turned 45. ° about Y"
        )

    def test_coordinates_from_another_place(self):
        """Counted from the rotary centre every coordinate is shifted alike, arcs' centres stay where they are
        from their start.
        """
        plain = post("OP10", "", "p", {}, "b", [self.planned]).text
        moved = post(
            "OP10", "", "p", {}, "b", [replace(self.planned, where=Where("G57", shift=(1.0, 2.0, 3.0)))]
        ).text
        self.assertIn("X-12.5 Y3.", plain)
        self.assertIn("X-11.5 Y5.", moved)
        arc = lambda text: next(line for line in text.splitlines() if " G3 " in line).split(" I")[1]  # noqa: E731
        self.assertEqual(arc(plain), arc(moved))

    def test_every_move_has_its_line(self):
        program = post("OP10", "", "p", {}, "b", [self.planned])
        lines = program.text.splitlines()
        own = program.lines["f"]
        self.assertEqual(len(own), len(self.planned.path.moves))
        self.assertIn("G43", lines[own[0]])
        self.assertIn("G3", lines[own[4]])


class Said(unittest.TestCase):
    """What an operation says besides its moves, in the codes of ISO 6983-1."""

    def lines(self, planned, **told):
        operation = planned.operation.model_copy(update=told)
        text = text_of(replace(planned, operation=operation))
        return [re.sub(r"^N\d+ ", "", line) for line in text.splitlines()]

    def setUp(self):
        self.path = Path((0.0, 0.0, 60.0))
        self.path.rapid(0.0, 0.0, 10.0)
        self.path.feed(0.0, 0.0, 0.0, 200)
        self.path.feed(20.0, 0.0, 0.0, 800)
        self.path.rapid(20.0, 0.0, 10.0)
        self.planned = facing(self.path)

    def test_coolant_and_spindle(self):
        for coolant, code in (("flood", "M8"), ("mist", "M7"), ("off", "M9")):
            lines = self.lines(self.planned, coolant=coolant)
            self.assertTrue(next(line for line in lines if "G43" in line).endswith(code), coolant)
        self.assertIn("S5000 M4", self.lines(self.planned, spindle="backward"))
        self.assertIn("S5000 M3", self.lines(self.planned))

    def test_a_stop_is_made_with_the_spindle_up_and_standing(self):
        lines = self.lines(self.planned, stop_before="stop", stop_after="optional", comment="Turn the clamp")
        before, after = lines.index("M0 (TURN THE CLAMP)"), lines.index("M1 (TURN THE CLAMP)")
        for stop in (before, after):
            self.assertEqual(lines[stop - 3 : stop], ["M9", "G53 G0 Z0.", "M5"])
        self.assertLess(before, next(n for n, line in enumerate(lines) if line.startswith("G43")))
        self.assertGreater(after, max(n for n, line in enumerate(lines) if line.startswith("X20.")))
        self.assertIn("(TURN THE CLAMP)", lines)
        self.assertNotIn("M0", self.lines(self.planned))

    def test_cycles_with_a_dwell(self):
        holes = [Hole(0.0, 0.0, 2.0, -10.0)]
        for cycle, tool, plain, dwelling in (
            ("drill", "dr5", "G81", "G82"),
            ("bore", "bh28", "G85", "G89"),
            ("bore_stopped", "bh28", "G86", "G86"),
        ):
            planned = drilling(cycle, holes, tool)
            plainly = next(line for line in self.lines(planned) if "G98" in line)
            self.assertIn(plain, plainly)
            self.assertNotIn("P", plainly)
            dwelt = next(line for line in self.lines(planned, dwell_s=0.4) if "G98" in line)
            self.assertIn(dwelling, dwelt)
            self.assertIn("P0.4", dwelt)

    def test_chips_broken_and_a_bar_lifted(self):
        holes = [Hole(0.0, 0.0, 2.0, -10.0)]
        broken = next(line for line in self.lines(drilling("chip_break", holes, "dr5")) if "G98" in line)
        self.assertIn("G73", broken)
        self.assertIn("Q3.5", broken)
        lifted = next(line for line in self.lines(drilling("bore_lifted", holes, "bh28")) if "G98" in line)
        self.assertIn("G76", lifted)
        self.assertIn("Q0.2", lifted)

    def test_what_no_cycle_does_is_written_move_by_move(self):
        planned = drilling("peck", [Hole(0.0, 0.0, 2.0, -10.0)], "dr5")
        planned.path.moves[2] = replace(planned.path.moves[2], dwell_s=0.4)
        lines = self.lines(planned, dwell_s=0.4)
        self.assertFalse(any("G83" in line for line in lines))
        at = lines.index("G4 P0.4")
        self.assertTrue(lines[at - 1].startswith("G1 Z-10."))
        self.assertFalse(any("G98" in line for line in self.lines(planned, retract_feed=500.0)))


class Cycles(unittest.TestCase):
    def test_codes_of_iso_6983(self):
        for cycle, tool in (
            ("spot", "sd10"),
            ("drill", "dr5"),
            ("peck", "dr5"),
            ("ream", "rm8"),
            ("tap", "tpM6"),
        ):
            text = text_of(drilling(cycle, [Hole(1, 2, 2.0, -12.0)], tool))
            block = next(line for line in text.splitlines() if CYCLE_CODES[cycle] in line)
            self.assertIn(f"G98 {CYCLE_CODES[cycle]} X1. Y2. Z-12. R2.", block)
            self.assertEqual("Q3.5" in block, cycle == "peck")
            self.assertIn("F300", block)
            self.assertRegex(text, r"N\d+ G80\n")

    def test_like_holes_need_only_their_place(self):
        holes = [Hole(0, 0, 2, -8), Hole(10, 0, 2, -8), Hole(20, 5, 2, -10)]
        lines = text_of(drilling("drill", holes, "dr5")).splitlines()
        at = next(i for i, line in enumerate(lines) if "G81" in line)
        self.assertEqual(re.sub(r"^N\d+ ", "", lines[at + 1]), "X10. Y0.")
        self.assertIn("G81 X20. Y5. Z-10.", lines[at + 2])

    def test_lines_follow_the_holes(self):
        holes = [Hole(0, 0, 2, -8), Hole(10, 0, 2, -8)]
        program = post("OP10", "", "p", {}, "b", [drilling("drill", holes, "dr5")])
        text = program.text.splitlines()
        said = [text[n] for n in program.lines["d"]]
        self.assertEqual(len(said), 8)
        self.assertIn("G81", said[2])
        self.assertIn("X10.", said[-1])


if __name__ == "__main__":
    unittest.main()
