"""Fixtures put face on face and axis on axis: against poses by hand and by what has to hold between them."""

from __future__ import annotations

import itertools
import unittest

import manifold3d
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, mesh_of
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.holding.hold import Hold, Item, WorkPlace, fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.mating import Feature, Mate, edge_at, feature_at, placed

SHOP = fixtures_of(())


def plane(at, way) -> Feature:
    return Feature(kind="plane", at=at, way=way)


def axis(at, way, radius=5.0) -> Feature:
    return Feature(kind="axis", at=at, way=way, radius=radius)


class Edges(unittest.TestCase):
    """Two blocks with their edges in one line."""

    BLOCK = box(np.array([0.0, 0, 0]), np.array([40.0, 30, 20]))

    def test_the_edge_near_a_place(self):
        """Picked by its end, its end; in the middle, its middle; inside a face there is none near."""
        end = edge_at(self.BLOCK, np.array([2.0, 1.0, 20]))
        np.testing.assert_allclose(np.abs(end.way), [1, 0, 0], atol=1e-12)
        np.testing.assert_allclose(end.at, [0, 0, 20], atol=1e-9)
        middle = edge_at(self.BLOCK, np.array([39.0, 14.0, 20]))
        np.testing.assert_allclose(middle.at, [40, 15, 20], atol=1e-9)
        wide = box(np.array([0.0, 0, 0]), np.array([400.0, 300, 20]))
        with self.assertRaises(BadInput) as refused:
            edge_at(wide, np.array([200.0, 150, 20]))
        self.assertEqual(refused.exception.code, "hold.no_feature")

    def test_an_edge_goes_on_over_what_only_splits_it(self):
        """Two blocks joined end to end have one edge along both."""
        both = mesh_of(
            manifold3d.Manifold.cube([40, 30, 20])
            + manifold3d.Manifold.cube([25, 30, 20]).translate([40, 0, 0])
        )
        np.testing.assert_allclose(edge_at(both, np.array([33.0, 0.5, 20])).at, [32.5, 0, 20], atol=1e-9)

    def test_edge_on_edge_and_down_on_a_face(self):
        """A block's lower front edge on the plate's front edge, its underside down on the plate: by hand."""
        plate = {"p": rigid(np.eye(3), np.array([100.0, 50, 0]))}
        edge = Feature(kind="edge", at=(0, 0, 0), way=(1, 0, 0))
        theirs = Feature(kind="edge", at=(0, 0, 30), way=(1, 0, 0))
        down = Mate(mine=plane((5, 5, 0), (0, 0, -1)), item="p", theirs=plane((9, 9, 30), (0, 0, 1)))
        pose = placed((Mate(mine=edge, item="p", theirs=theirs, offset=12), down), plate, "b")
        np.testing.assert_allclose(pose, rigid(np.eye(3), np.array([112.0, 50, 30])), atol=1e-6)
        with self.assertRaises(BadInput) as refused:
            placed((Mate(mine=edge, item="p", theirs=plane((0, 0, 30), (0, 0, 1))),), plate, "b")
        self.assertIn("an edge was picked on one, a plane on the other", refused.exception.what)


