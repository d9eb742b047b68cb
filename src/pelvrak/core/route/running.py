"""What does a program's text do on its machine? Run by the simulated control with the registers and tools as
told, tool by tool, as moves in the work.
"""

from __future__ import annotations

import math
import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.cutting.toolpath import (
    Chords,
    Move,
    Path,
    chord_ends_s,
    chords,
    ends_of_moves,
    swept_by,
    tilted_error,
)
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.machine.index import index_time
from pelvrak.core.machine.kinematics import direction_of, pose, tip_by_slides
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.program.control import Control
from pelvrak.core.program.dialects import Dialect, dialect_of
from pelvrak.core.program.held import AXES, Event, Held
from pelvrak.core.program.own_text import OwnText, uncommented, without_comments
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.report import SetupReport
from pelvrak.core.stock.cut import CUT, RAPID, STOPPED, Sweep
from pelvrak.core.stock.moves import turn_step_deg

# Events that are cut at once: a long program's are not all in memory.
MOST_AT_ONCE = 100_000
_NUMBER = re.compile(r"[THD]\s*(\d+)", re.ASCII)


@dataclass(frozen=True)
class TextGiven:
    """A program's text and what it is run with. registers: each by its name, with what it holds by axis, mm
    and degrees; tools: by their numbers, without names; work_from_table: 4×4; radii: by D, mm, where not 0;
    short: by how much an H is too short, mm; dwell_ms: P of a dwell counts milliseconds;
    beside: texts whose programs it calls; deletes: lines that begin with / are left out; feed_share,
    speed_share: how feed and spindle are turned; begins: the line it is begun at, 0: the first.
    """

    text: str
    registers: tuple[tuple[str, tuple[tuple[str, float], ...]], ...]
    tools: tuple[tuple[int, Tool], ...]
    machine: Machine
    work_from_table: Floats
    radii: tuple[tuple[int, float], ...] = ()
    short: tuple[tuple[int, float], ...] = ()
    dwell_ms: bool = False
    beside: tuple[str, ...] = ()
    deletes: bool = True
    feed_share: float = 1.0
    speed_share: float = 1.0
    begins: int = 0

    def held(self) -> Held:
        """The control's tables: a tool's length stands under its number."""
        registers = {name: dict(values) for name, values in self.registers}
        off = dict(self.short)
        lengths = {number: tool.gauge_length - off.get(number, 0.0) for number, tool in self.tools}
        return Held(
            registers,
            lengths,
            dict(self.radii),
            self.dwell_ms,
            self.beside,
            self.deletes,
            self.feed_share,
            self.speed_share,
            self.begins,
        )


def text_given(
    text: str,
    registers: dict[str, dict[str, float]],
    tools: dict[int, Tool],
    machine: Machine,
    work_from_table: Floats,
    radii: dict[int, float],
    dwell_ms: bool,
) -> TextGiven:
    """What of all that a text asks for. tools: by their numbers; radii: by D, mm."""
    bare = without_comments(text)
    asked = {int(number) for number in _NUMBER.findall(bare) if len(number) < 6}
    return TextGiven(
        bare,
        tuple((name, tuple(sorted(values.items()))) for name, values in sorted(registers.items())),
        tuple((n, nameless_tool(tools[n], TOOL)) for n in sorted(asked) if n in tools),
        machine,
        work_from_table,
        tuple((n, radii[n]) for n in sorted(asked) if radii.get(n)),
        dwell_ms=dwell_ms,
    )


def registers_of(told: SetupReport) -> dict[str, dict[str, float]]:
    """The control's registers as the setup's sheets tell them."""
    registers: dict[str, dict[str, float]] = {}
    for row in told.offsets:
        if row.value is not None:
            values = zip("XYZ", (one.value for one in row.value), strict=True)
            registers.setdefault(row.register_name, dict(values))
    if told.register_value is not None:
        values = zip("XYZ", (one.value for one in told.register_value), strict=True)
        registers[told.offset_register] = dict(values)
    return registers


def at_places(tools: Iterable[Tool]) -> dict[int, Tool]:
    """Tools by their places in the changer."""
    return {place: tool for tool in tools for place in tool.places}


