"""Index positions on the route: the same stock whichever way the job is run, registers by hand, and what
cannot be.
"""

from __future__ import annotations

import itertools
import math
import unittest
from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np
from pygcode import Line
from scipy.spatial.transform import Rotation

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.machine.index import centre_register, index_time
from pelvrak.core.machine.kinematics import linear_for, pose
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import path_from_json
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import OperationReport, Report, SetupReport
from pelvrak.core.route.visits import least_turning, turning_words
from tests import solids
from tests.edits import cured

SIZE = (60.0, 40.0, 30.0)
TOOLS = [tool_shelf()[name].model_dump(mode="json") for name in ("em10", "dr5")]


@cache
def part() -> bytes:
    """A block with a hole in its front and one, at 30°, in its top edge's chamfer face."""
    block = solids.box((0, 0, 0), SIZE)
    wedge = solids.turned(solids.box((-1, 0, 0), (61, 40, 20)), -30, (1, 0, 0))
    return solids.step_bytes(
        solids.minus(
            block,
            solids.placed(wedge, (0, 28, 30)),
            solids.placed(solids.turned(solids.cylinder((0, 0, -8), 2.5, 20), 90, (1, 0, 0)), (20, 0, 12)),
        )
    )


def document(**setup: Any) -> dict[str, Any]:
    """A plan of one setup on the machine with a rotary about X: the block on the cradle between two
    straps.
    """
    strap = {"fixture": "strap-80", "on": "table", "y": 65}
    return {
        "name": "turned",
        "part": {"file": "block.step"},
        "resolution_mm": 1.0,
        "billet": {
            "kind": "block",
            "material": "EN AW-6082",
            "sizing": {"rule": "size", "size": [60, 40, 30], "place": [0.5, 0.5, 0.5]},
        },
        "tools": TOOLS,
        "setups": [
            {
                "name": "OP10",
                "machine": "vertical-760-a",
                "hold": {
                    "items": [
                        {"id": "left", **strap, "x": 138, "turn_deg": -90},
                        {"id": "right", **strap, "x": 182, "turn_deg": 90},
                    ],
                    "work": {"x": -10, "y": 22},
                },
                **setup,
            }
        ],
    }


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
    return store, evaluate(turned_plan(run), part(), store)


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
        """Machine coordinates (X, Y, Z, A) of every block of the program, read by pygcode, with the values of
        its own head.
        """
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
        """The register of each position and the rotary centre's: other numbers, the same machine coordinates
        to what is written.
        """
        one, two = self.machine_places("register_each"), self.machine_places("centre")
        self.assertEqual(len(one), len(two))
        self.assertGreater(len(one), 12)
        np.testing.assert_allclose(one, two, atol=2.1e-3)
        self.assertEqual({a for *_, a in one}, {-30.0, 90.0})

    def test_the_tilted_plane_goes_to_the_same_places(self):
        """Its program read by pygcode: the plane's turns about Z, the new X and the new Z composed by scipy,
        about the register's point. The tool's places in the work are those of the program that has a register
        for each position.
        """
        store, report = computed("tilted_plane")
        _, plain = computed("register_each")
        setup, zero = report.setups[0], np.array(report.setups[0].hold.zero_on_table)
        text = store.get(setup.program_key, "program.nc").decode()
        at, plane, origin, turned = {"X": 0.0, "Y": 0.0, "Z": math.nan}, np.eye(3), np.zeros(3), []
        for line in text.splitlines():
            if line.startswith(("%", "O", "(")):
                continue
            if "G53 G0 Z0." in line:
                at["Z"] = math.nan
            if "G68.2" in line:
                value = {word[0]: float(word[1:]) for word in line.split()[2:]}
                plane = Rotation.from_euler(
                    "ZXZ", [value["I"], value["J"], value["K"]], degrees=True
                ).as_matrix()
                origin = np.array([value["X"], value["Y"], value["Z"]])
                continue
            if "G53" in line:
                continue
            words = [(w.letter, w.value) for w in Line(line.split("(")[0]).block.words]
            at |= {letter: float(value) for letter, value in words if letter in at}
            if any(letter in at for letter, _ in words) and not math.isnan(at["Z"]):
                turned.append(zero + origin + plane @ [at["X"], at["Y"], at["Z"]])
        machine = machine_of("vertical-760-a")
        wanted = [
            pose(machine, dict(zip("XYZA", place, strict=True))).table_from_spindle[:3, 3]
            for place in self.machine_places("register_each")
            if not math.isnan(place[2])
        ]
        self.assertEqual(plain.setups[0].operations[0].moves, setup.operations[0].moves)
        np.testing.assert_allclose(turned, wanted, atol=3e-3)

    def test_the_program_puts_the_tool_where_the_stock_was_cut(self):
        """Machine coordinates of a program back to the work by the machine's own chain: the operation's
        moves, turned into the work.
        """
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
        """A -30 turns the work by +30 about X, A 90 by -90: zero turned about the rotary axis by the sine and
        cosine of that.
        """
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
            [("G54", "edge", ()), ("G55", "derived", ("face",)), ("G56", "derived", ("hole",))],
        )
        self.assertEqual([r.comes_from for r in rows], [None, "G54", "G54"])
        self.assertEqual(rows[0].stands_on, ("table", "Strap clamp 80", "work"))
        _, report = computed("centre")
        self.assertEqual(
            [(r.register_name, len(r.operations)) for r in report.setups[0].offsets], [("G54", 2)]
        )

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
        """The slanting face is cut at its position, where a strap lies over it: moved to where no position's
        tool comes.
        """
        data = turned_plan().model_dump(mode="json")
        # The hole in the front would leave no place at all.
        data["setups"][0]["operations"] = data["setups"][0]["operations"][:1]
        data["setups"][0]["hold"]["items"][1]["y"] = 88
        report = evaluate(plan_from(data), part(), computed("register_each")[0])
        found = next(f for f in report.setups[0].findings if f.code == "hold.clamp_in_the_way")
        self.assertIn("right", found.sentence)
        data = cured(data, found.cures[0])
        again = evaluate(plan_from(data), part(), computed("register_each")[0]).setups[0]
        self.assertNotIn("hold.clamp_in_the_way", [f.code for f in again.findings])
        self.assertEqual([f.code for o in again.operations for f in o.findings if f.severity == "error"], [])


