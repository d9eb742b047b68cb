"""Reference solids by Open CASCADE, and fields and sweeps that tests share."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from OCP.BRep import BRep_Builder
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon, BRepBuilderAPI_Transform
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakePrism,
)
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.Interface import Interface_Static
from OCP.Message import Message
from OCP.STEPControl import STEPControl_Reader, STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Compound
from OCP.TopTools import TopTools_IndexedMapOfShape

from pelvrak.core.stock.cut import CUT, Profile, Sweep
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_block


def volumes_of_step(data: bytes) -> list[float]:
    """Volumes of the solids in a STEP file, read by Open CASCADE alone, mm³."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "read.step"
        path.write_bytes(data)
        reader = STEPControl_Reader()
        reader.ReadFile(str(path))
        reader.TransferRoots()
    found = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(reader.OneShape(), TopAbs_ShapeEnum.TopAbs_SOLID, found)
    out = []
    for i in range(found.Extent()):
        props = GProp_GProps()
        BRepGProp.VolumeProperties_s(found.FindKey(i + 1), props)
        out.append(props.Mass())
    return out


UP = np.array([0.0, 0.0, 1.0])
Message.DefaultMessenger_s().ChangePrinters().Clear()


def box(low: tuple[float, float, float], high: tuple[float, float, float]) -> Any:
    return BRepPrimAPI_MakeBox(gp_Pnt(*low), gp_Pnt(*high)).Shape()


def cylinder(
    base: tuple[float, float, float],
    radius: float,
    height: float,
    axis: tuple[float, float, float] = (0, 0, 1),
) -> Any:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*base), gp_Dir(*axis)), radius, height).Shape()


def cone(base: tuple[float, float, float], low: float, high: float, height: float) -> Any:
    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(*base), gp_Dir(0, 0, 1)), low, high, height).Shape()


def prism(points: list[tuple[float, float]], low: float, high: float) -> Any:
    outline = BRepBuilderAPI_MakePolygon()
    for x, y in points:
        outline.Add(gp_Pnt(x, y, low))
    outline.Close()
    face = BRepBuilderAPI_MakeFace(outline.Wire()).Face()
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, high - low)).Shape()


def minus(shape: Any, *tools: Any) -> Any:
    for tool in tools:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    return shape


def plus(shape: Any, *others: Any) -> Any:
    for other in others:
        shape = BRepAlgoAPI_Fuse(shape, other).Shape()
    return shape


def _edges_at(shape: Any, chosen: Callable[[np.ndarray], bool]) -> list[Any]:
    """Edges whose middle (mm) is chosen."""
    found = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(shape, TopAbs_ShapeEnum.TopAbs_EDGE, found)
    out = []
    for i in range(found.Extent()):
        edge = TopoDS.Edge_s(found.FindKey(i + 1))
        curve = BRepAdaptor_Curve(edge)
        middle = curve.Value((curve.FirstParameter() + curve.LastParameter()) / 2)
        if chosen(np.array([middle.X(), middle.Y(), middle.Z()])):
            out.append(edge)
    return out


def filleted(shape: Any, radius: float, chosen: Callable[[np.ndarray], bool]) -> Any:
    """The shape with the edges whose middle is chosen rounded."""
    maker = BRepFilletAPI_MakeFillet(shape)
    for edge in _edges_at(shape, chosen):
        maker.Add(radius, edge)
    return maker.Shape()


def chamfered(shape: Any, width: float, chosen: Callable[[np.ndarray], bool]) -> Any:
    """The shape with the edges whose middle is chosen broken at 45°."""
    maker = BRepFilletAPI_MakeChamfer(shape)
    for edge in _edges_at(shape, chosen):
        maker.Add(width, edge)
    return maker.Shape()


def turned(shape: Any, degrees: float, axis: tuple[float, float, float] = (0, 0, 1)) -> Any:
    """The shape turned about a line through the origin."""
    turn = gp_Trsf()
    turn.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(*axis)), math.radians(degrees))
    return BRepBuilderAPI_Transform(shape, turn, True).Shape()


def placed(shape: Any, at: tuple[float, float, float]) -> Any:
    """The shape moved."""
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(*at))
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def together(*shapes: Any) -> Any:
    """Several solids in one compound, as an assembly has them."""
    out = TopoDS_Compound()
    builder = BRep_Builder()
    builder.MakeCompound(out)
    for shape in shapes:
        builder.Add(out, shape)
    return out


def volume(shape: Any) -> float:
    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, properties)
    return float(properties.Mass())


def stadium(a: tuple[float, float], b: tuple[float, float], radius: float, bottom: float, top: float) -> Any:
    """What a flat end mill sweeps going level from a to b."""
    length = math.dist(a, b)
    along = ((b[0] - a[0]) / length, (b[1] - a[1]) / length)
    body = BRepPrimAPI_MakeBox(
        gp_Ax2(
            gp_Pnt(a[0] + along[1] * radius, a[1] - along[0] * radius, bottom),
            gp_Dir(0, 0, 1),
            gp_Dir(along[0], along[1], 0),
        ),
        length,
        2 * radius,
        top - bottom,
    ).Shape()
    return plus(
        body, cylinder((*a, bottom), radius, top - bottom), cylinder((*b, bottom), radius, top - bottom)
    )


def step_bytes(shape: Any, unit: str = "MM") -> bytes:
    """A STEP file of the shape, its lengths written in a unit (MM, INCH, M)."""
    STEPControl_Writer()  # registers the setting
    Interface_Static.SetCVal_s("write.step.unit", unit)
    try:
        writer = STEPControl_Writer()
        writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "shape.step"
            writer.Write(str(path))
            return path.read_bytes()
    finally:
        Interface_Static.SetCVal_s("write.step.unit", "MM")


def block(low: tuple[float, float, float], high: tuple[float, float, float], cell: float) -> RayField:
    """A field of a block on its own grid."""
    a, b = np.array(low, float), np.array(high, float)
    return field_of_block(grid_around(a, b, cell), a, b)


def flat(diameter: float, length: float = 100.0) -> Profile:
    return Profile((0.0, length), (diameter / 2, diameter / 2))


def pointed(diameter: float, angle_deg: float, length: float = 100.0) -> Profile:
    point = diameter / 2 / math.tan(math.radians(angle_deg / 2))
    return Profile((0.0, point, length), (0.0, diameter / 2, diameter / 2))


def along(points: Any, cutter: Profile, axis: np.ndarray = UP, bodies: tuple[Profile, ...] = ()) -> Sweep:
    """Cutting moves through points."""
    points = np.array(points, float)
    return Sweep(points[:-1], points[1:], np.full(len(points) - 1, CUT, np.uint8), axis, cutter, bodies)
