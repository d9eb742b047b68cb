"""Which lines does a DXF drawing hold, and which closed shapes?"""

from __future__ import annotations

import io
from dataclasses import dataclass

import ezdxf.units
import numpy as np
from ezdxf import path as dxf_path
from ezdxf.document import Drawing
from ezdxf.entities.dxfentity import DXFEntity
from ezdxf.entities.lwpolyline import LWPolyline
from ezdxf.entities.polyline import Polyline
from ezdxf.entities.spline import Spline
from ezdxf.enums import InsertUnits
from ezdxf.filemanagement import read as read_dxf
from ezdxf.lldxf.const import DXFError
from ezdxf.math import Vec2, Vec3
from shapely import LineString, MultiPolygon, Polygon, make_valid, set_precision
from shapely.ops import polygonize, unary_union

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats

# Curves become chords within this; ends this near are joined.
FLAT_MM, JOIN_MM = 0.002, 0.005
MOST_ENTITIES, MOST_POINTS, LARGEST_MM = 20_000, 400_000, 20_000.0
DRAWN = ("LINE", "ARC", "CIRCLE", "ELLIPSE", "LWPOLYLINE", "POLYLINE", "SPLINE")


@dataclass(frozen=True)
class Outline:
    """The region a drawing encloses, mm (inside where an odd number of closed lines lies round it), and its
    unit.
    """

    region: MultiPolygon
    unit: str


def looks_like_dxf(data: bytes) -> bool:
    """Whether bytes are a DXF drawing, as text or binary."""
    return data[:22] == b"AutoCAD Binary DXF\r\n\x1a\x00" or (
        b"SECTION" in data[:400] and b"ENTITIES" in data
    )


def read_outline(data: bytes, name: str) -> Outline:
    """The closed region drawn in the model space of a DXF file.

    Raises BadInput "outline.unreadable", "outline.empty", "outline.too_many", or "outline.open" with the
    loose ends.
    """
    drawing, scale, stated = _opened(data, name)
    parts = _enclosed(*_drawn(drawing, scale, name), name)
    return Outline(MultiPolygon(parts), stated)


@dataclass(frozen=True)
class Lines:
    """The lines of a drawing, each (n, 2), mm, a closed one ending where it begins; its unit."""

    lines: tuple[Floats, ...]
    unit: str


def read_lines(data: bytes, name: str) -> Lines:
    """All lines in the model space of a DXF file, curves as chords within FLAT_MM. Raises as `read_outline`,
    but for loose ends.
    """
    drawing, scale, stated = _opened(data, name)
    closed, loose = _drawn(drawing, scale, name)
    lines = [*(shape.exterior for shape in closed), *loose]
    return Lines(tuple(np.array(line.coords) for line in lines), stated)


def regions_within(lines: list[Floats], name: str) -> list[Polygon]:
    """What some lines (each (n, 2), mm) enclose, inside where an odd number of closed ones lies round it.
    Raises BadInput "outline.open", "outline.empty".
    """
    ends = [(line, float(np.linalg.norm(line[0] - line[-1]))) for line in lines]
    closed = [Polygon(line) for line, gap in ends if gap < JOIN_MM and len(line) > 3]
    loose = [LineString(line) for line, gap in ends if gap >= JOIN_MM or len(line) <= 3]
    return _enclosed(closed, loose, name)


def _opened(data: bytes, name: str) -> tuple[Drawing, float, str]:
    """A drawing, its unit in mm, and what that is called. Raises BadInput."""
    try:
        if data[:6] == b"AutoCA":
            raise DXFError("binary")
        drawing = read_dxf(io.StringIO(data.decode("utf-8", "surrogateescape")))
    except MemoryError:
        raise
    except Exception as broken:
        raise BadInput(
            "outline.unreadable",
            name,
            "this is not a DXF drawing as text, or it is damaged",
            "save it as ASCII DXF, 2000 or later",
        ) from broken
    # Of a drawing that states none, the library makes one of its own.
    unit = InsertUnits(int(drawing.header.get("$INSUNITS", 0)) if b"$INSUNITS" in data else 0)
    scale = float(ezdxf.units.conversion_factor(unit, InsertUnits.Millimeters)) if unit else 1.0
    return drawing, scale, ezdxf.units.unit_name(unit) if unit else "none stated, read as mm"


