"""Which registers must stand in the control for each load, with which values, what uses them, and is each
known when it is used?
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.registers import (
    SAME_PLACE_MM,
    Kept,
    Load,
    counted_from,
    held_by,
    load_name,
    values_of,
    wrong,
)
from pelvrak.core.route.report import OffsetRow
from pelvrak.core.route.turning import Turning
from pelvrak.core.seat.seating import Found, Zero

By = Literal["fixed point", "edge", "probe", "by hand", "derived"]
# How far a rotary centre may be set wrong before people look again, mm: common practice, no source.
CENTRE_WRONG_MM = 0.02
# A value set by hand that lies farther than this from the layout is told, mm: common practice, no source.
SET_OFF_MM = 1.0


def found_by(zero: Zero, found: Found) -> By:
    """How a zero is found on the machine: as told, or what stays with the holding is known, edges are
    touched, holes and faces probed.
    """
    if found.by is not None:
        return found.by
    if found.value is not None:
        return "by hand"
    if zero.of in ("holding", "jaws", "piece"):
        return "fixed point"
    return "probe" if zero.of in ("hole", "faces", "vertex", "rim", "several") else "edge"


def stands_on(setup: Setup, fixtures: dict[str, Fixture]) -> tuple[str, ...]:
    """What a zero stands on, from the table up."""
    names = [
        fixtures[item.fixture].name if item.fixture in fixtures else item.fixture for item in setup.hold.items
    ]
    return ("table", *dict.fromkeys(names), "work")


@dataclass(frozen=True)
class _Source:
    """A zero that is found and not derived: its register, what it is called, how it is found, where that
    stands in the setup.
    """

    register: str
    name: str
    by: By
    found: Found
    of: Element
    field: str
    at: Floats

    def cure(self, label: str, part: str, value: str | None) -> Cure:
        """Another value of a part of how it is found."""
        return put(label, self.of, f"{self.field}/{part}", value)


def _sources(turning: Turning) -> list[_Source]:
    seat = turning.setup.seat
    own = _Source(
        turning.setup.offset_register,
        "zero",
        found_by(seat.zero, seat.found),
        seat.found,
        Element(setup=turning.setup.name),
        "seat/found",
        np.zeros(3),
    )
    return [
        own,
        *(
            _Source(
                one.offset_register,
                one.name,
                found_by(one.zero, one.found),
                one.found,
                Element(setup=turning.setup.name, zero=one.name),
                "found",
                at,
            )
            for one, at in zip(seat.zeros, turning.zeros, strict=True)
        ),
    ]


def _off(source: _Source, value: tuple[Reckoned, ...] | None) -> float | None:
    """How far what was set by hand lies from what the layout says, mm."""
    if source.found.value is None or value is None:
        return None
    return math.dist(source.found.value, [one.value for one in value])


def _users(turning: Turning) -> dict[str, list[int]]:
    """The visits that count from each register, by their number in the program."""
    out: dict[str, list[int]] = {}
    for number, visit in enumerate(turning.visits):
        if visit.position not in turning.stations:
            continue  # it cannot be reached, and counts from nowhere
        try:
            register, _ = counted_from(turning, visit)
        except BadInput:
            continue  # told with the operation
        out.setdefault(register, []).append(number)
    return out


def offsets_of(turning: Turning, fixtures: dict[str, Fixture]) -> tuple[OffsetRow, ...]:
    """The table of one load's setup, a row for each register, in the order they are given out."""
    setup = turning.setup
    users = _users(turning)
    shared: dict[str, Any] = {
        "load": load_name(setup),
        "setup": setup.name,
        "stands_on": stands_on(setup, fixtures),
    }
    rows: dict[str, OffsetRow] = {}

    def uses(register: str) -> tuple[str, ...]:
        return tuple(dict.fromkeys(turning.visits[i].operation.name for i in users.get(register, [])))

    for number, source in enumerate(_sources(turning)):
        if source.register not in rows:
            own = _row_of_zero(turning, source, number == 0)
            rows[source.register] = OffsetRow(**shared, **own, operations=uses(source.register))
    for name in turning.turned:
        register = turning.registers.get(name, "none")
        if not name:
            continue
        if register in rows:
            row = rows[register]
            rows[register] = row.model_copy(update={"positions": (*row.positions, name)})
        else:
            own = _row_of_position(turning, name, register)
            rows[register] = OffsetRow(**shared, **own, operations=uses(register))
    return tuple(rows.values())


