"""Pictures for the route rail, drawn off screen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  registers the renderer
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkLogger, vtkPoints, vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkPolyDataNormals
from vtkmodules.vtkIOImage import vtkPNGWriter
from vtkmodules.vtkRenderingCore import (
    vtkActor,
    vtkLight,
    vtkPolyDataMapper,
    vtkRenderer,
    vtkRenderWindow,
    vtkWindowToImageFilter,
)

from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Piece, Pieces, Reads, Step
from pelvrak.core.geometry.mesh import Floats, Mesh, crease_lines, transformed
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import PART, SURFACE
from pelvrak.core.route.report import Report
from pelvrak.core.stock.compare import poly_data

WIDTH, HEIGHT = 184, 208
# From the operator's right front, above; and how much more than the body the picture shows.
FROM, FREE = (0.75, -1.0, 0.85), 1.05
# VTK says at every start that there is no monitor; we know.
vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_ERROR)
# Setup hues in order: the Okabe-Ito palette (Okabe and Ito, "Color universal design", 2008).
HUES = ("#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#D55E00", "#0072B2", "#F0E442")
METAL, BILLET, INK, GROUND = "#D9DBDA", "#B9C2C6", "#1E2A2F", "#FCFAF5"
HUE_SHARE = 0.6
# Holding is cool mid-grey.
FIXTURE_SHADE = (0xA9, 0xAE, 0xB0)


def _rgb(code: str) -> Floats:
    return np.array([int(code[i : i + 2], 16) for i in (1, 3, 5)], float)


def colours(makers: np.ndarray) -> np.ndarray:
    """Colour of each triangle from its maker: setup hue over light metal, billet pale slate; uint8 (n, 3)."""
    out = np.tile(_rgb(BILLET), (len(makers), 1))
    for setup in range(len(HUES)):
        mixed = HUE_SHARE * _rgb(HUES[setup]) + (1 - HUE_SHARE) * _rgb(METAL)
        chosen = (makers >> 8 > 0) & (((makers >> 8) - 1) % len(HUES) == setup)
        out[chosen] = mixed
    return out.astype(np.uint8)


def _half_height(mesh: Mesh, way: Floats) -> float:
    """Half of what the picture is high, mm: the mesh fits into it, high or wide, looked at from a direction
    with its box in the middle.
    """
    points = mesh.vertices[np.unique(mesh.triangles)]
    points = points - (points.min(axis=0) + points.max(axis=0)) / 2
    right = np.cross([0, 0, 1], way)
    wide, high = (np.abs(points @ to).max() / np.linalg.norm(to) for to in (right, np.cross(way, right)))
    return float(FREE * max(high, wide * HEIGHT / WIDTH))


def draw(mesh: Mesh, shades: np.ndarray) -> bytes:
    """PNG of a mesh seen from the operator's right front, up on the machine being up."""
    renderer = vtkRenderer()
    renderer.SetBackground(*(_rgb("#F1EDE3") / 255))
    renderer.AddActor(_body(mesh, shades))
    renderer.AddActor(_ink(mesh))
    light = vtkLight()
    light.SetLightTypeToCameraLight()
    light.SetPosition(-0.4, 0.9, 1.0)
    renderer.AddLight(light)
    window = vtkRenderWindow()
    window.SetOffScreenRendering(1)
    window.SetMultiSamples(8)
    window.SetSize(WIDTH, HEIGHT)
    window.AddRenderer(renderer)
    camera = renderer.GetActiveCamera()
    camera.ParallelProjectionOn()
    camera.SetViewUp(0, 0, 1)
    camera.SetPosition(*FROM)
    camera.SetFocalPoint(0, 0, 0)
    renderer.ResetCamera()
    camera.SetParallelScale(_half_height(mesh, np.array(FROM)))
    window.Render()
    png = _png(window)
    window.Finalize()
    return png


def _body(mesh: Mesh, shades: np.ndarray) -> vtkActor:
    """The mesh in its shades, smooth where it does not bend sharply."""
    data = poly_data(mesh)
    paint = vtkUnsignedCharArray()
    paint.DeepCopy(numpy_to_vtk(np.ascontiguousarray(shades)))
    data.GetCellData().SetScalars(paint)
    normals = vtkPolyDataNormals()
    normals.SetInputData(data)
    normals.SetFeatureAngle(30)
    normals.SplittingOn()
    mapper = vtkPolyDataMapper()
    mapper.SetInputConnection(normals.GetOutputPort())
    body = vtkActor()
    body.SetMapper(mapper)
    body.GetProperty().SetAmbient(0.55)
    body.GetProperty().SetDiffuse(0.6)
    body.GetProperty().SetSpecular(0.0)
    return body


def _ink(mesh: Mesh) -> vtkActor:
    """Its edges as lines."""
    segments = crease_lines(mesh)
    points, cells, strokes = vtkPoints(), vtkCellArray(), vtkPolyData()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(segments.reshape(-1, 3)), deep=True))
    for i in range(len(segments)):
        cells.InsertNextCell(2, (2 * i, 2 * i + 1))
    strokes.SetPoints(points)
    strokes.SetLines(cells)
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(strokes)
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    ink = vtkActor()
    ink.SetMapper(mapper)
    ink.GetProperty().SetColor(*(_rgb(INK) / 255))
    ink.GetProperty().SetLighting(False)
    ink.GetProperty().SetLineWidth(1.0)
    return ink


def _png(window: vtkRenderWindow) -> bytes:
    """What a window shows."""
    grab = vtkWindowToImageFilter()
    grab.SetInput(window)
    writer = vtkPNGWriter()
    writer.WriteToMemoryOn()
    writer.SetInputConnection(grab.GetOutputPort())
    writer.Write()
    return bytes(memoryview(writer.GetResult()))


@dataclass(frozen=True)
class StillGiven:
    """A stock's surface, or a finished part, as it lies on its machine."""

    surface: Content | None
    part: Content | None
    zero_from_work: tuple[tuple[float, ...], ...] | None


def _still(given: StillGiven, reads: Reads) -> Pieces:
    if given.surface is not None:
        mesh = reads.read(given.surface, SURFACE)
        shades = colours(mesh.label)
    else:
        assert given.part is not None
        mesh = reads.read(given.part, PART).mesh
        shades = np.tile(_rgb("#ECEAE2"), (len(mesh.triangles), 1)).astype(np.uint8)
    if given.zero_from_work is not None:
        mesh = transformed(mesh, np.array(given.zero_from_work))
    return {STILL_PNG: draw(mesh, shades)}


STILL_PNG: Piece[bytes] = Piece("still.png", bytes, bytes)
STILL = Step("still", 2, StillGiven, _still)


def render_stills(report: Report, engine: Engine) -> dict[str, str]:
    """Keys of the rail's pictures (piece still.png): "billet", each setup by name, "part"."""
    out = {}

    def still(name: str, key: str | None, zero_from_work: tuple[tuple[float, ...], ...] | None) -> None:
        if key is not None:
            surface = surface_of(engine, key).content(SURFACE)
            out[name] = engine.run(STILL, StillGiven(surface, None, zero_from_work), f"{name} still").key

    still("billet", report.billet.key, None)
    for setup in report.setups:
        still(setup.name, setup.outgoing_key, setup.zero_from_work)
    part = Result(report.part_key, engine).content(PART)
    out["part"] = engine.run(STILL, StillGiven(None, part, None), "part still").key
    return out
