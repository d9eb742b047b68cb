"""What does a program say, whatever the control is called for? Blocks without words: each dialect writes them
in its own. Lengths mm, angles degrees, feeds mm/min.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.toolpath import Move
from pelvrak.core.geometry.part import Vector


@dataclass(frozen=True)
class Opening:
    """What the program is. number: by which it is called; digits: in which the control writes it; title: its
    name, in words; taken: numbers of the plan's other programs.
    """

    number: int
    digits: int
    title: str
    taken: tuple[int, ...] = ()


@dataclass(frozen=True)
class Note:
    """A word to whoever reads it."""

    text: str


@dataclass(frozen=True)
class Safe:
    """All that could still hold from before is put right."""


@dataclass(frozen=True)
class Up:
    """The spindle to the top of Z."""


@dataclass(frozen=True)
class Over:
    """The tool straight up in rapid, over all that stands. z: as the register in force counts."""

    z: float


@dataclass(frozen=True)
class Aside:
    """The table to the front, for whoever unloads."""


@dataclass(frozen=True)
class Bring:
    """A tool into the spindle from its place in the changer. then: the place of the tool after it."""

    place: int
    then: int | None = None


@dataclass(frozen=True)
class Count:
    """Coordinates count from this register from here on."""

    register: str


@dataclass(frozen=True)
class Shift:
    """Coordinates count from a place of the register's from here on, as it counts; 0 from its own zero."""

    by: Vector


@dataclass(frozen=True)
class Turn:
    """A rotary axis goes to an angle, with its clamp off and on; their codes, where it has them."""

    axis: str
    angle: float
    clamp: str = ""
    unclamp: str = ""


@dataclass(frozen=True)
class Clamp:
    """A rotary axis is let go to turn while it cuts, or held again. code: of the machine's."""

    code: str


@dataclass(frozen=True)
class Tilt:
    """The control turns the plane: about Z, the new X and the new Z, at a place of the register's; the tool
    stands square to it.
    """

    angles: tuple[float, float, float]
    at: Vector


@dataclass(frozen=True)
class Untilt:
    """The plane is as the register has it again, whatever turned it."""


@dataclass(frozen=True)
class Spin:
    """The spindle turns."""

    rpm: float
    way: Literal["forward", "backward"]


@dataclass(frozen=True)
class SpinOff:
    """The spindle stands."""


@dataclass(frozen=True)
class CoolOff:
    """No coolant."""


@dataclass(frozen=True)
class Come:
    """Over a place in rapid, with axes turned, then down to it with the tool's length and coolant on. place:
    the tool's, whose length it is; this is the first move of an operation's path.
    """

    place: int
    at: Vector
    coolant: str
    turned: tuple[tuple[str, float], ...] = ()


@dataclass(frozen=True)
class Go:
    """One move of a path from where it begins. place: the tool's, whose radius corrects it where it says
    so.
    """

    move: Move
    at: Vector
    place: int


@dataclass(frozen=True)
class TurnGo:
    """The slides and a rotary axis move at once. rate: how often a minute the move would fit, None in
    rapid.
    """

    to: Vector
    axis: str
    angle: float
    rate: float | None
    dwell_s: float = 0.0


@dataclass(frozen=True)
class Untimed:
    """Feeds are in mm/min again."""


@dataclass(frozen=True)
class Drill:
    """Holes, all made alike: by a cycle of the control where it has one, else by the moves. cycle: of the
    operation's; peck: of a deep hole, or the lift off the wall; moves: the whole path, the first of them gone
    to already; starts: where each begins.
    """

    cycle: str
    holes: tuple[Hole, ...]
    feed: float
    peck: float | None
    dwell_s: float
    moves: tuple[Go, ...]


@dataclass(frozen=True)
class SetLength:
    """The tool in the spindle is touched on the setter, and its length put under H. nose: X, Y and Z of the
    slides at which the bare nose would touch it; gauge: how long the tool should be, mm; register: that
    counts by then.
    """

    place: int
    nose: Vector
    gauge: float
    feed: float
    register: str


