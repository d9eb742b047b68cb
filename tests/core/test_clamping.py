"""Does a holding hold: forces, friction, thin walls, seats at any ray distance; and what the library makes of
it?
"""

from __future__ import annotations

import unittest
from typing import Any

import manifold3d
import numpy as np
import trimesh

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, box, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import assemble
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.clamping import (
    Load,
    friction_clamp,
    holding_of,
    programme,
    safety,
    shares,
    stands,
    strap_force,
    wedge_normal,
)
from pelvrak.core.holding.hold import Hold, Item, WorkPlace, vise_hold
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.kinds import (
    Own,
    fixtures_from,
    fixtures_from_json,
    fixtures_shipped,
)
from pelvrak.core.holding.squeeze import beam_cantilever, beam_fixed, plate_fixed
from pelvrak.core.route.pieces import JOIN_MM, SIMPLIFY_MM
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from pelvrak.core.stock.surface import simplified, surface
from tests.holdings import BLOCK, SHOP, codes, held, pad, solid, vee_shape


class SeatsAtAnyRayDistance(unittest.TestCase):
    """What touches is a fact of the work, not of the rays it is simulated with: coarse, standard and fine
    rays tell the same.
    """

    def holed(self, angle: float) -> Mesh:
        """A wedge with holes that come out of both flanks, some of their rims near what the block bears
        on.
        """
        body = to_solid(vee_shape(angle, 80))
        for x in (-25, -8, 12, 28):
            for y, r in ((9, 2.5), (-11, 3)):
                body -= manifold3d.Manifold.cylinder(120, r, r, 96).translate([x, y, -60])
        return solid(body)

    def seats(self) -> dict[str, tuple[Hold, Mesh]]:
        def vee(block: str) -> Hold:
            return Hold(items=(Item(id="vee", fixture=block, x=300, y=300),), work=WorkPlace(on="vee"))

        bar = manifold3d.Manifold.cylinder(80, 20, 20, 720)
        lying = transformed(solid(bar), rigid(np.array([[0, 0, 1.0], [0, 1, 0], [-1, 0, 0]]), np.zeros(3)))
        leaning = solid(to_solid(BLOCK).rotate([0, 0, 3]))
        return {
            "120 in 120": (vee("vee-120-60"), self.holed(120)),
            "90 in 90": (vee("vee-90-60"), self.holed(90)),
            "120 in 90": (vee("vee-90-60"), self.holed(120)),
            "bar in 90": (vee("vee-90-60"), lying),
            "block in a vise": (vise_hold(height=42.0), BLOCK),
            "turned block in a vise": (vise_hold(height=42.0), leaning),
            "round in a chuck": (
                Hold(items=(Item(id="c", fixture="chuck-3-160", x=400, y=250),)),
                solid(bar),
            ),
        }

    def told(self, hold: Hold, stock: Mesh):
        found = held(hold, stock)
        facts = found.facts
        return (
            (
                facts.locating.rank,
                facts.locating.free[:1],
                sorted((c.name, c.kind) for c in facts.contacts),
                sorted({f.code for f in found.findings}),
            ),
            np.array(facts.zero_on_table),
            sorted(c.area for c in facts.contacts if c.kind == "face"),
            facts.grip_depth,
        )

    def test_same_facts(self):
        for name, (hold, mesh) in self.seats().items():
            fine = None
            for cell in (0.25, 0.5, 1.0):
                with self.subTest(seat=name, cell=cell):
                    field = field_of_mesh(
                        grid_around(mesh.vertices.min(axis=0), mesh.vertices.max(axis=0), cell), mesh
                    )
                    stock = simplified(surface(field, JOIN_MM), SIMPLIFY_MM - JOIN_MM)
                    told, zero, areas, grip = self.told(hold, stock)
                    fine = fine or (told, zero, areas, grip)
                    self.assertEqual(told, fine[0])
                    # A round wall is known to a few hundredths from coarse rays, plane ones exactly.
                    np.testing.assert_allclose(
                        zero, fine[1], atol=0.03 if "bar" in name or "round" in name else 2e-3
                    )
                    np.testing.assert_allclose(areas, fine[2], rtol=0.01)
                    self.assertAlmostEqual(grip, fine[3], places=3)

    def test_nothing_fixes_the_work_along_the_vee(self):
        told, *_ = self.told(*self.seats()["120 in 120"])
        self.assertEqual(told[:2], (5, ("sliding along X",)))


