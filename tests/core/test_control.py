"""What does a program say, and what does the simulated control make of it?

RS274/NGC: T. R. Kramer, F. M. Proctor, E. Messina, The NIST RS274NGC Interpreter - Version 3, NIST IR 6556,
2000; sections from memory, beside each check.
"""

from __future__ import annotations

import math
import random
import unittest

import numpy as np
import pygcode

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Alarm, Event, Held
from pelvrak.core.program.reading import read_program
from pelvrak.core.program.words import Line, Lines, read_line, worked_out
from pelvrak.core.route.running import TextGiven, control_for, stretches_of
from tests.core.changed_programs import changed

HELD = Held(
    {"G54": {"X": 100.0, "Y": 200.0, "Z": -300.0}, "G55": {"X": 10.0, "Y": 20.0, "Z": -300.0}},
    {1: 120.0, 2: 80.0},
)


def value_of(text: str, **held: float) -> float:
    """What X of a line comes to."""
    line = read_line(f"X{text}", 1)
    named = {int(name.removeprefix("n")): value for name, value in held.items()}
    return worked_out(line.words[0][1], lambda index: named[index])  # type: ignore[index]


def events(text: str, held: Held = HELD) -> list[Event]:
    return Control(held).run(text)


class TimeOfCorners(unittest.TestCase):
    """A square of 100 by G64, by G61, and by G9 in one block: from standing to standing a way takes its
    length over the feed and the feed over the acceleration.
    """

    def seconds(self, text: str) -> float:
        machine = machine_of("vertical-760")
        given = TextGiven(
            f"G90 G21 G17 G94 G54\nT1 M6\nS9 M3\nG0 X0 Y0 Z0\n{text}\nM30",
            (("G54", (("X", 0.0), ("Y", 0.0), ("Z", 0.0))),),
            ((1, tool_shelf()["em10"]),),
            machine,
            np.eye(4),
        )
        box = np.zeros(3), np.ones(3)
        return sum(
            float(one.ends_s[-1]) for one in stretches_of(control_for(given).steps(given.text), given, box)
        )

    def test_exact_stop(self):
        sides = ["G1 X100 F3000", "Y100", "X0", "Y0"]
        machine = machine_of("vertical-760")
        speed = 50.0
        way = 100 / speed + speed / machine.acceleration_mm_s2
        going = self.seconds("G64\n" + "\n".join(sides))
        self.assertAlmostEqual(self.seconds("G61\n" + "\n".join(sides)), 4 * way, places=6)
        self.assertLess(going, 4 * way - 0.01)
        # One of three corners stopped in, by G9: a third of the difference.
        once = self.seconds("G64\n" + "\n".join([sides[0], f"G9 {sides[1]}", *sides[2:]]))
        self.assertAlmostEqual(once - going, (4 * way - going) / 3, places=6)

    def test_feed_turned(self):
        held = Held({"G54": {}}, {1: 0.0}, feed_share=0.5, speed_share=0.8)
        control = Control(held)
        control.run("G90 G54\nS1000 M3\nG1 X10 F200\nM0\nM1\nM30")
        self.assertEqual([one.feed for one in control.events if one.kind == "line"], [100.0])
        self.assertEqual([one.optional for one in control.events if one.kind == "stop"], [False, True])
        self.assertEqual((control.stood[-1][1].feed, control.stood[-1][1].speed), (100.0, 800.0))

    def test_a_line_searched_for(self):
        """What comes before line 5 is known and not done: over its place first, then down."""
        control = Control(Held({"G54": {"X": 5.0}}, {1: 100.0}, begins=5), at={"Z": 300.0})
        control.run("G90 G54\nG0 G43 H1 X10 Y20 Z50\nS900 M3\nG1 Z-2 F100\nX30\nM30")
        self.assertEqual(
            [(one.kind, one.line, one.end[:3]) for one in control.events],
            [
                ("rapid", 5, (15.0, 20.0, 300.0)),
                ("rapid", 5, (15.0, 20.0, 98.0)),
                ("line", 5, (35.0, 20.0, 98.0)),
            ],
        )
        self.assertTrue(control.events[-1].cutting)


