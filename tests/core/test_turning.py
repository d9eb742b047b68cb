"""Index positions on the route: the same stock whichever way the job is run, registers by hand, and what cannot be."""

from __future__ import annotations

import math
import unittest
from functools import cache
from typing import Any

import numpy as np
from pygcode import Line

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.machine.index import centre_register, index_time
from pelvrak.core.machine.kinematics import linear_for, pose
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import path_from_json
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import Report
from pelvrak.core.route.store import MemoryStore
from tests import solids

SIZE = (60.0, 40.0, 30.0)
TOOLS = [tool_shelf()[name].model_dump(mode="json") for name in ("em10", "dr5")]


@cache
def part() -> bytes:
    """A block with a hole in its front and one, at 30°, in its top edge's chamfer face."""
    block = solids.box((0, 0, 0), SIZE)
    wedge = solids.turned(solids.box((-1, 0, 0), (61, 40, 20)), -30, (1, 0, 0))
    return solids.step_bytes(solids.minus(
        block, solids.placed(wedge, (0, 28, 30)), solids.placed(solids.turned(solids.cylinder((0, 0, -8), 2.5, 20), 90, (1, 0, 0)), (20, 0, 12)),
    ))  # fmt: skip


def document(**setup: Any) -> dict[str, Any]:
    """A plan of one setup on the machine with a rotary about X: the block on the cradle between two straps."""
    strap = {"fixture": "strap-80", "on": "table", "y": 65}
    return {
        "name": "turned", "part": {"file": "block.step"}, "resolution_mm": 1.0,
        "billet": {"kind": "block", "material": "EN AW-6082", "sizing": {"rule": "size", "size": [60, 40, 30], "place": [0.5, 0.5, 0.5]}},
        "tools": TOOLS,
        "setups": [{
            "name": "OP10", "machine": "vertical-760-a",
            "hold": {"items": [{"id": "left", **strap, "x": 138, "turn_deg": -90}, {"id": "right", **strap, "x": 182, "turn_deg": 90}],
                     "work": {"x": -10, "y": 22}},
            **setup,
        }],
    }  # fmt: skip


def facing(position: str | None, name: str = "face") -> dict[str, Any]:
    return {"id": name, "name": name, "kind": "facing", "tool": "em10", "position": position, "step_down": 5}


@cache
def faces() -> dict[str, dict[str, Any]]:
    """References to the slanting face and the hole's wall."""
    found = read_step(part(), "block.step").part.faces
    slant = next(f for f in found if f.normal and 0.4 < abs(f.normal[1]) < 0.9)
    hole = next(f for f in found if f.kind == "cylinder")
    return {name: {"face": f.number, "at": list(f.centre)} for name, f in (("slant", slant), ("hole", hole))}


def turned_plan(run: str = "register_each", **more: Any) -> Plan:
    positions = [{"name": "slant", "face": faces()["slant"]}, {"name": "front", "face": faces()["hole"]}]
    operations = [
        facing("slant") | {"face": faces()["slant"]},
        {
            "id": "hole",
            "name": "hole",
            "kind": "drilling",
            "tool": "dr5",
            "position": "front",
            "faces": [faces()["hole"]],
        },
    ]
    return plan_from(document(positions=positions, operations=operations, rotary_run=run, **more))


@cache
def computed(run: str) -> tuple[MemoryStore, Report]:
    store = MemoryStore()
    return store, evaluate(turned_plan(run), part(), "d" * 64, store)