class ClampingTest(unittest.TestCase):
    def vise(self, force: float, weight: float = 0.0):
        jaws = [pad((0, 20, 0), (0, -1, 0)), pad((0, -20, 0), (0, 1, 0))]
        return holding_of(jaws, [-1, 0], [(np.array([0, 1.0, 0]), force)], weight, np.zeros(3))

    def pull(self, force: float, way, at=(0.0, 0.0, 0.0), friction: float = 0.2):
        problem = programme(self.vise(force), friction)
        found = safety(problem, [Load("op", "op", 0.0, -1.0, 0.0, np.array([at]))]) if way == "up" else None
        return found[0].factor if found else None

    def test_two_jaws_hold_twice_friction_times_force(self):
        """F = 2·μ·force: the friction of two faces, as every handbook of fixtures has it. 100 N at 0.2: 40 N
        against a pull of 1 N.
        """
        self.assertAlmostEqual(self.pull(100.0, "up"), friction_clamp(100.0, 0.2, 2), places=4)
        self.assertAlmostEqual(self.pull(250.0, "up"), 100.0, places=4)

    def test_friction_on_a_lever_holds_less(self):
        """Pulled 30 mm off its middle a pair of 10 mm pads must also twist: less than the straight pull."""
        self.assertLess(self.pull(100.0, "up", (30.0, 0, 0)), 0.5 * self.pull(100.0, "up"))

    def test_a_bar_in_a_vee(self):
        """Pressed into a 90° vee with F, each flank takes F/√2; pulled along, flanks and clamp rub: μ·F·(1 +
        √2).
        """
        r = np.sqrt(0.5)
        flanks = [pad((0, y, 0), (0, -np.sign(y) * r, r)) for y in (-10, 10)]
        top = pad((0, 0, 20), (0, 0, -1))
        held_ = holding_of([*flanks, top], [-1, -1, 0], [(np.array([0, 0, -1.0]), 1000.0)], 0.0, np.zeros(3))
        load = Load("pull", "pull", 1.0, 0.0, 0.0, np.array([[0.0, 0, 5.0]]))
        problem = programme(held_, 0.1)
        from pelvrak.core.holding.clamping import _Slipping, wrench_at

        along = _Slipping(problem).greatest(
            wrench_at(np.array([1.0, 0, 0]), np.array([0.0, 0, 0]), problem.middle)
        )
        self.assertGreater(along, 0.9 * 100 * (1 + np.sqrt(2)))
        # Rubbing round the bar carries a little of the press: never more than the flanks can take.
        self.assertLess(along, 1.1 * 100 * (1 + np.sqrt(2)))
        self.assertGreater(safety(problem, [load])[0].factor, 1)

    def test_one_wrench_after_the_other_is_as_each_by_itself(self):
        """Against scipy's linprog, set up anew for each: max λ with contacts and λ·wrench in balance,
        friction within its pyramid.
        """
        from scipy.optimize import linprog

        from pelvrak.core.holding.clamping import MOST, _Slipping, wrench_at

        problem = programme(hold_work(vise_hold(), SHOP, BLOCK, "OP10").problem)
        going_on, rng = _Slipping(problem), np.random.default_rng(3)
        forces = problem.columns.shape[1]
        for _ in range(40):
            wrench = wrench_at(
                rng.normal(size=3) * 400, rng.uniform(-40, 40, 3), problem.middle, rng.normal() * 3000
            )
            equal = np.vstack(
                [
                    np.column_stack([problem.columns, wrench]),
                    np.column_stack([problem.clamp_rows, np.zeros(len(problem.clamp_rows))]),
                ]
            )
            solved = linprog(
                np.append(np.zeros(forces), -1.0),
                A_ub=np.column_stack([problem.cone, np.zeros(len(problem.cone))]),
                b_ub=np.zeros(len(problem.cone)),
                A_eq=equal,
                b_eq=np.append(-problem.weight, problem.clamp_values),
                bounds=[(0, None)] * forces + [(0, MOST)],
            )
            self.assertAlmostEqual(going_on.greatest(wrench) / solved.x[-1], 1.0, places=6)

    def test_what_each_contact_is_pressed_with(self):
        """1000 N between two jaws: 1000 N on each; into a 90° vee: 707 N on each flank (see wedge_normal)."""
        found = shares(programme(self.vise(1000.0)))
        np.testing.assert_allclose([found[:4].sum(), found[4:].sum()], 1000.0, rtol=1e-3)
        r = np.sqrt(0.5)
        flanks = [pad((0, y, 0), (0, -np.sign(y) * r, r)) for y in (-10, 10)]
        bar = holding_of(
            [*flanks, pad((0, 0, 20), (0, 0, -1))],
            [-1, -1, 0],
            [(np.array([0, 0, -1.0]), 1000.0)],
            0.0,
            np.zeros(3),
        )
        pressed = np.bincount(bar.patch, shares(programme(bar)))
        self.assertAlmostEqual(pressed[2], 1000.0, delta=1)
        self.assertAlmostEqual(pressed[0], pressed[1], delta=1)
        # Without friction, since that balances: the handbook's number.
        self.assertAlmostEqual(pressed[0], wedge_normal(1000, 45), delta=1)

    def test_both_jaws_press_alike_on_parallels(self):
        """What one jaw presses the other presses back, whatever the work rests on; the parallels carry its
        weight alone.
        """
        jaws = [pad((0, 45, 10), (0, -1, 0)), pad((0, -45, 10), (0, 1, 0))]
        rests = [pad((0, y, 0), (0, 0, 1)) for y in (41, -41)]
        held_ = holding_of(
            [*jaws, *rests],
            [-1, 0, -1, -1],
            [(np.array([0, 1.0, 0]), 35_000.0)],
            16.0,
            np.array([0, 0, 26.0]),
        )
        pressed = np.bincount(held_.patch, shares(programme(held_)))
        np.testing.assert_allclose(pressed, [35_000, 35_000, 8, 8], atol=5)

    def test_a_pin_carries_nothing_under_a_strap(self):
        """A strap beside the middle of what the work rests on: the rest carries it all, the walls of a pin's
        hole nothing.
        """
        rest, strap = pad((0, 0, 0), (0, 0, 1), 60.0), pad((12, 0, 20), (0, 0, -1))
        pin = [pad((x, 0, z), (-np.sign(x), 0, 0), 4.0) for x in (-4, 4) for z in (2, 8)]
        held_ = holding_of(
            [rest, strap, *pin], [-1, 0, *[-1] * 4], [(np.array([0, 0, -1.0]), 4000.0)], 5.0, np.zeros(3)
        )
        pressed = np.bincount(held_.patch, shares(programme(held_)))
        np.testing.assert_allclose(pressed, [4005, 4000, 0, 0, 0, 0], atol=5)

    def test_friction_only_where_it_is_needed_and_no_more_than_there_is(self):
        """A clamp that pushes along a rest with nothing behind it is held by friction alone: twice the
        strap's force by 0.2.
        """
        rest, strap = pad((0, 0, 0), (0, 0, 1), 20.0), pad((0, 0, 20), (0, 0, -1), 20.0)
        push = pad((-30, 0, 10), (1, 0, 0), 4.0)
        down, along = np.array([0, 0, -1.0]), np.array([1.0, 0, 0])
        for force, holds in ((1500.0, True), (2500.0, False)):
            held_ = holding_of(
                [rest, strap, push], [-1, 0, 1], [(down, 5000.0), (along, force)], 0.0, np.zeros(3)
            )
            problem = programme(held_, 0.2)
            self.assertEqual(stands(problem), holds)
            pressed = np.bincount(held_.patch, shares(problem))
            if holds:
                np.testing.assert_allclose(pressed[1:], [5000, force], rtol=1e-3)
                # Some of the strap's force may hang on what pushes, no more than rubs there.
                self.assertTrue(5000 - 0.2 * force - 1 < pressed[0] < 5001)

    def test_wedge_and_strap_by_hand(self):
        """Handbook worked examples of the kind: 1000 N into a 90° vee, 707 N on each flank; a strap 1:2 gives
        two thirds.
        """
        self.assertAlmostEqual(wedge_normal(1000, 45), 707.107, places=3)
        self.assertAlmostEqual(wedge_normal(1000, 60), 577.350, places=3)
        self.assertAlmostEqual(wedge_normal(1000, 10, 0.1), 1000 / (2 * (0.173648 + 0.0984808)), places=2)
        self.assertAlmostEqual(strap_force(9000, 30, 90), 6000, places=9)

    def test_a_clamp_beside_its_support_tips_the_work(self):
        rest, clamp = pad((0, 0, 0), (0, 0, 1)), pad((60, 0, 20), (0, 0, -1), 4.0)
        held_ = holding_of(
            [rest, clamp], [-1, 0], [(np.array([0, 0, -1.0]), 500.0)], 5.0, np.array([0, 0, 10.0])
        )
        self.assertFalse(stands(programme(held_)))
        above = pad((2, 0, 20), (0, 0, -1), 4.0)
        good = holding_of(
            [rest, above], [-1, 0], [(np.array([0, 0, -1.0]), 500.0)], 5.0, np.array([0, 0, 10.0])
        )
        self.assertTrue(stands(programme(good)))

    def test_weight_alone(self):
        """10 kg standing on a plate, pushed at its foot: μ·m·g; pushed at a height of twice its half width:
        it tips at half of m·g.
        """
        rest = pad((0, 0, 0), (0, 0, 1), 100.0)
        weight = 98.0665
        held_ = holding_of([rest], [-1], [], weight, np.array([0, 0, 50.0]))
        from pelvrak.core.holding.clamping import _Slipping, wrench_at

        for friction, height, wanted in ((0.2, 0.0, 0.2 * weight), (5.0, 100.0, weight * 50 / 100)):
            problem = programme(held_, friction)
            found = _Slipping(problem).greatest(
                wrench_at(np.array([1.0, 0, 0]), np.array([0, 0, height]), problem.middle)
            )
            self.assertAlmostEqual(found, wanted, places=3)


