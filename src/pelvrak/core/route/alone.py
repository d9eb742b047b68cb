"""What would one setup, or one operation, do on a stock of one's choice, the rest of the route left out?"""

from __future__ import annotations

from pelvrak.core.billet.chosen import Brought, Chosen
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.report import OperationReport, Report, SetupReport


class Alone(Frozen):
    """What came of it. said: the stock it was begun with; volumes mm³, time s; outgoing_key: of the result
    with the stock it leaves.
    """

    said: str
    incoming_volume_mm3: float
    outgoing_volume_mm3: float
    removed_volume_mm3: float
    time_s: float
    outgoing_key: str | None = None
    operations: tuple[OperationReport, ...] = ()
    findings: tuple[Finding, ...] = ()


def alone(plan: Plan, setup: str, operation: str | None, chosen: Chosen | None) -> Plan:
    """The plan with nothing after a setup, which begins with a chosen stock (None: as the plan says) and cuts
    one operation (None: all of them).

    What a stock brought in does not need is left out too. Raises BadInput for what is not in the plan.
    """
    number = next((i for i, one in enumerate(plan.setups) if one.name == setup), None)
    if number is None:
        raise BadInput("setup.unknown", "setup", f"there is no setup {setup!r}", "choose one of the route")
    own = plan.setups[number]
    if operation is not None:
        if all(one.id != operation for one in own.operations):
            raise BadInput(
                "operation.unknown",
                "operation",
                f"{setup} has no operation {operation!r}",
                "choose one of its operations",
            )
        own = own.model_copy(
            update={"operations": tuple(one for one in own.operations if one.id == operation)}
        )
    if chosen is not None:
        own = own.model_copy(update={"incoming": chosen})
    before = plan.setups[:number]
    if isinstance(own.incoming, Brought):
        before = tuple(one for one in before if one.makes is not None and one.makes.setup == setup)
    return plan.model_copy(update={"setups": (*before, own)})


def told_alone(report: Report, setup: Setup) -> Alone:
    """What a report of such a plan says of its last setup."""
    own: SetupReport = report.setups[-1]
    assert own.name == setup.name
    earlier = [one.name for one in report.setups[:-1] if one.makes is None]
    carried = f"as {earlier[-1]} leaves it" if earlier else "the billet"
    return Alone(
        said=own.incoming.said if own.incoming else carried,
        incoming_volume_mm3=own.incoming_volume_mm3,
        outgoing_volume_mm3=own.outgoing_volume_mm3,
        removed_volume_mm3=own.removed_volume_mm3,
        time_s=own.time_s,
        outgoing_key=own.outgoing_key,
        operations=own.operations,
        findings=own.all_findings(),
    )
