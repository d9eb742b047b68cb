"""Builds the third demo part, the gate-latch plate, and writes its STEP file.

Invented for the demo. Top is +Z: a plate with a bore through it; from below a recess round the bore and a
step along one end. Run: python build_part.py [TARGET.step]
"""

from __future__ import annotations

import sys
from pathlib import Path

from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS

LONG, WIDE, THICK = 80.0, 50.0, 18.0
BORE, RECESS, DEEP = 26.0, 38.0, 5.0
AT = (30.0, 25.0)


def upright(x, y, bottom, top, diameter):
    return BRepPrimAPI_MakeCylinder(
        gp_Ax2(gp_Pnt(x, y, bottom), gp_Dir(0, 0, 1)), diameter / 2, top - bottom
    ).Shape()


def rounded(shape, radius):
    """The four upright edges rounded."""
    fillet = BRepFilletAPI_MakeFillet(shape)
    found = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_EDGE)
    while found.More():
        edge = TopoDS.Edge_s(found.Current())
        curve = BRepAdaptor_Curve(edge)
        one, two = curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())
        if abs(one.Z() - two.Z()) > 1:
            fillet.Add(radius, edge)
        found.Next()
    return fillet.Shape()


def build():
    """The finished part as an Open CASCADE solid, mm."""
    shape = rounded(BRepPrimAPI_MakeBox(gp_Pnt(0, 0, 0), LONG, WIDE, THICK).Shape(), 6.0)
    cuts = [
        upright(*AT, -1, THICK + 1, BORE),
        upright(*AT, -1, DEEP, RECESS),
        BRepPrimAPI_MakeBox(gp_Pnt(64, -1, -1), 20, WIDE + 2, 1 + 4).Shape(),
        upright(56, 12, -1, THICK + 1, 7.0),
        upright(56, 38, -1, THICK + 1, 7.0),
    ]
    for tool in cuts:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    return TopoDS.Solid_s(TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID).Current())


def write(solid, target):
    writer = STEPControl_Writer()
    writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(target))


if __name__ == "__main__":
    write(build(), Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("latch-plate.step"))