class SqueezeTest(unittest.TestCase):
    """Beam and plate formulas, worked by hand; sources in squeeze.py."""

    def test_beams(self):
        # 0.5 N/mm² on a strip 40 long and 3 thick, aluminium: 0.5·40⁴/(384·70000·2.25).
        self.assertAlmostEqual(beam_fixed(0.5, 40, 3, 70e3), 0.0211640, places=6)
        self.assertAlmostEqual(
            beam_cantilever(0.5, 40, 3, 70e3) / beam_fixed(0.5, 40, 3, 70e3), 48.0, places=9
        )

    def test_plates(self):
        # Square plate with fixed edges: 0.00126·q·a⁴/D (Timoshenko); D = 70000·27/(12·0.91).
        self.assertAlmostEqual(
            plate_fixed(0.5, 40, 40, 3, 70e3), 0.00126 * 0.5 * 40**4 / (70e3 * 27 / 10.92), places=9
        )
        # Far longer than wide it is a strip with fixed ends, but for ν: 1/384 = 0.0026.
        strip = plate_fixed(0.5, 40, 4000, 3, 70e3)
        self.assertAlmostEqual(
            strip, beam_fixed(0.5, 40, 3, 70e3) * (1 - 0.3**2), delta=0.003 * strip
        )  # 0.00260 in the table is 1/384 rounded

    def test_a_thin_wall_in_the_vise(self):
        body = manifold3d.Manifold.cube([100, 60, 40]).translate([-50, -30, -40])
        pocket = manifold3d.Manifold.cube([70, 54, 60]).translate([-35, -27, -38])
        thin = held(vise_hold(height=28.0), solid(body - pocket)).facts.thin
        self.assertIsNotNone(thin)
        self.assertAlmostEqual(thin.thickness, 3.0, places=3)
        self.assertAlmostEqual(thin.span, 70, delta=3)
        self.assertIn("hold.squeezed", codes(vise_hold(height=28.0), solid(body - pocket)))
        self.assertIsNone(held(vise_hold(height=28.0)).facts.thin)

    def test_a_solid_bar_has_no_thin_wall(self):
        """Split into many triangles, so that rays meet their shared edges: doubled hits are no wall of
        nothing.
        """
        bar = manifold3d.Manifold.cube([100, 60, 40]).translate([-50, -30, -40]).refine(20)
        for height in (28.0, 30.0, 42.0):
            self.assertIsNone(held(vise_hold(height=height), solid(bar)).facts.thin)


