"""Which kinds of operation are there? Each is one file here and one line below.

A package outside this tree adds its own by an entry point of the group `pelvrak.operations` that names the
class.
"""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated

from pydantic import Field

from pelvrak.core.cutting.operation import NestRoom, OperationKind
from pelvrak.core.cutting.operations.chamfering import Chamfering
from pelvrak.core.cutting.operations.clearing import Clearing
from pelvrak.core.cutting.operations.drilling import Drilling
from pelvrak.core.cutting.operations.drilling_round import DrillingRound
from pelvrak.core.cutting.operations.engraving import Engraving, EngravingRound
from pelvrak.core.cutting.operations.facing import Facing
from pelvrak.core.cutting.operations.helical import Helical
from pelvrak.core.cutting.operations.measuring import Measuring
from pelvrak.core.cutting.operations.outline import Outline
from pelvrak.core.cutting.operations.pocket import Pocket
from pelvrak.core.cutting.operations.probing import Probing
from pelvrak.core.cutting.operations.slotting import Slotting
from pelvrak.core.cutting.operations.surfacing import Surfacing
from pelvrak.core.cutting.operations.threading import Threading
from pelvrak.core.cutting.operations.undercut import Undercut
from pelvrak.core.cutting.operations.wrapped import Wrapped
from pelvrak.core.registered import registered

SHIPPED: tuple[type[OperationKind], ...] = (
    Facing,
    Clearing,
    Outline,
    Pocket,
    Slotting,
    Undercut,
    Surfacing,
    Drilling,
    Helical,
    Threading,
    Chamfering,
    Engraving,
    Wrapped,
    EngravingRound,
    DrillingRound,
    Probing,
    Measuring,
)
KINDS = registered(SHIPPED, "pelvrak.operations")
if TYPE_CHECKING:
    Operation = OperationKind
else:
    Operation = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]

__all__ = [
    "KINDS",
    "Chamfering",
    "Clearing",
    "Drilling",
    "DrillingRound",
    "Engraving",
    "EngravingRound",
    "Facing",
    "Helical",
    "NestRoom",
    "Operation",
    "OperationKind",
    "Outline",
    "Pocket",
    "Slotting",
    "Surfacing",
    "Threading",
    "Undercut",
    "Wrapped",
]
