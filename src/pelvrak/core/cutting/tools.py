"""What tools are there, and what shape do they sweep?"""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.shelf import shelf
from pelvrak.core.stock.cut import Profile

ToolKind = Literal["end_mill", "drill", "spot_drill", "chamfer_mill", "reamer", "tap"]
Millimetres = Annotated[float, Field(gt=0, le=500)]


class Holder(Frozen):
    """What carries the tool in the spindle: a stack of (length, diameter) from its nose up, mm."""

    name: str
    stack: tuple[tuple[Millimetres, Millimetres], ...]


class Tool(Frozen):
    """One tool in its holder. Property names are those of ISO 13399; mm, degrees.

    DC: cutting diameter; LCF: length of chip flute; OAL: overall length; DCON: shank diameter;
    NOF: flutes; SIG: point angle (drills, spot drills, chamfer cutters); TP: thread pitch (taps).
    overhang: tip to the holder's nose. place: pocket in the changer.
    """

    id: str
    name: str
    kind: ToolKind
    place: Annotated[int, Field(ge=1, le=999)]
    DC: Millimetres
    LCF: Millimetres
    OAL: Millimetres
    DCON: Millimetres
    NOF: Annotated[int, Field(ge=1, le=20)]
    SIG: Annotated[float, Field(gt=10, lt=180)] | None = None
    TP: Annotated[float, Field(gt=0, le=10)] | None = None
    material: Literal["carbide", "hss"] = "carbide"
    cuts_at_centre: bool = True
    overhang: Millimetres
    holder: Holder

    @model_validator(mode="after")
    def _fits_together(self) -> Tool:
        if self.overhang < self.LCF:
            raise ValueError(f"flutes of {self.LCF:g} mm are longer than the overhang of {self.overhang:g} mm")
        if self.overhang >= self.OAL:
            raise ValueError(f"an overhang of {self.overhang:g} mm leaves nothing of OAL {self.OAL:g} mm in the holder")
        if self.kind in ("drill", "spot_drill", "chamfer_mill") and self.SIG is None:
            raise ValueError("this kind of tool needs its point angle SIG")
        if self.kind == "tap" and self.TP is None:
            raise ValueError("a tap needs its pitch TP")
        return self

    @property
    def gauge_length(self) -> float:
        """Spindle nose to tip, mm."""
        return self.overhang + sum(length for length, _ in self.holder.stack)


def tip_length(tool: Tool) -> float:
    """Height of the point of a pointed tool, mm: DC / 2 / tan(SIG / 2)."""
    return tool.DC / 2 / math.tan(math.radians(tool.SIG / 2)) if tool.SIG else 0.0


def cutter_profile(tool: Tool) -> Profile:
    """What cuts. A tap sweeps its tapping drill, DC - TP: threads are not part of the stock."""
    if tool.kind == "tap":
        assert tool.TP is not None
        radius = (tool.DC - tool.TP) / 2
        return Profile((0.0, tool.LCF), (radius, radius))
    radius = tool.DC / 2
    if tool.SIG:
        return Profile((0.0, tip_length(tool), max(tool.LCF, tip_length(tool) + 0.1)), (0.0, radius, radius))
    return Profile((0.0, tool.LCF), (radius, radius))


def body_profiles(tool: Tool) -> tuple[Profile, Profile]:
    """What only turns: shank and holder, measured from the tip."""
    shank = tool.DCON / 2
    heights, radii, at, widest = [], [], tool.overhang, 0.0
    for length, diameter in tool.holder.stack:
        widest = max(widest, diameter / 2)
        heights += [at, at + length]
        radii += [widest, widest]
        at += length
    return Profile((tool.LCF, tool.overhang + 0.1), (shank, shank)), Profile(tuple(heights), tuple(radii))


def tool_shelf() -> dict[str, Tool]:
    """The shipped tools by id; dimensions ours, of the usual proportions."""
    return {row["id"]: Tool.model_validate(row) for row in shelf("cutting", "tools.json")}
