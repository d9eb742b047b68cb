"""A stock as a solid of planes, whole cylinders, and facets where it is neither: STEP. The protected process
that writes it: `read` gives the file.
"""

from __future__ import annotations

import math
from collections import defaultdict, deque
from dataclasses import dataclass

import numpy as np
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakePolygon,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Sewing,
)
from OCP.gp import gp_Ax2, gp_Ax3, gp_Circ, gp_Cylinder, gp_Dir, gp_Pln, gp_Pnt
from OCP.ShapeFix import ShapeFix_Solid
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Face, TopoDS_Shape, TopoDS_Wire

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.fitting import across, circle_through
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.step_writer import step_bytes
from pelvrak.core.route.pieces import mesh_from_bytes

# Triangles whose corners lie so near one plane are one face, mm; faces so near each other meet.
PLANE_MM, SEWN_MM = 2e-3, 5e-3
PLANE_COS = math.cos(math.radians(1.0))
# A wall is a cylinder where its corners lie so near one at most and in the root of the mean square, mm, and
# its facets look so square to the axis, each by its size.
ROUND_MM, ROUND_RMS_MM, ROUND_SINE = 0.1, 0.03, 0.03
# No two corners of its rim are farther apart than this, seen from the middle.
GAP_RAD = math.radians(50.0)
MOST_FACES = 60_000
Loop = list[int]


@dataclass(frozen=True)
class Cylinder:
    """A whole cylinder between two plane faces: middle of its lower end, axis (unit), radius, length."""

    foot: Floats
    axis: Floats
    radius: float
    length: float
    hollow: bool


