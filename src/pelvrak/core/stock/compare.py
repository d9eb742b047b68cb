"""How far is the stock from the part: where is material left, where is too little?"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkImplicitPolyDataDistance

from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, crease_lines, mesh_of, to_solid, triangle_areas
from pelvrak.core.stock.cut import Sweep, cut
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.shapes import field_of_mesh, minus, volume_without
from pelvrak.core.stock.thin import LEAST_MM, Witness, between_nodes, stretches

SPACING_MM = 1.8
# Points between the corners of a triangle that may hold the greatest distance, and how many such triangles at
# most.
BETWEEN = 4
MOST_TRIANGLES = 2000
# Places so nearly alike far from two faces stand over both, mm.
TIE_MM = 1e-6
Known = Callable[[Floats, Floats], Floats]


@dataclass(frozen=True)
class Comparison:
    """Stock against part.

    surface: the stock's, fine enough to be coloured; away: signed distance of its vertices to the part, mm,
    positive where material is left. max_left_mm and max_gouge_mm are zero or positive, and at sharp edges no
    more than the rays bear out; left_at and gouge_at: where they are, work frame. undrawn_mm: how far
    material stands out of the drawn surface where it is thinner than the rays' distance; undrawn_at: where.
    as_came_mm3: what stands on faces that stay as they came, and is not counted as left; cut_rough: who cut
    over those faces all the same, with the area, mm², and a place.
    """

    surface: Mesh
    away: Floats
    left_volume_mm3: float
    gouge_volume_mm3: float
    max_left_mm: float
    max_gouge_mm: float
    left_at: Floats
    gouge_at: Floats
    undrawn_mm: float
    undrawn_at: Floats
    as_came_mm3: float = 0.0
    cut_rough: tuple[tuple[int, float, Floats], ...] = ()


def poly_data(mesh: Mesh) -> vtkPolyData:
    """A mesh as VTK takes it."""
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(mesh.vertices), deep=True))
    cells = vtkCellArray()
    offsets = np.arange(0, 3 * len(mesh.triangles) + 1, 3, dtype=np.int64)
    cells.SetData(
        numpy_to_vtkIdTypeArray(offsets, deep=True),
        numpy_to_vtkIdTypeArray(mesh.triangles.ravel(), deep=True),
    )
    out = vtkPolyData()
    out.SetPoints(points)
    out.SetPolys(cells)
    return out


def signed_distance(points: Floats, mesh: Mesh) -> Floats:
    """Distance of points (n, 3) to a closed mesh, mm, negative inside."""
    distance = vtkImplicitPolyDataDistance()
    distance.SetInput(poly_data(mesh))
    out = numpy_to_vtk(np.zeros(len(points)), deep=True)
    distance.FunctionValue(numpy_to_vtk(np.ascontiguousarray(points), deep=True), out)
    return np.asarray(vtk_to_numpy(out), np.float64)


def refined(mesh: Mesh, length: float) -> Mesh:
    """The same surface with no edge longer than `length`, labels kept; itself when it is not manifold."""
    solid = to_solid(mesh)
    if solid.status() != manifold3d.Error.NoError:
        return mesh
    return mesh_of(solid.refine_to_length(length))


def along(segments: Floats, step: float) -> Floats:
    """Points (n, 3) along segments (k, 2, 3), no farther apart than `step`, mm."""
    out = [np.zeros((0, 3))]
    for start, end in segments:
        count = max(1, math.ceil(float(np.linalg.norm(end - start)) / step))
        out.append(start + (end - start) * np.linspace(0, 1, count + 1)[:, None])
    return np.concatenate(out)


def farthest(mesh: Mesh, away: Floats, sign: float, other: Mesh, known: Known) -> tuple[float, Floats]:
    """Greatest sign × distance of a surface from another, mm, and where; away: the distances of its vertices.

    known: gives depths at points as they are known there.

    A distance changes along the surface by no more than the way gone, so only triangles whose corners
    come near the greatest can hold a greater one: those are looked at in between.
    """
    own = known(mesh.vertices, sign * away)
    best = int(np.argmax(own))
    depth, place = float(own[best]), mesh.vertices[best]
    corners = mesh.vertices[mesh.triangles]
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    # No point of a triangle is farther than this from the nearest of its corners.
    most = (sign * away[mesh.triangles]).max(axis=1) + longest / math.sqrt(3)
    likely = np.argsort(-most, kind="stable")[:MOST_TRIANGLES]
    chosen = corners[likely[most[likely] > depth]]
    u, v = np.meshgrid(np.arange(BETWEEN + 1), np.arange(BETWEEN + 1))
    shares = np.array([u[u + v <= BETWEEN], v[u + v <= BETWEEN]]).T / BETWEEN
    shares = np.column_stack([1 - shares.sum(axis=1), shares])
    points = np.einsum("sc,tcd->tsd", shares, chosen).reshape(-1, 3)
    if len(points):
        between = known(points, sign * signed_distance(points, other))
        at = int(np.argmax(between))
        if between[at] > depth:
            depth, place = float(between[at]), points[at]
    return max(0.0, depth), place


def _unmarked(mesh: Mesh, meant: Sequence[Meant]) -> Mesh:
    """A surface without what wanted cuts have made."""
    own = np.isin(mesh.label, [one.maker for one in meant])
    return replace(mesh, triangles=mesh.triangles[~own], label=mesh.label[~own])


def _marked(mesh: Mesh, meant: Sequence[Meant]) -> Ints:
    """Vertices of what wanted cuts have made."""
    own = np.isin(mesh.label, [one.maker for one in meant])
    return np.unique(mesh.triangles[own])


def _near(points: Floats, made: Mesh, meant: Sequence[Meant]) -> NDArray[np.bool_]:
    """Which points lie where wanted cuts went: within the cutter's reach of what they have made. made: the
    surface, its edges no longer than SPACING_MM.
    """
    out = np.zeros(len(points), np.bool_)
    for one in meant:
        own = made.vertices[_marked(made, [one])]
        if len(own):
            cutter = one.sweep.cutter
            widest = max(cutter.widest, SPACING_MM)
            out |= cKDTree(own).query(points)[0] < widest + 2 * SPACING_MM
    return out


@dataclass(frozen=True)
class Meant:
    """A cut into the part that is wanted: the sweep that makes it, and the maker's number on the surface."""

    sweep: Sweep
    maker: int


