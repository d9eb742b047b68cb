"""What tools are there, and what shape do they sweep?"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator
from pydantic_core import PydanticUndefined

from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.shelf import shelf
from pelvrak.core.stock import profile as shape
from pelvrak.core.stock.profile import Profile

ToolKind = Literal[
    "end_mill",
    "corner_mill",
    "ball_mill",
    "taper_mill",
    "face_mill",
    "slot_mill",
    "lollipop",
    "thread_mill",
    "form_tool",
    "drill",
    "spot_drill",
    "chamfer_mill",
    "reamer",
    "boring_bar",
    "tap",
    "probe",
]
Millimetres = Annotated[float, Field(gt=0, le=500)]
# What each kind must be told beside DC.
_NEEDS: dict[str, tuple[str, ...]] = {
    "corner_mill": ("RE",),
    "taper_mill": ("taper_deg",),
    "probe": ("DN",),
    "face_mill": ("KAPR",),
    "slot_mill": ("CW",),
    "thread_mill": ("TP",),
    "form_tool": ("outline",),
    "drill": ("SIG",),
    "spot_drill": ("SIG",),
    "chamfer_mill": ("SIG",),
    "tap": ("TP",),
}
_POINTED = ("drill", "spot_drill", "chamfer_mill")
_FLAT = ("end_mill", "corner_mill", "face_mill", "slot_mill", "thread_mill", "form_tool")
# Diameter within which a cutter with no edge at its centre cannot go down, as a share of DC: common practice,
# no source.
CORE_SHARE = 0.6
# What only turns, in the order of body_profiles.
BODIES = ("flutes", "shank", "holder", "spindle nose")


def _of(*kinds: str) -> dict[str, list[str]]:
    """A field is asked for where the tool is of one of these kinds."""
    return {"kind": list(kinds)}


def _size(name: str, help: str, default: Any = PydanticUndefined, when: Any = None) -> Any:
    """A length of a tool; one with a default can be left empty."""
    empty = "" if default is PydanticUndefined else "none"
    return asked(default, title=name, help=help, unit="mm", empty=empty, place="what", when=when)


class Holder(Frozen):
    """What carries the tool in the spindle: a stack of (length, diameter) from its nose up, mm.

    name: what it is called; stack: (length, diameter) of each step from the nose up, mm.
    """

    name: str
    stack: tuple[tuple[Millimetres, Millimetres], ...]


class Tool(Frozen):
    """One tool in its holder. Property names in capitals are those of ISO 13399; mm, degrees.

    DC: cutting diameter (of a tapered or face mill at its tip); LCF: length of chip flute; OAL: overall
    length; DCON: shank diameter; DN, LU: diameter of a neck and the length from the tip to its end; NOF:
    flutes; SIG: point angle (drills, spot drills, chamfer cutters); TP: thread pitch (taps, thread
    mills); RE: corner radius, on a taper mill of DC/2 a ball tip; KAPR: lead angle of a face mill; CW:
    width of a slot cutter; DCN, DCX: least and greatest diameter a boring head is set to. taper_deg: lean of
    a taper mill's flank; outline: (height, radius) points of a form tool from the tip up. overhang: tip to
    the holder's nose. place: pocket in the changer; twin_places: of others like it; life_min: minutes in cut
    until its edge is worn. id: never changes; name: what it is called; kind: what
    sort of cutter it is; material: of its edge; cuts_at_centre: it can go straight down; holder: what carries
    it.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)] = asked(
        title="Id", help="tells the tool from others; never changes, never shown"
    )
    name: Annotated[str, Field(min_length=1, max_length=60)] = asked(
        title="Name", help="what the tool is called", place="what"
    )
    kind: ToolKind = asked(title="Kind", help="what sort of cutter it is")
    place: Annotated[int, Field(ge=1, le=999)] = asked(title="Place", help="pocket in the changer")
    DC: Millimetres = _size("DC", "cutting diameter; of a tapered or face mill at its tip")
    LCF: Millimetres = _size("LCF", "length of the chip flutes: how deep it cuts")
    OAL: Millimetres = _size("OAL", "overall length")
    DCON: Millimetres = _size("DCON", "diameter of the shank")
    NOF: Annotated[int, Field(ge=1, le=20)] = asked(title="NOF", help="number of flutes", place="what")
    SIG: Annotated[float, Field(gt=10, lt=180)] | None = asked(
        None, title="SIG", help="angle of the point", unit="°", place="what", when=_of(*_POINTED)
    )
    TP: Annotated[float, Field(gt=0, le=10)] | None = _size(
        "TP", "thread pitch", None, _of("tap", "thread_mill")
    )
    RE: Millimetres | None = _size(
        "RE", "corner radius; DC/2 on a taper mill: a ball tip", None, _of("corner_mill", "taper_mill")
    )
    KAPR: Annotated[float, Field(ge=10, le=90)] | None = asked(
        None, title="KAPR", help="lead angle", unit="°", place="what", when=_of("face_mill")
    )
    CW: Millimetres | None = _size("CW", "cutting width", None, _of("slot_mill"))
    DCN: Millimetres | None = _size("DCN", "least diameter the head is set to", None, _of("boring_bar"))
    DCX: Millimetres | None = _size("DCX", "greatest diameter the head is set to", None, _of("boring_bar"))
    DN: Millimetres | None = _size("DN", "diameter of the neck, with LU", None)
    LU: Millimetres | None = _size("LU", "from the tip to the end of the neck", None)
    taper_deg: Annotated[float, Field(gt=0, lt=60)] | None = asked(
        None, title="Taper", help="lean of the flank", unit="°", place="what", when=_of("taper_mill")
    )
    outline: tuple[tuple[float, float], ...] | None = asked(
        None,
        title="Outline",
        help="height and radius of each point from the tip up",
        widget="outline",
        place="what",
        when=_of("form_tool"),
    )
    material: Literal["carbide", "hss"] = asked(
        "carbide", title="Edge", help="what its edge is made of", place="what"
    )
    cuts_at_centre: bool = asked(
        True, title="Cuts at centre", help="it can go straight down", place="what", when=_of(*_FLAT)
    )
    overhang: Millimetres = _size("Out", "from the tip to the nose of the holder")
    life_min: Annotated[float, Field(gt=0, le=10_000)] | None = asked(
        None,
        title="Lasts",
        help="minutes in cut until its edge is worn",
        unit="min",
        empty="not told",
        place="what",
    )
    twin_places: Annotated[tuple[Annotated[int, Field(ge=1, le=999)], ...], Field(max_length=9)] = asked(
        (), title="Twins in", help="further places with another like it, for when it is worn", place="what"
    )
    holder: Holder = asked(title="Holder", help="what carries it", widget="holder", place="what")

    @model_validator(mode="after")
    def _fits_together(self) -> Tool:
        if self.overhang < self.LCF:
            raise ValueError(
                f"flutes of {self.LCF:g} mm are longer than the overhang of {self.overhang:g} mm"
            )
        if self.overhang >= self.OAL:
            raise ValueError(
                f"an overhang of {self.overhang:g} mm leaves nothing of OAL {self.OAL:g} mm in the holder"
            )
        for name in _NEEDS.get(self.kind, ()):
            if getattr(self, name) is None:
                raise ValueError(f"a {self.kind.replace('_', ' ')} needs {name}")
        if (self.DCN is None) != (self.DCX is None):
            raise ValueError("a boring head is set between DCN and DCX: give both, or neither")
        if self.DCN is not None and self.DCX is not None and not self.DCN <= self.DC <= self.DCX:
            raise ValueError(f"DC {self.DC:g} mm lies outside DCN {self.DCN:g} … DCX {self.DCX:g} mm")
        if (self.DN is None) != (self.LU is None):
            raise ValueError("a neck needs both its diameter DN and LU, the length from the tip to its end")
        if self.LU is not None and not self.LCF <= self.LU <= self.overhang:
            raise ValueError(
                f"LU {self.LU:g} mm lies outside LCF {self.LCF:g} … overhang {self.overhang:g} mm"
            )
        try:
            cutter_profile(self)
        except BadInput as bad:
            raise ValueError(f"{bad.what}: {bad.mend}") from bad
        return self

    @property
    def reach(self) -> float:
        """How deep it can cut, mm: a boring bar as far as it is out, others as far as their flutes."""
        return self.overhang if self.kind == "boring_bar" else self.LCF

    @property
    def places(self) -> tuple[int, ...]:
        """All places of the changer that hold it or a twin."""
        return (self.place, *self.twin_places)

    def after(self, in_cut_s: float) -> Tool:
        """The tool or the twin of it that is in use after so long in cut."""
        if self.life_min is None:
            return self
        worn = int(in_cut_s / (60 * self.life_min))
        return self.model_copy(update={"place": self.places[min(worn, len(self.twin_places))]})

    @property
    def gauge_length(self) -> float:
        """Spindle nose to tip, mm."""
        return self.overhang + sum(length for length, _ in self.holder.stack)


