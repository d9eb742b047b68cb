"""Which registers must stand in the control for each load, with which values, and what uses them?"""

from __future__ import annotations

from typing import Literal

import numpy as np

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.holding.fixture import Fixture
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import OffsetRow
from pelvrak.core.route.turning import Turning, values_of
from pelvrak.core.seat.seating import Zero

Found = Literal["fixed point", "edge", "probe", "derived"]
# How far a rotary centre may be set wrong before people look again, mm: common practice, no source.
CENTRE_WRONG_MM = 0.02


def found_by(zero: Zero) -> Found:
    """How a zero is found on the machine: what stays with the holding is known, edges are touched, holes and faces probed."""
    if zero.of == "holding":
        return "fixed point"
    return "probe" if zero.of in ("hole", "faces", "vertex") else "edge"


def stands_on(setup: Setup, fixtures: dict[str, Fixture]) -> tuple[str, ...]:
    """What a zero stands on, from the table up."""
    names = [fixtures[item.fixture].name if item.fixture in fixtures else item.fixture for item in setup.hold.items]
    return ("table", *dict.fromkeys(names), "work")


def offsets_of(setup: Setup, turning: Turning, zeros: list[Floats], fixtures: dict[str, Fixture]) -> tuple[OffsetRow, ...]:  # fmt: skip
    """The table of one load, a row for each register, in the order they are given out. zeros: places of the further zeros, from the setup's own."""
    chain = stands_on(setup, fixtures)
    by_position: dict[str, list[str]] = {}
    for operation in setup.operations:
        by_position.setdefault(operation.position or "", []).append(operation.name)
    rows: dict[str, OffsetRow] = {}

    def row(register: str, name: str, found: Found, value: tuple[Reckoned, ...] | None, positions: tuple[str, ...], angles: dict[str, float]) -> None:  # fmt: skip
        uses = tuple(used for p in positions for used in by_position.get(p, ()))
        if register in rows:
            before = rows[register]
            rows[register] = before.model_copy(update={"positions": (*before.positions, *positions), "operations": (*before.operations, *uses)})  # fmt: skip
            return
        rows[register] = OffsetRow(
            load=setup.name, register_name=register, zero=name, stands_on=chain, found=found, value=value, angles=angles,
            positions=positions, operations=uses,
            state="no layout" if value is None else "derived" if found == "derived" else "to be found",
        )  # fmt: skip

    home = turning.turned.get("")
    if "" in by_position or not setup.positions or setup.rotary_run != "register_each":
        row(
            setup.offset_register,
            "zero",
            found_by(setup.seat.zero),
            values_of(turning, ""),
            ("",),
            home.angles if home else {},
        )
    for one, at in zip(setup.seat.zeros, zeros, strict=True):
        row(
            one.offset_register,
            one.name,
            found_by(one.zero),
            values_of(turning, "", at),
            (),
            home.angles if home else {},
        )
    for name, there in turning.turned.items():
        if name:
            row(turning.registers.get(name, "none"), f"zero at {name}", "derived", values_of(turning, name), (name,), there.angles)  # fmt: skip
    return tuple(rows.values())


def wrong_centre(turning: Turning, wrong_mm: float = CENTRE_WRONG_MM) -> float:
    """How far the work lies off, mm, at the position turned furthest, when the rotary centre was set wrong by some amount.

    Turned by an angle about a centre that is e off, everything comes 2·e·sin(angle / 2) beside where it should: plane geometry.
    """
    turns = [at.local_from_zero[:3, :3] for at in turning.turned.values()]
    angles = [float(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1))) for turn in turns]
    return max((2 * wrong_mm * float(np.sin(angle / 2)) for angle in angles), default=0.0)
