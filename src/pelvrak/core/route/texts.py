"""What does a text of one's own do in a setup, changed by hand or from elsewhere? Run by the control, and
cut tool by tool as operations are.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from difflib import SequenceMatcher
from functools import cache
from typing import Any

import numpy as np

from pelvrak.core.cures import Add, Cure, Element, put
from pelvrak.core.cutting.measuring import touching_only
from pelvrak.core.cutting.toolpath import Move, Path
from pelvrak.core.cutting.tools import Tool, shape_of, tool_shelf
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Piece, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import inverse, moved, rigid
from pelvrak.core.machine.index import Turned, local_plane
from pelvrak.core.machine.kinematics import direction_of, tip_by_slides
from pelvrak.core.program.own_text import NumberedTool, called_by, readable, tools_told
from pelvrak.core.route.cut_checks import cut_findings
from pelvrak.core.route.cut_facts import CUT_FACTS
from pelvrak.core.route.cut_told import Told
from pelvrak.core.route.cutting import Done, as_cut, with_volumes
from pelvrak.core.route.feeling import Feeling, probes
from pelvrak.core.route.holding import holding_mesh
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.pieces import FIELD, LINES, PATH, RUNS, PlannedPath
from pelvrak.core.route.placing import Placed
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.programs import text_kept
from pelvrak.core.route.report import OperationReport, SetupReport
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.route.running import (
    Stretch,
    TextGiven,
    control_for,
    given_for,
    stretches_of,
    tools_in,
)
from pelvrak.core.route.simulate import OnStock, clamped, cut_operation
from pelvrak.core.route.station import Station, station_at
from pelvrak.core.route.turned_text import FEEDS, round_path, together, turns_in_cut
from pelvrak.core.route.turning import Turning
from pelvrak.core.route.zeros import maker_number
from pelvrak.core.stock.cut import cut

# Longer texts are not set beside each other line by line.
MOST_MATCHED = 20_000
# Surfaces of this many tools of a text are told apart.
MOST_MAKERS = 254
# A text with more lines of comment is told by its tools alone.
MOST_PARTS = 200
_ALONE = re.compile(r"\s*\([^()\n]*\)\s*")
_SAID = re.compile(r"\(([^()\n]+)\)")


@dataclass(frozen=True)
class TextRun:
    """What one tool does in a text, as far as it is told of as an operation is."""

    id: str
    name: str
    tool: Tool

    def canned_cycle(self) -> str:
        """What its tool is for, where that is one thing."""
        return {"tap": "tap", "reamer": "ream"}.get(self.tool.kind, "")


@dataclass(frozen=True)
class TextRunGiven:
    """A text, where the setup's zero lies on the table, mm, and the box of the stock, work frame, mm. parts:
    lines, from 1, from which on another part of it runs; stock: that comes in, for one that probes.
    """

    text: TextGiven
    zero_on_table: Vector
    low: Vector
    high: Vector
    parts: tuple[int, ...] = ()
    stock: Content | None = None


def _path_piece(number: int) -> Piece[PlannedPath]:
    return Piece(f"path-{number}.json", PATH.encode, PATH.decode)


def _run_text(given: TextRunGiven, reads: Reads) -> Pieces:
    """What each tool of a text does, as paths in the plane it is cut in; or why the control stops."""
    out: Pieces = {}
    runs: list[dict[str, Any]] = []
    try:
        before = 0.0
        box = np.array(given.low), np.array(given.high)
        control = control_for(given.text)
        feeling = None
        if given.stock is not None:
            control.touch = feeling = Feeling(given.text, reads.read(given.stock, FIELD))
        steps = stretches_of(control.steps(given.text.text), given.text, box, given.parts)
        for own in together(_cut_as_it_goes(steps, feeling), given.parts):
            one, events = own[0], [event for each in own for event in each.events]
            if one.tool is None or not any(event.kind in FEEDS for event in events):
                before += sum(each.seconds for each in own)
                continue
            before += sum(each.before_s for each in own)
            turns = any(turns_in_cut(each) for each in own)
            measured = touching_only(one.tool.DC / 2) if one.tool.kind == "probe" else None
            path = round_path(own, given.text, given.zero_on_table) if turns else _in_plane(one, given)
            out[_path_piece(len(runs))] = PlannedPath(path, [], np.zeros(0), measured=measured)
            speeds = [now.speed for line, now in control.stood if line <= events[-1].line]
            runs.append(
                {
                    "number": one.number,
                    "angles": one.angles,
                    "turns": turns,
                    "register": events[-1].register,
                    "first": events[0].line,
                    "last_feed": max(event.line for event in events if event.kind in FEEDS),
                    "lines": [line - 1 for each in own for line in each.lines],
                    "speed": speeds[-1] if speeds else 0.0,
                    "feed": max(move.feed for move in path.moves),
                    "before_s": before,
                }
            )
            before = 0.0
    except BadInput as bad:
        return {RUNS: {"runs": [], "alarm": bad.told()}}
    return {RUNS: {"runs": runs}, **out}


def _cut_as_it_goes(stretches: Iterable[Stretch], feeling: Feeling | None) -> Iterator[Stretch]:
    """The same stretches, the stock that a probe feels cut by each."""
    for one in stretches:
        if (
            feeling is not None
            and one.sweep is not None
            and one.tool is not None
            and one.tool.kind != "probe"
        ):
            feeling.now(cut(feeling.stock, one.sweep, 1)[0])
        yield one


RUN_TEXT = Step("text", 5, TextRunGiven, _run_text)


def _in_plane(one: Stretch, given: TextRunGiven) -> Path:
    """The way of a tool's tip in the plane it is cut in; arcs stay arcs where the plane's X and Y are the
    slides'.
    """
    assert one.tool is not None
    start, slopes = tip_by_slides(given.text.machine, one.angles, one.tool.gauge_length)
    local = local_plane(given.text.machine, one.angles)
    to_plane = local @ rigid(np.eye(3), -np.array(given.zero_on_table))
    whole = to_plane @ rigid(slopes, start)

    def place(slides: Floats) -> Vector:
        return as_vector(moved(whole, slides[None])[0])

    if np.allclose(whole[:3, :3], np.eye(3), atol=1e-9):
        dx, dy = float(whole[0, 3]), float(whole[1, 3])
        moves = [
            Move(
                move.kind,
                place(np.array(move.end)),
                move.feed,
                None if move.centre is None else (move.centre[0] + dx, move.centre[1] + dy),
                move.dwell_s,
                exact=move.exact,
            )
            for move in one.path.moves
        ]
        return Path(place(np.array(one.path.start)), moves)
    flat, ends = one.flat, moved(whole, one.flat.ends)
    last = np.append(flat.move[1:] != flat.move[:-1], True)
    own = [one.path.moves[int(number)] for number in flat.move]
    straight = [
        Move(
            "rapid" if m.kind == "rapid" else "line",
            as_vector(end),
            m.feed,
            None,
            m.dwell_s * bool(ends_it),
            exact=m.exact and bool(ends_it),
        )
        for m, end, ends_it in zip(own, ends, last, strict=True)
    ]
    return Path(place(np.array(one.path.start)), straight)


def with_own_text(
    run: Run, index: int, placed: Placed, turning: Turning, told: SetupReport, planned: Done
) -> tuple[Done, dict[str, Any], list[Finding]]:
    """A setup as it is cut, by its own text where it has one and its stock is carried on; what the report
    shows of that; and what is wrong with it. told: it seated and held; planned: by its operations.
    """
    own, setup = turning.setup.text, turning.setup
    if own is None:
        return planned, {"written_as": called_by(planned.text)}, []
    assert told.incoming_key is not None
    cut = cut_text(run, index, placed, turning, told, told.incoming_key, told.incoming_volume_mm3)
    if not setup.operations:
        return cut.done, {}, list(cut.findings)
    written_as = called_by(planned.text)
    shown = {
        "program_key": cut.done.program_key or planned.program_key,
        "written_key": planned.program_key,
        "written_as": written_as,
        "planned_key": planned.key,
        "planned_s": sum(one.time_s for one in planned.reports),
    }
    found = list(cut.findings)
    if own.made_from not in (None, written_as):
        found.append(_older(setup, written_as))
    if own.carried:
        return cut.done, shown, found
    shown["program_key"] = _beside(run, planned, cut.done)
    return planned, shown, found


def _beside(run: Run, planned: Done, cut: Done) -> str | None:
    """The key of a text that is not carried on, its lines told by the moves of the written program as far as
    the two are alike.
    """
    if cut.program_key is None or planned.program_key is None:
        return planned.program_key
    old, new = planned.text.split("\n"), cut.text.split("\n")
    if max(len(old), len(new)) > MOST_MATCHED:
        return cut.program_key
    to: dict[int, int] = {}
    for what, a, past, b, other in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what == "equal" or (what == "replace" and past - a == other - b):
            to |= {a + i: b + i for i in range(past - a)}
    last = 0
    for line in range(len(old)):
        last = to.setdefault(line, last)
    told = Result(planned.program_key, run.engine).value(LINES)
    lines = {run_: [to[line] for line in own] for run_, own in told.items()}
    return text_kept(run.engine, cut.text, lines)


def _older(setup: Setup, now: str) -> Finding:
    of = Element(setup=setup.name)
    return Finding(
        code="program.older",
        severity="warning",
        setup=setup.name,
        stage="prove",
        sentence=(
            f"The text of {setup.name} was changed by hand from a program that is written otherwise now: what"
            " was changed in the plan since is not in it."
        ),
        cures=(
            put("Take the written program", of, "text", None),
            put("Keep the text: it is right so", of, "text/made_from", now),
        ),
    )


@dataclass(frozen=True)
class TextCut:
    """What a setup's own text comes to: as its operations would, and what is wrong with it."""

    done: Done
    findings: tuple[Finding, ...]


