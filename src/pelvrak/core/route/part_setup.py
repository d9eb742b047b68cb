"""A setup that cuts the part: from the stock that comes in to the stock that goes out."""

from __future__ import annotations

from typing import Any

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding, of_bad_input
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.seen import reached
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.ahead import ahead
from pelvrak.core.route.cutting import cut_operations, cut_through, depths, with_pointers
from pelvrak.core.route.holding import safety_of
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
)
from pelvrak.core.route.run import Run, in_work_frame, matrix
from pelvrak.core.route.swinging import swings
from pelvrak.core.route.together import works_apart
from pelvrak.core.route.told import machine_picture, position_reports, slides_picture
from pelvrak.core.route.turning import Turning, turning_of
from pelvrak.core.route.visits import order_findings


def part_setup(
    run: Run,
    index: int,
    setup: Setup,
    incoming_key: str | None,
    incoming_volume: float,
    density: float,
    made: SetupReport | None,
) -> SetupReport:
    base = SetupReport(
        name=setup.name,
        title=setup.title,
        machine=setup.machine,
        offset_register=setup.offset_register,
        incoming_key=incoming_key,
        outgoing_key=incoming_key,
        incoming_volume_mm3=incoming_volume,
        outgoing_volume_mm3=incoming_volume,
        incoming_mass_kg=incoming_volume * density,
        outgoing_mass_kg=incoming_volume * density,
    )
    if incoming_key is None or incoming_volume <= 0:
        nothing = Finding(
            code="stock.none",
            severity="error",
            setup=setup.name,
            stage="incoming",
            sentence="No stock comes into this setup.",
        )
        return base.model_copy(update={"findings": (nothing,)})
    try:
        placed = place(run, index, setup, incoming_key, density, made)
    except BadInput as bad:
        run.done += len(setup.operations) + 3
        return base.model_copy(
            update={"findings": (of_bad_input(bad, setup.name, None, bad.where.split(".")[0]),)}
        )
    run.done += 1
    turning, load = _turned(run, setup, placed)
    beside_it = []
    if setup.load:
        incoming = run.surface(incoming_key)
        beside_it = works_apart(load, setup.name, incoming, placed.zero_from_work, placed.hold.zero_on_table)
    tools = {tool.id: tool for tool in run.plan.tools}
    shop = fixtures_of(run.plan.fixtures)
    foretold, beside, proposals = ahead(run, turning, tools, incoming_key, shop)
    seated: dict[str, Any] = {
        "zero_from_work": matrix(placed.zero_from_work),
        "low": as_vector(placed.low),
        "high": as_vector(placed.high),
        "nest": placed.nest,
        "register_value": values_of(turning, ""),
        "positions": position_reports(run, turning, run.part),
        "machine_key": machine_picture(run, placed.machine, turning.turned.get(""), turning.zero_on_table),
        "slides": slides_picture(run, placed.machine, turning.turned.get(""), turning.zero_on_table),
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
        "seen": tuple(
            np.round(reached(run.part, [as_vector(placed.zero_from_work[2, :3])])[0][:, 0], 3).tolist()
        ),
    }
    early = [with_pointers(f, index) for f in (*placed.findings, *turning.findings, *foretold)]
    placed.hold = placed.hold.model_copy(
        update={"beside": beside, "proposals": (*placed.hold.proposals, *proposals)}
    )
    run.begun(base.model_copy(update={**seated, "hold": placed.hold, "findings": tuple(early)}))
    size = placed.high - placed.low
    about = f"{size[0]:.1f} x {size[1]:.1f} x {size[2]:.1f} mm, {incoming_volume * density:.3f} kg"
    done = cut_operations(run, index, placed, turning, incoming_key, incoming_volume, about)
    reports, key, stock_volume = done.reports, done.key, done.volume
    planes = {name: one.at.local_from_zero for name, one in turning.stations.items()}
    stands = safety_of(run, setup, placed.hold, (placed.low, placed.high), reports, tools, planes)
    placed.hold = placed.hold.model_copy(
        update={
            "safety": stands,
            "friction": FRICTION if stands else None,
        }
    )
    change_s = placed.machine.changer.seconds
    told = (
        *placed.findings,
        *turning.findings,
        *known_in_time(turning, index, load),
        *swings(run, turning, incoming_key, tools, reports),
        *order_findings(setup, index, turning.time_between, change_s),
        *_lying(run, turning, index, reports),
    )
    told = (*told, *_program_number(setup, placed.machine), *_places(setup, placed.machine, tools))
    findings = [with_pointers(finding, index) for finding in told]
    findings += [in_work_frame(f, placed.zero_from_work) for f in safety_findings(stands, setup.name)]
    findings += [with_pointers(f, index) for f in foretold]
    findings += beside_it
    if not setup.operations:
        findings.append(
            Finding(
                code="cut.no_operations",
                severity="note",
                setup=setup.name,
                stage="cut",
                sentence="Nothing is cut in this setup yet.",
            )
        )
    return base.model_copy(
        update={
            "outgoing_key": key,
            "outgoing_volume_mm3": stock_volume,
            "removed_volume_mm3": incoming_volume - stock_volume,
            "outgoing_mass_kg": stock_volume * density,
            "time_s": sum(r.time_s for r in reports),
            **seated,
            "hold": placed.hold,
            **depths(reports, placed),
            "operations": tuple(reports),
            "program_key": done.program_key,
            "findings": tuple(findings),
        }
    )


