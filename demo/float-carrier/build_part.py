"""Builds the second demo part, the float-arm carrier, and writes its STEP file.

Invented for the demo. Top is +Z: a boss below, a flange, a round shank above. The thread in the boss is
modelled at its tapping-drill diameter. Run: python build_part.py [TARGET.step]
"""

from __future__ import annotations

import math
import sys
from pathlib import Path

from OCP.BRep import BRep_Tool
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet2d
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape

BOSS, FLANGE, SHANK = 12.0, 26.0, 50.0
UP, DOWN = gp_Dir(0, 0, 1), gp_Dir(0, 0, -1)


def flange():
    """A plate with one pointed end, its corners rounded."""
    outline = BRepBuilderAPI_MakePolygon()
    for x, y in ((-36, -26), (24, -26), (38, -8), (38, 8), (24, 26), (-36, 26)):
        outline.Add(gp_Pnt(x, y, BOSS))
    outline.Close()
    face = BRepBuilderAPI_MakeFace(outline.Wire()).Face()
    fillet = BRepFilletAPI_MakeFillet2d(face)
    corners = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(face, TopAbs_ShapeEnum.TopAbs_VERTEX, corners)
    for i in range(corners.Extent()):
        corner = TopoDS.Vertex_s(corners.FindKey(i + 1))
        fillet.AddFillet(corner, 8.0 if BRep_Tool.Pnt_s(corner).X() < 0 else 6.0)
    return BRepPrimAPI_MakePrism(fillet.Shape(), gp_Vec(0, 0, FLANGE - BOSS)).Shape()


def upright(x, y, bottom, top, diameter):
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, bottom), UP), diameter / 2, top - bottom).Shape()


def build():
    """The finished part as an Open CASCADE solid, mm."""
    shape = BRepAlgoAPI_Fuse(flange(), upright(-8, 0, 0, BOSS + 1, 22)).Shape()
    shape = BRepAlgoAPI_Fuse(shape, upright(-8, 0, FLANGE - 1, SHANK, 28)).Shape()
    point = 2.5 / math.tan(math.radians(59))
    cuts = [
        # M6 from below, 16 deep.
        upright(-8, 0, -1, 16, 5.0),
        BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(-8, 0, 16), UP), 2.5, 0.0, point).Shape(),
        # The float arm's bore down the shank, and two holes through the flange.
        upright(-8, 0, 34, SHANK + 1, 12.0),
        upright(25, 0, BOSS - 1, FLANGE + 1, 8.0),
        upright(-29, 0, BOSS - 1, FLANGE + 1, 5.0),
    ]
    for tool in cuts:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    unify = ShapeUpgrade_UnifySameDomain(shape, True, True, True)
    unify.Build()
    return TopoDS.Solid_s(TopExp_Explorer(unify.Shape(), TopAbs_ShapeEnum.TopAbs_SOLID).Current())


def write(solid, target):
    writer = STEPControl_Writer()
    writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(target))


if __name__ == "__main__":
    write(build(), Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("float-carrier.step"))
