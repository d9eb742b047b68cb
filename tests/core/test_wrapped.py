"""A flat path laid round a rotary axis: its length, what it cuts, where the program goes, and what cannot
be.
"""

from __future__ import annotations

import math
import unittest
from functools import cache
from typing import Any

import numpy as np
from pygcode import Line

from pelvrak.core.cutting.toolpath import Chords, Round
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.cutting.wrapped import rolled
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.machine.kinematics import pose
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.cut_facts import laid
from pelvrak.core.route.cutting import wrapped_fact
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import path_from_json
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import OperationReport, Report
from tests import solids

BAR, FLOOR, LENGTH = 50.0, 44.0, 180.0
TOOLS = [tool_shelf()[name].model_dump(mode="json") for name in ("em3", "em8")]
STORE = MemoryStore()


@cache
def part() -> bytes:
    """A bar Ø50 along x with a floor on Ø44 from 40° before to 40° behind its top, 40 mm long."""

    def lying(diameter, x0, x1):
        return solids.turned(solids.cylinder((0, 0, x0), diameter / 2, x1 - x0), 90, (0, 1, 0))

    sector = solids.minus(
        lying(BAR + 10, 70, 110),
        lying(FLOOR, 60, 120),
        solids.turned(solids.box((-10, 0, -100), (200, 100, 100)), -40, (1, 0, 0)),
        solids.turned(solids.box((-10, -100, -100), (200, 0, 100)), 40, (1, 0, 0)),
    )
    return solids.step_bytes(solids.minus(lying(BAR, 0, LENGTH), sector))


@cache
def floor() -> dict[str, Any]:
    face = next(
        f for f in read_step(part(), "bar.step").part.faces if f.kind == "cylinder" and f.radius == 22.0
    )
    return {"face": face.number, "at": list(face.centre)}


def document(operation: dict[str, Any], **setup: Any) -> dict[str, Any]:
    """The bar on the cradle of the machine with a rotary about X: half its diameter over the plate lies the
    rotary axis.
    """
    strap = {"fixture": "strap-80", "on": "table", "y": 85}
    return {
        "name": "wrapped",
        "part": {"file": "bar.step"},
        "resolution_mm": 0.5,
        "tools": TOOLS,
        "billet": {
            "kind": "bar",
            "material": "EN AW-6082",
            "axis": "x",
            "diameter": BAR,
            "minus": 0.0,
            "plus": 0.0,
        },
        "setups": [
            {
                "name": "OP10",
                "machine": "vertical-760-a",
                "hold": {
                    "items": [
                        {"id": "left", **strap, "x": 80, "turn_deg": -90},
                        {"id": "right", **strap, "x": 240, "turn_deg": 90},
                    ],
                    "work": {"x": 0, "y": 80},
                },
                "operations": [{"id": "wrap", "name": "Wrap", "kind": "wrapped", "tool": "em3", **operation}],
                **setup,
            }
        ],
    }


def computed(operation: dict[str, Any], **setup: Any) -> Report:
    return evaluate(plan_from(document(operation, **setup)), part(), STORE)


def codes(report: Report) -> dict[str, str]:
    return {
        f.code: f.sentence
        for s in report.setups
        for f in (*s.findings, *(g for o in s.operations for g in o.findings))
    }


class Flat(unittest.TestCase):
    def test_once_round_a_one_inch_bar(self):
        """π × 1 in = 3.1416 in: common practice, no source."""
        lie = Round((1.0, 0.0, 0.0), (0.0, 0.0, -12.7), 12.7, "A", 0.0, -1)
        ends = np.array([[0.0, 0.0, 0.0], [0.0, math.pi * 25.4, 0.0]])
        flat = Chords(ends[:1], ends[1:], np.zeros(1, np.uint8), np.zeros(1, np.int64))
        fact = wrapped_fact(laid(lie, flat, 12.7))
        self.assertEqual(round(fact.flat_length.value / 25.4, 4), 3.1416)
        self.assertAlmostEqual(fact.centre_below.value, 12.7)
        self.assertAlmostEqual(lie.angle_at(math.pi * 25.4), -360.0)

    def test_a_point_of_the_flat_comes_to_the_top(self):
        """The place of the work that lies an arc of y from the top is under the tool when the axis stands at
        y / r.
        """
        lie = Round((1.0, 0.0, 0.0), (0.0, 3.0, -20.0), 20.0, "A", 0.0, -1)
        y = 20.0 * math.radians(35)
        flat = Chords(
            np.array([[5.0, 0.0, 0.0]]),
            np.array([[5.0, y, 0.0]]),
            np.zeros(1, np.uint8),
            np.zeros(1, np.int64),
        )
        lines, axes = rolled(flat, lie, 20.0, 0.001)
        s, c = math.sin(math.radians(35)), math.cos(math.radians(35))
        np.testing.assert_allclose(lines.ends[-1], (5.0, 3.0 + 20 * s, -20 + 20 * c), atol=1e-9)
        np.testing.assert_allclose(
            axes[-1], (0, s, c), atol=0.02
        )  # the axis of a chord is that of its middle


