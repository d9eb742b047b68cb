"""Are soft jaws and nests solved as a good shop would cut them?"""

from __future__ import annotations

import contextlib
import io
import json
import math
import tempfile
import unittest
from pathlib import Path

import ezdxf.recover
import manifold3d
import numpy as np
import shapely
import trimesh
from OCP.BRepGProp import BRepGProp
from OCP.GProp import GProp_GProps
from shapely import Point, Polygon

from pelvrak.cli import main
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, box, mesh_of, transformed, volume
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import STRAIGHT_WALL_MM, Hold, Item, SoftCut, fixtures_of, vise_hold
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.nest import Nest, Under, blanks, block_body, cut_away
from pelvrak.core.holding.soft_jaws import even_turn, opened, solve, walls_of
from pelvrak.core.route import jaw_solids
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.jaw_files import shape_of
from pelvrak.core.route.jaws import jaw_file
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import JOIN_MM, SIMPLIFY_MM, mesh_from_bytes
from pelvrak.core.route.plan import Plan, plan_from, plan_from_json
from pelvrak.core.seat.seating import Zero
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from pelvrak.core.stock.surface import simplified, surface
from tests import solids
from tests.edits import cured

TOP = Path(__file__).resolve().parents[2]
SHOP = fixtures_of(())
VISE = SHOP["bench-160"]


def prism(ring: list[tuple[float, float]], tall: float = 30.0) -> Mesh:
    return mesh_of(manifold3d.CrossSection([ring]).extrude(tall))


def leaning(apart: float, turned: float = 0.0) -> Mesh:
    """A plate 80 long whose back wall leans `apart` degrees to its front wall, turned from above."""
    rise = 80 * np.tan(np.radians(apart))
    flat = prism([(-40, -25), (40, -25), (40, 25 + rise / 2), (-40, 25 - rise / 2)])
    return transformed(flat, rigid(rotation_about_z(turned), np.zeros(3)))


def gripped(nest: Nest, work: Mesh, item: str = "soft-160x70") -> tuple:
    """The work in its jaws, by the same means as any other holding."""
    hold = Hold(
        items=(
            Item(id="vise", fixture="bench-160", x=450, y=400),
            Item(id="jaws", fixture=item, on="vise", cut=nest.spec),
        )
    )
    turned = transformed(work, rigid(rotation_about_z(nest.turn_deg), np.zeros(3)))
    held = hold_work(hold, SHOP, turned, "OP20", Shapes(cut={"jaws": nest.jaws}))
    return held.facts, [f.code for f in held.findings if f.severity != "note"]


