"""Solved jaws as files for others: their solids as STEP (written by `jaw_solids`) and STL, the nest's outline
as DXF.
"""

from __future__ import annotations

import io
import math

import numpy as np
from shapely import Polygon
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from pelvrak.core.cutting.toolpath import Move, MoveKind, arc_sweep, fitted
from pelvrak.core.geometry.mesh import Floats, joined, to_stl, transformed
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.rigid import inverse, rigid, rotation_about_z
from pelvrak.core.holding.nest import RIM_CUTTER_MM, Nest, edges_of

# Arcs are put through the outline to within this, mm.
FIT_MM = 0.01

Step = tuple[MoveKind, tuple[float, float], tuple[float, float] | None]
Ring = tuple[tuple[float, float], ...]


class Room(Frozen):
    """What is taken out of jaws: an outline between two heights, mm, but for islands that stay."""

    outline: Ring
    bottom: float
    top: float
    islands: tuple[Ring, ...] = ()


class JawShape(Frozen):
    """Solved jaws in the nest's frame, mm: bodies as high, each from one y to another and so long, and the
    rooms cut out of all of them; corner_radius, edge_chamfer: of a block's own edges; lies: 3×4, where a
    block that is cut on its end, lying as long, wide and high as it is, gets to by standing up; mouth:
    chamfer round the opening of the first rooms, those that reach the top; bores: x, y, diameter, from and
    to which height.
    """

    height: float
    corner_radius: float = 0.0
    edge_chamfer: float = 0.0
    lies: tuple[tuple[float, float, float, float], ...] | None = None
    mouth: float = 0.0
    bores: tuple[tuple[float, float, float, float, float], ...] = ()
    bodies: tuple[tuple[float, float, float], ...]
    rooms: tuple[Room, ...]


def arcs(ring: Floats) -> tuple[tuple[float, float], list[Step]]:
    """A closed ring as lines and arcs: where it starts, then (kind, end, centre) of each."""
    start = (float(ring[0][0]), float(ring[0][1]))
    return start, [
        (kind, (float(end[0]), float(end[1])), centre) for kind, end, centre in fitted(ring, FIT_MM)
    ]


def arc_between(
    a: tuple[float, float], b: tuple[float, float], centre: tuple[float, float], kind: MoveKind
) -> tuple[float, float]:
    """Radius and angle, radians, negative where it turns right, of an arc from a to b."""
    return arc_sweep((*a, 0.0), Move(kind, (*b, 0.0), centre=centre))


def _pieces(region: BaseGeometry) -> list[Polygon]:
    shapes = list(region.geoms) if hasattr(region, "geoms") else [region]
    return [piece for piece in shapes if piece.geom_type == "Polygon" and piece.area > 1e-3]


def _ring(region: Polygon) -> Ring:
    return tuple((float(x), float(y)) for x, y in orient(region).exterior.coords)


def shape_of(nest: Nest) -> JawShape:
    """The jaws (fixed, moving) or the block of a nest."""
    length, height, thick = nest.half
    bodies = (
        ((-thick, 0.0, length), (-nest.opening, -thick - nest.gap, nest.front[0]))
        if nest.gap > 0
        else ((-thick / 2, thick / 2, length),)
    )
    step = nest.step_region()
    rooms = [(nest.left, nest.floor, nest.top + 5)]
    rooms += [] if step is None else [(step, nest.step_floor, nest.floor + 0.5)]
    rooms += [] if nest.boss is None else [(nest.boss, nest.boss_floor, nest.floor + 0.5)]
    cut = [
        Room(outline=_ring(piece), bottom=bottom, top=top)
        for region, bottom, top in rooms
        for piece in _pieces(region)
    ]
    if nest.spec.edge_break > 0:
        # The groove under the rim leaves an island.
        cut += [
            Room(
                outline=_ring(region),
                bottom=nest.floor - nest.spec.edge_break,
                top=nest.floor + 0.5,
                islands=tuple(_ring(one) for one in _pieces(region.buffer(-RIM_CUTTER_MM))),
            )
            for region in _pieces(nest.left)
        ]
    lies = None
    if nest.on_end:
        lies = tuple((float(a), float(b), float(c), float(d)) for a, b, c, d in inverse(nest.frame)[:3])
    own = edges_of(nest.lying, nest.spec)
    edges = dict(zip(("corner_radius", "edge_chamfer"), own, strict=True))
    return JawShape(
        height=height,
        bodies=bodies,
        rooms=tuple(cut),
        lies=lies,
        mouth=nest.spec.mouth,
        bores=tuple((b.x, b.y, b.diameter, b.low, b.high) for b in nest.bores),
        **({} if nest.gap > 0 else edges),
    )


def to_dxf(nest: Nest) -> bytes:
    """The opening of the nest and the outline of what goes in, mm, as closed polylines with arcs on layers
    NEST and WORK.
    """
    # What writes drawings takes a third of a second to load.
    import ezdxf.filemanagement
    import ezdxf.units

    drawing = ezdxf.filemanagement.new("R2010", setup=False)
    drawing.units = ezdxf.units.MM
    space = drawing.modelspace()
    for layer, region in (("NEST", nest.left), ("WORK", nest.outline)):
        drawing.layers.add(layer)
        start, steps = arcs(np.array(orient(region).exterior.coords))
        points, here = [], start
        for kind, end, centre in steps:
            bulge = 0.0 if centre is None else math.tan(arc_between(here, end, centre, kind)[1] / 4)
            points.append((here[0], here[1], bulge))
            here = end
        space.add_lwpolyline(points, format="xyb", close=True, dxfattribs={"layer": layer})
    out = io.StringIO()
    drawing.write(out)
    return out.getvalue().encode()


def to_stl_of(nest: Nest) -> bytes:
    """Both jaws as they stand when they grip, or the block."""
    assert nest.jaws is not None
    meshes = [nest.jaws.fixed]
    if nest.jaws.moving is not None:
        turn = rigid(rotation_about_z(180.0), np.array([0.0, -nest.opening, 0.0]))
        meshes.append(transformed(nest.jaws.moving, turn))
    return to_stl(joined(meshes), f"jaws {nest.blank}")
