"""How do kinds come together: those that ship, and those that other packages bring?"""

from __future__ import annotations

from collections.abc import Iterable
from importlib.metadata import entry_points
from typing import TypeVar

from pydantic import BaseModel

Kind = TypeVar("Kind", bound=BaseModel)


def registered(shipped: Iterable[type[Kind]], group: str) -> dict[str, type[Kind]]:
    """Kinds by the default of their field `kind`. group: of the entry points by which packages name further
    classes.

    Raises TypeError when two of them are of one name.
    """
    kinds: dict[str, type[Kind]] = {}
    for kind in (*shipped, *(point.load() for point in entry_points(group=group))):
        name = str(kind.model_fields["kind"].default)
        if name in kinds:
            raise TypeError(f"{kind.__module__} brings a kind that is there: {name}")
        kinds[name] = kind
    return kinds
