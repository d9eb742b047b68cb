"""What does a control hold, how does it stand, and what does it tell of what the machine does?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Vector

AXES = ("X", "Y", "Z", "A", "B", "C")
STRAIGHT = AXES[:3]
Kind = Literal["rapid", "line", "cw", "ccw", "dwell", "stop"]
# How far the tool of a number goes from where slides and axes stand to where they would before it touches, as
# a share; None: all the way, and nothing is touched.
Touch = Callable[[int, tuple[float, ...], tuple[float, ...]], float | None]


@dataclass(frozen=True)
class Held:
    """What the control's tables hold. registers: machine coordinate of each zero by axis, mm and degrees;
    lengths, radii: by H and D, mm; dwell_ms: P of a dwell counts milliseconds; beside: texts of files whose
    programs are called; deletes: lines that begin with / are left out; feed_share, speed_share: how the
    operator has turned feed and spindle; begins: the line to be searched for and begun at, 0: the first.
    """

    registers: dict[str, dict[str, float]]
    lengths: dict[int, float]
    radii: dict[int, float] = field(default_factory=dict)
    dwell_ms: bool = False
    beside: tuple[str, ...] = ()
    deletes: bool = True
    feed_share: float = 1.0
    speed_share: float = 1.0
    begins: int = 0


@dataclass(frozen=True, slots=True)
class Event:
    """One thing the machine does. line: from 1; end: where its slides and axes stand then, machine, mm and
    degrees, its length counted from the spindle's nose; centre: of an arc, X and Y; feed: mm/min; seconds: it
    stands, or takes by inverse time; tool: in the spindle; cutting: the spindle turns; register: in force;
    shift: of it; told: X, Y and Z as the program counts them; exact: it stops at its end; optional: a stop
    only where the operator wants one.
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
    told: Vector = (0.0, 0.0, 0.0)
    exact: bool = False
    optional: bool = False
    shift: Vector = (0.0, 0.0, 0.0)


class Standing(NamedTuple):
    """What the control holds after a line. length, radius: numbers in the tool table, 0 where none is in
    force; feed: mm/min, or how often a minute where inverse_time; spindle: 1 turns right, -1 left, 0 stands;
    coolant: its code, "" off; shift: of what the program counts from, mm.
    """

    tool: int = 0
    register: str = ""
    length: int = 0
    radius: int = 0
    plane: str = "G17"
    absolute: bool | None = True
    inverse_time: bool = False
    motion: str = "G80"
    feed: float = 0.0
    spindle: int = 0
    speed: float = 0.0
    coolant: str = ""
    shift: Vector = (0.0, 0.0, 0.0)


class Alarm(BadInput):
    """The control stops here."""

    def __init__(self, line: int, what: str, mend: str) -> None:
        super().__init__("program.alarm", f"line {line}", what, mend)
        self.line = line
