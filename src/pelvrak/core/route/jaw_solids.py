"""Solved jaws as exact solids: STEP. The protected process that writes them: `read` gives the file."""

from __future__ import annotations

import math

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Transform,
)
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.GC import GC_MakeArcOfCircle
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Edge, TopoDS_Shape
from OCP.TopTools import TopTools_IndexedMapOfShape
from shapely import MultiLineString, Point

from pelvrak.core.cutting.toolpath import MoveKind
from pelvrak.core.geometry.step_writer import step_bytes
from pelvrak.core.route.jaw_files import JawShape, Ring, arc_between, arcs

# An edge this near to the outline of an opening is one of its, mm: arcs are fitted to it.
NEAR_RIM_MM = 0.05


def _middle(
    a: tuple[float, float], b: tuple[float, float], centre: tuple[float, float], kind: MoveKind
) -> tuple[float, float]:
    """The middle of an arc."""
    one = math.atan2(a[1] - centre[1], a[0] - centre[0])
    radius, turn = arc_between(a, b, centre, kind)
    return centre[0] + radius * math.cos(one + turn / 2), centre[1] + radius * math.sin(one + turn / 2)


def _prism(ring: Ring, low: float, high: float) -> TopoDS_Shape:
    start, steps = arcs(np.array(ring))
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


def _edged(body: TopoDS_Shape, shape: JawShape, high: float) -> TopoDS_Shape:
    """A block, so high, with its upright edges rounded and those round its top chamfered."""
    if shape.corner_radius > 0:
        rounding = BRepFilletAPI_MakeFillet(body)
        for edge, ends in _edges(body):
            if abs(ends[0].Z() - ends[1].Z()) > high / 2:
                rounding.Add(shape.corner_radius, edge)
        body = rounding.Shape()
    if shape.edge_chamfer > 0:
        chamfer = BRepFilletAPI_MakeChamfer(body)
        top = [edge for edge, ends in _edges(body) if all(abs(p.Z() - high) < 1e-6 for p in ends)]
        # What runs on smoothly goes with the first of them.
        for edge in top if shape.corner_radius <= 0 else top[:1]:
            chamfer.Add(shape.edge_chamfer, edge)
        body = chamfer.Shape()
    return body


def _flared(body: TopoDS_Shape, shape: JawShape) -> TopoDS_Shape:
    """Jaws with the edge of their opening chamfered."""
    rims = MultiLineString([room.outline for room in shape.rooms if room.top > shape.height])
    chamfer = BRepFilletAPI_MakeChamfer(body)
    for edge, ends in _edges(body):
        curve = BRepAdaptor_Curve(edge)
        middle = curve.Value((curve.FirstParameter() + curve.LastParameter()) / 2)
        on_rim = all(
            abs(p.Z() - shape.height) < 1e-6 and rims.distance(Point(p.X(), p.Y())) < NEAR_RIM_MM
            for p in (*ends, middle)
        )
        # What runs on smoothly from one that is in is in already.
        if on_rim and chamfer.Contour(edge) == 0:
            chamfer.Add(shape.mouth, edge)
    return chamfer.Shape()


def _edges(body: TopoDS_Shape) -> list[tuple[TopoDS_Edge, list[gp_Pnt]]]:
    """Each edge once, with both its ends."""
    found = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(body, TopAbs_ShapeEnum.TopAbs_EDGE, found)
    edges = [TopoDS.Edge_s(found.FindKey(i)) for i in range(1, found.Extent() + 1)]
    return [
        (edge, [BRep_Tool.Pnt_s(vertex(edge)) for vertex in (TopExp.FirstVertex_s, TopExp.LastVertex_s)])
        for edge in edges
    ]


def solids(shape: JawShape) -> list[TopoDS_Shape]:
    """The jaws (fixed, moving) or the block as exact solids in the nest's frame."""
    out = []
    for low, high, length in shape.bodies:
        if shape.lies is None:
            ends = gp_Pnt(-length / 2, low, 0), gp_Pnt(length / 2, high, shape.height)
            body = _edged(BRepPrimAPI_MakeBox(*ends).Shape(), shape, shape.height)
        else:
            # As long as it stands high, and as high as it is thick then.
            tall = high - low
            ends = gp_Pnt(-shape.height / 2, -length / 2, 0), gp_Pnt(shape.height / 2, length / 2, tall)
            stands = gp_Trsf()
            stands.SetValues(*(value for row in shape.lies for value in row))
            body = _edged(BRepPrimAPI_MakeBox(*ends).Shape(), shape, tall)
            body = BRepBuilderAPI_Transform(body, stands, True).Shape()
        for room in shape.rooms:
            away = _prism(room.outline, room.bottom, room.top)
            for island in room.islands:
                away = BRepAlgoAPI_Cut(away, _prism(island, room.bottom - 1, room.top + 1)).Shape()
            body = BRepAlgoAPI_Cut(body, away).Shape()
        if shape.mouth > 0:
            body = _flared(body, shape)
        for x, y, diameter, bottom, top in shape.bores:
            # What goes through goes out at both ends.
            low = bottom - 1.0 if bottom <= 0 else bottom
            axis = gp_Ax2(gp_Pnt(x, y, low), gp_Dir(0, 0, 1))
            away = BRepPrimAPI_MakeCylinder(axis, diameter / 2, top + 1.0 - low).Shape()
            body = BRepAlgoAPI_Cut(body, away).Shape()
        out.append(body)
    return out


def to_step(shape: JawShape) -> bytes:
    """STEP AP214, mm."""
    return step_bytes(solids(shape))


def read(data: bytes, name: str, words: list[str]) -> bytes:
    """A STEP file of jaws from their shape (JSON)."""
    return to_step(JawShape.model_validate_json(data))