def tools_in(plan: Plan, own: OwnText | None) -> dict[int, Tool]:
    """The plan's tools by the numbers a setup's text has for them. own: where it is not the written one."""
    by_id = {tool.id: tool for tool in plan.tools}
    told = {one.number: by_id[one.tool] for one in (own.tools if own else ()) if one.tool in by_id}
    return at_places(plan.tools) | told


def radii_of(setup: Setup, tools: dict[int, Tool]) -> dict[int, float]:
    """What stands under D, mm: nothing where the radius is computed or only its wear corrected, the cutter's
    radius where the program goes along the contour itself; for a text from elsewhere as that is told.
    """
    if setup.text is not None and setup.text.made_from is None:
        return setup.text.radii(tools)
    whole = {one.tool for one in setup.operations if one.corrected_in_control() == "whole"}
    return {number: tool.DC / 2 for number, tool in tools.items() if tool.id in whole}


def from_table(zero_from_work: Floats, zero_on_table: Vector) -> Floats:
    """4×4 of a work on its table. zero_from_work: 4×4; zero_on_table: mm."""
    return np.asarray(inverse(zero_from_work) @ rigid(np.eye(3), -np.array(zero_on_table)))


def work_from_table(told: SetupReport, lies: Floats | None = None) -> Floats:
    """4×4 of a setup's work on its table. lies: how the work lies off where it is seated, 4×4, zero frame.
    Raises BadInput without a layout.
    """
    if told.hold is None or told.hold.zero_on_table is None or told.zero_from_work is None:
        raise BadInput("program.no_layout", told.name, "nobody knows where its zero stands", "hold the work")
    zero_from_work = np.array(told.zero_from_work)
    if lies is not None:
        zero_from_work = lies @ zero_from_work
    return from_table(zero_from_work, told.hold.zero_on_table)


def on_the_control(dialect: Dialect, text: str) -> tuple[str, ...]:
    """The programs of cycles of the control's own, where a text calls any."""
    return ("\n".join(dialect.programs),) if dialect.programs and "G65" in text else ()


def given_for(plan: Plan, told: SetupReport, text: str, beside: tuple[str, ...] = ()) -> TextGiven:
    """What a text of a setup is run with. told: it seated and held; beside: texts whose programs it calls.
    Raises BadInput without a layout.
    """
    setup = next(one for one in plan.setups if one.name == told.name)
    tools, machine = tools_in(plan, setup.text), machine_of(setup.machine, plan.machines)
    lies, radii = work_from_table(told), radii_of(setup, tools)
    dialect = dialect_of(machine.control.dialect, plan.dialects)
    in_ms, beside = dialect.dwell == "P ms", (*beside, *on_the_control(dialect, text))
    given = text_given("\n".join([text, *beside]), registers_of(told), tools, machine, lies, radii, in_ms)
    own = setup.text
    return replace(
        given,
        text=without_comments(text),
        beside=tuple(uncommented(one) for one in beside),
        deletes=own is None or own.block_delete,
    )


@dataclass(frozen=True)
class Stretch:
    """What one tool does while the rotary axes stand, or while they turn. events: of it; angles: where
    the axes stand, or begin; path: of the spindle's nose, as the slides count; flat: its chords, each of
    a move; sweep: the same in the work, None where no tool is in the spindle; ends_s: when each event
    ends, from the stretch's start; before_s: to change the tool.
    """

    number: int
    tool: Tool | None
    events: list[Event]
    angles: dict[str, float]
    turns: bool
    path: Path
    flat: Chords
    sweep: Sweep | None
    ends_s: Floats
    before_s: float

    @property
    def seconds(self) -> float:
        """How long it takes, a tool change before it too."""
        return self.before_s + float(self.ends_s[-1])

    @property
    def lines(self) -> list[int]:
        """The line of each of its moves."""
        return [event.line for event in self.events if moves_of(event)]


def control_for(given: TextGiven) -> Control:
    """The control that runs a text."""
    return Control(given.held(), unknown=True, machine=given.machine)


