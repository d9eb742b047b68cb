"""What does Open CASCADE find in a STEP file? Run by step_file in a process of its own, with what loads
it.
"""

from __future__ import annotations

import hashlib
import math
import re
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepGProp import BRepGProp
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools, BRepTools_WireExplorer
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_SurfaceType
from OCP.GProp import GProp_GProps
from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.STEPCAFControl import STEPCAFControl_Reader
from OCP.STEPControl import STEPControl_Reader, STEPControl_StepModelType, STEPControl_Writer
from OCP.TCollection import TCollection_ExtendedString
from OCP.TColStd import TColStd_SequenceOfAsciiString
from OCP.TDataStd import TDataStd_Name
from OCP.TDF import TDF_Label, TDF_LabelSequence
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape
from OCP.XCAFDoc import XCAFDoc_DocumentTool, XCAFDoc_ShapeTool

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.bores import bores
from pelvrak.core.geometry.mesh import Floats, Mesh, is_closed, welded
from pelvrak.core.geometry.part import UNKNOWN_UNIT, Edge, Face, Part, PartModel, Vector, as_vector, packed
from pelvrak.core.geometry.step_file import refuse_by_look
from pelvrak.core.geometry.step_tolerances import TOLD, tolerances_in, write_with

DEFLECTION_MM = 0.004
# How far the library's search for a box may end beside the side, mm.
BOX_SEARCHED_MM = 2e-3
ANGLE_RAD = 0.12
_TIMED = re.compile(rb"FILE_NAME\('[^']*','[^']*',")

_SURFACES = {
    GeomAbs_SurfaceType.GeomAbs_Plane: "plane",
    GeomAbs_SurfaceType.GeomAbs_Cylinder: "cylinder",
    GeomAbs_SurfaceType.GeomAbs_Cone: "cone",
    GeomAbs_SurfaceType.GeomAbs_Sphere: "sphere",
    GeomAbs_SurfaceType.GeomAbs_Torus: "torus",
}


def _vector(point: Any) -> Vector:
    return (point.X(), point.Y(), point.Z())


def _box(shape: Any) -> tuple[Vector, Vector]:
    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    return _vector(box.CornerMin()), _vector(box.CornerMax())


def _exact_box(low: Vector, high: Vector, faces: list[Face], corners: Floats) -> tuple[Vector, Vector]:
    """The box with each side put where a corner, or the crown of a round face, is known to lie; the library's
    own is searched for.
    """
    out = [list(low), list(high)]
    for axis in range(3):
        known = [corners[:, axis]]
        for face in faces:
            if face.axis_point is None or face.radius is None or face.kind == "cone":
                continue
            reach = face.radius + (face.minor_radius or 0.0)
            along = 0.0 if face.axis is None or face.kind == "sphere" else face.axis[axis]
            # A cylinder's crown lies r·√(1 - a²) off its axis where the axis is square to the side; a leaning
            # one has none.
            if abs(along) < 1e-9:
                known.append(np.array([face.axis_point[axis] - reach, face.axis_point[axis] + reach]))
        places = np.concatenate(known)
        for side in out:
            nearest = float(places[int(np.argmin(np.abs(places - side[axis])))])
            if abs(nearest - side[axis]) < BOX_SEARCHED_MM:
                side[axis] = nearest
    return as_vector(out[0]), as_vector(out[1])


def read_in_process(path: Path, name: str) -> PartModel:
    """What `step_file.read_step` does, without the protecting process."""
    data = path.read_bytes()
    refuse_by_look(data, name)
    reader, shape, unit = _shape_in(path, name)
    solids = list(_solids(shape))
    if not solids:
        raise BadInput(
            "part.no_solid",
            name,
            "the file holds surfaces or curves but no closed solid",
            "export a solid body",
        )
    if len(solids) > 1:
        raise SeveralSolids(name, _lines(path, solids))
    model = model_of_solid(solids[0], hashlib.sha256(data).hexdigest(), unit)
    if TOLD not in data:
        return model
    callouts, stray = tolerances_in(reader, solids[0], unit)
    told = {"callouts": callouts, "stray_callouts": stray}
    return replace(model, part=model.part.model_copy(update=told))


def _shape_in(path: Path, name: str) -> tuple[Any, Any, str]:
    """A STEP file's reader, everything in the file, in mm, and the unit it was written in."""
    reader = STEPControl_Reader()
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise BadInput("part.unreadable", name, "the STEP file is damaged or cut short", "export it again")
    lengths, angles, solid_angles = (TColStd_SequenceOfAsciiString() for _ in range(3))
    reader.FileUnits(lengths, angles, solid_angles)
    unit = (lengths.Value(1).ToCString() if lengths.Length() else "") or UNKNOWN_UNIT
    reader.TransferRoots()
    shape = reader.OneShape() if reader.NbShapes() else None
    if shape is None or shape.IsNull():
        raise BadInput(
            "part.unreadable", name, "no shape could be read from the STEP file", "export it again"
        )
    return reader, shape, unit


