"""Is a vee or a profile along a block what the work needs, and what a round cutter leaves of it?"""

from __future__ import annotations

import math
import unittest

import manifold3d
import numpy as np
from shapely import Polygon

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, mesh_of, volume
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import Hold, Item, SoftCut, fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.kinds import Block, prism
from pelvrak.core.holding.nest import Nest
from pelvrak.core.holding.profile_block import solve_profile
from pelvrak.core.holding.soft_jaws import opened
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.jaw_files import shape_of, to_dxf
from pelvrak.core.route.jaw_solids import to_step
from pelvrak.core.route.plan import plan_from
from tests import solids
from tests.edits import cured

BLOCK = Block(id="blank", name="Blank", length=60, width=90, height=50)
SHOP = fixtures_of(()) | {"blank": BLOCK}


def bar(diameter: float, length: float = 120.0) -> Mesh:
    return mesh_of(manifold3d.Manifold.cylinder(length, diameter / 2, diameter / 2, 360).rotate([0, 90, 0]))


def keel(angle: float, length: float = 120.0) -> Mesh:
    """A bar along x with a wedge of an angle under it, 40 wide."""
    rise = 20 / np.tan(np.radians(angle / 2))
    ring = [(0.0, 0.0), (20.0, rise), (20.0, rise + 30), (-20.0, rise + 30), (-20.0, rise)]
    return mesh_of(prism([(float(a), float(b)) for a, b in ring], -length / 2, length / 2))


def laid(nest: Nest, work: Mesh):
    """The work in its block on the table, by the same means as any other holding."""
    hold = Hold(items=(Item(id="nest", fixture="blank", x=300, y=200, cut=nest.spec),))
    return hold_work(hold, SHOP, work, "OP10", Shapes(cut={"nest": nest.jaws}))


class VeeTest(unittest.TestCase):
    def test_round_work_in_a_vee(self):
        """A cylinder of radius r in a vee of an angle A lies with its axis r / sin(A/2) above the root: plane
        geometry.
        """
        for angle in (90.0, 120.0, 60.0):
            nest = solve_profile(bar(30.0), SoftCut(shape="vee", angle_deg=angle, cutter=6), BLOCK)
            root = nest.wanted.bounds[1]
            axis = nest.outline.bounds[1] + 15
            self.assertAlmostEqual(axis - root, 15 / np.sin(np.radians(angle / 2)), delta=0.01)
            self.assertEqual(nest.trouble, [])

    def test_the_usual_angle_and_the_works_own(self):
        angle = lambda work: next(  # noqa: E731
            r.value for r in solve_profile(work, SoftCut(shape="vee"), BLOCK).reasons if r.name == "angle"
        )
        self.assertEqual(angle(bar(30.0)), 90.0)
        self.assertAlmostEqual(angle(keel(120.0)), 120.0, places=2)

    def test_a_wedge_lies_on_both_flanks(self):
        work = keel(100.0)
        nest = solve_profile(work, SoftCut(shape="vee", cutter=8), BLOCK)
        result = laid(nest, work)
        faces = [c for c in result.facts.contacts if c.name == "nest" and c.kind == "face"]
        self.assertEqual(len(faces), 2)
        for face in faces:
            self.assertAlmostEqual(abs(face.normal[1]), np.cos(np.radians(50)), places=3)
        self.assertNotIn("hold.overlap", [f.code for f in result.findings])
        self.assertNotIn("hold.rocks", [f.code for f in result.findings])

    def test_a_round_bar_touches_on_two_lines(self):
        result = laid(solve_profile(bar(30.0), SoftCut(shape="vee"), BLOCK), bar(30.0))
        lines = [c for c in result.facts.contacts if c.name == "nest"]
        self.assertEqual({c.kind for c in lines}, {"line"})
        np.testing.assert_allclose(
            sorted(c.normal[1] for c in lines), [-np.sqrt(0.5), np.sqrt(0.5)], atol=0.03
        )

    def test_without_relief_a_sharp_edge_rides(self):
        """What a round cutter leaves is the opening of the vee with its radius (shapely), and the wedge's
        edge is in it.
        """
        nest = solve_profile(keel(90.0), SoftCut(shape="vee", relief="none", cutter=10), BLOCK)
        self.assertAlmostEqual(nest.left.symmetric_difference(opened(nest.wanted, 5.0)).area, 0.0, delta=1e-6)
        found = next(t for t in nest.trouble if t[0] == "jaws.corners_ride")
        # A corner of 90° keeps r²(1 - π/4) beside the round: elementary geometry.
        self.assertAlmostEqual(found[3], 25 * (1 - np.pi / 4), delta=0.15)
        relieved = solve_profile(keel(90.0), SoftCut(shape="vee", cutter=10), BLOCK)
        self.assertEqual([t[0] for t in relieved.trouble], [])


