"""What does a STEP file hold? Reading by Open CASCADE, in a process of its own."""

from __future__ import annotations

import hashlib
import math
import subprocess
import sys
import tempfile
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
from OCP.STEPControl import STEPControl_Reader
from OCP.TColStd import TColStd_SequenceOfAsciiString
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS
from OCP.TopTools import TopTools_IndexedMapOfShape

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.geometry.part import SAME_PLACE_MM, Edge, Face, Hole, Part, PartModel, Vector, packed, unpacked

SIZE_LIMIT_BYTES = 64 * 1024**2
TIME_LIMIT_S = 120.0
DEFLECTION_MM = 0.004
ANGLE_RAD = 0.12
REFUSED, CRASHED = 3, 4

_SURFACES = {
    GeomAbs_SurfaceType.GeomAbs_Plane: "plane",
    GeomAbs_SurfaceType.GeomAbs_Cylinder: "cylinder",
    GeomAbs_SurfaceType.GeomAbs_Cone: "cone",
    GeomAbs_SurfaceType.GeomAbs_Sphere: "sphere",
    GeomAbs_SurfaceType.GeomAbs_Torus: "torus",
}


def read_step(data: bytes, name: str = "part.step") -> PartModel:
    """The part in a STEP file (ISO 10303-21), in mm whatever unit the file uses.

    The file is read in a process of its own: one that crashes or hangs the reader is reported and
    nothing else happens. Raises BadInput ("part.empty", "part.too_large", "part.not_step",
    "part.unreadable", "part.no_solid", "part.several_solids", "part.crashed", "part.too_slow").
    """
    _refuse_by_look(data, name)
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "part.step", Path(folder) / "part.npz"
        source.write_bytes(data)
        command = [sys.executable, "-m", "pelvrak.core.geometry.step_file", str(source), str(target), name]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=TIME_LIMIT_S, check=False)
        except subprocess.TimeoutExpired as late:
            raise BadInput(
                "part.too_slow", name, f"reading took longer than {TIME_LIMIT_S:.0f} s", "export a simpler solid"
            ) from late
        if done.returncode == REFUSED:
            code, what, mend = done.stderr.strip().splitlines()[-1].split("|")
            raise BadInput(code, name, what, mend)
        if done.returncode != 0 or not target.exists():
            raise BadInput(
                "part.crashed",
                name,
                f"the reader broke down on this file (exit {done.returncode})",
                "export the part again as STEP AP214 or AP242",
            )
        return unpacked(target.read_bytes())


