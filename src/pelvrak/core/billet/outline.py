"""Which closed shapes does a DXF drawing hold?"""

from __future__ import annotations

import io
from dataclasses import dataclass

import ezdxf.units
import numpy as np
from ezdxf import path as dxf_path
from ezdxf.enums import InsertUnits
from ezdxf.filemanagement import read as read_dxf
from ezdxf.lldxf.const import DXFError
from shapely import LineString, MultiPolygon, Polygon, make_valid, set_precision
from shapely.ops import polygonize, unary_union

from pelvrak.core.errors import BadInput

# Curves become chords within this; ends this near are joined.
FLAT_MM, JOIN_MM = 0.002, 0.005
DRAWN = ("LINE", "ARC", "CIRCLE", "ELLIPSE", "LWPOLYLINE", "POLYLINE", "SPLINE")


@dataclass(frozen=True)
class Outline:
    """The region a drawing encloses, mm (inside where an odd number of closed lines lies round it), and its unit."""

    region: MultiPolygon
    unit: str


def looks_like_dxf(data: bytes) -> bool:
    """Whether bytes are a DXF drawing, as text or binary."""
    return data[:22] == b"AutoCAD Binary DXF\r\n\x1a\x00" or (b"SECTION" in data[:400] and b"ENTITIES" in data)


def read_outline(data: bytes, name: str) -> Outline:
    """The closed region drawn in the model space of a DXF file.

    Raises BadInput "outline.unreadable", "outline.empty", or "outline.open" with the loose ends.
    """
    try:
        if data[:6] == b"AutoCA":
            raise DXFError("binary")
        drawing = read_dxf(io.StringIO(data.decode("utf-8", "surrogateescape")))
    except (DXFError, OSError, ValueError, IndexError, KeyError) as broken:
        raise BadInput(
            "outline.unreadable",
            name,
            "this is not a DXF drawing as text, or it is damaged",
            "save it as ASCII DXF, 2000 or later",
        ) from broken
    unit = InsertUnits(int(drawing.header.get("$INSUNITS", 0)))
    scale = float(ezdxf.units.conversion_factor(unit, InsertUnits.Millimeters)) if unit else 1.0
    stated = ezdxf.units.unit_name(unit) if unit else "none stated, read as mm"
    closed: list[Polygon] = []
    loose: list[LineString] = []
    for entity in drawing.modelspace():
        if entity.dxftype() not in DRAWN:
            continue
        for one in dxf_path.make_path(entity).sub_paths():
            points = np.array([(p.x, p.y) for p in one.flattening(FLAT_MM / scale)]) * scale
            if len(points) < 2:
                continue
            if one.is_closed and len(points) > 3:
                closed.append(Polygon(points))
            else:
                loose.append(LineString(points))
    if not closed and not loose:
        raise BadInput(
            "outline.empty",
            name,
            "there are no lines, arcs or curves in the drawing's model space",
            "draw the outline there",
        )
    if loose:
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
        closed += made
    region = MultiPolygon()
    for shape in closed:
        region = region.symmetric_difference(shape if shape.is_valid else make_valid(shape))
    parts = [one for one in getattr(region, "geoms", [region]) if isinstance(one, Polygon) and one.area > JOIN_MM**2]
    if not parts:
        raise BadInput("outline.empty", name, "the drawing's lines enclose no area", "draw a closed outline")
    return Outline(MultiPolygon(parts), stated)


def _ends(lines: LineString) -> list[tuple[float, float]]:
    """Points in which an odd number of lines end."""
    count: dict[tuple[float, float], int] = {}
    for line in getattr(lines, "geoms", [lines]):
        for point in (line.coords[0], line.coords[-1]):
            key = (round(point[0], 2), round(point[1], 2))
            count[key] = count.get(key, 0) + 1
    return [point for point, times in count.items() if times % 2]