def _but_for(rough: Rough | None, known: Known) -> Known:
    """What is known of depths, with none where a face stays as it came."""
    if rough is None:
        return known

    def depths(points: Floats, deep: Floats) -> Floats:
        return np.where(rough(points), 0.0, known(points, deep))

    return depths


# What lies straight under a place is off by no more, mm and of the way there; less cut than this share of the
# faces is a rim.
FOOT_MM, FOOT_SHARE, RIM_SHARE = 0.05, 0.02, 0.02


class Rough:
    """Which places stand over faces of the part that stay as they came: those no other face is nearer to."""

    def __init__(self, part: Mesh, faces: Collection[int]) -> None:
        own = np.isin(part.label, list(faces))
        self.rough, self.others = (
            Mesh(part.vertices, part.triangles[some], part.label[some]) for some in (own, ~own)
        )

    def nearer(self, points: Floats) -> Floats:
        """By how much the nearest other face is farther than the nearest rough one, mm, (n,)."""
        if not len(points) or not len(self.others.triangles) or not len(self.rough.triangles):
            return np.full(len(points), np.inf if len(self.rough.triangles) else -np.inf)
        away = [np.abs(signed_distance(points, mesh)) for mesh in (self.others, self.rough)]
        return np.asarray(away[0] - away[1])

    def __call__(self, points: Floats) -> NDArray[np.bool_]:
        """Bool (n,) of points (n, 3)."""
        return np.asarray(self.nearer(points) > -TIE_MM)

    def cut_in(self, surface: Mesh) -> tuple[tuple[int, float, Floats], ...]:
        """What of a stock's surface somebody cut that looks away from these faces right over them: maker,
        area, mm², and the middle of the largest triangle.
        """
        found: list[tuple[int, float, Floats]] = []
        least = RIM_SHARE * float(triangle_areas(self.rough.vertices[self.rough.triangles]).sum())
        for maker in (int(one) for one in np.unique(surface.label) if one > 0):
            corners = surface.vertices[surface.triangles[surface.label == maker]]
            area = triangle_areas(corners)
            corners, area = corners[area > 0], area[area > 0]
            square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            middles = corners.mean(axis=1)
            high = np.abs(signed_distance(middles, self.rough)) if len(middles) else np.zeros(0)
            # Straight under what looks away from a face lies the face.
            feet = middles - square / (2 * area[:, None]) * high[:, None]
            over = np.abs(signed_distance(feet, self.rough)) < np.maximum(FOOT_MM, FOOT_SHARE * high)
            # Only of those it is asked which face is nearest.
            over[over] = self(middles[over])
            if area[over].sum() > least:
                largest = middles[over][int(np.argmax(area[over]))]
                found.append((maker, float(area[over].sum()), largest))
        return tuple(found)