class ProfileTest(unittest.TestCase):
    def test_the_works_own_profile(self):
        ring = [(-25.0, 12.0), (-25, 8), (-12, 8), (-12, 0), (14, 0), (14, 5), (25, 5), (25, 40), (-25, 40)]
        work = mesh_of(prism(ring, -60, 60))
        nest = solve_profile(work, SoftCut(shape="profile", cutter=4, grip=15.0), BLOCK)
        below = Polygon(ring).intersection(Polygon([(-30, -1), (30, -1), (30, 15), (-30, 15)]))
        room = nest.wanted.intersection(Polygon([(-45, -60), (45, -60), (45, 25), (-45, 25)]))
        # Everything below the block's top that the work fills is cut, and little else but the reliefs of its
        # corners.
        self.assertGreaterEqual(room.area, below.area - 0.01)
        self.assertLess(room.area - below.area, 60)
        result = laid(nest, work)
        floors = [c for c in result.facts.contacts if c.name == "nest" and c.normal[2] > 0.99]
        self.assertEqual(len({round(c.centre[2], 2) for c in floors}), 3)  # the bottom and both shoulders
        self.assertNotIn("hold.overlap", [f.code for f in result.findings])

    def test_what_leans_out_comes_in_from_above(self):
        """A dovetail of a foot is not printed: the profile goes straight up from its widest."""
        work = mesh_of(prism([(-20.0, 0.0), (20, 0), (10, 10), (10, 40), (-10, 40), (-10, 10)], -60, 60))
        nest = solve_profile(work, SoftCut(shape="profile", cutter=4, grip=12.0, relief="none"), BLOCK)
        at = [
            nest.wanted.intersection(Polygon([(-99, y), (99, y), (99, y + 0.01), (-99, y + 0.01)])).bounds
            for y in (15.0, 24.0)
        ]
        for left, _, right, _ in at:
            self.assertAlmostEqual(right - left, 40.0, delta=0.05)

    def test_files(self):
        nest = solve_profile(keel(90.0), SoftCut(shape="vee"), BLOCK)
        self.assertAlmostEqual(
            solids.volumes_of_step(to_step(shape_of(nest)))[0], volume(nest.jaws.fixed), delta=30.0
        )
        self.assertIn(b"NEST", to_dxf(nest))

    def test_the_blocks_own_edges(self):
        """Of a block 60 x 90 x 50 that lies: rounded corners leave (4 - π)·r² less of a section, 50 high; and
        Open CASCADE's solid of it, cut on its end, has the mesh's volume.
        """
        plain = solve_profile(bar(30.0), SoftCut(shape="vee", cutter=10), BLOCK)
        both = {"corner_radius": 6.0, "edge_chamfer": 2.0}
        for edges in ({"corner_radius": 8.0}, {"edge_chamfer": 2.0}, both):
            nest = solve_profile(bar(30.0), SoftCut(shape="vee", cutter=10, **edges), BLOCK)
            less = volume(plain.jaws.fixed) - volume(nest.jaws.fixed)
            if edges == {"corner_radius": 8.0}:
                self.assertAlmostEqual(less, (4 - math.pi) * 64 * BLOCK.height, delta=0.01 * less)
            [exact] = solids.volumes_of_step(to_step(shape_of(nest)))
            self.assertAlmostEqual(volume(nest.jaws.fixed), exact, delta=2e-4 * exact)

    def test_blocks_that_do_not_do(self):
        codes = lambda work, **more: [  # noqa: E731
            t[0] for t in solve_profile(work, SoftCut(shape="vee"), BLOCK.model_copy(update=more)).trouble
        ]
        self.assertIn("jaws.longer_than_work", codes(bar(30.0, 50.0)))
        self.assertIn("jaws.thin", codes(bar(30.0), width=30))
        self.assertIn("jaws.too_low", codes(bar(30.0), height=15))
        with self.assertRaises(BadInput) as caught:
            solve_profile(bar(30.0), SoftCut(shape="vee", shift=500.0), BLOCK)
        self.assertEqual(caught.exception.code, "hold.nest_empty")


