"""Engraving: letters against a second reading of the font, grooves by closed form, areas by shapely, gaps and
what cannot be.
"""

from __future__ import annotations

import io
import math
import unittest

import ezdxf.filemanagement
import numpy as np
import shapely
from matplotlib.font_manager import FontProperties, get_font_names
from matplotlib.textpath import TextPath
from pydantic import ValidationError
from shapely import LineString, Polygon

from pelvrak.core.cutting.lettering import letters
from pelvrak.core.cutting.operations import Engraving
from pelvrak.core.cutting.tools import Tool, tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.outline import read_lines
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh
from tests import solids
from tests.core import test_wrapped
from tests.core.planning_bench import enclosed, model, run

PLATE = model(solids.box((0, 0, 0), (60, 30, 10)))
TOP = ref_to(next(face for face in PLATE.part.faces if face.normal and face.normal[2] > 0.9))
V60 = Tool.model_validate(
    {**tool_shelf()["ch10"].model_dump(), "id": "v", "name": "V 60°", "DC": 6.0, "SIG": 60.0, "LCF": 5.0}
)
FLAT = {name: tool_shelf()[name] for name in ("em1", "em2", "em3")}


def engraving(**told):
    return Engraving(**{"id": "e", "name": "text", "tool": "v", "faces": (TOP,), **told})


def cut(operation, tool, cell=0.15, part=PLATE, high=0.0):
    """What is planned and cut, and the volume taken. high: that the stock stands over the part, mm."""
    block = model(solids.box((0, 0, 0), (60, 30, 10 + high))).mesh if high else part.mesh
    field = field_of_mesh(grid_around(block.vertices.min(0), block.vertices.max(0), cell), block)
    done = run(part, field, operation, tool)
    return done, enclosed(field) - done.volume


def codes(done):
    return [one.code for one in done.job.findings if one.code != "cut.finer_than_rays"]


def drawing(draw) -> bytes:
    document = ezdxf.filemanagement.new("R2010", setup=False)
    document.units = 4
    draw(document.modelspace())
    text = io.StringIO()
    document.write(text)
    return text.getvalue().encode()


class Letters(unittest.TestCase):
    def test_outlines_are_those_of_another_reader_of_the_font(self):
        """matplotlib's own reader (FreeType) of the same file: area and box of every letter."""
        self.assertIn("DejaVu Sans", get_font_names())
        font = FontProperties(family="DejaVu Sans")
        for said in "ABR8&eäØ":
            (ours,) = letters(said, 10.0, 0.0, True, "here")
            path = TextPath((0, 0), said, size=1000, prop=font)
            high = TextPath((0, 0), "H", size=1000, prop=font).get_extents().height
            theirs = shapely.Polygon()
            for ring in path.to_polygons(closed_only=True):
                theirs = theirs.symmetric_difference(Polygon(np.array(ring) * 10 / high).buffer(0))
            self.assertLess(ours.shape.symmetric_difference(theirs).area, 0.003 * theirs.area, said)

    def test_strokes_are_as_high_as_told_and_stand_on_their_line(self):
        found = letters("HI\nE", 7.0, 1.5, False, "here")
        self.assertEqual([one.said for one in found], ["H", "I", "E"])
        points = [np.concatenate(one.strokes) for one in found]
        for own, low in zip(points, (0.0, 0.0, -1.6 * 7), strict=True):
            self.assertAlmostEqual(own[:, 1].min(), low, places=9)
            self.assertAlmostEqual(np.ptp(own[:, 1]), 7.0, places=9)
        # H of Hershey's simplex roman is 22 units wide at 21 high, its stems 14 apart.
        self.assertAlmostEqual(np.ptp(points[0][:, 0]), 14 / 3, places=9)
        self.assertAlmostEqual(points[1][0, 0], 22 / 3 + 1.5 + 4 / 3, places=9)

    def test_a_letter_that_is_not_there_is_named(self):
        for outlined, said in ((False, "ä"), (True, "字")):
            with self.assertRaises(BadInput) as refused:
                letters(f"A{said}", 5.0, 0.0, outlined, "text")
            self.assertEqual(refused.exception.code, "cut.no_letter")
            self.assertIn(repr(said), refused.exception.what)