class SwingOnTheRoute(unittest.TestCase):
    def found(self, plate: str) -> list[Any]:
        data = document(
            positions=[{"name": "side", "angles": {"A": -60.0, "C": -90.0}}], operations=[facing("side")]
        )
        data["setups"][0] |= {
            "machine": "trunnion-ac",
            "hold": {"items": [{"id": "plate", "fixture": plate, "on": "table", "x": 140, "y": 140}]},
        }
        report = evaluate(plan_from(data), part(), computed("register_each")[0])
        return [f for f in report.setups[0].findings if f.code.startswith("reach.swing")]

    def test_a_plate_too_long_for_the_cradle(self):
        """Half a plate of 400 × 300 reaches 250 from the table's centre; the cradle's sides stand 210 from
        it.
        """
        (hit,) = [f for f in self.found("grid-400") if f.code == "reach.swing"]
        self.assertEqual(hit.severity, "error")
        self.assertLess(hit.measured, 0.05)
        self.assertIn("the base plate runs into the cradle", hit.sentence)

    def test_one_that_goes_round(self):
        """250 × 200: 160 from the centre, 50 off the sides."""
        self.assertEqual([f for f in self.found("grid-250") if f.code == "reach.swing"], [])


@cache
def flange() -> bytes:
    """A disc Ø60 about X, 20 thick, with six holes Ø5, 10 deep, in its rim."""
    disc = solids.turned(solids.cylinder((0, 0, 0), 30, 20), 90, (0, 1, 0))
    hole = solids.cylinder((10, 0, 20), 2.5, 20)
    return solids.step_bytes(solids.minus(disc, *(solids.turned(hole, 60 * k, (1, 0, 0)) for k in range(6))))


@cache
def flange_walls() -> list[dict[str, Any]]:
    """References to the walls of its holes, the way round from the top."""
    found = read_step(flange(), "flange.step").part.faces
    rim = [f for f in found if f.kind == "cylinder" and f.radius == 2.5]
    rim.sort(key=lambda f: math.atan2(f.centre[1], f.centre[2]) % (2 * math.pi) + 1e-9)
    return [{"face": f.number, "at": list(f.centre)} for f in rim]


