"""Does a holding say what it does: contact, grip, locating, rocking, loading?"""

from __future__ import annotations

import unittest
from typing import ClassVar

import manifold3d
import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
from OCP.BRepGProp import BRepGProp
from OCP.gp import gp_Pnt
from OCP.GProp import GProp_GProps

from pelvrak.core.cures import Element, Put
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import Mesh, box, joined, mesh_of, transformed
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding.build import Assembly, Piece, Shapes
from pelvrak.core.holding.contact import patches, travel
from pelvrak.core.holding.hold import Hold, Item, Pinned, WorkPlace, vise_hold
from pelvrak.core.holding.holding import hold_work, united
from pelvrak.core.holding.kinds import (
    Own,
    plate_holes,
    prism,
)
from pelvrak.core.holding.loading import ways_out
from pelvrak.core.holding.locating import locating, locator_matrix, motions
from pelvrak.core.holding.on_table import footprint, middle_of_table
from pelvrak.core.holding.vee import vee_of
from pelvrak.core.route.pieces import JOIN_MM, SIMPLIFY_MM
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from pelvrak.core.stock.surface import simplified, surface
from tests.holdings import BLOCK, SHOP, codes, held, solid, vee_shape


class ColletTest(unittest.TestCase):
    """Round work in a collet block on the table, lying along x."""

    def bar(self, diameter: float, length: float = 120.0) -> Mesh:
        return solid(manifold3d.Manifold.cylinder(length, diameter / 2, diameter / 2, 96).rotate([0, 90, 0]))

    def held(self, diameter: float, x: float = 20.0):
        return held(
            Hold(items=(Item(id="block", fixture="collet-4", x=300, y=200),), work=WorkPlace(x=x)),
            self.bar(diameter),
        )

    def test_the_collet_closes_all_round(self):
        result = self.held(20.0)
        collet = [c for c in result.facts.contacts if c.name == "collet Ø20"]
        # 80 mm of the block, a bar of Ø20, four slits 1 mm wide.
        self.assertAlmostEqual(sum(c.area for c in collet), 80 * (np.pi * 20 - 4), delta=60)
        self.assertEqual(result.facts.locating.rank, 4)
        self.assertEqual(sorted(f.split()[0] for f in result.facts.locating.free), ["sliding", "turning"])
        # Its axis lies half the block's height over the table.
        low = min(p.low[2] for p in result.facts.pieces if p.item == "block")
        self.assertAlmostEqual(-low, 50 / 2, places=3)
        self.assertNotIn("error", [f.severity for f in result.findings])
        self.assertIn("right", [w.way for w in result.facts.ways if w.free])

    def test_what_does_not_go_in(self):
        found = next(f for f in self.held(30.0).findings if f.code == "hold.collet_bore")
        self.assertEqual((round(found.measured, 2), found.limit), (30.0, 26.0))
        self.assertIn("hold.collet_empty", [f.code for f in self.held(20.0, x=150.0).findings])