class TurnTest(unittest.TestCase):
    def test_walls_20_apart_are_turned_by_10(self):
        """Common practice, no source: walls 20° apart give 10°."""
        nest = solve(leaning(20), SoftCut(), SHOP["soft-160x70"], VISE)
        self.assertAlmostEqual(abs(nest.turn_deg), 10.0, places=3)
        self.assertAlmostEqual(nest.between_deg, 20.0, places=3)
        back, front = walls_of(nest.outline)
        self.assertAlmostEqual(back, -front, places=3)

    def test_the_turn_carries_no_noise_of_the_rays(self):
        """Walls exactly 20° apart, or parallel, as coarse and standard rays know them: turned by 10° and by
        nothing, to the last digit.
        """
        for cell in (1.0, 0.5):
            for apart, turn in ((20, -10.0), (0, 0.0)):
                mesh = leaning(apart)
                grid = grid_around(mesh.vertices.min(axis=0), mesh.vertices.max(axis=0), cell)
                stock = simplified(surface(field_of_mesh(grid, mesh), JOIN_MM), SIMPLIFY_MM - JOIN_MM)
                nest = solve(stock, SoftCut(), SHOP["soft-160x70"], VISE)
                self.assertEqual((nest.turn_deg, nest.grip), (turn, 5.0))

    def test_a_wall_of_the_part_is_known_exactly(self):
        outline = Polygon(leaning(20.003).vertices[:, :2]).convex_hull
        outline = shapely.MultiPoint(leaning(20.003).vertices[:, :2]).convex_hull
        self.assertEqual(even_turn(outline, np.array([-90.0, 110.0]))[1], 20.0)
        self.assertAlmostEqual(even_turn(outline, np.array([-90.0, 111.0]))[1], 20.003, places=4)

    def test_one_grip_for_solver_and_holding(self):
        """A wall that leans by the draft of a casting is still the 5 mm of wall the solver chose."""
        lean = np.tan(np.radians(0.5))
        for draft in (0.0, lean):
            ring = [(-34.0, -25.0), (34, -25), (34, 25), (-34, 25)]
            low = manifold3d.CrossSection([ring])
            body = low.extrude(30.0, scale_top=(1.0, 1 + draft * 30 / 25))
            nest = solve(mesh_of(body), SoftCut(), SHOP["soft-160x70"], VISE)
            hold = Hold(
                items=(
                    Item(id="vise", fixture="bench-160", x=450, y=400),
                    Item(id="jaws", fixture="soft-160x70", on="vise", cut=nest.spec),
                )
            )
            held = hold_work(hold, SHOP, mesh_of(body), "OP20", Shapes(cut={"jaws": nest.jaws}), near=0.06)
            self.assertAlmostEqual(held.facts.grip_depth, nest.grip, delta=0.1)
            walls = [c for c in held.facts.contacts if c.angle_deg is not None and c.length > 50]
            self.assertEqual({c.kind for c in walls}, {"face"}, draft)

    def test_any_angle_however_it_lies(self):
        for apart, turned in ((0, 0), (0, 7), (6, 0), (12, -5), (20, 11)):
            outline = Polygon(leaning(apart, turned).vertices[:4, :2]).convex_hull
            outline = shapely.MultiPoint(leaning(apart, turned).vertices[:, :2]).convex_hull
            turn, between = even_turn(outline)
            self.assertAlmostEqual(turn, -turned - apart / 2, places=4)
            self.assertAlmostEqual(between, apart, places=4)

    def test_a_round_part_needs_no_turn(self):
        self.assertEqual(even_turn(Point(0, 0).buffer(20, quad_segs=32)), (0.0, 0.0))

    def test_the_turned_work_is_gripped_evenly(self):
        """Both jaws bear over the same length, each at 10° to its push."""
        work = leaning(20)
        nest = solve(work, SoftCut(), SHOP["soft-160x70"], VISE)
        facts, found = gripped(nest, work)
        self.assertEqual(found, [])
        walls = {c.name: c for c in facts.contacts if c.angle_deg is not None and c.angle_deg < 45}
        for name in ("fixed jaw", "moving jaw"):
            self.assertAlmostEqual(walls[name].angle_deg, 10.0, delta=0.05)
        self.assertAlmostEqual(facts.grip_depth, nest.grip, delta=0.02)
        self.assertAlmostEqual(facts.opening, nest.gap, delta=0.02)

    def test_a_typed_turn_stands(self):
        nest = solve(leaning(20), SoftCut(turn_deg=0.0), SHOP["soft-160x70"], VISE)
        self.assertEqual(nest.turn_deg, 0.0)
        self.assertFalse(next(r for r in nest.reasons if r.name == "turn").solved)
        # One wall then leans all of 20° to the jaw: more than friction 0.2 (11.3°) keeps from sliding along.
        self.assertIn("jaws.slips_out", [t[0] for t in nest.trouble])


class DepthTest(unittest.TestCase):
    def chamfered(self, chamfer: float) -> Mesh:
        big = manifold3d.Manifold.cube([80, 50, 30]).translate([-40, -25, 0])
        if chamfer:
            low = manifold3d.Manifold.hull_points(
                np.array(
                    [
                        [sx * (40 - d), sy * (25 - d), z]
                        for d, z in ((chamfer, 0.0), (0.0, chamfer), (0.0, 30.0))
                        for sx in (-1, 1)
                        for sy in (-1, 1)
                    ]
                )
            )
            big ^= low
        return mesh_of(big)

    def test_past_the_edge_onto_straight_wall(self):
        """Common practice, no source: past radius or chamfer, onto about 5 mm (3/16 in) of straight wall."""
        for chamfer in (0.0, 1.0, 3.0):
            nest = solve(self.chamfered(chamfer), SoftCut(), SHOP["soft-160x45"], VISE)
            self.assertAlmostEqual(nest.edge, chamfer, delta=0.3)
            self.assertGreaterEqual(nest.grip, STRAIGHT_WALL_MM)
            self.assertAlmostEqual(nest.depth, nest.edge + nest.grip, places=6)
            facts, _ = gripped(nest, self.chamfered(chamfer), "soft-160x45")
            self.assertAlmostEqual(facts.grip_depth, nest.depth - chamfer, delta=0.03)

    def test_high_work_is_gripped_deeper(self):
        tall = box(np.array([-40, -25, 0.0]), np.array([40, 25, 90.0]))
        nest = solve(tall, SoftCut(), SHOP["soft-160x45"], VISE)
        self.assertLessEqual((90 - nest.depth) / nest.grip, 8.0)


