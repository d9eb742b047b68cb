"""Which dialects are there? Each kind is one file here and one line below.

A package outside this tree adds its own by an entry point of the group `pelvrak.dialects` that names the
class.
"""

from __future__ import annotations

from functools import cache, reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated

from pydantic import Field, TypeAdapter, ValidationError

from pelvrak.core.errors import BadInput, json_from, refuse_unkept
from pelvrak.core.errors import plain as in_words
from pelvrak.core.program.dialect import Dialect
from pelvrak.core.program.dialects.extended import Extended
from pelvrak.core.program.dialects.plain import Plain
from pelvrak.core.program.dialects.strict import Strict
from pelvrak.core.registered import registered

SHIPPED: tuple[type[Dialect], ...] = (Extended, Plain, Strict)
KINDS = registered(SHIPPED, "pelvrak.dialects")
if TYPE_CHECKING:
    AnyDialect = Dialect
else:
    AnyDialect = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]

__all__ = [
    "KINDS",
    "AnyDialect",
    "Dialect",
    "Extended",
    "Plain",
    "Strict",
    "dialect_from_json",
    "dialect_of",
    "dialects",
]


@cache
def dialects() -> dict[str, Dialect]:
    """The dialects that ship, each as its kind is, by id."""
    return {kind: cls(kind=kind, id=kind, name=cls.called) for kind, cls in KINDS.items()}


def dialect_of(name: str, own: tuple[Dialect, ...] = ()) -> Dialect:
    """A dialect of the plan's own, or one that ships. Raises BadInput when there is none of that id."""
    found = next((one for one in own if one.id == name), None) or dialects().get(name)
    if found is None:
        raise BadInput(
            "program.unknown_dialect", "dialect", f"there is no dialect {name!r}", "choose one from the list"
        )
    return found


def dialect_from_json(text: str | bytes, where: str) -> Dialect:
    """A dialect from its file. Raises BadInput naming the first field that is wrong."""
    value = json_from(text, where, "dialect.unreadable")
    refuse_unkept(value, where, "dialect.invalid")
    try:
        return TypeAdapter(AnyDialect).validate_python(value)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False)[0]
        field = "/".join(str(step) for step in first["loc"][1:]) or "kind"
        what, mend = in_words(first)
        raise BadInput("dialect.invalid", f"{where}/{field}", what, mend) from wrong