class ContactTest(unittest.TestCase):
    def area_by_occ(self, one: list[tuple[float, float]], two: list[tuple[float, float]]) -> float:
        faces = []
        for ring in (one, two):
            wire = BRepBuilderAPI_MakePolygon()
            for x, y in ring:
                wire.Add(gp_Pnt(x, y, 0))
            wire.Close()
            faces.append(BRepBuilderAPI_MakeFace(wire.Wire()).Face())
        props = GProp_GProps()
        BRepGProp.SurfaceProperties_s(BRepAlgoAPI_Common(faces[0], faces[1]).Shape(), props)
        return props.Mass()

    def test_plane_areas_against_open_cascade(self):
        """Two prisms, one on the other; their common face by Open CASCADE's boolean of the two faces."""
        low = [(0.0, 0.0), (60.0, 5.0), (55.0, 40.0), (20.0, 50.0)]
        for shift, turn in ((0.0, 0.0), (17.3, 25.0), (-22.0, 140.0)):
            c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
            high = [
                (c * x - s * y + shift, s * x + c * y + 9.0) for x, y in [(0, 0), (45, 0), (45, 30), (0, 30)]
            ]
            under = solid(manifold3d.CrossSection([low]).extrude(10).translate([0.0, 0.0, -10.0]))
            over = solid(manifold3d.CrossSection([high]).extrude(12))
            found = patches(over, [under])
            self.assertAlmostEqual(sum(p.area for p in found), self.area_by_occ(low, high), delta=2e-3)
            for patch in found:
                np.testing.assert_allclose(patch.normal, [0, 0, 1], atol=1e-6)

    def test_one_patch_even_where_both_are_cut_into_the_same_triangles(self):
        on = box(np.array([0, 0, 0.0]), np.array([30, 20, 10.0]))
        under = box(np.array([0, 0, -5.0]), np.array([30, 20, 0.0]))
        found = patches(on, [under])
        self.assertEqual([(p.kind, round(p.area, 4)) for p in found], [("face", 600.0)])
        self.assertAlmostEqual(found[0].length, 30, places=4)
        self.assertAlmostEqual(found[0].width, 20, places=4)

    def test_a_leaning_wall_touches_along_a_strip_as_wide_as_the_touch_allows(self):
        """A wall leaning 0.1 in 50: within 0.02 mm over the last 10 mm of its length."""
        wedge = solid(manifold3d.CrossSection([[(-50, -30), (0, -30.1), (0, 30), (-50, 30)]]).extrude(20))
        jaw = box(np.array([-80, -50, 0.0]), np.array([80, -30.1, 20.0]))
        area = sum(p.area for p in patches(wedge, [jaw]))
        self.assertAlmostEqual(area, 10 * 20, delta=1.0)

    def test_round_on_flat_is_a_line(self):
        bar = solid(manifold3d.Manifold.cylinder(80, 20, 20, 256).rotate([0, 90, 0]).translate([-40, 0, 20]))
        found = patches(bar, [box(np.array([-60, -40, -10.0]), np.array([60, 40, 0.0]))])
        # As wide as 0.02 mm of sag: 2·√(2·20·0.02).
        self.assertEqual([p.kind for p in found if p.area > 1], ["line"])
        self.assertAlmostEqual(found[0].width, 2 * np.sqrt(2 * 20 * 0.02), delta=0.5)

    def test_travel_of_a_ball_into_a_corner(self):
        """A ball of 10 going down on an edge of a roof of 90° stops where its flanks are 10 from the
        middle.
        """
        ball = solid(manifold3d.Manifold.sphere(10, 256).translate([0, 0, 100]))
        roof = solid(prism([(-40, 0), (40, 0), (0, 40)], -50, 50))
        gone = travel(ball, roof, np.array([0.0, 0, -1]))
        self.assertIsNotNone(gone)
        # The ball's lowest point meets the ridge at z 40.
        self.assertAlmostEqual(gone[0], 50.0, delta=0.01)
        self.assertIsNone(travel(ball, roof, np.array([1.0, 0, 0])))

    @settings(max_examples=25, deadline=None)
    @given(st.floats(-180, 180), st.floats(-8, 8), st.integers(0, 10_000))
    def test_travel_leaves_bodies_touching_and_not_overlapping(self, turn, aside, seed):
        rng = np.random.default_rng(seed)
        hulls = [
            mesh_of(manifold3d.Manifold.hull_points(rng.normal(size=(12, 3)) * 6).translate([0.0, 0.0, at]))
            for at in (0.0, 60.0)
        ]
        low = transformed(hulls[0], rigid(rotation_about_z(turn), np.array([aside, 0, 0])))
        gone = travel(low, hulls[1], np.array([0.0, 0, 1]))
        if gone is None:
            return
        for extra, empty in ((-0.01, True), (0.05, False)):
            there = transformed(low, rigid(np.eye(3), np.array([0, 0, gone[0] + extra])))
            both = manifold3d.Manifold(
                manifold3d.Mesh(there.vertices.astype(np.float32), there.triangles.astype(np.uint32))
            )
            both ^= manifold3d.Manifold(
                manifold3d.Mesh(hulls[1].vertices.astype(np.float32), hulls[1].triangles.astype(np.uint32))
            )
            if empty:
                self.assertLess(both.volume(), 1e-6)
            else:
                self.assertGreater(both.volume(), 0.0)