class Placing(unittest.TestCase):
    def test_face_on_face_by_hand(self):
        """A block's underside on a plate's top, the picked points on each other, 2 mm of gap."""
        mate = Mate(
            mine=plane((10, 0, 0), (0, 0, -1)), item="p", theirs=plane((0, 5, 30), (0, 0, 1)), offset=2
        )
        pose = placed((mate,), {"p": rigid(np.eye(3), np.array([100.0, 200, 0]))}, "b")
        np.testing.assert_allclose(pose[:3, :3], np.eye(3), atol=1e-12)
        np.testing.assert_allclose(pose[:3, 3], [90, 205, 32], atol=1e-12)

    def test_turned_over(self):
        """Its top on the plate: it lies on its head, and turned a quarter about where it was picked."""
        mate = Mate(mine=plane((0, 0, 40), (0, 0, 1)), theirs=plane((50, 60, 0), (0, 0, 1)), turn_deg=90)
        pose = placed((mate,), {}, "b")
        np.testing.assert_allclose(moved(pose, np.array([0.0, 0, 40])), [50, 60, 0], atol=1e-9)
        np.testing.assert_allclose(turned(pose, np.array([0.0, 0, 1])), [0, 0, -1], atol=1e-12)

    def test_hole_on_pin_then_face_down_then_a_second_hole(self):
        """Three mates leave nothing free: two holes 60 apart on two pins 60 apart, lying on the plate."""
        frames = {"p": rigid(Rotation.from_euler("z", 30, degrees=True).as_matrix(), np.array([5.0, 6, 0]))}
        mates = (
            Mate(mine=axis((0, 0, 0), (0, 0, 1)), item="p", theirs=axis((0, 0, 10), (0, 0, 1))),
            Mate(mine=plane((3, 3, 0), (0, 0, -1)), item="p", theirs=plane((7, 1, 10), (0, 0, 1))),
            Mate(mine=axis((60, 0, 0), (0, 0, 1)), item="p", theirs=axis((0, 60, 10), (0, 0, 1))),
        )
        pose = placed(mates, frames, "b")
        there = frames["p"]
        for mine, theirs in (((0, 0, 0), (0, 0, 10)), ((60, 0, 0), (0, 60, 10))):
            np.testing.assert_allclose(
                moved(pose, np.array(mine, float)), moved(there, np.array(theirs, float)), atol=1e-6
            )

    @settings(max_examples=15, deadline=None)
    @given(st.integers(0, 10_000))
    def test_three_planes_meet_however_they_stand(self, seed):
        """Three square faces of a corner against three of another, each with its gap: the pose that was
        made up comes back.
        """
        rng = np.random.default_rng(seed)
        truth = rigid(Rotation.random(random_state=seed).as_matrix(), rng.uniform(-200, 200, 3))
        mates = []
        for way in np.eye(3):
            at, gap = rng.uniform(-50, 50, 3), float(rng.uniform(-5, 5))
            looks = turned(truth, way)
            meets = moved(truth, at) + rng.uniform(-20, 20) * np.cross(looks, [0.3, 0.5, 0.8]) + gap * looks
            # The other face looks back, its gap counted along its own way.
            mates.append(
                Mate(
                    mine=plane(as_vector(at), as_vector(way)),
                    theirs=plane(as_vector(meets), as_vector(-looks)),
                    offset=gap,
                )
            )
        pose = placed(tuple(mates), {}, "b")
        np.testing.assert_allclose(pose, truth, atol=2e-5)

    def test_what_contradicts_itself_is_refused(self):
        floor, wall = plane((0, 0, 0), (0, 0, 1)), plane((0, 0, 5), (0, 0, 1))
        low, high = plane((0, 0, 0), (0, 0, -1)), plane((0, 0, 0), (0, 0, -1))
        with self.assertRaises(BadInput) as refused:
            placed((Mate(mine=low, theirs=floor), Mate(mine=high, theirs=wall)), {}, "b")
        self.assertEqual(refused.exception.code, "hold.mate")
        with self.assertRaises(BadInput) as refused:
            placed((Mate(mine=low, theirs=axis((0, 0, 0), (0, 0, 1))),), {}, "b")
        self.assertIn("two planes, two round walls", str(refused.exception))

    def test_a_chain_that_closes_on_itself_is_refused(self):
        mate = Mate(mine=plane((0, 0, 0), (0, 0, -1)), item="b", theirs=plane((0, 0, 0), (0, 0, 1)))
        for items in (
            (Item(id="b", fixture="block-40", mates=(mate,)),),
            (
                Item(id="a", fixture="block-40", mates=(mate,)),
                Item(
                    id="b",
                    fixture="block-40",
                    mates=(mate.model_copy(update={"item": "a"}),),
                ),
            ),
        ):
            with self.assertRaises(ValueError) as refused:
                Hold(items=items)
            self.assertIn("which is not built before it", str(refused.exception))


