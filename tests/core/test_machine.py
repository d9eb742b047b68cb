"""Do machines move as they are described, and are directions solved for all there is?"""

from __future__ import annotations

import copy
import io
import json
import math
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pelvrak.cli import main
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, box, mesh_of, to_solid, transformed
from pelvrak.core.geometry.shelf import shelf
from pelvrak.core.machine.index import upright
from pelvrak.core.machine.kinematics import (
    REACHED_DEG,
    direction_of,
    linear_for,
    moved_by,
    pose,
    solve_direction,
    table_frame,
    turning_time,
)
from pelvrak.core.machine.machine import machine_from_json, machine_of, machines
from pelvrak.core.machine.slides import met_by_slides, slides, solid_mesh
from pelvrak.core.machine.swing import swing
from pelvrak.core.machine.travel import register_value

ALL = sorted(machines())


def row(name: str) -> dict:
    return copy.deepcopy(next(one for one in shelf("machine", "machines.json") if one["id"] == name))


class Turning(unittest.TestCase):
    """Against scipy.spatial.transform, and ISO 841: a positive A, B or C turns the tool, as seen from the
    work, by the right hand about +X, +Y or +Z.
    """

    def test_the_axis_convention(self):
        # A +90 brings a tool along +Z to -Y, as a right-hand screw advances along +X: ISO 841.
        np.testing.assert_allclose(
            direction_of(machine_of("vertical-760-a"), {"A": 90.0}), [0, -1, 0], atol=1e-12
        )
        # B +90 brings it to +X.
        np.testing.assert_allclose(direction_of(machine_of("table-bc"), {"B": 90.0}), [1, 0, 0], atol=1e-12)

    def test_directions_by_euler_angles(self):
        """Two rotary axes are a product of two turns: scipy's own, taken about axes that turn with it, from
        table to spindle.
        """
        rng = np.random.default_rng(3)
        for name, letters in (("trunnion-ac", "ZX"), ("table-bc", "ZY"), ("head-b", "ZY")):
            machine = machine_of(name)
            for first, second in rng.uniform(-90, 90, (40, 2)):
                angles = dict(zip((axis.name for axis in machine.rotary), (first, second), strict=True))
                by_scipy = Rotation.from_euler(letters, [first, second], degrees=True).apply([0, 0, 1])
                np.testing.assert_allclose(direction_of(machine, angles), by_scipy, atol=1e-12)

    def test_the_table_turns_about_its_own_centre(self):
        """A point on the rotary axis stays where it is; one beside it goes round, worked by hand."""
        machine = machine_of("vertical-760-a")
        axis = np.array([0.0, -215.0, -480.0])
        for angle in (0.0, 37.0, -120.0):
            turned = pose(machine, {"A": angle}).base_from_table
            on = np.linalg.inv(table_frame(machine)) @ np.array([*axis, 1.0])
            np.testing.assert_allclose((turned @ on)[:3], axis, atol=1e-9)
        # 100 mm above the axis, A = 90: the work turns the other way than the tool seen from it, so it comes
        # to +Y.
        above = np.linalg.inv(table_frame(machine)) @ np.array([0.0, -215.0, -380.0, 1.0])
        there = pose(machine, {"A": 90.0}).base_from_table @ above
        np.testing.assert_allclose(there[:3], [0.0, -115.0, -480.0], atol=1e-9)

    def test_time_of_a_turn(self):
        # Rapid 9000°/min is 150°/s, acceleration 400°/s²: the ramps take 56.25° together, so 90° are 90/150 +
        # 150/400 s.
        axis = machine_of("vertical-760-a").axis("A")
        self.assertAlmostEqual(turning_time(axis, 90.0), 90 / 150 + 150 / 400)
        # 20° never come to the full speed: 2·√(20/400).
        self.assertAlmostEqual(turning_time(axis, -20.0), 2 * np.sqrt(20 / 400))


