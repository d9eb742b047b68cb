"""The stock engine against closed forms, Open CASCADE, brute force and its own promises."""

from __future__ import annotations

import math
import unittest
from unittest import mock

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.integrate import quad
from shapely import Polygon

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import volume
from pelvrak.core.stock.cut import CUT, RAPID, STOPPED, Profile, Sweep, cut, test
from pelvrak.core.stock.field import bundle_volumes, cell_for, error_of, grid_around, same_field
from pelvrak.core.stock.moments import (
    Moments,
    Recorder,
    moments_loaded,
    moments_saved,
    move_at,
    stock_at,
    tip_at,
)
from pelvrak.core.stock.moves import arc_points, turned_moves
from pelvrak.core.stock.profile import (
    ball_nose,
    corner_radius,
    drawn,
    face_mill,
    flat,
    ground,
    lollipop,
    outline,
    pointed,
    slot_cutter,
    tapered,
    thread_mill,
)
from pelvrak.core.stock.shapes import field_of_profile, material_top
from pelvrak.core.stock.surface import surface
from tests import solids
from tests.solids import UP, along, block

CELL = 0.25


def taken(points, cutter, cell=CELL, low=(0, 0, 0), high=(40, 30, 20), axis=UP) -> float:
    """Volume that moves through points take off a block, by its surface; the three bundles agree with it."""
    before = block(low, high, cell)
    after, _ = cut(before, along(points, cutter, axis), 1)
    left = volume(surface(after))
    for seen in bundle_volumes(after):
        assert abs(seen / left - 1) < 2e-3, (bundle_volumes(after), left)
    return float(np.prod(np.subtract(high, low))) - left


