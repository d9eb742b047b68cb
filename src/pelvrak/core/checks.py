"""Which findings are there? The register of all checks, by the code of what they find.

A finding whose code, severity or stage is not registered is refused where it is made, so the catalogue printed from here is whole.
"""

from __future__ import annotations

import ast
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

Stage = Literal["incoming", "seat", "hold", "reach", "cut", "outgoing", "part"]
PRACTICE = "common practice, no source"
COUNTED = "counted, no limit of its own"
GEOMETRY = "geometry"
# What rays and surfaces know of a stock: stated with every report.
STATED = "the stated error of rays and surface, told with the report"


@dataclass(frozen=True)
class Check:
    """One thing that is looked for.

    severities: that it is found with; finds: what is wrong then, in a machinist's words; limit: what is measured against; source: of the
    limit; cure: what would put it right, and whether an edit that does so is offered (with "offered: ").
    """

    code: str
    stage: Stage
    severities: tuple[str, ...]
    finds: str
    limit: str = "none"
    source: str = COUNTED
    cure: str = ""


def _found(
    code: str, severities: str, finds: str, limit: str = "none", source: str = COUNTED, cure: str = ""
) -> Check:
    return Check(code, "part", tuple(severities.split()), finds, limit, source, cure)


def _checks(stage: Stage, *rows: Check) -> dict[str, Check]:
    return {row.code: replace(row, stage=stage) for row in rows}


