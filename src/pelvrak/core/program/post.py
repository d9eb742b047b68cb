"""What program does a setup run? ISO 6983 code, one word address program per setup."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from pelvrak.core.cutting.contour import along_contour
from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.toolpath import Move, Path, Round, chords
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.part import Vector, as_vector

# ISO 6983-1: G81 drilling, G82 with a dwell, G83 deep hole, G84 tapping, G85 boring in and out at feed, G86
# with the spindle stopped and out in rapid, G89 in, dwell and out at feed. Not in the standard, and alike
# with several makers of controls: G73 chip breaking, G76 boring with the spindle turned and lifted off.
CYCLE_CODES = {
    "spot": "G81",
    "drill": "G81",
    "peck": "G83",
    "chip_break": "G73",
    "ream": "G85",
    "bore": "G85",
    "bore_stopped": "G86",
    "bore_lifted": "G76",
    "tap": "G84",
}
DWELLING = {"G81": "G82", "G85": "G89"}
# Cycles that take a dwell as they are.
STANDING = ("G76", "G86")
# Coolant 1 (flood), coolant 2 (mist), off: ISO 6983-1.
COOLANT_CODES = {"flood": "M8", "mist": "M7", "off": "M9"}
SPINDLE_CODES = {"forward": "M3", "backward": "M4"}
STOP_CODES = {"stop": "M0", "optional": "M1"}


@dataclass(frozen=True)
class Where:
    """Where the work is turned to. rotary: name, angle (degrees), clamp and unclamp code of each axis; shift:
    what is added to every coordinate; tilted: turns about Z, X, Z (degrees) of a plane the control turns,
    plane_at: its zero from the register's; message: to stop with.
    """

    register: str
    rotary: tuple[tuple[str, float, str, str], ...] = ()
    shift: Vector = (0.0, 0.0, 0.0)
    tilted: tuple[float, float, float] | None = None
    plane_at: Vector = (0.0, 0.0, 0.0)
    message: str | None = None


@dataclass(frozen=True)
class Planned:
    """One operation as the program needs it, at one position. run: tells it from its other visits."""

    run: str
    operation: Operation
    tool: Tool
    path: Path
    holes: list[Hole]
    speed_rpm: float
    feed_mm_min: float
    where: Where


@dataclass(frozen=True)
class Head:
    """What stands round the operations. number: of the program, 0 for one made of its name; digits: in which
    it is written; last_block: the largest block number the control takes; found_in: the register the operator
    finds, from which the others are turned; home: name, angle (degrees), clamp and unclamp code of each
    rotary axis where the next work is loaded.
    """

    number: int = 0
    digits: int = 4
    last_block: int = 9999
    found_in: str = ""
    home: tuple[tuple[str, float, str, str], ...] = ()


@dataclass(frozen=True)
class Program:
    """Program text, and for each visit of an operation the line (from 0) that makes each of its moves."""

    text: str
    lines: dict[str, list[int]]


def _number(value: float) -> str:
    text = f"{value:.3f}".rstrip("0")
    return "0." if text in ("-0.", "0.") else text


def _comment(text: str) -> str:
    """Controls take plain capitals in comments, and no inner brackets."""
    plain = text.replace("Ø", "D").replace("°", " DEG").replace("×", "X").replace("·", "-")
    plain = re.sub(r"[()]", " ", plain).encode("ascii", "replace").decode().upper()
    return f"({re.sub(r' +', ' ', plain).strip()})"


class _Writer:
    def __init__(self) -> None:
        self.lines: list[str] = []
        self.blocks: list[int] = []
        self.modal: dict[str, str] = {}

    def plain(self, text: str) -> None:
        self.lines.append(text)

    def block(self, *words: str) -> int:
        """Write a block, to be numbered; returns its line."""
        self.blocks.append(len(self.lines))
        self.lines.append(" ".join(words))
        return len(self.lines) - 1

    def numbered(self, last: int) -> str:
        """The text with its blocks numbered by the widest step of 10, 5, 2 and 1 that ends by `last`, or not
        at all.
        """
        step = next((step for step in (10, 5, 2, 1) if step * len(self.blocks) <= last), None)
        lines = list(self.lines)
        for count, line in enumerate(self.blocks, start=1):
            if step is not None:
                lines[line] = f"N{step * count} {lines[line]}"
        return "\n".join(lines) + "\n"

    def changed(self, *words: tuple[str, str]) -> list[str]:
        """Words whose value differs from the last of the same address."""
        out = []
        for address, value in words:
            if self.modal.get(address) != value:
                out.append(address + value)
                self.modal[address] = value
        return out

    def forget(self) -> None:
        self.modal.clear()


def post(
    name: str,
    title: str,
    part: str,
    registers: dict[str, Vector],
    billet: str,
    operations: list[Planned],
    head: Head | None = None,
) -> Program:
    """The program of one setup: safe start, each operation with its tool, safe end.

    Units mm (G21), absolute (G90), feed per minute (G94), tool length by G43 H = tool number. Before every
    operation the offset register is written again. registers: what each holds. Before the first tool change
    and whenever the work is turned the spindle goes up; at the end the work is turned back to where it was
    loaded.
    """
    head = head or Head()
    operations = [_shifted(one) for one in operations]
    w = _Writer()
    w.plain("%")
    w.plain(f"O{head.number or _number_in(name):0{head.digits}d} {_comment(f'{name} {title}')}")
    w.plain(_comment(part))
    w.plain(_comment(f"incoming {billet}"))
    for register, value in registers.items():
        w.plain(_comment(f"{register} X{_number(value[0])} Y{_number(value[1])} Z{_number(value[2])}"))
    if head.found_in:
        w.plain(_comment(f"find {head.found_in}, the others are turned from it"))
    for tool in {p.tool.place: p.tool for p in operations}.values():
        w.plain(_comment(f"T{tool.place} {tool.name}, out {tool.overhang:g}"))
    w.block("G21", "G17", "G90", "G40", "G49", "G80", "G94")
    # Wherever the last jog left it: nothing turns or changes under a tool that is down.
    w.block("G53", "G0", "Z0.")
    running = _Running(w)
    lines = {planned.run: running.operation(planned) for planned in operations}
    w.block("M9")
    running.untilt()
    w.block("G53", "G0", "Z0.")
    w.block("M5")
    if running.stands:
        # The next work is loaded, and its zero found, as this one was.
        _turn(w, Where("", head.home), running.stands)
    w.block("G53", "G0", "Y0.")
    w.block("M30")
    w.plain("%")
    return Program(w.numbered(head.last_block), lines)


def _number_in(name: str) -> int:
    """The number that stands in a setup's name; 1 where none does."""
    return int("".join(c for c in name if c.isdigit()) or "1")