def flange_plan(resolution: float = 2.0, **operation: Any) -> dict[str, Any]:
    walls = flange_walls()
    names = [f"H{k}" for k in range(len(walls))]
    return {
        "name": "flange",
        "part": {"file": "flange.step"},
        "resolution_mm": resolution,
        "tools": TOOLS,
        "billet": {
            "kind": "bar",
            "material": "EN AW-6082",
            "axis": "x",
            "diameter": 60.0,
            "minus": 0.0,
            "plus": 0.0,
        },
        "setups": [
            {
                "name": "OP10",
                "machine": "vertical-760-a",
                "positions": [{"name": name, "face": wall} for name, wall in zip(names, walls, strict=True)],
                "operations": [
                    {
                        "id": "holes",
                        "name": "Holes",
                        "kind": "drilling",
                        "tool": "dr5",
                        "faces": walls,
                        "position": names[0],
                        "repeated_at": names[1:],
                        **operation,
                    }
                ],
            }
        ],
    }


FLANGE = MemoryStore()


def flange_report(document: dict[str, Any]) -> Report:
    return evaluate(plan_from(document), flange(), FLANGE)


class Repeated(unittest.TestCase):
    """Six holes round a flange: one operation with its positions."""

    def test_each_hole_at_its_position_and_once(self):
        report = flange_report(flange_plan(1.0))
        told = report.setups[0].operations
        self.assertEqual([o.id for o in told], ["holes"] * 6)
        self.assertEqual(len({o.run for o in told}), 6)
        # A hole Ø5, 10 deep from the rim, and the drill's point of 118° where the flat bottom was drawn is
        # not drilled: it ends there.
        exact = 10 * math.pi * 2.5**2
        for one in told:
            self.assertAlmostEqual(one.removed_volume_mm3 / exact, 1.0, delta=0.12)
        self.assertEqual([f.code for o in told for f in o.findings if f.severity == "error"], [])
        program = FLANGE.get(report.setups[0].program_key, "program.nc").decode()
        self.assertEqual(program.count("G81"), 6)

    def test_it_goes_round_and_not_to_and_fro(self):
        """Six places 60° apart are five turns of 60°, whichever way they are listed."""
        document = flange_plan()
        operation = document["setups"][0]["operations"][0]
        mixed = [operation["position"], *operation["repeated_at"]]
        mixed = [mixed[i] for i in (0, 3, 1, 5, 2, 4)]
        operation |= {"position": mixed[0], "repeated_at": mixed[1:]}
        setup = flange_report(document).setups[0]
        angles = {p.name: p.angles["A"] for p in setup.positions}
        walk = [angles[o.position] for o in setup.operations]
        self.assertEqual([round(abs(b - a)) for a, b in zip(walk, walk[1:], strict=False)], [60] * 5)

    def test_left_out_singly(self):
        report = flange_report(flange_plan(left_out=["H2", "H4"]))
        self.assertEqual(sorted(o.position for o in report.setups[0].operations), ["H0", "H1", "H3", "H5"])
        # The holes of those positions are cut nowhere: told once.
        found = [f for o in report.setups[0].operations for f in o.findings if f.code == "index.face_nowhere"]
        self.assertEqual([(f.measured, len(f.place)) for f in found], [(2.0, 2)])

    def test_a_position_where_nothing_looks_up(self):
        document = flange_plan()
        document["setups"][0]["positions"].append({"name": "askew", "angles": {"A": 15.0}})
        document["setups"][0]["operations"][0]["repeated_at"].append("askew")
        report = flange_report(document)
        (found,) = [
            f for o in report.setups[0].operations for f in o.findings if f.code == "index.nothing_there"
        ]
        document = cured(document, found.cures[0])
        again = flange_report(document)
        self.assertNotIn(
            "index.nothing_there", [f.code for o in again.setups[0].operations for f in o.findings]
        )

    def test_grouped_by_position(self):
        """Spot and drill at each of six places: twice round by operations, once round by positions, for more
        tool changes.
        """
        document = flange_plan()
        own = document["setups"][0]
        spot = own["operations"][0] | {
            "id": "spot",
            "name": "Spot",
            "cycle": "spot",
            "chamfer": 4.0,
            "tool": "sd10",
        }
        own["operations"].insert(0, spot)
        document["tools"] = [*TOOLS, tool_shelf()["sd10"].model_dump(mode="json")]
        by_operation = flange_report(document).setups[0]
        own["order"] = "positions"
        by_position = flange_report(document).setups[0]

        def count(setup: SetupReport, what: Callable[[OperationReport], Any]) -> int:
            return sum(what(a) != what(b) for a, b in itertools.pairwise(setup.operations))

        # Going back round, the drill begins where the spot ended.
        self.assertEqual(
            (count(by_operation, lambda o: o.position), count(by_operation, lambda o: o.tool)), (10, 1)
        )
        self.assertEqual(
            (count(by_position, lambda o: o.position), count(by_position, lambda o: o.tool)), (5, 11)
        )
        self.assertAlmostEqual(by_operation.outgoing_volume_mm3, by_position.outgoing_volume_mm3, places=3)

    def test_a_better_order_is_told_with_what_it_saves(self):
        """One tool, three cuts to and fro between two places: grouped, the work turns once."""
        document = flange_plan(repeated_at=[])
        own = document["setups"][0]
        first = own["operations"][0]
        walls = first["faces"]
        own["operations"] = [
            first
            | {
                "id": f"o{k}",
                "name": f"o{k}",
                "position": f"H{k % 2 * 3}",
                "faces": [walls[k % 2 * 3]],
                "cycle": "peck" if k > 1 else "drill",
            }
            for k in range(4)
        ]
        setup = flange_report(document).setups[0]
        (found,) = [f for f in setup.findings if f.code == "index.order"]
        between = index_time(machine_of("vertical-760-a"), {"A": 0.0}, {"A": 180.0})
        self.assertAlmostEqual(found.measured - found.limit, 2 * between, places=2)
        self.assertNotRegex(found.sentence, r"(\d+) times and not \1\b")
        document = cured(document, found.cures[0])
        again = flange_report(document).setups[0]
        self.assertEqual([o.position for o in again.operations], ["H0", "H0", "H3", "H3"])

    def test_the_shortest_order_is_the_shortest(self):
        """Against every order of up to six places."""
        rng = np.random.default_rng(4)
        for _ in range(20):
            names = [f"P{i}" for i in range(int(rng.integers(1, 7)))]
            times = {(a, b): float(rng.random()) for a in ["", *names] for b in names}
            length = lambda order: sum(times[a, b] for a, b in zip(["", *order], order, strict=False))  # noqa: B023, E731
            found = least_turning("", names, lambda a, b: times[a, b])  # noqa: B023
            self.assertAlmostEqual(
                length(found), min(length(list(o)) for o in itertools.permutations(names)), places=9
            )