class ToolShapes(unittest.TestCase):
    """Every kind of tool takes off what geometry says."""

    def near(self, seen, exact, share=1.5e-3):
        self.assertAlmostEqual(seen / exact, 1.0, delta=share)

    def test_ball_plunge_is_a_spherical_cap(self):
        r, depth = 6.0, 4.3
        self.near(
            taken([(20, 15, 30), (20, 15, 20 - depth)], ball_nose(2 * r, 30)),
            math.pi * depth**2 * (r - depth / 3),
        )

    def test_ball_slot_is_half_a_cylinder_between_half_balls(self):
        r, length = 4.0, 17.0
        exact = math.pi * r**2 / 2 * length + 2 / 3 * math.pi * r**3
        self.near(taken([(11.3, 15.1, 16), (11.3 + length, 15.1, 16)], ball_nose(2 * r, 30)), exact)

    def test_ball_ramp_is_the_same_in_every_direction(self):
        # A ball carried inside material from a to b: a cylinder between two half balls, whatever the
        # direction.
        a, b, r = np.array([12.0, 11, 8]), np.array([27.0, 19, 13]), 3.0
        exact = math.pi * r**2 * math.dist(a, b) + 4 / 3 * math.pi * r**3
        self.near(taken([a - [0, 0, r], b - [0, 0, r]], lollipop(2 * r)), exact)

    def test_corner_radius_plunge_by_pappus(self):
        radius, corner, depth = 6.0, 2.0, 7.0
        inner = radius - corner
        rounding = math.pi * corner**2 / 4
        away = inner + 4 * corner / (3 * math.pi)  # centroid of the quarter circle from the axis
        exact = (
            math.pi * radius**2 * (depth - corner)
            + math.pi * inner**2 * corner
            + 2 * math.pi * away * rounding
        )
        self.near(taken([(20, 15, 30), (20, 15, 20 - depth)], corner_radius(2 * radius, corner, 30)), exact)

    def test_taper_plunge_is_a_frustum(self):
        depth, tip, lean = 9.0, 3.0, math.radians(10)
        top = tip + depth * math.tan(lean)
        exact = math.pi * depth / 3 * (tip**2 + tip * top + top**2)
        self.near(taken([(20, 15, 30), (20, 15, 20 - depth)], tapered(2 * tip, 10, 30)), exact)

    def test_taper_with_ball_tip(self):
        depth, tip, lean = 12.0, 2.0, math.radians(7)
        cap, touch = tip * (1 - math.sin(lean)), tip * math.cos(lean)
        top = touch + (depth - cap) * math.tan(lean)
        exact = math.pi * cap**2 * (tip - cap / 3) + math.pi * (depth - cap) / 3 * (
            touch**2 + touch * top + top**2
        )
        self.near(
            taken([(20, 15, 30), (20, 15, 20 - depth)], tapered(2 * tip, 7, 30, ball=True)), exact, 2e-3
        )

    def test_face_mill_at_45_degrees_leaves_a_trapezoid(self):
        depth, radius = 2.0, 8.0
        exact = (2 * radius + depth) * depth * 40  # mean width times depth, right through the block
        self.near(taken([(-30, 15, 18), (70, 15, 18)], face_mill(2 * radius, 6, 45)), exact)

    def test_slot_cutter_undercuts(self):
        # A disc of 3 mm through the block below its top: what stands above stays.
        exact = (12 + 0.0) * 3 * 40
        self.near(taken([(-30, 15, 8), (70, 15, 8)], slot_cutter(12, 3)), exact)
        after, _ = cut(
            block((0, 0, 0), (40, 30, 20), 0.5), along([(-30, 15, 8), (70, 15, 8)], slot_cutter(12, 3)), 1
        )
        bundle = after.bundles[2]
        row, column = (int(np.argmin(np.abs(after.grid.nodes(a) - v))) for a, v in ((1, 15), (0, 20)))
        self.assertEqual(bundle.count[row, column], 2)
        self.assertEqual(bundle.position[row, column, :4].tolist(), [0, 8, 11, 20])

    def test_lollipop_drives_a_tunnel(self):
        self.near(taken([(-20, 15, 6), (60, 15, 6)], lollipop(8)), math.pi * 16 * 40)

    def test_countersink_and_step_drill(self):
        countersink = pointed(16, 90, 20, tip_diameter=4)
        self.near(taken([(20, 15, 30), (20, 15, 15)], countersink), math.pi * 5 / 3 * (4 + 14 + 49))
        step = ground((0, 6, 6, 20), (2.5, 2.5, 5, 5))
        self.near(taken([(20, 15, 40), (20, 15, 8)], step), math.pi * (2.5**2 * 6 + 25 * 6))

    def test_thread_mill_outline_of_iso_68_1(self):
        # ISO 68-1: H = √3/2 · P, depth 5/8 H, crest flat P/8.
        mill = thread_mill(10, 1.5, 3)
        depth = 5 / 8 * math.sqrt(3) / 2 * 1.5
        self.assertAlmostEqual(max(mill.radii) - min(mill.radii), depth, places=12)
        flats = [
            b - a
            for a, b, r, q in zip(mill.heights, mill.heights[1:], mill.radii, mill.radii[1:], strict=False)
            if r == q == max(mill.radii)
        ]
        self.assertEqual(len(flats), 3)
        for length in flats:
            self.assertAlmostEqual(length, 1.5 / 8, places=12)
        # Standing still inside the block it takes off the body its outline turns.
        exact = quad(lambda h: math.pi * outline(mill, h) ** 2, 0, 4.5, limit=400)[0]
        self.near(
            taken([(20, 15, 5), (20, 15, 5)], mill, cell=0.1, low=(12, 8, 0), high=(28, 22, 15)), exact, 2e-3
        )

    def test_shapes_without_meaning_are_refused(self):
        for make in (
            lambda: flat(-1, 10),
            lambda: ball_nose(10, 6),
            lambda: corner_radius(10, 6, 20),
            lambda: pointed(10, 200, 20),
            lambda: pointed(10, 90, 20, 12),
            lambda: tapered(4, 75, 10),
            lambda: face_mill(50, 5, 5),
            lambda: ground((0, 1), (1,)),
            lambda: ground((0, -1), (1, 1)),
            lambda: ground((0, 1), (float("nan"), 1)),
            lambda: lollipop(float("inf")),
        ):
            with self.assertRaises(BadInput) as caught:
                make()
            self.assertEqual(caught.exception.code, "tool.shape")
            self.assertTrue(caught.exception.mend)

    def test_drawn_outline_closes_on_the_axis(self):
        for profile in (flat(10, 30), ball_nose(8, 20), lollipop(6), tapered(4, 7, 20, ball=True)):
            points = drawn(profile)
            self.assertEqual((points[0][0], points[-1][0]), (0.0, 0.0))
            for r, h in points:
                self.assertLessEqual(r, outline(profile, h) + 1e-3 if r > 0 else 0.001)