class Words(unittest.TestCase):
    def test_a_line_is_read_however_it_is_spaced(self):
        """3.3.1: spaces and tabs mean nothing outside comments, case neither: "g0x +0. 12 34y 7" is
        "g0 x+0.1234 y7".
        """
        for text in ("g0x +0. 12 34y 7", "G0 X+0.1234 Y7", "\tG 0 X.1234 Y7."):
            self.assertEqual(read_line(text, 1).words, (("G", 0.0), ("X", 0.1234), ("Y", 7.0)), text)

    def test_expressions(self):
        """3.3.2.3: "[2.0 / 3 * 1.5 - 5.5 / 11.0]" means [[[2.0 / 3] * 1.5] - [5.5 / 11.0]], 0.5; powers come
        first, then products, then sums and logic. 3.3.2.4: angles are in degrees, ROUND goes to the nearest,
        FIX down, FUP up.
        """
        for text, wanted in (
            ("[2.0 / 3 * 1.5 - 5.5 / 11.0]", 0.5),
            ("[1 + 2 * 3 ** 2]", 19.0),
            ("[2 ** 3 ** 2]", 64.0),
            ("[7 MOD 4]", 3.0),
            ("[-7 MOD 4]", 1.0),
            ("[1 AND 0 OR 1]", 1.0),
            ("[1 XOR 1]", 0.0),
            ("SIN[30]", 0.5),
            ("ACOS[0]", 90.0),
            ("ATAN[1]/[-1]", 135.0),
            ("FIX[2.8]", 2.0),
            ("FIX[-2.8]", -3.0),
            ("FUP[2.8]", 3.0),
            ("FUP[-2.8]", -2.0),
            ("ROUND[2.5]", 3.0),
            ("SQRT[[3 * 3] + [4 * 4]]", 5.0),
            ("EXP[LN[7]]", 7.0),
            ("ABS[-4]", 4.0),
            ("#2", 8.0),
            ("-#2", -8.0),
            ("##1", 8.0),
            ("#[1 + 1]", 8.0),
        ):
            self.assertAlmostEqual(value_of(text, n1=2.0, n2=8.0), wanted, places=12, msg=text)

    def test_comments_and_block_delete(self):
        line = read_line("/N30 G1 (down, slowly) Z-1. F80 ; to the floor", 4)
        self.assertEqual((line.skip, line.comments), (1, ("down, slowly", "to the floor")))
        self.assertEqual([letter for letter, _ in line.words], ["N", "G", "Z", "F"])

    def test_what_cannot_be_read_is_told_by_column(self):
        for text, column, told in (
            ("G1 X", 5, "the line ends too soon"),
            ("G1 X1..2", 7, ".2"),
            ("X[2+", 5, "the line ends too soon"),
            ("X5 (abc", 4, "not closed"),
            ("X5 abc)", 7, "not begun"),
            ("G1 $3", 4, "$3"),
            ("IF [#1 GT] GOTO 3", 10, "] GOTO"),
            ("G1 X" + "1" * 1000, 1000, "longer than 1000"),
        ):
            with self.assertRaises(BadInput) as refused:
                read_line(text, 7)
            self.assertEqual(refused.exception.where, f"line 7, column {column}", text)
            self.assertIn(told, refused.exception.what)

    def test_a_whole_text_is_read_as_its_lines_are(self):
        """Scanned in one go over its bytes, and line by line: the same, to the last bit of each number."""

        def alone(text: str, number: int) -> object:
            try:
                return read_line(text, number)
            except BadInput as bad:
                return bad.told()

        def scanned(lines: Lines, at: int) -> object:
            try:
                return lines[at]
            except BadInput as bad:
                return bad.told()

        dice, plain = random.Random(3), 0
        odd = [
            "",
            "%",
            " % ",
            "N1",
            "X",
            "X--1",
            "X1.2.3",
            "X1 2",
            "g1x2",
            "X1E5",
            "Xinf",
            "X1_0",
            "/G0 X1",
            "Ø5",
        ]
        odd += ["X0.1234567890123456", "X99999999999999999999", "G0\tX 1. Y-.5", "(a) X1", "A" * 1001, "X1\r"]
        texts = ["\n".join(odd), *(changed(dice) for _ in range(400))]
        texts.append("\n".join(f"X{dice.uniform(-999, 999):.{dice.randrange(7)}f}" for _ in range(9000)))
        for text in texts:
            lines = Lines(text)
            self.assertEqual(len(lines), text.count("\n") + 1)
            said_so = {line.number: line for line in self.readable(lines)}
            for at, one in enumerate(text.split("\n")):
                stripped = one.rstrip("\r")
                wanted = Line(at + 1) if stripped.strip() in ("%", "") else alone(stripped, at + 1)
                self.assertEqual(scanned(lines, at), wanted, repr(one))
                if at + 1 in said_so:
                    self.assertEqual(said_so[at + 1], wanted)
                    plain += 1
        self.assertGreater(plain, 9000)

    @staticmethod
    def readable(lines: Lines) -> list[Line]:
        """What a text says, where all of it can be read."""
        try:
            return list(lines.said())
        except BadInput:
            return []

    def test_changed_lines_never_break_it(self):
        """Lines with characters changed, lost and doubled are read or refused."""
        seeds = ["N10 G1 X[#1 + 2.5] Y-3. F[SIN[30] * 400]", "IF [#3 LT 4] GOTO 20", "G2 X1 Y2 I.5 J-.5 (x)"]
        dice, read = random.Random(5), 0
        for _ in range(4000):
            line = list(dice.choice(seeds))
            for _ in range(dice.randint(1, 3)):
                at = dice.randrange(len(line))
                line[at : at + 1] = dice.choice([[], [line[at]] * 2, [dice.choice("[]()#=*/+-XGN09. ;")]])
                if not line:
                    break
            try:
                read_line("".join(line), 1)
                read += 1
            except BadInput:
                continue
        self.assertGreater(read, 400)