class NestTest(unittest.TestCase):
    def test_corner_relief_against_opening(self):
        """What a cutter leaves is the opening of the region by its radius (shapely's buffers); relieved, no
        corner of the work is left in metal.
        """
        work = box(np.array([-40, -25, 0.0]), np.array([40, 25, 30.0]))
        for cutter in (6.0, 10.0, 16.0):
            bare = solve(work, SoftCut(cutter=cutter, relief="none"), SHOP["soft-160x45"], VISE)
            r = cutter / 2
            # Four corners, each short of (1 - π/4)·r².
            left_in = bare.outline.difference(bare.left).area
            again = bare.wanted.buffer(-r, quad_segs=64).buffer(r, quad_segs=64)
            self.assertLess(bare.left.symmetric_difference(again).area, 0.05 * r + 0.01 * r * r)
            self.assertIn("jaws.corners_ride", [t[0] for t in bare.trouble])
            self.assertGreater(left_in, 0)
            for relief in ("round", "slot"):
                nest = solve(work, SoftCut(cutter=cutter, relief=relief), SHOP["soft-160x45"], VISE)
                self.assertLess(nest.outline.difference(nest.left).area, 0.01, relief)
                self.assertNotIn("jaws.corners_ride", [t[0] for t in nest.trouble])
                # And the relief itself can be cut.
                self.assertLess(
                    nest.left.symmetric_difference(opened(nest.left, r)).area, 0.05 * r + 0.01 * r * r
                )

    def test_opening_of_a_square_corner(self):
        square = Polygon([(0, 0), (40, 0), (40, 40), (0, 40)])
        self.assertAlmostEqual(square.area - opened(square, 5).area, 4 * 25 * (1 - np.pi / 4), delta=0.08)

    def test_nothing_is_undercut(self):
        """A work with a lip half way up the grip: the nest is as wide as the widest section below its top."""
        body = manifold3d.Manifold.cube([80, 50, 30]).translate([-40, -25, 0])
        lip = manifold3d.Manifold.cube([84, 54, 2]).translate([-42, -27, 3])
        nest = solve(mesh_of(body + lip), SoftCut(), SHOP["soft-160x45"], VISE)
        self.assertAlmostEqual(nest.outline.bounds[3] - nest.outline.bounds[1], 54.0, delta=0.01)
        facts, _ = gripped(nest, mesh_of(body + lip), "soft-160x45")
        self.assertTrue(next(w for w in facts.ways if w.way == "up").free)

    def test_holes_and_dents_do_not_print_into_the_jaws(self):
        body = manifold3d.Manifold.cube([80, 50, 30]).translate([-40, -25, 0])
        body -= manifold3d.Manifold.cube([4, 6, 40]).translate([-2, -26, -5])
        body -= manifold3d.Manifold.cylinder(40, 8, 8, 64).translate([10, 0, -5])
        nest = solve(mesh_of(body), SoftCut(), SHOP["soft-160x45"], VISE)
        self.assertEqual(len(nest.outline.interiors), 0)
        self.assertAlmostEqual(nest.outline.area, 80 * 50, delta=5)

    def test_each_jaw_catches_its_own_wall_and_gap_is_clear_of_both(self):
        nest = solve(leaning(12), SoftCut(), SHOP["soft-160x70"], VISE)
        self.assertGreater(nest.gap, 2.0)
        low, high = nest.split - nest.gap / 2, nest.split + nest.gap / 2
        walls = [line for line in nest.outline.exterior.coords if low < line[1] < high]
        self.assertEqual([w for w in walls if abs(w[0]) < 35], [])

    def test_clearance_where_it_should_not_touch(self):
        nest = solve(
            box(np.array([-40, -25, 0.0]), np.array([40, 25, 30.0])),
            SoftCut(clearance=0.5),
            SHOP["soft-160x45"],
            VISE,
        )
        x0, y0, x1, y1 = nest.outline.bounds
        middle = (y0 + y1) / 2
        for x, wanted in ((x0, -0.5), (x1, 0.5)):
            edge = nest.left.intersection(shapely.LineString([(-200, middle), (200, middle)])).bounds
            self.assertAlmostEqual((edge[0] if wanted < 0 else edge[2]) - x, wanted, delta=0.01)
        # The gripped walls themselves are met, but for the reliefs at their ends.
        across = nest.left.intersection(shapely.LineString([(0, -200), (0, 200)])).bounds
        np.testing.assert_allclose([across[1], across[3]], [y0, y1], atol=0.005)
        self.assertGreater(nest.seat.back, 80 - 4 * 5)

    def test_volumes_by_open_cascade_and_by_mesh(self):
        nest = solve(leaning(8), SoftCut(), SHOP["soft-160x70"], VISE)
        exact = 0.0
        for solid in jaw_solids.solids(shape_of(nest)):
            props = GProp_GProps()
            BRepGProp.VolumeProperties_s(solid, props)
            exact += props.Mass()
        fixed, moving = blanks(nest)
        away = cut_away(nest)
        self.assertAlmostEqual((fixed - away).volume() + (moving - away).volume(), exact, delta=2e-4 * exact)

    def test_step_floor_and_rim(self):
        work = box(np.array([-40, -25, 0.0]), np.array([40, 25, 30.0]))
        plain = solve(work, SoftCut(edge_break=0), SHOP["soft-160x45"], VISE)
        rim = solve(work, SoftCut(edge_break=1.0), SHOP["soft-160x45"], VISE)
        step = solve(work, SoftCut(edge_break=0, floor="step", step=6), SHOP["soft-160x45"], VISE)
        at = [sum(volume(m) for m in (n.jaws.fixed, n.jaws.moving)) for n in (plain, rim, step)]
        # The rim is a ring 3 wide and 1 deep along the outline within the jaws.
        self.assertGreater(at[0] - at[1], 0.8 * 3 * (260 - 2 * plain.gap))
        self.assertGreater(at[0] - at[2], 2 * 60 * (30 - plain.gap))
        facts, _ = gripped(step, work, "soft-160x45")
        bearing = sum(c.area for c in facts.contacts if c.normal[2] > 0.9)
        self.assertLess(bearing, 6 * 260)


