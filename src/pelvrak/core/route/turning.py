"""A setup whose work is turned: its index positions, and what stands round the work at each."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache

from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.repeated import Shared, shared_out
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.mesh import (
    Floats,
)
from pelvrak.core.geometry.part import PartModel, Vector
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.index import Turned, index_time, upright
from pelvrak.core.machine.kinematics import home_angles
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.holding import holding_mesh
from pelvrak.core.route.placing import Placed
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.positions import turned_to
from pelvrak.core.route.run import Run
from pelvrak.core.route.station import Station, station_at
from pelvrak.core.route.visits import Visit, visits


@dataclass
class Turning:
    """The index positions of a setup. zero_from_work: of its own zero; stations: by position, "" for the work
    as it is seated; registers: the same; zeros: places of its further zeros, zero frame; visits: its
    operations at their positions in the order of the program; findings of all that is wrong with them.
    """

    setup: Setup
    machine: Machine
    hold: HoldFacts
    zero_from_work: Floats
    zeros: list[Floats] = field(default_factory=list)
    turned: dict[str, Turned] = field(default_factory=dict)
    stations: dict[str, Station] = field(default_factory=dict)
    registers: dict[str, str] = field(default_factory=dict)
    visits: list[Visit] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    @property
    def zero_on_table(self) -> Vector | None:
        return self.hold.zero_on_table

    def station(self, visit: Visit) -> Station:
        """Where an operation is run. Raises BadInput for a position that cannot be."""
        found = self.stations.get(visit.position)
        if found is None:
            where = visit.position or "the work as it is seated"
            raise BadInput(
                "index.nowhere",
                visit.operation.name,
                f"{where} cannot be reached on {self.machine.name}",
                "mend the index position, or cut it at another",
            )
        return found

    def time_between(self, before: str, after: str) -> float:
        """Time to turn from one position to another, s."""
        a, b = self.turned.get(before), self.turned.get(after)
        return 0.0 if a is None or b is None else index_time(self.machine, a.angles, b.angles)

    def time_round(self, before: str, after: str) -> float:
        """The same, each axis going the shorter way round, s."""
        a, b = self.turned.get(before), self.turned.get(after)
        if a is None or b is None:
            return 0.0
        return index_time(self.machine, a.angles, _nearest_turn(self.machine, a.angles, b.angles))


def _nearest_turn(machine: Machine, one: dict[str, float], two: dict[str, float]) -> dict[str, float]:
    """The second of two stands with every axis that goes round as near to the first as it can be."""
    out = dict(two)
    for axis in machine.rotary:
        if axis.endless or axis.high - axis.low >= 720 - 1e-9:
            out[axis.name] = one[axis.name] + (two[axis.name] - one[axis.name] + 180) % 360 - 180
    return out


def turning_of(
    run: Run, setup: Setup, placed: Placed, nest: dict[str, tuple[BaseGeometry, float]]
) -> Turning:
    """All positions of a setup, in the order its operations come to them. nest: rooms of the nest that it
    cuts.
    """
    machine, zero_from_work = placed.machine, placed.zero_from_work
    out = Turning(setup, machine, placed.hold, zero_from_work, placed.zeros)
    part = run.part.part
    used = [visit.position for visit in visits(setup)]
    try:
        out.turned[""] = upright(machine)
    except BadInput as bad:
        if "" in used or not setup.operations:
            out.findings.append(of_bad_input(bad, setup.name, None, "reach"))
    start = out.turned[""].angles if "" in out.turned else home_angles(machine)

    def solved(order: list[str]) -> tuple[dict[str, Turned], list[Finding]]:
        """The positions one after the other, each by the least turn from the one before."""
        found: dict[str, Turned] = {}
        wrong, now = [], start
        rank = {name: number for number, name in reversed(list(enumerate(order)))}
        for position in sorted(setup.positions, key=lambda p: rank.get(p.name, len(order))):
            try:
                found[position.name] = turned_to(position, part, zero_from_work, machine, now, placed.boxes)
                now = found[position.name].angles
            except BadInput as bad:
                wrong.append(of_bad_input(bad, setup.name, None, "reach"))
        return found, wrong

    home = dict(out.turned)
    out.turned |= solved(used)[0]
    if len(set(used)) > 2:
        # Which angles are nearest depends on the order, and which order is shortest on how far the places lie
        # apart round the circle.
        used = [visit.position for visit in visits(setup, out.time_round)]
    found, wrong = solved(used)
    out.turned = home | found
    out.findings += wrong
    whole = cache(lambda: holding_mesh(run, placed.hold))
    for name, at in out.turned.items():
        out.stations[name] = station_at(setup.name, machine, zero_from_work, placed.hold, whole, nest, at)
    out.visits = visits(setup, out.time_between)
    return out


def cut_at(turning: Turning, part: PartModel) -> dict[str, tuple[Operation, ...]]:
    """What is cut at each position, in order: each operation with the faces that look to the spindle
    there.
    """
    out: dict[str, list[Operation]] = {name: [] for name in turning.stations}
    for operation in turning.setup.operations:
        for name, own in shared(turning, operation, part)[0].items():
            if own is not None and name in out:
                out[name].append(own)
    return {name: tuple(own) for name, own in out.items()}


def shared(turning: Turning, operation: Operation, part: PartModel) -> Shared:
    """What of an operation is cut at each of its positions, and the faces that are cut at none."""
    places = operation.places()
    if not operation.repeated_at:
        return dict.fromkeys(places, operation), ()
    planes = {name: turning.stations[name].zero_from_work for name in places if name in turning.stations}
    return shared_out(operation, planes, part)


def alike(one: Turned, two: Turned) -> bool:
    """Whether the rotary axes stand alike at two positions."""
    return all(abs(one.angles[k] - two.angles[k]) < 1e-9 for k in one.angles)
