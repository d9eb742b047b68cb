"""Solved jaws as files for others: solids as STEP and STL, the nest's outline as DXF."""

from __future__ import annotations

import io
import math
import tempfile
from pathlib import Path as FilePath

import ezdxf.filemanagement
import ezdxf.units
import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
)
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Pnt, gp_Vec
from OCP.Interface import Interface_Static
from OCP.Message import Message
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopoDS import TopoDS_Shape
from shapely import Polygon
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from pelvrak.core.cutting.toolpath import fitted
from pelvrak.core.geometry.mesh import Floats, joined, to_stl, transformed
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding.nest import RIM_CUTTER_MM, Nest

# Arcs are put through the outline to within this, mm.
FIT_MM = 0.01

Step = tuple[str, tuple[float, float], tuple[float, float] | None]


def _steps(ring: Floats) -> tuple[tuple[float, float], list[Step]]:
    """A closed ring as lines and arcs: where it starts, then (kind, end, centre) of each."""
    start = (float(ring[0][0]), float(ring[0][1]))
    return start, [
        (kind, (float(end[0]), float(end[1])), centre) for kind, end, centre in fitted(ring, FIT_MM)
    ]


def _middle(
    a: tuple[float, float], b: tuple[float, float], centre: tuple[float, float], kind: str
) -> tuple[float, float]:
    """The middle of an arc."""
    one = math.atan2(a[1] - centre[1], a[0] - centre[0])
    turn = _turn(a, b, centre, kind)
    radius = math.hypot(a[0] - centre[0], a[1] - centre[1])
    return centre[0] + radius * math.cos(one + turn / 2), centre[1] + radius * math.sin(one + turn / 2)


def _turn(a: tuple[float, float], b: tuple[float, float], centre: tuple[float, float], kind: str) -> float:
    one, two = (math.atan2(p[1] - centre[1], p[0] - centre[0]) for p in (a, b))
    turn = (two - one) % (2 * math.pi)
    return turn if kind == "ccw" else turn - 2 * math.pi


def _prism(region: Polygon, low: float, high: float) -> TopoDS_Shape:
    start, steps = _steps(np.array(orient(region).exterior.coords))
    wire = BRepBuilderAPI_MakeWire()
    here = start
    for kind, end, centre in steps:
        a, b = gp_Pnt(here[0], here[1], low), gp_Pnt(end[0], end[1], low)
        if centre is None:
            wire.Add(BRepBuilderAPI_MakeEdge(a, b).Edge())
        else:
            x, y = _middle(here, end, centre, kind)
            wire.Add(BRepBuilderAPI_MakeEdge(GC_MakeArcOfCircle(a, gp_Pnt(x, y, low), b).Value()).Edge())
        here = end
    return BRepPrimAPI_MakePrism(
        BRepBuilderAPI_MakeFace(wire.Wire()).Face(), gp_Vec(0, 0, high - low)
    ).Shape()


def _pieces(region: BaseGeometry) -> list[Polygon]:
    shapes = list(region.geoms) if hasattr(region, "geoms") else [region]
    return [piece for piece in shapes if piece.geom_type == "Polygon" and piece.area > 1e-3]


def _rooms(nest: Nest) -> list[tuple[Polygon, float, float]]:
    """Everything taken away, as outlines with heights; the rim's groove leaves an island, given as what
    stays.
    """
    out = [(piece, nest.floor, nest.top + 5) for piece in _pieces(nest.left)]
    step = nest.step_region()
    if step is not None:
        out += [(piece, nest.step_floor, nest.floor + 0.5) for piece in _pieces(step)]
    if nest.boss is not None:
        out += [(piece, nest.boss_floor, nest.floor + 0.5) for piece in _pieces(nest.boss)]
    return out


def solids(nest: Nest) -> list[TopoDS_Shape]:
    """The jaws (fixed, moving) or the block as exact solids in the nest's frame."""
    length, height, thick = nest.half
    if nest.gap > 0:
        bounds = [(-thick, 0.0), (-2 * thick - nest.gap, -thick - nest.gap)]
    else:
        bounds = [(-thick / 2, thick / 2)]
    out = []
    for low, high in bounds:
        body = BRepPrimAPI_MakeBox(gp_Pnt(-length / 2, low, 0), gp_Pnt(length / 2, high, height)).Shape()
        for region, bottom, top in _rooms(nest):
            body = BRepAlgoAPI_Cut(body, _prism(region, bottom, top)).Shape()
        if nest.spec.edge_break > 0:
            for region in _pieces(nest.left):
                groove = _prism(region, nest.floor - nest.spec.edge_break, nest.floor + 0.5)
                for island in _pieces(region.buffer(-RIM_CUTTER_MM)):
                    groove = BRepAlgoAPI_Cut(
                        groove, _prism(island, nest.floor - nest.spec.edge_break - 1, nest.floor + 1)
                    ).Shape()
                body = BRepAlgoAPI_Cut(body, groove).Shape()
        out.append(body)
    return out


def to_step(nest: Nest) -> bytes:
    """STEP AP214, mm."""
    for printer in list(Message.DefaultMessenger_s().Printers()):
        Message.DefaultMessenger_s().RemovePrinter(printer)
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPControl_Writer()
    for solid in solids(nest):
        writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
    with tempfile.TemporaryDirectory() as folder:
        path = FilePath(folder) / "jaws.step"
        writer.Write(str(path))
        return path.read_bytes()


def to_dxf(nest: Nest) -> bytes:
    """The opening of the nest and the outline of what goes in, mm, as closed polylines with arcs on layers
    NEST and WORK.
    """
    drawing = ezdxf.filemanagement.new("R2010", setup=False)
    drawing.units = ezdxf.units.MM
    space = drawing.modelspace()
    for layer, region in (("NEST", nest.left), ("WORK", nest.outline)):
        drawing.layers.add(layer)
        start, steps = _steps(np.array(orient(region).exterior.coords))
        points, here = [], start
        for kind, end, centre in steps:
            bulge = 0.0 if centre is None else math.tan(_turn(here, end, centre, kind) / 4)
            points.append((here[0], here[1], bulge))
            here = end
        space.add_lwpolyline(points, format="xyb", close=True, dxfattribs={"layer": layer})
    out = io.StringIO()
    drawing.write(out)
    return out.getvalue().encode()


def to_stl_of(nest: Nest) -> bytes:
    """Both jaws as they stand when they grip, or the block."""
    assert nest.jaws is not None
    meshes = [nest.jaws.fixed]
    if nest.jaws.moving is not None:
        turn = rigid(rotation_about_z(180.0), np.array([0.0, -nest.opening, 0.0]))
        meshes.append(transformed(nest.jaws.moving, turn))
    return to_stl(joined(meshes), f"jaws {nest.blank}")