class Moves(unittest.TestCase):
    """Helical arcs in all planes, and moves while a rotary axis turns."""

    def test_helical_bore_is_a_cylinder(self):
        ring, tool, bottom = 4.0, 3.0, 6.0
        helix = arc_points(
            np.array([24.0, 15, 21]), np.array([24.0, 15, bottom]), np.array([20.0, 15]), 2, 1, 5, 0.001
        )
        level = arc_points(
            np.array([24.0, 15, bottom]), np.array([24.0, 15, bottom]), np.array([20.0, 15]), 2, 1, 1, 0.001
        )
        exact = math.pi * (ring + tool) ** 2 * (20 - bottom) - math.pi * (ring - tool) ** 2 * (20 - bottom)
        self.assertAlmostEqual(taken([*helix, *level[1:]], flat(2 * tool, 40)) / exact, 1.0, delta=1.5e-3)

    def test_chords_stay_within_the_stated_error_in_every_plane(self):
        for axis in range(3):
            u, v = (axis + 1) % 3, (axis + 2) % 3
            start, end = np.zeros(3), np.zeros(3)
            start[u], end[v], end[axis] = 10.0, 10.0, 3.0
            for error in (0.1, 0.001):
                points = arc_points(start, end, np.zeros(2), axis, 1, 1, error)
                middles = (points[1:] + points[:-1]) / 2
                for each in (points, middles):
                    self.assertLess(np.abs(np.hypot(each[:, u], each[:, v]) - 10).max(), error)
                self.assertTrue(np.allclose(points[-1], end))
                self.assertTrue((np.diff(points[:, axis]) >= 0).all())

    def test_a_turned_groove_is_a_torus(self):
        # A ball tool pointing at the x axis, the round bar turned once under it.
        bar, radius, reach, cell = 12.0, 3.0, 11.0, 0.25
        grid = grid_around(np.array([-12.0, -12.5, -12.5]), np.array([12.0, 12.5, 12.5]), cell)
        before = field_of_profile(grid, flat(2 * bar, 20), np.array([-10.0, 0, 0]), np.array([1.0, 0, 0]))
        self.assertAlmostEqual(volume(surface(before)) / (math.pi * bar**2 * 20), 1.0, delta=1e-3)
        starts, ends, axes, owner = turned_moves(
            np.array([[0.0, 0, reach - radius], [0.0, 0, reach - radius]]),
            np.array([0.0, 360.0]),
            np.array([0.0, 0, 1]),
            np.zeros(3),
            np.array([1.0, 0, 0]),
            reach,
            0.002,
        )
        self.assertEqual(set(owner), {0})
        sweep = Sweep(starts, ends, np.zeros(len(starts), np.uint8), axes, ball_nose(2 * radius, 30))
        after, _ = cut(before, sweep, 5)
        # Pappus-like: ring of the circle's part below the bar's surface, by quadrature over the depth.
        # Above its centre the tool is a cylinder, as wide as the ball.
        exact = quad(
            lambda r: 4 * math.pi * r * math.sqrt(radius**2 - min(0.0, r - reach) ** 2),
            reach - radius,
            bar,
            points=[reach],
        )[0]
        removed = volume(surface(before)) - volume(surface(after))
        self.assertAlmostEqual(removed / exact, 1.0, delta=4e-3)

    def test_scallop_between_ball_passes(self):
        radius, step, cell = 3.0, 1.2, 0.04
        low, high = (0.0, 0, 0), (4.0, 3.0, 2.0)
        field = block(low, high, cell)
        for k in range(-1, 5):
            y = 0.31 + k * step
            field, _ = cut(field, along([(-9, y, 0.8), (13, y, 0.8)], ball_nose(2 * radius, 20)), 1)
        top = material_top(field, 2, 1)
        inner = top[10:-10, 10:-10]
        height = float(inner.max() - inner.min())
        exact = radius - math.sqrt(radius**2 - step**2 / 4)
        # The ray next to the ridge stands half a cell away at most, on a slope of step / (2 radius).
        self.assertAlmostEqual(height, exact, delta=cell / 2 * step / 2 / radius + 1e-3)