def stretches_of(
    events: Iterable[Event],
    given: TextGiven,
    box: tuple[Floats, Floats],
    parts: tuple[int, ...] = (),
    start: tuple[float, ...] = (0.0,) * len(AXES),
    in_spindle: int = 0,
    cut: bool = True,
) -> Iterator[Stretch]:
    """What each tool does, in order. box: of the stock, work frame, mm; parts: lines from which on it is told
    by itself; start: where slides and axes begin, as in `Control` at 0; in_spindle: with which tool; cut:
    with the sweeps of its moves. Raises BadInput where a tool that is not there cuts, and what the control
    raises.
    """
    before_it = start
    for own, turning in _alike(events, before_it, parts):
        yield _stretch(own, turning, (before_it, in_spindle), given, box if cut else None)
        before_it, in_spindle = own[-1].end, own[-1].tool


def _alike(
    events: Iterable[Event], start: tuple[float, ...], parts: tuple[int, ...]
) -> Iterator[tuple[list[Event], bool]]:
    """Events of one tool in one part of the text, while the rotary axes stand alike or while they turn, and
    whether they do. No more at once than memory is to hold.
    """
    own: list[Event] = []
    last, held = start, None
    for one in events:
        turning = one.end[3:] != last[3:]
        key = one.tool, turning, turning or one.end[3:], bisect_left(parts, one.line)
        if own and (key != held or len(own) >= MOST_AT_ONCE):
            assert held is not None
            yield own, held[1]
            own = []
        own.append(one)
        last, held = one.end, key
    if own:
        assert held is not None
        yield own, held[1]


def _stretch(
    own: list[Event],
    turning: bool,
    before: tuple[tuple[float, ...], int],
    given: TextGiven,
    box: tuple[Floats, Floats] | None,
) -> Stretch:
    """One of them, in the work. before: where slides and axes stood, and which tool was in the spindle; box:
    None where no sweep is asked for.
    """
    machine, number = given.machine, own[0].tool
    before_it, in_spindle = before
    tool = dict(given.tools).get(number)
    if tool is None and any(one.kind in ("line", "cw", "ccw") for one in own):
        raise BadInput(
            "program.no_tool", f"line {own[0].line}", f"there is no tool T{number}", "give the plan one"
        )
    path = _path(own, _slides(before_it))
    flat = chords(path)
    stands = angles_at(machine, before_it if turning else own[0].end)
    sweep = None
    if tool is not None and path.moves and box is not None:
        sweep = (
            _while_turning(own, before_it, tool, given, box)
            if turning
            else _standing(own, flat, tool, given, stands)
        )
    return Stretch(
        number,
        tool,
        own,
        stands,
        turning,
        path,
        flat,
        sweep,
        _turned_s(own, before_it, machine) if turning else _ends_s(own, path, flat, machine),
        machine.changer.seconds if number != in_spindle else 0.0,
    )


def angles_at(machine: Machine, end: tuple[float, ...]) -> dict[str, float]:
    """Where the machine's rotary axes stand."""
    return {str(one.name): end[AXES.index(one.name)] for one in machine.rotary}


def _slides(end: tuple[float, ...]) -> Vector:
    return end[0], end[1], end[2]


def moves_of(event: Event) -> bool:
    """Whether an event moves anything."""
    return event.kind not in ("dwell", "stop")


def _path(events: list[Event], start: Vector) -> Path:
    """What the spindle's nose does, as the slides count."""
    path = Path(start)
    for one in events:
        if one.kind == "dwell":
            path.dwell(one.seconds)
        elif one.kind != "stop":
            path.moves.append(Move(one.kind, _slides(one.end), one.feed, one.centre, exact=one.exact))
    return path


def _ends_s(events: list[Event], path: Path, flat: Chords, machine: Machine) -> Floats:
    """When each event ends, s, while nothing turns."""
    if not path.moves:
        return np.cumsum([one.seconds for one in events])
    ends = chord_ends_s(path, flat, machine.rapid_mm_min, machine.acceleration_mm_s2)
    by_move = ends_of_moves(flat, ends, len(path.moves))
    # A dwell is told with the move it follows.
    at = np.cumsum([moves_of(one) for one in events]) - 1
    return np.where(at >= 0, by_move[np.maximum(at, 0)], 0.0)