class ViseTest(unittest.TestCase):
    """A block 100 × 60 × 40 with zero at its top middle, in Bench vise 160 (jaws 50 high, bed 78)."""

    def test_facts_of_a_block(self):
        facts = held(vise_hold(height=42.0)).facts
        self.assertAlmostEqual(facts.opening, 60, places=4)
        self.assertAlmostEqual(facts.grip_depth, 8, places=4)
        self.assertAlmostEqual(facts.grip_length, 100, places=4)
        self.assertAlmostEqual(facts.stands_above, 32, places=4)
        self.assertAlmostEqual(facts.contact_fixed, 100 * 8, places=1)
        self.assertAlmostEqual(facts.contact_moving, 100 * 8, places=1)
        self.assertAlmostEqual(facts.jaw_top, -32, places=4)
        # Bed 78 and parallels 42: the bottom stands at 120, the top, where zero is, at 160. The fixed jaw's
        # face at y 380.
        np.testing.assert_allclose(facts.zero_on_table, (450, 402 - 22 - 30 - 22, 160), atol=1e-3)

    def test_moved_by_one_number(self):
        one, two = (held(vise_hold(height=42.0, at=(x, 380.0))).facts for x in (450.0, 470.0))
        self.assertAlmostEqual(two.zero_on_table[0] - one.zero_on_table[0], 20.0, places=6)
        for a, b in zip(one.pieces, two.pieces, strict=True):
            np.testing.assert_allclose(a.low, b.low, atol=1e-3)

    def test_work_sticks_out_of_the_jaws(self):
        facts = held(vise_hold(height=42.0, along=60.0)).facts
        self.assertAlmostEqual(facts.sticks_out_right, 30, places=4)
        self.assertAlmostEqual(facts.contact_fixed, 70 * 8, places=1)

    def test_turned_vise_grips_the_other_way(self):
        result = held(vise_hold(height=42.0, closes="x"))
        self.assertAlmostEqual(result.facts.opening, 100, places=4)
        self.assertAlmostEqual(result.facts.contact_fixed, 60 * 8, places=1)
        self.assertIn("Turn the vise a quarter", [p.cure.label for p in result.facts.proposals])

    def test_nothing_holding(self):
        found = held(Hold()).findings
        self.assertEqual([(f.code, f.severity) for f in found], [("hold.nothing", "error")])

    def test_resting_above_the_jaws(self):
        shop = {
            **SHOP,
            "tall": SHOP["par-150x8"].model_copy(update={"id": "tall", "heights": (20.0, 40.0, 60.0)}),
        }
        result = hold_work(vise_hold(parallels="tall", height=60.0), shop, BLOCK, "OP10")
        found = next(f for f in result.findings if f.code == "hold.no_touch" and f.cures)
        self.assertEqual(found.cures[0].edits[0].value, 40.0)

    def test_too_wide_for_the_vise(self):
        wide = box(np.array([-70, -30, -40.0]), np.array([70, 30, 0.0]))
        hold = vise_hold("low-100", "hard-100", "par-125x5", 20.0, closes="x")
        found = next(f for f in held(hold, wide).findings if f.code == "hold.opening")
        self.assertEqual((found.measured, found.limit), (140.0, 110.0))

    def test_shallow_grip(self):
        """Common practice, no source: at least 5 mm (3/16 in) of straight wall."""
        self.assertEqual(codes(vise_hold(height=46.0)), ["hold.shallow"])
        cures = next(f for f in held(vise_hold(height=46.0)).findings if f.code == "hold.shallow").cures
        raised = Put(of=Element(setup="OP10", item="parallels"), field="height", value=44.0)
        self.assertEqual([c.edits for c in cures], [(raised,)])
        grave = [f.severity for f in held(vise_hold(height=48.0)).findings if f.code == "hold.shallow"]
        self.assertEqual(grave, ["warning"])
        self.assertEqual(codes(vise_hold(height=44.0)), [])

    def test_parallels_that_are_not_in_the_set(self):
        self.assertIn("hold.height", codes(vise_hold(height=43.0)))

    def test_a_leaning_wall_is_touched_along_a_line(self):
        leaning = (
            manifold3d.CrossSection([[(-50, -30), (50, -20), (50, 30), (-50, 30)]])
            .extrude(40)
            .translate([0, 0, -40])
        )
        result = held(vise_hold(height=42.0), solid(leaning))
        self.assertIn("hold.line_contact", [f.code for f in result.findings])
        self.assertLess(result.facts.contact_moving, 8)

    def test_chamfered_bottom_takes_from_the_grip(self):
        section = manifold3d.CrossSection([[(-27, -40), (27, -40), (30, -37), (30, 0), (-30, 0), (-30, -37)]])
        bar = solid(section.extrude(100).translate([0, 0, -50]).rotate([90, 0, 90]))
        self.assertAlmostEqual(
            held(vise_hold(height=42.0), bar).facts.grip_depth, 5.0, places=3
        )  # 8 less the chamfer's 3

    def test_keep_outs_are_one_closed_solid(self):
        pieces = held(vise_hold(height=42.0)).pieces
        whole = united(
            joined(
                [
                    Mesh(p.mesh.vertices, p.mesh.triangles, np.full(len(p.mesh.triangles), i))
                    for i, p in enumerate(pieces)
                ]
            )
        )
        self.assertTrue(trimesh.Trimesh(whole.vertices, whole.triangles, process=False).is_watertight)

    def test_unknown_fixture(self):
        with self.assertRaises(BadInput) as caught:
            held(vise_hold(vise="nobody"))
        self.assertEqual(caught.exception.code, "hold.unknown_fixture")

    def test_jaws_without_a_vise(self):
        with self.assertRaises(BadInput):
            held(Hold(items=(Item(id="jaws", fixture="hard-160"),)))

    def test_a_stop_locates_the_sixth_freedom(self):
        free = held(vise_hold(height=42.0))
        self.assertEqual((free.facts.locating.rank, free.facts.locating.free), (5, ("sliding along X",)))
        hold = vise_hold(height=42.0)
        stop = Item(id="stop", fixture="stop-12", on="vise", side="left", x=20.0)
        hold = Hold(items=(*hold.items[:2], stop, hold.items[2]), work=WorkPlace(pushed=("left",)))
        result = held(hold)
        self.assertEqual(result.facts.locating.rank, 6)
        self.assertNotIn("hold.not_located", [f.code for f in result.findings])
        # Jaws 160 wide: the left stop's tip stands 5 mm within their end, moved 20 further in; the work's
        # left is 50 from its zero.
        self.assertAlmostEqual(result.facts.zero_on_table[0], 450 - 80 + 5 + 20 + 50, places=3)

    def test_ways_out_of_a_vise(self):
        ways = {w.way: w for w in held(vise_hold(height=42.0)).facts.ways}
        self.assertEqual({n for n, w in ways.items() if w.free}, {"up", "left", "right"})
        self.assertEqual(ways["back"].blocked_by in ("fixed jaw", "fixed block"), True)

    def test_a_bridge_over_the_work_stands_in_its_way(self):
        bridge = Piece("bridge", "bridge", "body", box(np.array([-10, -40, 5.0]), np.array([10, 40, 15.0])))
        ways = {w.way: w for w in ways_out(BLOCK, Assembly(pieces=[bridge]))}
        self.assertEqual((ways["up"].free, ways["up"].blocked_by), (False, "bridge"))
        self.assertTrue(all(ways[way].free for way in ("left", "right", "front", "back")))

    def test_jaws_that_reach_over_the_work_open_as_far_as_it_takes(self):
        """A jaw with a lip 3 mm over the work: opened by 3 it is clear."""
        jaw = box(np.array([-50, -60, -40.0]), np.array([50, -30, 0.0]))
        lip = box(np.array([-50, -60, 0.0]), np.array([50, -27, 8.0]))
        pieces = [
            Piece(
                "jaws",
                "moving jaw",
                "clamps",
                joined([jaw, lip]),
                np.array([0, 1.0, 0]),
                1.0,
                jaw="moving",
                back=np.array([0, -1.0, 0]),
            )
        ]
        ways = ways_out(BLOCK, Assembly(pieces=pieces, closing=np.array([0, 1.0, 0]), opening=(100.0, 200.0)))
        self.assertEqual((ways[0].way, ways[0].free, ways[0].opening), ("up", True, 3.0))


