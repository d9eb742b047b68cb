"""Where do the works of a load stand, and in which registers are their zeros?"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.load.load import Load, Place, places_of
from pelvrak.core.program.compose import Planned
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.registers import held_by
from pelvrak.core.route.turning import Turning


@dataclass(frozen=True)
class CutSetup:
    """A setup as it was cut: how it stands, what is to be written of it, and its stocks by their keys."""

    turning: Turning
    planned: tuple[Planned, ...]
    incoming_key: str
    outgoing_key: str
    low: Floats
    high: Floats


@dataclass(frozen=True)
class Stood:
    """A place as it stands. turning: its setup's, its zero and registers moved there; renamed: its registers
    by those of the setup; first: the place it has its registers in common with, shifted from there.
    """

    place: Place
    cut: CutSetup
    turning: Turning
    renamed: dict[str, str]
    first: Stood | None = None

    @property
    def shift(self) -> Floats:
        """From where the setup is planned, mm on the table."""
        return np.array([*self.place.at, 0.0])

    @property
    def own_register(self) -> str:
        return self.turning.setup.offset_register

    @property
    def shifted(self) -> Floats:
        """Its zero from that which its registers hold, mm on the table."""
        return np.zeros(3) if self.first is None else np.subtract(zero_of(self), zero_of(self.first))

    @cached_property
    def values(self) -> dict[str, tuple[Reckoned, ...] | None]:
        """What each of its registers holds."""
        if self.first is not None:
            return self.first.values
        return {register: held_by(self.turning, register) for register in self.renamed.values()}


def setups_in(plan: Plan, load: Load) -> list[Setup]:
    """The setups that stand in a load, in the order of the route."""
    return [setup for setup in plan.setups if setup.load == load.name]


def stood(
    plan: Plan, load: Load, cuts: dict[str, CutSetup], shifts: bool = False
) -> tuple[list[Stood], list[Finding]]:
    """All places of a load whose setups were cut, each with registers of its own; what is wrong with them.
    cuts: of its setups by their names, of places that differ by their keys; shifts: places of a setup have
    one in common, where they can.
    """
    own = (setup.name for setup in setups_in(plan, load))
    names = tuple(name for name in (*own, *(one.called for one in load.guests)) if name in cuts)
    places = places_of(load, names)
    guests = {one.called for one in load.guests}
    taken = {register for name in names if name not in guests for register in _of(cuts[name].turning)}
    taken |= {place.register for place in places if place.register is not None}
    out: list[Stood] = []
    found: list[Finding] = []
    used: dict[str, str] = {}
    for place in places:
        cut = cuts.get(place.cut_as)
        if cut is None:
            continue  # what is wrong with it is told where it was cut
        leads = next((one for one in out if one.place.setup == place.setup), None)
        if shifts and leads is not None and place.register is None and not keeps_register(leads.cut):
            shared = leads.first or leads
            out.append(Stood(place, cut, _moved(cut.turning, place, shared.renamed), shared.renamed, shared))
            continue
        try:
            renamed = _renamed(
                place,
                cut,
                taken,
                first=not place.guest and leads is None,
            )
        except BadInput as bad:
            found.append(wrong(place, "load.no_register", str(bad)))
            continue
        for register in renamed.values():
            if used.setdefault(register, place.key) != place.key:
                said = f"{place.key} and {used[register]} of {load.name} both keep a zero in {register}."
                found.append(wrong(place, "load.register_twice", said))
        found += [
            wrong(place, "load.register_reserved", f"{register}, which {place.key} uses, is reserved.")
            for register in renamed.values()
            if register in cut.turning.machine.control.reserved
        ]
        taken |= set(renamed.values())
        out.append(Stood(place, cut, _moved(cut.turning, place, renamed), renamed))
    return out, found


def keeps_register(cut: CutSetup) -> str:
    """Why a setup's places need a register each, "" where a shift from the first's does."""
    if any(one.measured is not None for one in cut.planned):
        return "it probes"
    if any(one.where.tilted is not None for one in cut.planned):
        return "the control turns its plane"
    return "an axis turns while it is cut" if any(one.path.round is not None for one in cut.planned) else ""


def _of(turning: Turning) -> list[str]:
    """The registers a setup uses."""
    setup = turning.setup
    zeros = [zero.offset_register for zero in setup.seat.zeros]
    return list(dict.fromkeys([setup.offset_register, *zeros, *turning.registers.values()]))


def _renamed(place: Place, cut: CutSetup, taken: set[str], first: bool) -> dict[str, str]:
    """Registers of a place by those of its setup: the setup's own at its first place, else as told, else the
    next that are free. Raises BadInput where none is left.
    """
    own, control = _of(cut.turning), cut.turning.machine.control
    out: dict[str, str] = {}
    for n, register in enumerate(own):
        if n == 0 and place.register is not None:
            out[register] = place.register
        elif first:
            out[register] = register
        else:
            free = control.free_register({*taken, *out.values()})
            if free is None:
                raise BadInput(
                    "load.registers_gone",
                    place.key,
                    f"{cut.turning.machine.name} has no register left for {place.key}",
                    "let fewer works stand in the load, or take a machine with more",
                )
            out[register] = free
    return out


def _moved(turning: Turning, place: Place, renamed: dict[str, str]) -> Turning:
    """A setup's turning where the place stands, counted in its registers."""
    setup = turning.setup
    zeros = tuple(
        zero.model_copy(update={"offset_register": renamed[zero.offset_register]})
        for zero in setup.seat.zeros
    )
    there = setup.model_copy(
        update={
            "offset_register": renamed[setup.offset_register],
            "seat": setup.seat.model_copy(update={"zeros": zeros}),
        }
    )
    zero = turning.zero_on_table
    hold = turning.hold
    if zero is not None:
        hold = hold.model_copy(update={"zero_on_table": as_vector(np.add(zero, [*place.at, 0.0]))})
    registers = {name: renamed[register] for name, register in turning.registers.items()}
    return replace(turning, setup=there, hold=hold, registers=registers)


def planned_at(one: Stood) -> list[Planned]:
    """What is to be written of a place: as its setup is planned, counted from its registers."""
    out = []
    for planned in one.cut.planned:
        if not planned.path.moves:
            continue
        where = replace(
            planned.where, register=one.renamed.get(planned.where.register, planned.where.register)
        )
        measured = planned.measured
        if measured is not None and measured.sets:
            measured = replace(measured, sets=one.renamed.get(measured.sets, measured.sets))
        run = f"{one.place.key}:{planned.run}"
        out.append(replace(planned, run=run, where=where, measured=measured, place=one.place.key))
    return out


def zero_of(one: Stood) -> Vector:
    """Where the zero of a place lies on the table, mm. Its setup is held, or it would not be cut."""
    assert one.turning.zero_on_table is not None
    return one.turning.zero_on_table


def wrong(place: Place, code: str, sentence: str, stage: str = "seat", **more: Any) -> Finding:
    """An error of a place; more: of the finding."""
    severity = more.pop("severity", "error")
    setup = None if place.guest else place.setup
    if place.guest:
        more = {name: value for name, value in more.items() if name != "operation"}
    return Finding(code=code, severity=severity, setup=setup, stage=stage, sentence=sentence, **more)


def wrong_with_load(
    setup: str | None, code: str, sentence: str, severity: Severity = "error", stage: str = "seat"
) -> Finding:
    """An error of a load as a whole, or of all places of a setup in it."""
    return Finding(code=code, severity=severity, setup=setup, stage=stage, sentence=sentence)