class _Running:
    """How the machine stands as its program goes on: tool in the spindle, angles of the rotary axes, plane
    that the control has turned.
    """

    def __init__(self, writer: _Writer) -> None:
        self.writer = writer
        self.tool: int | None = None
        self.stands: dict[str, float] = {}
        self.plane: tuple[Vector, Vector] | None = None

    def operation(self, planned: Planned) -> list[int]:
        """Write one operation; the lines of its moves."""
        if not planned.path.moves:
            return []
        w, tool, there, operation = self.writer, planned.tool, planned.where, planned.operation
        w.plain(_comment(operation.name))
        if operation.comment:
            w.plain(_comment(operation.comment))
        self._stop(operation.stop_before, operation.comment)
        self._bring(tool, there)
        w.forget()
        w.block(there.register)
        self._tilt(there)
        w.block(f"S{planned.speed_rpm:.0f}", SPINDLE_CODES[operation.spindle])
        lines = self._moved(planned)
        self._stop(operation.stop_after, operation.comment)
        return lines

    def _moved(self, planned: Planned) -> list[int]:
        """Write the moves of an operation; their lines."""
        w, operation = self.writer, planned.operation
        if planned.path.round is not None:
            return _wrapped(w, planned, planned.path.round, self.stands)
        coolant = COOLANT_CODES[operation.coolant]
        approach = _come(w, planned.tool, planned.path.moves[0].end, coolant)
        if written_as_cycle(operation):
            return _cycle(w, planned, approach)
        return [approach, *_moves(w, self._as_programmed(planned), planned)]

    def _as_programmed(self, planned: Planned) -> list[tuple[Move, ...]]:
        """The program's moves for each of the path's, and what the control has to be told for them."""
        path, tool, how = planned.path, planned.tool, planned.operation.corrected_in_control()
        if not how or all(move.compensation == "" for move in path.moves):
            return [(move,) for move in path.moves]
        told = "wear of the radius, 0 for a cutter as told"
        if how == "whole":
            told = f"radius of the cutter, {_number(tool.DC / 2)} mm"
        self.writer.plain(_comment(f"D{tool.place}: {told}"))
        if how == "wear":
            return [(move,) for move in path.moves]
        return along_contour(path, tool.DC / 2, planned.operation.name)

    def _stop(self, stop: str, text: str) -> None:
        """Stop with the spindle up and standing, where it is asked for."""
        if stop == "no":
            return
        w = self.writer
        w.block("M9")
        self.untilt()
        w.block("G53", "G0", "Z0.")
        w.block("M5")
        w.block(STOP_CODES[stop], *([_comment(text)] if text else []))

    def _bring(self, tool: Tool, there: Where) -> None:
        """The tool into the spindle and the work to its angles, with the spindle up."""
        w = self.writer
        turns = any(self.stands.get(name) != angle for name, angle, _, _ in there.rotary)
        if self.tool is not None and (tool.place != self.tool or turns):
            w.block("M9")
            self.untilt()
            w.block("G53", "G0", "Z0.")
            if tool.place != self.tool:
                w.block("M5")
        if tool.place != self.tool:
            w.block(f"T{tool.place}", "M6")
            self.tool = tool.place
        if turns:
            # An axis that turns counts from its zero in the register, too.
            w.block(there.register)
            _turn(w, there, self.stands)

    def _tilt(self, there: Where) -> None:
        """The plane the operation is cut in, where the control turns it."""
        w, wanted = self.writer, None if there.tilted is None else (there.tilted, there.plane_at)
        if self.plane != wanted:
            self.untilt()
        if there.tilted is None or self.plane is not None:
            return
        # A plane turned about zero by I, J, K (about Z, the new X, the new Z), and the tool set square to it.
        w.plain(_comment(f"plane {turn_in_words(there.tilted)}"))
        i, j, k = (_number(angle) for angle in there.tilted)
        x, y, z = (_number(value) for value in there.plane_at)
        w.block("G68.2", f"X{x}", f"Y{y}", f"Z{z}", f"I{i}", f"J{j}", f"K{k}")
        w.block("G53.1")
        self.plane = wanted

    def untilt(self) -> None:
        """Leave the plane that the control has turned, where there is one."""
        if self.plane is not None:
            self.writer.block("G69")
            self.plane = None