class VBlockTest(unittest.TestCase):
    """The seed of many scrapped parts: a shape of one angle on a block of another, and a block longer than
    the part.
    """

    def on_block(self, block: str, shape: Mesh):
        return held(
            Hold(items=(Item(id="vee", fixture=block, x=300, y=300),), work=WorkPlace(on="vee")), shape
        )

    def test_a_120_shape_rocks_on_a_90_block(self):
        result = self.on_block("vee-90-60", vee_shape(120, 80))
        self.assertIn("hold.rocks", [f.code for f in result.findings])
        self.assertEqual({c.kind for c in result.facts.contacts}, {"line"})
        self.assertIn("Use V-block 120° × 60", [p.cure.label for p in result.facts.proposals])

    def test_a_120_shape_lies_on_a_120_block(self):
        result = self.on_block("vee-120-60", vee_shape(120, 80))
        self.assertNotIn("hold.rocks", [f.code for f in result.findings])
        self.assertEqual([c.kind for c in result.facts.contacts], ["face", "face"])
        self.assertEqual(result.facts.proposals, ())

    def test_the_relief_is_free_of_the_corner(self):
        """A relief of 3 mm: the edge of the shape hangs free, the flanks bear from it to the mouth or the
        shape's side.
        """
        facts = self.on_block("vee-120-60", vee_shape(120, 80)).facts
        flank = (20 - 1.5) / np.sin(np.radians(60))
        for contact in facts.contacts:
            self.assertAlmostEqual(contact.area, flank * 60, delta=1.0)

    def test_the_angle_of_a_shape(self):
        for angle in (60, 90, 120, 135):
            self.assertAlmostEqual(vee_of(vee_shape(angle, 50)), angle, delta=1.0)
        self.assertIsNone(vee_of(BLOCK))

    def in_vise(self, block: str, length: float):
        hold = Hold(
            items=(
                Item(id="vise", fixture="bench-160", x=450, y=402),
                Item(id="jaws", fixture="hard-160", on="vise"),
                Item(id="vee", fixture=block, on="vise", turn_deg=90),
            ),
            work=WorkPlace(on="vee"),
        )
        shape = transformed(vee_shape(90, length), rigid(rotation_about_z(90), np.zeros(3)))
        return held(hold, shape)

    def test_a_block_longer_than_the_part_is_what_gets_clamped(self):
        long = self.in_vise("vee-90-100", 80)
        found = [f for f in long.findings if f.code == "hold.closes_on_other"]
        self.assertEqual(len(found), 1)
        self.assertIn("V-block", found[0].sentence)
        self.assertIn("Use V-block 90° × 60", [p.cure.label for p in long.facts.proposals])
        short = self.in_vise("vee-90-60", 80)
        self.assertNotIn("hold.closes_on_other", [f.code for f in short.findings])
        self.assertAlmostEqual(short.facts.opening, 80, places=3)

    def test_a_round_bar_spins_but_does_not_rock(self):
        bar = solid(manifold3d.Manifold.cylinder(80, 15, 15, 512).rotate([0, 90, 0]).translate([-40, 0, 0]))
        found = [f.code for f in self.on_block("vee-90-60", bar).findings]
        self.assertIn("hold.spins", found)
        self.assertNotIn("hold.rocks", found)