class Faces:
    """A closed mesh sorted into faces: `of` gives each triangle's, `normal` each face's."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        corners = mesh.vertices[mesh.triangles]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.size = np.linalg.norm(normal, axis=1)
        self.looks = normal / np.maximum(self.size, 1e-12)[:, None]
        self.of = np.full(len(mesh.triangles), -1, np.int64)
        self.normal: list[Floats] = []
        self.beside = self._neighbours()
        self._grow()

    def _neighbours(self) -> list[list[int]]:
        across: dict[tuple[int, int], int] = {}
        out: list[list[int]] = []
        for number, (a, b, c) in enumerate(self.mesh.triangles.tolist()):
            for edge in ((a, b), (b, c), (c, a)):
                across[edge] = number
        for a, b, c in self.mesh.triangles.tolist():
            out.append([across.get(edge, -1) for edge in ((b, a), (c, b), (a, c))])
        return out

    def _grow(self) -> None:
        """Planes from the largest triangle on; what is left over is a face of its own."""
        vertices, triangles = self.mesh.vertices, self.mesh.triangles
        for seed in np.argsort(-self.size, kind="stable").tolist():
            if self.of[seed] >= 0:
                continue
            number, look = len(self.normal), self.looks[seed]
            level = float(look @ vertices[triangles[seed, 0]])
            self.normal.append(look)
            self.of[seed] = number
            wave = deque([seed])
            while wave:
                for other in self.beside[wave.popleft()]:
                    if other < 0 or self.of[other] >= 0:
                        continue
                    flat = np.abs(vertices[triangles[other]] @ look - level).max() < PLANE_MM
                    # A sliver looks anywhere; it lies where its corners lie.
                    if flat and (self.size[other] < 1e-6 or self.looks[other] @ look > PLANE_COS):
                        self.of[other] = number
                        wave.append(other)

    def loops(self, within: np.ndarray) -> list[tuple[Loop, set[int]]]:
        """The closed edges of some triangles (bool per triangle), each with the faces across it."""
        after: dict[int, list[tuple[int, int]]] = defaultdict(list)
        for number in np.flatnonzero(within).tolist():
            a, b, c = self.mesh.triangles[number].tolist()
            for (start, end), other in zip(((a, b), (b, c), (c, a)), self.beside[number], strict=True):
                if other < 0 or not within[other]:
                    after[start].append((end, -1 if other < 0 else int(self.of[other])))
        out = []
        while after:
            start = next(iter(after))
            loop, across, here = [start], set(), start
            while True:
                here, other = after[here].pop()
                across.add(other)
                if not after[loop[-1]]:
                    del after[loop[-1]]
                if here == start:
                    break
                if here not in after:
                    raise ValueError("its surface has a hole")
                loop.append(here)
            out.append((loop, across))
        return out


def _cylinder(faces: Faces, wall: np.ndarray) -> tuple[Cylinder, list[tuple[Loop, set[int]]]] | None:
    """The cylinder that a round wall is, and its two rims; None where it is none, or not whole."""
    loops = faces.loops(wall)
    if len(loops) != 2 or any(len(across) != 1 for _, across in loops):
        return None
    ends = [faces.normal[next(iter(across))] for _, across in loops]
    axis = ends[0]
    leans = float(np.average(np.abs(faces.looks[wall] @ axis), weights=faces.size[wall]))
    if abs(abs(ends[0] @ ends[1]) - 1) > 1e-6 or leans > ROUND_SINE:
        return None
    points = faces.mesh.vertices[np.unique(faces.mesh.triangles[wall])]
    one, two = sides = across(axis)
    flat = points @ sides.T
    middle, radius = circle_through(flat)
    off = np.abs(np.linalg.norm(flat - middle, axis=1) - radius)
    if off.max() > ROUND_MM or math.sqrt(float((off**2).mean())) > ROUND_RMS_MM:
        return None
    for loop, _ in loops:
        rim = faces.mesh.vertices[loop]
        turn = np.sort(np.arctan2(rim @ two - middle[1], rim @ one - middle[0]))
        if np.diff(np.append(turn, turn[0] + 2 * math.pi)).max() > GAP_RAD:
            return None
    heights = [float(axis @ faces.mesh.vertices[loop[0]]) for loop, _ in loops]
    looks = faces.looks[wall]
    centres = faces.mesh.vertices[faces.mesh.triangles[wall]].mean(axis=1)
    out = centres - middle[0] * one - middle[1] * two - (centres @ axis)[:, None] * axis
    hollow = float(np.einsum("ij,ij->i", looks, out).sum()) < 0
    low, high = min(heights), max(heights)
    if high - low < 1e-3:
        return None
    foot = middle[0] * one + middle[1] * two + low * axis
    return Cylinder(foot, axis, radius, high - low, hollow), loops


def _walls(faces: Faces) -> list[np.ndarray]:
    """Connected stretches of triangles that stand for a round wall."""
    bent = faces.mesh.round
    if bent is None:
        return []
    seen = ~bent
    out = []
    for start in np.flatnonzero(bent).tolist():
        if seen[start]:
            continue
        own, wave = np.zeros(len(bent), bool), deque([start])
        seen[start] = own[start] = True
        while wave:
            for other in faces.beside[wave.popleft()]:
                if other >= 0 and not seen[other]:
                    seen[other] = own[other] = True
                    wave.append(other)
        out.append(own)
    return out


def _point(at: Floats) -> gp_Pnt:
    return gp_Pnt(*(float(one) for one in at))


def _dir(way: Floats) -> gp_Dir:
    return gp_Dir(*(float(one) for one in way))


def _wire(points: Floats) -> TopoDS_Wire:
    polygon = BRepBuilderAPI_MakePolygon()
    for point in points:
        polygon.Add(_point(point))
    polygon.Close()
    return polygon.Wire()


def _straight(loop: Loop, vertices: Floats, kept: set[int]) -> Loop:
    """A loop without corners on its straight stretches; kept: those where more than two faces meet."""
    if len(loop) <= 3:
        return loop
    points = vertices[loop]
    before, after = points - np.roll(points, 1, axis=0), np.roll(points, -1, axis=0) - points
    length = np.linalg.norm(before, axis=1) * np.linalg.norm(after, axis=1)
    bends = np.linalg.norm(np.cross(before, after), axis=1) > 1e-6 * np.maximum(length, 1e-12)
    left = [corner for corner, bend in zip(loop, bends, strict=True) if bend or corner in kept]
    return left if len(left) >= 3 else loop


def _circle(cylinder: Cylinder, rim: Floats) -> TopoDS_Wire:
    at = cylinder.foot + ((rim - cylinder.foot) @ cylinder.axis) * cylinder.axis
    circle = gp_Circ(gp_Ax2(_point(at), _dir(cylinder.axis)), cylinder.radius)
    return BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire()


def _round_face(cylinder: Cylinder) -> TopoDS_Face:
    surface = gp_Cylinder(gp_Ax3(_point(cylinder.foot), _dir(cylinder.axis)), cylinder.radius)
    face = BRepBuilderAPI_MakeFace(surface, 0.0, 2 * math.pi, 0.0, cylinder.length).Face()
    return TopoDS.Face_s(face.Reversed()) if cylinder.hollow else face


def solids_of(mesh: Mesh) -> list[TopoDS_Shape]:
    """The solids that a closed mesh bounds, one for each of its shells. Raises BadInput."""
    faces = Faces(mesh)
    circles: dict[tuple[int, int], tuple[Cylinder, Floats]] = {}
    flat = np.ones(len(mesh.triangles), bool)
    sewing = BRepBuilderAPI_Sewing(SEWN_MM)
    for wall in _walls(faces):
        found = _cylinder(faces, wall)
        if found is None:
            continue
        cylinder, rims = found
        flat &= ~wall
        sewing.Add(_round_face(cylinder))
        for loop, beyond in rims:
            circles[(next(iter(beyond)), min(loop))] = cylinder, mesh.vertices[loop[0]]
    numbers = np.unique(faces.of[flat])
    if len(numbers) > MOST_FACES:
        raise BadInput(
            "stock.too_many_faces",
            "stock",
            f"as STEP this stock would have {len(numbers)} faces",
            "save it as STL or 3MF, or compute it with coarser rays",
        )
    meet: dict[int, set[int]] = defaultdict(set)
    for triangle, number in zip(mesh.triangles.tolist(), faces.of.tolist(), strict=True):
        for corner in triangle:
            meet[corner].add(number)
    kept = {corner for corner, own in meet.items() if len(own) > 2}
    for number in numbers.tolist():
        sewing.Add(_flat_face(faces, number, flat & (faces.of == number), circles, kept))
    sewing.Perform()
    return _solids(sewing.SewedShape())


def _flat_face(
    faces: Faces,
    number: int,
    within: np.ndarray,
    circles: dict[tuple[int, int], tuple[Cylinder, Floats]],
    kept: set[int],
) -> TopoDS_Face:
    """A plane face with its outline and its holes."""
    vertices, look = faces.mesh.vertices, faces.normal[number]
    wires: list[tuple[float, TopoDS_Wire]] = []
    at = None
    for loop, _ in faces.loops(within):
        points = vertices[loop]
        at = points[0] if at is None else at
        area = float(look @ np.cross(points, np.roll(points, -1, axis=0)).sum(axis=0)) / 2
        round_one = circles.get((number, min(loop)))
        if round_one is None:
            wires.append((area, _wire(vertices[_straight(loop, vertices, kept)])))
        else:
            wire = _circle(*round_one)
            forward = float(round_one[0].axis @ look) > 0
            wires.append((area, wire if forward == (area > 0) else TopoDS.Wire_s(wire.Reversed())))
    assert at is not None
    wires.sort(key=lambda one: -one[0])
    made = BRepBuilderAPI_MakeFace(gp_Pln(_point(at), _dir(look)), wires[0][1], True)
    for _, wire in wires[1:]:
        made.Add(wire)
    return made.Face()


def _solids(sewn: TopoDS_Shape) -> list[TopoDS_Shape]:
    out = []
    shells = TopExp_Explorer(sewn, TopAbs_ShapeEnum.TopAbs_SHELL)
    while shells.More():
        solid = BRepBuilderAPI_MakeSolid(TopoDS.Shell_s(shells.Current())).Solid()
        mended = ShapeFix_Solid(solid)
        mended.Perform()
        out.append(mended.Solid())
        shells.Next()
    if not out:
        raise ValueError("its faces do not close")
    return out


def to_step(mesh: Mesh, called: str) -> bytes:
    """STEP AP214, mm."""
    return step_bytes(solids_of(mesh), called)


def read(data: bytes, name: str, words: list[str]) -> bytes:
    """A STEP file of a stock from its surface (a result's surface.npz piece)."""
    return to_step(mesh_from_bytes(data), name)