def tip_length(tool: Tool) -> float:
    """Height of the point of a pointed tool, mm: DC / 2 / tan(SIG / 2)."""
    return tool.DC / 2 / math.tan(math.radians(tool.SIG / 2)) if tool.SIG else 0.0


def cutter_profile(tool: Tool) -> Profile:
    """What cuts. Taps and thread mills sweep DC - TP, as far as a tapping drill: threads are not part of the
    stock.
    """
    match tool.kind:
        case "tap" | "thread_mill":
            assert tool.TP is not None
            return shape.flat(tool.DC - tool.TP, tool.LCF)
        case "drill" | "spot_drill" | "chamfer_mill":
            assert tool.SIG is not None
            return shape.pointed(tool.DC, tool.SIG, tool.LCF)
        case "ball_mill":
            return shape.ball_nose(tool.DC, tool.LCF)
        case "corner_mill":
            assert tool.RE is not None
            return shape.corner_radius(tool.DC, tool.RE, tool.LCF)
        case "taper_mill":
            assert tool.taper_deg is not None
            return shape.tapered(tool.DC, tool.taper_deg, tool.LCF, tool.RE is not None)
        case "face_mill":
            assert tool.KAPR is not None
            return shape.face_mill(tool.DC, tool.LCF, tool.KAPR)
        case "slot_mill":
            assert tool.CW is not None
            return shape.slot_cutter(tool.DC, tool.CW)
        case "lollipop" | "probe":
            return shape.lollipop(tool.DC)
        case "form_tool":
            assert tool.outline is not None
            return shape.ground(tuple(h for h, _ in tool.outline), tuple(r for _, r in tool.outline))
        case _:
            return shape.flat(tool.DC, tool.LCF)