@dataclass(frozen=True)
class Guard:
    """A way on which the probe stops as soon as it meets something."""

    to: Vector
    at: Vector
    feed: float


@dataclass(frozen=True)
class Feel:
    """The probe goes until it touches, or as far as `to`, along one axis. slot: where what it finds is
    kept.
    """

    to: Vector
    at: Vector
    feed: float
    slot: int
    axis: Literal["X", "Y", "Z"]


@dataclass(frozen=True)
class Take:
    """An axis of a register is set from what was touched: from one touch and the ball's radius to its side,
    from the middle of two, or as the middle of a circle from three, two along X and one along Y, which begins
    at `begins`, X and Y. number: which one of its operation; should_be: its coordinate as the program counts;
    counts: as the register that is set counts; tolerance: how far off it may be, mm; register: the one it
    counts from; sets: the one it sets; said: what was touched.
    """

    axis: Literal["X", "Y", "Z"]
    number: int
    slots: tuple[int, ...]
    ball: float
    should_be: float
    counts: float
    tolerance: float
    register: str
    sets: str
    said: str
    begins: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Turned:
    """How a register is turned, from what one wall was touched at twice. axis: along which; apart: the second
    from the first along the wall, mm; number: which one of the program; tolerance: how much deeper the second
    may be, mm; register: the one it is driven in; said: what was touched.
    """

    axis: Literal["X", "Y", "Z"]
    slots: tuple[int, int]
    apart: float
    number: int
    tolerance: float
    register: str
    said: str


@dataclass(frozen=True)
class Rotate:
    """The program counts turned about a place of the register's from here on, X and Y, as `Turned` of a
    number has found.
    """

    number: int
    about: tuple[float, float]


@dataclass(frozen=True)
class Gauge:
    """A size is what lies between two touches. number: which one of its operation; ball: what is added to the
    way between them; low, high: its limits, mm; then: what comes of one outside them, wears: D of the tool
    whose wear is corrected, inside: it is too small where that is too great; said: what is measured.
    """

    number: int
    slots: tuple[int, ...]
    ball: float
    low: float
    high: float
    then: Literal["stop", "go on", "wear"]
    said: str
    wears: int = 0
    inside: bool = False


@dataclass(frozen=True)
class Halt:
    """The machine waits for its operator, or only where it is asked to. text: what to do."""

    kind: Literal["stop", "optional"]
    text: str = ""


@dataclass(frozen=True)
class Counted:
    """The program has run once more. variable: the control's, that counts it."""

    variable: int


@dataclass(frozen=True)
class Closing:
    """The program ends."""


Block = (
    Opening
    | Note
    | Safe
    | Up
    | Over
    | Aside
    | Bring
    | Count
    | Shift
    | Turn
    | Clamp
    | Tilt
    | Untilt
    | Spin
    | SpinOff
    | CoolOff
    | Come
    | Go
    | TurnGo
    | Untimed
    | Drill
    | SetLength
    | Guard
    | Feel
    | Take
    | Turned
    | Rotate
    | Gauge
    | Halt
    | Counted
    | Closing
)


@dataclass(frozen=True)
class Cycle:
    """What is touched and set in one go, as a cycle of the control's own does it. what: is touched; told: the
    numbers it is told, by name, mm, as the program counts.
    """

    what: str
    told: tuple[tuple[str, float], ...]


@dataclass(frozen=True)
class Body:
    """The moves of one visit of an operation. run: tells it from other visits; made: of each move of its path
    the block that ends it, and which of those within a `Drill`; cycle: all after its first move in one.
    """

    run: str
    blocks: tuple[Block, ...]
    made: tuple[tuple[int, int], ...]
    cycle: Cycle | None = None


@dataclass(frozen=True)
class Blocks:
    """A whole program. last_block: the largest block number the control takes; features: what is cut alike
    at several places of an operation, or of several, may be written once and called with a shift.
    """

    items: tuple[Block | Body, ...]
    last_block: int = 9999
    features: bool = False
