"""A setup that cuts the part: from the stock that comes in to the stock that goes out."""

from __future__ import annotations

from typing import Any

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.visibility import visible
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.clearance import clearance
from pelvrak.core.route.cutting import cut_operations, cut_through, depths
from pelvrak.core.route.holding import safety_of
from pelvrak.core.route.incoming import ComingIn
from pelvrak.core.route.loads import safety_findings
from pelvrak.core.route.needed import positions_needed
from pelvrak.core.route.offsets import known_in_time, offsets_of, wrong_centre
from pelvrak.core.route.placing import Placed, place
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.registers import Load, give_registers, load_name, values_of
from pelvrak.core.route.report import (
    OperationReport,
    SetupReport,
    ZeroReport,
    refused,
)
from pelvrak.core.route.run import Run, in_work_frame, matrix
from pelvrak.core.route.swinging import swings
from pelvrak.core.route.texts import with_own_text
from pelvrak.core.route.together import works_apart
from pelvrak.core.route.told import machine_picture, position_reports, slides_picture
from pelvrak.core.route.turning import Turning, turning_of
from pelvrak.core.route.visits import order_findings


def part_setup(
    run: Run, index: int, setup: Setup, coming: ComingIn, density: float, made: SetupReport | None
) -> SetupReport:
    """What becomes of a setup. coming: its stock; density: kg/mm³; made: the setup that cut its jaws."""
    incoming_key, incoming_volume = coming.key, coming.volume
    base = _untouched(setup, coming, density)
    if incoming_key is None or incoming_volume <= 0:
        return base.model_copy(update={"findings": coming.findings or (_no_stock(setup),)})
    try:
        placed = place(run, index, setup, incoming_key, density, made)
    except BadInput as bad:
        run.done += len(setup.operations) + 3
        return refused(base, bad)
    run.done += 1
    turning, load = _turned(run, setup, placed)
    beside_it = _beside_others(run, load, setup, placed, incoming_key)
    tools = {tool.id: tool for tool in run.plan.tools}
    shop = fixtures_of(run.plan.fixtures)
    foretold, beside, proposals = clearance(run, turning, tools, incoming_key, shop)
    placed.hold = placed.hold.model_copy(
        update={"beside": beside, "proposals": (*placed.hold.proposals, *proposals)}
    )
    held = base.model_copy(update={**_seated(run, setup, placed, turning, shop), "hold": placed.hold})
    early = (*coming.findings, *placed.findings, *turning.findings, *foretold)
    run.begun(held.model_copy(update={"findings": early}))
    about = _clamped(placed, incoming_volume * density)
    done = cut_operations(run, index, placed, turning, incoming_key, incoming_volume, about)
    done, texted, by_text = with_own_text(run, index, placed, turning, held, done)
    planes = {name: one.at.local_from_zero for name, one in turning.stations.items()}
    stands = safety_of(run, setup, placed.hold, (placed.low, placed.high), done.reports, tools, planes)
    hold = placed.hold.model_copy(update={"safety": stands, "friction": FRICTION if stands else None})
    told = [
        *coming.findings,
        *placed.findings,
        *_of_the_order(run, index, turning, load, done.reports),
        *swings(run, turning, incoming_key, tools, done.reports),
        *_program_number(setup, placed.machine),
        *_places(setup, placed.machine, tools),
        *_nothing_cut(setup),
    ]
    safe = [in_work_frame(f, placed.zero_from_work) for f in safety_findings(stands, setup.name)]
    return held.model_copy(
        update={
            "outgoing_key": done.key,
            "outgoing_volume_mm3": done.volume,
            "removed_volume_mm3": incoming_volume - done.volume,
            "outgoing_mass_kg": done.volume * density,
            "time_s": sum(r.time_s for r in done.reports),
            "hold": hold,
            **depths(done.reports, placed),
            "operations": tuple(done.reports),
            "program_key": done.program_key,
            **texted,
            "findings": (*told, *safe, *foretold, *beside_it, *done.findings, *by_text),
        }
    )


def _untouched(setup: Setup, coming: ComingIn, density: float) -> SetupReport:
    """A setup that leaves the stock as it comes. density: kg/mm³."""
    mass = coming.volume * density
    return SetupReport(
        name=setup.name,
        title=setup.title,
        machine=setup.machine,
        offset_register=setup.offset_register,
        incoming_key=coming.key,
        incoming=coming.told,
        outgoing_key=coming.key,
        incoming_volume_mm3=coming.volume,
        outgoing_volume_mm3=coming.volume,
        incoming_mass_kg=mass,
        outgoing_mass_kg=mass,
        findings=coming.findings,
    )


def _clamped(placed: Placed, mass: float) -> str:
    """What is clamped, for the program's head. mass: kg."""
    x, y, z = placed.high - placed.low
    return f"{x:.1f} x {y:.1f} x {z:.1f} mm, {mass:.3f} kg"


def _no_stock(setup: Setup) -> Finding:
    return Finding(
        code="stock.none",
        severity="error",
        setup=setup.name,
        stage="incoming",
        sentence="No stock comes into this setup.",
    )