class Middle(unittest.TestCase):
    def test_a_line_by_a_pointed_cutter_is_a_groove_of_known_volume(self):
        """A groove of depth d by a point of angle s: d² tan(s/2) a length, and a cone in two halves."""
        line = ((-20.0, 0.0), (20.0, 0.0))
        done, taken = cut(engraving(text="", lines=(line,), depth=1.0), V60)
        slope = math.tan(math.radians(30))
        self.assertAlmostEqual(taken / (40 * slope + math.pi / 3 * slope**2), 1.0, delta=0.02)
        self.assertEqual(codes(done), [])
        # At rays every half millimetre a line 0.35 mm wide is told to be finer than they are.
        fine, _ = cut(engraving(text="", lines=(line,), depth=0.3), V60, 0.5)
        (told,) = fine.job.findings
        self.assertEqual((told.code, told.limit), ("cut.finer_than_rays", 1.0))
        self.assertAlmostEqual(told.measured, 0.6 * slope, places=3)
        feeds = [move for move in done.job.path.moves if move.kind != "rapid"]
        self.assertEqual(min(move.end[2] for move in feeds), 9.0)
        self.assertLess(done.hits.rapid.max(), 1e-6)

    def test_a_text_takes_what_its_strokes_widened_enclose(self):
        operation = engraving(text="E7", height=12.0, depth=0.5, turn_deg=90.0)
        done, taken = cut(operation, FLAT["em1"])
        strokes = [s for one in letters("E7", 12.0, 0.0, False, "t") for s in one.strokes]
        exact = shapely.union_all([LineString(stroke).buffer(0.5) for stroke in strokes]).area * 0.5
        self.assertAlmostEqual(taken / exact, 1.0, delta=0.02)
        xy = np.array([move.end[:2] for move in done.job.path.moves if move.kind == "line"])
        self.assertTrue(np.allclose((xy.min(0) + xy.max(0)) / 2, (30, 15), atol=1e-6))
        self.assertAlmostEqual(np.ptp(xy[:, 0]), 12.0, places=6)

    def test_it_stands_there_as_often_as_told(self):
        line = ((0.0, 0.0), (4.0, 0.0))
        operation = engraving(text="", lines=(line,), times=3, apart=(0.0, 5.0), at=(0.0, -5.0), depth=0.2)
        done, _ = cut(operation, V60, 0.4)
        down = sorted({round(move.end[1], 6) for move in done.job.path.moves if move.kind == "line"})
        self.assertEqual(down, [10.0, 15.0, 20.0])

    def test_letters_that_run_into_each_other_and_the_height_that_keeps_them_apart(self):
        done, _ = cut(engraving(text="HH", height=3.0, depth=0.3), FLAT["em2"], 0.4)
        (told,) = [one for one in done.job.findings if one.code == "cut.letters_meet"]
        # From stem to stem of two H it is 8 units of 21.
        self.assertAlmostEqual(told.limit, 3.0 * 8 / 21, places=3)
        self.assertEqual(told.measured, 2.0)
        self.assertIn("letters 5.3 mm high, or a cut 1.14 mm wide", told.sentence)
        done, _ = cut(engraving(text="HH", height=5.3, depth=0.3), FLAT["em2"], 0.4)
        self.assertNotIn("cut.letters_meet", codes(done))

    def test_the_inside_of_a_letter_that_is_cut_away(self):
        done, _ = cut(engraving(text="o", height=3.0, depth=0.3), FLAT["em2"], 0.4)
        self.assertEqual(codes(done), ["cut.letter_closes"])
        done, _ = cut(engraving(text="o", height=6.0, depth=0.3), FLAT["em2"], 0.4)
        self.assertEqual(codes(done), [])

    def test_text_wider_than_its_face_and_the_height_that_fits(self):
        done, _ = cut(engraving(text="FAR TOO WIDE", height=10.0), V60, 0.5)
        (told,) = [one for one in done.job.findings if one.code == "cut.text_too_wide"]
        self.assertGreater(told.measured, 60.0)
        fits = float(told.sentence.split("letters ")[1].split(" mm")[0])
        done, _ = cut(engraving(text="FAR TOO WIDE", height=fits), V60, 0.5)
        self.assertNotIn("cut.text_too_wide", codes(done))

    def test_a_face_that_is_not_cut_yet(self):
        done, _ = cut(engraving(text="I", depth=0.3), V60, 0.4, high=1.0)
        (told,) = [one for one in done.job.findings if one.code == "cut.stands_over"]
        self.assertAlmostEqual(told.measured, 1.0, delta=0.01)

    def test_what_says_nothing(self):
        with self.assertRaises(ValidationError):
            engraving(text="  ")
        done, _ = cut(engraving(text="I"), V60, 0.4)
        self.assertIn("cut.nothing_written", _refused(engraving(text=".").model_copy(update={"text": " "})))
        self.assertEqual(codes(done), [])


def _refused(operation) -> str:
    try:
        cut(operation, V60, 0.5)
    except BadInput as refused:
        return refused.code
    return ""


