"""Where the cutter's middle goes while the control corrects its radius, and in planes that it turns.

RS274/NGC: T. R. Kramer, F. M. Proctor, E. Messina, The NIST RS274NGC Interpreter - Version 3, NIST IR 6556,
2000; sections from memory, beside each check.
"""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import LineString, Polygon, distance, points

from pelvrak.core.cutting.toolpath import Move, Path, chords
from pelvrak.core.errors import BadInput
from pelvrak.core.machine.kinematics import pose
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Alarm, Event, Held
from tests.core.changed_programs import run_changed

ZERO = {"G54": {"X": 0.0, "Y": 0.0, "Z": 0.0}}
HEAD = "G90 G17 G21 G54\nT1 M6\nS1000 M3\n"


def run(text: str, radius: float = 3.0) -> list[Event]:
    return Control(Held(ZERO, {1: 0.0}, {1: radius})).run(HEAD + text)


def drawn(events: list[Event], first: int = 0) -> LineString:
    """The middle's way as chords."""
    path = Path(events[first].told)
    for one in events[first + 1 :]:
        if one.kind in ("rapid", "line", "cw", "ccw"):
            path.moves.append(Move(one.kind, one.told, one.feed, one.centre))
    flat = chords(path)
    return LineString(np.concatenate([flat.starts[:1, :2], flat.ends[:, :2]]))


def apart(one: LineString, two: LineString) -> float:
    """How far the corners and the middles between them of two lines lie from the other, at most, mm."""
    out = 0.0
    for a, b in ((one, two), (two, one)):
        places = np.array(a.coords)[:, :2]
        places = np.concatenate([places, (places[1:] + places[:-1]) / 2])
        out = max(out, float(distance(points(places), b).max()))
    return out


def around(corners: list[tuple[float, float]], code: str) -> str:
    """A text that goes once round a contour and back to its first side's middle."""
    (x0, y0), (x1, y1) = corners[0], corners[1]
    middle = ((x0 + x1) / 2, (y0 + y1) / 2)
    # It comes in square to the first side, from the side the cutter goes on.
    length = math.hypot(x1 - x0, y1 - y0)
    aside = (-(y1 - y0) / length, (x1 - x0) / length)
    off = 12.0 if code == "G41" else -12.0
    start = (middle[0] + off * aside[0], middle[1] + off * aside[1])
    places = [*corners[1:], corners[0]]
    return "\n".join(
        [
            f"G0 X{start[0]:.6f} Y{start[1]:.6f}",
            f"G1 {code} D1 X{middle[0]:.6f} Y{middle[1]:.6f} F500",
            *(f"X{x:.6f} Y{y:.6f}" for x, y in places),
            f"X{middle[0]:.6f} Y{middle[1]:.6f}",
            f"G40 X{start[0]:.6f} Y{start[1]:.6f}",
            "M30",
        ]
    )