def _turned(run: Run, setup: Setup, placed: Placed) -> tuple[Turning, Load]:
    """A setup at its index positions, with its registers, and what stands on the machine with it."""
    turning = turning_of(
        run, setup, placed.machine, placed.zero_from_work, placed.hold, {}, placed.zeros, placed.boxes
    )
    load = run.loads.setdefault(load_name(setup), Load())
    give_registers(turning, run.plan, load)
    return turning, load


def stock_after(
    run: Run, index: int, setup: Setup, incoming_key: str, density: float, made: SetupReport | None
) -> str:
    """The stock that a setup leaves, and nothing that is told of it beside; the same steps as `part_setup` runs.

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
            sentence=f"The control of {machine.name} takes program numbers of {digits} digits; {setup.name} is O{setup.program_number}.",
            measured=float(setup.program_number),
            limit=float(10**digits - 1),
            cures=(Cure(label="Number it by its name", path="program_number", value=None),),
        )
    ]


def _places(setup: Setup, machine: Machine, tools: dict[str, Tool]) -> list[Finding]:
    """Tools of the setup whose place the machine's changer does not have."""
    most = machine.changer.places
    used = dict.fromkeys(operation.tool for operation in setup.operations)
    order = list(tools)
    taken = {tool.place for tool in tools.values()}
    free = next((place for place in range(1, most + 1) if place not in taken), None)
    return [
        Finding(
            code="cut.no_place",
            severity="error",
            setup=setup.name,
            stage="cut",
            sentence=f"{tools[name].name} is in place {tools[name].place}; the changer of {machine.name} has {most}.",
            measured=float(tools[name].place),
            limit=float(most),
            cures=()
            if free is None
            else (
                Cure(label=f"Put it in place {free}", path=f"/tools/{order.index(name)}/place", value=free),
            ),
        )
        for name in used
        if name in tools and tools[name].place > most
    ]


def _lying(run: Run, turning: Turning, index: int, reports: list[OperationReport]) -> list[Finding]:
    """Positions for all operations at once whose faces do not look to the spindle."""
    seated = turning.stations.get("")
    wrong = {report.id for report in reports if any(f.code == "cut.not_square" for f in report.findings)}
    lying = [operation for operation in turning.setup.operations if operation.id in wrong]
    return (
        []
        if seated is None
        else positions_needed(turning, index, lying, run.part.part, seated.zero_from_work)
    )