class TroubleTest(unittest.TestCase):
    WORK = staticmethod(lambda: box(np.array([-60, -40, 0.0]), np.array([60, 40, 30.0])))

    def codes(
        self, spec: SoftCut, blank: str, vise: str = "bench-160", work: Mesh | None = None
    ) -> list[str]:
        return [t[0] for t in solve(work or self.WORK(), spec, SHOP[blank], SHOP[vise]).trouble]

    def test_thin_walls(self):
        self.assertIn("jaws.thin", self.codes(SoftCut(), "soft-160x30"))
        self.assertNotIn("jaws.thin", self.codes(SoftCut(), "soft-160x45"))

    def test_a_vise_too_small(self):
        self.assertIn("hold.opening", self.codes(SoftCut(), "soft-160x70", "low-100"))

    def test_jaws_that_meet_before_they_grip(self):
        self.assertIn("hold.gap_closed", self.codes(SoftCut(gap=0.0), "soft-160x45"))

    def test_too_short_blanks(self):
        long = box(np.array([-90, -40, 0.0]), np.array([90, 40, 30.0]))
        self.assertIn("jaws.too_short", self.codes(SoftCut(), "soft-160x45", work=long))

    def test_a_nest_that_goes_through_the_jaw(self):
        self.assertIn(
            "jaws.too_low",
            self.codes(SoftCut(grip=27), "soft-125x35")
            + self.codes(
                SoftCut(grip=47), "soft-160x45", work=box(np.array([-40, -30, 0.0]), np.array([40, 30, 60.0]))
            ),
        )

    def test_a_nest_that_cannot_be_cut(self):
        small = box(np.array([-8, -4, 0.0]), np.array([8, 4, 20.0]))
        with self.assertRaises(BadInput) as caught:
            solve(small, SoftCut(cutter=20, relief="none", clearance=0), SHOP["soft-160x45"], VISE)
        self.assertEqual(caught.exception.code, "hold.nest_not_cuttable")

    def test_typed_values_out_of_meaning(self):
        for wrong in (
            {"cutter": 0},
            {"grip": -1},
            {"gap": float("nan")},
            {"relief": "star"},
            {"turn_deg": 90},
        ):
            with self.assertRaises(ValueError):
                SoftCut(**wrong)