def _solids(shape: Any) -> Iterator[Any]:
    explorer = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    while explorer.More():
        yield TopoDS.Solid_s(explorer.Current())
        explorer.Next()


def _lines(path: Path, solids: list[Any]) -> list[dict[str, Any]]:
    """What there is to choose from: number, name, size (mm) and volume (mm³) of each solid."""
    names = _product_names(path)
    out = []
    for number, solid in enumerate(solids):
        low, high = _box(solid)
        amount = GProp_GProps()
        BRepGProp.VolumeProperties_s(solid, amount)
        out.append(
            {
                "number": number,
                "name": names[number] if len(names) == len(solids) else f"solid {number + 1}",
                "size": [round(b - a, 3) for a, b in zip(low, high, strict=True)],
                "volume_mm3": round(amount.Mass(), 3),
            }
        )
    return out


def _product_names(path: Path) -> list[str]:
    """The product each solid belongs to, in the order the solids come."""
    document = TDocStd_Document(TCollection_ExtendedString("pelvrak"))
    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone or not reader.Transfer(document):
        return []
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    out: list[str] = []

    def name_of(label: Any) -> str:
        name = TDataStd_Name()
        return str(name.Get().ToExtString()) if label.FindAttribute(TDataStd_Name.GetID_s(), name) else ""

    def walk(label: Any) -> None:
        own = label
        if XCAFDoc_ShapeTool.IsReference_s(label):
            own = TDF_Label()
            XCAFDoc_ShapeTool.GetReferredShape_s(label, own)
        if XCAFDoc_ShapeTool.IsAssembly_s(own):
            inner = TDF_LabelSequence()
            XCAFDoc_ShapeTool.GetComponents_s(own, inner)
            for i in range(inner.Length()):
                walk(inner.Value(i + 1))
        else:
            out.extend(name_of(own) or "solid" for _ in _solids(XCAFDoc_ShapeTool.GetShape_s(own)))

    roots = TDF_LabelSequence()
    tool.GetFreeShapes(roots)
    for i in range(roots.Length()):
        walk(roots.Value(i + 1))
    twice = {name for name in out if out.count(name) > 1}
    return [f"{name} ({i + 1})" if name in twice else name for i, name in enumerate(out)]


def model_of_solid(solid: Any, sha256: str, unit: str) -> PartModel:
    """Facts and mesh of an Open CASCADE solid in mm."""
    BRepMesh_IncrementalMesh(solid, DEFLECTION_MM, False, ANGLE_RAD, True)
    faces_map, edges_map = TopTools_IndexedMapOfShape(), TopTools_IndexedMapOfShape()
    TopExp.MapShapes_s(solid, TopAbs_ShapeEnum.TopAbs_FACE, faces_map)
    TopExp.MapShapes_s(solid, TopAbs_ShapeEnum.TopAbs_EDGE, edges_map)
    edges = [_edge(TopoDS.Edge_s(edges_map.FindKey(i + 1)), i) for i in range(edges_map.Extent())]
    faces, points, triangles, labels, shift = [], [], [], [], 0
    for i in range(faces_map.Extent()):
        face = TopoDS.Face_s(faces_map.FindKey(i + 1))
        faces.append(_face(face, i, edges_map))
        vertices, corners = _face_mesh(face)
        points.append(vertices)
        triangles.append(corners + shift)
        labels.append(np.full(len(corners), i, np.int64))
        shift += len(vertices)
    # Neighbouring faces share their edge points but for the last bits: weld them.
    everything = np.concatenate(points)
    first, number = welded(everything, 6)
    joined = number[np.concatenate(triangles)]
    alive = (joined[:, 0] != joined[:, 1]) & (joined[:, 1] != joined[:, 2]) & (joined[:, 2] != joined[:, 0])
    mesh = Mesh(everything[first], joined[alive].astype(np.int64), np.concatenate(labels)[alive])
    volume, area = GProp_GProps(), GProp_GProps()
    BRepGProp.VolumeProperties_s(solid, volume)
    BRepGProp.SurfaceProperties_s(solid, area)
    # What is meshed closed is closed; only when it is not is the solid looked at more closely, which takes
    # long.
    if volume.Mass() <= 0 or not (is_closed(mesh) or BRepCheck_Analyzer(solid).IsValid()):
        raise BadInput(
            "part.no_solid", "part", "the solid is not closed or is inside out", "repair and export it again"
        )
    low, high = _exact_box(*_box(solid), faces, mesh.vertices)
    part = Part(
        sha256=sha256,
        unit=unit,
        low=low,
        high=high,
        volume_mm3=volume.Mass(),
        area_mm2=area.Mass(),
        faces=tuple(faces),
        edges=tuple(edges),
        holes=tuple(bores(faces, mesh)),
    )
    return PartModel(part, mesh)


