"""The register of checks, and the checks that no other test has raised: each from literals, each by its
code.
"""

from __future__ import annotations

import ast
import unittest
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

import manifold3d
import numpy as np

from pelvrak.core.billet.block import Block, check_fit
from pelvrak.core.checks import CHECKS, catalogue, refusals
from pelvrak.core.cures import Element, Put
from pelvrak.core.cutting.feeds import material_of
from pelvrak.core.cutting.operations import Facing
from pelvrak.core.cutting.toolpath import Chords, Round
from pelvrak.core.engine.engine import Engine, no_files
from pelvrak.core.engine.step import Content
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import SEVERITIES, Finding
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import Mesh, box, mesh_of
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.holding.assemble import assemble
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.facts import HoldFacts, PieceFact, SafetyFact, WayFact
from pelvrak.core.holding.hold import Hold, Item, Pinned, SoftCut, WorkPlace, fixtures_of, vise_hold
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.judged import Judged
from pelvrak.core.holding.kinds import Jaws, Vise
from pelvrak.core.holding.soft_jaws import solve
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import home_angles
from pelvrak.core.machine.machine import machines
from pelvrak.core.machine.travel import check_table
from pelvrak.core.route import swinging
from pelvrak.core.route.clearance import _Clearance
from pelvrak.core.route.comparing import compared
from pelvrak.core.route.cut_checks import (
    holding_findings,
    machine_findings,
    stock_findings,
    wrapped_findings,
)
from pelvrak.core.route.cut_facts import CutFacts, Moves, laid, met_by_machine, met_in_holding, met_in_stock
from pelvrak.core.route.cut_told import Told
from pelvrak.core.route.jaw_setup import said_of_jaws
from pelvrak.core.route.jaws import NestGiven, Solved
from pelvrak.core.route.loads import safety_findings
from pelvrak.core.route.naming import SETUP
from pelvrak.core.route.pieces import FACTS, FIELD, PART, SURFACE
from pelvrak.core.route.plan import Setup, plan_from
from pelvrak.core.route.registers import Load, give_registers
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run, part_result
from pelvrak.core.route.station import Station
from pelvrak.core.route.turning import Turning
from pelvrak.core.route.zeros import _above_zero, _registers
from pelvrak.core.seat.seating import NamedZero, Seat, Zero
from pelvrak.core.stock.compare import Comparison
from pelvrak.core.stock.cut import CUT, RAPID, STOPPED, Hits, Profile, Sweep
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_block, union
from tests import solids
from tests.serving import TOP

SHOP = fixtures_of(())
BLOCK = box(np.array([-50, -30, -40.0]), np.array([50, 30, 0.0]))


class RegisterTest(unittest.TestCase):
    def made(self) -> dict[str, set[str]]:
        """Codes that stand in the core's findings, with the severities that are written beside them; refusals
        left out.
        """
        out: dict[str, set[str]] = {}
        for path in sorted((TOP / "src" / "pelvrak" / "core").rglob("*.py")):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Call) and ast.unparse(node.func) == "Finding":
                    words = {k.arg: k.value for k in node.keywords}
                    codes = [
                        n.value
                        for n in ast.walk(words["code"])
                        if isinstance(n, ast.Constant) and "." in str(n.value)
                    ]
                    severities = {
                        n.value for n in ast.walk(words["severity"]) if isinstance(n, ast.Constant)
                    } & {*SEVERITIES}
                    for code in codes:
                        out.setdefault(str(code), set()).update(severities)
        return out

    def test_every_finding_is_registered_with_its_severities(self):
        made = self.made()
        self.assertGreater(len(made), 25)
        for code, severities in made.items():
            self.assertIn(code, CHECKS)
            self.assertLessEqual(severities, {*CHECKS[code].severities}, code)

    def test_every_entry_says_something(self):
        for code, check in CHECKS.items():
            self.assertEqual(code, check.code)
            self.assertTrue(check.severities and set(check.severities) <= {*SEVERITIES}, code)
            self.assertGreater(len(check.finds), 10, code)
            self.assertTrue(check.source, code)

    def test_the_page_of_checks_is_the_register(self):
        page = (TOP / "docs" / "checks.md").read_text()
        self.assertEqual(page, catalogue(), "write it again: bin/pelvrak checks > docs/checks.md")
        for code in CHECKS:
            self.assertIn(f"`{code}`", page)

    def test_refusals_say_how_to_mend(self):
        found = {one.code: one for one in refusals()}
        self.assertGreater(len(found), 120)
        self.assertIn("part.unreadable", found)
        for one in found.values():
            self.assertTrue(one.what.strip() and one.mend.strip(), one.code)
            self.assertNotIn(
                one.code, CHECKS.keys() - {"stock.none", "hold.height", "hold.gap_closed"}, one.code
            )