def turn_in_words(tilted: tuple[float, float, float]) -> str:
    """Turns about Z, the new X and the new Z (degrees) as one turn that can be read: by how much, about
    what.
    """
    turn = Rotation.from_euler("ZXZ", tilted, degrees=True).as_rotvec(degrees=True)
    angle = float(np.linalg.norm(turn))
    if angle < 1e-6:
        return "not turned"
    way = turn / angle
    axis = int(np.argmax(np.abs(way)))
    if abs(way[axis]) > 1 - 1e-9:
        return f"turned {_number(float(np.sign(way[axis])) * angle)} ° about {'XYZ'[axis]}"
    return f"turned {_number(angle)} ° about {' '.join(_number(float(c)) for c in way)}"


def _turn(w: _Writer, there: Where, stands: dict[str, float]) -> None:
    """Turn the work, or stop first: one axis after the other, each with its clamp off and on, because how two
    that go in rapid overlap on the way is up to the control. stands: where each is, kept up to date.
    """
    if there.message is not None:
        w.block("M0", _comment(there.message or "turn and clamp the work anew"))
    for name, angle, clamp, unclamp in there.rotary:
        if stands.get(name) == angle:
            continue
        if unclamp:
            w.block(unclamp)
        w.block("G0", f"{name}{_number(angle)}")
        if clamp:
            w.block(clamp)
        stands[name] = angle