def _row_of_zero(turning: Turning, source: _Source, own: bool) -> dict[str, Any]:
    """What is told of a register that keeps a zero of the work as it is seated. own: the setup's own zero."""
    value = values_of(turning, "", None if own else source.at)
    set_value, off, home = source.found.value, _off(source, value), turning.turned.get("")
    if set_value is not None:
        state = "set by hand"
    elif value is None:
        state = "no layout"
    else:
        told = source.by == "fixed point" and not _setting(turning, source.register)
        state = "known" if told else "to be found"
    return {
        "register_name": source.register,
        "zero": source.name,
        "found": "probe" if _setting(turning, source.register) else source.by,
        "comes_from": _driven_in(turning, source),
        "set_by": tuple(
            dict.fromkeys(turning.visits[i].operation.name for i in _setting(turning, source.register))
        ),
        "before": source.found.before,
        "value": value,
        "set_value": set_value,
        "off_mm": None if off is None else round(off, 4),
        "at": as_vector(np.round(source.at, 6) + 0.0),
        "angles": home.angles if home else {},
        "positions": ("",) if own else (),
        "state": state,
    }


def _row_of_position(turning: Turning, name: str, register: str) -> dict[str, Any]:
    """What is told of a register that keeps the zero as it lies at a position, turned from the setup's
    own.
    """
    value, there = values_of(turning, name), turning.turned[name]
    return {
        "register_name": register,
        "zero": f"zero at {name}",
        "found": "derived",
        "comes_from": turning.setup.offset_register,
        "value": value,
        "at": there.origin,
        "angles": there.angles,
        "positions": (name,),
        "state": "no layout" if value is None else "derived",
    }


def known_in_time(turning: Turning, index: int, load: Load) -> list[Finding]:
    """Along the program: is every register known before it is used, and found in one that is known before?
    Adds the setup's to its load.

    A moment is (setup, visit): a zero found before the program starts is known after visit -1 of its setup.
    """
    setup, sources = turning.setup, _sources(turning)
    here = [operation.id for operation in setup.operations]
    findings = [
        wrong(
            setup,
            "offsets.no_operation",
            f"“{source.name}” in {source.register} is to be found before an operation {setup.name} does not"
            " have.",
            source.cure("Find it before the program starts", "before", None),
        )
        for source in sources
        if source.found.before is not None and source.found.before not in here
    ]
    known = {name: kept.known for name, kept in load.kept.items()}
    own = {source.register: _moment(turning, index, source) for source in sources}
    for source in sources:
        findings += _found_in(turning, source, sources, known | own, own[source.register])
    findings += _clashes(turning, load)
    findings += _used_too_soon(turning, index, sources, own)
    for register in dict.fromkeys([*own, *turning.registers.values()]):
        value = held_by(turning, register)
        placed = None if value is None else as_vector(one.value for one in value)
        kept = Kept(setup.name, placed, own.get(register, own[setup.offset_register]))
        load.kept.setdefault(register, kept)
    return [*findings, *_set_off(turning, sources)]


def _used_too_soon(
    turning: Turning, index: int, sources: list[_Source], own: dict[str, tuple[int, int]]
) -> list[Finding]:
    """Registers that an operation counts from before they are found. own: from when on each is known."""
    setup, findings = turning.setup, []
    for register, users in _users(turning).items():
        base = register if register in own else setup.offset_register
        if own[base] <= (index, users[0]):
            continue
        first = turning.visits[users[0]].operation
        source = next(one for one in sources if one.register == base)
        told = register if register == base else f"{register}, turned from {base},"
        setting = _setting(turning, base)
        there = f"before {_name(setup, source.found.before)}"
        if setting:
            there = f"with {turning.visits[setting[-1]].operation.name}"
        cure = source.cure(f"Find it before {first.name}", "before", first.id)
        findings.append(
            wrong(
                setup,
                "offsets.used_before_found",
                f"{first.name} counts from {told} before it is found: that comes only {there}.",
                *(() if setting else (cure,)),
            )
        )
    return findings


def _set_off(turning: Turning, sources: list[_Source]) -> list[Finding]:
    """Registers that were set by hand away from where the layout has them."""
    offs = [(source, _off(source, held_by(turning, source.register))) for source in sources]
    return [
        Finding(
            code="offsets.set_off",
            severity="warning",
            setup=turning.setup.name,
            stage="reach",
            sentence=(
                f"{source.register} was set {off:.2f} mm from where the layout has it: the work stands"
                " elsewhere, or a figure is wrong."
            ),
            measured=round(off, 3),
            limit=SET_OFF_MM,
            unit="mm",
        )
        for source, off in offs
        if off is not None and off > SET_OFF_MM
    ]