class WordsOfTurning(unittest.TestCase):
    def test_as_often_is_not_told_as_a_saving(self):
        """A grouped order that turns as often saves tool changes alone, and says so."""
        self.assertEqual(turning_words(2, 2), "take")
        self.assertEqual(turning_words(3, 1), "turn once instead of 3, and take")


class OwnZero(unittest.TestCase):
    """A position that counts from a zero of its own."""

    def report(self, run: str) -> tuple[MemoryStore, Report]:
        data = turned_plan(run).model_dump(mode="json")
        # In the middle of the front, on its top as it then lies.
        data["setups"][0]["positions"][1]["zero"] = {"of": "part", "x": 0, "y": 0, "z": 1}
        store = computed(run)[0]
        return store, evaluate(plan_from(data), part(), store)

    def test_the_same_stock_from_another_zero(self):
        _, plain = computed("register_each")
        for run in ("centre", "tilted_plane"):
            store, moved = self.report(run)
            front = moved.setups[0].positions[1]
            # Part and billet are one: 60 × 40 × 30, zero in the middle of the top; looked at from the front,
            # 20 in front and 15 below that.
            np.testing.assert_allclose(front.origin, (0, -20, -15), atol=1e-6)
            np.testing.assert_allclose(front.x, (1, 0, 0), atol=1e-9)
            self.assertAlmostEqual(
                moved.setups[0].outgoing_volume_mm3, plain.setups[0].outgoing_volume_mm3, places=2
            )
            path, _ = path_from_json(store.get(moved.setups[0].operations[1].key, "path.json"))
            self.assertLess(
                min(m.end[2] for m in path.moves), 0.0
            )  # zero on top: every cutting Z is negative

    def test_its_register_by_hand(self):
        _, report = self.report("register_each")
        setup = report.setups[0]
        zero = np.array(setup.hold.zero_on_table) + [0, -20, -15]
        # A 90 turns the work by -90 about X: (y, z) from the axis become (z, -y).
        y, z = zero[1] - 85.0, zero[2] - 25.0
        by_hand = (-550 + zero[0], -215 + z, -480 - y)
        np.testing.assert_allclose([v.value for v in setup.positions[1].register_value], by_hand, atol=1e-3)


