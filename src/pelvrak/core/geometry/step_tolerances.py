"""Which tolerances does a STEP file of AP242 carry on the part's faces? Asked where step_reader is loaded.

Sizes and their tolerances as ISO 10303-47 has them (dimensional size, plus-minus tolerance, limits and fits),
on the faces that ISO 10303-242's geometric item specific usage names. Threads and roughness have no form of
their own there: they are read where a size says them in words, as a descriptive item.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.Interface import Interface_Static
from OCP.StepAP242 import StepAP242_GeometricItemSpecificUsage
from OCP.STEPCAFControl import STEPCAFControl_Writer
from OCP.StepRepr import (
    StepRepr_DescriptiveRepresentationItem,
    StepRepr_ReprItemAndLengthMeasureWithUnit,
    StepRepr_ShapeAspectRelationship,
)
from OCP.StepShape import (
    StepShape_AdvancedFace,
    StepShape_DimensionalCharacteristicRepresentation,
    StepShape_PlusMinusTolerance,
)
from OCP.TCollection import TCollection_ExtendedString, TCollection_HAsciiString
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape
from OCP.XCAFDimTolObjects import XCAFDimTolObjects_DimensionObject, XCAFDimTolObjects_DimensionType
from OCP.XCAFDoc import XCAFDoc_Dimension, XCAFDoc_DocumentTool

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.callout import understood
from pelvrak.core.geometry.part import FileCallout

# What a file without any has none of.
TOLD = b"DIMENSIONAL_SIZE"
# Words that say a thread, and a roughness.
THREAD, ROUGH = re.compile(r"M\d|\d+/\d+\s*-\s*\d"), re.compile(r"R[az]\s?\d", re.IGNORECASE)
UNITS_MM = {"millimetre": 1.0, "centimetre": 10.0, "metre": 1000.0, "inch": 25.4, "foot": 304.8}


def tolerances_in(reader: Any, solid: Any, unit: str) -> tuple[tuple[FileCallout, ...], tuple[str, ...]]:
    """The tolerances of sizes that a file read by Open CASCADE's STEPControl_Reader carries, on the faces of
    its solid as they are counted, and those that belong to none of them; unit: of the file, as the reader
    names it.

    A size without a tolerance of its own says nothing.
    """
    model, scale = reader.StepModel(), UNITS_MM.get(unit.lower(), 1.0)
    # Kept while they are compared: each is one object only as long as somebody has it.
    entities = [model.Value(number) for number in range(1, model.NbEntities() + 1)]
    numbers = _numbers(reader, solid)
    named = _named(entities)
    found: dict[int, list[str]] = {}
    stray: list[str] = []
    for aspect, text in _texts(entities, scale):
        faces = list(_faces_of(aspect, named))
        own = [n for one, n in numbers if any(one is face for face in faces)]
        for number in own:
            found.setdefault(number, []).append(text)
        if not own:
            stray.append(text)
    rows = (FileCallout(face=number, text=_said(texts)) for number, texts in sorted(found.items()))
    return tuple(rows), tuple(stray)


def write_with(solid: Any, callouts: tuple[FileCallout, ...], target: str) -> None:
    """Write a STEP file (AP242) of a solid with what is said of its round faces.

    Limits are written as such, threads and roughness in words; what means nothing is left out.
    """
    document = TDocStd_Document(TCollection_ExtendedString("solid"))
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    told = XCAFDoc_DocumentTool.DimTolTool_s(document.Main())
    whole = shapes.AddShape(solid, False)
    faces = _faces(solid)
    for callout in callouts:
        face, text = faces.FindKey(callout.face + 1), callout.text
        try:
            size = _diameter(face)
            meant = understood(text, size)
        except BadInput:
            continue
        one = XCAFDimTolObjects_DimensionObject()
        one.SetType(XCAFDimTolObjects_DimensionType.XCAFDimTolObjects_DimensionType_Size_Diameter)
        if meant.kind == "limits":
            one.SetUpperBound(meant.high)
            one.SetLowerBound(meant.low)
        elif size is not None:
            one.SetValue(size)
        words = [text.split(" R")[0]] if meant.kind == "thread" else []
        for said in (*words, *([] if meant.ra_um is None else [f"Ra {meant.ra_um:g}"])):
            one.AddDescription(TCollection_HAsciiString(said), TCollection_HAsciiString("note"))
        label = told.AddDimension()
        told.SetDimension(shapes.AddSubShape(whole, face), label)
        XCAFDoc_Dimension.Set_s(label).SetObject(one)
    writer = STEPCAFControl_Writer()
    writer.SetDimTolMode(True)
    before = Interface_Static.CVal_s("write.step.schema")
    Interface_Static.SetCVal_s("write.step.schema", "AP242DIS")
    writer.Transfer(document)
    writer.Write(target)
    Interface_Static.SetCVal_s("write.step.schema", before)


def _said(texts: list[str]) -> str:
    """All that is said of a face in one: a thread before a size, the first of each, and its roughness."""
    threads = [text for text in texts if THREAD.match(text)]
    rough = [text for text in texts if ROUGH.match(text)]
    sizes = [text for text in texts if text not in (*threads, *rough)]
    return " ".join([*(threads or sizes)[:1], *rough[:1]])[:40]


def _faces(solid: Any) -> Any:
    """The faces of a solid as they are counted, from 1."""
    faces = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(solid, TopAbs_ShapeEnum.TopAbs_FACE, faces)
    return faces


def _diameter(face: Any) -> float | None:
    """Of a cylinder or a sphere, mm; as `size_of` has it of a face that was read."""
    form = BRepAdaptor_Surface(TopoDS.Face_s(face))
    match form.GetType():
        case GeomAbs_SurfaceType.GeomAbs_Cylinder:
            return round(2 * float(form.Cylinder().Radius()), 6)
        case GeomAbs_SurfaceType.GeomAbs_Sphere:
            return round(2 * float(form.Sphere().Radius()), 6)
    return None


def _numbers(reader: Any, solid: Any) -> list[tuple[Any, int]]:
    """The file's faces with the numbers they have in the part."""
    faces = _faces(solid)
    process = reader.WS().TransferReader()
    return [
        (process.EntityFromShapeResult(faces.FindKey(number + 1), 1), number)
        for number in range(faces.Extent())
    ]