class BlockNestTest(unittest.TestCase):
    def work(self) -> Mesh:
        """A flange with a boss below and a shank above."""
        flange = manifold3d.Manifold.cube([70, 46, 12]).translate([-35, -23, 10])
        boss = manifold3d.Manifold.cylinder(11, 9, 9, 96).translate([6, 0, 0])
        return mesh_of(flange + boss + manifold3d.Manifold.cylinder(25, 12, 12, 96).translate([0, 0, 21]))

    def test_the_boss_gets_room_and_the_flange_rests(self):
        nest = solve(self.work(), SoftCut(cutter=8, edge_break=0), SHOP["nest-120"], None)
        self.assertEqual([t[0] for t in nest.trouble], [])
        boss = next(r for r in nest.reasons if r.name == "boss")
        self.assertAlmostEqual(boss.value, 10.0, delta=0.02)
        self.assertTrue(nest.boss.contains(Point(6 + nest.place[0], nest.place[1]).buffer(9.2)))
        hold = Hold(
            items=(Item(id="nest", fixture="nest-120", x=400, y=200, cut=SoftCut(cutter=8, edge_break=0)),)
        )
        held = hold_work(hold, SHOP, self.work(), "OP20", Shapes(cut={"nest": nest.jaws}))
        rests = [c for c in held.facts.contacts if c.normal[2] > 0.9]
        # All of the flange's underside but the boss's room bears.
        wanted = 70 * 46 - nest.boss.intersection(nest.outline).area
        self.assertAlmostEqual(sum(c.area for c in rests), wanted, delta=0.02 * wanted)
        self.assertEqual(held.facts.locating.rank, 6)
        self.assertEqual([w.way for w in held.facts.ways if w.free], ["up"])

    def test_the_blocks_own_edges(self):
        """By hand: rounded corners leave (4 - π)·r² less of a section, a chamfer a prismatoid; and Open
        CASCADE's solid of the nest has the mesh's volume.
        """
        length, height, width = 120.0, 50.0, 80.0
        chamfered = block_body((length, height, width), SoftCut(edge_chamfer=3.0))
        areas = [(length - 2 * c) * (width - 2 * c) for c in (0.0, 1.5, 3.0)]
        wanted = areas[0] * (height - 3) + 3 / 6 * (areas[0] + 4 * areas[1] + areas[2])
        self.assertAlmostEqual(chamfered.volume(), wanted, delta=0.2)
        rounded = block_body((length, height, width), SoftCut(corner_radius=10.0))
        self.assertAlmostEqual(
            rounded.volume(), (length * width - (4 - math.pi) * 100) * height, delta=0.003 * 100 * height
        )
        for edges in (
            {"corner_radius": 8.0},
            {"edge_chamfer": 2.0},
            {"corner_radius": 8.0, "edge_chamfer": 2.0},
        ):
            spec = SoftCut(cutter=8, edge_break=0, **edges)
            nest = solve(self.work(), spec, SHOP["nest-120"], None)
            [exact] = solids.volumes_of_step(jaw_solids.to_step(shape_of(nest)))
            self.assertAlmostEqual(volume(nest.jaws.fixed), exact, delta=2e-4 * exact)
        # Where there is no room for them it is told, and the block taken without: the nest is still there.
        spec = SoftCut(cutter=8, edge_break=0, corner_radius=45.0)
        nest = solve(self.work(), spec, SHOP["nest-120"], None)
        self.assertEqual([t[0] for t in nest.trouble], ["jaws.no_edges"])
        bare = solve(self.work(), SoftCut(cutter=8, edge_break=0), SHOP["nest-120"], None)
        self.assertAlmostEqual(volume(nest.jaws.fixed), volume(bare.jaws.fixed), places=6)
        [exact] = solids.volumes_of_step(jaw_solids.to_step(shape_of(nest)))
        self.assertAlmostEqual(volume(nest.jaws.fixed), exact, delta=2e-4 * exact)

    def test_a_slip_fit_leaves_room_all_round(self):
        tight = solve(self.work(), SoftCut(cutter=8, clearance=0), SHOP["nest-120"], None)
        loose = solve(self.work(), SoftCut(cutter=8, clearance=0, slip=0.05), SHOP["nest-120"], None)
        np.testing.assert_allclose(
            np.array(loose.outline.bounds) - tight.outline.bounds, [-0.05, -0.05, 0.05, 0.05], atol=1e-3
        )
        self.assertIn("slip", [reason.name for reason in loose.reasons])

    def test_a_chamfer_round_the_opening(self):
        """By hand: an edge of length P of an opening without hollow corners loses P·c²/2 + π·c³/3; and Open
        CASCADE's solid of the nest has the mesh's volume, with the corners relieved too.
        """
        for relief, chamfer in (("none", 1.5), ("none", 4.0), ("round", 1.5)):
            nests = [
                solve(
                    self.work(),
                    SoftCut(cutter=8, edge_break=0, relief=relief, mouth=mouth),
                    SHOP["nest-160"],
                    None,
                )
                for mouth in (0.0, chamfer)
            ]
            sharp, broken = (volume(nest.jaws.fixed) for nest in nests)
            if relief == "none":
                by_hand = nests[0].left.length * chamfer**2 / 2 + math.pi * chamfer**3 / 3
                self.assertAlmostEqual(sharp - broken, by_hand, delta=5e-3 * by_hand)
            [exact] = solids.volumes_of_step(jaw_solids.to_step(shape_of(nests[1])))
            self.assertAlmostEqual(broken, exact, delta=2e-4 * exact)

    def test_screws_hold_it_to_its_plate(self):
        """Tapped holes of a plate of 25 mm pitch take turns with dowel holes: under the middle of a block
        120 x 80 they are at ±50, ±25, and a head in its counterbore Ø15 (DIN 974-1) leaves 2.5 mm to the
        ends.
        """
        tapped = np.array([[x, y] for x in (-50.0, 0.0, 50.0) for y in (-25.0, 25.0)])
        small = mesh_of(manifold3d.Manifold.cube([60, 20, 20]).translate([-30, -10, 0]))
        spec = SoftCut(cutter=8, edge_break=0, screwed=True)
        under = Under(tapped=tapped, thread="M8", plate="the plate")
        nest = solve(small, spec, SHOP["nest-120"], None, under=under)
        self.assertEqual(nest.trouble, [])
        self.assertEqual(len(nest.jaws.screws), 4)
        self.assertEqual({(b.x, b.y) for b in nest.bores}, {(x, y) for x in (-50, 50) for y in (-25, 25)})
        # A head of 8 mm in 8.6: 41.4 mm are clamped, 8 more hold; ISO 4762 has 50.
        self.assertIn("M8 × 50", nest.reasons[-1].why)
        for screw in nest.jaws.screws:
            self.assertAlmostEqual(float(screw.vertices[:, 2].min()), 41.4 - 50, places=6)
            self.assertAlmostEqual(float(screw.vertices[:, 2].max()), 49.4, places=6)
        whole = volume(
            solve(small, spec.model_copy(update={"screwed": False}), SHOP["nest-120"], None).jaws.fixed
        )
        drilled = 4 * math.pi / 4 * (15.0**2 * 8.6 + 9.0**2 * 41.4)
        self.assertAlmostEqual(whole - volume(nest.jaws.fixed), drilled, delta=0.01 * drilled)
        [exact] = solids.volumes_of_step(jaw_solids.to_step(shape_of(nest)))
        self.assertAlmostEqual(volume(nest.jaws.fixed), exact, delta=2e-4 * exact)
        # A nest that leaves room at one corner alone; nothing to be screwed to.
        wide = mesh_of(manifold3d.Manifold.cube([96, 60, 20]).translate([-48, -30, 0]))
        for work, below in ((wide, under), (small, Under())):
            nest = solve(work, spec, SHOP["nest-120"], None, under=below)
            self.assertIn("jaws.no_screws", [t[0] for t in nest.trouble])
            self.assertEqual((nest.bores, nest.jaws.screws), ([], ()))

    def test_a_wall_too_thin_round_it(self):
        nest = solve(self.work(), SoftCut(cutter=8, least_wall=30), SHOP["nest-120"], None)
        self.assertEqual([t[0] for t in nest.trouble], ["jaws.thin"])