class PlateTest(unittest.TestCase):
    def test_grid_of_a_plate(self):
        holes = plate_holes(SHOP["grid-400"])
        self.assertEqual(holes.shape, (15, 11, 2))
        np.testing.assert_allclose(holes[0, 0], [-175, -125])
        np.testing.assert_allclose(holes[14, 10], [175, 125])

    def work(self, facets: int = 60, depth: float = 20.0) -> tuple[Mesh, dict[int, UprightHole]]:
        """A plate with two holes Ø12, as a Ø12 reamer leaves them, drawn with so many facets."""
        body = manifold3d.Manifold.cube([120, 80, 20])
        for x in (20, 70):
            body -= manifold3d.Manifold.cylinder(depth + 5, 6, 6, facets).translate([x, 40, -5])
        holes = {n: UprightHole(np.array([x, 40.0, 0]), 12.0, 0.0, depth) for n, x in ((1, 20.0), (2, 70.0))}
        return solid(body), holes

    def pinned(self, second: tuple[int, int], relieved: bool = False, made=None, **pin):
        ref = {n: FaceRef(face=n, at=(0.0, 0.0, 0.0)) for n in (1, 2)}
        stock, holes = made or self.work()
        full = SHOP["pin-12"].model_copy(update=pin)
        shop = {
            **SHOP,
            "pin-12": full,
            "pin-12-relieved": full.model_copy(update={"id": "pin-12-relieved", "relieved": True}),
        }
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="a", fixture="pin-12", on="plate", hole=(3, 4)),
                Item(
                    id="b",
                    fixture="pin-12-relieved" if relieved else "pin-12",
                    on="plate",
                    hole=second,
                    turn_deg=90,
                ),
                Item(id="strap", fixture="strap-125", on="plate", x=-100 + 20 + 60, y=-20, turn_deg=0),
            ),
            work=WorkPlace(on="plate", pinned=(Pinned(hole=ref[1], pin="a"), Pinned(hole=ref[2], pin="b"))),
        )
        return hold_work(hold, shop, stock, "OP10", Shapes(holes=holes))

    def test_holes_on_pins(self):
        """Pins two pitches of 25 mm apart and holes 50 mm apart: the work's own corner then lies 20, 40
        before the first pin.
        """
        result = self.pinned((5, 4))
        self.assertNotIn("hold.contradiction", [f.code for f in result.findings])
        pin = np.array([400 - 175 + 75, 300 - 125 + 100.0])
        np.testing.assert_allclose(np.array(result.facts.zero_on_table)[:2] + [20, 40], pin, atol=1e-3)
        self.assertAlmostEqual(result.facts.zero_on_table[2], 30.0, places=3)

    def test_pins_that_contradict_each_other(self):
        found = [f for f in self.pinned((7, 4)).findings if f.code == "hold.contradiction"]
        self.assertTrue(found)
        self.assertIn("a", found[0].sentence)
        self.assertAlmostEqual(found[0].measured, 50.0, delta=0.1)

    def test_a_pin_in_its_own_size_of_hole_lets_the_work_down(self):
        """Holes reamed Ø12 H7 on shipped pins Ø12 g6, however either is drawn: the work lies on the plate,
        located 6 of 6.

        ISO 286-2 (from memory): 12 H7 = 0 … +18 µm, 12 g6 = -6 … -17 µm, so 6 to 35 µm of play.
        """
        for facets in (24, 32, 60, 64, 128, 257):
            with self.subTest(facets=facets):
                result = self.pinned((5, 4), relieved=True, made=self.work(facets))
                self.assertAlmostEqual(result.facts.zero_on_table[2], 30.0, places=3)
                self.assertEqual(result.facts.locating.rank, 6)
                self.assertEqual({f.code for f in result.findings if f.code.startswith("hold.pin")}, set())
                bores = [c for c in result.facts.contacts if c.kind == "bore"]
                self.assertEqual([(c.length, c.width) for c in bores], [(18.0, 12.0), (18.0, 12.0)])

    def test_the_fit_of_a_pin_decides(self):
        """ISO 286-2, from memory: 12 m6 = +7 … +18 µm, so in 12 H7 from 18 µm too big to 11 µm of play."""
        tight = [f for f in self.pinned((5, 4), True, fit="m6").findings if f.code == "hold.pin_tight"]
        self.assertEqual([f.measured for f in tight], [-0.018, -0.018])
        self.assertIn("11 µm", tight[0].sentence)
        big = self.pinned((5, 4), True, diameter=12.2)
        self.assertIn("hold.pin_too_big", [f.code for f in big.findings])
        # It cannot go down over them, and nobody says that it is located.
        self.assertAlmostEqual(big.facts.zero_on_table[2], 48.0, places=3)
        self.assertIn("hold.on_pins", [f.code for f in big.findings])
        self.assertLess(big.facts.locating.rank, 6)

    def test_a_pin_longer_than_its_hole_carries_the_work(self):
        result = self.pinned((5, 4), True, made=self.work(depth=10.0))
        self.assertIn("hold.on_pins", [f.code for f in result.findings])
        self.assertAlmostEqual(result.facts.zero_on_table[2], 30 + 18 - 10, places=3)

    def test_a_raw_block_has_no_hole_for_its_pin(self):
        """The finished part has holes there; the work, as it is now, has none, or smaller ones."""
        _, holes = self.work()
        raw = self.pinned((5, 4), True, made=(box(np.zeros(3), np.array([120.0, 80, 20])), holes))
        self.assertIn("hold.hole_not_there", [f.code for f in raw.findings])
        self.assertLess(raw.facts.locating.rank, 6)
        drilled = manifold3d.Manifold.cube([120, 80, 20])
        for x in (20, 70):
            drilled -= manifold3d.Manifold.cylinder(30, 5.9, 5.9, 64).translate([x, 40, -5])
        self.assertIn(
            "hold.hole_not_there",
            [f.code for f in self.pinned((5, 4), True, made=(solid(drilled), holes)).findings],
        )

    def test_a_dowel_in_a_tapped_hole(self):
        """The holes of the plate take turns: column and row together even are tapped."""
        found = [f for f in self.pinned((6, 4)).findings if f.code == "hold.pin_in_thread"]
        self.assertEqual([f.cures[0].edits[0].value for f in found], [[7, 4]])
        self.assertNotIn("hold.pin_in_thread", [f.code for f in self.pinned((5, 4)).findings])

    def test_two_full_pins_fight_along_their_line_and_a_relieved_one_does_not(self):
        """Common practice, no source: the second of two pins is relieved along the line between them."""
        shop = {**SHOP}
        tight = manifold3d.Manifold.cube([120, 80, 20])
        for x in (20, 95):
            tight -= manifold3d.Manifold.cylinder(30, 6.0, 6.0, 64).translate([x, 40, -5])
        full, easy = (
            [
                p
                for x, kind in ((20, "pin-12"), (95, second))
                for p in patches(
                    solid(tight),
                    [
                        transformed(
                            mesh_of(
                                shop.get(
                                    kind,
                                    shop["pin-8-relieved"].model_copy(
                                        update={"diameter": 12.0, "height": 18.0}
                                    ),
                                )
                                .picture()[0]
                                .body
                            ),
                            rigid(rotation_about_z(90), np.array([x, 40.0, 0.0])),
                        )
                    ],
                )
            ]
            for second in ("pin-12", "relieved")
        )
        middle = np.array([60, 40, 10.0])
        for found, fights in ((full, True), (easy, False)):
            told = locating(found, lambda p: "left" if p.centre[0] < 60 else "right", middle, 60.0)
            self.assertEqual(
                any("left and right" in one and "X" in one for one in told.fought), fights, told.fought
            )

    def test_a_strap_comes_down_on_the_work_and_its_lever_counts(self):
        facts = self.pinned((5, 4))
        strap = next(p for p in facts.pieces if p.name == "strap clamp")
        # Bolt 16 kN 45 mm from the nose, heel at 115: (115 - 45)/115 of it on the work.
        self.assertAlmostEqual(strap.force, 16000 * 70 / 115, places=3)
        self.assertTrue(any(c.item == "strap" and c.kind == "face" for c in facts.facts.contacts))

    def test_a_clamp_that_does_not_reach(self):
        stock, _ = self.work()
        hold = Hold(
            items=(
                Item(id="plate", fixture="grid-400", x=400, y=300),
                Item(id="strap", fixture="strap-125", on="plate", x=-190, y=-140),
            ),
            work=WorkPlace(on="plate"),
        )
        self.assertIn("hold.clamp_misses", codes(hold, stock))

    def test_what_stands_on_what_comes_before_it(self):
        with self.assertRaises(ValueError):
            Hold(items=(Item(id="pin", fixture="pin-12", on="plate"), Item(id="plate", fixture="grid-400")))