def _nothing_cut(setup: Setup) -> list[Finding]:
    if setup.operations or setup.text is not None:
        return []
    return [
        Finding(
            code="cut.no_operations",
            severity="note",
            setup=setup.name,
            stage="cut",
            sentence="Nothing is cut in this setup yet.",
        )
    ]


def _beside_others(run: Run, load: Load, setup: Setup, placed: Placed, incoming_key: str) -> list[Finding]:
    """Whether the work stands clear of the others of its load, where nothing tells that it stands elsewhere
    in that than as it is planned.
    """
    if not setup.load or any(one.name == setup.load for one in run.plan.loads):
        return []
    incoming = run.surface(incoming_key)
    return works_apart(load, setup.name, incoming, placed.zero_from_work, placed.hold.zero_on_table)


def _seated(
    run: Run, setup: Setup, placed: Placed, turning: Turning, shop: dict[str, Fixture]
) -> dict[str, Any]:
    """What the report shows of a setup before anything is cut."""
    up = as_vector(placed.zero_from_work[2, :3])
    turned, on_table = turning.turned.get(""), turning.zero_on_table
    return {
        "zero_from_work": matrix(placed.zero_from_work),
        "low": as_vector(placed.low),
        "high": as_vector(placed.high),
        "nest": placed.nest,
        "register_value": values_of(turning, ""),
        "positions": position_reports(run, turning, run.part),
        "machine_key": machine_picture(run, placed.machine, turned, on_table),
        "slides": slides_picture(run, placed.machine, turned, on_table),
        "offsets": offsets_of(turning, shop),
        "wrong_centre_mm": round(wrong_centre(turning), 5) if setup.positions else None,
        "zeros": tuple(
            ZeroReport(
                name=one.name,
                offset_register=one.offset_register,
                at=as_vector(np.round(at, 6) + 0.0),
                register_value=values_of(turning, "", at),
            )
            for one, at in zip(setup.seat.zeros, placed.zeros, strict=True)
        ),
        "seen": tuple(np.round(visible(run.part, [up])[0][:, 0], 3).tolist()),
    }


def _of_the_order(
    run: Run, index: int, turning: Turning, load: Load, reports: list[OperationReport]
) -> list[Finding]:
    """What is wrong with the positions, with what is known in time, and with the order."""
    change_s = turning.machine.changer.seconds
    return [
        *turning.findings,
        *known_in_time(turning, index, load),
        *order_findings(turning.setup, turning.time_between, change_s),
        *_lying(run, turning, reports),
    ]


def _turned(run: Run, setup: Setup, placed: Placed) -> tuple[Turning, Load]:
    """A setup at its index positions, with its registers, and what stands on the machine with it."""
    turning = turning_of(run, setup, placed, {})
    load = run.loads.setdefault(load_name(setup), Load())
    give_registers(turning, run.plan, load)
    return turning, load


def stock_after(
    run: Run, index: int, setup: Setup, incoming_key: str, density: float, made: SetupReport | None
) -> str:
    """The stock that a setup leaves, and nothing that is told of it beside; the same steps as `part_setup`
    runs.

    Raises BadInput where the work cannot be seated or held.
    """
    placed = place(run, index, setup, incoming_key, density, made)
    turning, _ = _turned(run, setup, placed)
    return cut_through(run, index, placed, turning, incoming_key)[2]


def _program_number(setup: Setup, machine: Machine) -> list[Finding]:
    digits = machine.control.program_digits
    if setup.program_number is None or setup.program_number < 10**digits:
        return []
    return [
        Finding(
            code="program.number",
            severity="error",
            setup=setup.name,
            stage="cut",
            sentence=(
                f"The control of {machine.name} takes program numbers of {digits} digits; {setup.name} is"
                f" O{setup.program_number}."
            ),
            measured=float(setup.program_number),
            limit=float(10**digits - 1),
            cures=(put("Number it by its name", Element(setup=setup.name), "program_number", None),),
        )
    ]


def _places(setup: Setup, machine: Machine, tools: dict[str, Tool]) -> list[Finding]:
    """Tools of the setup whose place the machine's changer does not have."""
    most = machine.changer.places
    used = dict.fromkeys(operation.tool for operation in setup.operations if operation.tool in tools)
    past = {name: max(tools[name].places) for name in used if max(tools[name].places) > most}
    taken = {place for tool in tools.values() for place in tool.places}
    free = next((place for place in range(1, most + 1) if place not in taken), None)
    return [
        Finding(
            code="cut.no_place",
            severity="error",
            setup=setup.name,
            stage="cut",
            sentence=(
                f"{tools[name].name} is in place {past[name]}; the changer of {machine.name} has {most}."
            ),
            measured=float(past[name]),
            limit=float(most),
            cures=(
                (put(f"Put it in place {free}", Element(tool=name), "place", free),)
                if free is not None and tools[name].place > most
                else ()
            ),
        )
        for name in past
    ]


def _lying(run: Run, turning: Turning, reports: list[OperationReport]) -> list[Finding]:
    """Positions for all operations at once whose faces do not look to the spindle."""
    seated = turning.stations.get("")
    wrong = {report.id for report in reports if any(f.code == "cut.not_square" for f in report.findings)}
    lying = [operation for operation in turning.setup.operations if operation.id in wrong]
    return [] if seated is None else positions_needed(turning, lying, run.part.part, seated.zero_from_work)