class TestPiece(unittest.TestCase):
    """Circle, diamond and square of the contouring test piece of ISO 10791-7 (proportions of the 160 mm
    piece, from memory).
    """

    def test_against_its_solid(self):
        side, diamond, circle, cell = 160.0, 110.0, 108.0, 0.5
        field = block((-85, -85, 0), (85, 85, 50), cell)
        half = diamond / math.sqrt(2)
        shapes = [
            (
                Polygon(
                    [
                        (-side / 2, -side / 2),
                        (side / 2, -side / 2),
                        (side / 2, side / 2),
                        (-side / 2, side / 2),
                    ]
                ),
                20.0,
            ),
            (Polygon([(half, 0), (0, half), (-half, 0), (0, -half)]), 30.0),
            (
                Polygon(
                    [
                        (circle / 2 * math.cos(a), circle / 2 * math.sin(a))
                        for a in np.linspace(0, 2 * math.pi, 721)
                    ]
                ),
                40.0,
            ),
        ]
        tool = flat(20, 60)
        for region, z in shapes:
            away = 10.0
            while True:
                ring = np.array(region.buffer(away, quad_segs=64).exterior.coords)
                field, _ = cut(field, along([(x, y, z) for x, y in ring], tool), 257)
                if Polygon(ring).contains(Polygon([(-96, -96), (96, -96), (96, 96), (-96, 96)])):
                    break
                away += 14.0
        rod = solids.cylinder((0, 0, 0), circle / 2, 50)
        lozenge = solids.prism([(half, 0), (0, half), (-half, 0), (0, -half)], 0, 40)
        reference = solids.plus(rod, lozenge, solids.box((-80, -80, 0), (80, 80, 30)))
        # Above: what each step leaves standing below it.
        reference = solids.plus(
            solids.box((-80, -80, 0), (80, 80, 30)),
            solids.prism([(half, 0), (0, half), (-half, 0), (0, -half)], 30, 40),
            solids.cylinder((0, 0, 40), circle / 2, 10),
        )
        base = solids.box((-85, -85, 0), (85, 85, 20))
        exact = solids.volume(solids.plus(reference, base))
        self.assertAlmostEqual(volume(surface(field)) / exact, 1.0, delta=2e-4)


LEANS = st.tuples(st.floats(-1, 1), st.floats(-1, 1), st.floats(-1, 1)).filter(lambda a: math.hypot(*a) > 0.2)
SPOTS = st.tuples(st.floats(2, 18), st.floats(2, 14), st.floats(2, 10))
TOOLS = st.sampled_from(
    [
        flat(4, 12),
        ball_nose(5, 12),
        corner_radius(5, 1.2, 12, 0.01),
        pointed(4, 118, 12),
        pointed(6, 90, 9, 1.5),
        tapered(2, 12, 9),
        tapered(2, 9, 9, ball=True),
        face_mill(6, 2, 45),
        slot_cutter(7, 1.5),
        lollipop(4),
        ground((0, 2, 2, 5, 7), (1, 2.5, 1.2, 1.2, 3)),
    ]
)


def clearance(profile: Profile, points: np.ndarray) -> np.ndarray:
    """How deep points in the tool's frame lie inside a profile, by (r, h) alone; negative outside.
    Approximate near steps.
    """
    r, h = np.hypot(points[..., 0], points[..., 1]), points[..., 2]
    best = np.full(r.shape, -np.inf)
    if profile.ball:
        best = profile.ball[1] - np.hypot(r, h - profile.ball[0])
    for h0, r0, h1, r1 in zip(
        profile.heights, profile.radii, profile.heights[1:], profile.radii[1:], strict=False
    ):
        if h1 > h0:
            lean = math.hypot(h1 - h0, r1 - r0)
            flank = (r0 + (r1 - r0) * (h - h0) / (h1 - h0) - r) * (h1 - h0) / lean
            best = np.maximum(best, np.minimum(flank, np.minimum(h - h0, h1 - h)))
    return best