def held(hold: Hold, stock: Mesh = BLOCK, **more: Any) -> dict[str, Finding]:
    """Findings of a holding by their code."""
    return {f.code: f for f in hold_work(hold, SHOP, stock, "OP10", **more).findings}


class HoldChecks(unittest.TestCase):
    def found(self, code: str, hold: Hold, stock: Mesh = BLOCK, **more: Any) -> Finding:
        found = held(hold, stock, **more)
        self.assertIn(code, found, sorted(found))
        self.assertIn(found[code].severity, CHECKS[code].severities)
        self.assertEqual(found[code].stage, "hold")
        return found[code]

    def test_bolts(self):
        # Column and row together odd: a dowel hole.
        bolted = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="b", fixture="m12x60", on="plate", hole=(3, 4)),
            ),
            work=WorkPlace(on="plate"),
        )
        self.assertIn("dowel hole", self.found("hold.bolt_in_dowel", bolted).sentence)
        # M6 × 40 from below through a plate 30 thick: 10 mm of thread, 6 wanted; from 38 mm lower only 2.
        holes = {1: UprightHole(np.array([0.0, 0, 0]), 5.0, -40.0, 0.0)}
        into = FaceRef(face=1, at=(0.0, 0.0, 0.0))

        def below(z: float) -> Hold:
            return Hold(
                items=(
                    Item(id="plate", fixture="grid-400", x=400, y=300),
                    Item(id="b", fixture="m6x40", on="plate", into=into, z=z),
                ),
                work=WorkPlace(on="plate"),
            )

        short = self.found("hold.bolt_short", below(-8.0), shapes=Shapes(holes=holes))
        self.assertEqual((short.measured, short.limit), (2.0, 6.0))
        self.assertNotIn("hold.bolt_short", held(below(0.0), shapes=Shapes(holes=holes)))

    def test_chuck_jaws_that_close_past_low_work(self):
        low = mesh_of(manifold3d.Manifold.cylinder(3, 20, 20, 60))
        chucked = Hold(
            items=(
                Item(id="chuck", fixture="chuck-3-160", x=300, y=200),
                Item(id="pad", fixture="pad-20", on="chuck"),
            )
        )
        codes = held(Hold(items=chucked.items[:1], work=WorkPlace(x=400)), low)
        self.assertIn("hold.chuck_misses", codes)

    def test_a_strap_on_work_higher_than_it_rises(self):
        """Work 200 mm high on the plate; the strap takes 10 to 120."""
        tall = box(np.array([-50, -30, -200.0]), np.array([50, 30, 0.0]))
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="strap", fixture="strap-125", on="plate", x=0, y=-10),
            ),
            work=WorkPlace(on="plate"),
        )
        found = self.found("hold.clamp_rise", hold, tall)
        self.assertEqual(found.limit, 120.0)
        self.assertGreater(found.measured, 120.0)

    def test_a_vise_without_jaws(self):
        self.found("hold.no_jaws", Hold(items=(Item(id="vise", fixture="bench-125", x=300, y=300),)))

    def test_work_that_only_lies_there(self):
        lying = Hold(items=(Item(id="plate", fixture="grid-400", x=400, y=300),), work=WorkPlace(on="plate"))
        self.assertIn("Nothing clamps", self.found("hold.not_clamped", lying).sentence)

    def test_pushed_at_nothing(self):
        base = vise_hold()
        pushed = base.model_copy(update={"work": base.work.model_copy(update={"pushed": ("left",)})})
        self.assertIn("left", self.found("hold.nothing_to_push_at", pushed).sentence)

    def test_two_thick_parallels_in_a_narrow_vise(self):
        thin = box(np.array([-50, -6.0, -40.0]), np.array([50, 6.0, 0.0]))
        items = (
            Item(id="vise", fixture="bench-125", x=300, y=300),
            Item(id="jaws", fixture="hard-125", on="vise"),
            Item(id="p", fixture="par-150x8", on="vise", height=30),
        )
        found = self.found("hold.parallels_too_thick", Hold(items=items), thin)
        self.assertEqual((found.measured, found.limit), (16.0, 12.0))

    def test_tall_work_in_a_shallow_grip(self):
        """6 mm of grip and 64 over the jaws: more than eight grips."""
        tall = box(np.array([-50, -30, -70.0]), np.array([50, 30, 0.0]))
        items = (
            Item(id="vise", fixture="bench-125", x=300, y=300),
            Item(id="jaws", fixture="hard-125", on="vise"),
            Item(id="p", fixture="par-125x5", on="vise", height=34),
        )
        found = self.found("hold.stands_out", Hold(items=items), tall)
        self.assertAlmostEqual(found.measured, 64 / 6, places=2)
        self.assertTrue(found.cures)

    def test_work_whose_middle_is_beside_its_rest(self):
        """An L that stands on its short leg: 20 mm of foot, the middle of its mass over the long arm."""
        foot = manifold3d.Manifold.cube([20, 40, 30]).translate([-60, -20, -40])
        arm = manifold3d.Manifold.cube([160, 40, 10]).translate([-60, -20, -10])
        self.assertIn("tips over", self.found("hold.tips_over", vise_hold(), mesh_of(foot + arm)).sentence)

    def test_a_jaw_that_bears_on_little_of_what_lies_against_it(self):
        """A wall with a rib 0.05 mm proud, 1 mm high, in 6 mm of grip: the jaw bears on the rib alone."""
        body = manifold3d.Manifold.cube([100, 60, 40]).translate([-50, -30, -40])
        rib = manifold3d.Manifold.cube([100, 0.05, 1]).translate([-50, 30, -37])
        found = self.found("hold.uneven", vise_hold(), mesh_of(body + rib))
        self.assertLess(found.measured, found.limit)

    def test_no_straight_way_in(self):
        """Work that was pushed under a lip and is walled in on all sides."""
        hold = vise_hold()
        stood = assemble(hold, SHOP, BLOCK)
        checked = Judged(hold, SHOP, BLOCK, "OP10", stood, [], [], np.zeros(3), "C45", True, [])
        ways = tuple(
            WayFact(way=way, free=False, blocked_by="lip") for way in ("up", "left", "right", "front", "back")
        )
        (found,) = checked._loading(HoldFacts(ways=ways))
        self.assertEqual((found.code, found.severity), ("hold.no_way_in", "error"))
        self.assertIn("upwards the lip", found.sentence)
        open_to_the_left = (ways[0], WayFact(way="left", free=True), *ways[2:])
        self.assertEqual(checked._loading(HoldFacts(ways=open_to_the_left)), [])

    def test_a_pin_too_short_for_its_hole(self):
        """A hole that begins 19 mm over the plate; the pin is 18 high."""
        body = manifold3d.Manifold.cube([120, 80, 40]) - manifold3d.Manifold.cylinder(30, 6, 6, 64).translate(
            [20, 40, 19]
        )
        body -= manifold3d.Manifold.cylinder(19.5, 10, 10, 64).translate([20, 40, -0.5])
        ref = FaceRef(face=1, at=(0.0, 0.0, 0.0))
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="a", fixture="pin-12", on="plate", hole=(3, 4)),
                Item(id="strap", fixture="strap-125", on="plate", x=-20, y=-20),
            ),
            work=WorkPlace(on="plate", pinned=(Pinned(hole=ref, pin="a"),)),
        )
        holes = {1: UprightHole(np.array([20.0, 40, 0]), 12.0, 19.0, 40.0)}
        self.assertIn(
            "does not reach",
            self.found("hold.pin_short", hold, mesh_of(body), shapes=Shapes(holes=holes)).sentence,
        )

    def test_two_stops_on_one_side_of_a_long_work_fight_pins(self):
        """Two full pins in one work fix the line between them twice."""
        body = manifold3d.Manifold.cube([120, 80, 20])
        for x in (20, 70):
            body -= manifold3d.Manifold.cylinder(30, 6, 6, 64).translate([x, 40, -5])
        holes = {n: UprightHole(np.array([x, 40.0, 0]), 12.0, 0.0, 20.0) for n, x in ((1, 20.0), (2, 70.0))}
        pinned = tuple(
            Pinned(hole=FaceRef(face=n, at=(0.0, 0.0, 0.0)), pin=pin) for n, pin in ((1, "a"), (2, "b"))
        )
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="a", fixture="pin-12", on="plate", hole=(3, 4)),
                Item(id="b", fixture="pin-12", on="plate", hole=(5, 4)),
                Item(id="strap", fixture="strap-125", on="plate", x=-20, y=-20),
            ),
            work=WorkPlace(on="plate", pinned=pinned),
        )
        self.assertIn(
            "Over-located",
            self.found("hold.over_located", hold, mesh_of(body), shapes=Shapes(holes=holes)).sentence,
        )

    def test_cutting_harder_than_the_holding_stands(self):
        stood = SafetyFact(
            operation="o", name="Rough", factor=0.8, force=(300.0, 400.0, 120.0), place=(0.0, 0.0, 0.0)
        )
        found = {
            factor: safety_findings((stood.model_copy(update={"factor": factor}),), "OP10")
            for factor in (0.8, 1.5, 4.0)
        }
        self.assertEqual(
            [(f.code, f.severity, f.measured) for f in found[0.8]], [("hold.slips", "error", 0.8)]
        )
        self.assertEqual([f.severity for f in found[1.5]], ["warning"])
        self.assertEqual(found[4.0], [])
        self.assertIn("500 N across", found[0.8][0].sentence)


