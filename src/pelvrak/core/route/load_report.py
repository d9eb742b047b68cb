"""What is told of a load?"""

from __future__ import annotations

from pelvrak.core.findings import Finding
from pelvrak.core.geometry.part import Frozen, Vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.holding.facts import HoldFacts


class RegisterFact(Frozen):
    """One register of a place and what it holds. of: the setup's own that it stands for."""

    register_name: str
    of: str
    value: tuple[Reckoned, Reckoned, Reckoned] | None = None


class PlaceReport(Frozen):
    """One place. at: of its zero on the table, mm; shift: from where its setup is planned, mm; low, high:
    what stands there, mm on the table; shifted: its zero from what its registers hold, mm on the table, where
    it has none of its own; like: the first place that is cut alike; differs: it
    is cut otherwise than its setup is; incoming_key, outgoing_key: of its stock; time_s: what is cut there
    takes; proof: whether the load's program leaves there what was planned, how far apart at most, mm.
    """

    key: str
    setup: str
    number: int
    at: Vector
    shift: tuple[float, float]
    low: Vector
    high: Vector
    registers: tuple[RegisterFact, ...]
    shifted: Vector | None = None
    like: str | None = None
    differs: bool = False
    incoming_key: str | None = None
    outgoing_key: str | None = None
    time_s: float = 0.0
    equal: bool | None = None
    most_mm: float | None = None


class OrderStep(Frozen):
    """One operation at a place, in the order it is cut. run: of its setup; tool: its place in the changer;
    tip: where that comes to first, in the plane the operation is in, mm; from_s, to_s: from the load's start.
    """

    place: str
    run: str
    name: str
    tool: int
    tool_name: str
    tip: Vector
    from_s: float
    to_s: float


class GuestReport(Frozen):
    """A setup of another plan in a load. called: as the load has it; plan, setup: of which; zero_from_work:
    4×4; low, high: of its work, zero frame, mm; hold: what holds it; stocks by their keys.
    """

    called: str
    plan: str
    setup: str
    zero_from_work: tuple[tuple[float, ...], ...] | None = None
    low: Vector | None = None
    high: Vector | None = None
    hold: HoldFacts | None = None
    incoming_key: str | None = None
    outgoing_key: str | None = None


class LoadReport(Frozen):
    """One load. guests: of other plans; order: as it is cut, order_kind: how that was chosen; time_s,
    changes: of it; other orders and what they would take: places_s, tools_s, fastest_s, None where there are
    too many to look at; top_s, over_s: this order by the top of Z, or just over all that stands; mass_kg: of
    all that stands on the table; finished: parts that each cycle ends with;
    first_cycle: what has to be there when it is run first; minutes_each: a part takes, loading with it;
    per_hour: parts; cycles, billets: for the lot; of_billet: parts that one gives. program_key: of its
    program, control_s: by the control; alarm: why that stops.
    """

    name: str
    machine: str
    places: tuple[PlaceReport, ...] = ()
    guests: tuple[GuestReport, ...] = ()
    order: tuple[OrderStep, ...] = ()
    order_kind: str = "places"
    time_s: float = 0.0
    changes: int = 0
    places_s: float = 0.0
    tools_s: float = 0.0
    fastest_s: float | None = None
    top_s: float = 0.0
    over_s: float = 0.0
    mass_kg: float = 0.0
    finished: int = 0
    first_cycle: tuple[str, ...] = ()
    minutes_each: float | None = None
    per_hour: float | None = None
    cycles: int | None = None
    billets: int | None = None
    of_billet: int = 1
    program_key: str | None = None
    control_s: float | None = None
    alarm: str | None = None
    findings: tuple[Finding, ...] = ()