class Motions(unittest.TestCase):
    def test_registers_lengths_and_absolute(self):
        """3.5.12, 3.5.17, 3.5.8: a register is added, a tool's length too; G91 counts from where it is."""
        done = events("G21 G90 G54 T1 M6\nG0 X1 Y2\nG43 H1 Z5\nG91 X1 Z-2\nG90 G55 X0\nG53 Z0\nM30")
        self.assertEqual([one.kind for one in done], ["rapid"] * 5)
        self.assertEqual(done[1].end[:3], (101.0, 202.0, -300.0 + 120 + 5))
        self.assertEqual(done[2].end[:3], (102.0, 202.0, -177.0))
        self.assertEqual(done[3].end[:3], (10.0, 202.0, -177.0))
        self.assertEqual(done[4].end[:3], (10.0, 202.0, 0.0))
        self.assertEqual(done[4].register, "G55")

    def test_inches(self):
        done = events("G20 G54 G0 X1\nG1 Y1 F10\nM30")
        self.assertAlmostEqual(done[0].end[0], 125.4)
        self.assertAlmostEqual(done[1].feed, 254.0)

    def test_arcs_by_middle_and_by_radius(self):
        """3.5.3: R above 0 takes the arc of less than 180°, below 0 the other; a middle whose distances from
        both ends differ is an error.
        """
        start = "G54 G90 G0 X0 Y0\nF100\n"
        for line, wanted in (
            ("G2 X10 Y0 I5 J0", (5.0, 0.0)),
            ("G3 X10 Y0 R5", (5.0, 0.0)),
            ("G2 X10 Y0 R13", (5.0, -12.0)),
            ("G3 X10 Y0 R13", (5.0, 12.0)),
            ("G2 X10 Y0 R-13", (5.0, 12.0)),
            ("G3 X10 Y0 R-13", (5.0, -12.0)),
        ):
            arc = events(start + line + "\nM30")[-1]
            self.assertAlmostEqual(arc.centre[0] - 100, wanted[0], msg=line)
            self.assertAlmostEqual(arc.centre[1] - 200, wanted[1], msg=line)
        for wrong in ("G2 X10 Y0 I4 J0", "G2 X10 R4", "G3 X0 Y0 R5"):
            with self.assertRaises(Alarm):
                events(start + wrong)

    def test_a_cycle_is_what_it_stands_for(self):
        """3.5.16.1: rapid over the hole, rapid to R, feed to Z, out; G98 to where it was, G99 to R; said once
        it goes on at every place.
        """
        done = events("G54 G90 G0 X0 Y0 Z30\nG99 G81 X4 Y5 Z-6 R2 F90\nX8\nG80\nM30")
        places = [(one.kind, one.end[0] - 100, one.end[1] - 200, one.end[2] + 300) for one in done[1:]]
        one = [("rapid", 4, 5, 30), ("rapid", 4, 5, 2), ("line", 4, 5, -6), ("rapid", 4, 5, 2)]
        two = [("rapid", 8, 5, 2), ("rapid", 8, 5, 2), ("line", 8, 5, -6), ("rapid", 8, 5, 2)]
        self.assertEqual(places, one + two)
        back = events("G54 G90 G0 Z30\nG98 G81 X4 Y5 Z-6 R2 F90\nM30")[-1]
        self.assertEqual(back.end[2], -270.0)

    def test_pecks_reach_the_bottom(self):
        done = events("G54 G0 Z30\nG83 X0 Y0 Z-10 R1 Q3 F50\nM30")
        downs = [one.end[2] + 300 for one in done if one.kind == "line"]
        self.assertEqual(downs, [-2.0, -5.0, -8.0, -10.0])

    def test_feeds_in_inverse_time(self):
        """3.5.19: in G93 F says how often a minute the move would fit."""
        move = events("G54 G90 G0 X0 Y0\nG93 G1 X30 Y40 F4\nM30")[-1]
        self.assertAlmostEqual(move.feed, 4 * math.hypot(30, 40))

    def test_alarms(self):
        for text, told in (
            ("G0 G1 X1", "cannot be on one line"),
            ("X1", "no code says how"),
            ("G1 X1", "feed is wanted"),
            ("G99.9", "not known"),
            ("G65 P9000 Z-5", "no program O9000"),
            ("G59 G0 X1", "has not been set"),
            ("G43 H7 Z1", "no H7"),
            ("G0 X#5", "before anything"),
            ("X1 X2", "twice"),
            ("G0 X[1/0]", "no number"),
            ("GOTO 7", "no line N7"),
            ("M98 P3", "no program O3"),
            ("G81 X1 Z-1 F10", "Z and R"),
        ):
            with self.assertRaises(BadInput) as refused:
                events(text)
            self.assertIn(told, str(refused.exception), text)