def cut_text(
    run: Run, index: int, placed: Placed, turning: Turning, told: SetupReport, key: str, volume: float
) -> TextCut:
    """A setup cut by its own text. told: it seated and held; key: of the stock that comes in; volume: of it,
    mm³.
    """
    setup = turning.setup
    assert setup.text is not None
    try:
        text = readable(run.files(setup.text.sha256, setup.text.file), setup.text.file)
        given = given_for(run.plan, told, text, setup.text.called_texts(run.files))
    except BadInput as bad:
        return TextCut(Done([], key, volume, None), (_refused(setup, bad.told(), None),))
    ends = moved(inverse(placed.zero_from_work), box_corners(as_vector(placed.low), as_vector(placed.high)))
    assert placed.hold.zero_on_table is not None
    asked = TextRunGiven(
        given,
        placed.hold.zero_on_table,
        as_vector(ends.min(axis=0)),
        as_vector(ends.max(axis=0)),
        parts_of(text),
        Result(key, run.engine).content(FIELD) if probes(given) else None,
    )
    made = run.engine.run(RUN_TEXT, asked, f"{setup.name}: its text")
    ran_so = made.value(RUNS)
    cutter = _TextCutter(run, index, placed, turning, text)
    for number, one in enumerate(ran_so["runs"]):
        key = cutter.cut(number, one, made.content(_path_piece(number)), key)
    reports, volume = with_volumes(cutter.reports, volume)
    kept = text_kept(run.engine, text, cutter.lines)
    found = ran_so.get("alarm")
    return TextCut(
        Done(reports, key, volume, kept, text),
        () if found is None else (_refused(setup, found, tool_cures(run.plan, setup, text, found)),),
    )