def _volume_on(difference: RayField, here: Callable[[Floats], NDArray[np.bool_]]) -> float:
    """Volume of the stretches of a field whose middles are somewhere, mm³: the mean of the three bundles."""
    total = 0.0
    for _, low, high, middle in stretches(difference):
        counts = (high - low > LEAST_MM) & here(middle)
        total += float((high - low)[counts].sum())
    return total * difference.grid.cell**2 / 3


def compare(
    field: RayField, surface: Mesh, part: Mesh, meant: Sequence[Meant] = (), as_came: Collection[int] = ()
) -> Comparison:
    """Compare the stock (its field and its surface) with the part's mesh, all in the work frame.

    meant: what of the part is to be gone too: cut there it is no gouge, and not cut there it is left.
    as_came: faces of the part on which what stands is no material left.
    """
    wanted = field_of_mesh(field.grid, part)
    for one in meant:
        wanted, _ = cut(wanted, one.sweep, one.maker)
    fine = refined(surface, SPACING_MM)
    away = signed_distance(fine.vertices, part)
    whole = refined(part, SPACING_MM)
    if meant:
        away[_marked(fine, meant)] = np.maximum(away[_marked(fine, meant)], 0.0)
        near = _near(whole.vertices, fine, meant)
        kept = ~near[whole.triangles].any(axis=1)
        used, corners = np.unique(whole.triangles[kept], return_inverse=True)
        whole = Mesh(whole.vertices[used], corners.reshape(-1, 3), whole.label[kept])
    rough = Rough(part, as_came) if as_came else None
    if rough is not None:
        over_rough = (away > 0) & rough(fine.vertices)
        away[over_rough] = 0.0
    thin = between_nodes(field)
    places = np.concatenate([along(crease_lines(part, by_label=False), field.grid.cell / 2), thin])
    standing = minus(field, wanted)
    over = _but_for(rough, Witness(places, field, wanted, standing).depths)
    under = Witness(places, wanted, field, minus(wanted, field)).depths
    left = farthest(fine, away, 1.0, part, over)
    gouge = max(
        farthest(_unmarked(fine, meant), away, -1.0, part, under),
        farthest(whole, signed_distance(whole.vertices, surface), 1.0, surface, under),
        key=lambda found: found[0],
    )
    undrawn = (0.0, surface.vertices[0])
    if len(thin):
        out = signed_distance(thin, surface)
        undrawn = (max(0.0, float(out.max())), thin[int(np.argmax(out))])
        # What is not drawn may be material left, too.
        beyond = over(thin, signed_distance(thin, part))
        left = max(left, (float(beyond.max()), thin[int(np.argmax(beyond))]), key=lambda found: found[0])
    as_came_mm3 = 0.0 if rough is None else _volume_on(standing, rough)
    return Comparison(
        fine,
        away,
        left_volume_mm3=max(0.0, volume_without(field, wanted, LEAST_MM) - as_came_mm3),
        gouge_volume_mm3=volume_without(wanted, field, LEAST_MM),
        max_left_mm=left[0],
        max_gouge_mm=gouge[0],
        left_at=left[1],
        gouge_at=gouge[1],
        undrawn_mm=undrawn[0],
        undrawn_at=undrawn[1],
        as_came_mm3=as_came_mm3,
        cut_rough=() if rough is None else rough.cut_in(fine),
    )