def _come(w: _Writer, tool: Tool, place: Vector, coolant: str, *turned: tuple[str, str]) -> int:
    """Over the first place in rapid, turned to its angle where an axis turns, and down with the tool's
    length, and the coolant's code; returns the line.
    """
    x, y, z = (_number(value) for value in place)
    w.block("G0", f"X{x}", f"Y{y}", *(name + angle for name, angle in turned))
    approach = w.block("G43", f"H{tool.place}", f"Z{z}", coolant)
    w.modal.update({"G": "0", "X": x, "Y": y, "Z": z, **dict(turned)})
    return approach


def _wrapped(w: _Writer, planned: Planned, lie: Round, stands: dict[str, float]) -> list[int]:
    """A path round a rotary axis, as straight moves of the slides and the axis; feeds in inverse time (G93:
    how often a minute the move would fit), because a feed in mm/min says nothing of a move that is partly
    degrees. ISO 6983-1.
    """
    flat = chords(planned.path)
    points = np.concatenate([flat.starts[:1], flat.ends])
    places = lie.place(points) + np.array(planned.where.shift)
    angles = [_number(lie.angle_at(float(y))) for y in points[:, 1]]
    _, _, clamp, unclamp = next(one for one in planned.where.rotary if one[0] == lie.axis)
    if unclamp:
        w.block(unclamp)
    # The path's first move comes down over its first place, which is gone to at full height.
    coolant = COOLANT_CODES[planned.operation.coolant]
    approach = _come(w, planned.tool, as_vector(places[1]), coolant, (lie.axis, angles[1]))
    ends = [approach] * len(planned.path.moves)
    timed = False
    for i in range(1, len(flat.what)):
        x, y, z = (_number(value) for value in places[i + 1])
        move = planned.path.moves[int(flat.move[i])]
        rapid = move.kind == "rapid"
        words = w.changed(("X", x), ("Y", y), ("Z", z), (lie.axis, angles[i + 1]))
        if words:
            if not rapid and not timed:
                w.block("G93")
            elif rapid and timed:
                w.block("G94")
            timed = not rapid
            length = float(np.linalg.norm(flat.ends[i] - flat.starts[i]))
            rate = [] if rapid else [f"F{_rate(move.feed / length)}"]
            w.block(*w.changed(("G", "0" if rapid else "1")), *words, *rate)
        last = i + 1 == len(flat.what) or flat.move[i + 1] != flat.move[i]
        if move.dwell_s and last:
            w.block("G4", f"P{_number(move.dwell_s)}")
        ends[int(flat.move[i])] = len(w.lines) - 1
    if timed:
        w.block("G94")
    if clamp:
        w.block(clamp)
    stands[lie.axis] = lie.angle_at(float(points[-1, 1]))
    w.forget()
    return ends


def _rate(value: float) -> str:
    return f"{value:.4g}" if value < 1e4 else f"{value:.0f}"


def _shifted(one: Planned) -> Planned:
    """An operation with every coordinate as its register counts it."""
    dx, dy, dz = one.where.shift
    if (dx, dy, dz) == (0.0, 0.0, 0.0) or one.path.round is not None:
        return one
    moves = [
        replace(
            m,
            end=(m.end[0] + dx, m.end[1] + dy, m.end[2] + dz),
            centre=None if m.centre is None else (m.centre[0] + dx, m.centre[1] + dy),
        )
        for m in one.path.moves
    ]
    start = one.path.start
    path = Path((start[0] + dx, start[1] + dy, start[2] + dz), moves)
    holes = [Hole(h.x + dx, h.y + dy, h.start + dz, h.bottom + dz) for h in one.holes]
    return replace(one, path=path, holes=holes)