class RouteTest(unittest.TestCase):
    """A vee block cut in a setup of its own, on its end, and the round bar held in it as it was cut."""

    def test_cut_on_the_route(self):
        shape = solids.turned(solids.cylinder((0, 0, 0), 15, 100), 90, (0, 1, 0))
        tools = [tool_shelf()[name].model_dump(mode="json") for name in ("em10l", "em10")]
        document = {
            "name": "bar",
            "part": {"file": "bar.step"},
            "resolution_mm": 1.0,
            "tools": tools,
            "billet": {"kind": "bar", "axis": "x", "diameter": 30, "minus": 0, "plus": 0},
            "fixtures": [BLOCK.model_copy(update={"length": 40.0}).model_dump(mode="json")],
            "setups": [
                {
                    "name": "OP10",
                    "hold": {
                        "items": [
                            {
                                "id": "vee",
                                "fixture": "blank",
                                "x": 400,
                                "y": 200,
                                "cut": {"shape": "vee", "cutter": 10},
                            }
                        ]
                    },
                }
            ],
        }
        store, data = MemoryStore(), solids.step_bytes(shape)
        first = evaluate(plan_from(document), data, store)
        found = next(f for f in first.setups[0].findings if f.code == "jaws.not_cut")
        document = cured(document, found.cures[0])
        report = evaluate(plan_from(document), data, store)
        made, used = report.setups
        self.assertEqual((made.makes, used.name), ("OP10", "OP10"))
        # Offered with a holding of its own: it stands in a vise, and is judged like any work.
        touched = {c.name for c in made.hold.contacts}
        self.assertEqual(touched, {"fixed jaw", "moving jaw", "rear parallel", "front parallel"})
        self.assertEqual({one.name for one in made.hold.safety}, {o.name for o in made.operations})
        self.assertEqual([f.code for f in made.findings], ["hold.not_located"])
        # Zero is the top of the block as it stands there, its middle.
        np.testing.assert_allclose(np.array(made.low) + made.high, [0.0, 0.0, -40.0], atol=1e-9)
        self.assertAlmostEqual(made.high[2], 0.0, places=9)
        loose = plan_from(document).model_dump(mode="json")
        loose["setups"][0]["hold"]["items"] = []
        alone = evaluate(plan_from(loose), data, store).setups[0]
        self.assertEqual([f.code for f in alone.findings], ["jaws.on_end"])
        loose["setups"][0]["hold"]["items"] = [{"id": "nest", "fixture": "nest-120", "cut": {}}]
        refused = evaluate(plan_from(loose), data, store).setups[0]
        self.assertEqual([f.code for f in refused.findings], ["jaws.in_jaws"])
        self.assertEqual(
            [f.sentence for o in made.operations for f in o.findings if f.severity == "error"], []
        )
        # What is cut out of the block: the vee's section (to the block's top, its root rounded by the cutter)
        # by its length.
        within = Polygon(made.nest.opening).intersection(
            Polygon([(-45, -25), (45, -25), (45, 25), (-45, 25)])
        )
        self.assertAlmostEqual(made.removed_volume_mm3 / (within.area * 40), 1.0, delta=0.02)
        lines = [c for c in used.hold.contacts if c.name == "nest"]
        self.assertGreaterEqual(len(lines), 2)
        for line in lines:
            self.assertAlmostEqual(abs(line.normal[1]), np.sqrt(0.5), delta=0.06)
        self.assertNotIn("hold.overlap", [f.code for f in used.findings])


if __name__ == "__main__":
    unittest.main()
