"""Which tool does a step of a chain take, of one's own or of the shelf, and which is missing?"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from pelvrak.core.cutting.operations.chamfering import SLOPE_DEG
from pelvrak.core.cutting.tools import Tool, ToolKind, tip_length
from pelvrak.core.geometry.callout import Understood
from pelvrak.core.proposals.chains import Rules

# A tool this much off a size still is of it, mm.
SAME_MM = 0.005
# A thread mill is no wider than this share of its hole: common practice, no source.
THREAD_SHARE = 0.85
# Metric drills come in whole twentieths, mm; another (of inches) has to be nearer by this.
STEP_MM, OTHER_MM = 0.05, 0.1
# The widest cutter for a pocket, as a share of what fits in: it has to go down inside.
FITS_SHARE = 0.75


class Missing(Exception):
    """No tool of one's own and none of the shelf can do it. wanted: the tool that would."""

    def __init__(self, wanted: str) -> None:
        super().__init__(wanted)
        self.wanted = wanted


@dataclass(frozen=True)
class Tools:
    """Tools to choose from. own: of the plan, taken first where they do as well; shelf: the rest."""

    own: tuple[Tool, ...]
    shelf: tuple[Tool, ...]

    def best(self, kinds: Iterable[ToolKind], ill: Callable[[Tool], float | None]) -> Tool | None:
        """The tool that suits best. ill: how ill it suits, None: not at all."""
        allowed = set(kinds)
        rows = [
            (how, rank, tool.place, tool)
            for rank, tools in enumerate((self.own, self.shelf))
            for tool in tools
            if tool.kind in allowed and (how := ill(tool)) is not None
        ]
        return min(rows, key=lambda row: row[:3])[3] if rows else None


def spot_drill(tools: Tools, diameter: float, cone_deg: float | None = None) -> Tool:
    """A spot drill at least as wide as a chamfer. cone_deg: of its point, where the part has the cone."""

    def ill(tool: Tool) -> float | None:
        other = cone_deg is not None and abs((tool.SIG or 0) - cone_deg) > 1.0
        return None if other or diameter - SAME_MM > tool.DC else tool.DC - diameter

    found = tools.best(("spot_drill",), ill)
    if found is None:
        raise Missing(f"a spot drill of {cone_deg or 90:.0f}°, at least Ø{diameter:.1f}")
    return found


def drill(tools: Tools, least: float, most: float, wanted: float, depth: float) -> Tool:
    """The drill nearest to a diameter within limits, long enough. All mm."""

    def ill(tool: Tool) -> float | None:
        fits = least - SAME_MM <= tool.DC <= most + SAME_MM and depth + tip_length(tool) <= tool.LCF
        steps = tool.DC / STEP_MM
        odd = OTHER_MM if abs(steps - round(steps)) > SAME_MM else 0.0
        # Rounded, so that of two that are equally near the shelf's first is taken.
        return round(abs(tool.DC - wanted) + odd, 4) if fits else None

    found = tools.best(("drill",), ill)
    if found is None:
        raise Missing(f"a Ø{wanted:.4g} drill, flutes at least {math.ceil(depth + 0.3 * wanted)} mm long")
    return found


def pilot_drill(tools: Tools, after: Tool, most: float, depth: float) -> Tool:
    """A drill as wide as the long one that comes after it, or a little wider, and the shortest that goes so
    deep. most: its greatest diameter, mm.
    """

    def ill(tool: Tool) -> float | None:
        fits = after.DC - SAME_MM <= tool.DC <= most + SAME_MM and depth + tip_length(tool) <= tool.LCF
        return round(tool.LCF, 3) if fits and tool.LCF < after.LCF else None

    found = tools.best(("drill",), ill)
    if found is None:
        raise Missing(f"a short drill Ø{after.DC:.4g} for a pilot {depth:.4g} deep")
    return found


def drill_before(
    tools: Tools, rules: Rules, tapped: bool, diameter: float, meant: Understood, depth: float
) -> Tool:
    """The drill under a tap or a reamer. diameter: of the hole in the part, mm."""
    if tapped:
        return drill(tools, meant.low - 0.1, meant.low + 0.1, meant.low, depth)
    left = rules.allowance(diameter)
    return drill(tools, diameter - 2 * left, diameter - left / 2, diameter - left, depth)


def reamer(tools: Tools, meant: Understood, depth: float) -> Tool:
    """A reamer whose size lies within the hole's limits."""

    def ill(tool: Tool) -> float | None:
        fits = meant.low - SAME_MM / 5 <= tool.DC <= meant.high and depth <= tool.LCF
        return tool.DC - meant.low if fits else None

    found = tools.best(("reamer",), ill)
    if found is None:
        raise Missing(f"a reamer for {meant.said}, at least {math.ceil(depth)} mm long")
    return found


