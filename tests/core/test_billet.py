"""Billets of every kind against closed forms, the shelf, outlines from DXF, castings."""

from __future__ import annotations

import io
import math
import unittest

import ezdxf
import numpy as np
import trimesh
from scipy.spatial.transform import Rotation

from pelvrak.core.billet.block import Block, ByCorners, block_of
from pelvrak.core.billet.casting import best_place
from pelvrak.core.billet.forms import Bar, Extrusion, KeptStock, Model, circle_round, placed, raw_of
from pelvrak.core.billet.shelf import Bought, from_csv, picks, standard_sizes, starting_shelf, to_csv
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, to_stl, volume
from pelvrak.core.geometry.outline import looks_like_dxf, read_outline
from pelvrak.core.geometry.part_file import read_part
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import PartFile, Plan, Setup, plan_from
from pelvrak.core.stock.field import bundle_volumes, grid_around, same_field, saved
from pelvrak.core.stock.surface import surface
from tests import solids

PART = model_of_solid(solids.box((0, 0, 0), (60, 40, 20)), "", "MM")


def nothing(sha256, name):
    raise AssertionError("no file was to be asked for")


def made(billet, data: bytes = b"", cell: float = 0.5):
    raw = raw_of(billet, PART, lambda sha256, name: data, lambda data, name: read_part(data, name).mesh)
    grid = grid_around(raw.low, raw.high, cell)
    return raw, raw.field(grid)


def volume_of(field) -> float:
    return float(np.mean(bundle_volumes(field)))


def drawing(draw, units: int = 4) -> bytes:
    document = ezdxf.new(units=units)
    draw(document.modelspace())
    out = io.StringIO()
    document.write(out)
    return out.getvalue().encode()


def refused(test: unittest.TestCase, code: str, call, *args) -> BadInput:
    with test.assertRaises(BadInput) as caught:
        call(*args)
    test.assertEqual(caught.exception.code, code)
    test.assertTrue(caught.exception.mend)
    return caught.exception