class Cleared(unittest.TestCase):
    def test_the_area_is_the_outline_opened_by_the_cutter(self):
        operation = engraving(text="LB", height=20.0, way="cleared", depth=0.5)
        done, taken = cut(operation, FLAT["em1"], 0.1)
        shape = shapely.union_all([one.shape for one in letters("LB", 20.0, 0.0, True, "t")])
        opened = shape.buffer(-0.5, quad_segs=32).buffer(0.5, quad_segs=32)
        self.assertAlmostEqual(taken / (0.5 * opened.area), 1.0, delta=0.01)
        self.assertEqual(codes(done), [])

    def test_a_cutter_too_wide_for_the_strokes_and_the_size_that_would_fit(self):
        done, _ = cut(engraving(text="I", height=8.0, way="cleared"), FLAT["em3"], 0.4)
        (told,) = [one for one in done.job.findings if one.code == "cut.tool_too_big"]
        (letter,) = letters("I", 8.0, 0.0, True, "t")
        x0, _, x1, _ = letter.shape.bounds
        self.assertAlmostEqual(told.limit, x1 - x0, delta=0.01)
        high = float(told.sentence.rsplit("letters ", 1)[1].split(" mm")[0])
        done, _ = cut(engraving(text="I", height=high, way="cleared"), FLAT["em3"], 0.4)
        self.assertEqual([code for code in codes(done) if code == "cut.tool_too_big"], [])

    def test_lines_of_a_drawing(self):
        def ring(space):
            space.add_circle((0, 0), 8)
            space.add_lwpolyline([(-3, -3), (3, -3), (3, 3), (-3, 3)], close=True)

        found = read_lines(drawing(ring), "ring.dxf")
        lines = tuple(tuple(map(tuple, line.tolist())) for line in found.lines)
        operation = engraving(text="", lines=lines, way="cleared", depth=0.5, step_over=0.4)
        _, taken = cut(operation, FLAT["em2"], 0.15)
        exact = (math.pi * 64 - 36) * 0.5
        self.assertAlmostEqual(taken / exact, 1.0, delta=0.01)

    def test_open_outlines_are_refused_with_their_ends(self):
        lines = (((0.0, 0.0), (10.0, 0.0), (10.0, 8.0)),)
        with self.assertRaises(BadInput) as refused:
            cut(engraving(text="", lines=lines, way="cleared"), FLAT["em2"], 0.5)
        self.assertEqual(refused.exception.code, "outline.open")
        self.assertIn("loose ends at", refused.exception.what)
        # Along their middle they are no trouble.
        done, _ = cut(engraving(text="", lines=lines), V60, 0.5)
        self.assertEqual(codes(done), [])


class Round(unittest.TestCase):
    def test_round_a_bar_it_is_cut_as_wide_as_told_and_is_no_gouge(self):
        """A groove along and one round a bar, by closed form; the comparison does not call them gouges."""
        along, around = ((-10.0, 0.0), (10.0, 0.0)), ((0.0, -12.0), (0.0, 12.0))
        told = {
            "kind": "engraving_round", "id": "e", "name": "marks", "tool": "em3", "text": "",
            "lines": (along, around), "depth": 1.0, "faces": (test_wrapped.floor(),), "clearance": 15.0,
        }  # fmt: skip
        floor = {
            "kind": "wrapped",
            "id": "f",
            "name": "floor",
            "tool": "em8",
            "faces": (test_wrapped.floor(),),
        }
        document = test_wrapped.document(floor)
        document["setups"][0]["operations"].append(told)
        report = evaluate(plan_from(document), test_wrapped.part(), MemoryStore())
        (setup,) = report.setups
        engraved = next(one for one in setup.operations if one.id == "e")
        self.assertEqual([one.code for one in engraved.findings if one.severity == "error"], [])
        # Flat cutters on a bar: 3 mm wide, 1 mm deep at their middle; where they cross it is cut once.
        area = shapely.union_all([LineString(line).buffer(1.5) for line in (along, around)]).area
        self.assertAlmostEqual(engraved.removed_volume_mm3 / area, 1.0, delta=0.06)
        assert report.comparison is not None
        self.assertLess(report.comparison.max_gouge_mm, 0.1)
        self.assertEqual([one.code for one in report.comparison.findings if one.code == "compare.gouge"], [])

    def test_a_text_wider_than_its_floor_on_the_bar(self):
        """The floor goes round 80° of Ø44, 30.7 mm: a text that runs round it is 40 mm wide."""
        told = {
            "kind": "engraving_round", "id": "e", "name": "long", "tool": "em3", "text": "TOO WIDE",
            "faces": (test_wrapped.floor(),), "turn_deg": 90.0, "height": 7.0, "clearance": 15.0,
        }  # fmt: skip
        report = evaluate(plan_from(test_wrapped.document(told)), test_wrapped.part(), MemoryStore())
        (one,) = report.setups[0].operations
        wide = next(told for told in one.findings if told.code == "cut.text_too_wide")
        self.assertIn(f"of 40.0 × {22 * math.radians(80):.1f} mm", wide.sentence)
        self.assertIn("mm high would fit", wide.sentence)
        # On a machine that turns nothing it is refused.
        document = test_wrapped.document(told)
        document["setups"][0]["machine"] = "vertical-760"
        report = evaluate(plan_from(document), test_wrapped.part(), MemoryStore())
        codes = [told.code for told in report.setups[0].operations[0].findings]
        self.assertEqual(codes, ["wrap.no_axis"])


if __name__ == "__main__":
    unittest.main()
