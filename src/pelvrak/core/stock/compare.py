"""How far is the stock from the part: where is material left, where is too little?"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkImplicitPolyDataDistance

from pelvrak.core.geometry.mesh import Floats, Mesh, from_solid, to_solid
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.shapes import field_of_mesh, volume_without

SPACING_MM = 1.2
# Differences along a ray below this are facets, not material.
LEAST_MM = 0.02


@dataclass(frozen=True)
class Comparison:
    """Stock against part.

    surface: the stock's, fine enough to be coloured; away: signed distance of its vertices to the
    part, mm, positive where material is left. max_left_mm and max_gouge_mm are zero or positive;
    left_at and gouge_at: where they are, work frame.
    """

    surface: Mesh
    away: Floats
    left_volume_mm3: float
    gouge_volume_mm3: float
    max_left_mm: float
    max_gouge_mm: float
    left_at: Floats
    gouge_at: Floats


def poly_data(mesh: Mesh) -> vtkPolyData:
    """A mesh as VTK takes it."""
    points = vtkPoints()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(mesh.vertices), deep=True))
    cells = vtkCellArray()
    offsets = np.arange(0, 3 * len(mesh.triangles) + 1, 3, dtype=np.int64)
    cells.SetData(
        numpy_to_vtkIdTypeArray(offsets, deep=True), numpy_to_vtkIdTypeArray(mesh.triangles.ravel(), deep=True)
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
    return from_solid(solid.refine_to_length(length))


def compare(field: RayField, surface: Mesh, part: Mesh) -> Comparison:
    """Compare the stock (its field and its surface) with the part's mesh, all in the work frame."""
    wanted = field_of_mesh(field.grid, part)
    fine = refined(surface, SPACING_MM)
    away = signed_distance(fine.vertices, part)
    points = refined(part, SPACING_MM).vertices
    missing = signed_distance(points, surface)
    most, least, bare = int(np.argmax(away)), int(np.argmin(away)), int(np.argmax(missing))
    gouge_here, gouge_there = max(0.0, -float(away[least])), max(0.0, float(missing[bare]))
    return Comparison(
        fine, away,
        left_volume_mm3=volume_without(field, wanted, LEAST_MM),
        gouge_volume_mm3=volume_without(wanted, field, LEAST_MM),
        max_left_mm=max(0.0, float(away[most])),
        max_gouge_mm=max(gouge_here, gouge_there),
        left_at=fine.vertices[most],
        gouge_at=fine.vertices[least] if gouge_here >= gouge_there else points[bare],
    )  # fmt: skip
