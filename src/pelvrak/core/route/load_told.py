"""What becomes of a load: its places, the order it is cut in, its program, and what each cycle gives?"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.load import order as orders
from pelvrak.core.load.load import Load
from pelvrak.core.program.compose import Planned
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.route.load_checks import (
    Occupied,
    in_common,
    occupied,
    off_the_table,
    on_the_table,
    overlaps,
    past_the_travels,
    swung,
)
from pelvrak.core.route.load_guests import changer_clashes, guests_in
from pelvrak.core.route.load_neighbours import Passing, neighbours
from pelvrak.core.route.load_places import (
    CutSetup,
    Stood,
    keeps_register,
    setups_in,
    stood,
    wrong_with_load,
    zero_of,
)
from pelvrak.core.route.load_program import PROVE_LOAD, dialect_for, dialect_in, load_program, proof_given_for
from pelvrak.core.route.load_report import LoadReport, OrderStep, PlaceReport, RegisterFact
from pelvrak.core.route.load_variants import cut_otherwise
from pelvrak.core.route.load_ways import Going, goings, ways_met
from pelvrak.core.route.pieces import PROOF
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.several import whole_in


def load_reports(run: Run, setups: Sequence[SetupReport]) -> tuple[LoadReport, ...]:
    """All loads that the plan tells of and some setup stands in."""
    reports = {one.name: one for one in setups}
    return tuple(_surely_told(run, load, reports) for load in run.plan.loads if setups_in(run.plan, load))


def _surely_told(run: Run, load: Load, reports: dict[str, SetupReport]) -> LoadReport:
    """What is told of a load; of one that cannot be computed, why."""
    try:
        return _told(run, load, reports)
    except BadInput as bad:
        first = setups_in(run.plan, load)[0]
        why = of_bad_input(bad, first.name, None, "seat")
        return LoadReport(name=load.name, machine=first.machine, order_kind=load.order, findings=(why,))


def _told(run: Run, load: Load, reports: dict[str, SetupReport]) -> LoadReport:
    setups = setups_in(run.plan, load)
    machines = list(dict.fromkeys(setup.machine for setup in setups))
    base = LoadReport(name=load.name, machine=machines[0], order_kind=load.order)
    cuts: dict[str, CutSetup] = {name: cut for name, cut in run.cuts.items() if name in reports}
    mine = {setup.name: cuts[setup.name] for setup in setups if setup.name in cuts}
    other = cut_otherwise(run, load, list(reports.values()))
    mine |= other.cuts
    guests = guests_in(run, load, machines[0])
    mine |= guests.cuts
    reports = reports | other.reports | guests.reports
    base = base.model_copy(update={"guests": guests.told})
    if len(machines) > 1:
        said = f"{load.name} stands on several machines, {' and '.join(machines)}: give each its own load."
        return base.model_copy(update={"findings": (wrong_with_load(setups[0].name, "load.machines", said),)})
    shifts = load.shifts == "places" and dialect_in(run.plan, machines[0]).shift
    here, found = stood(run.plan, load, mine, shifts)
    found += [*other.findings, *guests.findings]
    here = [one for one in here if one.turning.zero_on_table is not None]
    if not here:
        said = f"Nothing of {load.name} is held and cut yet: nobody knows where it stands."
        found.append(wrong_with_load(setups[0].name, "load.empty", said, "note"))
        return base.model_copy(update={"findings": tuple(found)})
    found += changer_clashes(load, here)
    places = occupied(run, here)
    found += overlaps(load, places)
    found += off_the_table(load, here)
    found += past_the_travels(load, here, reports)
    passing = Passing(run, places, in_common(run, places))
    found += neighbours(load, passing, places, reports)
    found += swung(run, load, places, reports)
    return _cut(run, load, passing, places, reports, base, found)


def _cut(
    run: Run,
    load: Load,
    passing: Passing,
    places: list[Occupied],
    reports: dict[str, SetupReport],
    base: LoadReport,
    found: list[Finding],
) -> LoadReport:
    """The order a load is cut in, its program, and what comes of it."""
    here = [one.one for one in places]
    all_steps = goings(passing, places, reports)
    planned = [[one.step for one in own] for own in all_steps]
    cuts = [[one.cut for one in own] for own in all_steps]
    machine, over = here[0].turning.machine, load.between == "over" and not load.stops
    between = orders.Machine(machine.changer.seconds, machine.rapid_mm_min, over)
    order, times = _order_of(load, planned, cuts, between, found)
    mass, too_heavy = on_the_table(run, load, places, reports)
    found += too_heavy
    found += ways_met(load, passing, all_steps, order, between)
    seconds, changes = orders.time_of(order, cuts, between)
    ways = {
        f"{kind}_s": round(orders.time_of(order, cuts, replace(between, over=kind == "over"))[0], 2)
        for kind in ("top", "over")
    }
    steps = _steps(order, all_steps, cuts, between)
    last = setups_in(run.plan, load)[-1].name
    pieces = run.plan.pieces
    of_billet = 1 if pieces is None else len(pieces.names())
    at_once = of_billet if last in whole_in(run.plan) else 1
    finished = at_once * sum(one.place.setup == last for one in here)
    each = (seconds + load.loading_s * len(here)) / 60 / max(1, finished)
    # Building it up is shared by the lot; of one without end nothing is left of it.
    each += load.setup_min / load.lot if load.lot is not None else 0.0
    told = base.model_copy(
        update={
            "places": _places(places, cuts),
            "order": tuple(steps),
            "time_s": round(seconds, 2),
            "changes": changes,
            "places_s": round(times["places"][0], 2),
            "tools_s": round(times["tools"][0], 2),
            "fastest_s": round(times["fastest"][0], 2) if "fastest" in times else None,
            **ways,
            "mass_kg": mass,
            "finished": finished,
            "first_cycle": _first_cycle(run, load, here),
            "minutes_each": round(each, 3),
            "per_hour": round(60 / each, 3) if each else None,
            "cycles": None if load.lot is None else math.ceil(load.lot / max(1, finished)),
            "billets": None if load.lot is None else math.ceil(load.lot / of_billet),
            "of_billet": of_billet,
        }
    )
    if not over:
        planned = [[replace(step, over=None) for step in own] for own in planned]
    if load.program == "one":
        told = _with_program(run, load, here, [planned[p][n] for p, n in order], told, found)
    return told.model_copy(update={"findings": tuple(found)})


def _order_of(
    load: Load,
    planned: list[list[Planned]],
    cuts: list[list[orders.Cut]],
    between: orders.Machine,
    found: list[Finding],
) -> tuple[list[orders.Step], dict[str, tuple[float, int]]]:
    """The order a load is cut in, and what each of those that are looked at takes, s, with its changes."""
    ways = {"places": orders.by_places(cuts), "tools": orders.by_tools(cuts, between)}
    best = orders.fastest(cuts, between)
    if best is not None:
        ways["fastest"] = best
    times = {kind: orders.time_of(order, cuts, between) for kind, order in ways.items()}
    if load.order == "fastest" and best is None:
        ways["fastest"] = min(ways.values(), key=lambda order: orders.time_of(order, cuts, between))
        few = f"There are too many orders of {load.name} to look at all: it is cut in the better of two."
        found.append(wrong_with_load(None, "load.orders", few, "note"))
    order = ways.get(load.order, ways["places"])
    if load.order == "hand":
        by_hand = _by_hand(load, planned)
        said = orders.kept_in_order(by_hand, cuts)
        if said is None:
            order = by_hand
        else:
            sentence = f"The order of {load.name} by hand cannot be: {said}. It is cut place by place."
            found.append(wrong_with_load(None, "load.order", sentence))
    return order, times


def _by_hand(load: Load, planned: list[list[Planned]]) -> list[orders.Step]:
    """The steps that an order by hand names; what it does not know is left out of it."""
    known = {
        f"{step.place} {step.run.partition(':')[2]}": (p, n)
        for p, own in enumerate(planned)
        for n, step in enumerate(own)
    }
    return [known[one] for one in load.hand if one in known]


def _steps(
    order: list[orders.Step],
    all_steps: list[list[Going]],
    cuts: list[list[orders.Cut]],
    machine: orders.Machine,
) -> list[OrderStep]:
    """The order with its times."""
    out: list[OrderStep] = []
    for (p, own), (since, until) in zip(order, orders.spans_of(order, cuts, machine), strict=True):
        step = all_steps[p][own].step
        out.append(
            OrderStep(
                place=step.place,
                run=step.run.partition(":")[2],
                name=step.operation.name,
                tool=step.tool.place,
                tool_name=step.tool.name,
                tip=all_steps[p][own].tip,
                from_s=round(since, 2),
                to_s=round(until, 2),
            )
        )
    return out


def _places(places: list[Occupied], cuts: list[list[orders.Cut]]) -> tuple[PlaceReport, ...]:
    first: dict[str, str] = {}
    out = []
    for there, own in zip(places, cuts, strict=True):
        one = there.one
        values = one.values
        like = first.setdefault(one.place.cut_as, one.place.key)
        out.append(
            PlaceReport(
                key=one.place.key,
                setup=one.place.setup,
                number=one.place.number,
                at=as_vector(np.round(zero_of(one), 4)),
                shift=one.place.at,
                low=as_vector(np.round(there.low, 3)),
                high=as_vector(np.round(there.high, 3)),
                registers=tuple(
                    RegisterFact(register_name=name, of=of, value=values[name])
                    for of, name in one.renamed.items()
                ),
                shifted=None if one.first is None else as_vector(np.round(one.shifted, 4)),
                like=None if like == one.place.key else like,
                differs=one.place.otherwise is not None,
                incoming_key=one.cut.incoming_key,
                outgoing_key=one.cut.outgoing_key,
                time_s=round(sum(cut.seconds for cut in own), 2),
            )
        )
    return tuple(out)


def _first_cycle(run: Run, load: Load, here: list[Stood]) -> tuple[str, ...]:
    """What must be there when a load with several setups of one part is run first."""
    names = [setup.name for setup in run.plan.setups if setup.makes is None]
    mine = [setup.name for setup in setups_in(run.plan, load)]
    out = []
    for name in mine:
        at = names.index(name) if name in names else 0
        if at and names[at - 1] in mine:
            count = sum(one.place.setup == name for one in here)
            what = "piece" if count == 1 else "pieces"
            out.append(f"{count} {what} after {names[at - 1]}, for {name}")
    return tuple(out)


def _not_shifted(load: Load, here: list[Stood], dialect: Dialect) -> list[Finding]:
    """Where a shift was wanted and cannot be. dialect: as the load is written."""
    if load.shifts == "no":
        return []
    if not dialect.shift or (load.shifts == "features" and not dialect.calls_features):
        said = f"The dialect “{dialect.name}” has no "
        said += "local shift (G52)" if not dialect.shift else "subprograms that could be shifted"
        said += f": {load.name} is written without."
        return [wrong_with_load(None, "load.no_shift", said, "warning")]
    out = []
    if load.shifts == "places":
        for name, cut in {one.place.setup: one.cut for one in here}.items():
            if why := keeps_register(cut):
                said = f"Places of {name} in {load.name} keep a register each: {why}."
                out.append(wrong_with_load(None, "load.no_shift", said, "note"))
    return out


def _with_program(
    run: Run,
    load: Load,
    here: list[Stood],
    order: list[Planned],
    told: LoadReport,
    found: list[Finding],
) -> LoadReport:
    """A load with its program, proved at every place."""
    dialect = dialect_in(run.plan, told.machine)
    several = len({one.place.setup for one in here}) < len(here)
    if load.subprograms and several and not dialect.subprograms:
        said = f"The dialect “{dialect.name}” has no subprograms: {load.name} is written out at every place."
        found.append(wrong_with_load(None, "load.no_subprograms", said, "warning"))
    found += _not_shifted(load, here, dialect_for(run.plan, load, told.machine))
    try:
        key, program = load_program(run, load, here, order)
        given = proof_given_for(run, load, here, program.text)
    except BadInput as bad:
        found.append(wrong_with_load(None, "load.no_program", str(bad)))
        return told
    found += [
        wrong_with_load(
            None, "program.dialect", f"{load.name}, in the dialect “{dialect.name}”: {what}.", stage="prove"
        )
        for what in program.beyond
    ]
    proof = run.engine.run(PROVE_LOAD, given, f"{load.name}: its program proved").value(PROOF)
    if proof["alarm"] is not None:
        said = f"The control would not run the program of {load.name}: {proof['alarm']}."
        found.append(wrong_with_load(None, "program.stops", said, stage="prove"))
        return told.model_copy(update={"program_key": key, "alarm": proof["alarm"]})
    places = []
    for place, came in zip(told.places, proof["places"], strict=True):
        places.append(place.model_copy(update={"equal": came["equal"], "most_mm": came["most_mm"]}))
        if came["equal"] is False:
            said = (
                f"The program of {load.name} does not leave at {place.key} what was planned:"
                f" {came['most_mm']:.3f} mm apart at most."
            )
            found.append(wrong_with_load(place.setup, "program.apart", said, stage="prove"))
    return told.model_copy(update={"program_key": key, "control_s": proof["time_s"], "places": tuple(places)})
