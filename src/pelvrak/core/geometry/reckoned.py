"""How was a number got?"""

from __future__ import annotations

from pelvrak.core.geometry.part import Frozen


class Reckoned(Frozen):
    """A computed number with its formula, the values in it, and where the formula comes from."""

    value: float
    unit: str
    formula: str
    with_values: str
    source: str
