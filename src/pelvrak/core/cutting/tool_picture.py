"""How is a tool drawn, with which dimensions?"""

from __future__ import annotations

from pelvrak.core.cutting.tools import Tool, ToolPart, body_profiles, cutter_profile, tip_length
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.stock import profile as shape


class Dimension(Frozen):
    """One dimension line. name: by ISO 13399, or in words; along: heights of a length from the tip, mm;
    across: the height of a diameter, mm; value: mm.
    """

    name: str
    value: float
    along: tuple[float, float] | None = None
    across: float | None = None


class ToolPicture(Frozen):
    """A tool in its holder from the tip up. parts: outlines (radius, height), mm; dimensions: of it;
    length: of the assembly, from the spindle's nose to the tip, mm; widest: diameter of what is widest, mm.
    """

    parts: tuple[ToolPart, ...]
    dimensions: tuple[Dimension, ...]
    length: float
    widest: float


def picture_of(tool: Tool) -> ToolPicture:
    """A tool as it turns, with the dimensions it is told by."""
    _, shank, holder = body_profiles(tool)
    named = zip(("cutter", "shank", "holder"), (cutter_profile(tool), shank, holder), strict=True)
    parts = tuple(ToolPart(name=name, outline=shape.drawn(body)) for name, body in named)
    tip = tip_length(tool)
    rows = [
        Dimension(name="DC", value=tool.DC, across=min(tip, tool.LCF) or 0.0),
        Dimension(name="DCON", value=tool.DCON, across=tool.overhang),
        Dimension(name="LCF", value=tool.LCF, along=(0.0, tool.LCF)),
        Dimension(name="out", value=tool.overhang, along=(0.0, tool.overhang)),
        Dimension(name="assembly", value=tool.gauge_length, along=(0.0, tool.gauge_length)),
    ]
    if tool.LU is not None and tool.DN is not None:
        rows += [
            Dimension(name="LU", value=tool.LU, along=(0.0, tool.LU)),
            Dimension(name="DN", value=tool.DN, across=(tool.LCF + tool.LU) / 2),
        ]
    widest = 2 * max(radius for part in parts for radius, _ in part.outline)
    return ToolPicture(parts=parts, dimensions=tuple(rows), length=tool.gauge_length, widest=widest)
