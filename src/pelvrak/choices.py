"""What can be chosen by name on the command line."""

from __future__ import annotations

from enum import Enum


class Bench(Enum):
    """What is measured."""

    STOCK = "stock"
    ROUTE = "route"


class Demo(Enum):
    """The demo projects."""

    HOUSING = "encoder-housing"
    TRUNNION = "encoder-housing-trunnion"
    FLOAT = "float-carrier"
    LATCH = "latch-plate"
    LOT = "carrier-lot"
