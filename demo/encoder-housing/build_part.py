"""Builds the demo part, the sluice-gate encoder housing, and writes its STEP file.

Invented for the demo. Top is +Z, the bore stands at (-19, 0), the part lies on Z = 0.
Threads are modelled at their tapping-drill diameter. Run: python build_part.py [TARGET.step]
"""

from __future__ import annotations

import math
import sys
from pathlib import Path

from OCP.BRep import BRep_Tool
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Transform,
)
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet2d
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape

LENGTH, HEIGHT = 120.0, 42.0
BORE = (-19.0, 0.0)
CORNERS = [20, 16, 20, 20]
UP = gp_Dir(0, 0, 1)


def plate(corners, radii, bottom, top):
    """A prism over a polygon whose corners are rounded."""
    wire = BRepBuilderAPI_MakeWire()
    for (x0, y0), (x1, y1) in zip(corners, corners[1:] + corners[:1], strict=True):
        wire.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(x0, y0, bottom), gp_Pnt(x1, y1, bottom)).Edge())
    face = BRepBuilderAPI_MakeFace(wire.Wire()).Face()
    fillet = BRepFilletAPI_MakeFillet2d(face)
    vertices = TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(face, TopAbs_ShapeEnum.TopAbs_VERTEX, vertices)
    for i in range(vertices.Extent()):
        vertex = TopoDS.Vertex_s(vertices.FindKey(i + 1))
        p = BRep_Tool.Pnt_s(vertex)
        for (x, y), radius in zip(corners, radii, strict=True):
            if math.hypot(p.X() - x, p.Y() - y) < 1e-6:
                fillet.AddFillet(vertex, radius)
    return BRepPrimAPI_MakePrism(fillet.Shape(), gp_Vec(0, 0, top - bottom)).Shape()


def cylinder(x, y, bottom, top, diameter):
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, bottom), UP), diameter / 2, top - bottom).Shape()


def blind(axes, depth):
    """A tapping-drill hole with the drill's point under it, from a surface along an axis; a little of it
    stands out.
    """
    way, at = axes.Direction(), axes.Location()
    point = 2.5 / math.tan(math.radians(59))
    along = lambda by: gp_Pnt(at.X() + by * way.X(), at.Y() + by * way.Y(), at.Z() + by * way.Z())  # noqa: E731
    return [
        BRepPrimAPI_MakeCylinder(gp_Ax2(along(-2), way), 2.5, depth + 2).Shape(),
        BRepPrimAPI_MakeCone(gp_Ax2(along(depth), way), 2.5, 0.0, point).Shape(),
    ]


def rectangle(x0, x1, y0, y1):
    return [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]


def outline():
    """The outline's corners before rounding: the -y wall leans 6° in plan, its rounded corner reaches y =
    -40.
    """
    low = -42.212
    return [(-60, low), (60, low + LENGTH * math.tan(math.radians(6))), (60, 40), (-60, 40)]


def sensor_wedge():
    """What the sensor face takes off: 30° down from the top along the +y edge, 12 mm wide in plan."""
    wedge = BRepBuilderAPI_MakeWire()
    corners = [
        (28, HEIGHT),
        (41, HEIGHT - 13 * math.tan(math.radians(30))),
        (41, HEIGHT + 1),
        (28, HEIGHT + 1),
    ]
    for (y0, z0), (y1, z1) in zip(corners, corners[1:] + corners[:1], strict=True):
        wedge.Add(BRepBuilderAPI_MakeEdge(gp_Pnt(-61, y0, z0), gp_Pnt(-61, y1, z1)).Edge())
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wedge.Wire()).Face(), gp_Vec(122, 0, 0)).Shape()


def build():
    """The finished part as an Open CASCADE solid, mm."""
    shape = plate(outline(), CORNERS, 0, HEIGHT)
    cuts = [
        cylinder(*BORE, -1, HEIGHT + 1, 35),
        cylinder(*BORE, HEIGHT - 6, HEIGHT + 1, 52),
        plate(rectangle(23, 53, -20, 20), [6] * 4, 18, HEIGHT + 1),
        plate(rectangle(20, 52, -22, 24), [5] * 4, -1, 8),
        BRepAlgoAPI_Cut(cylinder(*BORE, -1, 3, 50), cylinder(*BORE, -2, 4, 42)).Shape(),
    ]
    for turn in (45, 135, 225, 315):
        x = BORE[0] + 32 * math.cos(math.radians(turn))
        y = BORE[1] + 32 * math.sin(math.radians(turn))
        cuts.append(cylinder(x, y, HEIGHT - 16, HEIGHT + 1, 5.0))
        cuts.append(
            BRepPrimAPI_MakeCone(
                gp_Ax2(gp_Pnt(x, y, HEIGHT - 16 - 2.5 / math.tan(math.radians(59))), UP),
                0.0,
                2.5,
                2.5 / math.tan(math.radians(59)),
            ).Shape()
        )
        cuts.append(BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, y, HEIGHT - 0.7), UP), 2.5, 3.2, 0.7).Shape())
    for x in (BORE[0] - 33, BORE[0] + 33):
        cuts.append(cylinder(x, 0, -1, HEIGHT + 1, 8.0))
        cuts.append(BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, 0, HEIGHT - 0.3), UP), 4.0, 4.3, 0.3).Shape())
    # Cable-gland port M12x1.5 in the +y end face, into the electronics pocket, and two cross holes M6 beside
    # it.
    cuts.append(BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(34.5, 12, 27), gp_Dir(0, 1, 0)), 10.5 / 2, 30).Shape())
    for x in (-30, 10):
        cuts += blind(gp_Ax2(gp_Pnt(x, 40, 15), gp_Dir(0, -1, 0)), 12)
    # The sensor face and a window square to it.
    cuts.append(sensor_wedge())
    drop = 12 * math.tan(math.radians(30))
    window = plate(rectangle(-12, 12, -3.5, 3.5), [2] * 4, -4, 3)
    tilt, place = gp_Trsf(), gp_Trsf()
    tilt.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), gp_Dir(1, 0, 0)), math.radians(-30))
    place.SetTranslation(gp_Vec(-5, 34, HEIGHT - drop / 2))
    cuts.append(BRepBuilderAPI_Transform(window, place.Multiplied(tilt), True).Shape())
    # Its cover's two screws, beside the window.
    for x in (-27, 17):
        way = gp_Dir(0, -0.5, -math.sqrt(0.75))
        cuts += blind(gp_Ax2(gp_Pnt(x, 34, HEIGHT - drop / 2), way), 9)
    for tool in cuts:
        shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    unify = ShapeUpgrade_UnifySameDomain(shape, True, True, True)
    unify.Build()
    explorer = TopExp_Explorer(unify.Shape(), TopAbs_ShapeEnum.TopAbs_SOLID)
    return TopoDS.Solid_s(explorer.Current())


def write(solid, target):
    writer = STEPControl_Writer()
    writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(target))


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("encoder-housing.step")
    write(build(), target)