class ChuckTest(unittest.TestCase):
    def test_three_jaws_close_on_a_round(self):
        bar = solid(manifold3d.Manifold.cylinder(60, 30, 30, 256))
        hold = Hold(items=(Item(id="chuck", fixture="chuck-3-160", x=400, y=250),))
        result = held(hold, bar)
        jaws = {c.name for c in result.facts.contacts if c.name.startswith("jaw")}
        self.assertEqual(jaws, {"jaw 1", "jaw 2", "jaw 3"})
        np.testing.assert_allclose(result.facts.zero_on_table, (400, 250, 70), atol=1e-3)
        self.assertIn("hold.spins", [f.code for f in result.findings])


class LocatingTest(unittest.TestCase):
    """3-2-1 as every textbook of fixtures draws it (E. G. Hoffman, Jig and Fixture Design, principles of
    location): from memory.
    """

    BASE: ClassVar = [([10, 10, 0], [0, 0, 1]), ([90, 10, 0], [0, 0, 1]), ([50, 50, 0], [0, 0, 1])]
    BACK: ClassVar = [([10, 60, 15], [0, -1, 0]), ([90, 60, 15], [0, -1, 0])]
    SIDE: ClassVar = [([0, 30, 15], [1, 0, 0])]

    def of(self, contacts):
        points, normals = (np.array([c[i] for c in contacts], float) for i in (0, 1))
        middle = np.array([50.0, 30, 15])
        return motions(locator_matrix(points, normals, middle, 60.0), middle, 60.0)

    def test_three_two_one_takes_all_six(self):
        rank, condition, free = self.of(self.BASE + self.BACK + self.SIDE)
        self.assertEqual((rank, free), (6, []))
        self.assertLess(condition, 20)

    def test_each_locator_left_out_frees_the_motion_it_took(self):
        rank, _, free = self.of(self.BASE + self.BACK)
        self.assertEqual((rank, [m.told for m in free]), (5, ["sliding along X"]))
        rank, _, free = self.of(self.BASE + self.BACK[:1] + self.SIDE)
        self.assertEqual(rank, 5)
        self.assertEqual([m.kind for m in free], ["turns"])
        np.testing.assert_allclose(np.abs(free[0].way), [0, 0, 1], atol=1e-9)
        # It turns about the point where the normals of the two that are left meet: x 10, y 30.
        np.testing.assert_allclose(free[0].through[:2], [10, 30], atol=1e-6)
        rank, _, free = self.of(self.BASE[:2] + self.BACK + self.SIDE)
        self.assertEqual((rank, free[0].kind), (5, "turns"))

    def test_three_on_one_line_do_not_carry_a_plane(self):
        line = [([x, 30, 0], [0, 0, 1]) for x in (10, 50, 90)]
        rank, _, free = self.of(line + self.BACK + self.SIDE)
        self.assertEqual(rank, 5)
        self.assertEqual(free[0].kind, "turns")

    def test_contacts_in_a_circle_leave_the_turn_about_its_middle(self):
        ring = [
            ([50 + 20 * np.cos(a), 30 + 20 * np.sin(a), 15], [-np.cos(a), -np.sin(a), 0])
            for a in np.radians([0, 72, 144, 216, 288])
        ]
        rank, _, free = self.of(self.BASE + ring)
        self.assertEqual((rank, [m.told for m in free]), (5, ["turning about Z through X50.0, Y30.0"]))

    def test_nothing_takes_nothing(self):
        rank, _, free = motions(np.zeros((0, 6)), np.zeros(3), 1.0)
        self.assertEqual((rank, len(free)), (0, 6))


