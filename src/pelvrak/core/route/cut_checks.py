"""What is wrong with how an operation is cut? Sentences on the facts that cutting it gave."""

from __future__ import annotations

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.findings import Finding
from pelvrak.core.machine.travel import check_travel
from pelvrak.core.route.cut_facts import CutFacts, Laid, Part
from pelvrak.core.route.cut_told import Told, moves
from pelvrak.core.route.drafting import free_place
from pelvrak.core.route.removal import removal_findings
from pelvrak.core.route.station import Station

# A zero this far from the top of a cylinder is on top of it, mm.
ZERO_OFF_MM = 0.02

IN_STOCK: dict[Part, tuple[str, str]] = {
    "rapid": ("cut.rapid_in_stock", "A rapid move runs {depth} into the stock"),
    "stopped": ("cut.spindle_stopped", "The tool is fed {depth} into the stock with the spindle stopped"),
    "above_flutes": ("cut.stock_above_flutes", "The cut stands {depth} above the flutes"),
    "shank": ("cut.shank_in_stock", "The shank runs {depth} into the stock"),
    "holder": ("cut.holder_in_stock", "The holder runs {depth} into the stock"),
    "spindle": ("cut.spindle_in_stock", "The spindle nose runs {depth} into the stock"),
    "core": (
        "cut.plunge_off_centre",
        "The tool goes straight down {depth} deep, and cannot cut at its centre",
    ),
}
IN_HOLDING: dict[Part, tuple[str, str]] = {
    "cutter": ("cut.cutter_in_holding", "cutter"),
    "shank": ("cut.shank_in_holding", "shank"),
    "holder": ("cut.holder_in_holding", "holder"),
    "spindle": ("cut.spindle_in_holding", "spindle nose"),
}


def cut_findings(told: Told, tool: Tool, station: Station, facts: CutFacts) -> list[Finding]:
    """Everything that is wrong with a cut."""
    return [
        *stock_findings(told, facts),
        *loose_findings(told, facts),
        *(wrapped_findings(told, station, facts.laid) if facts.laid is not None else ()),
        *holding_findings(told, station, facts),
        *machine_findings(told, station, facts),
        *removal_findings(told, tool, facts, station.zero_from_work),
    ]


def worn_findings(told: Told, tool: Tool, before_s: float, facts: CutFacts, taken: set[int]) -> list[Finding]:
    """Told where the last of a tool's edges wears out. before_s: how long it was in cut before; taken: places
    of the changer.
    """
    if tool.life_min is None:
        return []
    lasts, after = tool.life_min * len(tool.places), (before_s + facts.in_cut_s) / 60
    if not before_s / 60 <= lasts < after:
        return []
    free = free_place(taken)
    with_twins = f" with its {len(tool.twin_places)} in other places" if tool.twin_places else ""
    return [
        told.found(
            "cut.worn",
            f"In {told.operation.name} {tool.name} comes to {after:.1f} min in cut;{with_twins} it lasts"
            f" {lasts:g} min.",
            "warning",
            measured=round(after, 2),
            limit=lasts,
            unit="min",
            cures=(
                put(
                    f"A twin in place {free}", Element(tool=tool.id), "twin_places", [*tool.twin_places, free]
                ),
            ),
        )
    ]


def stock_findings(told: Told, facts: CutFacts) -> list[Finding]:
    """What the tool met in the stock that it must not meet."""
    out = []
    for one in facts.in_stock:
        code, said = IN_STOCK[one.part]
        said = said.format(depth=f"{one.depth:.2f} mm")
        out.append(told.met(code, f"{said} in {told.operation.name} ({moves(one.moves)}).", one))
    return out


def holding_findings(told: Told, station: Station, facts: CutFacts) -> list[Finding]:
    """Every part of the tool that met the holding or the table, with the name of what it met."""
    out = []
    for one in facts.in_holding:
        assert one.piece is not None
        (code, part), piece = IN_HOLDING[one.part], station.hold.pieces[one.piece].name
        sentence = f"The {part} runs {one.depth:.2f} mm into the {piece} in {told.operation.name}."
        out.append(told.met(code, sentence, one))
    return out


def loose_findings(told: Told, facts: CutFacts) -> list[Finding]:
    """Pieces that this operation set free."""
    return [
        told.found(
            "cut.loose_piece",
            f"{told.operation.name} sets a piece of {' × '.join(f'{length:.1f}' for length in one.size)} mm"
            f" free ({one.volume / 1000:.2f} cm³).",
            severity="warning",
            measured=round(one.volume, 1),
            limit=0.0,
            unit="mm³",
            place=(one.middle,),
        )
        for one in facts.loose
    ]


def wrapped_findings(told: Told, station: Station, lie: Laid) -> list[Finding]:
    """Where zero is on top neither of the cylinder the flat lies on nor of the stock, every depth counts from
    elsewhere; and whether the rotary axis can turn as far as the path asks.
    """
    out = []
    if min(abs(lie.below - lie.radius), abs(lie.below - lie.outside)) > ZERO_OFF_MM:
        out.append(
            told.found(
                "wrap.zero_height",
                f"The rotary axis lies {lie.below:.3f} mm below zero; on top of Ø{2 * lie.radius:g} it would"
                f" be {lie.radius:g}: the depths do not count from there.",
                severity="note",
                measured=round(lie.below, 4),
                limit=lie.radius,
                unit="mm",
            )
        )
    axis, (low, high) = station.machine.axis(lie.axis), lie.turns
    for value, limit, past in ((low, axis.low, axis.low - low), (high, axis.high, high - axis.high)):
        if past > 1e-6 and not axis.endless:
            out.append(
                told.found(
                    "reach.travel",
                    f"{told.operation.name} needs {lie.axis} {value:.1f}°; {station.machine.name} stops at"
                    f" {limit:.1f}°.",
                    stage="reach",
                    measured=round(value, 3),
                    limit=limit,
                    unit="°",
                )
            )
    return out


def machine_findings(told: Told, station: Station, facts: CutFacts) -> list[Finding]:
    """Whether the machine's slides go as far as the cut asks, and what they run into."""
    if facts.least is None or facts.most is None:
        return []
    least, most = np.array(facts.least), np.array(facts.most)
    out = [
        one.model_copy(update={"operation": told.operation.id})
        for one in check_travel(station.machine, least, most, told.setup, told.operation.name)
    ]
    for one in facts.slides:
        what = "work" if one.piece is None else station.hold.pieces[one.piece].name
        out.append(
            told.found(
                "reach.slide_meets",
                f"In {told.operation.name} the machine's {one.slide} runs {one.depth:.1f} mm into the"
                f" {what}.",
                stage="reach",
                measured=round(one.depth, 3),
                limit=0.0,
                unit="mm",
                place=(one.place,),
            )
        )
    return out