class Kinds(unittest.TestCase):
    def test_corners(self):
        sizing = ByCorners(low=(-1, -2, -3), high=(61, 42, 23))
        self.assertEqual(block_of(Block(sizing=sizing), PART.part), ((-1, -2, -3), (61, 42, 23)))
        with self.assertRaises(ValueError):
            ByCorners(low=(0, 0, 0), high=(10, 0, 10))

    def test_bar_covers_the_part_and_has_the_volume_of_a_cylinder(self):
        raw, field = made(Bar(axis="x", allowance=1.5, minus=3, plus=2))
        diameter = math.hypot(40, 20) + 3
        self.assertTrue(np.allclose(raw.high - raw.low, [65, diameter, diameter]))
        self.assertAlmostEqual(volume_of(field) / (math.pi / 4 * diameter**2 * 65), 1.0, delta=0.002)

    def test_tube(self):
        _, field = made(Bar(axis="z", diameter=90, bore=30, minus=0, plus=5))
        self.assertAlmostEqual(volume_of(field) / (math.pi / 4 * (90**2 - 30**2) * 25), 1.0, delta=0.002)

    def test_smallest_circle_is_not_round_the_box(self):
        # A triangle's smallest circle is smaller than that of its box.
        wedge = model_of_solid(solids.prism([(0, 0), (60, 0), (30, 20)], 0, 10), "", "MM")
        x, y, diameter = circle_round(wedge, "z")
        self.assertAlmostEqual(diameter, 60.0, places=3)
        self.assertTrue(np.allclose([x, y], [30, 0], atol=1e-2))

    def test_profile_from_dxf(self):
        def draw(space):
            space.add_lwpolyline([(0, 0), (70, 0), (70, 50), (0, 50)], close=True)
            space.add_circle((35, 25), 8)

        raw, field = made(Extrusion(file="a.dxf", axis="z", minus=4, plus=1), drawing(draw))
        self.assertTrue(np.allclose([raw.low, raw.high], [[-5, -5, -4], [65, 45, 21]]))
        self.assertAlmostEqual(volume_of(field) / ((70 * 50 - math.pi * 64) * 25), 1.0, delta=0.001)
        raw, _ = made(Extrusion(file="a.dxf", axis="x", place="drawn"), drawing(draw))
        self.assertTrue(np.allclose(raw.low[1:], [0, 0]))

    def test_model_turned_and_moved(self):
        data = to_stl(model_of_solid(solids.box((0, 0, 0), (10, 20, 30)), "", "MM").mesh, "x")
        raw, field = made(Model(file="c.stl", turn=(0, 0, 90), move=(5, 0, 0)), data)
        self.assertTrue(np.allclose([raw.low, raw.high], [[-15, 0, 0], [5, 10, 30]], atol=1e-4))
        self.assertAlmostEqual(volume_of(field), 6000, delta=1)

    def test_saved_stock_comes_back_bit_for_bit(self):
        _, bar = made(Bar(axis="z", diameter=80))
        data = saved(bar)
        raw, again = made(KeptStock(file="op10.rays"), data)
        self.assertTrue(same_field(again, bar))
        _, finer = made(KeptStock(file="op10.rays"), data, 0.4)
        self.assertAlmostEqual(bundle_volumes(finer)[2] / bundle_volumes(bar)[2], 1.0, delta=0.001)
        refused(self, "billet.not_stock", made, KeptStock(file="x.rays"), b"\x28\xb5\x2f\xfd junk")

    def test_drawn_before_it_is_computed(self):
        """The surface that is drawn at once has the box and the volume of the rays that come after it."""

        def draw(space):
            space.add_lwpolyline([(0, 0), (70, 0), (70, 50), (30, 50), (0, 20)], close=True)

        for billet, data in (
            (Block(), b""),
            (Bar(axis="x", diameter=90, bore=30, shift=(3, -2)), b""),
            (Bar(axis="y", allowance=1.0), b""),
            (Extrusion(file="a.dxf", axis="y", place="drawn"), drawing(draw)),
            (Model(file="c.stl", turn=(0, 0, 90), move=(5, 0, 0)), to_stl(PART.mesh, "x")),
        ):
            with self.subTest(billet=billet):
                raw, field = made(billet, data)
                shape = raw.surface()
                self.assertAlmostEqual(volume(shape) / volume_of(field), 1.0, delta=0.003)
                # Facets of a bar stand a little inside its circle.
                np.testing.assert_allclose(shape.vertices.min(axis=0), raw.low, atol=0.05)
                np.testing.assert_allclose(shape.vertices.max(axis=0), raw.high, atol=0.05)
                self.assertTrue(trimesh.Trimesh(shape.vertices, shape.triangles).is_watertight)

    def test_refused(self):
        refused(self, "billet.no_length", made, Bar(minus=-15, plus=-15))
        refused(self, "billet.no_wall", made, Bar(diameter=80, bore=80))

    def test_a_billet_that_cannot_be_is_a_finding_of_the_billet(self):
        data = solids.step_bytes(solids.box((0, 0, 0), (60, 40, 20)))
        for billet, code in (
            (Bar(diameter=80, bore=80), "billet.no_wall"),
            (Model(file="gone.stl"), "billet.no_file"),
        ):
            plan = Plan(
                name="x",
                part=PartFile(file="a.step"),
                billet=billet,
                setups=(Setup(name="OP10"),),
                resolution_mm=2,
            )
            report = evaluate(plan, data, MemoryStore())
            self.assertEqual([f.code for f in report.billet.findings], [code])
            self.assertEqual([f.code for f in report.setups[0].findings], ["stock.none"])

    def test_plans_of_the_first_form_still_open(self):
        old = {
            "name": "x",
            "part": {"file": "a.step"},
            "billet": {"material": "C45", "sizing": {"rule": "size", "size": [70, 50, 30]}},
        }
        self.assertEqual(plan_from(old).billet.kind, "block")
        self.assertEqual(plan_from({**old, "billet": {"kind": "bar", "bore": 10}}).billet.bore, 10)
        refused(self, "plan.invalid", plan_from, {**old, "billet": {"kind": "sphere"}})
        self.assertEqual(Plan.model_validate(plan_from(old).model_dump(mode="json")), plan_from(old))


