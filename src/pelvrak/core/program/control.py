"""What does a program do on the machine? A simulated control runs it, line by line.

Words, groups and the order within a line are those of ISO 6983-1 and of RS274/NGC (NIST IR 6556, 3.5 to 3.8,
from memory); registers beyond G59, jumps, loops and calls as several makers of controls have them alike.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from lark import Token, Tree

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.machine.machine import Machine
from pelvrak.core.program.calls import ARGUMENTS, Call, called, within
from pelvrak.core.program.compensation import Contour, Step
from pelvrak.core.program.held import AXES, STRAIGHT, Alarm, Event, Held, Kind, Standing, Touch
from pelvrak.core.program.tilted import Flat, Plane, plane_of
from pelvrak.core.program.variables import Variables, named_by
from pelvrak.core.program.words import Line, Lines, Value, index_of, lines_of, read_line, said, worked_out
from pelvrak.core.stock.moves import arc_points

INCH_MM = 25.4
# Ends of an arc lie as far from its middle as each other to within this, mm: NIST IR 6556 3.5.3.2.
ROUND_MM = 0.002
# An arc that no XY plane of the machine holds is run as chords so near to it, mm.
ARC_MM = 0.001
# Lines that may be run before a program is held to run in a circle, and calls that may be under way.
MOST_STEPS, DEEPEST = 20_000_000, 10


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
    "exact": (9,),
    "once": (4, 10, 28, 31, 38.2, 52, 53, 53.1, 65),
    "turned": (68, 68.2, 69),
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
    length_of: int = 0
    radius_of: int = 0
    coolant: str = ""
    feed: float = 0.0
    return_to: float = 98.0
    tool: int = 0
    ready: int = 0
    spindle: int = 0
    speed: float = 0.0
    sticky: dict[str, float] = field(default_factory=dict)


class Control:
    """Runs a program: `run` gives what the machine does, `stood` how the control stands after each line that
    changes that. at: where it stands, machine, mm and degrees;
    most_steps: lines it runs before it says that the program runs in a circle; unknown: how the last program
    left the control is not known, and what this one has not said is an alarm; machine: that turns planes;
    touch: what a probe meets, None: all it is sent to.
    """

    def __init__(
        self,
        held: Held,
        at: dict[str, float] | None = None,
        most_steps: int = MOST_STEPS,
        unknown: bool = False,
        machine: Machine | None = None,
        touch: Touch | None = None,
    ) -> None:
        self.machine, self.touch = machine, touch
        self.turned: Plane | Flat | None = None
        self.contour: Contour | None = None
        # How far what the program counts from is shifted from its register, mm.
        self.shift = dict.fromkeys(STRAIGHT, 0.0)
        self.most_steps = most_steps
        registers = {k: dict(v) for k, v in held.registers.items()}
        self.held = replace(held, registers=registers, lengths=dict(held.lengths), radii=dict(held.radii))
        self.at = dict.fromkeys(AXES, 0.0) | (at or {})
        self.beside = [lines_of(text) for text in held.beside]
        self.variables = Variables(self.held.registers, lambda: INCH_MM if self.state.inch else 1.0)
        self.state = _State(absolute=None, register="") if unknown else _State()
        # A line is searched for: what comes before is worked out, and nothing of it is done.
        self.searching = held.begins > 1
        self.exact = self.exact_here = False
        self.began = dict(self.at)
        self.events: list[Event] = []
        self.stood: list[tuple[int, Standing]] = []
        self.line = 0

    # ---- the program

    def run(self, text: str | Iterable[str]) -> list[Event]:
        """What the machine does from start to end. Raises BadInput at the first line it cannot take, Alarm
        included.
        """
        if isinstance(text, str):
            return self.run_lines(list(Lines(text).said()))
        return self.run_lines([read_line(one, number) for number, one in said(text)])

    def run_lines(self, whole: Sequence[Line]) -> list[Event]:
        """The same of lines that have been read."""
        for _ in self._lines(whole):
            continue
        return self.events

    def steps(self, text: str) -> Iterator[Event]:
        """The same, event after event: none is kept."""
        for _ in self._lines(lines_of(text)):
            yield from self.events
            self.events.clear()

    def _lines(self, whole: Sequence[Line]) -> Iterator[None]:
        """Run line after line."""
        calls, steps = [Call(whole)], 0
        while calls:
            call = calls[-1]
            if call.at >= len(call.lines):
                return
            line = call.lines[call.at]
            call.at += 1
            steps += 1
            if steps > self.most_steps:
                raise Alarm(line.number, "the program runs in a circle", "let its loop come to an end")
            self.line = call.number(line)
            if self.searching and self.line >= self.held.begins:
                self._begin_here()
            try:
                ended = self._line(line, call, calls, whole)
            except ValueError as wrong:
                if isinstance(wrong, BadInput):
                    raise
                raise Alarm(self.line, str(wrong), "change the line") from None
            self._note(self.line)
            yield
            if ended:
                return

    def _begin_here(self) -> None:
        """Begin at a line that was searched for: the machine stands where it did at first, and goes to where
        the line before would have ended, over it first and then down.
        """
        self.searching = False
        there, self.at = self.at, self.began
        over = there | {"Z": self.at["Z"]}
        for end in (over, there):
            if end != self.at:
                self._event("rapid", end)

    def _note(self, line: int) -> None:
        s = self.state
        motion, plane = f"G{s.motion:g}", f"G{s.plane:g}"
        now = Standing(
            s.tool,
            s.register,
            s.length_of,
            s.radius_of,
            plane,
            s.absolute,
            s.inverse_time,
            motion,
            s.feed * self.held.feed_share,
            s.spindle,
            s.speed * self.held.speed_share,
            s.coolant,
            self._shift(),
        )
        if not self.stood or self.stood[-1][1] != now:
            self.stood.append((line, now))

    def _line(self, line: Line, call: Call, calls: list[Call], whole: Sequence[Line]) -> bool:
        """Run one line; whether the program has ended with it."""
        if line.skip and self.held.deletes:
            return False
        if line.statement is not None:
            self._statement(line.statement, call, calls)
            return False
        words = [(letter, worked_out(value, self.variables.value)) for letter, value in line.words]
        # All values are worked out before any variable is set: NIST IR 6556 3.3.3.
        self._set(list(line.settings))
        return self._block(words, call, calls, whole)

    def _set(self, settings: list[tuple[Value | str, Value]]) -> None:
        told = [
            (
                one if isinstance(one, str) else index_of(one, self.variables.value),
                worked_out(value, self.variables.value),
            )
            for one, value in settings
        ]
        for index, value in told:
            self.variables.put(index, value)

    # ---- conditions and jumps

    def _statement(self, told: Tree[Token], call: Call, calls: list[Call]) -> None:
        def worth(at: int) -> float:
            child = told.children[at]
            assert isinstance(child, Tree)
            value: Value = child
            return worked_out(value, self.variables.value)

        if told.data == "goto":
            call.jump(worth(0))
        elif told.data == "if_goto":
            if worth(0) != 0:
                call.jump(worth(1))
        elif told.data == "if_then":
            setting = told.children[1]
            assert isinstance(setting, Tree)
            if worth(0) != 0:
                index, value = setting.children
                assert isinstance(index, Tree) and isinstance(value, Tree)
                self._set([(index, value)])
        elif told.data == "while_do":
            if worth(0) == 0:
                call.past("end", str(told.children[-1]))
        elif told.data == "end":
            call.back(str(told.children[0]))
        elif told.data == "sub":  # what is not called is gone past
            call.past("endsub", str(told.children[1]))
        elif told.data == "call_sub":
            self._enter(within(call, str(told.children[1])), calls)
        elif told.data == "endsub":
            self._back(call, calls)

    # ---- one block

    def _block(
        self, words: list[tuple[str, float]], call: Call, calls: list[Call], whole: Sequence[Line]
    ) -> bool:
        codes, values = self._sorted(words)
        groups = {group: code for code in codes["G"] if (group := _GROUP_OF.get(code)) is not None}
        machine = list(codes["M"])
        if "N" in values:
            values.pop("N")
        if "O" in values:
            return False
        if groups.get("once") == 65:
            self._macro(values, call, calls, whole)
            return False
        self._modal(groups, values)
        self._speeds(values, machine)
        once = groups.get("once")
        if "turned" in groups:
            self._plane(groups["turned"], values)
            return self._after(machine, values, call, calls, whole)
        if once == 4:
            self._event("dwell", seconds=self._stands(values))
        elif once == 10:
            self._put(values)
        elif once in (31, 38.2):
            self._feel(once, values)
        elif once == 28:
            self._home(values)
        elif once == 52:
            self._shifted(values)
        elif once == 53.1:
            self._square()
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
        if "path" in groups:
            self.exact = groups["path"] == 61
        # G9 for its block alone.
        self.exact_here = self.exact or "exact" in groups
        if groups.get("length") == 49:
            s.length, s.length_of = 0.0, 0
        if groups.get("length") == 43:
            number = round(values.get("H", s.tool))
            if number not in self.held.lengths:
                raise ValueError(f"the tool table has no H{number}")
            s.length, s.length_of = self.held.lengths[number], number
        if "radius" in groups:
            s.radius_of = 0 if groups["radius"] == 40 else round(values.get("D", s.tool))
        if "register" in groups:
            code = groups["register"]
            self._uncorrected(f"G{code:g}")
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
            self._uncorrected("a tool change")
            s.tool = s.ready
        for code, turns in ((3, 1), (4, -1), (5, 0)):
            if code in machine:
                s.spindle = turns
        for code in (7, 8, 9):
            if code in machine:
                s.coolant = "" if code == 9 else f"M{code}"

    def _feel(self, code: float, values: dict[str, float]) -> None:
        """G38.2 and G31: straight on until the probe touches; where it did is kept. NIST IR 6556 3.5.9: it is
        an alarm where nothing is touched; with makers of controls who have G31 it is none.
        """
        if not any(axis in values for axis in STRAIGHT) or any(axis in values for axis in AXES[3:]):
            raise ValueError(f"G{code:g} goes along X, Y and Z")
        if self.state.feed <= 0:
            raise ValueError("a feed is wanted before this move")
        if self.state.spindle != 0:
            raise ValueError(f"G{code:g} with the spindle turning breaks the probe")
        self._uncorrected(f"G{code:g}")
        if isinstance(self.turned, Flat):
            # Where it touched is told turned by some, as the slides count by others.
            raise ValueError(f"G{code:g} while what is counted is turned: G69 is wanted before")
        end = self._target(values, False) if self.turned is None else self.at | self._sent(self._end(values))
        ways = [(tuple(at[axis] for axis in AXES)) for at in (self.at, end)]
        share = 1.0 if self.touch is None or self.searching else self.touch(self.state.tool, ways[0], ways[1])
        if share is None and code == 38.2:
            raise ValueError("the probe touches nothing on its way")
        if share is not None:
            end = {axis: self.at[axis] + share * (end[axis] - self.at[axis]) for axis in AXES}
        self._event("line", end)
        self.variables.touched((*self._told(), *(self.at[axis] for axis in AXES[3:])))

    def _put(self, values: dict[str, float]) -> None:
        """G10: a register, or a tool's length."""
        what, number = values.get("L"), round(values.get("P", 0))
        name = named_by(what, number)
        if name is not None:
            held = self.held.registers.setdefault(name, {})
            held.update({axis: self._mm(axis, values[axis]) for axis in AXES if axis in values})
        elif what == 13:
            before = 0.0 if self._absolute() else self.held.radii.get(number, 0.0)
            self.held.radii[number] = before + self._mm("Z", values.get("R", 0.0))
        elif what in (1, 10):
            self.held.lengths[number] = self._mm("Z", values.get("Z", values.get("R", 0.0)))
        else:
            raise ValueError(f"G10 L{what or 0:g} is not known to this control")

    def _shifted(self, values: dict[str, float]) -> None:
        """G52: the program counts from a place of its register's, whichever that is, until the shift is 0.
        Alike with several makers of controls, from memory.
        """
        self._uncorrected("G52")
        if self.turned is not None:
            raise ValueError("G52 while the plane is turned: G69 is wanted before")
        if not any(axis in values for axis in STRAIGHT):
            raise ValueError("G52 wants X, Y or Z, by how much what is counted from is shifted")
        self.shift |= {axis: self._mm(axis, values[axis]) for axis in STRAIGHT if axis in values}

    def _shift(self) -> Vector:
        return self.shift["X"], self.shift["Y"], self.shift["Z"]

    def _plane(self, code: float, values: dict[str, float]) -> None:
        """G68.2 turns the plane the program counts in, by X, Y, Z and I, J, K, G68 what lies in it about X
        and Y by R; G69 turns it back.
        """
        self._uncorrected(f"G{code:g}")
        if code == 69:
            self.turned = None
            return
        if self.turned is not None:
            raise ValueError("the plane is turned already: G69 is wanted before")
        self._zero("Z")
        if any(self.shift.values()):
            raise ValueError(f"G{code:g} while a shift is in force: G52 X0 Y0 Z0 is wanted before")
        if code == 68:
            self.turned = self._flat(values)
            return
        if self.machine is None:
            raise ValueError("a machine is wanted to turn a plane (G68.2)")
        at = np.array([self._mm(axis, values.get(axis, 0.0)) for axis in STRAIGHT])
        turns = np.array([values.get(letter, 0.0) for letter in "IJK"])
        self.turned = plane_of(self.machine, self.held.registers[self.state.register], at, turns)

    def _flat(self, values: dict[str, float]) -> Flat:
        if self.state.plane != 17:
            raise ValueError("G68 turns what lies in the XY plane (G17) only")
        if "R" not in values:
            raise ValueError("G68 wants R, by how much it turns")
        x, y, _ = self._end(values)
        held = self.held.registers[self.state.register]
        return Flat((x, y), values["R"], np.array([held.get(axis, 0.0) for axis in STRAIGHT]))

    def _square(self) -> None:
        """G53.1: the rotary axes set the tool square to the turned plane."""
        if not isinstance(self.turned, Plane):
            raise ValueError("G53.1 wants a plane turned by G68.2 before")
        self._event("rapid", self.at | self.turned.square(self.at))

    def _home(self, values: dict[str, float]) -> None:
        told = [axis for axis in AXES if axis in values] or list(AXES)
        if any(axis in values for axis in AXES):
            self._uncorrected("G28")
            self._over({axis: value for axis, value in values.items() if axis in AXES})
        self._event("rapid", self.at | dict.fromkeys(told, 0.0))

    # ---- motion

    def _mm(self, axis: str, value: float) -> float:
        return value * INCH_MM if self.state.inch and axis in STRAIGHT else value

    def _zero(self, axis: str) -> float:
        if not self.state.register:
            raise ValueError("no register has been said: who knows which the last program left")
        held = self.held.registers.get(self.state.register, {})
        length = self.state.length if axis == "Z" else 0.0
        return held.get(axis, 0.0) + self.shift.get(axis, 0.0) + length

    def _told(self) -> Vector:
        """Where the program stands, as it counts; while the radius is corrected, on the contour itself."""
        return self._plain() if self.contour is None else self.contour.told

    def _plain(self) -> Vector:
        """Where the cutter stands, as the program counts."""
        if self.turned is not None and self.turned.angles is not None:
            slides = np.array([self.at[axis] for axis in STRAIGHT])
            return as_vector(self.turned.place(slides, self.state.length))
        held = self.held.registers.get(self.state.register, {})
        x, y, z = (self.at[axis] - held.get(axis, 0.0) - self.shift[axis] for axis in STRAIGHT)
        return (x, y, z - self.state.length)

    def _sent(self, place: Vector) -> dict[str, float]:
        """Where the slides are sent for a place as the program counts."""
        if self.turned is not None:
            if self.turned.angles is None:
                raise ValueError("the plane is turned and the tool is not set square to it: G53.1 is wanted")
            return dict(
                zip(STRAIGHT, self.turned.slides(np.array(place), self.state.length).tolist(), strict=True)
            )
        return {axis: value + self._zero(axis) for axis, value in zip(STRAIGHT, place, strict=True)}

    def _target(self, values: dict[str, float], machine: bool) -> dict[str, float]:
        """Where the slides and axes are sent by a line that no contour changes."""
        out = dict(self.at)
        for axis in AXES:
            if axis not in values:
                continue
            value = self._mm(axis, values[axis])
            if machine:
                out[axis] = value
            elif self._absolute():
                out[axis] = value + self._zero(axis)
            else:
                out[axis] = self.at[axis] + value
        return out

    def _absolute(self) -> bool:
        if self.state.absolute is None:
            raise ValueError("neither G90 nor G91 has been said: who knows which the last program left")
        return self.state.absolute

    def _end(self, values: dict[str, float]) -> Vector:
        """Where a line ends, as the program counts, mm."""
        out = list(self._told())
        for i, axis in enumerate(STRAIGHT):
            if axis in values:
                value = self._mm(axis, values[axis])
                out[i] = value if self._absolute() else out[i] + value
        return out[0], out[1], out[2]

    def _move(self, groups: dict[str, float], values: dict[str, float], machine: bool) -> None:
        s = self.state
        if "motion" in groups:
            s.motion = groups["motion"]
            s.sticky.clear()
        moves = any(axis in values for axis in AXES) or (s.motion in (2, 3) and {"I", "J", "K"} & set(values))
        self._radius(groups, bool(moves))
        if not moves:
            return
        if s.motion in _CYCLES:
            self._uncorrected("a cycle")
            for _ in range(1 if s.absolute else max(1, round(values.get("L", 1)))):
                self._cycle(values)
            return
        if machine and s.motion not in (0, 1):
            raise ValueError("G53 goes with G0 or G1")
        if s.motion == 80:
            raise ValueError("an axis is told where to go, and no code says how")
        if s.motion != 0 and s.feed <= 0:
            raise ValueError("a feed is wanted before this move")
        if s.motion in (2, 3):
            self._arc(values)
            return
        kind: Literal["rapid", "line"] = "rapid" if s.motion == 0 else "line"
        if machine:
            self._uncorrected("a move in machine coordinates")
        if self.contour is None and (machine or self.turned is None):
            self._event(kind, self._target(values, machine))
            return
        if any(axis in values for axis in AXES[3:]):
            raise ValueError("an axis turns where the plane is turned or the radius is corrected")
        self._go(Step(kind, self._end(values), self.line, s.feed))

    # ---- the radius

    def _radius(self, groups: dict[str, float], moves: bool) -> None:
        """G40, G41, G42: NIST IR 6556 3.5.10. With a radius of 0 in the table nothing is corrected."""
        code = groups.get("radius")
        if code == 40 and self.contour is not None:
            contour, self.contour = self.contour, None
            for step in contour.end():
                self._make(step)
        elif code in (41, 42):
            radius = self.held.radii.get(self.state.radius_of, 0.0)
            self._uncorrected(f"G{code:g}")
            if radius and self.state.plane != 17:
                raise ValueError("a radius is corrected in the XY plane (G17) only")
            if radius:
                self.contour = Contour(radius, code == 41, self._told())

    def _uncorrected(self, what: str) -> None:
        if self.contour is not None:
            raise ValueError(f"{what} while the radius is corrected: G40 is wanted before")

    def _go(self, step: Step) -> None:
        """A move as the program tells it."""
        for one in [step] if self.contour is None else self.contour.add(step):
            self._make(one)

    def _make(self, step: Step) -> None:
        """A move as the cutter makes it, in the plane the program counts in."""
        line, self.line = self.line, step.line
        feed, self.state.feed = self.state.feed, step.feed
        start = self._plain()
        if step.centre is None:
            self._event(step.kind, self.at | self._sent(step.end))
        elif self.turned is None or self.turned.keeps_arcs():
            centre = self._sent((*step.centre, step.end[2]))
            self._event(step.kind, self.at | self._sent(step.end), (centre["X"], centre["Y"]))
        else:
            self._chords(start, step.end, step.centre, 2, step.kind == "ccw")
        self.line, self.state.feed = line, feed

    def _chords(
        self, start: Vector, end: Vector, centre: tuple[float, float], axis: int, to_left: bool
    ) -> None:
        """An arc square to an axis as straight moves, because no XY plane of the machine holds it."""
        points = arc_points(
            np.array(start), np.array(end), np.array(centre), axis, 1 if to_left else -1, 1, ARC_MM
        )
        for point in points[1:]:
            self._event("line", self.at | self._sent(as_vector(point)))

    # ---- arcs

    def _arc(self, values: dict[str, float]) -> None:
        """An arc in its plane by its middle or its radius: NIST IR 6556 3.5.3."""
        s = self.state
        # The axis it is square to, and the two it lies along: G17 XY, G18 ZX, G19 YZ.
        axis = {17: 2, 18: 1, 19: 0}[round(s.plane)]
        u, v = (axis + 1) % 3, (axis + 2) % 3
        start, end = self._told(), self._end(values)
        if any(name in values for name in AXES[3:]):
            raise ValueError("an axis turns while an arc is cut")
        if "R" in values:
            centre = _middle_by_radius(
                (start[u], start[v]), (end[u], end[v]), self._mm("X", values["R"]), s.motion == 3
            )
        else:
            offsets = [self._mm("X", values.get("IJK"[one], 0.0)) for one in (u, v)]
            centre = (start[u] + offsets[0], start[v] + offsets[1])
            one, two = (math.hypot(p[u] - centre[0], p[v] - centre[1]) for p in (start, end))
            if one == 0 or abs(one - two) > ROUND_MM:
                raise ValueError(f"its ends lie {one:.4f} and {two:.4f} mm from its middle")
        if axis == 2:
            self._go(Step("cw" if s.motion == 2 else "ccw", end, self.line, s.feed, centre))
            return
        self._uncorrected("an arc outside the XY plane")
        self._chords(start, end, centre, axis, s.motion == 3)

    # ---- cycles

    def _cycle(self, values: dict[str, float]) -> None:
        """A cycle at one place, long hand: NIST IR 6556 3.5.16. Where G91 is in force R counts from where it
        begins and Z from R.
        """
        s = self.state
        first = not s.sticky
        for letter in "ZRQP":
            if letter in values:
                s.sticky[letter] = values[letter]
        began = self._told()[2]
        if first:
            s.sticky["from"] = began
        if "Z" not in s.sticky or "R" not in s.sticky:
            raise ValueError("a cycle wants Z and R")
        if s.feed <= 0:
            raise ValueError("a feed is wanted before this move")
        low, clear = self._mm("Z", s.sticky["Z"]), self._mm("Z", s.sticky["R"])
        if not self._absolute():
            clear += began
            low += clear
        if clear < low:
            raise ValueError("the cycle's R lies under its Z")
        up = max(s.sticky["from"], clear) if s.return_to == 98 else clear
        if began < clear:
            self._height("rapid", clear)
        self._over({axis: value for axis, value in values.items() if axis in AXES and axis != "Z"})
        self._height("rapid", clear)
        self._down(low, clear)
        if s.motion in (82, 89, 76, 86, 84) and "P" in s.sticky:
            self._event("dwell", seconds=self._stands(s.sticky))
        if s.motion in _OUT_AT_FEED:
            self._height("line", clear)
        self._height("rapid", up)

    def _stands(self, told: dict[str, float]) -> float:
        """How long a dwell's words are, s."""
        return told["P"] / (1000 if self.held.dwell_ms else 1) if "P" in told else told.get("X", 0.0)

    def _over(self, values: dict[str, float]) -> None:
        """To a cycle's place, in rapid."""
        if self.turned is None:
            self._event("rapid", self._target(values, False))
        elif any(axis in values for axis in AXES[3:]):
            raise ValueError("an axis turns where the plane is turned")
        else:
            self._event("rapid", self.at | self._sent(self._end(values)))

    def _height(self, kind: Kind, height: float) -> None:
        """Up or down to a height, as the program counts."""
        if self.turned is None:
            self._event(kind, self.at | {"Z": height + self._zero("Z")})
        else:
            x, y, _ = self._told()
            self._event(kind, self.at | self._sent((x, y, height)))

    def _down(self, low: float, clear: float) -> None:
        """To the bottom, by pecks where the cycle has them."""
        s = self.state
        peck = self._mm("Z", s.sticky.get("Q", 0.0)) if s.motion in (73, 83) else 0.0
        done = clear
        while peck > 0 and done - peck > low + 1e-9:
            done -= peck
            self._height("line", done)
            if s.motion == 83:
                self._height("rapid", clear)
                self._height("rapid", done + min(PECK_CLEAR_MM, clear - done))
            else:
                self._height("rapid", done + PECK_CLEAR_MM)
        self._height("line", low)

    def _event(
        self,
        kind: Kind,
        end: dict[str, float] | None = None,
        centre: tuple[float, float] | None = None,
        seconds: float = 0.0,
        optional: bool = False,
    ) -> None:
        s, end = self.state, end or self.at
        feed = 0.0
        if kind in ("line", "cw", "ccw"):
            feed = s.feed * self.held.feed_share
            if s.inverse_time:
                seconds = 60 / feed
                feed *= max(math.dist([end[a] for a in STRAIGHT], [self.at[a] for a in STRAIGHT]), 1e-9)
        self.at = dict(end)
        if self.searching:
            return
        ends, told = tuple(end[axis] for axis in AXES), self._plain()
        turns, exact = s.spindle != 0, self.exact_here and kind in ("line", "cw", "ccw")
        told_of = (self.line, kind, ends, s.tool, turns, s.register, feed, centre, seconds, told)
        self.events.append(Event(*told_of, exact, optional, self._shift()))

    # ---- after the move: stops, calls, the end

    def _back(self, call: Call, calls: list[Call]) -> None:
        """From the end of what was called: once more, or to where it was called."""
        call.left -= 1
        call.at = call.begins
        if len(calls) == 1:
            raise ValueError("M99 in a program that nothing called would run for ever")
        if call.left == 0:
            calls.pop()
            if call.macro:
                self.variables.leave()

    def _enter(self, one: Call, calls: list[Call]) -> None:
        if len(calls) > DEEPEST:
            raise ValueError(f"more than {DEEPEST} calls are under way")
        calls.append(one)

    def _macro(self, values: dict[str, float], call: Call, calls: list[Call], whole: Sequence[Line]) -> None:
        """G65: a program called with numbers in variables of its own."""
        self._enter(called(values, call, whole, self.line, self.beside, True), calls)
        self.variables.enter({ARGUMENTS[one]: value for one, value in values.items() if one in ARGUMENTS})

    def _after(
        self,
        machine: list[float],
        values: dict[str, float],
        call: Call,
        calls: list[Call],
        whole: Sequence[Line],
    ) -> bool:
        if 0 in machine or 1 in machine:
            self._event("stop", optional=0 not in machine)
        if 98 in machine:
            self._enter(called(values, call, whole, self.line, self.beside, False), calls)
        if 99 in machine:
            self._back(call, calls)
        return 2 in machine or 30 in machine


def _middle_by_radius(
    start: tuple[float, float], end: tuple[float, float], radius: float, to_left: bool
) -> tuple[float, float]:
    """The middle of an arc of a radius, negative for the longer one: NIST IR 6556 3.5.3.1. Raises
    ValueError.
    """
    (x, y), (ex, ey) = start, end
    half = math.hypot(ex - x, ey - y) / 2
    if half == 0:
        raise ValueError("an arc by its radius does not end where it begins: give its middle")
    if half > abs(radius) + ROUND_MM:
        raise ValueError(f"its ends lie {2 * half:g} mm apart, more than twice its radius")
    off = math.sqrt(max(0.0, radius * radius - half * half))
    # The middle is on the left of the way for a short arc to the left.
    side = (1 if to_left else -1) * (1 if radius > 0 else -1)
    return (
        (x + ex) / 2 - side * off * (ey - y) / (2 * half),
        (y + ey) / 2 + side * off * (ex - x) / (2 * half),
    )