class VBlockInAViseTest(unittest.TestCase):
    def test_the_vee_keeps_the_work_from_the_jaw(self):
        """A vee along the jaws: the work stays in it; only that the jaws close on the block is wrong, and
        nothing stands in the work.
        """
        for block in ("vee-90-60", "vee-90-100"):
            hold = Hold(
                items=(
                    Item(id="vise", fixture="bench-160", x=450, y=402),
                    Item(id="jaws", fixture="hard-160", on="vise"),
                    Item(id="vee", fixture=block, on="vise"),
                ),
                work=WorkPlace(on="vee"),
            )
            result = held(hold, vee_shape(90, 80))
            self.assertEqual(
                [f.code for f in result.findings if f.severity == "error"], ["hold.closes_on_other"]
            )
            # Against the fixed jaw, 22 thick, stands the block, 60 wide: the edge lies 30 before it.
            self.assertAlmostEqual(result.facts.zero_on_table[1], 402 - 22 - 30, places=3)

    def test_a_sharp_edge_is_free_of_the_relief(self):
        result = held(Hold(items=(Item(id="vee", fixture="vee-90-60", x=300, y=300),)), vee_shape(90, 80))
        # Mouth 46 at 44 mm: the flanks meet 23 lower.
        self.assertAlmostEqual(result.facts.zero_on_table[2], 44 - 23, places=3)
        self.assertEqual([c.kind for c in result.facts.contacts], ["face", "face"])


