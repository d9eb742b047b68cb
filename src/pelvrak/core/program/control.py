"""What does a program do on the machine? A simulated control runs it, line by line.

Words, groups and the order within a line are those of ISO 6983-1 and of RS274/NGC (NIST IR 6556, 3.5 to 3.8,
from memory); registers beyond G59, jumps, loops and calls as several makers of controls have them alike.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Literal

from lark import Token, Tree

from pelvrak.core.errors import BadInput
from pelvrak.core.program.words import Line, Value, index_of, read_line, said, worked_out

INCH_MM = 25.4
AXES = ("X", "Y", "Z", "A", "B", "C")
STRAIGHT = AXES[:3]
# Ends of an arc lie as far from its middle as each other to within this, mm: NIST IR 6556 3.5.3.2.
ROUND_MM = 0.002
# Lines that may be run before a program is held to run in a circle, and calls that may be under way.
MOST_STEPS, DEEPEST = 20_000_000, 10
Kind = Literal["rapid", "line", "cw", "ccw", "dwell", "stop"]


@dataclass(frozen=True)
class Held:
    """What the control's tables hold. registers: machine coordinate of each zero by axis, mm and degrees;
    lengths, radii: by H and D, mm.
    """

    registers: dict[str, dict[str, float]]
    lengths: dict[int, float]
    radii: dict[int, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Event:
    """One thing the machine does. line: from 1; end: where its slides and axes stand then, machine, mm and
    degrees, its length counted from the spindle's nose; centre: of an arc, X and Y; feed: mm/min; seconds: it
    stands; tool: in the spindle; cutting: the spindle turns; register: in force.
    """

    line: int
    kind: Kind
    end: tuple[float, ...]
    tool: int
    cutting: bool
    register: str
    feed: float = 0.0
    centre: tuple[float, float] | None = None
    seconds: float = 0.0


class Alarm(BadInput):
    """The control stops here."""

    def __init__(self, line: int, what: str, mend: str) -> None:
        super().__init__("program.alarm", f"line {line}", what, mend)
        self.line = line


# Groups of which one line may have one word, and the codes the control knows: NIST IR 6556, table 4.
GROUPS: dict[str, tuple[float, ...]] = {
    "motion": (0, 1, 2, 3, 73, 76, 80, 81, 82, 83, 84, 85, 86, 89),
    "plane": (17, 18, 19),
    "distance": (90, 91),
    "feed": (93, 94),
    "units": (20, 21),
    "radius": (40, 41, 42),
    "length": (43, 49),
    "return": (98, 99),
    "register": (54, 55, 56, 57, 58, 59, 59.1, 59.2, 59.3, 54.1),
    "path": (61, 64),
    "once": (4, 10, 28, 53, 53.1),
    "turned": (68.2, 69),
}
_GROUP_OF = {code: group for group, codes in GROUPS.items() for code in codes}
_CYCLES = {73.0, 76.0, 81.0, 82.0, 83.0, 84.0, 85.0, 86.0, 89.0}
# What a cycle of many lines is short for: how it comes out. G81, G82, G83, G73: in rapid; G84, G85, G89: at
# feed; G86, G76: in rapid with the spindle standing. ISO 6983-1.
_OUT_AT_FEED = {84.0, 85.0, 89.0}
# G83 goes down again to this far over what it has drilled, G73 up by it, mm: makers differ, ours.
PECK_CLEAR_MM = 0.5


@dataclass
class _State:
    motion: float = 80.0
    absolute: bool | None = True
    inverse_time: bool = False
    inch: bool = False
    plane: float = 17.0
    register: str = "G54"
    length: float = 0.0
    feed: float = 0.0
    return_to: float = 98.0
    tool: int = 0
    ready: int = 0
    spindle: int = 0
    speed: float = 0.0
    sticky: dict[str, float] = field(default_factory=dict)


@dataclass
class _Call:
    """A program under way: its lines, where it is, how often it is still to run."""

    lines: list[Line]
    at: int = 0
    left: int = 1


class Control:
    """Runs a program: `run` gives what the machine does. at: where it stands, machine, mm and degrees;
    most_steps: lines it runs before it says that the program runs in a circle; unknown: how the last program
    left the control is not known, and what this one has not said is an alarm.
    """

    def __init__(
        self,
        held: Held,
        at: dict[str, float] | None = None,
        most_steps: int = MOST_STEPS,
        unknown: bool = False,
    ) -> None:
        self.most_steps = most_steps
        self.held = Held(
            {k: dict(v) for k, v in held.registers.items()}, dict(held.lengths), dict(held.radii)
        )
        self.at = dict.fromkeys(AXES, 0.0) | (at or {})
        self.variables: dict[int | str, float] = {}
        self.state = _State(absolute=None, register="") if unknown else _State()
        self.events: list[Event] = []
        self.line = 0

    # ---- the program

    def run(self, text: str | Iterable[str]) -> list[Event]:
        """What the machine does from start to end. Raises BadInput at the first line it cannot take, Alarm
        included.
        """
        source = text.splitlines() if isinstance(text, str) else text
        return self.run_lines([read_line(one, number) for number, one in said(source)])

    def run_lines(self, whole: list[Line]) -> list[Event]:
        """The same of lines that have been read."""
        calls, steps = [_Call(whole)], 0
        while calls:
            call = calls[-1]
            if call.at >= len(call.lines):
                return self.events
            line = call.lines[call.at]
            call.at += 1
            steps += 1
            if steps > self.most_steps:
                raise Alarm(line.number, "the program runs in a circle", "let its loop come to an end")
            self.line = line.number
            try:
                ended = self._line(line, call, calls, whole)
            except ValueError as wrong:
                if isinstance(wrong, BadInput):
                    raise
                raise Alarm(line.number, str(wrong), "change the line") from None
            if ended:
                return self.events
        return self.events

    def _line(self, line: Line, call: _Call, calls: list[_Call], whole: list[Line]) -> bool:
        """Run one line; whether the program has ended with it."""
        if line.skip:
            return False
        if line.statement is not None:
            self._statement(line.statement, call)
            return False
        words = [(letter, worked_out(value, self._variable)) for letter, value in line.words]
        # All values are worked out before any variable is set: NIST IR 6556 3.3.3.
        self._set(list(line.settings))
        return self._block(words, call, calls, whole)

    def _set(self, settings: list[tuple[Value | str, Value]]) -> None:
        told = [
            (
                one if isinstance(one, str) else index_of(one, self._variable),
                worked_out(value, self._variable),
            )
            for one, value in settings
        ]
        self.variables.update(told)

    def _variable(self, index: int | str) -> float:
        if index not in self.variables:
            raise ValueError(f"variable #{index} is used before anything is put into it")
        return self.variables[index]

    # ---- conditions and jumps

    def _statement(self, told: Tree[Token], call: _Call) -> None:
        def worth(at: int) -> float:
            child = told.children[at]
            assert isinstance(child, Tree)
            value: Value = child
            return worked_out(value, self._variable)

        if told.data == "goto":
            self._jump(worth(0), call)
        elif told.data == "if_goto":
            if worth(0) != 0:
                self._jump(worth(1), call)
        elif told.data == "if_then":
            setting = told.children[1]
            assert isinstance(setting, Tree)
            if worth(0) != 0:
                index, value = setting.children
                assert isinstance(index, Tree) and isinstance(value, Tree)
                self._set([(index, value)])
        elif told.data == "while_do":
            if worth(0) == 0:
                self._past("end", str(told.children[-1]), call)
        elif told.data == "end":
            self._back(str(told.children[0]), call)

    def _jump(self, number: float, call: _Call) -> None:
        for i, line in enumerate(call.lines):
            if any(letter == "N" and value == number for letter, value in line.words):
                call.at = i
                return
        raise ValueError(f"there is no line N{number:g} to go to")

    def _past(self, what: str, name: str, call: _Call) -> None:
        for i in range(call.at, len(call.lines)):
            told = call.lines[i].statement
            if told is not None and told.data == what and str(told.children[-1]) == name:
                call.at = i + 1
                return
        raise ValueError(f"DO{name} has no END{name}")

    def _back(self, name: str, call: _Call) -> None:
        for i in range(call.at - 2, -1, -1):
            told = call.lines[i].statement
            if told is not None and told.data in ("while_do", "do") and str(told.children[-1]) == name:
                call.at = i
                return
        raise ValueError(f"END{name} has no DO{name}")

    # ---- one block

    def _block(
        self, words: list[tuple[str, float]], call: _Call, calls: list[_Call], whole: list[Line]
    ) -> bool:
        codes, values = self._sorted(words)
        groups = {group: code for code in codes["G"] if (group := _GROUP_OF.get(code)) is not None}
        machine = list(codes["M"])
        if "N" in values:
            values.pop("N")
        if "O" in values:
            return False
        self._modal(groups, values)
        self._speeds(values, machine)
        if ("turned" in groups and groups["turned"] != 69) or 53.1 in codes["G"]:
            raise ValueError("planes that the control turns (G68.2) are not run here yet")
        if groups.get("radius", 40) != 40 and self.held.radii.get(round(values.get("D", 0)), 0.0) != 0:
            raise ValueError("a radius that the control corrects (G41, G42) is not run here yet")
        once = groups.get("once")
        if once == 4:
            self._event("dwell", seconds=values.get("P", values.get("X", 0.0)))
        elif once == 10:
            self._put(values)
        elif once == 28:
            self._home(values)
        else:
            self._move(groups, values, once == 53)
        return self._after(machine, values, call, calls, whole)

    def _sorted(self, words: list[tuple[str, float]]) -> tuple[dict[str, list[float]], dict[str, float]]:
        """G and M codes, and what all other letters are told: each letter once (NIST IR 6556 3.3.5)."""
        codes: dict[str, list[float]] = {"G": [], "M": []}
        values: dict[str, float] = {}
        seen: dict[str, float] = {}
        for letter, value in words:
            if letter in codes:
                code = round(value, 1)
                group = _GROUP_OF.get(code) if letter == "G" else None
                if letter == "G" and group is None:
                    raise ValueError(f"G{code:g} is not known to this control")
                if group is not None and group in seen:
                    raise ValueError(f"G{seen[group]:g} and G{code:g} cannot be on one line")
                if group is not None:
                    seen[group] = code
                codes[letter].append(code)
            elif letter in values:
                raise ValueError(f"{letter} is on this line twice")
            else:
                values[letter] = value
        return codes, values

    def _modal(self, groups: dict[str, float], values: dict[str, float]) -> None:
        s = self.state
        s.inch = groups.get("units", 20 if s.inch else 21) == 20
        s.plane = groups.get("plane", s.plane)
        if "distance" in groups:
            s.absolute = groups["distance"] == 90
        s.inverse_time = groups.get("feed", 93 if s.inverse_time else 94) == 93
        s.return_to = groups.get("return", s.return_to)
        if groups.get("length") == 49:
            s.length = 0.0
        if groups.get("length") == 43:
            number = round(values.get("H", s.tool))
            if number not in self.held.lengths:
                raise ValueError(f"the tool table has no H{number}")
            s.length = self.held.lengths[number]
        if "register" in groups:
            code = groups["register"]
            name = f"G54.1 P{values.pop('P', 0):g}" if code == 54.1 else f"G{code:g}"
            if name not in self.held.registers:
                raise ValueError(f"{name} has not been set")
            s.register = name

    def _speeds(self, values: dict[str, float], machine: list[float]) -> None:
        s = self.state
        if "F" in values:
            s.feed = values["F"] * (INCH_MM if s.inch and not s.inverse_time else 1.0)
        s.speed = values.get("S", s.speed)
        if "T" in values:
            s.ready = round(values["T"])
        if 6 in machine:
            s.tool = s.ready
        for code, turns in ((3, 1), (4, -1), (5, 0)):
            if code in machine:
                s.spindle = turns

    def _put(self, values: dict[str, float]) -> None:
        """G10: a register, or a tool's length."""
        what, number = values.get("L"), round(values.get("P", 0))
        if what == 2 and 1 <= number <= 6:
            name = f"G{53 + number}"
            held = self.held.registers.setdefault(name, {})
            held.update({axis: self._mm(axis, values[axis]) for axis in AXES if axis in values})
        elif what in (1, 10):
            self.held.lengths[number] = self._mm("Z", values.get("Z", values.get("R", 0.0)))
        else:
            raise ValueError(f"G10 L{what or 0:g} is not known to this control")

    def _home(self, values: dict[str, float]) -> None:
        told = [axis for axis in AXES if axis in values] or list(AXES)
        if any(axis in values for axis in AXES):
            self._event("rapid", self._target(values, machine=False))
        self._event("rapid", self.at | dict.fromkeys(told, 0.0))

    # ---- motion

    def _mm(self, axis: str, value: float) -> float:
        return value * INCH_MM if self.state.inch and axis in STRAIGHT else value

    def _zero(self, axis: str) -> float:
        if not self.state.register:
            raise ValueError("no register has been said: who knows which the last program left")
        held = self.held.registers.get(self.state.register, {})
        return held.get(axis, 0.0) + (self.state.length if axis == "Z" else 0.0)

    def _target(self, values: dict[str, float], machine: bool) -> dict[str, float]:
        """Where the slides and axes are sent."""
        out = dict(self.at)
        for axis in AXES:
            if axis not in values:
                continue
            value = self._mm(axis, values[axis])
            if machine:
                out[axis] = value
            elif self.state.absolute is None:
                raise ValueError("neither G90 nor G91 has been said: who knows which the last program left")
            elif self.state.absolute:
                out[axis] = value + self._zero(axis)
            else:
                out[axis] = self.at[axis] + value
        return out

    def _move(self, groups: dict[str, float], values: dict[str, float], machine: bool) -> None:
        s = self.state
        if "motion" in groups:
            s.motion = groups["motion"]
            s.sticky.clear()
        if not any(axis in values for axis in AXES) and not (s.motion in (2, 3) and {"I", "J"} & set(values)):
            return
        if s.motion in _CYCLES:
            self._cycle(values)
            return
        if machine and s.motion not in (0, 1):
            raise ValueError("G53 goes with G0 or G1")
        if s.motion == 80:
            raise ValueError("an axis is told where to go, and no code says how")
        target = self._target(values, machine)
        if s.motion == 0:
            self._event("rapid", target)
            return
        if s.feed <= 0:
            raise ValueError("a feed is wanted before this move")
        if s.motion == 1:
            self._event("line", target)
        else:
            self._arc(target, values)

    def _arc(self, target: dict[str, float], values: dict[str, float]) -> None:
        """An arc in the XY plane by its middle or its radius: NIST IR 6556 3.5.3."""
        if self.state.plane != 17:
            raise ValueError("arcs outside the XY plane (G18, G19) are not run here yet")
        kind: Kind = "cw" if self.state.motion == 2 else "ccw"
        x, y = self.at["X"], self.at["Y"]
        ex, ey = target["X"], target["Y"]
        if "R" in values:
            radius = self._mm("X", values["R"])
            half = math.hypot(ex - x, ey - y) / 2
            if half == 0:
                raise ValueError("an arc by its radius does not end where it begins: give its middle")
            if half > abs(radius) + ROUND_MM:
                raise ValueError(f"its ends lie {2 * half:g} mm apart, more than twice its radius")
            off = math.sqrt(max(0.0, radius * radius - half * half))
            # The middle is on the left of the way for a short arc to the left.
            side = (1 if kind == "ccw" else -1) * (1 if radius > 0 else -1)
            cx = (x + ex) / 2 - side * off * (ey - y) / (2 * half)
            cy = (y + ey) / 2 + side * off * (ex - x) / (2 * half)
        else:
            cx = x + self._mm("X", values.get("I", 0.0))
            cy = y + self._mm("Y", values.get("J", 0.0))
            one, two = math.hypot(x - cx, y - cy), math.hypot(ex - cx, ey - cy)
            if one == 0 or abs(one - two) > ROUND_MM:
                raise ValueError(f"its ends lie {one:.4f} and {two:.4f} mm from its middle")
        self._event(kind, target, centre=(cx, cy))

    def _cycle(self, values: dict[str, float]) -> None:
        """A cycle at one place, long hand: NIST IR 6556 3.5.16."""
        s = self.state
        first = not s.sticky
        for letter in "ZRQP":
            if letter in values:
                s.sticky[letter] = values[letter]
        if first:
            s.sticky["from"] = self.at["Z"]
        if "Z" not in s.sticky or "R" not in s.sticky:
            raise ValueError("a cycle wants Z and R")
        if s.feed <= 0:
            raise ValueError("a feed is wanted before this move")
        zero = self._zero("Z")
        low, clear = self._mm("Z", s.sticky["Z"]) + zero, self._mm("Z", s.sticky["R"]) + zero
        if clear < low:
            raise ValueError("the cycle's R lies under its Z")
        up = max(s.sticky["from"], clear) if s.return_to == 98 else clear
        over = self._target({a: v for a, v in values.items() if a in ("X", "Y", "A", "B", "C")}, False)
        if self.at["Z"] < clear:
            self._event("rapid", self.at | {"Z": clear})
        self._event("rapid", over)
        self._event("rapid", self.at | {"Z": clear})
        self._down(low, clear)
        if s.motion in (82, 89, 76, 86, 84) and "P" in s.sticky:
            self._event("dwell", seconds=s.sticky["P"])
        if s.motion in _OUT_AT_FEED:
            self._event("line", self.at | {"Z": clear})
        self._event("rapid", self.at | {"Z": up})

    def _down(self, low: float, clear: float) -> None:
        """To the bottom, by pecks where the cycle has them."""
        s = self.state
        peck = self._mm("Z", s.sticky.get("Q", 0.0)) if s.motion in (73, 83) else 0.0
        done = clear
        while peck > 0 and done - peck > low + 1e-9:
            done -= peck
            self._event("line", self.at | {"Z": done})
            if s.motion == 83:
                self._event("rapid", self.at | {"Z": clear})
                self._event("rapid", self.at | {"Z": done + min(PECK_CLEAR_MM, clear - done)})
            else:
                self._event("rapid", self.at | {"Z": done + PECK_CLEAR_MM})
        self._event("line", self.at | {"Z": low})

    def _event(
        self,
        kind: Kind,
        end: dict[str, float] | None = None,
        centre: tuple[float, float] | None = None,
        seconds: float = 0.0,
    ) -> None:
        s, end = self.state, end or self.at
        feed = 0.0
        if kind in ("line", "cw", "ccw"):
            feed = s.feed
            if s.inverse_time:
                feed *= max(math.dist([end[a] for a in STRAIGHT], [self.at[a] for a in STRAIGHT]), 1e-9)
        self.at = dict(end)
        self.events.append(
            Event(
                self.line,
                kind,
                tuple(end[axis] for axis in AXES),
                s.tool,
                s.spindle != 0,
                s.register,
                feed,
                centre,
                seconds,
            )
        )

    # ---- after the move: stops, calls, the end

    def _after(
        self,
        machine: list[float],
        values: dict[str, float],
        call: _Call,
        calls: list[_Call],
        whole: list[Line],
    ) -> bool:
        if 0 in machine or 1 in machine:
            self._event("stop")
        if 98 in machine:
            if len(calls) > DEEPEST:
                raise ValueError(f"more than {DEEPEST} calls are under way")
            calls.append(
                replace(_Call(_named(whole, values.get("P", 0))), left=max(1, round(values.get("L", 1))))
            )
        if 99 in machine:
            call.left -= 1
            call.at = 0
            if len(calls) == 1:
                raise ValueError("M99 in a program that nothing called would run for ever")
            if call.left == 0:
                calls.pop()
        return 2 in machine or 30 in machine


def _named(whole: list[Line], number: float) -> list[Line]:
    """The lines of a program of a number, as far as the next begins."""
    starts = [i for i, line in enumerate(whole) if any(letter == "O" for letter, _ in line.words)]
    for place, start in enumerate(starts):
        if ("O", number) in whole[start].words:
            end = starts[place + 1] if place + 1 < len(starts) else len(whole)
            return whole[start + 1 : end]
    raise ValueError(f"there is no program O{number:g} to be called")