class BruteForce(unittest.TestCase):
    """Random tools, directions and moves against sampling of the swept solid."""

    @settings(max_examples=60, deadline=None)
    @given(TOOLS, LEANS, SPOTS, SPOTS)
    def test_no_ray_is_off(self, tool, lean, first, second):
        axis = np.array(lean) / np.linalg.norm(lean)
        a, b = np.array(first), np.array(second)
        after, _ = cut(block((0, 0, 0), (20, 16, 12), 1.0), along([a, b], tool, axis), 3)
        other = np.eye(3)[int(np.argmin(np.abs(axis)))]
        e1 = np.cross(other, axis) / np.linalg.norm(np.cross(other, axis))
        frame = np.array([e1, np.cross(axis, e1), axis])
        steps = 300
        tips = a + np.linspace(0, 1, steps)[:, None] * (b - a)
        slack = 1e-3 + np.linalg.norm(b - a) / steps
        for bundle in after.bundles:
            d, u, v = bundle.axis, (bundle.axis + 1) % 3, (bundle.axis + 2) % 3
            for row in range(1, bundle.count.shape[0] - 1, 4):
                for column in range(1, bundle.count.shape[1] - 1, 3):
                    place = np.zeros(3)
                    place[u], place[v] = after.grid.nodes(u)[column], after.grid.nodes(v)[row]
                    ends = bundle.position[row, column, : 2 * bundle.count[row, column]]
                    self.assertTrue((np.diff(ends) > 0).all())
                    where = np.repeat(place[None], 40, axis=0)
                    where[:, d] = np.linspace(0.05, (20, 16, 12)[d] - 0.05, 40)
                    depth = clearance(tool, (where[:, None] - tips) @ frame.T).max(axis=1)
                    stands = ((where[:, d, None] > ends[::2]) & (where[:, d, None] < ends[1::2])).any(axis=1)
                    near = (
                        (np.abs(where[:, d, None] - ends) < 1e-3).any(axis=1)
                        if len(ends)
                        else np.zeros(40, bool)
                    )
                    self.assertFalse(
                        (stands & ~near & (depth > slack)).any(), "material left inside the sweep"
                    )
                    self.assertFalse(
                        (~stands & ~near & (depth < -slack)).any(), "material lost outside the sweep"
                    )

    @settings(max_examples=30, deadline=None)
    @given(TOOLS, LEANS, st.lists(SPOTS, min_size=3, max_size=8))
    @example(flat(2, 12), (1.0, 1.6e-10, 0.0), [(2.0, 2.0, 2.0), (2.0, 2.0, 2.0), (4.0, 2.0, 2.0)])
    def test_three_bundles_agree(self, tool, lean, spots):
        axis = np.array(lean) / np.linalg.norm(lean)
        after, _ = cut(block((0, 0, 0), (20, 16, 12), 0.5), along(spots, tool, axis), 3)
        seen = bundle_volumes(after)
        # Each bundle is off by no more than an eighth of a cell over the cut surface holds; but a plane wall
        # along the grid stands anywhere between two rays that run beside it: half a cell, all of it to one
        # side.
        mesh = surface(after)
        made = mesh.vertices[mesh.triangles[mesh.label == 3]]
        across = np.cross(made[:, 1] - made[:, 0], made[:, 2] - made[:, 0]) / 2
        areas = np.linalg.norm(across, axis=1)
        along_the_grid = areas[np.abs(across).max(axis=1) > 0.999 * areas].sum()
        self.assertLess(max(seen) - min(seen), 0.5 / 8 * areas.sum() + 0.5 / 2 * along_the_grid + 2.0)

    def test_what_bundles_differ_by_goes_with_the_cell(self):
        """The case with the widest gap a search of 1,500 found (a flat end lying in a grid plane): the rays'
        distance, not the engine.
        """
        spots = [
            (5.5405, 8.5218, 5.0),
            (11.0, 13.8782, 6.5619),
            (11.4327, 13.5646, 2.4088),
            (11.7158, 3.7701, 7.3214),
            (11.0, 13.249, 7.3654),
            (8.0, 14.0, 4.5290),
            (10.4159, 13.2377, 3.8560),
        ]
        gaps = []
        for cell in (0.5, 0.25, 0.125):
            after, _ = cut(
                block((0, 0, 0), (20, 16, 12), cell),
                along(spots, corner_radius(5, 1.2, 12, 0.01), np.array([-1.0, 0, 0])),
                3,
            )
            seen = bundle_volumes(after)
            gaps.append(max(seen) - min(seen))
        self.assertLess(gaps[1], 0.75 * gaps[0])
        self.assertLess(gaps[2], 0.35 * gaps[0])