class LibraryTest(unittest.TestCase):
    def test_every_shipped_fixture_is_a_closed_solid(self):
        for one in fixtures_shipped().values():
            for piece in one.picture():
                mesh = mesh_of(piece.body)
                self.assertTrue(
                    trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False).is_watertight, one.id
                )
                self.assertGreater(piece.body.volume(), 10, one.id)

    def test_there_is_one_of_every_kind_of_the_trade(self):
        kinds = {one.kind for one in fixtures_shipped().values()}
        wanted = {
            "vise",
            "jaws",
            "parallels",
            "stop",
            "v_block",
            "angle_plate",
            "plate",
            "clamp",
            "riser",
            "bolt",
            "pin",
            "chuck",
            "collet_block",
            "block",
            "vacuum_plate",
            "magnet",
            "tape",
            "swivel",
            "tailstock",
        }
        self.assertEqual(kinds, wanted)

    def test_through_a_file_and_back(self):
        import json

        rows = [one.model_dump(mode="json") for one in fixtures_shipped().values()]
        again = fixtures_from_json(json.dumps({"fixtures": rows}).encode(), "fixtures.json")
        self.assertEqual(again, list(fixtures_shipped().values()))

    def test_wrong_library_files(self):
        good = fixtures_shipped()["vee-90-60"].model_dump(mode="json")
        for rows, where in (
            ([{**good, "angle_deg": 200}], "angle_deg"),
            ([{**good, "mouth": 80}], "0"),
            ([{**good, "kind": "magnet"}], "0"),
            ([good, good], "fixtures"),
            ([{**good, "length": "long"}], "length"),
        ):
            with self.assertRaises(BadInput) as caught:
                fixtures_from(rows)
            self.assertEqual(caught.exception.code, "hold.library")
            self.assertIn(where, caught.exception.where)
        with self.assertRaises(BadInput):
            fixtures_from_json(b"{not json", "shop.json")

    def test_a_corner_that_touches_before_its_flanks(self):
        """A nest of two walls with a bit left in their corner: the work rides on it, its walls stand off."""
        walls = kinds.cuboid((-60, 0, 0), (60, 20, 20)) + kinds.cuboid((-60, -60, 0), (-40, 20, 20))
        floor = kinds.cuboid((-60, -60, -10), (60, 20, 0))
        left = kinds.cuboid((-40, -0.5, 0), (-39.5, 0, 20))
        shop = SHOP | {"mine": Own(id="mine", name="Corner nest", file="nest.step")}
        hold = Hold(
            items=(Item(id="mine", fixture="mine", x=100, y=100, z=10),),
            work=WorkPlace(y=-30, pushed=("back", "left")),
        )
        work = box(np.array([-20.0, -15, 0]), np.array([20.0, 15, 10]))

        def said(nest: manifold3d.Manifold) -> dict[str, Any]:
            return {
                f.code: f
                for f in hold_work(hold, shop, work, "OP10", Shapes(own={"mine": mesh_of(nest)})).findings
            }

        self.assertNotIn("hold.corner_first", said(walls + floor))
        found = said(walls + floor + left)["hold.corner_first"]
        self.assertIn("before its flank", found.sentence)
        self.assertLess(found.measured, found.limit)

    def test_own_solid_that_is_not_here(self):
        shop = SHOP | {"mine": Own(id="mine", name="Ours", file="ours.step")}
        with self.assertRaises(BadInput) as caught:
            assemble(Hold(items=(Item(id="mine", fixture="mine"),)), shop, BLOCK)
        self.assertEqual(caught.exception.code, "hold.no_file")

    def test_sizes_of_cap_screws(self):
        """ISO 4762, from memory: head 1.5 times the thread's diameter, as high as the thread is wide, to M16
        within a millimetre.
        """
        from pelvrak.core.holding.kinds import SCREWS

        for name, (d, head, high, pitch) in SCREWS.items():
            self.assertEqual((f"M{d:g}", high), (name, d))
            self.assertLessEqual(abs(head - 1.5 * d), 1.0)
            self.assertLess(pitch, d / 4)


if __name__ == "__main__":
    unittest.main()