def _moves(w: _Writer, programmed: list[tuple[Move, ...]], planned: Planned) -> list[int]:
    """The lines of all moves but the first. programmed: as they are written; the control corrects a radius by
    D of the tool's number.
    """
    out = []
    at = planned.path.moves[0].end
    for moves in programmed[1:]:
        line = len(w.lines) - 1
        for move in moves:
            line = _move(w, move, at, planned.tool.place)
            at = move.end
        out.append(line)
    return out


def _move(w: _Writer, move: Move, at: Vector, place: int) -> int:
    """One move from where it begins; its line."""
    x, y, z = (_number(v) for v in move.end)
    code = {"rapid": "0", "line": "1", "cw": "2", "ccw": "3"}[move.kind]
    words = w.changed(("G", code))
    words += {"left": ["G41", f"D{place}"], "off": ["G40"], "": []}[move.compensation]
    if move.centre is None:
        words += w.changed(("X", x), ("Y", y), ("Z", z))
    else:
        # Both ends and the centre are written, so that a full turn and a half turn stay clear.
        words += [f"X{x}", f"Y{y}", *w.changed(("Z", z))]
        words += [f"I{_number(move.centre[0] - at[0])}", f"J{_number(move.centre[1] - at[1])}"]
        w.modal.update({"X": x, "Y": y})
    if move.feed:
        words += w.changed(("F", f"{move.feed:.0f}"))
    moving = [word for word in words if word[0] in "XYZIJ"]
    line = w.block(*words) if moving else len(w.lines) - 1
    if move.dwell_s:
        w.block("G4", f"P{_number(move.dwell_s)}")
    return line


def written_as_cycle(operation: Operation) -> bool:
    """Whether an operation's holes are made by a cycle of the control: not where it comes out at a feed of
    its own, or stands at the bottom, as no such cycle does.
    """
    cycle = operation.canned_cycle()
    if not cycle:
        return False
    code = cycle_code(operation)
    stands = code in DWELLING.values() or code in STANDING
    return operation.retract_feed is None and (stands or not operation.dwell_s_at_bottom())


def cycle_code(operation: Operation) -> str:
    """The cycle of an operation's holes, with a dwell where it has one and there is such."""
    code = CYCLE_CODES[operation.canned_cycle()]
    return DWELLING.get(code, code) if operation.dwell_s_at_bottom() else code


def _cycle(w: _Writer, planned: Planned, approach: int) -> list[int]:
    """Canned cycle over the holes, returning to the initial plane (G98) between them."""
    operation = planned.operation
    code, peck, dwell = cycle_code(operation), operation.peck_mm(), operation.dwell_s_at_bottom()
    at_hole: dict[tuple[float, float], int] = {}
    previous: Hole | None = None
    for hole in planned.holes:
        place = [f"X{_number(hole.x)}", f"Y{_number(hole.y)}"]
        if previous is None or (hole.bottom, hole.start) != (previous.bottom, previous.start):
            words = ["G98", code, *place, f"Z{_number(hole.bottom)}", f"R{_number(hole.start)}"]
            if peck is not None:
                # A depth of G73 and G83, the lift off the wall of G76.
                words.append(f"Q{_number(peck)}")
            if dwell:
                words.append(f"P{_number(dwell)}")
            words.append(f"F{planned.feed_mm_min:.0f}")
        else:
            words = place
        at_hole[(hole.x, hole.y)] = w.block(*words)
        previous = hole
    w.block("G80")
    w.forget()
    out, line = [], approach
    for move in planned.path.moves:
        line = at_hole.get((move.end[0], move.end[1]), line)
        out.append(line)
    return out
