"""Tolerances that a STEP file of AP242 carries land on the faces; typed ones win."""

from __future__ import annotations

import re
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.Interface import Interface_Static
from OCP.STEPCAFControl import STEPCAFControl_Writer
from OCP.TCollection import TCollection_ExtendedString, TCollection_HAsciiString
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape
from OCP.XCAFDimTolObjects import (
    XCAFDimTolObjects_DimensionFormVariance,
    XCAFDimTolObjects_DimensionGrade,
    XCAFDimTolObjects_DimensionObject,
    XCAFDimTolObjects_DimensionType,
)
from OCP.XCAFDoc import XCAFDoc_Dimension, XCAFDoc_DocumentTool

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import SeveralSolids
from pelvrak.core.geometry.callout import Callout, roughness, senseless, tolerances
from pelvrak.core.geometry.part import Part, ref_to
from pelvrak.core.geometry.step_file import read_step, step_of_solid
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from tests import solids

# Holes Ø8, Ø12 and Ø6, and a boss Ø10 on top.
SHAPE = solids.plus(
    solids.minus(
        solids.box((0, 0, 0), (60, 30, 10)),
        solids.cylinder((10, 15, -1), 4, 20),
        solids.cylinder((24, 15, -1), 6, 20),
        solids.cylinder((38, 15, -1), 3, 20),
    ),
    solids.cylinder((50, 15, 9), 5, 6),
)
H = XCAFDimTolObjects_DimensionFormVariance.XCAFDimTolObjects_DimensionFormVariance_H
IT7 = XCAFDimTolObjects_DimensionGrade.XCAFDimTolObjects_DimensionGrade_IT7


def written(words: tuple[str, ...] = (), beside: Any = None, stray: bool = False, **changed: str) -> bytes:
    """An AP242 file by Open CASCADE's writer, with a class on Ø8, deviations on Ø12, nothing on Ø6, and
    limits on the boss.

    The writer puts a grade's number in its own list and a lower deviation without its sign: both as ISO
    10303-47 has them instead. words: said of Ø6; beside: another solid in the file; stray: the
    limits are of an edge; changed: further texts in it.
    """
    document = TDocStd_Document(TCollection_ExtendedString("tolerances"))
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    sizes = XCAFDoc_DocumentTool.DimTolTool_s(document.Main())
    whole = shapes.AddShape(SHAPE, False)
    if beside is not None:
        shapes.AddShape(beside, False)

    def sized(face: Any, tell: Callable[[Any], None]) -> None:
        label = sizes.AddDimension()
        sizes.SetDimension(shapes.AddSubShape(whole, face), label)
        told = XCAFDimTolObjects_DimensionObject()
        told.SetType(XCAFDimTolObjects_DimensionType.XCAFDimTolObjects_DimensionType_Size_Diameter)
        tell(told)
        XCAFDoc_Dimension.Set_s(label).SetObject(told)

    def with_class(told: Any) -> None:
        told.SetValue(8.0)
        told.SetClassOfTolerance(True, H, IT7)

    def with_deviations(told: Any) -> None:
        told.SetValue(12.0)
        told.SetUpperTolValue(0.03)
        told.SetLowerTolValue(-0.01)

    def with_words(told: Any) -> None:
        told.SetValue(6.0)
        for text in words:
            told.AddDescription(TCollection_HAsciiString(text), TCollection_HAsciiString("note"))

    def with_limits(told: Any) -> None:
        told.SetUpperBound(9.99)
        told.SetLowerBound(9.97)

    tell = {4.0: with_class, 6.0: with_deviations, 3.0: with_words, 5.0: with_limits}
    faces = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(SHAPE, TopAbs_ShapeEnum.TopAbs_FACE, faces)
    for number in range(faces.Extent()):
        face = TopoDS.Face_s(faces.FindKey(number + 1))
        form = BRepAdaptor_Surface(face)
        if form.GetType() == GeomAbs_SurfaceType.GeomAbs_Cylinder:
            sized(face, tell[round(form.Cylinder().Radius(), 6)])
    if stray:
        edges = TopTools_IndexedMapOfShape()
        TopExp.MapShapes_s(SHAPE, TopAbs_ShapeEnum.TopAbs_EDGE, edges)
        sized(edges.FindKey(1), with_limits)
    writer = STEPCAFControl_Writer()
    Interface_Static.SetCVal_s("write.step.schema", "AP242DIS")
    writer.SetDimTolMode(True)
    writer.Transfer(document)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "tolerances.step"
        writer.Write(str(path))
        text = path.read_text()
    Interface_Static.SetCVal_s("write.step.schema", "AP214IS")
    for before, after in {
        "('H','hole','9','')": "('H','hole','7','')",
        "MEASURE_WITH_UNIT(1.E-02": "MEASURE_WITH_UNIT(-1.E-02",
        **changed,
    }.items():
        assert before in text, before
        text = text.replace(before, after)
    return text.encode()