def _edge(edge: Any, number: int) -> Edge:
    length = GProp_GProps()
    BRepGProp.LinearProperties_s(edge, length)
    if BRep_Tool.Degenerated_s(edge):
        return Edge(number=number, kind="other", length=0.0, points=())
    curve = BRepAdaptor_Curve(edge)
    extra: dict[str, Any] = {}
    kind = "other"
    if curve.GetType() == GeomAbs_CurveType.GeomAbs_Line:
        kind, extra["direction"] = "line", _vector(curve.Line().Direction())
        points = [curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())]
    else:
        if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle:
            circle = curve.Circle()
            kind, extra["centre"], extra["radius"] = "circle", _vector(circle.Location()), circle.Radius()
        along = GCPnts_TangentialDeflection(curve, 0.05, DEFLECTION_MM / 4)
        points = [along.Value(i + 1) for i in range(along.NbPoints())]
    return Edge(
        number=number, kind=kind, length=length.Mass(), points=tuple(_vector(p) for p in points), **extra
    )


def _face(face: Any, number: int, edges_map: Any) -> Face:
    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, properties)
    surface = BRepAdaptor_Surface(face)
    kind = _SURFACES.get(surface.GetType(), "other")
    reversed_ = face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED
    extra: dict[str, Any] = {}
    if kind == "plane":
        position = surface.Plane().Position()
        normal = np.array(_vector(position.Direction()))
        if not position.Direct():
            normal = -normal
        extra["normal"] = tuple(float(x) for x in (-normal if reversed_ else normal))
    elif kind in ("cylinder", "cone", "torus"):
        body = {"cylinder": surface.Cylinder, "cone": surface.Cone, "torus": surface.Torus}[kind]()
        extra["axis"] = _vector(body.Axis().Direction())
        extra["axis_point"] = _vector(body.Axis().Location())
        radius = {"cylinder": "Radius", "cone": "RefRadius", "torus": "MajorRadius"}[kind]
        extra["radius"] = getattr(body, radius)()
        extra["hollow"] = reversed_ == body.Position().Direct()
        extra["turn_deg"] = math.degrees(surface.LastUParameter() - surface.FirstUParameter())
        if kind == "cone":
            extra["half_angle_deg"] = math.degrees(body.SemiAngle())
        if kind == "torus":
            extra["minor_radius"] = body.MinorRadius()
    elif kind == "sphere":
        ball = surface.Sphere()
        extra["axis_point"], extra["radius"] = _vector(ball.Location()), ball.Radius()
        extra["hollow"] = reversed_ == ball.Position().Direct()
    low, high = _box(face)
    return Face(
        number=number,
        kind=kind,
        area=properties.Mass(),
        centre=_vector(properties.CentreOfMass()),
        low=low,
        high=high,
        loops=tuple(_loops(face, edges_map)),
        **extra,
    )


def _loops(face: Any, edges_map: Any) -> list[tuple[int, ...]]:
    outer = BRepTools.OuterWire_s(face)
    loops: list[tuple[int, ...]] = []
    explorer = TopExp_Explorer(face, TopAbs_ShapeEnum.TopAbs_WIRE)
    while explorer.More():
        wire = TopoDS.Wire_s(explorer.Current())
        numbers = []
        walk = BRepTools_WireExplorer(wire, face)
        while walk.More():
            number = edges_map.FindIndex(walk.Current()) - 1
            forward = walk.Current().Orientation() == TopAbs_Orientation.TopAbs_FORWARD
            # An edge walked against its direction is written as -(number + 1).
            numbers.append(number if forward else -(number + 1))
            walk.Next()
        loops.insert(0 if wire.IsSame(outer) else len(loops), tuple(numbers))
        explorer.Next()
    return loops


def _face_mesh(face: Any) -> tuple[np.ndarray, np.ndarray]:
    location = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, location)
    if mesh is None:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    move = location.Transformation()
    vertices = np.array([_vector(mesh.Node(i + 1).Transformed(move)) for i in range(mesh.NbNodes())])
    corners = np.array([mesh.Triangle(i + 1).Get() for i in range(mesh.NbTriangles())], np.int64) - 1
    if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
        corners = corners[:, ::-1]
    return vertices, corners


def read(data: bytes, name: str, words: list[str]) -> bytes:
    """The packed model of the part ("read"), or a STEP file of one solid, by its number."""
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "part.step", Path(folder) / "solid.step"
        source.write_bytes(data)
        if words[0] == "read":
            return packed(read_in_process(source, name))
        reader, shape, unit = _shape_in(source, name)
        solids = list(_solids(shape))
        if not 0 <= int(words[0]) < len(solids):
            raise BadInput(
                "part.no_such_solid",
                name,
                f"there is no solid {words[0]} of {len(solids)}",
                "choose one of the list",
            )
        solid = solids[int(words[0])]
        told = tolerances_in(reader, solid, unit)[0] if TOLD in data else ()
        if told:
            write_with(solid, told, str(target))
        else:
            writer = STEPControl_Writer()
            writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
            writer.Write(str(target))
        # The library writes the time of day and a count of its own into the head.
        return _TIMED.sub(rb"FILE_NAME('solid','1970-01-01T00:00:00',", target.read_bytes(), count=1)
