"""One program for a load: how is it written, and does it leave at every place what was planned?"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import groupby
from typing import Any

import numpy as np

from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, box_corners
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.load.load import Load
from pelvrak.core.machine.kinematics import Tips
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.compose import Planned, composed
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.dialect import number as written_number
from pelvrak.core.program.dialects import dialect_of
from pelvrak.core.program.held import Alarm, Event
from pelvrak.core.program.writing import Program
from pelvrak.core.route.feeling import Feeling, probes
from pelvrak.core.route.load_guests import tools_of
from pelvrak.core.route.load_places import Stood, zero_of
from pelvrak.core.route.pieces import FIELD, PROOF
from pelvrak.core.route.plan import Plan, load_numbers, numbers_taken
from pelvrak.core.route.programs import head_of, written
from pelvrak.core.route.proving import EQUAL_MM, compared
from pelvrak.core.route.run import Run
from pelvrak.core.route.running import (
    TextGiven,
    angles_at,
    at_places,
    control_for,
    from_table,
    on_the_control,
    radii_of,
    stretches_of,
    text_given,
)
from pelvrak.core.stock.cut import cut

# The control's variable that counts how often a load was cut: those from here on are kept when it is off.
COUNTER = 500


def dialect_in(plan: Plan, machine: str) -> Dialect:
    """How programs of a machine are written."""
    return dialect_of(machine_of(machine, plan.machines).control.dialect, plan.dialects)


def dialect_for(plan: Plan, load: Load, machine: str) -> Dialect:
    """How a load's program is written: with subprograms only where they are wanted."""
    dialect = dialect_in(plan, machine)
    return dialect if load.subprograms else dialect.model_copy(update={"subprograms": False})


def load_program(run: Run, load: Load, stood: list[Stood], order: list[Planned]) -> tuple[str, Program]:
    """The program of a load in an order, and the key it is kept under."""
    plan = run.plan
    head = head_of(stood[0].turning, load_numbers(plan)[load.name], numbers_taken(plan))
    values = {name: told for one in stood for name, told in one.values.items() if told is not None}
    said = composed(
        load.name,
        f"{len(stood)} places",
        f"{plan.name} REV {plan.part.revision}",
        {name: as_vector([one.value for one in told]) for name, told in values.items()},
        ", ".join(f"{one.place.key} {one.own_register}{_shifted(one)}" for one in stood)[:200],
        order,
        replace(
            head,
            stops=load.stops,
            counter=COUNTER if load.counts else 0,
            features=load.shifts == "features",
        ),
    )
    return written(run.engine, said, dialect_for(plan, load, stood[0].turning.machine.id))


def _shifted(one: Stood) -> str:
    if one.first is None:
        return ""
    return "".join(f" {a}{written_number(v)}" for a, v in zip("XYZ", one.shifted.tolist(), strict=True) if v)


@dataclass(frozen=True)
class PlaceGiven:
    """A place of a load that is proved. registers: its own, or those it is shifted from, by so much on the
    table, mm; stock: that comes in, wanted: that is to be left,
    None where nobody knows; like: the first place that is cut alike from a like stock, by its number, itself
    where that is none.
    """

    registers: tuple[str, ...]
    shifted: Vector
    work_from_table: Floats
    stock: Content
    wanted: Content | None
    like: int


@dataclass(frozen=True)
class LoadProofGiven:
    """A load's text with all its registers, and its places. The frame in text is that of the first."""

    text: TextGiven
    places: tuple[PlaceGiven, ...]