class RouteTest(unittest.TestCase):
    """The demo route: soft jaws solved for OP20, cut in a setup of their own, and OP20 held in what was
    cut.
    """

    @classmethod
    def setUpClass(cls):
        import hashlib

        folder = TOP / "demo" / "encoder-housing"
        # Coarser than the demo: flat walls are known exactly at any distance of the rays.
        plan = plan_from_json((folder / "plan.json").read_bytes())
        cls.plan = plan.model_copy(update={"resolution_mm": 2.0, "setups": plan.setups[:3]})
        cls.data = (folder / "encoder-housing.step").read_bytes()
        cls.sha = hashlib.sha256(cls.data).hexdigest()
        cls.store = MemoryStore()
        cls.report = evaluate(cls.plan, cls.data, cls.store)

    def again(self, plan: Plan):
        return evaluate(plan, self.data, self.store)

    def test_the_part_passes_by(self):
        top, jaws, under = self.report.setups
        self.assertEqual((jaws.makes, under.incoming_key), ("OP20", top.outgoing_key))
        self.assertNotEqual(jaws.incoming_key, top.outgoing_key)
        self.assertGreater(jaws.removed_volume_mm3, 10_000)

    def test_one_zero_serves_both(self):
        _, jaws, under = self.report.setups
        self.assertEqual([v.value for v in jaws.register_value], [v.value for v in under.register_value])

    def test_a_zero_later_on_names_who_cut_it(self):
        """Jaws cut in between count among the setups of the route."""
        under = self.plan.setups[2]
        seat = under.seat.model_copy(update={"zero": Zero(of="incoming", x=-1, y=-1, z=1)})
        told = {"name": "OP40", "operations": (), "hold": Hold(), "seat": seat, "offset_register": "G57"}
        later = under.model_copy(update=told)
        report = self.again(self.plan.model_copy(update={"setups": (*self.plan.setups, later)}))
        (top,) = [rest for rest in report.setups[-1].rests if rest.axis == "Z"]
        self.assertEqual([name.split()[0] for name in top.by], ["OP20"])

    def test_no_trouble_at_all(self):
        found = [
            f
            for s in self.report.setups
            for f in (*s.findings, *(g for o in s.operations for g in o.findings))
            if f.severity != "note"
        ]
        self.assertEqual([(f.setup, f.code) for f in found], [])

    def test_jaws_as_cut_are_the_jaws_as_solved(self):
        """What the simulated cutter leaves against the nest as drawn, by mesh boolean of the two: within 0.05
        mm over its surface.
        """
        jaws = self.report.setups[1]
        made = mesh_from_bytes(piece_of(self.store, jaws.outgoing_key, "surface.npz"))
        stl = trimesh.load(
            io.BytesIO(self.store.get(self.report.setups[2].nest.files_key, "jaws.stl")), file_type="stl"
        )
        self.assertAlmostEqual(volume(made), stl.volume, delta=0.05 * stl.area)

    def test_the_cut_jaws_hold_both_walls(self):
        hold = self.report.setups[2].hold
        # Straight walls of about 110 mm, 6 mm of grip, and what of the corners counts: see the seat of the
        # solution.
        self.assertGreater(hold.contact_fixed, 0.85 * 6 * self.report.setups[2].nest.seated[0])
        self.assertGreater(hold.contact_moving, 0.85 * 6 * self.report.setups[2].nest.seated[1])
        self.assertAlmostEqual(hold.grip_depth, 6.0, delta=0.07)  # what counts as touching reaches 0.06 mm

    def test_without_the_setup_it_is_a_finding_that_puts_it_back(self):
        plan = self.plan.model_copy(update={"setups": (self.plan.setups[0], self.plan.setups[2])})
        report = self.again(plan)
        found = next(f for f in report.setups[1].findings if f.code == "jaws.not_cut")
        mended = plan_from(cured(plan.model_dump(mode="json"), found.cures[0]))
        self.assertEqual([s.name for s in mended.setups], ["OP10", "OP20-JAWS", "OP20"])
        self.assertEqual(mended.setups[1].makes, self.plan.setups[1].makes)
        self.assertNotIn("jaws.not_cut", [f.code for s in self.again(mended).setups for f in s.findings])

    def test_jaws_are_not_held_by_anything_else(self):
        jaws = self.plan.setups[1].model_copy(update={"hold": vise_hold()})
        plan = self.plan.model_copy(update={"setups": (self.plan.setups[0], jaws, self.plan.setups[2])})
        self.assertEqual([f.code for f in self.again(plan).setups[1].findings], ["jaws.held_twice"])

    def test_jaws_for_nobody(self):
        jaws = self.plan.setups[1]
        last = self.plan.model_copy(update={"setups": (self.plan.setups[0], self.plan.setups[2], jaws)})
        self.assertIn("jaws.no_target", [f.code for f in self.again(last).setups[2].findings])

    def test_a_change_of_the_jaws_leaves_op10_alone(self):
        document = self.plan.model_dump(mode="json")
        document["setups"][2]["hold"]["items"][1]["cut"]["clearance"] = 0.7
        report = self.again(plan_from(document))
        self.assertFalse([name for name in report.computed if name.startswith("OP10")])
        self.assertIn("OP20 holding", report.computed)

    def test_files(self):
        key = self.report.setups[2].nest.files_key
        exact = solids.volumes_of_step(jaw_file(self.store, key, "step"))
        self.assertEqual(len(exact), 2)
        stl = trimesh.load(io.BytesIO(self.store.get(key, "jaws.stl")), file_type="stl")
        self.assertAlmostEqual(sum(exact), stl.volume, delta=5e-4 * stl.volume)
        self.assertTrue(stl.is_watertight)
        drawing, audit = ezdxf.recover.read(io.BytesIO(self.store.get(key, "jaws.dxf")))
        self.assertEqual(audit.errors, [])
        rings = {line.dxf.layer: line for line in drawing.modelspace().query("LWPOLYLINE")}
        self.assertEqual(set(rings), {"NEST", "WORK"})
        points = np.array([(p.x, p.y) for p in ezdxf.path.make_path(rings["NEST"]).flattening(0.005)])
        opening = Polygon(self.report.setups[2].nest.opening)
        self.assertLess(Polygon(points).symmetric_difference(opening).area, 0.03 * opening.length)


