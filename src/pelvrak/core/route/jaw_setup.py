"""A setup that cuts the jaws of a later one: what comes in, what goes out?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import transformed
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.facts import HoldFacts, in_frame
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.cutting import cut_operations, depths
from pelvrak.core.route.holding import held_for_cutting, held_in, safety_of
from pelvrak.core.route.jaws import (
    BLANKS,
    BlanksGiven,
    Solved,
    blanks_mesh,
    cutting_zero,
    rooms,
    spacer,
)
from pelvrak.core.route.loads import safety_findings
from pelvrak.core.route.offsets import offsets_of
from pelvrak.core.route.pictures import volume_of
from pelvrak.core.route.placing import Placed, off_the_table, place
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.registers import Load, give_registers, values_of
from pelvrak.core.route.report import SetupReport, refused
from pelvrak.core.route.run import Run, in_work_frame, matrix
from pelvrak.core.route.turning import turning_of


def jaw_setup(run: Run, index: int, setup: Setup, part_stock: str | None, density: float) -> SetupReport:
    """A setup that cuts the jaws of a later one: blanks come in, cut jaws go out; zero is the one they share,
    or a block's own.
    """
    assert setup.makes is not None
    base = SetupReport(
        name=setup.name,
        title=setup.title,
        machine=setup.machine,
        offset_register=setup.offset_register,
        makes=setup.makes.setup,
        incoming_volume_mm3=0.0,
        outgoing_volume_mm3=0.0,
    )
    run.done += 1
    later = next(
        (i for i, one in enumerate(run.plan.setups) if i > index and one.name == setup.makes.setup), None
    )
    try:
        if later is None or any(one.makes is None for one in run.plan.setups[index + 1 : later]):
            raise BadInput(
                "jaws.no_target",
                "hold",
                f"{setup.name} cuts jaws for {setup.makes.setup}, which does not follow it",
                "put it right before that setup",
            )
        target = run.plan.setups[later]
        if part_stock is None:
            raise BadInput(
                "stock.none", "incoming", f"no stock comes into {target.name}", "mend the setups before"
            )
        placed = place(run, later, target, part_stock, density, None)
        if (
            placed.solved is None
            or placed.nest is None
            or placed.nest.item != setup.makes.item
            or placed.hold.zero_on_table is None
        ):
            raise BadInput(
                "jaws.no_target",
                "hold",
                f"{target.name} does not grip in jaws called {setup.makes.item}",
                f"let {target.name} grip in soft jaws, or take this setup out",
            )
        return _jaws_cut(run, index, setup, base, placed, density)
    except BadInput as bad:
        run.done += len(setup.operations) + 2
        return refused(base, bad)


def _jaws_cut(
    run: Run, index: int, setup: Setup, base: SetupReport, target: Placed, density: float
) -> SetupReport:
    solved = target.solved
    assert solved is not None
    key, placed = _blanks_placed(run, setup, target, solved, density)
    amount = volume_of(run.engine, key)
    turning = turning_of(run, setup, placed, rooms(solved, placed.zero_from_work))
    give_registers(turning, run.plan, Load())
    vise = solved.vise
    force = 0.0 if vise is None else (vise[0].force_kn or vise[1].force_kn)
    about = f"{solved.called(solved.blank)}" + (
        f", on a spacer {solved.nest.gap:.2f} mm, clamped with {force:g} kN" if vise else ""
    )
    done = cut_operations(run, index, placed, turning, key, amount, about)
    tools = {tool.id: tool for tool in run.plan.tools}
    box = placed.low, placed.high
    stands = (
        safety_of(run, setup, placed.hold, box, done.reports, tools, {"": np.eye(4)})
        if setup.hold.items
        else ()
    )
    findings = said_of_jaws(setup, solved.on_end and not setup.hold.items, solved.nest.half[1])
    if not (setup.hold.items or vise or solved.on_end or solved.in_vise or solved.screwed):
        findings.append(_block_loose(setup, solved))
    safe = [in_work_frame(f, placed.zero_from_work) for f in safety_findings(stands, setup.name)]
    hold = placed.hold.model_copy(update={"safety": stands, "friction": FRICTION if stands else None})
    return base.model_copy(
        update={
            "incoming_key": key,
            "outgoing_key": done.key,
            "incoming_volume_mm3": amount,
            "outgoing_volume_mm3": done.volume,
            "removed_volume_mm3": amount - done.volume,
            "incoming_mass_kg": amount * density,
            "outgoing_mass_kg": done.volume * density,
            "time_s": sum(r.time_s for r in done.reports),
            "zero_from_work": matrix(placed.zero_from_work),
            "low": as_vector(placed.low),
            "high": as_vector(placed.high),
            "hold": hold,
            "nest": solved.report(setup.name, placed.zero_from_work),
            "register_value": values_of(turning, ""),
            "offsets": offsets_of(turning, fixtures_of(run.plan.fixtures)),
            **depths(done.reports, placed),
            "operations": tuple(done.reports),
            "program_key": done.program_key,
            "findings": (*placed.findings, *findings, *safe, *done.findings),
        }
    )


def _blanks_placed(
    run: Run, setup: Setup, target: Placed, solved: Solved, density: float
) -> tuple[str, Placed]:
    """The blanks on their rays (key of the result), and how they are held while they are cut: by what holds
    them in their use, or a block by a holding of the setup's own.
    """
    assert target.hold.zero_on_table is not None
    own = bool(setup.hold.items)
    if own and solved.vise:
        raise BadInput(
            "jaws.held_twice",
            "hold",
            f"{setup.name} has a holding of its own, and cuts jaws in the vise they grip in",
            "take its holding out",
        )
    if any(item.cut is not None for item in setup.hold.items):
        raise BadInput(
            "jaws.in_jaws",
            "hold",
            f"{setup.name} holds a block in jaws that would have to be cut to it first",
            "hold it in something that is not cut to it",
        )
    to_zero = cutting_zero(solved, np.array(target.hold.zero_on_table), own)
    blanks, block = blanks_mesh(solved), spacer(solved)
    low, high = as_vector(blanks.vertices.min(axis=0)), as_vector(blanks.vertices.max(axis=0))
    made = run.step(BLANKS, BlanksGiven(blanks, low, high, run.plan.resolution_mm), f"{setup.name} blanks")
    between = None if block is None else transformed(block, to_zero)
    machine = machine_of(setup.machine, run.plan.machines)
    found: list[Finding] = []
    if own:
        # Nothing of a block is a face of the part.
        faces = tuple(range(len(run.part.part.faces)))
        held = held_in(run, setup, made.key, np.eye(4), density, {}, faces)
        hold = in_frame(held.facts, to_zero[:3, 3])
        found = [*held.findings, *off_the_table(setup, machine, hold)]
    elif solved.on_end:
        hold = HoldFacts()
    else:
        hold = held_for_cutting(run, setup, target.hold, solved, between)
    here = blanks.vertices @ to_zero[:3, :3].T + to_zero[:3, 3]
    return made.key, Placed(
        to_zero, [], machine, hold, found, here.min(axis=0), here.max(axis=0), lambda _: {}
    )


def _block_loose(setup: Setup, solved: Solved) -> Finding:
    """A nest block that stands by itself while it is cut: what fastens it is not planned."""
    under = "the table" if solved.item.on == "table" else solved.item.on
    said = (
        f"Nothing in the plan fastens the nest block to {under} while it is cut, and later: screw or clamp it"
        " where neither nest nor work is."
    )
    assert setup.makes is not None
    of = Element(setup=setup.makes.setup, item=solved.item.id)
    cures = (put("Screw it to the plate", of, "cut/screwed", True),) if solved.on_plate else ()
    return Finding(
        code="jaws.block_loose",
        severity="note",
        setup=setup.name,
        stage="hold",
        sentence=said,
        cures=cures,
    )


def said_of_jaws(setup: Setup, on_end: bool, high: float) -> list[Finding]:
    """What is said of a setup that cuts jaws. on_end: whether its block is cut standing on its end, and how
    high it is then, mm.
    """
    found = []
    if not setup.operations:
        found.append(
            Finding(
                code="jaws.no_operations",
                severity="error",
                setup=setup.name,
                stage="cut",
                sentence="Nothing cuts the jaws yet.",
            )
        )
    if on_end:
        found.append(
            Finding(
                code="jaws.on_end",
                severity="note",
                setup=setup.name,
                stage="hold",
                sentence=(
                    f"The block is cut standing on its end, {high:g} mm high; zero is its top. Its clamping"
                    " is not planned here."
                ),
            )
        )
    return found