class ThreeWays(unittest.TestCase):
    """One register for each position, all from the rotary centre, and the control's tilted plane."""

    def test_the_same_stock_bit_for_bit(self):
        outgoing = []
        for run in ("register_each", "centre", "tilted_plane"):
            store, report = computed(run)
            self.assertGreater(report.setups[0].removed_volume_mm3, 1000)
            outgoing.append(store.get(report.setups[0].outgoing_key, "field"))
        self.assertEqual(outgoing[0], outgoing[1])
        self.assertEqual(outgoing[0], outgoing[2])

    def machine_places(self, run: str) -> list[tuple[float, ...]]:
        """Machine coordinates (X, Y, Z, A) of every block of the program, read by pygcode, with the values of its own head."""
        store, report = computed(run)
        text = store.get(report.setups[0].program_key, "program.nc").decode()
        registers: dict[str, np.ndarray] = {}
        at, active, out = {"X": 0.0, "Y": 0.0, "Z": math.nan, "A": 0.0}, "", []
        for line in text.splitlines():
            if line.startswith("(G5"):
                name, x, y, z = line.strip("()").split()
                registers[name] = np.array([float(x[1:]), float(y[1:]), float(z[1:])])
            if line.startswith(("%", "O", "(")) or "G68.2" in line or "G53.1" in line:
                continue
            if "G53 G0 Z0." in line:
                at["Z"] = math.nan  # at the machine's own zero, until a Z of the register is written
            words = [(w.letter, w.value) for w in Line(line.split("(")[0]).block.words]
            for letter, value in words:
                if letter == "G" and f"G{value:g}" in registers:
                    active = f"G{value:g}"
                if letter in at and "G53" not in line:
                    at[letter] = float(value)
            if any(letter in "XYZ" for letter, _ in words) and "G53" not in line:
                out.append((*(registers[active] + [at["X"], at["Y"], at["Z"]]).round(3), at["A"]))
        return out

    def test_both_programs_of_registers_go_to_the_same_places(self):
        """The register of each position and the rotary centre's: other numbers, the same machine coordinates to what is written."""
        one, two = self.machine_places("register_each"), self.machine_places("centre")
        self.assertEqual(len(one), len(two))
        self.assertGreater(len(one), 12)
        np.testing.assert_allclose(one, two, atol=2.1e-3)
        self.assertEqual({a for *_, a in one}, {-30.0, 90.0})

    def test_the_program_puts_the_tool_where_the_stock_was_cut(self):
        """Machine coordinates of a program back to the work by the machine's own chain: the operation's moves, turned into the work."""
        store, report = computed("register_each")
        setup = report.setups[0]
        machine = machine_of("vertical-760-a")
        path, _ = path_from_json(store.get(setup.operations[0].key, "path.json"))
        places = self.machine_places("register_each")
        local = np.array(setup.positions[0].local_from_zero)
        zero = np.array(setup.hold.zero_on_table)
        for move, place in zip(path.moves[:8], places[1:9], strict=True):
            table = pose(machine, dict(zip("XYZA", place, strict=True))).table_from_spindle[:3, 3]
            np.testing.assert_allclose(local[:3, :3] @ (table - zero), move.end, atol=3e-3)

    def test_what_each_writes(self):
        texts = {}
        for run in ("register_each", "centre", "tilted_plane"):
            store, report = computed(run)
            texts[run] = store.get(report.setups[0].program_key, "program.nc").decode()
        self.assertIn("G0 A-30.", texts["register_each"])
        self.assertIn("M11", texts["register_each"])  # clamps off before it turns
        self.assertNotIn("G68.2", texts["register_each"])
        self.assertIn("G56", texts["register_each"])
        self.assertNotIn("G55", texts["centre"])
        # The machine with a rotary about X has no tilted plane: the programs say so in a finding.
        _, report = computed("tilted_plane")
        self.assertIn("offsets.no_tilted_plane", [f.code for f in report.setups[0].findings])