class Outlines(unittest.TestCase):
    def test_loose_lines_and_arcs_close_to_a_stadium(self):
        def draw(space):
            space.add_line((0, 0), (40, 0))
            space.add_arc((40, 10), 10, -90, 90)
            space.add_line((40, 20), (0, 20))
            space.add_arc((0, 10), 10, 90, 270)

        data = drawing(draw)
        self.assertTrue(looks_like_dxf(data))
        self.assertAlmostEqual(read_outline(data, "a.dxf").region.area, 40 * 20 + math.pi * 100, delta=0.1)

    def test_inch_drawing(self):
        data = drawing(
            lambda space: space.add_lwpolyline([(0, 0), (2, 0), (2, 1), (0, 1)], close=True), units=1
        )
        outline = read_outline(data, "a.dxf")
        self.assertAlmostEqual(outline.region.area, 2 * 25.4**2, places=6)
        self.assertIn("n", outline.unit)

    def test_island_in_a_hole(self):
        def draw(space):
            for radius in (30, 20, 10):
                space.add_circle((0, 0), radius)

        self.assertAlmostEqual(
            read_outline(drawing(draw), "a.dxf").region.area, math.pi * (900 - 400 + 100), delta=1.0
        )

    def test_ellipse_and_spline(self):
        data = drawing(lambda space: space.add_ellipse((0, 0), (30, 0), 0.5))
        self.assertAlmostEqual(read_outline(data, "a.dxf").region.area / (math.pi * 30 * 15), 1.0, delta=1e-3)

    def test_refused(self):
        gap = drawing(lambda space: (space.add_line((0, 0), (40, 0)), space.add_line((40, 0), (40, 20))))
        self.assertIn("(0.00, 0.00)", refused(self, "outline.open", read_outline, gap, "a.dxf").what)
        refused(self, "outline.empty", read_outline, drawing(lambda space: None), "a.dxf")
        refused(self, "outline.unreadable", read_outline, b"0\nSECTION\n2\nENTITIES\n0\nLINE\nxx", "a.dxf")
        refused(self, "outline.unreadable", read_outline, b"AutoCAD Binary DXF\r\n\x1a\x00", "a.dxf")


class Shelf(unittest.TestCase):
    def flat(self, width, height, **more) -> Bought:
        return Bought(
            form="flat",
            material="C45",
            width_mm=width,
            height_mm=height,
            length_mm=3000,
            price_per_kg=2,
            **more,
        )

    def test_least_volume_first_in_all_orientations(self):
        # 64 × 44 × 24 needed. 50 × 25 along x: 50·25·64 = 80,000; 65 × 30 along y: 65·30·44 = 85,800;
        # 65 × 45 along z: 65·45·24 = 70,200.
        rows = [self.flat(50, 25), self.flat(65, 30), self.flat(65, 45)]
        found = picks(PART, "C45", 7.85, (2.0,) * 6, rows)
        self.assertEqual(found.needed, (64.0, 44.0, 24.0))
        self.assertEqual(
            [(p.bought.size, p.along, round(p.volume_mm3)) for p in found.from_shelf][:3],
            [("65 × 45", "z", 70200), ("50 × 25", "x", 80000), ("65 × 30", "y", 85800)],
        )
        best = found.from_shelf[0]
        self.assertAlmostEqual(best.waste_mm3, 70200 - 64 * 44 * 24, places=3)
        self.assertAlmostEqual(best.mass_kg, 70200e-6 * 7.85, places=4)
        self.assertAlmostEqual(best.cost, 2 * best.mass_kg, places=3)
        self.assertIsNone(found.order)
        # What it proposes does cover the part, by as much as was asked on every side.
        low, high = block_of(best.billet, PART.part)
        self.assertTrue(
            (np.array(low) <= -2 + 1e-9).all() and (np.array(high) >= np.array([62, 42, 22]) - 1e-9).all()
        )

    def test_round_bar(self):
        bar = Bought(form="round", material="C45", diameter_mm=80, length_mm=1000)
        (one,) = picks(PART, "C45", 7.85, (2.0,) * 6, [bar]).from_shelf[:1]
        self.assertIn(one.along, ("x", "z"))
        raw = raw_of(one.billet, PART, nothing, nothing)
        self.assertTrue((raw.low <= -1e-9).sum() >= 1)
        self.assertEqual(
            picks(PART, "C45", 7.85, (2.0,) * 6, [bar.model_copy(update={"diameter_mm": 30.0})]).from_shelf,
            (),
        )

    def test_none_fits_says_what_to_order(self):
        found = picks(PART, "C45", 7.85, (2.0,) * 6, [self.flat(20, 10), self.flat(65, 45, count=0)])
        self.assertEqual(found.from_shelf, ())
        self.assertIsNotNone(found.order)
        self.assertFalse(found.order.in_stock)
        self.assertIn(found.order.bought.size, {row.size for row in standard_sizes()})

    def test_csv_there_and_back(self):
        rows = [
            *starting_shelf(),
            Bought(form="round", material="Brass, hard", diameter_mm=12.7, length_mm=2000, price_per_kg=9.5),
        ]
        self.assertEqual(from_csv(to_csv(rows)), rows)
        self.assertEqual(from_csv(to_csv(rows[:3]).replace(",", ";")), rows[:3])

    def test_csv_refused_by_line_and_column(self):
        text = to_csv(starting_shelf()[:3])
        wrong = text.replace("3000.0", "long", 1)
        bad = refused(self, "shelf.row", from_csv, wrong, "s.csv")
        self.assertEqual(bad.where, "s.csv line 2")
        self.assertIn("length_mm", bad.what)
        refused(self, "shelf.columns", from_csv, "a,b\n1,2\n", "s.csv")
        refused(self, "shelf.empty", from_csv, text.splitlines()[0] + "\n", "s.csv")
        half = "form,material,length_mm,diameter_mm\nround,C45,1000,\n"
        self.assertIn("diameter_mm", refused(self, "shelf.row", from_csv, half, "s.csv").what)