class Corrected(unittest.TestCase):
    def test_round_a_square(self):
        """3.5.10: on the left of a contour that turns to the right the middle goes round each corner by an
        arc about it: what shapely's buffer of the square gives.
        """
        square = [(0.0, 0.0), (0.0, 40.0), (40.0, 40.0), (40.0, 0.0)]
        found = run(around(square, "G41"))
        way = drawn(found, 1)
        offset = Polygon(square).buffer(3.0, quad_segs=200).exterior
        self.assertLess(apart(LineString(list(way.coords)[:-1]), offset), 0.01)
        arcs = [one for one in found if one.kind == "cw"]
        self.assertEqual([one.centre for one in arcs], [(0.0, 40.0), (40.0, 40.0), (40.0, 0.0), (0.0, 0.0)])

    def test_within_a_square(self):
        """3.5.10: into an inside corner as far as both sides allow."""
        square = [(0.0, 0.0), (40.0, 0.0), (40.0, 40.0), (0.0, 40.0)]
        found = run(around(square, "G41"))
        ends = [tuple(np.round(one.told[:2], 6)) for one in found if one.kind == "line"][1:5]
        self.assertEqual(ends, [(37.0, 3.0), (37.0, 37.0), (3.0, 37.0), (3.0, 3.0)])

    def test_the_right_is_the_left_the_other_way_round(self):
        square = [(0.0, 0.0), (0.0, 40.0), (40.0, 40.0), (40.0, 0.0)]
        left = drawn(run(around(square, "G41")), 1)
        right = drawn(run(around([square[1], square[0], *square[:1:-1]], "G42")), 1)
        self.assertLess(apart(left, right), 0.01)

    @settings(max_examples=80, deadline=None)
    @given(
        st.lists(st.tuples(st.floats(28, 60), st.floats(0.55, 1.45)), min_size=5, max_size=9),
        st.floats(0.5, 4.0),
        st.booleans(),
    )
    def test_against_shapely(self, rays, radius, outside):
        """Star shapes with corners of any angle: the middle keeps a radius away, as shapely's buffer does."""
        share = np.cumsum([width for _, width in rays])
        angles = 2 * math.pi * share / share[-1]
        corners = [(r * math.cos(a), r * math.sin(a)) for (r, _), a in zip(rays, angles, strict=True)]
        shape = Polygon(corners)
        offset = shape.buffer(radius if outside else -radius, quad_segs=200)
        short = min(math.dist(a, b) for a, b in zip(corners, [*corners[1:], corners[0]], strict=True))
        text = around(corners, "G42" if outside else "G41")
        try:
            found = run(text, radius)
        except Alarm as refused:
            # Only where a side is too short for the cutter beside its corners.
            self.assertIn("does not fit", str(refused))
            self.assertLess(short, 12 * radius)
            return
        way = drawn(found, 1)
        inside = LineString([*list(way.coords)[:-1]])
        if offset.geom_type != "Polygon":
            return
        if outside:
            self.assertLess(apart(inside, offset.exterior), 0.02)
        # Nowhere nearer to the contour than the radius.
        nearest = distance(points(inside.coords), shape.exterior).min()
        self.assertGreater(nearest, radius - 0.01)

    def test_arcs_beside_arcs(self):
        """A full turn of radius 20: 23 outside, 17 inside; 3.5.10: an arc that turns in more tightly than the
        cutter is an error.
        """
        text = "G0 X-30 Y0\nG1 G{} D1 X-20 F500\nG2 X-20 Y0 I20 J0\nG1 G40 X-30\nM30"
        for code, wanted in ((41, 23.0), (42, 17.0)):
            arc = next(one for one in run(text.format(code)) if one.kind == "cw")
            self.assertAlmostEqual(math.dist(arc.told[:2], (0, 0)), wanted, places=6)
            self.assertEqual(arc.centre, (0.0, 0.0))
        with self.assertRaisesRegex(Alarm, "line 6.*more tightly"):
            run(text.format(42), 20.5)

    def test_what_cannot_be(self):
        """3.5.10: G41 while it is on already; B: the first move is no arc; and moves that have no place
        there.
        """
        on = "G0 X0 Y0\nG1 G41 D1 X10 F100\nX20\n"
        for more, said in (
            ("G42 D1 X30", "G40 is wanted before"),
            ("T1 M6", "G40 is wanted before"),
            ("G81 X5 Z-3 R1", "G40 is wanted before"),
            ("G53 G0 Z0", "G40 is wanted before"),
            ("G55", "G40 is wanted before"),
            ("X21 Y0.5\nX19", "does not fit|out of"),
        ):
            with self.subTest(more), self.assertRaisesRegex(Exception, said):
                Control(Held({**ZERO, "G55": {}}, {1: 0.0}, {1: 3.0})).run(
                    f"{HEAD}{on}{more}\nX40\nG40 X50\nM30"
                )
        with self.assertRaisesRegex(Alarm, "begins with a straight move"):
            run("G0 X0 Y0\nG2 G41 D1 X10 Y0 I5 F100\nM30")

    def test_no_radius_in_the_table_corrects_nothing(self):
        found = run("G0 X0 Y0\nG1 G41 D1 X10 F100\nY10\nG40 X0\nM30", 0.0)
        self.assertEqual([one.told[:2] for one in found], [(0, 0), (10, 0), (10, 10), (0, 10)])

    def test_down_within_a_contour(self):
        """A move along Z goes down beside the contour, where the next move begins."""
        found = run("G0 X0 Y0 Z5\nG1 G41 D1 X10 F100\nY20\nZ-2\nX-10\nG40 Y30\nM30")
        told = [tuple(np.round(one.told, 6)) for one in found]
        # The cutter stands at 3 mm to the left of both: into the corner at (7, 17).
        self.assertEqual(told, [(0, 0, 5), (7, 0, 5), (7, 17, 5), (7, 17, -2), (-10, 17, -2), (-10, 30, -2)])