def _turned_s(events: list[Event], start: tuple[float, ...], machine: Machine) -> Floats:
    """When each event ends, s, while axes turn: as long as inverse time says, or as the slower of slides and
    axes takes.
    """
    out, before = [], start
    for one in events:
        slides = math.dist(_slides(one.end), _slides(before))
        turned_by = index_time(machine, angles_at(machine, before), angles_at(machine, one.end))
        if one.kind == "rapid":
            out.append(max(turned_by, slides / machine.rapid_mm_min * 60))
        else:
            out.append(one.seconds or slides / max(one.feed, 1e-9) * 60)
        before = one.end
    return np.cumsum(out)


def _what(event: Event) -> int:
    if event.kind == "rapid":
        return RAPID
    return CUT if event.cutting else STOPPED


def _standing(
    events: list[Event], flat: Chords, tool: Tool, given: TextGiven, angles: dict[str, float]
) -> Sweep:
    """The moves of one tool with the rotary axes as they stand, in the work frame."""
    start, slopes = tip_by_slides(given.machine, angles, tool.gauge_length)
    up = direction_of(given.machine, angles)
    what = np.array([_what(one) for one in events if moves_of(one)], np.uint8)
    return swept_by(
        tool,
        given.machine.spindle.nose,
        moved(given.work_from_table, flat.starts @ slopes.T + start),
        moved(given.work_from_table, flat.ends @ slopes.T + start),
        what[flat.move],
        turned(given.work_from_table, up),
    )


def _while_turning(
    events: list[Event],
    start: tuple[float, ...],
    tool: Tool,
    given: TextGiven,
    box: tuple[Floats, Floats],
) -> Sweep | None:
    """The moves of one tool while rotary axes turn, in the work frame, as chords so short that they stay
    within the error of arcs anywhere in the stock. Rapids that keep clear of all of the stock are left out.
    """
    machine = given.machine
    middle, half = (box[0] + box[1]) / 2, float(np.linalg.norm(box[1] - box[0])) / 2
    ends, counts, before, turned_from = [], [], start, None
    moving = [one for one in events if moves_of(one)]
    for one in moving:
        others = before[3:]
        if others != turned_from:
            reach, turned_from = _reach(machine, before, given.work_from_table, box), others
            step = turn_step_deg(reach, tilted_error(reach, tool.DC / 2))
        turn = max(abs(end - begun) for begun, end in zip(before[3:], one.end[3:], strict=True))
        counts.append(max(1, math.ceil(turn / step)))
        # Of every chord its start, its middle and its end.
        share = (np.arange(counts[-1])[:, None] + np.array([0.0, 0.5, 1.0])).reshape(-1, 1) / counts[-1]
        ends.append(np.array(before) + share * (np.array(one.end) - np.array(before)))
        before = one.end
    if not ends:
        return None
    slides = np.concatenate(ends)
    spindles = pose(machine, {name: slides[:, at] for at, name in enumerate(AXES)}).table_from_spindle
    tips = spindles @ np.array([0.0, 0.0, -tool.gauge_length, 1.0])
    there = moved(given.work_from_table, tips[:, :3]).reshape(-1, 3, 3)
    ways = turned(given.work_from_table, spindles[1::3, :3, 2])
    firsts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    near = np.linalg.norm(there[:, [0, 2]] - middle, axis=2).min(axis=1)
    clear = np.minimum.reduceat(near, firsts) > half + tool.overhang
    what = np.array([_what(one) for one in moving], np.uint8)
    kept = np.repeat(~(clear & (what == RAPID)), counts)
    if not kept.any():
        return None
    return swept_by(
        tool, machine.spindle.nose, there[kept, 0], there[kept, 2], np.repeat(what, counts)[kept], ways[kept]
    )


def _reach(
    machine: Machine, end: tuple[float, ...], work_from_table: Floats, box: tuple[Floats, Floats]
) -> float:
    """How far the stock comes from the axes that turn under the tool, at most, mm."""
    corners = moved(inverse(work_from_table), box_corners(as_vector(box[0]), as_vector(box[1])))
    here, out = angles_at(machine, end), 1.0
    for name in here:
        poses = [pose(machine, here | {name: here[name] + by}).table_from_spindle for by in (-0.5, 0.5)]
        one, two = (moved(inverse(each), corners) for each in poses)
        out = max(out, float(np.linalg.norm(two - one, axis=1).max()) / (2 * math.sin(math.radians(0.5))))
    return out