class Values(unittest.TestCase):
    def test_registers_by_hand(self):
        """A -30 turns the work by +30 about X, A 90 by -90: zero turned about the rotary axis by the sine and cosine of that."""
        _, report = computed("register_each")
        setup = report.setups[0]
        machine = machine_of("vertical-760-a")
        zero = np.array(setup.hold.zero_on_table)
        # The plate's corner lies 85 in front of the axis and 25 under it.
        y, z = zero[1] - 85.0, zero[2] - 25.0
        for position, angle in zip(setup.positions, (30.0, -90.0), strict=True):
            c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
            by_hand = (-550 + zero[0], -215 + c * y - s * z, -480 + s * y + c * z)
            np.testing.assert_allclose([v.value for v in position.register_value], by_hand, atol=1e-3)
        # The rotary centre itself: no turn moves it.
        centre = centre_register(machine, tuple(zero))
        np.testing.assert_allclose(centre[1:], (-215.0, -480.0), atol=1e-9)
        self.assertEqual([p.offset_register for p in setup.positions], ["G55", "G56"])

    def test_a_wrong_centre(self):
        """Set wrong by 0.02 mm, at 90° the work lies 0.02·√2 off: 2·e·sin 45°."""
        _, report = computed("register_each")
        self.assertAlmostEqual(report.setups[0].wrong_centre_mm, 0.02 * np.sqrt(2), places=4)

    def test_the_table_of_registers(self):
        _, report = computed("register_each")
        rows = report.setups[0].offsets
        self.assertEqual(
            [(r.register_name, r.found, r.operations) for r in rows],
            [("G55", "derived", ("face",)), ("G56", "derived", ("hole",))],
        )
        self.assertEqual(rows[0].stands_on, ("table", "Strap clamp 80", "work"))
        _, report = computed("centre")
        self.assertEqual([(r.register_name, len(r.operations)) for r in report.setups[0].offsets], [("G54", 2)])

    def test_time_of_an_index(self):
        machine = machine_of("vertical-760-a")
        # From -30 to 90: 120° at 150°/s and 400°/s², and 0.6 s of clamping.
        self.assertAlmostEqual(index_time(machine, {"A": -30.0}, {"A": 90.0}), 120 / 150 + 150 / 400 + 0.6)

    def test_travel_is_the_machine_s(self):
        _, report = computed("register_each")
        setup = report.setups[0]
        machine = machine_of("vertical-760-a")
        first = setup.operations[0]
        tool = next(t for t in turned_plan().tools if t.id == "em10")
        zero = np.array(setup.hold.zero_on_table)
        corner = np.array(setup.positions[0].local_from_zero)[:3, :3].T @ np.array(first.low) + zero
        least = linear_for(machine, corner, setup.positions[0].angles, tool.gauge_length)
        np.testing.assert_allclose([least[a] for a in "XYZ"], first.travel[0], atol=1e-6)


class ClampsAtPositions(unittest.TestCase):
    def test_a_strap_in_the_way_of_a_turned_tool(self):
        """The slanting face is cut at its position, where a strap lies over it: moved to where no position's tool comes."""
        data = turned_plan().model_dump(mode="json")
        # The hole in the front would leave no place at all.
        data["setups"][0]["operations"] = data["setups"][0]["operations"][:1]
        data["setups"][0]["hold"]["items"][1]["y"] = 88
        report = evaluate(plan_from(data), part(), "d" * 64, computed("register_each")[0])
        found = next(f for f in report.setups[0].findings if f.code == "hold.clamp_in_the_way")
        self.assertIn("right", found.sentence)
        data["setups"][0]["hold"]["items"][1] = found.cures[0].value
        again = evaluate(plan_from(data), part(), "d" * 64, computed("register_each")[0]).setups[0]
        self.assertNotIn("hold.clamp_in_the_way", [f.code for f in again.findings])
        self.assertEqual([f.code for o in again.operations for f in o.findings if f.severity == "error"], [])


class SwingOnTheRoute(unittest.TestCase):
    def found(self, plate: str) -> list[Any]:
        data = document(positions=[{"name": "side", "angles": {"A": -60.0, "C": -90.0}}], operations=[facing("side")])
        data["setups"][0] |= {
            "machine": "trunnion-ac",
            "hold": {"items": [{"id": "plate", "fixture": plate, "on": "table", "x": 140, "y": 140}]},
        }
        report = evaluate(plan_from(data), part(), "d" * 64, computed("register_each")[0])
        return [f for f in report.setups[0].findings if f.code.startswith("reach.swing")]

    def test_a_plate_too_long_for_the_cradle(self):
        """Half a plate of 400 × 300 reaches 250 from the table's centre; the cradle's sides stand 210 from it."""
        (hit,) = [f for f in self.found("grid-400") if f.code == "reach.swing"]
        self.assertEqual(hit.severity, "error")
        self.assertLess(hit.measured, 0.05)
        self.assertIn("the base plate runs into the cradle", hit.sentence)

    def test_one_that_goes_round(self):
        """250 × 200: 160 from the centre, 50 off the sides."""
        self.assertEqual([f for f in self.found("grid-250") if f.code == "reach.swing"], [])