class Flow(unittest.TestCase):
    def test_loops_conditions_and_jumps(self):
        done = events(
            "G54 G90\n#1=0\nWHILE [#1 LT 4] DO1\n#1=[#1 + 1]\nIF [#1 EQ 2] GOTO 9\nG0 X#1\nN9 G4 P0\nEND1\n"
            "IF [#1 EQ 4] THEN #2=77\nG0 Y#2\nM30"
        )
        self.assertEqual([one.end[0] - 100 for one in done if one.kind == "rapid"][:-1], [1.0, 3.0, 4.0])
        self.assertEqual(done[-1].end[1], 277.0)

    def test_all_values_come_before_any_setting(self):
        """3.3.3: "#3=15 g1 x#3" on one line, where #3 was 6, goes to x6, and #3 is 15 after it."""
        done = events("G54 G90 F100\n#3=6\n#3=15 G1 X#3\nX#3\nM30")
        self.assertEqual([one.end[0] - 100 for one in done], [6.0, 15.0])

    def test_calls(self):
        done = events("G54 G91\nM98 P50 L3\nG90\nM30\nO50\nG0 X1\nM99")
        self.assertEqual([one.end[0] for one in done], [1.0, 2.0, 3.0])

    def test_a_circle_comes_to_an_end(self):
        with self.assertRaises(Alarm) as stopped:
            Control(HELD, most_steps=500).run("N1 G4 P0\nGOTO 1")
        self.assertIn("circle", stopped.exception.what)

    def test_settings_of_the_tables(self):
        done = events("G10 L2 P3 X7 Y8 Z9\nG10 L1 P5 Z33\nG56 G90 G0 X1 Y1\nG43 H5 Z1\nM30")
        self.assertEqual(done[-1].end[:3], (8.0, 9.0, 43.0))


class Reading(unittest.TestCase):
    def test_what_is_in_a_program(self):
        told = read_program(
            [
                "%",
                "O1 (X)",
                "G21 G90 G54 T3 M6",
                "S500 M3",
                "G0 X1 Y2 Z5",
                "G1 Z-2 F80",
                "X20 Y-4",
                "M30",
                "%",
            ]
        )
        self.assertEqual((told.lines, told.blocks, told.moves, told.tools), (9, 7, 3, (3,)))
        self.assertEqual(
            (told.registers, told.low, told.high), (("G54",), (1.0, -4.0, -2.0), (20.0, 2.0, -2.0))
        )
        self.assertEqual(told.faults, ())

    def test_every_fault_by_its_line(self):
        told = read_program(["G0 X1", "G1 X", "Y2", "$", "M30"])
        self.assertEqual([(f.line, f.column) for f in told.faults], [(2, 5), (4, 1)])
        (first,) = read_program(["G90 G54 G0 X1", "G1 X2", "M30"]).faults
        self.assertEqual((first.line, first.column), (2, 0))
        self.assertIn("feed", first.what)

    def test_words_as_another_parser_has_them(self):
        """pygcode, a general-purpose parser of the registry, reads the same words in the same order."""
        for text in ("G1 X10 Y20 F100", "N5 G02 X1.5 Y0 I-.5 J0", "G54 T2 M6 S300 M3", "G81 X1 Z-2 R1 F20"):
            block = pygcode.Line(text).block
            self.assertEqual(
                [(w.letter, float(w.value)) for w in block.words], list(read_line(text, 1).words), text
            )


if __name__ == "__main__":
    unittest.main()
