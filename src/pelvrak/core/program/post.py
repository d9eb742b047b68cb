"""What program does a setup run? ISO 6983 code, one word address program per setup."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from pelvrak.core.cutting.operations import Drilling, Operation
from pelvrak.core.cutting.planning import Hole
from pelvrak.core.cutting.toolpath import Path
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.part import Vector

# ISO 6983-1: G81 drilling, G83 deep hole, G84 tapping, G85 boring in and out at feed.
CYCLE_CODES = {"spot": "G81", "drill": "G81", "peck": "G83", "ream": "G85", "tap": "G84"}


@dataclass(frozen=True)
class Where:
    """Where the work is turned to. rotary: name, angle (degrees), clamp and unclamp code of each axis; shift: what is added to every
    coordinate; tilted: turns about Z, X, Z (degrees) of a plane the control turns; message: to stop with."""

    register: str
    rotary: tuple[tuple[str, float, str, str], ...] = ()
    shift: Vector = (0.0, 0.0, 0.0)
    tilted: tuple[float, float, float] | None = None
    message: str | None = None


@dataclass(frozen=True)
class Planned:
    """One operation as the program needs it."""

    operation: Operation
    tool: Tool
    path: Path
    holes: list[Hole]
    speed_rpm: float
    feed_mm_min: float
    where: Where


@dataclass(frozen=True)
class Program:
    """Program text, and for each operation the line (from 0) that makes each of its moves."""

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
        self.number = 0
        self.modal: dict[str, str] = {}

    def plain(self, text: str) -> None:
        self.lines.append(text)

    def block(self, *words: str) -> int:
        """Write a block with its sequence number; returns its line."""
        self.number += 10
        self.lines.append(f"N{self.number} " + " ".join(words))
        return len(self.lines) - 1

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
) -> Program:
    """The program of one setup: safe start, each operation with its tool, safe end.

    Units mm (G21), absolute (G90), feed per minute (G94), tool length by G43 H = tool number. Before
    every operation the offset register is written again. registers: what each holds. Before the work is turned the
    spindle goes up.
    """
    operations = [_shifted(one) for one in operations]
    w = _Writer()
    lines: dict[str, list[int]] = {}
    digits = "".join(c for c in name if c.isdigit()) or "1"
    w.plain("%")
    w.plain(f"O{int(digits):04d} {_comment(f'{name} {title}')}")
    w.plain(_comment(part))
    w.plain(_comment(f"incoming {billet}"))
    for register, value in registers.items():
        w.plain(_comment(f"{register} X{_number(value[0])} Y{_number(value[1])} Z{_number(value[2])}"))
    for tool in {p.tool.place: p.tool for p in operations}.values():
        w.plain(_comment(f"T{tool.place} {tool.name}, out {tool.overhang:g}"))
    w.block("G21", "G17", "G90", "G40", "G49", "G80", "G94")
    current: int | None = None
    stands: tuple[float, ...] | None = None
    tilted = False
    for planned in operations:
        tool, operation = planned.tool, planned.operation
        if not planned.path.moves:
            lines[operation.id] = []
            continue
        w.plain(_comment(operation.name))
        there = planned.where
        turns = there.rotary and tuple(angle for _, angle, _, _ in there.rotary) != stands
        if current is not None and (tool.place != current or turns):
            w.block("M9")
            if tilted:
                w.block("G69")
                tilted = False
            w.block("G53", "G0", "Z0.")
            if tool.place != current:
                w.block("M5")
        if tool.place != current:
            w.block(f"T{tool.place}", "M6")
            current = tool.place
        if turns:
            _turn(w, there)
            stands = tuple(angle for _, angle, _, _ in there.rotary)
        w.forget()
        w.block(there.register)
        if there.tilted is not None and not tilted:
            # A plane turned about zero by I, J, K (about Z, the new X, the new Z), and the tool set square to it.
            i, j, k = (_number(angle) for angle in there.tilted)
            w.block("G68.2", "X0.", "Y0.", "Z0.", f"I{i}", f"J{j}", f"K{k}")
            w.block("G53.1")
            tilted = True
        w.block(f"S{planned.speed_rpm:.0f}", "M3")
        first = planned.path.moves[0].end
        w.block("G0", f"X{_number(first[0])}", f"Y{_number(first[1])}")
        approach = w.block("G43", f"H{tool.place}", f"Z{_number(first[2])}", "M8")
        w.modal.update({"G": "0", "X": _number(first[0]), "Y": _number(first[1]), "Z": _number(first[2])})
        if isinstance(operation, Drilling):
            lines[operation.id] = _cycle(w, planned, operation, approach)
        else:
            lines[operation.id] = [approach, *_moves(w, planned.path)]
    w.block("M9")
    if tilted:
        w.block("G69")
    w.block("G53", "G0", "Z0.")
    w.block("M5")
    w.block("G53", "G0", "Y0.")
    w.block("M30")
    w.plain("%")
    return Program("\n".join(w.lines) + "\n", lines)


def _turn(w: _Writer, there: Where) -> None:
    """Turn the work: clamps off, all rotary axes together, clamps on; or stop first."""
    if there.message is not None:
        w.block("M0", _comment(there.message or "turn and clamp the work anew"))
    for _, _, _, unclamp in there.rotary:
        if unclamp:
            w.block(unclamp)
    w.block("G0", *(f"{name}{_number(angle)}" for name, angle, _, _ in there.rotary))
    for _, _, clamp, _ in there.rotary:
        if clamp:
            w.block(clamp)


def _shifted(one: Planned) -> Planned:
    """An operation with every coordinate as its register counts it."""
    dx, dy, dz = one.where.shift
    if (dx, dy, dz) == (0.0, 0.0, 0.0):
        return one
    moves = [
        replace(m, end=(m.end[0] + dx, m.end[1] + dy, m.end[2] + dz),
                centre=None if m.centre is None else (m.centre[0] + dx, m.centre[1] + dy))
        for m in one.path.moves
    ]  # fmt: skip
    start = one.path.start
    path = Path((start[0] + dx, start[1] + dy, start[2] + dz), moves)
    holes = [Hole(h.x + dx, h.y + dy, h.start + dz, h.bottom + dz) for h in one.holes]
    return replace(one, path=path, holes=holes)


def _moves(w: _Writer, path: Path) -> list[int]:
    out = []
    at = path.moves[0].end
    for move in path.moves[1:]:
        x, y, z = (_number(v) for v in move.end)
        code = {"rapid": "0", "line": "1", "cw": "2", "ccw": "3"}[move.kind]
        words = w.changed(("G", code))
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
        out.append(w.block(*words) if moving else len(w.lines) - 1)
        at = move.end
    return out


def _cycle(w: _Writer, planned: Planned, operation: Drilling, approach: int) -> list[int]:
    """Canned cycle over the holes, returning to the initial plane (G98) between them."""
    code = CYCLE_CODES[operation.cycle]
    at_hole: dict[tuple[float, float], int] = {}
    previous: Hole | None = None
    for hole in planned.holes:
        place = [f"X{_number(hole.x)}", f"Y{_number(hole.y)}"]
        if previous is None or (hole.bottom, hole.start) != (previous.bottom, previous.start):
            words = ["G98", code, *place, f"Z{_number(hole.bottom)}", f"R{_number(hole.start)}"]
            if operation.cycle == "peck":
                words.append(f"Q{_number(operation.peck)}")
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