class JawChecks(unittest.TestCase):
    """Trouble of a nest: its codes as the setup tells them."""

    def trouble(self, work: Mesh, **spec: Any) -> list[str]:
        jaws, vise = SHOP["soft-160x70"], SHOP["bench-160"]
        assert isinstance(jaws, Jaws) and isinstance(vise, Vise)
        return [code for code, *_ in solve(work, SoftCut(**spec), jaws, vise).trouble]

    def test_every_trouble_of_a_nest_is_a_finding_with_its_cures(self):
        """What solving writes down is told as it is, with other blanks where those would do."""
        spec = SoftCut()
        hold = Hold(
            items=(
                Item(id="vise", fixture="bench-160", x=300, y=300),
                Item(id="jaws", fixture="soft-160x30", on="vise", cut=spec),
            )
        )
        given = NestGiven(Content("0"), Content("0"), np.eye(3), hold, tuple(SHOP.values()), "jaws")
        jaws, vise = SHOP["soft-160x30"], SHOP["bench-160"]
        assert isinstance(jaws, Jaws) and isinstance(vise, Vise)
        blank = ("jaws.thin", "jaws.too_short", "jaws.too_low", "jaws.longer_than_work", "jaws.no_screws")
        for code in (
            *blank,
            "jaws.blanks_differ",
            "jaws.corners_ride",
            "jaws.no_edges",
            "jaws.no_wall",
            "jaws.poor_seat",
            "jaws.slips_out",
            "jaws.wrap",
        ):
            nest = solve(BLOCK, spec, jaws, vise)
            severity = CHECKS[code].severities[0]
            nest.trouble[:] = [(code, severity, "The nest has a trouble.", 1.23456, 6.0)]
            part = SimpleNamespace(faces=())
            solved = Solved(Setup(name="OP20", hold=hold), given, hold.items[1], part, BLOCK)  # type: ignore[arg-type]
            solved.__dict__["nest"] = nest
            (found,) = solved.findings()
            self.assertEqual(
                (found.code, found.severity, found.measured, found.limit), (code, severity, 1.2346, 6.0)
            )
            self.assertEqual(bool(found.cures), code in blank, code)

    def test_a_setup_for_jaws_that_cuts_nothing_yet(self):
        self.assertEqual([f.code for f in said_of_jaws(Setup(name="J"), False, 50.0)], ["jaws.no_operations"])
        on_end = said_of_jaws(Setup(name="J", operations=(Facing(id="f", name="F", tool="t"),)), True, 50.0)
        self.assertEqual([f.code for f in on_end], ["jaws.on_end"])
        self.assertIn("50 mm high", on_end[0].sentence)

    def test_no_wall_towards_the_jaws(self):
        """A square that stands on its corner between the jaws; turned by 45° it has walls."""
        diamond = manifold3d.Manifold.cube([40, 40, 30]).translate([-20, -20, 0]).rotate([0, 0, 45])
        self.assertEqual(self.trouble(mesh_of(diamond)), ["jaws.no_wall", "jaws.no_wall"])
        self.assertNotIn("jaws.no_wall", self.trouble(mesh_of(diamond), turn_deg=45.0))

    def test_both_jaws_round_one_wall(self):
        """A wedge whose walls meet in a point at the left: between jaws 30 mm apart its tip falls into the
        gap.
        """
        wedge = mesh_of(manifold3d.CrossSection([[(-50.0, 0.0), (50.0, -30.0), (50.0, 30.0)]]).extrude(30))
        self.assertIn("jaws.wrap", self.trouble(wedge, gap=30.0))
        self.assertNotIn("jaws.wrap", self.trouble(wedge, gap=5.0))

    def test_work_narrower_than_the_cutter(self):
        for width in (3.0, 6.0, 8.0):
            with self.assertRaises(BadInput) as caught:
                self.trouble(box(np.array([-50, -width / 2, 0.0]), np.array([50, width / 2, 30.0])))
            self.assertEqual(caught.exception.code, "hold.nest_not_cuttable")

    def test_teeth_narrower_than_the_cutter_are_a_poor_seat(self):
        """A comb of teeth 4 mm wide, 4 apart: a Ø10 cutter leaves nothing between them."""
        body = manifold3d.Manifold.cube([100, 40, 20]).translate([-50, -20, 0])
        for x in range(-48, 48, 8):
            body -= manifold3d.Manifold.cube([4, 6, 30]).translate([x, 16, -5])
        codes = self.trouble(mesh_of(body), fill=0.0)
        self.assertIn("jaws.poor_seat", codes)
        self.assertNotIn("jaws.poor_seat", self.trouble(BLOCK))


