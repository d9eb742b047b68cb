"""Which operations belong together, and what do they share: a finish, a register, a switch?"""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.machine.machine import Register


class Group(Frozen):
    """Operations of a setup under one name, wherever they stand in its order.

    id: never changes, never shown; name: what it is called; finish, offset_register: of its operations that
    name none themselves; off: all of them are kept, and not cut.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)]
    name: Annotated[str, Field(min_length=1, max_length=40)]
    finish: Annotated[str, Field(max_length=40)] | None = None
    offset_register: Register | None = None
    off: bool = False


def shared(operation: Operation, group: Group | None) -> Operation:
    """An operation with what its group says and it does not, and in no group any more."""
    if group is None:
        return operation
    told: dict[str, Any] = {"group": None}
    for name in ("finish", "offset_register"):
        if getattr(operation, name) is None:
            told[name] = getattr(group, name)
    return operation.model_copy(update=told)
