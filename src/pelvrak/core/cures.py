"""What edit of the plan would put a finding right?

An edit names the element it changes by what that is called, never by its number in a list: made from an older
state of the plan, it still meets the same element, or is refused because that has gone.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from pelvrak.core.geometry.part import Frozen


class Element(Frozen):
    """An element of the plan; without any name the plan itself.

    setup: by its name; alone it means the setup; with one of the next four, what is in it. operation: by its
    id; item: of the holding, by its id; position: an index position, by its name; zero: a further zero, by
    its name. tool: of the plan, by its id.
    """

    setup: str | None = None
    operation: str | None = None
    item: str | None = None
    position: str | None = None
    zero: str | None = None
    tool: str | None = None


class Put(Frozen):
    """Write a value into a field of an element.

    of: the element; field: as a JSON Pointer (RFC 6901) from it, without the first stroke: seat/zero; value:
    that is written.
    """

    kind: Literal["put"] = "put"
    of: Element
    field: Annotated[str, Field(max_length=200)]
    value: Any = None


class Add(Frozen):
    """Put a value into a list of an element.

    of: the element; to: its list; value: that is put in; before: the name or id of the element of the list it
    goes before; None: at the end.
    """

    kind: Literal["add"] = "add"
    of: Element
    to: Annotated[str, Field(max_length=200)]
    value: Any
    before: str | None = None


class Arrange(Frozen):
    """Bring a list of an element into another order.

    of: the element; what: its list; order: names or ids of all that stands in it.
    """

    kind: Literal["arrange"] = "arrange"
    of: Element
    what: Annotated[str, Field(max_length=200)]
    order: tuple[str, ...]


Edit = Annotated[Put | Add | Arrange, Field(discriminator="kind")]
Edits = Annotated[tuple[Edit, ...], Field(min_length=1, max_length=500)]


class Cure(Frozen):
    """An edit that would put a finding right.

    label: on its button; edits: made one after the other, all or none.
    """

    label: str
    edits: Edits


def put(label: str, of: Element, field: str, value: Any) -> Cure:
    """A cure that writes one value."""
    return Cure(label=label, edits=(Put(of=of, field=field, value=value),))


def differing(of: Element, now: Frozen, then: Frozen) -> tuple[Edit, ...]:
    """The edits that make an element what it should be, a field each."""
    before, after = now.model_dump(mode="json"), then.model_dump(mode="json")
    return tuple(
        Put(of=of, field=name, value=value) for name, value in after.items() if before[name] != value
    )