def by_size(part: Part) -> dict[float, str]:
    return {round(2 * (part.faces[one.face].radius or 0), 6): one.text for one in part.callouts}


class FromTheFile(unittest.TestCase):
    def test_each_on_its_face(self):
        part = read_step(written()).part
        self.assertEqual(by_size(part), {8.0: "H7", 12.0: "+0.0300/-0.0100", 10.0: "9.9700-9.9900"})
        meant = {
            round(2 * (part.faces[face].radius or 0), 6): (one.low, one.high)
            for face, one in tolerances(part, ()).items()
        }
        # ISO 286-2: 8 H7 is 8.000 … 8.015 (from memory).
        self.assertEqual(meant, {8.0: (8.0, 8.015), 12.0: (11.99, 12.03), 10.0: (9.97, 9.99)})

    def test_a_grade_with_its_letters(self):
        part = read_step(written(**{"('H','hole','7','')": "('H','hole','IT7','')"})).part
        self.assertEqual(by_size(part)[8.0], "H7")

    def test_threads_and_roughness_said_in_words(self):
        part = read_step(written(("hand reamed", "M7", "Ra 1.6"))).part
        self.assertEqual(by_size(part)[6.0], "M7 Ra 1.6")
        face = next(one for one in part.faces if one.kind == "cylinder" and one.radius == 3.0)
        # M7 has no coarse pitch in the table: it is told, and not guessed.
        self.assertEqual([bad.code for bad in senseless(part, ())], ["tolerance.thread"])
        part = read_step(written(("M7x1", "Ra 1.6"))).part
        self.assertEqual(tolerances(part, ())[face.number].pitch, 1.0)
        self.assertEqual(roughness(part, ()), {face.number: 1.6})
        self.assertEqual(by_size(part)[8.0], "H7")

    def test_typed_ones_win(self):
        part = read_step(written()).part
        face = next(one for one in part.faces if one.kind == "cylinder" and one.radius == 4.0)
        typed = Callout(face=ref_to(face), text="H9")
        found = tolerances(part, (typed,))
        self.assertEqual(found[face.number].high, 8.036)
        self.assertEqual(len(found), 3)

    def test_what_means_nothing_is_told_until_one_is_typed(self):
        part = read_step(written(**{"('H','hole','7','')": "('H','hole','77','')"})).part
        face = next(one for one in part.faces if one.kind == "cylinder" and one.radius == 4.0)
        (bad,) = senseless(part, ())
        self.assertIn("H77", str(bad))
        self.assertNotIn(face.number, tolerances(part, ()))
        self.assertEqual(list(senseless(part, (Callout(face=ref_to(face), text="H7"),))), [])

    def test_they_stay_when_one_of_several_solids_is_chosen(self):
        """Chosen of two, its sizes are those of the file, as limits; the other's are not its own."""
        data = written(("M7x1", "Ra 1.6"), beside=solids.box((100, 0, 0), (120, 20, 20)))
        with self.assertRaises(SeveralSolids) as several:
            read_step(data)
        size = next(n for n, one in enumerate(several.exception.choices) if one["size"][0] == 60.0)
        chosen = step_of_solid(data, "two.step", size)
        self.assertEqual(chosen, step_of_solid(data, "two.step", size))
        part = read_step(chosen).part
        self.assertEqual(
            by_size(part),
            {8.0: "8.0000-8.0150", 12.0: "11.9900-12.0300", 10.0: "9.9700-9.9900", 6.0: "M7x1 Ra 1.6"},
        )
        other = read_step(step_of_solid(data, "two.step", 1 - size)).part
        self.assertEqual(other.callouts, ())

    def test_what_belongs_to_no_face_is_told(self):
        """A class said of an edge; and a file that says no unit at all."""
        data = written(stray=True)
        part = read_step(data).part
        self.assertEqual((by_size(part)[8.0], part.stray_callouts), ("H7", ("9.9700-9.9900",)))
        plan = plan_from({"name": "stray", "part": {"file": "p.step"}, "resolution_mm": 1.0})
        told = evaluate(plan, data, MemoryStore()).part_findings
        self.assertEqual([(one.code, one.severity) for one in told], [("part.stray_tolerance", "note")])
        self.assertIn("9.9700-9.9900", told[0].sentence)
        plain = solids.step_bytes(SHAPE)
        unsaid, times = re.subn(rb"(GLOBAL_UNIT_ASSIGNED_CONTEXT\s*\(\()#\d+,", rb"\1", plain)
        self.assertEqual(times, 1)
        told = evaluate(plan, unsaid, MemoryStore()).part_findings
        self.assertEqual([(one.code, one.severity) for one in told], [("part.no_unit", "warning")])
        self.assertIn("60 × 30 × 15", told[0].sentence)

    def test_a_file_without_any(self):
        self.assertEqual(read_step(solids.step_bytes(SHAPE)).part.callouts, ())


if __name__ == "__main__":
    unittest.main()