class RouteChecks(unittest.TestCase):
    def test_a_machine_that_tilts_its_tool_without_a_tilted_plane(self):
        machine = next(
            m
            for m in machines().values()
            if {a.name for a in m.rotary} & {a.name for a in m.chain(m.spindle.rides)}
        )

        def told(run: str) -> list[str]:
            turning = Turning(Setup(name="OP10", rotary_run=run), machine, HoldFacts(), np.eye(4))
            at = Turned("", home_angles(machine), np.eye(4), (0.0, 0.0, 1.0))
            turning.turned = {"": at, "side": at}
            give_registers(turning, plan_from({"name": "p", "part": {"file": "p.step"}}), Load())
            return [f.code for f in turning.findings]

        self.assertIn("offsets.tool_tilts", told("register_each"))
        self.assertNotIn("offsets.tool_tilts", told("tilted_plane"))

    def test_a_wrapped_zero_that_is_on_top_of_nothing(self):
        """The axis 25 mm below zero on a cylinder of Ø40: not its top, and not that of the stock of Ø44."""
        lie = Round((1.0, 0.0, 0.0), (0.0, 0.0, -25.0), 20.0, "A", 0.0, 1)
        station = Station(
            "OP10", machines()["vertical-760-a"], np.eye(4), HoldFacts(), None, SEATED, NOTHING, NOTHING
        )
        flat = Chords(np.zeros((1, 3)), np.ones((1, 3)), np.array([CUT], np.uint8), np.array([0]))
        (found,) = wrapped_findings(FACE, station, laid(lie, flat, 22.0))
        self.assertEqual((found.code, found.measured, found.limit), ("wrap.zero_height", 25.0, 20.0))
        self.assertEqual(wrapped_findings(FACE, station, laid(lie, flat, 25.0)), [])

    def test_what_holds_the_cutter_over_a_fixture(self):
        looked = _Clearance(None, Hold(), [], {}, {}, None, {})  # type: ignore[arg-type]
        found = looked._meets(
            Facing(id="f", name="Face", tool="t"), "fixed jaw", 1.2, (0.0, 0.0, 0.0), np.zeros(2), True
        )
        self.assertEqual((found.code, found.measured, found.stage), ("hold.under_the_holder", 1.2, "hold"))

    def compared(self, *solids_: tuple[tuple[float, ...], tuple[float, ...]]) -> dict[str, Finding]:
        """A stock of blocks against a part of 40 × 30 × 12."""
        engine = Engine(MemoryStore())
        read = part_result(solids.step_bytes(solids.box((0, 0, 0), (40, 30, 12))), "a.step", engine)
        low, high = np.min([a for a, _ in solids_], axis=0), np.max([b for _, b in solids_], axis=0)
        grid = grid_around(low, high, 0.5)
        field = field_of_block(grid, *(np.array(end) for end in solids_[0]))
        for more in solids_[1:]:
            field = union(field, field_of_block(grid, *(np.array(end) for end in more)))
        engine.store.put("stock", {FIELD.name: FIELD.encode(field)})
        plan = plan_from({"name": "p", "part": {"file": "a.step"}, "setups": [{"name": "OP10"}]})
        run = Run(
            plan,
            engine,
            lambda share, what: True,
            read.value(PART),
            read,
            material_of("EN AW-6082"),
            BadInput("a.b", "", "", ""),
            no_files,
        )
        return {f.code: f for f in compared(run, "stock", []).findings}

    def test_cut_into_left_on_and_not_drawn(self):
        self.assertEqual(self.compared(((0, 0, 0), (40, 30, 12))), {})
        gouged = self.compared(((0, 0, 0), (40, 30, 11)))["compare.gouge"]
        self.assertEqual((gouged.severity, round(gouged.measured, 2)), ("error", 1.0))
        left = self.compared(((0, 0, 0), (40, 30, 13.5)))["compare.left"]
        self.assertEqual((left.severity, round(left.measured, 2)), ("warning", 1.5))

    def test_a_sliver_that_is_not_drawn(self):
        """As the comparison tells it: more than is known (0.114 mm at 0.5 mm rays) is said, less is not."""
        for undrawn, codes in ((0.58, ["compare.undrawn"]), (0.1, [])):
            with patch(
                "pelvrak.core.route.comparing.compare",
                lambda *_, undrawn=undrawn: Comparison(
                    surface=box(np.zeros(3), np.ones(3)),
                    away=np.zeros(8),
                    left_volume_mm3=0.0,
                    gouge_volume_mm3=0.0,
                    max_left_mm=0.0,
                    max_gouge_mm=0.0,
                    left_at=np.zeros(3),
                    gouge_at=np.zeros(3),
                    undrawn_mm=undrawn,
                    undrawn_at=np.array([1.0, 2.0, 3.0]),
                ),
            ):
                found = self.compared(((0, 0, 0), (40, 30, 12)))
            self.assertEqual(list(found), codes)
            if codes:
                self.assertEqual(
                    (found[codes[0]].place, found[codes[0]].measured), (((1.0, 2.0, 3.0),), 0.58)
                )


