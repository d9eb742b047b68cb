"""What do the zeros of a setup rest on, and is that there, cut, and left standing?"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import OperationReport, SetupReport, ZeroReport
from pelvrak.core.route.run import Run
from pelvrak.core.seat.resting import Rest, Stocks, resting, resting_findings
from pelvrak.core.seat.seating import Zero


def maker_number(setup: int, operation: int) -> int:
    """The number on surfaces made by an operation: setup and operation counted from 0; 0 itself is the
    billet.
    """
    return (setup + 1) * 256 + operation + 1


def makers_of(setups: Iterable[SetupReport]) -> dict[int, tuple[SetupReport, OperationReport]]:
    """Who the numbers on surfaces are. setups: all of the route, in its order."""
    return {
        maker_number(i, operation.number): (setup, operation)
        for i, setup in enumerate(setups)
        for operation in setup.operations
    }


def zeros_checked(
    run: Run, index: int, report: SetupReport, before: list[SetupReport], billet_key: str | None
) -> SetupReport:
    """The setup with what its zeros rest on, before it and after it, and what is wrong with that. before: all
    setups before it, those that make jaws too.
    """
    if report.zero_from_work is None or not (report.incoming_key and report.outgoing_key and billet_key):
        return report
    setup, part = run.plan.setups[index], run.part
    rotation = np.array(report.zero_from_work)[:3, :3]
    billet = run.surface(billet_key)
    names = {
        number: f"{one.name} {operation.name}"
        for number, (one, operation) in makers_of([*before, report]).items()
    }
    stocks = Stocks(
        incoming=run.surface(report.incoming_key),
        outgoing=run.surface(report.outgoing_key),
        makers=names,
    )
    earlier = [(one.name, rest) for one in before if one.makes is None for rest in one.rests]

    def rests_of(zero: Zero) -> tuple[Rest, ...]:
        return tuple(resting(zero, part.part, part.mesh, billet, rotation, stocks))

    def found(
        zero: Zero, rests: tuple[Rest, ...], called: str, of: Element, field: str, at: Floats
    ) -> list[Finding]:
        assert report.low and report.high
        middle = np.add(report.low, report.high) / 2
        sides = np.choose(np.array([zero.x, zero.y, zero.z]) + 1, [report.low, middle, report.high])
        there = Zero(
            of="incoming", x=zero.x, y=zero.y, z=zero.z, offset=as_vector(np.round(at - sides, 4) + 0.0)
        )
        cure = put("Same place, from the incoming stock", of, field, there.model_dump(mode="json"))
        picked = zero.of not in ("billet", "part", "incoming")
        return resting_findings(list(rests), earlier, setup.name, called, (cure,), picked)

    own = rests_of(setup.seat.zero)
    findings = found(
        setup.seat.zero, own, f"Zero of {setup.name}", Element(setup=setup.name), "seat/zero", np.zeros(3)
    )
    zeros: list[ZeroReport] = []
    for spec, one in zip(setup.seat.zeros, report.zeros, strict=True):
        rests = rests_of(spec.zero)
        of = Element(setup=setup.name, zero=spec.name)
        findings += found(spec.zero, rests, f"Zero “{spec.name}”", of, "zero", np.array(one.at))
        zeros.append(one.model_copy(update={"rests": rests}))
    findings += _registers(setup, machine_of(setup.machine, run.plan.machines)) + _above_zero(setup, report)
    return report.model_copy(
        update={"rests": own, "zeros": tuple(zeros), "findings": (*report.findings, *findings)}
    )


def _registers(setup: Setup, machine: Machine) -> list[Finding]:
    """Two zeros of one setup in one register."""
    used: dict[str, str] = {setup.offset_register: "its own zero"}
    out = []
    for one in setup.seat.zeros:
        if one.offset_register in used:
            free = machine.control.free_register(used)
            out.append(
                Finding(
                    code="seat.register_twice",
                    severity="error",
                    setup=setup.name,
                    stage="seat",
                    sentence=(
                        f"{setup.name} keeps “{one.name}” and {used[one.offset_register]} in"
                        f" {one.offset_register}: one would write over the other."
                    ),
                    cures=(
                        (
                            put(
                                f"Keep “{one.name}” in {free}",
                                Element(setup=setup.name, zero=one.name),
                                "offset_register",
                                free,
                            ),
                        )
                        if free
                        else ()
                    ),
                )
            )
        used.setdefault(one.offset_register, f"“{one.name}”")
    return out


def _above_zero(setup: Setup, report: SetupReport) -> list[Finding]:
    """With zero on top every cutting Z is to be negative; people read the code for exactly that."""
    if setup.seat.zero.z != 1 or report.cut_z is None or report.cut_z_of is None or report.cut_z[1] <= 1e-6:
        return []
    return [
        Finding(
            code="seat.cuts_above_zero",
            severity="note",
            setup=setup.name,
            stage="seat",
            sentence=(
                f"Zero is on top, but {report.cut_z_of[1]} cuts up to Z+{report.cut_z[1]:.3f}: not every"
                " cutting Z is negative."
            ),
            measured=round(report.cut_z[1], 4),
            limit=0.0,
            unit="mm",
        )
    ]
