"""A plan written in other dialects: its stock is cut already, so its programs are written and proved anew."""

from __future__ import annotations

from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.route.plan import Plan


def written_in(plan: Plan, dialect: str, *own: Dialect) -> Plan:
    """The plan with all its machines programmed in one dialect. own: dialects of the plan's own."""
    used = {setup.machine: machine_of(setup.machine, plan.machines) for setup in plan.setups}
    machines = tuple(
        one.model_copy(update={"control": one.control.model_copy(update={"dialect": dialect})})
        for one in used.values()
    )
    return plan.model_copy(update={"machines": machines, "dialects": own})