def parts_of(text: str) -> tuple[int, ...]:
    """The lines of a text, from 1, that are nothing but a comment: what follows is told by itself. None where
    there are more of them than a list could show.
    """
    found = [number for number, line in enumerate(text.split("\n"), 1) if _ALONE.fullmatch(line)]
    return tuple(found) if len(found) <= MOST_PARTS else ()


def _refused(setup: Setup, bad: dict[str, Any], cures: tuple[Cure, ...] | None) -> Finding:
    """Why a text cannot be run."""
    code = bad["code"]
    said = f"{bad['where']}: {bad['what']}; {bad['mend']}"
    if code in ("program.alarm", "program.unreadable"):
        code, said = "program.stops", f"The control would not run the text of {setup.name}: {said}"
    return Finding(
        code=code,
        severity="error",
        setup=setup.name,
        stage="prove",
        sentence=f"{said[:1].upper()}{said[1:]}.",
        cures=cures or (),
    )


class _TextCutter:
    """Cuts what the tools of a text do, one after the other."""

    def __init__(self, run: Run, index: int, placed: Placed, turning: Turning, text: str) -> None:
        assert turning.setup.text is not None
        self.run, self.index, self.placed, self.turning = run, index, placed, turning
        self.source = text.split("\n")
        self.tools = tools_in(run.plan, turning.setup.text)
        self.reports: list[OperationReport] = []
        self.lines: dict[str, list[int]] = {}
        self.whole = cache(lambda: holding_mesh(run, placed.hold))
        self.read_to = 0

    def cut(self, number: int, one: dict[str, Any], path: Content, key: str) -> str:
        """What one tool does, from the stock of a key; the key of what it leaves."""
        run, placed, setup = self.run, self.placed, self.turning.setup
        tool, lines = self.tools[one["number"]], one["lines"]
        operation = TextRun(f"text-{number}", self._called(one, tool), tool)
        position, station = self._station(one["angles"])
        held = clamped(run.engine, station, placed.zero_from_work, placed.hold)
        maker = maker_number(self.index, min(number, MOST_MAKERS))
        on = OnStock(Result(key, run.engine).content(FIELD), None, nameless_tool(tool, TOOL), one["turns"])
        result = cut_operation(run.engine, on, path, held, maker, f"{setup.name} {operation.name}")
        facts = result.value(CUT_FACTS)
        told = cut_findings(Told(setup.name, operation), tool, station, facts)
        report = OperationReport(
            id=operation.id,
            run=operation.id,
            number=min(number, MOST_MAKERS),
            position=position or None,
            name=operation.name,
            kind="text",
            tool=tool.id,
            tool_name=tool.name,
            key=result.key,
            **as_cut(facts),
            speed=_as_told("S", one["speed"], "1/min"),
            feed=_as_told("F", one["feed"], "mm/min"),
            moves=len(lines),
            tool_shape=shape_of(tool, station.machine.spindle.nose),
            offset_register=one["register"],
            zero_from_work=matrix(station.zero_from_work) if position or station.at.name else None,
            first_line=min(lines),
            last_line=max(lines),
            findings=tuple(told),
        )
        self.reports.append(report.model_copy(update={"time_s": report.time_s + one["before_s"]}))
        self.lines[operation.id] = lines
        return result.key

    def _called(self, one: dict[str, Any], tool: Tool) -> str:
        """What the last comment before its first move says, or its tool."""
        before = self.source[self.read_to : one["first"]]
        self.read_to = one["last_feed"]
        said = [found[1].strip() for line in before for found in _SAID.finditer(line)]
        return (said[-1] if said and said[-1] else tool.name)[:60]

    def _station(self, angles: dict[str, float]) -> tuple[str, Station]:
        """Where the work stands with its axes so: the position's name, "" as it is seated or where none has
        these angles.
        """
        turning = self.turning
        for name, at in turning.turned.items():
            if all(abs(at.angles[axis] - angle) < 1e-6 for axis, angle in angles.items()):
                return name, turning.stations[name]
        machine = turning.machine
        plane = local_plane(machine, angles)
        # The table turns under the spindle: which way looks up, as the zero frame has it.
        at = Turned("turned", angles, plane, as_vector(direction_of(machine, angles)))
        return "", station_at(
            turning.setup.name, machine, self.placed.zero_from_work, self.placed.hold, self.whole, {}, at
        )