class OnTheRoute(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.pocket = computed({"faces": [floor()], "step_down": 3})

    def one(self, report: Report) -> OperationReport:
        return report.setups[0].operations[0]

    def test_a_floor_is_cleared(self):
        """What is left are the corners of the flat, where Ø3 does not come, and the walls' lean: 1.4 mm of
        the wall's parallel.
        """
        report = self.pocket
        self.assertEqual([f.sentence for f in self.one(report).findings if f.severity == "error"], [])
        sector = math.pi * (25**2 - 22**2) * 80 / 360 * 40
        self.assertAlmostEqual(self.one(report).removed_volume_mm3 / sector, 1.0, delta=0.04)
        assert report.comparison is not None
        self.assertLess(report.comparison.max_gouge_mm, report.comparison.stated_error_mm)
        # A cutter's walls stand parallel, the part's lean to the axis: at the top they lie 25·sin 40° -
        # 22·sin 40° apart at most.
        self.assertLess(report.comparison.max_left_mm, 3 * math.sin(math.radians(40)) + 0.2)

    def test_what_the_engineer_reads(self):
        fact = self.one(self.pocket).wrapped
        assert fact is not None
        self.assertAlmostEqual(fact.flat_length.value, math.pi * FLOOR, places=3)
        self.assertAlmostEqual(fact.centre_below.value, BAR / 2, delta=0.01)  # what the bar's facets know
        self.assertEqual(fact.axis, "A")
        # The cutter's middle stays half its diameter inside the walls.
        inside = 40 - math.degrees(1.5 / 22)
        np.testing.assert_allclose(fact.turns, (-inside, inside), atol=0.05)

    def test_along_the_walls_of_a_floor(self):
        """0.4 mm left all round a floor of 40 by 22 mm · 80°, taken in one depth by Ø3."""
        rough = {"faces": [floor()], "step_down": 3, "leave": 0.4}
        plan = document(rough)
        walls = {**plan["setups"][0]["operations"][0], "id": "walls", "name": "Walls", "way": "walls"}
        plan["setups"][0]["operations"].append({**walls, "leave": 0.0, "step_down": 4, "spring": 1})
        report = evaluate(plan_from(plan), part(), STORE)
        cleared, along = report.setups[0].operations
        self.assertEqual([f.sentence for f in along.findings if f.severity == "error"], [])
        high, wide, left = 40.0, 22 * math.radians(80), 0.4
        # What is cut on the flat is so much wider where the bar's outside was.
        wider = (25**2 - 22**2) / (2 * 22)
        exact = (high * wide - (high - 2 * left) * (wide - 2 * left)) * wider
        self.assertAlmostEqual(along.removed_volume_mm3 / exact, 1.0, delta=0.08)
        whole = self.one(self.pocket).removed_volume_mm3
        both = cleared.removed_volume_mm3 + along.removed_volume_mm3
        self.assertAlmostEqual(both / whole, 1.0, delta=0.005)
        assert report.comparison is not None
        self.assertLess(report.comparison.max_gouge_mm, report.comparison.stated_error_mm)

    def test_a_groove_on_a_line(self):
        """About two ninths of the bar: the ring between the radii, as wide as the cutter, and half a cutter's
        disc at either end.
        """
        arc = BAR / 2 * math.radians(40)
        report = computed({"tool": "em8", "line": [[0, -arc], [0, arc]], "diameter": BAR, "depth": 2.0})
        exact = math.pi * (25**2 - 23**2) * 80 / 360 * 8 + math.pi * 4**2 * 2
        self.assertEqual([f.sentence for f in self.one(report).findings if f.severity == "error"], [])
        self.assertAlmostEqual(self.one(report).removed_volume_mm3 / exact, 1.0, delta=0.015)

    def test_the_text_leaves_the_same(self):
        """Run by the control while the work turns, by inverse time."""
        for report in (
            self.pocket,
            computed({"tool": "em8", "line": [[0, -9], [0, 9]], "diameter": BAR, "depth": 2}),
        ):
            proof = report.setups[0].proof
            self.assertTrue(proof.equal, proof)
            # As long as planned, and the ways home besides.
            self.assertGreater(proof.time_s, 0.95 * proof.planned_s)
            self.assertLess(proof.time_s, 1.1 * proof.planned_s + 6)

    def test_the_program_puts_the_tool_where_the_stock_was_cut(self):
        """Machine coordinates of every block, read by pygcode, back to the work by the machine's own chain:
        points of the flat on its cylinder.
        """
        report = self.pocket
        setup, own = report.setups[0], self.one(self.pocket)
        text = STORE.get(setup.program_key, "program.nc").decode()
        path, _ = path_from_json(STORE.get(own.key, "path.json"))
        machine, zero = machine_of("vertical-760-a"), np.array(setup.hold.zero_on_table)
        register = np.array([value.value for value in setup.register_value])
        at, places, timed = {"X": 0.0, "Y": 0.0, "Z": 0.0, "A": 0.0}, [], False
        for line in text.splitlines():
            if line.startswith(("%", "O", "(")) or "G53" in line:
                continue
            words = [(w.letter, w.value) for w in Line(line.split("(")[0]).block.words]
            timed = (timed and ("G", 94.0) not in words) or ("G", 93.0) in words
            at |= {letter: float(value) for letter, value in words if letter in at}
            if (timed and ("G", 1.0) in words) or (timed and any(letter in at for letter, _ in words)):
                self.assertIn("F", [letter for letter, _ in words])  # in inverse time every move says its own
                places.append(dict(at))
        self.assertGreater(len(places), 50)
        # What is told of the operation is what the program says, to its last digit.
        self.assertAlmostEqual(own.cut_z[0], min(place["Z"] for place in places), delta=6e-4)
        reached = []
        for place in places:
            values = {
                **dict(zip("XYZ", register + [place["X"], place["Y"], place["Z"]], strict=True)),
                "A": place["A"],
            }
            reached.append(pose(machine, values).table_from_spindle[:3, 3] - zero)
        angle = [-math.radians(place["A"]) for place in places]
        centre = path.round.centre[2]
        on_work = [
            (x["X"], (x["Z"] - centre) * math.sin(a), centre + (x["Z"] - centre) * math.cos(a))
            for x, a in zip(places, angle, strict=True)
        ]
        np.testing.assert_allclose(reached, on_work, atol=3e-3)

    def test_what_cannot_be(self):
        narrow = {"line": [[-10, 0], [10, 5]], "diameter": BAR, "depth": 1, "gap": 6.0, "tool": "em8"}
        found = codes(computed(narrow))
        self.assertIn("wider than the gap of 6 mm", found["cut.tool_too_big"])
        self.assertIn(
            "No rotary axis", codes(computed({"faces": [floor()]}, machine="vertical-760"))["wrap.no_axis"]
        )
        beside = {"items": document({})["setups"][0]["hold"]["items"], "work": {"x": 1.5, "y": 80}}
        self.assertIn("1.500 mm from it", codes(computed({"faces": [floor()]}, hold=beside))["wrap.off_axis"])
        for wrong, told in (
            ({"faces": [floor()], "line": [[0, 0], [1, 1]]}, "and not both"),
            ({"line": [[0, 0]], "diameter": 50}, "two points or more"),
        ):
            with self.assertRaises(BadInput) as caught:
                plan_from(document(wrong))
            self.assertIn(told, caught.exception.what)


# Holes in the bar: how far round and along, degrees and mm, Ø6 and 10 deep.
HOLES = ((0.0, 80.0), (30.0, 90.0), (-50.0, 100.0), (30.0, 110.0))


@cache
def drilled_part() -> bytes:
    """The bar with holes that cross its axis, with a drill's point of 118°."""
    point = 3 / math.tan(math.radians(59))
    bar = solids.turned(solids.cylinder((0, 0, 0), BAR / 2, LENGTH), 90, (0, 1, 0))
    hole = solids.plus(solids.cylinder((0, 0, 15), 3, 20), solids.cone((0, 0, 15 - point), 0.001, 3, point))
    holes = [solids.placed(solids.turned(hole, -angle, (1, 0, 0)), (x, 0, 0)) for angle, x in HOLES]
    return solids.step_bytes(solids.minus(bar, *holes))


class Drilled(unittest.TestCase):
    """Holes round an axis, in one operation."""

    def drilled(self, hold: dict[str, Any] | None = None, **told: Any) -> Report:
        part = read_step(drilled_part(), "bar.step").part
        walls = [f for f in part.faces if f.kind == "cylinder" and f.hollow]
        faces = [{"face": face.number, "at": list(face.centre)} for face in walls]
        plan = document({"kind": "drilling_round", "faces": faces, "tool": "dr6", **told})
        if hold is not None:
            plan["setups"][0]["hold"] = hold
        plan["tools"] = [
            tool_shelf()[name].model_dump(mode="json") | {"place": place}
            for place, name in enumerate(("dr6", "tpM6", "dr7"), 1)
        ]
        return evaluate(plan_from(plan), drilled_part(), STORE)

    def test_every_hole_is_turned_under_the_drill(self):
        report = self.drilled(order="as_picked")
        own = report.setups[0].operations[0]
        self.assertEqual([f.sentence for f in own.findings if f.severity == "error"], [])
        assert report.comparison is not None
        self.assertLess(report.comparison.max_gouge_mm, 0.05)
        self.assertLess(report.comparison.max_left_mm, 0.05)
        bar = math.pi * 25**2 * LENGTH
        exact = bar - read_step(drilled_part(), "bar.step").part.volume_mm3
        self.assertAlmostEqual(own.removed_volume_mm3 / exact, 1.0, delta=0.02)
        # Machine coordinates: A stands where the hole comes to the top, the table turning against it.
        text = STORE.get(report.setups[0].program_key, "program.nc").decode()
        words = [word for line in text.splitlines() for word in line.split("(")[0].split()]
        seen = [float(word[1:]) for word in words if word[0] == "A"]
        for angle, _ in HOLES:
            self.assertLess(min(abs(one + angle) for one in seen), 1e-3, (angle, seen))
        path, holes = path_from_json(STORE.get(own.key, "path.json"))
        self.assertEqual(holes, [])
        along = sorted({round(m.end[0], 3) for m in path.moves})
        np.testing.assert_allclose(np.subtract(along, along[0]), (0, 10, 20, 30), atol=1e-3)
        down = {round(m.end[2] - path.round.centre[2], 3) for m in path.moves if m.kind != "rapid"}
        exact = 15 - 3 / math.tan(math.radians(59))
        np.testing.assert_allclose(list(down), exact, atol=5e-3)

    def test_by_pecks_and_what_is_refused(self):
        pecked = self.drilled(cycle="peck", peck=4.0, dwell_s=0.5)
        own = pecked.setups[0].operations[0]
        path, _ = path_from_json(STORE.get(own.key, "path.json"))
        # 10 deep and a point of 1.8: three times each, and a stop at every bottom.
        self.assertEqual(sum(m.kind != "rapid" for m in path.moves), 4 * 3)
        text = STORE.get(pecked.setups[0].program_key, "program.nc").decode()
        self.assertEqual(text.count("G4 P"), 4)
        self.assertIn(
            "coupled to the spindle", codes(self.drilled(cycle="tap", tool="tpM6"))["cut.tap_round"]
        )
        self.assertIn("bigger than the hole", codes(self.drilled(tool="dr7"))["cut.drill_too_big"])
        off = {"items": document({})["setups"][0]["hold"]["items"], "work": {"x": 1.5, "y": 80}}
        self.assertIn("passes 1.500 mm beside it", codes(self.drilled(hold=off))["wrap.not_across"])
        beside = {"faces": [floor()], "kind": "drilling_round", "tool": "em8"}
        self.assertIn("cannot do", codes(computed(beside))["cut.wrong_tool"])


if __name__ == "__main__":
    unittest.main()