class OtherPlanes(unittest.TestCase):
    def test_arcs_in_zx_and_yz(self):
        """3.5.3: G18 looks along Y from its positive end, Z to X; G19 along X, Y to Z."""
        for plane, text, centre, axis in (
            ("G18", "G0 X10 Y0 Z0\nG2 X0 Z10 I-10 K0 F100", (0.0, 0.0, 0.0), 1),
            ("G19", "G0 X0 Y10 Z0\nG3 Y0 Z10 J-10 K0 F100", (0.0, 0.0, 0.0), 0),
        ):
            found = [one.told for one in run(f"{plane}\n{text}\nM30") if one.kind == "line"]
            away = np.linalg.norm(np.array(found) - centre, axis=1)
            np.testing.assert_allclose(away, 10.0, atol=2e-3)
            self.assertTrue(all(one[axis] == 0 for one in found))
            # A quarter, not three.
            self.assertGreater(min(np.array(found)[:, 2]), -1e-3)
        # The other way round it is three quarters.
        found = [
            one.told for one in run("G18\nG0 X10 Y0 Z0\nG3 X0 Z10 I-10 K0 F100\nM30") if one.kind == "line"
        ]
        self.assertLess(min(np.array(found)[:, 2]), -9.9)


class TurnedPlanes(unittest.TestCase):
    def test_the_tip_comes_where_the_plane_says(self):
        """G68.2 and G53.1 on a trunnion: the tip, by the machine's own chain of axes, stands at the plane's
        zero turned and moved, whatever the angles.
        """
        machine = machine_of("trunnion-ac")
        register = {"X": -300.0, "Y": -220.0, "Z": -400.0}
        zero = pose(machine, register).table_from_spindle[:3, 3]
        for i, j, k in ((0.0, 30.0, 0.0), (90.0, 45.0, -90.0), (20.0, -15.0, 10.0)):
            control = Control(Held({"G54": register}, {1: 120.0}), machine=machine)
            control.run(
                f"G90 G21 G17 G54\nT1 M6\nG53 G0 Z0\nG68.2 X5 Y-3 Z2 I{i} J{j} K{k}\nG53.1\nS9 M3\n"
                "G0 X10 Y20\nG43 H1 Z30\nG1 X11 Y22 Z-1 F100\nG2 X13 Y22 I1 J0\nG69\nG53 G0 Z0\nM30"
            )
            turn = np.eye(3)
            for angle, axis in ((i, 2), (j, 0), (k, 2)):
                c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
                a, b = [one for one in range(3) if one != axis]
                if axis == 1:
                    s = -s
                about = np.eye(3)
                about[[a, b], [a, b]] = c
                about[a, b], about[b, a] = -s, s
                turn = turn @ about
            own = [one for one in control.events if one.kind in ("line", "cw")]
            for one, place in ((own[0], (11.0, 22.0, -1.0)), (own[-1], (13.0, 22.0, -1.0))):
                values = dict(zip("XYZABC", one.end, strict=True))
                chain = pose(machine, {a.name: values[a.name] for a in machine.axes}).table_from_spindle
                tip = (chain @ np.array([0, 0, -120.0, 1]))[:3]
                np.testing.assert_allclose(
                    tip, zero + np.array([5, -3, 2]) + turn @ np.array(place), atol=1e-6
                )
                np.testing.assert_allclose(one.told, place, atol=1e-6)
                # The tool is square to the plane.
                np.testing.assert_allclose(chain[:3, 2], turn[:, 2], atol=1e-5)

    def test_turned_about_z(self):
        """G68 about X10 Y5 by 30° to the left, by hand: x = 10 + (x'-10)·cos - (y'-5)·sin; a full turn stays
        one, of the same radius, about its middle turned.
        """
        held = Held({"G54": {"X": -300.0, "Y": -200.0, "Z": -400.0}}, {1: 120.0})
        control = Control(held)
        control.run(
            "G90 G21 G17 G54\nT1 M6\nS9 M3\nG0 G43 H1 X0 Y0 Z5\nG68 X10 Y5 R30\nG0 X30 Y5\nG1 Z-1 F100\n"
            "G2 I-8 J0\nG81 X10 Y25 Z-3 R2\nG69\nG0 X0 Y0\nM30"
        )
        c, s = math.cos(math.pi / 6), 0.5
        by_kind = {one.kind: one for one in control.events}
        for at, place in ((by_kind["cw"], (30.0, 5.0)), (control.events[-2], (10.0, 25.0))):
            x = -300.0 + 10 + (place[0] - 10) * c - (place[1] - 5) * s
            y = -200.0 + 5 + (place[0] - 10) * s + (place[1] - 5) * c
            np.testing.assert_allclose(at.end[:2], (x, y), atol=1e-9)
            np.testing.assert_allclose(at.told[:2], place, atol=1e-9)
        np.testing.assert_allclose(by_kind["cw"].centre, (-290 + 12 * c, -195 + 12 * s), atol=1e-9)
        np.testing.assert_allclose(control.events[-1].end[:3], (-300.0, -200.0, -278.0), atol=1e-9)

    def test_what_cannot_be(self):
        held = Held({"G54": {}}, {1: 0.0})
        turned = "G90 G54\nG68.2 X0 Y0 Z0 I0 J30 K0\n"
        for text, machine, said in (
            (f"{turned}G0 X1", "trunnion-ac", "G53.1 is wanted"),
            (f"{turned}G53.1", "vertical-760", "no angles of its axes"),
            ("G90 G54\nG53.1", "trunnion-ac", "G68.2 before"),
            (f"{turned}G68.2 I0 J10 K0", "trunnion-ac", "G69 is wanted before"),
            ("G90 G54\nG68 X0 Y0", "trunnion-ac", "wants R"),
            ("G90 G54 G18\nG68 X0 Y0 R3", "trunnion-ac", "G17"),
            ("G90 G54\nG68 X0 Y0 R3\nG31 X5 F9", "trunnion-ac", "G69 is wanted before"),
            ("G90 G54\nG68 X0 Y0 R3\nG53.1", "trunnion-ac", "G68.2 before"),
        ):
            with self.subTest(text), self.assertRaisesRegex(Alarm, said):
                Control(held, machine=machine_of(machine)).run(text)
        with self.assertRaisesRegex(Alarm, "a machine is wanted"):
            Control(held).run(turned)


class Changed(unittest.TestCase):
    def test_changed_programs_end_in_moves_or_alarms(self):
        """2,000 here, 100,000 in bench/fuzz_programs.py: no crash, no hang, no move that is no number."""
        ran = 0
        for text, came in run_changed(2000, 7, machine_of("trunnion-ac")):
            if isinstance(came, BadInput):
                self.assertTrue(came.what and came.mend, text)
                continue
            ran += 1
            numbers = [v for one in came for v in (*one.end, *one.told, one.feed, one.seconds)]
            self.assertTrue(all(math.isfinite(v) for v in numbers), text)
        self.assertGreater(ran, 300)


if __name__ == "__main__":
    unittest.main()