def _named(entities: list[Any]) -> list[tuple[Any, list[Any]]]:
    """Aspects of the shape with what each consists of: faces, and other aspects."""
    out = []
    for entity in entities:
        if isinstance(entity, StepAP242_GeometricItemSpecificUsage):
            aspect = entity.Definition().ShapeAspect()
            items = [entity.IdentifiedItemValue(i + 1) for i in range(entity.NbIdentifiedItem())]
            out.append((aspect, items))
        elif isinstance(entity, StepRepr_ShapeAspectRelationship):
            out.append((entity.RelatingShapeAspect(), [entity.RelatedShapeAspect()]))
    return out


def _faces_of(aspect: Any, named: list[tuple[Any, list[Any]]]) -> Iterator[Any]:
    """The faces of an aspect, and of those it consists of."""
    seen, waiting = [aspect], [aspect]
    while waiting:
        here = waiting.pop()
        for item in (item for one, items in named if one is here for item in items):
            if isinstance(item, StepShape_AdvancedFace):
                yield item
            elif not any(item is one for one in seen):
                seen.append(item)
                waiting.append(item)


def _texts(entities: list[Any], scale: float) -> Iterator[tuple[Any, str]]:
    """The aspect each toleranced size is of, and the tolerance as it is written on a drawing."""
    for entity in entities:
        if isinstance(entity, StepShape_PlusMinusTolerance):
            size = entity.TolerancedDimension().DimensionalSize()
            texts = [_deviations(entity.Range(), scale)]
        elif isinstance(entity, StepShape_DimensionalCharacteristicRepresentation):
            size = entity.Dimension().DimensionalSize()
            texts = [_limits(entity.Representation(), scale), *_words(entity.Representation())]
        else:
            continue
        for text in texts if size is not None else ():
            if text is not None:
                yield size.AppliesTo(), text


def _words(told: Any) -> Iterator[str]:
    """Threads and roughness said in words."""
    for number in range(told.NbItems()):
        item = told.ItemsValue(number + 1)
        if isinstance(item, StepRepr_DescriptiveRepresentationItem):
            text = item.Description().ToCString().strip()
            if THREAD.match(text) or ROUGH.match(text):
                yield text


def _deviations(told: Any, scale: float) -> str | None:
    """A class such as H7, or two deviations."""
    fit, bounds = told.LimitsAndFits(), told.ToleranceValue()
    if fit is not None:
        grade = fit.Grade().ToCString().upper().removeprefix("IT").strip()
        return f"{fit.FormVariance().ToCString().strip()}{grade}"
    if bounds is None:
        return None
    upper, lower = (
        scale * float(bound.ValueComponent()) for bound in (bounds.UpperBound(), bounds.LowerBound())
    )
    return f"{upper:+.4f}/{lower:+.4f}"


def _limits(told: Any, scale: float) -> str | None:
    """Two limits of size."""
    values = {}
    for number in range(told.NbItems()):
        item = told.ItemsValue(number + 1)
        if isinstance(item, StepRepr_ReprItemAndLengthMeasureWithUnit):
            value = scale * float(item.GetMeasureWithUnit().ValueComponent())
            values[item.Name().ToCString().strip().lower()] = value
    if "lower limit" not in values or "upper limit" not in values:
        return None
    return f"{values['lower limit']:.4f}-{values['upper limit']:.4f}"