def _enclosed(closed: list[Polygon], loose: list[LineString], name: str) -> list[Polygon]:
    """What closed lines and loose ones enclose together. Raises BadInput."""
    region = MultiPolygon()
    for shape in [*closed, *(_rings(loose, name) if loose else [])]:
        region = region.symmetric_difference(shape if shape.is_valid else make_valid(shape))
    parts = [
        one
        for one in getattr(region, "geoms", [region])
        if isinstance(one, Polygon) and one.area > JOIN_MM**2
    ]
    if not parts:
        raise BadInput("outline.empty", name, "the drawing's lines enclose no area", "draw a closed outline")
    return parts


def _drawn(drawing: Drawing, scale: float, name: str) -> tuple[list[Polygon], list[LineString]]:
    """The closed curves of a drawing and its open ones, mm. Raises BadInput when there are none, or more than
    can be.
    """
    drawn = 0
    closed: list[Polygon] = []
    loose: list[LineString] = []
    for number, entity in enumerate(drawing.modelspace()):
        if entity.dxftype() not in DRAWN:
            continue
        if number >= MOST_ENTITIES:
            lines = f"the drawing has over {MOST_ENTITIES:,} lines"
            raise BadInput("outline.too_many", name, lines, "keep only the outline")
        _refuse_far(entity, scale, name)
        for one in dxf_path.make_path(entity).sub_paths():
            points = np.array([(p.x, p.y) for p in one.flattening(FLAT_MM / scale)]) * scale
            drawn += len(points)
            if drawn > MOST_POINTS:
                many = f"the drawing's curves take over {MOST_POINTS:,} points"
                raise BadInput("outline.too_many", name, many, "draw them simpler")
            if one.is_closed and len(points) > 3:
                closed.append(Polygon(points))
            elif len(points) > 1:
                loose.append(LineString(points))
    if not closed and not loose:
        raise BadInput(
            "outline.empty",
            name,
            "there are no lines, arcs or curves in the drawing's model space",
            "draw the outline there",
        )
    return closed, loose


def _rings(loose: list[LineString], name: str) -> list[Polygon]:
    """What open curves enclose together. Raises BadInput where they leave a gap."""
    lines = unary_union([set_precision(line, JOIN_MM, mode="valid_output") for line in loose])
    made = list(polygonize(lines))
    used = unary_union([ring.boundary for ring in made]) if made else LineString()
    left = lines.difference(used.buffer(JOIN_MM)) if made else lines
    if left.length > 10 * JOIN_MM:
        ends = ", ".join(f"({x:.2f}, {y:.2f})" for x, y in _ends(left)[:4])
        raise BadInput(
            "outline.open",
            name,
            f"{left.length:.2f} mm of line belongs to no closed outline; loose ends at {ends}",
            "join the ends",
        )
    return made


def _refuse_far(entity: DXFEntity, scale: float, name: str) -> None:
    """Refuse numbers that are none, and outlines larger than any stock: flattening them would not end."""
    numbers: list[float] = []
    for value in entity.dxfattribs().values():
        if isinstance(value, (int, float)):
            numbers.append(float(value))
        elif isinstance(value, (Vec2, Vec3)):
            numbers += [value.x, value.y]
    if isinstance(entity, LWPolyline):
        numbers += [float(v) for point in entity.get_points("xyb") for v in point]
    if isinstance(entity, Polyline):
        numbers += [float(v) for vertex in entity.vertices for v in vertex.dxf.location]
    if isinstance(entity, Spline):
        numbers += [float(v) for point in (*entity.control_points, *entity.fit_points) for v in point]
        numbers += [float(v) for v in entity.knots]
    # Handles and colours are numbers too, and small.
    if not np.isfinite(numbers).all():
        raise BadInput(
            "outline.number",
            name,
            f"a {entity.dxftype()} of the drawing holds a number that is none",
            "draw it again",
        )
    if max(map(abs, numbers), default=0.0) * scale > LARGEST_MM:
        raise BadInput(
            "outline.size",
            name,
            f"a {entity.dxftype()} of the drawing reaches {max(map(abs, numbers)) * scale:.3g} mm;"
            f" {LARGEST_MM:g} mm can be planned",
            "draw it in its true size, near the origin",
        )


def _ends(lines: LineString) -> list[tuple[float, float]]:
    """Points in which an odd number of lines end."""
    count: dict[tuple[float, float], int] = {}
    for line in getattr(lines, "geoms", [lines]):
        for point in (line.coords[0], line.coords[-1]):
            key = (round(point[0], 2), round(point[1], 2))
            count[key] = count.get(key, 0) + 1
    return [point for point, times in count.items() if times % 2]