class Castings(unittest.TestCase):
    """A casting with 2 mm all round, put down crooked, is laid so that the cover is even again."""

    def test_best_place_finds_the_even_cover(self):
        exact = solids.box((-2, -2, -2), (62, 42, 22))
        rough = model_of_solid(exact, "", "MM").mesh
        off = Rotation.from_euler("xyz", (2, -1.5, 3), degrees=True)
        crooked = Mesh(off.apply(rough.vertices) + [1.2, -0.8, 0.9], rough.triangles, rough.label)
        found = best_place(PART, crooked, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
        self.assertGreater(found.cover, 1.9)
        lying = placed(crooked, Model(file="x", turn=found.turn, move=found.move))
        self.assertTrue(np.allclose(lying.vertices.min(axis=0), [-2, -2, -2], atol=0.15))

    def test_a_face_that_needs_more_gets_it(self):
        """A casting with 4 mm to spare in height, the top to have three times what the bottom has: 3 and 1,
        by hand and by every place on a grid of a quarter millimetre.
        """
        exact = model_of_solid(solids.box((-2, -2, -2), (62, 42, 22)), "", "MM").mesh
        top = next(f.number for f in PART.part.faces if f.normal == (0.0, 0.0, 1.0))
        found = best_place(PART, exact, (0.0,) * 3, (0.0,) * 3, (), {top: 3.0})
        steps = np.arange(-2, 2.01, 0.25)
        x, y, z = np.meshgrid(steps, steps, steps, indexing="ij")
        least = np.minimum.reduce([2 - np.abs(x), 2 - np.abs(y), 2 - z, (2 + z) / 3])
        at = np.unravel_index(int(np.argmax(least)), least.shape)
        self.assertEqual((float(least[at]), float(z[at])), (1.0, 1.0))
        self.assertAlmostEqual(found.move[2], 1.0, delta=0.1)
        self.assertAlmostEqual(found.cover, 1.0, delta=0.1)
        even = best_place(PART, exact, (0.0,) * 3, (0.0,) * 3)
        self.assertAlmostEqual(even.move[2], 0.0, delta=0.1)

    def test_rough_faces_come_to_lie_on_their_own(self):
        """A casting 64 × 44 × 23 whose underside stays: against every place on a grid of a quarter
        millimetre, by closed form.
        """
        exact = model_of_solid(solids.box((-2, -2, 0), (62, 42, 23)), "", "MM").mesh
        off = Mesh(exact.vertices + [1.5, -1.0, 0.7], exact.triangles, exact.label)
        under = next(f.number for f in PART.part.faces if f.normal == (0.0, 0.0, -1.0))
        found = best_place(PART, off, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), [under])
        steps = np.arange(-3, 3.01, 0.25)
        x, y, z = np.meshgrid(steps, steps, steps, indexing="ij")
        cover = np.minimum.reduce([2 - np.abs(x), 2 - np.abs(y), 3 + z])
        best = float((cover - 10 * np.abs(z)).max())
        self.assertLess(found.datums_off, 0.05)
        self.assertEqual(best, 2.0)
        self.assertGreater(found.cover - 10 * found.datums_off, best - 0.2)
        self.assertAlmostEqual(found.move[2], -0.7, delta=0.05)
        refused(
            self,
            "billet.nothing_to_cut",
            best_place,
            PART,
            off,
            (0.0,) * 3,
            (0.0,) * 3,
            [face.number for face in PART.part.faces],
        )

    def test_too_small_a_casting_is_refused_or_its_lack_is_told(self):
        small = trimesh.creation.box((50, 30, 10))
        tiny = Mesh(np.array(small.vertices), np.array(small.faces, np.int64), np.zeros(12, np.int64))
        refused(self, "billet.less_than_part", best_place, PART, tiny, (0.0,) * 3, (0.0,) * 3)
        flat = model_of_solid(solids.box((-10, -10, 1), (70, 50, 20)), "", "MM").mesh
        found = best_place(PART, flat, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
        # 19 mm of casting cannot cover 20 mm of part: half a millimetre lacks on both sides at best.
        self.assertLess(found.cover, -0.4)
        self.assertGreater(found.cover, -0.7)

    def test_field_of_a_model_has_its_volume(self):
        mesh = surface(made(Bar(axis="z", diameter=80))[1])
        self.assertGreater(len(mesh.triangles), 0)