class _At:
    """What happens at one place while the program runs. signature: of all the moves made there, in its
    work.
    """

    def __init__(self, given: LoadProofGiven, number: int, reads: Reads, tips: Tips) -> None:
        self.given, self.tips = given.places[number], tips
        text = replace(given.text, work_from_table=self.given.work_from_table)
        self.feeling = Feeling(text, reads.read(self.given.stock, FIELD))
        self.signature = hashlib.sha256()
        self.text, self.tools = text, dict(text.tools)
        # Corners of the work on the table, and at which Z of the slides each tool is over them.
        low, high = self.feeling.stock.grid.box
        self.corners = moved(inverse(text.work_from_table), box_corners(as_vector(low), as_vector(high)))
        self.over: dict[tuple[int, tuple[float, ...]], float] = {}

    def seen(self, events: list[Event], start: tuple[float, ...]) -> None:
        """More of what is done there: all but rapids by the top of Z, and straight up to or at a height over
        all the work, which lead from place to place.
        """
        begins = [start, *(one.end for one in events)]
        kept = [
            one
            for one, began in zip(events, begins, strict=False)
            if not (one.kind == "rapid" and (one.end[2] > -1e-9 or self._leads(began, one)))
        ]
        for _, own in groupby(kept, lambda one: (one.tool, one.end[3:])):
            self._sign(list(own))

    def _sign(self, own: list[Event]) -> None:
        """Moves of one tool with the axes as they are into the signature."""
        start_tip, slopes = self._slides(own[0])
        ends = np.array([one.end for one in own])
        tips = moved(self.text.work_from_table, ends[:, :3] @ slopes.T + start_tip)
        centres = np.array([one.end[:2] if one.centre is None else one.centre for one in own]) - ends[:, :2]
        takes = np.array([(one.feed, one.seconds) for one in own])
        # Not half of what is kept apart: no noise turns what is written to three digits.
        whole = np.rint(np.column_stack([tips, ends[:, 3:], takes, centres]) * 1e4 + 0.137).astype(np.int64)
        for one, row in zip(own, whole, strict=True):
            self.signature.update(f"{one.kind} {one.tool} {one.cutting}".encode() + row.tobytes())

    def _slides(self, one: Event) -> tuple[Floats, Floats]:
        """Where the tip stands on the table by the slides, as `tip_by_slides`."""
        return self.tips(angles_at(self.text.machine, one.end), self._gauge(one))

    def _gauge(self, one: Event) -> float:
        return self.tools[one.tool].gauge_length if one.tool in self.tools else 0.0

    def _leads(self, began: tuple[float, ...], one: Event) -> bool:
        """Whether a rapid, with the axes as they are, goes straight up out of the work, or over it."""
        if one.end[3:] != began[3:]:
            return False
        key = one.tool, one.end[3:]
        if key not in self.over:
            angles = angles_at(self.text.machine, one.end)
            self.over[key] = float(self.tips.slides(self.corners, angles, self._gauge(one))[:, 2].max())
        over = self.over[key]
        return one.end[2] > over and (began[2] > over or one.end[:2] == began[:2])

    def run(self, events: list[Event], start: tuple[float, ...], tool: int, cutting: bool) -> float:
        """How long they take, s; cutting: or cut alike elsewhere."""
        seconds = 0.0
        box = self.feeling.stock.grid.box
        for one in stretches_of(events, self.feeling.given, box, (), start, tool, cutting):
            seconds += one.seconds
            if cutting and one.sweep is not None:
                self.feeling.now(cut(self.feeling.stock, one.sweep, 1)[0])
        return seconds


def _prove_load(given: LoadProofGiven, reads: Reads) -> Pieces:
    """What comes of a load's text: of each place whether it leaves what was planned. Places that are cut
    alike are cut once, as long as the moves there are the same.
    """
    try:
        # What is touched is met by each place's own stock.
        alike = not probes(given.text)
        found = _run(given, reads, alike)
        if alike and any(found["apart"]):
            found = _run(given, reads, alike=False)
    except BadInput as bad:
        line = bad.line if isinstance(bad, Alarm) else None
        return {PROOF: {"alarm": str(bad), "alarm_line": line, "places": []}}
    return {PROOF: {"alarm": None, "time_s": found["time_s"], "places": found["places"]}}


