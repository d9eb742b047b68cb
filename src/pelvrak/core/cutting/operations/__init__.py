"""Which kinds of operation are there? Each is one file here and one line below.

A package outside this tree adds its own by an entry point of the group `pelvrak.operations` that names the class.
"""

from __future__ import annotations

from functools import reduce
from importlib.metadata import entry_points
from operator import or_
from typing import TYPE_CHECKING, Annotated

from pydantic import Field

from pelvrak.core.cutting.operation import NestRoom, OperationKind
from pelvrak.core.cutting.operations.drilling import Drilling
from pelvrak.core.cutting.operations.facing import Facing
from pelvrak.core.cutting.operations.outline import Outline
from pelvrak.core.cutting.operations.pocket import Pocket
from pelvrak.core.cutting.operations.wrapped import Wrapped

SHIPPED: tuple[type[OperationKind], ...] = (
    Facing,
    Outline,
    Pocket,
    Drilling,
    Wrapped,
)


def _kinds() -> dict[str, type[OperationKind]]:
    brought = [point.load() for point in entry_points(group="pelvrak.operations")]
    kinds = {kind.model_fields["kind"].default: kind for kind in SHIPPED}
    for kind in brought:
        name = kind.model_fields["kind"].default
        if name in kinds:
            raise TypeError(f"{kind.__module__} brings a kind of operation that is there: {name}")
        kinds[name] = kind
    return kinds


KINDS = _kinds()
if TYPE_CHECKING:
    Operation = OperationKind
else:
    Operation = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]

__all__ = [
    "KINDS",
    "Drilling",
    "Facing",
    "NestRoom",
    "Operation",
    "OperationKind",
    "Outline",
    "Pocket",
    "Wrapped",
]
