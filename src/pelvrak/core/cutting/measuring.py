"""What does a probe touch on its way, and what comes of it? Zero frame, mm."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Axis = Literal["X", "Y", "Z"]


@dataclass(frozen=True)
class Touch:
    """One touch. move: the number of the path's move that ends where the ball should touch; axis, way: along
    which and to which side it goes; beyond: how far it would go on without a touch.
    """

    move: int
    axis: Axis
    way: int
    beyond: float


@dataclass(frozen=True)
class Finds:
    """What touches say of an axis. touches: numbers of them: of one face; of two whose middle counts; or of
    three on a circle, two across and the third square to them, along this axis; at: where that should be;
    starts: of the circle's three, X and Y where the third begins.
    """

    axis: Axis
    touches: tuple[int, ...]
    at: float
    starts: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Angle:
    """What two touches of one wall say of how the work is turned. axis: along which they touch; apart: the
    second from the first, along the wall, mm.
    """

    touches: tuple[int, int]
    axis: Axis
    apart: float


@dataclass(frozen=True)
class Size:
    """What two touches say of a size along an axis. ball: what is added to the way between them; low, high:
    within which it should be, mm.
    """

    axis: Axis
    touches: tuple[int, ...]
    ball: float
    low: float
    high: float


@dataclass(frozen=True)
class Measured:
    """All of one operation. radius: of the ball; feed: of touches, guard_feed: of moves that stop where they
    meet something, mm/min; said: what is touched, in words. finds: what a register is set from, sets: that
    register, tolerance: how far off anything may be before it stops; sizes: what is measured, then: what
    comes of one outside its limits; angle: how the register is turned; what: is
    touched, where a control's own cycle could do all of it, approach: from where it does so slowly, mm;
    depth: how far under the edge of what is touched the ball's middle goes, mm.
    """

    touches: tuple[Touch, ...]
    radius: float
    feed: float
    guard_feed: float
    said: str
    finds: tuple[Finds, ...] = ()
    tolerance: float = 0.0
    sets: str = ""
    sizes: tuple[Size, ...] = ()
    then: Literal["stop", "go on", "wear"] = "go on"
    angle: Angle | None = None
    what: str = ""
    approach: float = 0.0
    depth: float | None = None

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes it sets, and no others; "turn" where it sets how the register is turned."""
        return tuple(one.axis for one in self.finds) if self.angle is None else ("turn",)

    def touch_at(self, move: int) -> int | None:
        """The number of the touch a move makes."""
        return next((n for n, one in enumerate(self.touches) if one.move == move), None)


def touching_only(radius: float) -> Measured:
    """What a probe does of which only its way is known. radius: of the ball, mm."""
    return Measured((), radius, 0.0, 0.0, "")