class Picking(unittest.TestCase):
    def setUp(self):
        body = manifold3d.Manifold.cube([60, 40, 20])
        body -= manifold3d.Manifold.cylinder(30, 4, 4, 48).translate([20, 15, -5])
        body += manifold3d.Manifold.cylinder(12, 6, 6, 48).translate([45, 20, 20])
        self.mesh = mesh_of(body)

    def test_planes_and_round_walls(self):
        up = feature_at(self.mesh, np.array([5.0, 5, 20]), np.array([0.0, 0, 1]))
        self.assertEqual((up.kind, up.at, up.way), ("plane", (5.0, 5.0, 20.0), (0.0, 0.0, 1.0)))
        for middle, radius, hollow, height in (
            ((20.0, 15.0), 4.0, True, 10.0),
            ((45.0, 20.0), 6.0, False, 26.0),
        ):
            angle = np.radians(0.5 * 360 / 48)
            out = np.array([np.cos(angle), np.sin(angle), 0.0])
            flat = radius * np.cos(angle)
            found = feature_at(self.mesh, np.array([*middle, height]) + flat * out, -out if hollow else out)
            self.assertEqual((found.kind, found.hollow), ("axis", hollow))
            self.assertAlmostEqual(found.radius, radius, places=5)
            np.testing.assert_allclose(found.at, [*middle, height], atol=1e-5)
            np.testing.assert_allclose(np.abs(found.way), [0, 0, 1], atol=1e-9)

    def test_where_there_is_nothing(self):
        ball = mesh_of(manifold3d.Manifold.sphere(20, 48))
        for mesh, at, way in (
            (self.mesh, (200.0, 0, 0), (0, 0, 1.0)),
            (ball, tuple(ball.vertices[ball.triangles[40]].mean(axis=0)), None),
        ):
            looks = np.array(at) / np.linalg.norm(at) if way is None else np.array(way)
            if way is None:
                a, b, c = ball.vertices[ball.triangles[40]]
                looks = np.cross(b - a, c - a)
                looks /= np.linalg.norm(looks)
            with self.assertRaises(BadInput) as refused:
                feature_at(mesh, np.array(at), looks)
            self.assertEqual(refused.exception.code, "hold.no_feature")


class Held(unittest.TestCase):
    def test_a_step_block_stood_on_another_and_moved_by_one_number(self):
        """One step block on top of another, then 3 mm apart; the work rests on what was placed."""

        def found(offset: float):
            mate = Mate(
                mine=plane((0, 0, 0), (0, 0, -1)),
                item="a",
                theirs=plane((0, 0, 20), (0, 0, 1)),
                offset=offset,
            )
            hold = Hold(
                items=(
                    Item(id="a", fixture="pad-20", x=400, y=300, height=20),
                    Item(id="b", fixture="pad-20", on="a", height=20, mates=(mate,)),
                ),
                work=WorkPlace(on="b"),
            )
            work = box(np.array([-20.0, -20, 0]), np.array([20.0, 20, 10]))
            return hold_work(hold, SHOP, work, "OP10").facts.zero_on_table

        self.assertAlmostEqual(found(0)[2], 40.0, places=6)
        self.assertAlmostEqual(found(3)[2], 43.0, places=6)
        for one, other in itertools.pairwise((found(0), found(3))):
            np.testing.assert_allclose(one[:2], other[:2], atol=1e-6)

    def test_the_inverse_takes_it_back(self):
        pose = placed((Mate(mine=plane((1, 2, 3), (0, 1, 0)), theirs=plane((4, 5, 6), (1, 0, 0))),), {}, "b")
        np.testing.assert_allclose(pose @ inverse(pose), np.eye(4), atol=1e-12)