def core_radius(tool: Tool) -> float:
    """Radius within which the tool cannot cut on its way down, mm; 0 when it cuts at its centre."""
    return 0.0 if tool.cuts_at_centre else CORE_SHARE * tool.DC / 2


def body_profiles(tool: Tool, nose: tuple[float, float] | None = None) -> tuple[Profile, ...]:
    """What only turns, measured from the tip: in the order of BODIES, without the spindle nose when none is
    given.

    "flutes" is the part of neck and shank no wider than the cutter: what it meets was to be cut deeper
    than the flutes are long. nose: diameter and length of the spindle nose above the holder, mm.
    """
    cutter = cutter_profile(tool)
    flutes = max(cutter.heights[-1] if cutter.heights else 0.0, sum(cutter.ball or (0.0,)))
    if tool.kind in ("lollipop", "probe"):  # the neck comes out of the ball below its top
        assert cutter.ball is not None
        neck = (tool.DN or tool.DCON) / 2
        flutes = cutter.ball[0] + math.sqrt(max(0.0, cutter.ball[1] ** 2 - neck**2))
    heights, radii = [flutes], [(tool.DN or tool.DCON) / 2]
    if tool.LU is not None and flutes < tool.LU:
        heights += [tool.LU, tool.LU]
        radii += [radii[0], tool.DCON / 2]
    heights.append(max(tool.overhang, flutes) + 0.1)
    radii.append(radii[-1])
    holder_heights, holder_radii, at = [], [], tool.overhang
    for length, diameter in tool.holder.stack:
        holder_heights += [at, at + length]
        holder_radii += [diameter / 2, diameter / 2]
        at += length
    bodies = (
        Profile(tuple(heights), tuple(min(r, cutter.widest) for r in radii)),
        Profile(tuple(heights), tuple(radii)),
        Profile(tuple(holder_heights), tuple(holder_radii)),
    )
    if nose is None:
        return bodies
    return (*bodies, Profile((at, at + nose[1]), (nose[0] / 2, nose[0] / 2)))


class ToolPart(Frozen):
    """A part of a tool as it turns: (radius, height from the tip) points from axis to axis, mm."""

    name: str
    outline: tuple[tuple[float, float], ...]


def shape_of(tool: Tool, nose: tuple[float, float]) -> tuple[ToolPart, ...]:
    """Cutter, shank, holder and spindle nose as they turn."""
    parts = [("cutter", cutter_profile(tool)), *zip(BODIES, body_profiles(tool, nose), strict=True)]
    return tuple(ToolPart(name=name, outline=shape.drawn(body)) for name, body in parts if name != "flutes")


def tool_shelf() -> dict[str, Tool]:
    """The shipped tools by id; dimensions ours, of the usual proportions."""
    return {row["id"]: Tool.model_validate(row) for row in shelf("cutting", "tools.json")}