class WrongPositions(unittest.TestCase):
    def found(self, **setup: Any) -> dict[str, str]:
        plan = plan_from(document(**setup))
        report = evaluate(plan, part(), computed("register_each")[0])
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
        self.assertIn(
            "no axis C", self.found(positions=[{"name": "P1", "angles": {"C": 10.0}}])["index.no_axis"]
        )
        self.assertIn(
            "cannot look down",
            self.found(machine="horizontal-b", operations=[facing(None)])["reach.not_upright"],
        )

    def test_a_position_is_made_for_a_hole_in_the_side(self):
        """A hole that does not stand upright: the cure makes the position its axis needs and cuts it
        there.
        """
        drilled = {
            "id": "hole",
            "name": "hole",
            "kind": "drilling",
            "tool": "dr5",
            "faces": [faces()["hole"]],
        }
        plan = plan_from(document(operations=[drilled]))
        report = evaluate(plan, part(), computed("register_each")[0])
        (found,) = report.setups[0].operations[0].findings
        self.assertEqual(found.code, "cut.not_square")
        data = cured(plan.model_dump(mode="json"), found.cures[0])
        again = evaluate(plan_from(data), part(), computed("register_each")[0]).setups[0]
        self.assertEqual([p.angles for p in again.positions], [{"A": 90.0}])
        self.assertGreater(again.operations[0].removed_volume_mm3, 100)

    def test_the_positions_of_all_operations_at_once(self):
        """Two operations that lie on their sides: one edit makes both positions and cuts each at its own."""
        drilled = {
            "id": "hole",
            "name": "hole",
            "kind": "drilling",
            "tool": "dr5",
            "faces": [faces()["hole"]],
        }
        faced = facing(None) | {"face": faces()["slant"]}
        report = evaluate(
            plan_from(document(operations=[drilled, faced])), part(), computed("register_each")[0]
        )
        (found,) = [f for f in report.setups[0].findings if f.code == "index.needed"]
        self.assertEqual(found.measured, 2.0)
        data = cured(document(operations=[drilled, faced]), found.cures[0])
        again = evaluate(plan_from(data), part(), computed("register_each")[0]).setups[0]
        self.assertEqual(sorted(p.angles["A"] for p in again.positions), [-30.0, 90.0])
        self.assertNotIn("cut.not_square", [f.code for o in again.operations for f in o.findings])
        self.assertTrue(all(o.removed_volume_mm3 > 100 for o in again.operations))

    def test_holes_all_round_need_all_their_positions(self):
        """The six holes as one operation without positions: the cure makes five, the first looks up as it is
        seated.
        """
        plan = flange_plan(position=None, repeated_at=[])
        plan["setups"][0]["positions"] = []
        (found,) = flange_report(plan).setups[0].operations[0].findings
        again = flange_report(cured(plan, found.cures[0])).setups[0]
        self.assertEqual((len(again.positions), len(again.operations)), (5, 6))
        self.assertIsNone(again.operations[0].position)

    def test_sixty_zeros_on_a_control_with_six(self):
        """Six registers, one of them the setup's own, one kept back: four positions get one, 56 do not."""
        data = document(positions=[{"name": f"P{i}", "angles": {"A": float(i + 1)}} for i in range(60)])
        mine = machine_of("vertical-760-a").model_dump(mode="json")
        mine["id"] = "six"
        mine["control"]["extended"] = 0
        data["machines"], data["setups"][0]["machine"] = [mine], "six"
        report = evaluate(plan_from(data), part(), computed("register_each")[0])
        self.assertEqual(sum(f.code == "offsets.none_left" for f in report.setups[0].findings), 56)

    def test_registers_go_on_beyond_the_standard_ones(self):
        data = document(positions=[{"name": f"P{i}", "angles": {"A": float(i + 1)}} for i in range(60)])
        data["setups"][0]["machine"] = "vertical-760-a"
        plan = plan_from(data)
        report = evaluate(plan, part(), computed("register_each")[0])
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
            (
                {"positions": [{"name": "P1", "direction": [0, 0, 1]}] * 2},
                "index positions of OP10 are called P1",
            ),
            ({"operations": [facing("nowhere")]}, "has no such index position"),
        ):
            with self.assertRaises(BadInput) as caught:
                plan_from(document(**setup))
            self.assertIn(told, caught.exception.what)


if __name__ == "__main__":
    unittest.main()