def tap(tools: Tools, meant: Understood, depth: float) -> Tool:
    """A tap of the thread's size and pitch."""
    size, pitch = meant.size or 0.0, meant.pitch or 0.0

    def ill(tool: Tool) -> float | None:
        same = abs(tool.DC - size) < 0.05 and abs((tool.TP or 0.0) - pitch) < 0.01
        return 0.0 if same and tool.overhang >= depth else None

    found = tools.best(("tap",), ill)
    if found is None:
        raise Missing(f"a tap {meant.said.split(',')[0]}")
    return found


def end_mill(
    tools: Tools, widest: float, depth: float, corner: float | None = None, foot: float = 0.0
) -> Tool:
    """The widest cutter that fits, reaches down and leaves the corners.

    widest: what fits in, mm; corner: tightest corner it has to leave, radius in mm; foot: radius between wall
    and floor, mm.
    """
    most = widest * FITS_SHARE
    if corner is not None:
        most = min(most, 2 * corner)

    def ill(tool: Tool) -> float | None:
        rounded = tool.RE if tool.kind == "corner_mill" else 0.0
        fits = most + SAME_MM >= tool.DC and depth <= tool.LCF and abs((rounded or 0.0) - foot) < SAME_MM
        return -tool.DC if fits else None

    found = tools.best(("end_mill", "corner_mill"), ill)
    if found is None:
        foot_said = f" with a corner radius of {foot:g} mm" if foot else ""
        raise Missing(f"an end mill up to Ø{most:.4g}{foot_said}, flutes at least {math.ceil(depth)} mm long")
    return found


def ball(tools: Tools, widest: float, depth: float) -> Tool:
    """The widest ball mill up to a diameter that comes down so deep out of its holder. All mm."""

    def ill(tool: Tool) -> float | None:
        return -tool.DC if widest + SAME_MM >= tool.DC and depth <= tool.overhang else None

    found = tools.best(("ball_mill",), ill)
    if found is None:
        raise Missing(f"a ball mill up to Ø{widest:.4g}, out at least {math.ceil(depth)} mm")
    return found


def chamfer_cutter(tools: Tools, angle: float, needs: float) -> Tool:
    """A chamfer cutter whose flank slopes by an angle to its axis, degrees, and is wide enough. needs: that
    it reaches out from its axis, mm.
    """

    def ill(tool: Tool) -> float | None:
        fits = abs((tool.SIG or 0.0) / 2 - angle) < SLOPE_DEG and needs <= tool.DC / 2
        return tool.DC if fits else None

    found = tools.best(("chamfer_mill",), ill)
    if found is None:
        raise Missing(f"a chamfer cutter of {2 * angle:.4g}°, at least Ø{2 * needs:.3g}")
    return found


def thread_mill(tools: Tools, meant: Understood, diameter: float, depth: float) -> Tool:
    """A thread mill of a thread's pitch that goes round in a hole (diameter) and reaches down."""
    pitch = meant.pitch or 0.0

    def ill(tool: Tool) -> float | None:
        fits = abs((tool.TP or 0.0) - pitch) < 0.01 and THREAD_SHARE * diameter >= tool.DC
        return -tool.DC if fits and depth <= tool.LCF else None

    found = tools.best(("thread_mill",), ill)
    if found is None:
        raise Missing(f"a thread mill of pitch {pitch:g}, up to Ø{THREAD_SHARE * diameter:.1f}")
    return found


def boring_head(tools: Tools, diameter: float, depth: float) -> Tool:
    """A boring head set to a diameter, reaching down. As it is set it is a tool of its own."""

    def ill(tool: Tool) -> float | None:
        least, most = tool.DCN or tool.DC, tool.DCX or tool.DC
        return most - least if least <= diameter <= most and depth <= tool.reach else None

    found = tools.best(("boring_bar",), ill)
    if found is None:
        raise Missing(f"a boring head for Ø{diameter:.4g}, {math.ceil(depth)} mm deep")
    if abs(found.DC - diameter) < SAME_MM / 5:
        return found
    set_to = f"{diameter:.3f}".rstrip("0").rstrip(".")
    name = f"{found.name}, at Ø{set_to}"[:60]
    return found.model_copy(
        update={"id": f"{found.id}-{set_to.replace('.', '_')}"[:40], "name": name, "DC": round(diameter, 4)}
    )
