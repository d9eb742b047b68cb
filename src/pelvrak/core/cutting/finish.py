"""What does an operation leave, and how fast does it go, by its stage: rough, semi-finish, finish?"""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Frozen

Allowance = Annotated[float, Field(ge=0, le=20)]
Share = Annotated[float, Field(ge=0.1, le=3)]


class Finish(Frozen):
    """One stage of finish, of which operations take what they do not say themselves."""

    id: Annotated[str, Field(min_length=1, max_length=40)] = asked(
        title="Id", help="tells the finish from the others of its plan; never changes, never shown"
    )
    name: Annotated[str, Field(min_length=1, max_length=40)] = asked(
        title="Name", help="what it is called", place="what"
    )
    leave_side: Allowance = asked(0.0, title="On walls", help="what stays on walls", unit="mm", place="what")
    leave_floor: Allowance = asked(
        0.0, title="On floors", help="what stays on floors", unit="mm", place="what"
    )
    speed_share: Share = asked(1.0, title="Speed", help="of the computed one", unit="×", place="what")
    feed_share: Share = asked(1.0, title="Feed", help="of the computed one", unit="×", place="what")


# Allowances and feeds of the usual stages: common practice, no source.
USUAL = (
    Finish(id="rough", name="rough", leave_side=0.3, leave_floor=0.2),
    Finish(id="semi", name="semi-finish", leave_side=0.1, leave_floor=0.1),
    Finish(id="finish", name="finish", feed_share=0.7),
)
# Which allowance a field of an operation takes.
_ALLOWANCES = {"leave_side": "leave_side", "leave_floor": "leave_floor"}


def finished(operation: Operation, finish: Finish | None) -> Operation:
    """The operation with what it leaves unsaid as its finish has it; without one it leaves nothing."""
    fields = type(operation).model_fields
    fields_asked = {**_ALLOWANCES, "leave": operation.leave_is}
    told: dict[str, Any] = {
        name: 0.0 if finish is None else getattr(finish, allowance)
        for name, allowance in fields_asked.items()
        if name in fields and getattr(operation, name) is None
    }
    return operation.model_copy(update=told) if told else operation