def _setting(turning: Turning, register: str) -> list[int]:
    """The visits that set a register by what they touch, by their number in the program."""
    return [i for i, visit in enumerate(turning.visits) if visit.operation.register_set() == register]


def _driven_in(turning: Turning, source: _Source) -> str | None:
    """The register in which a zero is found: in which the probe runs that sets it, else as it is told."""
    for i in reversed(_setting(turning, source.register)):
        try:
            return counted_from(turning, turning.visits[i])[0]
        except BadInput:
            continue  # told with the operation
    return source.found.in_register


def _moment(turning: Turning, index: int, source: _Source) -> tuple[int, int]:
    """From which visit on a register is known."""
    setting = _setting(turning, source.register)
    if setting:
        return index, setting[-1] + 1
    numbers = [i for i, visit in enumerate(turning.visits) if visit.operation.id == source.found.before]
    return index, (numbers[0] if numbers else -1)


def _name(setup: Setup, operation: str | None) -> str:
    return next((one.name for one in setup.operations if one.id == operation), "the program")


def _found_in(
    turning: Turning,
    source: _Source,
    sources: list[_Source],
    known: dict[str, tuple[int, int]],
    when: tuple[int, int],
) -> list[Finding]:
    """What is wrong with the register a zero is found in."""
    setup, base = turning.setup, source.found.in_register
    if base is None:
        return []
    free = source.cure("Find it by itself", "in_register", None)
    if base not in known:
        return [
            wrong(
                setup,
                "offsets.unknown_base",
                f"“{source.name}” in {source.register} is found in {base}, which nothing of this load keeps.",
                free,
            )
        ]
    by_register = {one.register: one for one in sources}
    walked, here = [source.register], base
    while here in by_register and here not in walked:
        walked.append(here)
        here = by_register[here].found.in_register or ""
    if here == source.register:
        if source.register != min(walked):
            return []  # told once
        return [
            wrong(
                setup,
                "offsets.ring",
                "Each is found in the next, round in a ring: " + " in ".join([*walked, here]) + ".",
                free,
            )
        ]
    if known[base] > when:
        later = by_register.get(base)
        told = "" if later is None else f", which is found only before {_name(setup, later.found.before)}"
        return [
            wrong(
                setup,
                "offsets.used_before_found",
                f"“{source.name}” in {source.register} is found in {base}{told}.",
                free,
            )
        ]
    return []


def _clashes(turning: Turning, load: Load) -> list[Finding]:
    """Registers that hold another place for an earlier setup of the same load."""
    setup = turning.setup
    out = []
    mine = dict.fromkeys(
        [
            setup.offset_register,
            *(one.offset_register for one in setup.seat.zeros),
            *turning.registers.values(),
        ]
    )
    for register in mine:
        kept, value = load.kept.get(register), held_by(turning, register)
        if kept is None or kept.setup == setup.name:
            continue
        if (
            kept.value is not None
            and value is not None
            and math.dist(kept.value, [one.value for one in value]) < SAME_PLACE_MM
        ):
            continue
        free = turning.machine.control.free_register({*load.kept, *mine})
        own = register == setup.offset_register and free is not None
        out.append(
            wrong(
                setup,
                "offsets.clash",
                f"{setup.name} and {kept.setup} stand in one load and both keep a place in {register}: one"
                " would write over the other.",
                *(
                    [
                        put(
                            f"Keep the zero of {setup.name} in {free}",
                            Element(setup=setup.name),
                            "offset_register",
                            free,
                        )
                    ]
                    if own
                    else []
                ),
            )
        )
    return out


def wrong_centre(turning: Turning, wrong_mm: float = CENTRE_WRONG_MM) -> float:
    """How far the work lies off, mm, at the position turned furthest, when the rotary centre was set wrong by
    some amount.

    Turned by an angle about a centre that is e off, everything comes 2·e·sin(angle / 2) beside where it
    should: plane geometry.
    """
    turns = [at.local_from_zero[:3, :3] for at in turning.turned.values()]
    angles = [float(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1))) for turn in turns]
    return max((2 * wrong_mm * float(np.sin(angle / 2)) for angle in angles), default=0.0)