class OnTheTableTest(unittest.TestCase):
    def test_a_new_fixture_stands_in_the_middle(self):
        for name in ("bench-160", "chuck-3-160", "grid-400"):
            x, y = middle_of_table(SHOP[name], 900, 500)
            low, high = footprint(SHOP[name])
            np.testing.assert_allclose((low + high) / 2 + [x, y], (450, 250), atol=0.5)
            self.assertTrue((low + [x, y] >= 0).all() and (high + [x, y] <= [900, 500]).all(), name)


class HolderInAViseTest(unittest.TestCase):
    """The work in the shop's own solid, the solid in the jaws of a vise."""

    def held_in(self, holder: manifold3d.Manifold, work: Mesh):
        tall = float(holder.bounding_box()[5] - holder.bounding_box()[2])
        own = Own(id="mine", name="printed holder", file="holder.stl")
        hold = Hold(
            items=(
                Item(id="vise", fixture="bench-160", x=450, y=402),
                Item(id="jaws", fixture="hard-160", on="vise"),
                Item(id="parallels", fixture="par-150x8", on="vise", height=30),
                Item(id="holder", fixture="mine", on="vise", y=-22 - 30, z=30 + tall),
            ),
            work=WorkPlace(on="holder"),
        )
        return hold_work(hold, {**SHOP, "mine": own}, work, "OP10", Shapes(own={"holder": solid(holder)}))

    def lens(self) -> manifold3d.Manifold:
        return manifold3d.Manifold.sphere(30, 64).scale([1, 0.7, 0.5])

    def test_a_free_form_nest_made_from_the_work(self):
        """Exactly shaped, and as coarse and standard rays know it: down to a few hundredths, on faces, all
        six freedoms.
        """
        nest = manifold3d.Manifold.cube([90, 60, 24]).translate([-45, -30, -24]) - self.lens()
        exact = solid(self.lens())
        for cell in (None, 1.0, 0.5):
            with self.subTest(cell=cell):
                work = exact
                if cell is not None:
                    grid = grid_around(exact.vertices.min(axis=0), exact.vertices.max(axis=0), cell)
                    work = simplified(surface(field_of_mesh(grid, exact), JOIN_MM), SIMPLIFY_MM - JOIN_MM)
                result = self.held_in(nest, work)
                np.testing.assert_allclose(result.facts.zero_on_table, (450, 350, 78 + 30 + 24), atol=0.1)
                self.assertEqual(result.facts.locating.rank, 6)
                self.assertGreater(sum(c.area for c in result.facts.contacts if c.kind == "face"), 0.8 * 1500)
                self.assertEqual([f.code for f in result.findings], ["hold.through_holder"])
                # The jaws have the holder between them: 60 mm wide, from the parallels to their top.
                self.assertAlmostEqual(result.facts.opening, 60.0, places=3)
                self.assertAlmostEqual(result.facts.grip_depth, 50 - 30, places=3)

    def test_work_that_only_lies_on_what_the_vise_holds(self):
        plate = manifold3d.Manifold.cube([100, 60, 24]).translate([-50, -30, -24])
        result = self.held_in(plate, box(np.array([-20, -15, 0.0]), np.array([20, 15, 20.0])))
        found = [f.code for f in result.findings]
        self.assertIn("hold.loose", found)
        self.assertNotIn("hold.no_touch", found)
        self.assertNotIn("hold.clamp_tips", found)