class RoundTrip(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(st.sampled_from(ALL), st.lists(st.floats(0, 1), min_size=5, max_size=5))
    def test_forward_and_back(self, name, shares):
        """Any pose within the limits: its direction is solved to the angles it came from, its place to the
        same X, Y and Z.
        """
        machine = machine_of(name)
        values = {a.name: a.low + s * (a.high - a.low) for a, s in zip(machine.axes, shares, strict=False)}
        there = pose(machine, values).table_from_spindle
        solved = solve_direction(machine, tuple(there[:3, 2]), others=False)
        self.assertTrue(solved.reachable)
        for one in solved.solutions:
            self.assertLess(
                np.degrees(np.arccos(np.clip(direction_of(machine, one.angles) @ there[:3, 2], -1, 1))), 1e-3
            )
            self.assertLess(one.residual_deg, REACHED_DEG)
            for axis in machine.rotary:
                self.assertTrue(axis.low - 1e-9 <= one.angles[axis.name] <= axis.high + 1e-9)
        if not solved.singular and machine.rotary and abs(there[2, 2]) < 1 - 1e-6:
            found = [
                all(abs(one.angles[a.name] - values[a.name]) < 1e-4 for a in machine.rotary)
                for one in solved.solutions
            ]
            self.assertTrue(any(found), (values, solved.solutions))
        back = linear_for(machine, there[:3, 3], values)
        for axis in "XYZ":
            self.assertAlmostEqual(back[axis], values[axis], delta=1e-6)

    def test_one_is_preferred_and_says_why(self):
        for name in ALL:
            level = name in ("horizontal-b", "vertical-760-face")
            solved = solve_direction(machine_of(name), (0.0, -1.0, 0.0) if level else (0.0, 0.0, 1.0))
            self.assertEqual(
                [one.preferred for one in solved.solutions], [True] + [False] * (len(solved.solutions) - 1)
            )
            self.assertTrue(solved.solutions[0].why)


class Solving(unittest.TestCase):
    def test_the_steadier_side(self):
        """Straight to the side, a trunnion could tilt either way; its limits leave one, and at 20° its
        preferred side decides.
        """
        machine = machine_of("trunnion-ac")
        tilt = np.radians(20)
        solved = solve_direction(machine, (0.0, float(np.sin(tilt)), float(np.cos(tilt))))
        self.assertAlmostEqual(solved.solutions[0].angles["A"], -20.0, places=6)
        self.assertIn("steadier", solved.solutions[0].why)
        self.assertIn(20.0, [round(one.angles["A"], 6) for one in solved.solutions])

    def test_least_turning_from_where_it_stands(self):
        machine = machine_of("vertical-760-a")
        for now, best in ((0.0, -90.0), (200.0, 270.0)):
            solved = solve_direction(machine, (0.0, 1.0, 0.0), {"A": now})
            self.assertAlmostEqual(solved.solutions[0].angles["A"], best, places=6)

    def test_straight_up_leaves_the_table_free(self):
        """With the tool along C, C may stand anywhere: it stays where it is."""
        solved = solve_direction(machine_of("trunnion-ac"), (0.0, 0.0, 1.0), {"A": 0.0, "C": 33.0})
        self.assertTrue(solved.singular)
        self.assertEqual(solved.solutions[0].angles, {"C": 33.0, "A": 0.0})

    def test_nobody_points_from_below(self):
        """From below the table: the nearest is 30° beyond level at A -120, and no shipped machine can."""
        solved = solve_direction(machine_of("trunnion-ac"), (0.0, 0.0, -1.0))
        self.assertFalse(solved.reachable)
        self.assertAlmostEqual(solved.nearest.angles["A"], -120.0, places=4)
        self.assertAlmostEqual(solved.nearest.residual_deg, 60.0, places=4)
        self.assertEqual(solved.could, ("vertical-760-a",))

    def test_a_nutating_axis(self):
        """A rotary at 45° (two lines that meet at 45°) reaches level and back to upright: angles by hand, 0
        and 180.
        """
        data = row("table-bc")
        tilt = next(axis for axis in data["axes"] if axis["name"] == "B")
        tilt |= {"direction": [0.0, np.sqrt(0.5), np.sqrt(0.5)], "low": -180, "high": 180}
        machine = machine_from_json(json.dumps(data), "nutating")
        solved = solve_direction(machine, (0.0, 1.0, 0.0))
        self.assertTrue(any(abs(abs(one.angles["B"]) - 180) < 1e-6 for one in solved.solutions))
        self.assertFalse(solve_direction(machine, (0.0, 0.0, -1.0), others=False).reachable)


class Registers(unittest.TestCase):
    def test_zero_after_an_index_by_hand(self):
        """Zero 30 mm over the rotary axis and 40 behind it; A = -90 turns the work by +90 about X: over
        becomes in front, behind becomes over.
        """
        machine = machine_of("vertical-760-a")
        # From the plate's corner (y -300, z -505): the axis is at y 85, z 25.
        zero = (100.0, 85.0 + 40.0, 25.0 + 30.0)
        x, y, z = register_value(machine, zero)
        np.testing.assert_allclose([x, y, z], [-550 + 100, -215 + 40, -480 + 30], atol=1e-9)
        x, y, z = register_value(machine, zero, {"A": -90.0})
        np.testing.assert_allclose([x, y, z], [-450, -215 - 30, -480 + 40], atol=1e-9)


class Swinging(unittest.TestCase):
    """Clearance over the whole arc, against dense sampling and against what a corner sweeps."""

    def bar(self, half: float = 60.0) -> Mesh:
        return box(np.array([-20.0, -215 - half, -500]), np.array([20.0, -215 + half, -460]))

    def test_a_corner_by_pythagoras(self):
        """A bar 120 × 40 turned about its middle reaches √(60² + 20²); a wall 0.5 mm beyond that is passed
        with 0.5.
        """
        axis = machine_of("vertical-760-a").axis("A")
        reach = math.hypot(60, 20)
        wall = lambda off: box(np.array([-20.0, -215 + reach + off, -700]), np.array([20.0, 0, -200.0]))  # noqa: E731
        found = swing(axis, 0.0, 90.0, [("bar", self.bar())], [("wall", wall(0.5))])
        self.assertAlmostEqual(found.gap, 0.5, delta=0.01)
        self.assertAlmostEqual(abs(found.angle), math.degrees(math.atan2(20, 60)), delta=1.5)
        self.assertFalse(found.met)
        hit = swing(axis, 0.0, 90.0, [("bar", self.bar())], [("wall", wall(-1.0))])
        self.assertEqual((hit.met, hit.between), (True, ("bar", "wall")))

    def test_against_dense_sampling(self):
        rng = np.random.default_rng(8)
        axis = machine_of("vertical-760-a").axis("A")
        for _ in range(6):
            low = rng.uniform([-40, -300, -560], [0, -240, -500])
            body = box(low, low + rng.uniform(20, 60, 3))
            wall = box(np.array([-60.0, -130, -620]), np.array([60.0, -100, -300.0]) + rng.uniform(-5, 5, 3))
            start, end = sorted(rng.uniform(-170, 170, 2))
            found = swing(axis, start, end, [("body", body)], [("wall", wall)])
            solid, fixed = to_solid(body), to_solid(wall)
            gaps = []
            for angle in np.arange(start, end, 0.25):
                turn = Rotation.from_rotvec(
                    np.radians(-(angle - start)) * np.array(axis.direction)
                ).as_matrix()
                point = np.array(axis.point)
                gaps.append(
                    solid.transform(np.column_stack([turn, point - turn @ point])).min_gap(fixed, 60.0)
                )
            self.assertEqual(found.met, min(gaps) < 0.05)
            if not found.met and min(gaps) < 59:
                self.assertAlmostEqual(found.gap, min(gaps), delta=0.6)

    def test_there_and_back_is_the_same(self):
        axis = machine_of("trunnion-ac").axis("A")
        body = box(np.array([-230.0, -260, -480]), np.array([-180.0, -240, -380.0]))
        wall = box(np.array([-300.0, -150, -470]), np.array([-100.0, -140, -440.0]))
        there = swing(axis, 0.0, -100.0, [("body", body)], [("wall", wall)])
        turn = Rotation.from_rotvec([np.radians(100.0), 0, 0]).as_matrix()
        point = np.array(axis.point)
        ended = mesh_of(to_solid(body).transform(np.column_stack([turn, point - turn @ point])))
        back = swing(axis, -100.0, 0.0, [("body", ended)], [("wall", wall)])
        self.assertAlmostEqual(there.gap, back.gap, delta=0.5)


class Slides(unittest.TestCase):
    """Solids that go with the tool or stand between it and the work."""

    def test_how_they_follow(self):
        """On a vertical mill whose table goes in X and Y: the head is the tool's own; seen from the work the
        column goes by as the table does, the saddle, which the table rides on in X, only in X.
        """
        machine = machine_of("vertical-760")
        moving = {one.name: one for one in slides(machine, (300.0, 200.0, 80.0), upright(machine))}
        self.assertEqual(set(moving), {"head", "column", "saddle"})
        np.testing.assert_allclose(moving["head"].follows, np.eye(3), atol=1e-9)
        np.testing.assert_allclose(moving["column"].follows, np.diag([1.0, 1.0, 0.0]), atol=1e-9)
        np.testing.assert_allclose(moving["saddle"].follows, np.diag([1.0, 0.0, 0.0]), atol=1e-9)
        # The head begins 180 over the nose.
        self.assertAlmostEqual(float(moving["head"].mesh.vertices[:, 2].min()), 180.0, places=6)

    def test_they_stand_where_the_kinematics_has_them(self):
        """A solid of the chain moved as told, against the chain itself, on every shipped machine."""
        rng = np.random.default_rng(3)
        for machine in machines().values():
            try:
                at = upright(machine)
            except BadInput:
                continue
            zero = np.array([120.0, 90.0, 60.0])
            for one in slides(machine, tuple(zero), at):
                solid = next(s for s in machine.solids if s.name == one.name)
                nose = rng.uniform(-40, 40, 3)
                on_table = (np.linalg.inv(at.local_from_zero) @ [*nose, 1.0])[:3] + zero
                values = at.angles | linear_for(machine, on_table, at.angles)
                base = transformed(solid_mesh(solid), moved_by(machine, solid.rides, values))
                local = at.local_from_zero @ np.linalg.inv(
                    pose(machine, values).base_from_table @ _shift(zero)
                )
                np.testing.assert_allclose(
                    one.mesh.vertices + one.follows @ nose, transformed(base, local).vertices, atol=1e-6
                )

    def test_a_post_in_the_way_of_the_head(self):
        """A post 250 over the zero beside the path: the head, 180 over the nose and 160 to its left, comes 10
        into it where the nose is lowest.
        """
        machine = machine_of("vertical-760")
        moving = slides(machine, (300.0, 200.0, 80.0), upright(machine))
        post = box(np.array([-140.0, -10, 0]), np.array([-100.0, 10, 250]))
        path = np.array([[0.0, 0, 120], [0.0, 0, 60], [0.0, 0, 120]])
        (met,) = met_by_slides(moving, path[:-1], path[1:], [("post", post)])
        self.assertEqual((met.slide, met.what), ("head", "post"))
        self.assertAlmostEqual(met.depth, 10.0, places=3)
        np.testing.assert_allclose(met.nose, (0, 0, 60))
        self.assertEqual(met_by_slides(moving, path[:1], path[:1], [("post", post)]), [])


def _shift(by: np.ndarray) -> np.ndarray:
    out = np.eye(4)
    out[:3, 3] = by
    return out


class WrongMachines(unittest.TestCase):
    def refused(self, change, code: str = "machine.invalid") -> BadInput:
        data = row("trunnion-ac")
        change(data)
        with self.assertRaises(BadInput) as caught:
            machine_from_json(json.dumps(data), "mine.json")
        self.assertEqual(caught.exception.code, code)
        return caught.exception

    def test_each_says_what_and_where(self):
        axis = lambda data, name: next(a for a in data["axes"] if a["name"] == name)  # noqa: E731

        def ring(data):
            axis(data, "A")["rides"] = "C"

        for change, told in (
            (ring, "ride on each other in a ring"),
            (lambda d: axis(d, "A").update(direction=[0, 0, 0]), "has no direction"),
            (lambda d: axis(d, "A").update(direction=[0, 0, 2]), "unit vector"),
            (lambda d: axis(d, "A").update(low=30, high=-120), "limits are swapped"),
            (lambda d: axis(d, "A").update(home=60), "beyond its limits"),
            (lambda d: axis(d, "A").update(rides="W"), "there is no such axis"),
            (lambda d: axis(d, "Y").update(direction=[1, 0, 0]), "two of them run alike"),
            (lambda d: d["table"].update(rides="base"), "moves neither the spindle nor the table"),
            (lambda d: d["table"].update(up=[0, 1, 1]), "square to each other"),
            (
                lambda d: d["solids"].append({"name": "lump", "rides": "base", "low": [0, 0, 0]}),
                "a box (low, high) or a cylinder",
            ),
        ):
            self.assertIn(told, self.refused(change).what)

    def test_another_version_and_no_json(self):
        self.assertIn("version 9", self.refused(lambda d: d.update(schema_version=9), "machine.version").what)
        with self.assertRaises(BadInput) as caught:
            machine_from_json(b"{", "mine.json")
        self.assertEqual(caught.exception.code, "machine.unreadable")

    def test_no_direction(self):
        for wrong in ((0.0, 0.0, 0.0), (float("nan"), 0.0, 1.0)):
            with self.assertRaises(BadInput):
                solve_direction(machine_of("trunnion-ac"), wrong)


class CommandTest(unittest.TestCase):
    def run_it(self, *words: str) -> tuple[int, str, str]:
        out, wrong = io.StringIO(), io.StringIO()
        with redirect_stdout(out), redirect_stderr(wrong):
            code = main(list(words))
        return code, out.getvalue(), wrong.getvalue()

    def test_solve(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mine.json"
            path.write_text(json.dumps(row("trunnion-ac")))
            code, out, _ = self.run_it(
                "machine", "solve", str(path), "--direction", "0,0.5,0.8660254037844386", "--json"
            )
            told = json.loads(out)
            self.assertEqual((code, told["reachable"]), (0, True))
            self.assertAlmostEqual(told["solutions"][0]["angles"]["A"], -30.0, places=6)
            self.assertEqual(sum(one["preferred"] for one in told["solutions"]), 1)
            self.assertEqual(
                json.loads(self.run_it("machine", "solve", str(path), "--direction=0,0,-1", "--json")[1])[
                    "could"
                ],
                ["vertical-760-a"],
            )
            for words, told in (
                (("0,0",), "three numbers"),
                (("0,0,0",), "no length"),
                (("a,b,c",), "three numbers"),
            ):
                code, _, wrong = self.run_it("machine", "solve", str(path), "--direction", *words)
                self.assertEqual(code, 2)
                self.assertIn(told, wrong)
            path.write_text("{}")
            self.assertEqual(self.run_it("machine", "solve", str(path), "--direction", "0,0,1")[0], 2)

    def test_schema(self):
        schema = json.loads(self.run_it("machine", "schema")[1])
        self.assertIn("axes", schema["properties"])


if __name__ == "__main__":
    unittest.main()