class BilletChecks(unittest.TestCase):
    def test_little_to_clean_up(self):
        from tests.core.test_removal import model

        spec = Block.model_validate(
            {
                "sizing": {
                    "rule": "allowance",
                    "x_minus": 1,
                    "x_plus": 0.2,
                    "y_minus": 1,
                    "y_plus": 1,
                    "z_minus": 1,
                    "z_plus": 1,
                }
            }
        )
        found = [f for f in check_fit(spec, model().part) if f.code == "billet.no_cleanup"]
        self.assertEqual([(round(f.measured, 3), f.limit, f.severity) for f in found], [(0.2, 0.3, "note")])


class ZeroChecks(unittest.TestCase):
    def test_two_zeros_in_one_register(self):
        seat = Seat(zeros=(NamedZero(name="bore", offset_register="G54", zero=Zero()),))
        (found,) = _registers(Setup(name="OP10", seat=seat), machines()["vertical-760"])
        self.assertEqual((found.code, found.severity), ("seat.register_twice", "error"))
        (edit,) = found.cures[0].edits
        self.assertEqual((edit.of, edit.field), (Element(setup="OP10", zero="bore"), "offset_register"))
        self.assertNotEqual(edit.value, "G54")

    def test_cutting_above_a_zero_on_top(self):
        report = SetupReport(
            name="OP10", title="", machine="m", offset_register="G54", cut_z=(-5.0, 0.5), cut_z_of=("a", "b")
        )
        (found,) = _above_zero(Setup(name="OP10", seat=Seat(zero=Zero(z=1))), report)
        self.assertEqual((found.code, found.measured), ("seat.cuts_above_zero", 0.5))
        self.assertIn("b cuts up to Z+0.500", found.sentence)
        self.assertEqual(_above_zero(Setup(name="OP10", seat=Seat(zero=Zero(z=0))), report), [])


