"""A cap screw."""

from __future__ import annotations

from typing import ClassVar, Literal

from pelvrak.core.holding.fixture import SCREWS, FixtureKind, Size, Solid, Thread, rod


class Bolt(FixtureKind):
    """A cap screw by ISO 4762: thread and length under the head.

    thread: metric coarse, such as M8; length: under the head, mm.
    """

    called: ClassVar[str] = "bolt"
    several: ClassVar[str] = "bolts"
    sizes: ClassVar[str] = "{thread} × {length}"
    stands_on: ClassVar[tuple[str, ...]] = ("block", "plate")
    waits: ClassVar[bool] = True
    asks: ClassVar[dict[str, str]] = {
        "x": "X",
        "y": "Y",
        "z": "Z",
        "turn_deg": "Turned",
        "force_kn": "Force",
        "torque_nm": "Torque",
        "into": "Into",
    }

    kind: Literal["bolt"] = "bolt"
    thread: Thread
    length: Size

    def solids(self, height: float | None = None) -> list[Solid]:
        d, head, height, _ = SCREWS[self.thread]
        return [Solid("bolt", "clamps", rod(d, -self.length, 0) + rod(head, 0, height))]