def _run(given: LoadProofGiven, reads: Reads, alike: bool) -> dict[str, Any]:
    tips = Tips(given.text.machine)
    control, of = control_for(given.text), _Places(given, tips)
    first = [n == place.like or not alike for n, place in enumerate(given.places)]
    places = {n: _At(given, n, reads, tips) for n in range(len(given.places))}

    def touch(tool: int, start: tuple[float, ...], end: tuple[float, ...]) -> float | None:
        return places[of.register(control.state.register)].feeling(tool, start, end)

    control.touch = touch
    seconds, in_spindle = 0.0, 0
    stands: tuple[float, ...] = (0.0,) * 6
    for number, events in _by_place(control.steps(given.text.text), of):
        here = places[number]
        here.seen(events, stands)
        seconds += here.run(events, stands, in_spindle, cutting=first[number])
        stands, in_spindle = events[-1].end, events[-1].tool
    told = []
    for n, place in enumerate(given.places):
        if first[n]:
            after = places[n].feeling.stock
            known = None if place.wanted is None else reads.read(place.wanted, FIELD)
            told.append(
                {"equal": None, "most_mm": None} if known is None else compared(after, known, EQUAL_MM)
            )
        else:
            told.append(told[place.like])
    apart = [
        places[n].signature.digest() != places[place.like].signature.digest()
        for n, place in enumerate(given.places)
    ]
    return {"time_s": round(seconds, 2), "places": told, "apart": apart if alike else [False]}


class _Places:
    """At which place something happens: by its register, and how far that is shifted."""

    def __init__(self, given: LoadProofGiven, tips: Tips) -> None:
        self.tips, self.places = tips, given.places
        self.of: dict[str, list[int]] = {}
        for number, place in enumerate(given.places):
            for register in place.registers:
                self.of.setdefault(register, []).append(number)
        self.known: dict[tuple[object, ...], int] = {}

    def register(self, name: str) -> int:
        """The place that has a register, the first of those that do."""
        return self.of.get(name, [0])[0]

    def __call__(self, one: Event) -> int:
        """By its number. A shift that is none's is as good as the nearest: what is cut by it is not what was
        planned there.
        """
        mine = self.of.get(one.register, [0])
        if len(mine) == 1:
            return mine[0]
        key = one.register, one.shift, one.end[3:]
        if key not in self.known:
            _, slopes = self.tips(angles_at(self.tips.machine, one.end), 0.0)
            there = slopes @ np.array(one.shift)
            self.known[key] = min(mine, key=lambda n: math.dist(self.places[n].shifted, there))
        return self.known[key]


def _by_place(events: Iterable[Event], of: _Places) -> Iterator[tuple[int, list[Event]]]:
    """Events of one place after the other, tool by tool: what is cut with one is cut before the next touches
    it.
    """
    for (number, _), own in groupby(events, lambda one: (of(one), one.tool)):
        yield number, list(own)


PROVE_LOAD = Step("prove load", 3, LoadProofGiven, _prove_load)


def proof_given_for(run: Run, load: Load, stood: list[Stood], text: str) -> LoadProofGiven:
    """What a load's program is proved from."""
    plan, registers = run.plan, {}
    for one in stood:
        for name, told in one.values.items():
            if told is not None:
                registers[name] = dict(zip("XYZ", (v.value for v in told), strict=True))
    tools = at_places(plan.tools) | tools_of(stood)
    radii: dict[int, float] = {}
    for one in stood:
        radii |= radii_of(one.turning.setup, tools)
    machine = stood[0].turning.machine
    dialect = dialect_in(plan, machine.id)
    frames = [from_table(one.turning.zero_from_work, zero_of(one)) for one in stood]
    given = text_given(text, registers, tools, machine, frames[0], radii, dialect.dwell == "P ms")
    given = replace(given, beside=on_the_control(dialect, text))
    first: dict[str, int] = {}
    places = []
    for number, one in enumerate(stood):
        stock, wanted = (
            Result(kept, run.engine).content(FIELD) for kept in (one.cut.incoming_key, one.cut.outgoing_key)
        )
        places.append(
            PlaceGiven(
                tuple(one.renamed.values()),
                as_vector(np.round(one.shifted, 6)),
                frames[number],
                stock,
                wanted,
                first.setdefault(one.place.cut_as, number),
            )
        )
    return LoadProofGiven(given, tuple(places))