class CommandTest(unittest.TestCase):
    def small(self, folder: Path) -> str:
        """The second demo, coarse, and without what does not matter to the nest."""
        demo = TOP / "demo" / "float-carrier"
        document = json.loads((demo / "plan.json").read_text())
        document["resolution_mm"] = 2.0
        kept = (
            "face",
            "boss-rough",
            "boss",
            "flange-rough",
            "flange",
            "drill-m6",
            "floor-rough",
            "wall",
            "boss-room",
        )
        for setup in document["setups"]:
            for item in setup["hold"]["items"]:
                if item["cut"]:
                    item["cut"]["screwed"] = False
            setup["operations"] = (
                [] if setup["name"] == "OP20" else [o for o in setup["operations"] if o["id"] in kept]
            )
        (folder / "float-carrier.step").write_bytes((demo / "float-carrier.step").read_bytes())
        (folder / "plan.json").write_text(json.dumps(document))
        return str(folder / "plan.json")

    def run_it(self, *words: str) -> tuple[int, str, str]:
        """The command in this process: exit code, what it prints, what it complains of."""
        out, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(wrong):
            code = main(list(words))
        return code, out.getvalue(), wrong.getvalue()

    def test_hold_and_soft_jaws(self):
        with tempfile.TemporaryDirectory() as folder:
            plan = self.small(Path(folder))
            facts = json.loads(self.run_it("hold", plan, "--setup", "OP20", "--json")[1])
            self.assertEqual(facts["locating"]["rank"], 6)
            pairs = {tuple(c["pair"]) for c in facts["contacts"]}
            self.assertEqual(pairs, {("nest", "work"), ("bolt from below", "work")})
            self.assertIn("hold.own_thread", [f["code"] for f in facts["findings"]])
            out = Path(folder) / "out"
            code, _, wrong = self.run_it("soft-jaws", plan, "--setup", "OP20", "--out", str(out))
            self.assertEqual(code, 0, wrong)
            names = {path.name for path in out.iterdir()}
            self.assertEqual(names, {"jaws.step", "jaws.stl", "jaws.dxf", "OP20-NEST.nc", "reasons.json"})
            reasons = json.loads((out / "reasons.json").read_text())
            self.assertIn("boss", [r["name"] for r in reasons["reasons"]])
            # Nothing fastens the block itself: it lies on its plate while it is cut.
            data = (Path(folder) / "float-carrier.step").read_bytes()
            report = evaluate(plan_from_json(Path(plan).read_bytes()), data, MemoryStore())
            loose = next(f for f in report.setups[1].findings if f.code == "jaws.block_loose")
            self.assertEqual((loose.setup, loose.severity), ("OP20-NEST", "note"))
            self.assertIn("to plate", loose.sentence)

    def test_a_block_screwed_down_and_chamfered_is_cut_as_solved(self):
        """The offered cure, and a chamfer round the opening that the offered operations cut: what is left of
        the block on its rays is what was solved, with no finding of a cut.
        """
        with tempfile.TemporaryDirectory() as folder:
            path = Path(self.small(Path(folder)))
            data = path.with_name("float-carrier.step").read_bytes()
            document = json.loads(path.read_text())
        first = evaluate(plan_from(document), data, MemoryStore())
        loose = next(f for f in first.setups[1].findings if f.code == "jaws.block_loose")
        document = cured(document, loose.cures[0])
        nest = next(one for one in document["setups"][2]["hold"]["items"] if one["cut"])
        self.assertTrue(nest["cut"]["screwed"])
        nest["cut"]["mouth"] = 1.5
        document["tools"].append(tool_shelf()["ch10"].model_dump(mode="json"))
        del document["setups"][1]
        store = MemoryStore()
        bare = evaluate(plan_from(document), data, store)
        uncut = next(f for f in bare.setups[1].findings if f.code == "jaws.not_cut")
        document = cured(document, uncut.cures[0])
        report = evaluate(plan_from(document), data, store)
        making, target = report.setups[1:]
        self.assertEqual(making.operations[-1].name, "Chamfer the nest's opening")
        self.assertEqual({one.name: one.value for one in target.nest.reasons}["screws"], 4)
        self.assertEqual([p.name for p in making.hold.pieces].count("block screw"), 4)
        found = [*making.findings, *(f for one in making.operations for f in one.findings)]
        self.assertEqual([f.sentence for f in found], [])
        # Solved: the same nest with nothing cut away on the route yet.
        stl = io.BytesIO(store.get(target.nest.files_key, "jaws.stl"))
        solved = float(trimesh.load(stl, file_type="stl").volume)
        self.assertAlmostEqual(making.outgoing_volume_mm3, solved, delta=2e-3 * solved)

    def test_wrong_setups(self):
        plan = str(TOP / "demo" / "float-carrier" / "plan.json")
        for words, told in (
            (("soft-jaws", plan, "--setup", "OP10", "--out", "/tmp/never"), "does not grip in solved jaws"),
            (("hold", plan, "--setup", "OP99"), "there is no setup 'OP99'"),
        ):
            code, _, wrong = self.run_it(*words)
            self.assertEqual(code, 2)
            self.assertIn(told, wrong)