INCOMING = _checks(
    "incoming",
    _found("billet.no_cleanup", "note", "a side of the billet leaves too little to clean up", "0.3 mm", PRACTICE, "a larger margin"),
    _found("billet.too_small", "error", "the billet does not cover the part", "0 mm, or " + STATED, GEOMETRY, "offered: a larger billet"),
    _found("stock.none", "error", "nothing comes into a setup", cure="mend the billet or the setups before"),
)  # fmt: skip
SEAT = _checks(
    "seat",
    _found("seat.cuts_above_zero", "note", "zero is on top, and an operation cuts above it", "Z 0", GEOMETRY, "another zero"),
    _found("seat.register_twice", "error", "a setup keeps two of its zeros in one register", cure="offered: a free register"),
    _found("seat.zero_cut_away", "note", "the setup itself cuts away what its zero rests on", source=GEOMETRY, cure="measure before"),
    _found("seat.zero_gone", "error", "what a zero rests on was cut away in an earlier setup", source=GEOMETRY, cure="offered: the same place, from the incoming stock"),
    _found("seat.zero_not_there", "error warning", "what a zero rests on is not cut yet", source=GEOMETRY, cure="offered: the same place, from the incoming stock"),
    _found("seat.zero_raw_twice", "warning", "a second setup locates from raw in the same direction", source=PRACTICE, cure="locate from what the first has cut"),
    _found("offsets.no_register", "error", "the control has not got a register", "the control's registers", "the machine's data", "another register"),
    _found("offsets.no_tilted_plane", "error", "the control has no tilted plane", source="the machine's data", cure="offered: registers or the rotary centre"),
    _found("offsets.none_left", "error", "the machine has no register left", "the control's registers", "the machine's data", "fewer zeros in one load"),
    _found("offsets.tool_tilts", "error", "a machine that tilts its tool is run without the control's tilted plane", source="ISO 841; kinematics", cure="offered: the tilted plane"),
    _found("offsets.reserved", "error", "a zero is kept in a register that the machine reserves", "the machine's list", "the machine's data", "offered: a free register"),
)  # fmt: skip
HOLD = _checks(
    "hold",
    _found("hold.bolt_in_dowel", "error", "a bolt goes into a dowel hole", source=PRACTICE, cure="offered: the tapped hole beside it"),
    _found("hold.bolt_short", "error", "a bolt holds in too little thread", "its diameter", PRACTICE, "a longer bolt"),
    _found("hold.chuck_misses", "error", "the jaws of a chuck close past the work", source=GEOMETRY, cure="move the work or the chuck"),
    _found("hold.clamp_in_the_way", "error warning", "a tool passes a clamp too closely, or through it", "2 mm", PRACTICE, "offered: the clamp off the cut"),
    _found("hold.clamp_misses", "error", "a clamp does not reach over the work, or goes past it", source=GEOMETRY, cure="move the clamp"),
    _found("hold.clamp_rise", "error", "a clamp would stand higher or lower than it can", "its own rise", "the fixture's data", "another step block, another clamp"),
    _found("hold.clamp_tips", "error", "what a clamp presses with is not met by what the work lies against", "balance of forces", "statics", "a clamp over a rest"),
    _found("hold.closes_on_other", "error", "the moving jaw closes on something else than what is gripped", source=GEOMETRY, cure="take the other out of the way"),
    _found("hold.collet_bore", "error", "the work is thicker than the collets take", "the collet block's bore", "the fixture's data", "a larger collet block"),
    _found("hold.collet_empty", "error", "nothing of the work is within the collet block", source=GEOMETRY, cure="move the work in"),
    _found("hold.contradiction", "error", "the work cannot be on both pins at once", "the play of both fits", "ISO 286-2", "a diamond pin, or other holes"),
    _found("hold.corner_first", "warning", "the work meets a vee on a corner before its flank", "a quarter of the flank", PRACTICE, "a vee of the work's angle"),
    _found("hold.gap_closed", "error", "the jaws meet before they grip", "0.5 mm", PRACTICE, "thinner jaws, a wider nest"),
    _found("hold.height", "warning", "a set has no pair of the height that is typed", "the set's heights", "the fixture's data", "offered: the nearest height"),
    _found("hold.hole_not_there", "error", "the hole for a pin is not cut yet", "0 mm³", GEOMETRY, "locate by the billet, or cut the hole before"),
    _found("hold.line_contact", "warning", "a jaw or rest touches the work on a line only", "1 mm wide", PRACTICE, "a machined wall, or soft jaws"),
    _found("hold.loose", "error", "the jaws close on a holder and nothing clamps the work in it", source="statics", cure="a clamp within the holder"),
    _found("hold.no_jaws", "error", "a vise has no jaws", cure="put jaws into it"),
    _found("hold.no_touch", "error", "no face of the holding lies against the work", source=GEOMETRY, cure="move the work"),
    _found("hold.no_way_in", "error", "the work cannot be put in or taken out along a straight way", source=GEOMETRY, cure="take what stands over it away first"),
    _found("hold.not_clamped", "error", "nothing clamps the work", source="statics", cure="a vise, a clamp, a bolt"),
    _found("hold.not_located", "note warning", "something leaves the work free in a direction", "6 freedoms", "statics of rigid bodies", "a stop, or find it there"),
    _found("hold.nothing", "error", "a setup has no holding", cure="choose how it is held"),
    _found("hold.nothing_to_push_at", "warning", "nothing stops the work where it is pushed to", source=GEOMETRY, cure="a stop, or push elsewhere"),
    _found("hold.on_pins", "error", "the work lies on top of a pin", "0 mm", GEOMETRY, "a smaller pin"),
    _found("hold.opening", "error", "a vise or chuck does not open wide enough", "its own opening", "the fixture's data", "a wider one"),
    _found("hold.over_located", "warning", "two locators fix one freedom and fight each other", "6 freedoms", "statics of rigid bodies", "take one away, or a diamond pin"),
    _found("hold.overlap", "error", "a fixture stands in the work", "0.02 mm", GEOMETRY, "move one of them"),
    _found("hold.own_thread", "note", "a bolt holds the work by the work's own thread", source=PRACTICE, cure="light cuts"),
    _found("hold.parallels_too_thick", "error", "two parallels do not fit between the jaws", "the jaws' opening", GEOMETRY, "thinner parallels"),
    _found("hold.pin_in_thread", "error", "a dowel stands in a tapped hole", source=PRACTICE, cure="offered: the dowel hole beside it"),
    _found("hold.pin_short", "error", "a pin does not reach into its hole", "half its diameter", PRACTICE, "a longer pin"),
    _found("hold.pin_tight", "warning", "a pin may not go into its hole by hand", "0 µm of play", "ISO 286-2", "a pin of a looser fit"),
    _found("hold.pin_too_big", "error", "a pin does not go into its hole", "the hole's largest size", "ISO 286-2", "a smaller pin"),
    _found("hold.rocks", "error", "the work rocks on its contacts", "6 freedoms", "statics of rigid bodies", "a third rest, or a wider one"),
    _found("hold.shallow", "error warning", "the jaws grip too little straight wall", "5 mm", PRACTICE, "offered: lower parallels"),
    _found("hold.slips", "error warning", "cutting can move the work in its holding", "safety 1, and 2 wanted", "linear programme over friction cones; Kienzle's law for the force", "more force, lighter cuts"),
    _found("hold.spins", "note", "only friction keeps round work from turning", source="statics", cure="a stop, or soft jaws"),
    _found("hold.squeezed", "warning", "a clamp bends a thin wall", "0.02 mm", "Roark, table 8.1; Timoshenko, table 35", "less force, or a plug in the hollow"),
    _found("hold.stands_out", "warning", "the work stands high above shallow jaws", "8 grips", PRACTICE, "offered: a deeper grip"),
    _found("hold.through_holder", "note", "the jaws press on the work through a holder", source=PRACTICE, cure="a split holder"),
    _found("hold.tips_over", "note", "laid in and not clamped, the work tips over", "centre of mass over the rests", "statics", "hold it while clamping"),
    _found("hold.under_the_cut", "error", "an operation cuts into what the work stands on or between", "0.05 mm", GEOMETRY, "offered: other parallels, a turn of the vise"),
    _found("hold.under_the_drill", "error", "a drill comes out of the work over a rest", "0.05 mm", GEOMETRY, "offered: thinner parallels"),
    _found("hold.under_the_holder", "error", "what holds the cutter meets a fixture", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("hold.uneven", "warning", "a fixture bears on little of what lies against it", "a quarter of it", PRACTICE, "look at what keeps it off"),
    _found("jaws.corners_ride", "warning", "the cutter leaves corners that the work would ride on", "0.01 mm²", GEOMETRY, "a smaller cutter, or relief"),
    _found("jaws.longer_than_work", "warning", "a block is longer than the work along its profile", "the work's length", GEOMETRY, "offered: a shorter block"),
    _found("jaws.no_wall", "error", "the work has no wall towards a jaw", source=GEOMETRY, cure="turn the work"),
    _found("jaws.not_cut", "warning", "no setup cuts the jaws that a setup grips with", cure="offered: the setup that cuts them"),
    _found("jaws.on_end", "note", "a block is cut standing on its end", source=PRACTICE, cure="clamp it with care"),
    _found("jaws.poor_seat", "warning", "little of a gripped wall lies on the jaw", "a share of the wall", PRACTICE, "a smaller cutter"),
    _found("jaws.slips_out", "warning", "the gripped walls lean so far that the work slides along", "the angle of friction", "statics", "turn the work"),
    _found("jaws.thin", "error warning", "too little jaw is left behind or under a nest", "the least wall wanted", PRACTICE, "offered: larger blanks"),
    _found("jaws.too_low", "error", "too little is left under a nest or profile", "a least floor", PRACTICE, "offered: higher blanks"),
    _found("jaws.too_short", "error warning", "a nest runs out of the ends of the jaws", "their width", GEOMETRY, "offered: longer blanks"),
    _found("jaws.wrap", "warning", "both jaws would wrap round one wall", "the gap", GEOMETRY, "another split"),
    _found("load.same_place", "error", "the works of two setups of one load stand in one place", "1 mm³", GEOMETRY, "other places, or loads of their own"),
)  # fmt: skip
REACH = _checks(
    "reach",
    _found("index.order", "note", "operations in another order would turn less", "time", COUNTED, "offered: by position, or by operation"),
    _found("offsets.clash", "error", "two setups of one load keep different places in one register", cure="offered: a free register"),
    _found("offsets.no_operation", "error", "a zero is to be found before an operation that is not there", cure="offered: before the program starts"),
    _found("offsets.ring", "error", "zeros are found in one another, round in a ring", cure="offered: find one by itself"),
    _found("offsets.set_off", "warning", "a register was set elsewhere than the layout has it", "0.5 mm", PRACTICE, "look which is right"),
    _found("offsets.unknown_base", "error", "a zero is found in a register that nothing keeps", cure="offered: find it by itself"),
    _found("offsets.used_before_found", "error", "a zero is found in one that is found later", cure="offered: find it by itself"),
    _found("reach.off_table", "warning", "something hangs over the table's edge", "0 mm", GEOMETRY, "offered: moved onto the table"),
    _found("reach.slide_meets", "error", "a slide, head or column of the machine runs into something", "0 mm", GEOMETRY, "another place, a longer tool"),
    _found("reach.swing", "error warning", "work or holding runs into something while it is turned", "5 mm", PRACTICE, "a lower holding, another order"),
    _found("reach.swing_tool", "warning", "the turned work swings up to the tool", "the longest tool, gone up", GEOMETRY, "move aside first"),
    _found("reach.travel", "error", "an operation needs more travel than an axis has", "the axis' limit", "the machine's data", "another place on the table"),
)  # fmt: skip
CUT = _checks(
    "cut",
    _found("cut.already_there", "note", "a hole to be drilled is already there", source=GEOMETRY, cure="leave it out"),
    _found("cut.corners_left", "warning", "a tool leaves material in corners", "the corner's size", GEOMETRY, "a smaller tool"),
    _found("cut.deeper_than_flutes", "warning", "an operation goes deeper than the tool's flutes are long", "length of flutes (LCF)", "ISO 13399", "a longer tool"),
    _found("cut.drill_too_big", "error", "a drill is bigger than its hole", "the hole", GEOMETRY, "a smaller drill"),
    _found("cut.holder_in_stock", "error", "the holder runs into the stock", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.cutter_in_holding", "error", "the cutter runs into the holding", "0.05 mm", GEOMETRY, "move what is in the way"),
    _found("cut.shank_in_holding", "error", "the shank runs into the holding", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.holder_in_holding", "error", "the holder runs into the holding", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.spindle_in_holding", "error", "the spindle nose runs into the holding", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.loose_piece", "warning", "an operation sets a piece free", "8 cells of the rays", PRACTICE, "leave tabs, or clamp it"),
    _found("cut.no_operations", "note", "nothing is cut in a setup", cure="add operations"),
    _found("cut.no_place", "error", "a tool is in a place that the changer has not got", "the changer's places", "the machine's data", "offered: a free place"),
    _found("cut.nothing", "note", "nothing stands where an operation would cut", source=GEOMETRY, cure="leave it out"),
    _found("cut.plunge_off_centre", "error", "a tool that does not cut at its centre goes straight down into the stock", "0.05 mm", PRACTICE, "a ramp, or a tool that cuts at its centre"),
    _found("cut.rapid_in_stock", "error", "a rapid move runs into the stock", "0.05 mm", GEOMETRY, "a higher clearance"),
    _found("cut.ream_in_solid", "error", "a reamer works in solid metal", "what a reamer takes", PRACTICE, "drill under size first"),
    _found("cut.removes_nothing", "warning", "an operation removes nothing", "0.5 mm³", PRACTICE, "leave it out, or cut it from the other side"),
    _found("cut.shank_in_stock", "error", "the shank runs into the stock", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.spindle_in_stock", "error", "the spindle nose runs into the stock", "0.05 mm", GEOMETRY, "a longer tool"),
    _found("cut.spindle_stopped", "error", "a tool is fed into the stock with the spindle stopped", "0.05 mm", GEOMETRY, "another start of the cycle"),
    _found("cut.stock_above_flutes", "error", "the cut stands above the flutes", "0.05 mm", GEOMETRY, "a longer tool, or more steps"),
    _found("cut.tap_in_solid", "error", "a tap works in solid metal", "size less pitch", "ISO 2306", "drill the tapping size first"),
    _found("cut.tool_too_big", "error", "a tool is wider than where it should cut", "the gap", GEOMETRY, "a smaller tool"),
    _found("index.face_nowhere", "error", "faces of an operation look to the spindle at none of its positions", source=GEOMETRY, cure="one position more"),
    _found("index.needed", "note", "operations need the work turned to the spindle", source=GEOMETRY, cure="offered: the positions they need"),
    _found("index.nothing_there", "warning", "nothing of an operation looks to the spindle at a position", source=GEOMETRY, cure="offered: leave that position out"),
    _found("jaws.no_operations", "error", "nothing cuts the jaws yet", cure="add operations"),
    _found("program.number", "error", "a program's number has too many digits for the control", "the control's digits", "the machine's data", "offered: by its name"),
    _found("wrap.zero_height", "note", "the depths of a wrapped operation do not count from the cylinder's top", "0.02 mm", PRACTICE, "zero on top of the cylinder"),
)  # fmt: skip
OUTGOING = _checks(
    "outgoing",
    _found("compare.gouge", "error", "the part is cut into", STATED, GEOMETRY, "look which operation did it"),
    _found("compare.left", "warning", "something is left on the part", STATED, GEOMETRY, "an operation that takes it off"),
    _found("compare.undrawn", "note", "an edge thinner than the rays' distance is not in the picture", STATED, GEOMETRY, "finer rays"),
)  # fmt: skip
CHECKS: dict[str, Check] = {**INCOMING, **SEAT, **HOLD, **REACH, **CUT, **OUTGOING}


@dataclass(frozen=True)
class Refusal:
    """Input that is refused, and how to mend it; … stands for what is told with it."""

    code: str
    what: str
    mend: str


def refusals() -> list[Refusal]:
    """Every refusal of the core and the server, as its source says it where it first stands."""
    found: dict[str, Refusal] = {}
    for path in sorted(Path(__file__).parents[1].rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not (
                isinstance(node, ast.Call)
                and ast.unparse(node.func) in ("BadInput", "Refused")
                and len(node.args) >= 4
            ):
                continue
            code, _, what, mend = node.args[-4:]
            if isinstance(code, ast.Constant) and isinstance(code.value, str):
                found.setdefault(code.value, Refusal(code.value, _said(what), _said(mend)))
    return sorted(found.values(), key=lambda one: one.code)


def _said(node: ast.expr) -> str:
    """A text in the source, its places for values as …"""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "…" for part in node.values)
    if isinstance(node, ast.BinOp):
        return _said(node.left) + _said(node.right)
    return "…"


def catalogue() -> str:
    """All checks and refusals as a page of Markdown."""
    out = [
        "# Checks", "", "Printed by `bin/pelvrak checks`; not edited by hand.", "",
        f"{len(CHECKS)} things are looked for in a plan and its stock. A cure that is *offered* is an edit of the plan, one click away.", "",
    ]  # fmt: skip
    for stage in dict.fromkeys(check.stage for check in CHECKS.values()):
        out += [
            f"## {stage.capitalize()}",
            "",
            "| code | severity | finds that | limit | source | cure |",
            "|---|---|---|---|---|---|",
        ]
        out += [
            f"| `{c.code}` | {' or '.join(c.severities)} | {c.finds} | {c.limit} | {c.source} | {c.cure} |"
            for c in CHECKS.values() if c.stage == stage
        ]  # fmt: skip
        out.append("")
    found = refusals()
    out += ["## What is refused", "", f"{len(found)} kinds of input that cannot be used; each says what, where and how to mend it.", "",
            "| code | what | mend |", "|---|---|---|"]  # fmt: skip
    out += [f"| `{one.code}` | {_cell(one.what)} | {_cell(one.mend)} |" for one in found]
    return "\n".join(out) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")