SEATED = Turned("", {}, np.eye(4), (0.0, 0.0, 1.0))
FACE = Told("OP10", Facing(id="face", name="Face", tool="em10"))


def NOTHING() -> None:
    """Nothing stands round the work."""


def moves(what: int) -> Moves:
    """Two moves of 10 mm, the second of some kind."""
    starts, ends = np.array([[0.0, 0, 0], [10, 0, 0]]), np.array([[10.0, 0, 0], [20, 0, 0]])
    kinds = np.array([RAPID, what], np.uint8)
    sweep = Sweep(starts, ends, kinds, np.array([0.0, 0, 1]), Profile((0.0, 20.0), (5.0, 5.0)))
    return Moves(Chords(starts, ends, kinds, np.array([0, 1])), sweep, np.array([1.0, 2.0]))


def in_stock(what: int, **more: Any) -> list[Finding]:
    """What is told of two moves, the second of some kind, and what they met in the stock."""
    return stock_findings(FACE, CutFacts(in_stock=tuple(met_in_stock(moves(what), hits(**more)))))


def in_holding(station: Station, **more: Any) -> list[Finding]:
    """The same in the holding."""
    met = met_in_holding(moves(CUT), station, hits(**more))
    return holding_findings(FACE, station, CutFacts(in_holding=tuple(met)))