class Carries(unittest.TestCase):
    def test_a_hundred_carries_with_a_flip_each(self):
        turn = np.diag([1.0, -1.0, -1.0])
        turned = straight = block((0, 0, 0), (40, 30, 20), 1.0)
        facing = np.eye(3)
        rng = np.random.default_rng(11)
        for i in range(100):
            points = np.array([rng.uniform([2, 2, 2], [38, 28, 18]) for _ in range(2)])
            tool = (flat(5, 40), ball_nose(4, 40), pointed(6, 118, 40))[i % 3]
            straight, _ = cut(straight, along(points, tool, facing.T @ UP), i + 1)
            # As the machine sees it: the work turned over once more, the program written in its frame.
            there = points @ facing.T
            turned, _ = cut(turned, along(there @ facing, tool, facing.T @ UP), i + 1)
            facing = turn @ facing
        self.assertTrue(same_field(turned, straight))
        self.assertLess(volume(surface(turned)), 40 * 30 * 20 - 1000)


class AnyMoment(unittest.TestCase):
    """Any moment of an operation comes back."""

    def setUp(self):
        rng = np.random.default_rng(5)
        self.points = np.array([rng.uniform([0, 0, 6], [40, 30, 19]) for _ in range(300)])
        self.sweep = along(self.points, flat(6, 40))
        self.start = block((0, 0, 0), (40, 30, 20), 0.5)
        recorder = Recorder()
        with mock.patch("pelvrak.core.stock.cut.BATCH_RAYS", 40_000):
            self.after, _ = cut(self.start, self.sweep, 9, record=recorder)
        self.moments = Moments(self.sweep, np.arange(1, 300) * 0.5, 9, tuple(recorder.kept))

    def test_checkpoints_give_the_same_field(self):
        self.assertGreater(len(self.moments.checkpoints), 2)
        kept = moments_loaded(moments_saved(self.moments))
        self.assertTrue(same_field(stock_at(self.start, kept, len(self.sweep.what)), self.after))
        for moves in (0, 1, 57, 150, 298):
            exact, _ = cut(self.start, self.sweep.part(slice(0, moves)), 9)
            seen = stock_at(self.start, kept, moves)
            for one, two in zip(bundle_volumes(seen), bundle_volumes(exact), strict=True):
                self.assertAlmostEqual(one, two, delta=0.01)
        self.assertTrue(same_field(stock_at(self.start, kept, 0), self.start))

    def test_between_two_moves_the_last_is_cut_in_part(self):
        self.assertEqual(move_at(self.moments, 5.25), 10.5)
        self.assertEqual(move_at(self.moments, 1e9), 299)
        self.assertTrue(np.allclose(tip_at(self.moments, 10.5), (self.points[10] + self.points[11]) / 2))
        seen = bundle_volumes(stock_at(self.start, self.moments, 10.5))[2]
        before, after = (
            bundle_volumes(cut(self.start, self.sweep.part(slice(0, n)), 9)[0])[2] for n in (10, 11)
        )
        self.assertLess(after, seen)
        self.assertLess(seen, before)