class WrongPositions(unittest.TestCase):
    def found(self, **setup: Any) -> dict[str, str]:
        plan = plan_from(document(**setup))
        report = evaluate(plan, part(), "d" * 64, computed("register_each")[0])
        return {
            f.code: f.sentence
            for s in report.setups
            for f in (*s.findings, *(g for o in s.operations for g in o.findings))
        }

    def test_said_plainly(self):
        side = {"name": "side", "direction": [1, 0, 0]}
        found = self.found(positions=[side], operations=[facing("side")])
        self.assertIn("cannot turn the work to side", found["index.unreachable"])
        self.assertIn("cannot be reached", found["index.nowhere"])
        typed = {"name": "P1", "angles": {"A": 400.0}}
        self.assertIn("beyond -360 to 360", self.found(positions=[typed])["index.beyond"])
        self.assertIn("no axis C", self.found(positions=[{"name": "P1", "angles": {"C": 10.0}}])["index.no_axis"])
        self.assertIn(
            "cannot look down", self.found(machine="horizontal-b", operations=[facing(None)])["reach.not_upright"]
        )

    def test_a_position_is_made_for_a_hole_in_the_side(self):
        """A hole that does not stand upright: the cure makes the position its axis needs and cuts it there."""
        drilled = {"id": "hole", "name": "hole", "kind": "drilling", "tool": "dr5", "faces": [faces()["hole"]]}
        plan = plan_from(document(operations=[drilled]))
        report = evaluate(plan, part(), "d" * 64, computed("register_each")[0])
        (found,) = report.setups[0].operations[0].findings
        self.assertEqual((found.code, found.cures[0].path), ("cut.not_square", "/setups/0"))
        data = plan.model_dump(mode="json")
        data["setups"][0] = found.cures[0].value
        cured = evaluate(plan_from(data), part(), "d" * 64, computed("register_each")[0]).setups[0]
        self.assertEqual([p.angles for p in cured.positions], [{"A": 90.0}])
        self.assertGreater(cured.operations[0].removed_volume_mm3, 100)

    def test_sixty_zeros_on_a_control_with_six(self):
        data = document(positions=[{"name": f"P{i}", "angles": {"A": float(i + 1)}} for i in range(60)])
        data["setups"][0]["machine"] = "vertical-760-a"
        plan = plan_from(data)
        report = evaluate(plan, part(), "d" * 64, computed("register_each")[0])
        given = [p.offset_register for p in report.setups[0].positions if p.offset_register]
        # G54 is the setup's own and G59 is kept back; 4 of the six are left, and 48 more.
        self.assertEqual(len(set(given)), 52)
        self.assertNotIn("G59", given)
        self.assertEqual(sum(f.code == "offsets.none_left" for f in report.setups[0].findings), 8)

    def test_clashes_and_registers_that_are_not_there(self):
        twice = [{"name": "P1", "angles": {"A": 10.0}, "offset_register": "G54"}]
        self.assertIn("write over", self.found(positions=twice)["offsets.clash"])
        far = [{"name": "P1", "angles": {"A": 10.0}, "offset_register": "G54.1 P99"}]
        self.assertIn("has no register G54.1 P99", self.found(positions=far)["offsets.no_register"])

    def test_plans_that_are_none(self):
        for setup, told in (
            ({"positions": [{"name": "P1"}]}, "by a direction, a face or angles"),
            ({"positions": [{"name": "P1", "direction": [0, 0, 0]}]}, "has no length"),
            ({"positions": [{"name": "P1", "direction": [0, 0, 1]}] * 2}, "share a name"),
            ({"operations": [facing("nowhere")]}, "has no such index position"),
        ):
            with self.assertRaises(BadInput) as caught:
                plan_from(document(**setup))
            self.assertIn(told, caught.exception.what)


if __name__ == "__main__":
    unittest.main()