def hits(**more: Any) -> Hits:
    none = np.zeros(2)
    return Hits(
        **{
            "rapid": none,
            "bodies": np.zeros((2, 4)),
            "removed": none,
            "depth": none,
            "width": none,
            "core": none,
            **more,
        }
    )


class StockChecks(unittest.TestCase):
    def test_each_part_of_the_tool_is_told_by_its_name(self):
        for column, code, word in (
            (0, "cut.stock_above_flutes", "above the flutes"),
            (1, "cut.shank_in_stock", "shank"),
            (2, "cut.holder_in_stock", "holder"),
            (3, "cut.spindle_in_stock", "spindle nose"),
        ):
            bodies = np.zeros((2, 4))
            bodies[1, column] = 1.25
            (found,) = in_stock(CUT, bodies=bodies)
            self.assertEqual(
                (found.code, found.severity, found.measured, found.move, found.time_s),
                (code, "error", 1.25, 1, 2.0),
            )
            self.assertIn(word, found.sentence)
            self.assertIn("1.25 mm", found.sentence)
            bodies[1, column] = 0.04  # within what is known
            self.assertEqual(in_stock(CUT, bodies=bodies), [])

    def test_rapid_stopped_and_straight_down(self):
        deep = np.array([0.0, 0.8])
        for what, more, code in (
            (RAPID, {"rapid": deep}, "cut.rapid_in_stock"),
            (STOPPED, {"rapid": deep}, "cut.spindle_stopped"),
            (CUT, {"core": deep}, "cut.plunge_off_centre"),
        ):
            (found,) = in_stock(what, **more)
            self.assertEqual((found.code, found.measured), (code, 0.8))

    def test_the_holding_is_told_by_the_piece_that_is_met(self):
        solids = box(np.array([15.0, -5, -5]), np.array([25.0, 5, 5]))
        pieces = (PieceFact(name="clamp", item="c", role="clamps", low=(15.0, -5, -5), high=(25.0, 5, 5)),)
        machine, held = machines()["vertical-760"], HoldFacts(pieces=pieces)
        station = Station("OP10", machine, np.eye(4), held, None, SEATED, NOTHING, lambda: solids)
        for column, word in ((1, "shank"), (2, "holder"), (3, "spindle")):
            bodies = np.zeros((2, 4))
            bodies[1, column] = 2.0
            (found,) = in_holding(station, bodies=bodies)
            self.assertEqual((found.code, found.measured), (f"cut.{word}_in_holding", 2.0))
            self.assertIn("into the clamp", found.sentence)
        (found,) = in_holding(station, rapid=np.array([0.0, 3.0]))
        self.assertEqual(found.code, "cut.cutter_in_holding")