def _refuse_by_look(data: bytes, name: str) -> None:
    if not data:
        raise BadInput("part.empty", name, "the file is empty", "choose the exported STEP file")
    if len(data) > SIZE_LIMIT_BYTES:
        raise BadInput(
            "part.too_large",
            name,
            f"the file has {len(data) / 1024**2:.0f} MiB, the limit is {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )
    if b"ISO-10303-21" not in data[:1024]:
        kind = "an STL file" if data[:5].lower() == b"solid" or _looks_like_stl(data) else "not a STEP file"
        raise BadInput(
            "part.not_step",
            name,
            f"this is {kind}; a STEP file begins with ISO-10303-21",
            "export the part as STEP (AP203, AP214 or AP242)",
        )


def _looks_like_stl(data: bytes) -> bool:
    return len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little")


def _vector(point: Any) -> Vector:
    return (point.X(), point.Y(), point.Z())


def _box(shape: Any) -> tuple[Vector, Vector]:
    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    return _vector(box.CornerMin()), _vector(box.CornerMax())


def read_in_process(path: Path, name: str) -> PartModel:
    """`read_step` without the protecting process."""
    data = path.read_bytes()
    _refuse_by_look(data, name)
    reader = STEPControl_Reader()
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise BadInput("part.unreadable", name, "the STEP file is damaged or cut short", "export it again")
    lengths, angles, solid_angles = (TColStd_SequenceOfAsciiString() for _ in range(3))
    reader.FileUnits(lengths, angles, solid_angles)
    unit = lengths.Value(1).ToCString() if lengths.Length() else "unknown"
    reader.TransferRoots()
    shape = reader.OneShape() if reader.NbShapes() else None
    if shape is None or shape.IsNull():
        raise BadInput("part.unreadable", name, "no shape could be read from the STEP file", "export it again")
    solids = []
    explorer = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    while explorer.More():
        solids.append(TopoDS.Solid_s(explorer.Current()))
        explorer.Next()
    if not solids:
        raise BadInput(
            "part.no_solid", name, "the file holds surfaces or curves but no closed solid", "export a solid body"
        )
    if len(solids) > 1:
        raise BadInput(
            "part.several_solids", name, f"the file holds {len(solids)} solids", "export the one part to be made"
        )
    return model_of_solid(solids[0], hashlib.sha256(data).hexdigest(), unit)


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
    _, first, back = np.unique(np.round(everything, 6), axis=0, return_index=True, return_inverse=True)
    welded = back.reshape(-1)[np.concatenate(triangles)]
    alive = (welded[:, 0] != welded[:, 1]) & (welded[:, 1] != welded[:, 2]) & (welded[:, 2] != welded[:, 0])
    mesh = Mesh(everything[first], welded[alive].astype(np.int64), np.concatenate(labels)[alive])
    volume, area = GProp_GProps(), GProp_GProps()
    BRepGProp.VolumeProperties_s(solid, volume)
    BRepGProp.SurfaceProperties_s(solid, area)
    if volume.Mass() <= 0 or not BRepCheck_Analyzer(solid).IsValid():
        raise BadInput(
            "part.no_solid", "part", "the solid is not closed or is inside out", "repair and export it again"
        )
    low, high = _box(solid)
    part = Part(
        sha256=sha256, unit=unit, low=low, high=high, volume_mm3=volume.Mass(), area_mm2=area.Mass(),
        faces=tuple(faces), edges=tuple(edges), holes=tuple(_holes(faces, mesh)),
    )  # fmt: skip
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
    return Edge(number=number, kind=kind, length=length.Mass(), points=tuple(_vector(p) for p in points), **extra)


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
    low, high = _box(face)
    return Face(
        number=number, kind=kind, area=properties.Mass(), centre=_vector(properties.CentreOfMass()),
        low=low, high=high, loops=tuple(_loops(face, edges_map)), **extra,
    )  # fmt: skip


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


def _holes(faces: list[Face], mesh: Mesh) -> list[Hole]:
    """Hollow cylinders that go all the way round, pieces of one cylinder taken together."""
    groups: list[list[Face]] = []
    for face in faces:
        if face.kind != "cylinder" or not face.hollow:
            continue
        for group in groups:
            if _same_cylinder(face, group[0]):
                group.append(face)
                break
        else:
            groups.append([face])
    return [hole for group in groups for hole in _stretches(group, mesh)]


def _stretches(group: list[Face], mesh: Mesh) -> list[Hole]:
    """The faces of one endless cylinder as holes: each stretch of it that goes all the way round."""
    first = group[0]
    assert first.axis and first.axis_point and first.radius
    axis, point = np.array(first.axis), np.array(first.axis_point)
    strongest = int(np.argmax(np.abs(axis)))
    # Along its axis a cylinder's box reaches past the cylinder by radius * sqrt(1 - a²) on each side.
    past = first.radius * math.sqrt(max(0.0, 1 - axis[strongest] ** 2))
    spans = []
    for face in group:
        ends = sorted(
            (end - point[strongest]) / axis[strongest]
            for end in (face.low[strongest] + past, face.high[strongest] - past)
        )
        spans.append((ends[0], ends[1], face))
    spans.sort(key=lambda span: span[0])
    stretches: list[tuple[float, float, list[Face]]] = []
    for low, high, face in spans:
        if stretches and low < stretches[-1][1] + SAME_PLACE_MM:
            before = stretches[-1]
            stretches[-1] = (before[0], max(before[1], high), [*before[2], face])
        else:
            stretches.append((low, high, [face]))
    holes = []
    for low, high, faces in stretches:
        if sum(face.turn_deg or 0 for face in faces) < 359.9:
            continue
        start, end = point + low * axis, point + high * axis
        holes.append(
            Hole(
                faces=tuple(f.number for f in faces), diameter=2 * first.radius, axis=first.axis,
                start=tuple(start.tolist()), end=tuple(end.tolist()), through=not _meets(mesh, start, axis),
            )
        )  # fmt: skip
    return holes


def _same_cylinder(one: Face, two: Face) -> bool:
    assert one.axis and two.axis and one.axis_point and two.axis_point and one.radius and two.radius
    if abs(one.radius - two.radius) > 1e-6 or abs(abs(np.dot(one.axis, two.axis)) - 1) > 1e-9:
        return False
    apart = np.subtract(one.axis_point, two.axis_point)
    return bool(np.linalg.norm(np.cross(apart, one.axis)) < 1e-6)


def _meets(mesh: Mesh, point: np.ndarray, axis: np.ndarray) -> bool:
    """Whether the endless line through a point meets the mesh."""
    across = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    across /= np.linalg.norm(across)
    flat = (mesh.vertices - point) @ np.array([across, np.cross(axis, across)]).T
    a, b, c = (flat[mesh.triangles[:, i]] for i in range(3))

    def side(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        return np.asarray(p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0])

    sides = np.stack([side(a, b), side(b, c), side(c, a)])
    return bool(((sides > 1e-9).all(axis=0) | (sides < -1e-9).all(axis=0)).any())


def main(arguments: list[str]) -> int:
    """The protected process: STEP file, target file, name shown in messages."""
    source, target, name = arguments
    try:
        model = read_in_process(Path(source), name)
    except BadInput as bad:
        print(f"{bad.code}|{bad.what}|{bad.mend}", file=sys.stderr)
        return REFUSED
    Path(target).write_bytes(packed(model))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
