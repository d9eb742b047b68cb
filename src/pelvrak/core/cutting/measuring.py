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
    """What one or two touches say of an axis. touches: numbers of them: of one face, or of two whose middle
    counts; at: where that should be.
    """

    axis: Axis
    touches: tuple[int, ...]
    at: float


@dataclass(frozen=True)
class Measured:
    """All of one operation. radius: of the ball; tolerance: how far off anything may be before it stops;
    feed: of touches, guard_feed: of moves that stop where they meet something, mm/min; sets: the register
    that is set; said: what is touched, in words.
    """

    touches: tuple[Touch, ...]
    finds: tuple[Finds, ...]
    radius: float
    tolerance: float
    feed: float
    guard_feed: float
    sets: str
    said: str

    @property
    def axes(self) -> tuple[str, ...]:
        """The axes it sets, and no others."""
        return tuple(one.axis for one in self.finds)

    def touch_at(self, move: int) -> int | None:
        """The number of the touch a move makes."""
        return next((n for n, one in enumerate(self.touches) if one.move == move), None)


def touching_only(radius: float) -> Measured:
    """What a probe does of which only its way is known. radius: of the ball, mm."""
    return Measured((), (), radius, 0.0, 0.0, 0.0, "", "")