class MachineChecks(unittest.TestCase):
    def test_a_vise_over_the_edge_of_the_table(self):
        machine = machines()["vertical-760"]
        at = {"vise": (0.0, 0.0, 0.0)}
        found = check_table(
            machine, (0.0, 0.0, 0.0), [("vise body", "vise", (-100.0, 10, 0), (50.0, 100, 60))], "OP10", at
        )
        self.assertEqual([(f.code, f.measured) for f in found], [("reach.off_table", 100.0)])
        moved = Put(of=Element(setup="OP10", item="vise"), field="x", value=100.0)
        self.assertEqual([cure.edits for cure in found[0].cures], [(moved,)])

    def test_work_so_tall_that_a_slide_runs_into_it(self):
        machine = machines()["vertical-760"]
        moving = next((one for one in machine.solids), None)
        self.assertIsNotNone(moving)
        from pelvrak.core.machine.slides import slides

        zero, at = (400.0, 200.0, 100.0), Turned("", {}, np.eye(4), (0.0, 0.0, 1.0))
        slide = slides(machine, zero, at)[0]
        low, high = slide.mesh.vertices.min(axis=0), slide.mesh.vertices.max(axis=0)
        # The work stands where the slide is with the nose at zero, 20 mm into it.
        middle = (low + high) / 2
        lowest = np.array([middle[0] - 30, middle[1] - 30, low[2] - 50])
        stands = (lowest, np.array([middle[0] + 30, middle[1] + 30, low[2] + 20]))
        stock = field_of_block(grid_around(*stands, 2.0), *stands)
        station = Station("OP10", machine, np.eye(4), HoldFacts(), zero, at, NOTHING, NOTHING)
        still = np.zeros((1, 3))
        lines = Chords(still, still, np.array([CUT], np.uint8), np.array([0]))

        def told(stock: RayField, work: Mesh) -> list[Finding]:
            met = tuple(met_by_machine(station, lines, stock, 0.0, lambda: work))
            at_home = machine.limits()[1]  # within the travels
            reach = tuple(float(limit) for limit in at_home)
            return machine_findings(FACE, station, CutFacts(least=reach, most=reach, slides=met))

        found = told(stock, box(*stands))
        self.assertEqual({f.code for f in found}, {"reach.slide_meets"})
        self.assertAlmostEqual(found[0].measured, 20.0, delta=0.1)
        far = (stands[0] - [0, 0, 900], stands[1] - [0, 0, 900])
        clear = field_of_block(grid_around(*far, 2.0), *far)
        self.assertEqual(told(clear, box(*far)), [])

    def test_long_work_swings_up_to_the_tool(self):
        engine = Engine(MemoryStore())

        def kept(name: str, mesh: Mesh) -> Content:
            engine.store.put(name, {SURFACE.name: SURFACE.encode(mesh)})
            digest = engine.store.digest(name, SURFACE.name)
            assert digest is not None
            return Content(digest)

        machine = next(m for m in machines().values() if m.rotary)
        name = machine.rotary[-1].name
        angles = {axis.name: 0.0 for axis in machine.rotary}
        stock = kept("stock", box(np.array([-20.0, -20, 0]), np.array([20.0, 20, 30])))
        plate = kept("plate", box(np.array([-30.0, -30, -20]), np.array([30.0, 30, 0])))
        hold = HoldFacts(
            key="held",
            pieces=(
                PieceFact(name="plate", item="p", role="body", low=(-30.0, -30, -20), high=(30.0, 30, 0)),
            ),
        )
        zero = tuple(np.array(machine.axis(name).point))

        def told(gauge: float) -> list[Finding]:
            given = swinging.SwingGiven(
                stock,
                plate,
                hold,
                np.eye(4),
                zero,
                (("⟦turn 0⟧", angles, angles | {name: 90.0}),),
                machine,
                gauge,
            )
            pieces = swinging._swung(given, engine)  # type: ignore[arg-type]
            return [Finding.model_validate(one) for one in pieces[FACTS]]

        codes = [f.code for f in told(5000.0)]
        self.assertEqual(codes.count("reach.swing_tool"), 1)
        self.assertEqual({f.setup for f in told(5000.0)}, {SETUP})
        self.assertNotIn("reach.swing_tool", [f.code for f in told(-5000.0)])


if __name__ == "__main__":
    unittest.main()