def _as_told(letter: str, value: float, unit: str) -> Reckoned:
    return Reckoned(
        value=round(value, 3), unit=unit, formula=letter, with_values=f"{letter}{value:g}", source="the text"
    )


# What comments call a cutter, the narrower word first, and its kind here.
_KINDS = (
    ("SPOT", "spot_drill"),
    ("CENTER", "spot_drill"),
    ("CENTRE", "spot_drill"),
    ("DRILL", "drill"),
    ("BALL", "ball_mill"),
    ("CHAMFER", "chamfer_mill"),
    ("CSINK", "chamfer_mill"),
    ("REAM", "reamer"),
    ("THREAD", "thread_mill"),
    ("TAP", "tap"),
    ("FACE", "face_mill"),
    ("SHELL", "face_mill"),
    ("MILL", "end_mill"),
)


def tool_cures(plan: Plan, setup: Setup, text: str, found: dict[str, Any]) -> tuple[Cure, ...]:
    """For a tool that is not there: the plan's or the shelf's that its comment tells of."""
    missing = re.search(r"no tool T(\d+)", found["what"])
    if found["code"] != "program.no_tool" or missing is None or setup.text is None:
        return ()
    number = int(missing[1])
    said, diameter = tools_told(text).get(number, ("", None))
    kind = next((kind for word, kind in _KINDS if word in said.upper()), None if not said else "end_mill")
    if diameter is None or kind is None:
        return ()
    of = Element(setup=setup.name)
    own = [tool for tool in plan.tools if tool.kind == kind and abs(tool.DC - diameter) < 0.01]
    if own:
        told = [*setup.text.tools, NumberedTool(number=number, tool=own[0].id)]
        value = [one.model_dump(mode="json") for one in told]
        return (put(f"T{number} is {own[0].name}", of, "text/tools", value),)
    shelf = [tool for tool in tool_shelf().values() if tool.kind == kind]
    tool = min(shelf, key=lambda one: abs(one.DC - diameter))
    if abs(tool.DC - diameter) > 0.01 or number in plan.taken_places or number > 999:
        return ()
    fresh = tool.model_copy(update={"place": number, "id": free_id(tool.id, plan)})
    added = Add(of=Element(), to="tools", value=fresh.model_dump(mode="json"))
    return (Cure(label=f"Put {tool.name} in place {number}", edits=(added,)),)


def free_id(wanted: str, plan: Plan) -> str:
    """An id that no tool of the plan has."""
    taken = {tool.id for tool in plan.tools}
    return next(name for name in (wanted, *(f"{wanted}-{i}" for i in range(2, 1000))) if name not in taken)