class WhatMovesDid(unittest.TestCase):
    """Load and trouble, move by move."""

    def setUp(self):
        self.field = block((0, 0, 0), (40, 30, 20), 0.25)

    def test_engagement_of_a_straight_cut(self):
        # Half the tool in the wall, 5 deep: width 5 (half of 10), depth 5, volume 5 × 5 × travel.
        points = [(-10.0, 0.0, 15.0), (10.0, 0.0, 15.0), (20.0, 0.0, 15.0)]
        _, hits = cut(self.field, along(points, flat(10, 30)), 1)
        self.assertAlmostEqual(hits.depth[1], 5.0, places=4)
        self.assertAlmostEqual(hits.width[1], 5.0, delta=0.25)
        self.assertAlmostEqual(hits.removed[1] / 250.0, 1.0, delta=0.02)
        after, _ = cut(self.field, along(points, flat(10, 30)), 1)
        self.assertAlmostEqual(hits.removed.sum() / (24000 - volume(surface(after))), 1.0, delta=5e-3)

    def test_spindle_stopped(self):
        sweep = Sweep(
            np.array([[-9.0, 15, 17]]),
            np.array([[30.0, 15, 17]]),
            np.array([STOPPED], np.uint8),
            UP,
            flat(6, 30),
        )
        after, hits = cut(self.field, sweep, 1)
        self.assertAlmostEqual(hits.rapid[0], 3.0, places=4)
        self.assertTrue(same_field(after, self.field))

    def test_plunge_where_the_tool_cannot_cut(self):
        down = along([(20, 15, 30), (20, 15, 17)], flat(10, 30))
        hits = cut(self.field, Sweep(down.starts, down.ends, down.what, UP, down.cutter, (), 3.0), 1)[1]
        self.assertAlmostEqual(hits.core[0], 3.0, places=4)
        ramp = along([(10, 15, 20), (35, 15, 19)], flat(10, 30))
        hits = cut(self.field, Sweep(ramp.starts, ramp.ends, ramp.what, UP, ramp.cutter, (), 3.0), 1)[1]
        self.assertEqual(hits.core[0], 0.0)

    def test_shank_going_up_is_tested_before_the_cut(self):
        # Rising through a slab with short flutes: the shank is there before the flutes are.
        shank = Profile((4.0, 40.0), (5.0, 5.0))
        into, _ = cut(self.field, along([(0, 15, 2), (8, 15, 2)], flat(10, 30)), 1)
        hits = cut(into, along([(8, 15, 2), (14, 15, 5)], flat(10, 4), bodies=(shank,)), 1)[1]
        self.assertGreater(hits.bodies[0, 0], 10.0)

    def test_spindle_and_holder_in_holding(self):
        nose = Profile((30.0, 60.0), (20.0, 20.0))
        hits = test(self.field, along([(20, 60, 5), (20, 45, 5)], flat(6, 10), bodies=(nose,)))
        self.assertEqual(hits.bodies[0, 0], 0.0)  # 35 mm up, above a block of 20
        hits = test(self.field, along([(20, 60, -15), (20, 45, -15)], flat(6, 10), bodies=(nose,)))
        self.assertAlmostEqual(hits.bodies[0, 0], 5.0, places=4)

    def test_at_an_angle_the_holder_is_found_too(self):
        lean = np.array([math.sin(math.radians(35)), 0, math.cos(math.radians(35))])
        holder = Profile((10.0, 40.0), (15.0, 15.0))
        _, hits = cut(self.field, along([(20, 15, 19), (20, 20, 19)], flat(4, 10), lean, (holder,)), 1)
        self.assertGreater(hits.bodies[0, 0], 0.1)
        _, hits = cut(self.field, along([(20, 15, 30), (20, 20, 30)], flat(4, 10), lean, (holder,)), 1)
        self.assertEqual(hits.bodies[0, 0], 0.0)

    def test_rapids_between_cuts_see_the_stock_as_it_stands(self):
        slot = [(-10, 15, 12), (50, 15, 12)]
        starts = np.array([slot[1], slot[0], slot[1]], float)
        ends = np.array([slot[0], slot[1], slot[0]], float)
        sweep = Sweep(starts, ends, np.array([RAPID, CUT, RAPID], np.uint8), UP, flat(8, 30))
        _, hits = cut(self.field, sweep, 1)
        self.assertAlmostEqual(hits.rapid[0], 8.0, places=4)
        self.assertEqual(hits.rapid[2], 0.0)


class Sizes(unittest.TestCase):
    def test_cell_from_error(self):
        # A chord from corner to corner of a cell on a wall of radius r: its sagitta, by Pythagoras.
        for cell, radius in ((0.5, 1.0), (0.2, 6.0)):
            half = cell * math.sqrt(3) / 2
            sagitta = radius - math.sqrt(radius**2 - half**2)
            self.assertAlmostEqual(error_of(cell, radius), sagitta, delta=0.1 * sagitta)
            self.assertAlmostEqual(cell_for(error_of(cell, radius), radius), cell, places=12)
        with self.assertRaises(BadInput):
            cell_for(0.0)

    def test_refusal_names_the_cell_that_fits(self):
        with self.assertRaises(BadInput) as caught:
            grid_around(np.zeros(3), np.array([3000.0, 2500, 2000]), 0.1)
        fits = float(caught.exception.mend.split()[1])
        grid_around(np.zeros(3), np.array([3000.0, 2500, 2000]), fits)


if __name__ == "__main__":
    unittest.main()
