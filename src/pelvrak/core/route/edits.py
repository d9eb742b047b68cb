"""What does an edit change in a plan document? JSON Patch (RFC 6902), without the operations that copy or
move.

A typed edit (`core.cures`) names elements; here it is turned into such a patch of the document as it is now.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from jsonpatch import JsonPatch, JsonPatchException, make_patch
from jsonpointer import JsonPointer, JsonPointerException
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.cures import Add, Arrange, Edit, Element, Put
from pelvrak.core.errors import BadInput

# The page's longest edits replace a library in a plan; a patch longer than this is no edit.
MOST_CHANGES = 5000


class Change(BaseModel):
    """One operation of a JSON Patch (RFC 6902, section 4)."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    op: Annotated[
        Literal["add", "remove", "replace", "test"], Field(description="What is done at the place.")
    ]
    path: Annotated[
        str, Field(max_length=400, description="The place, as a JSON Pointer (RFC 6901): /setups/0/name.")
    ]
    value: Annotated[Any, Field(description="What is put there, or has to be there; nothing for remove.")] = (
        None
    )

    def told(self) -> dict[str, Any]:
        """As RFC 6902 writes it."""
        return self.model_dump(include={"op", "path"} if self.op == "remove" else {"op", "path", "value"})


Changes = Annotated[tuple[Change, ...], Field(max_length=MOST_CHANGES)]


def changed(document: dict[str, Any], changes: tuple[Change, ...]) -> dict[str, Any]:
    """The document after all changes; the one given stays as it is. Raises BadInput where a change does not
    fit it.
    """
    done: Any = document
    for number, change in enumerate(changes):
        try:
            done = JsonPatch([change.told()]).apply(done, in_place=number > 0)
        except (
            JsonPatchException,
            JsonPointerException,
            TypeError,
            KeyError,
            IndexError,
            ValueError,
        ) as wrong:
            raise BadInput(
                "plan.patch",
                change.path or "/",
                f"change {number + 1} of the patch ({change.op}) does not fit the plan: {wrong}",
                "load the project again and make the edit on what it shows",
            ) from wrong
    if not isinstance(done, dict):
        raise BadInput(
            "plan.patch",
            "/",
            "after the patch there is no plan any more",
            "change fields of the plan, not the whole",
        )
    return done


def edited(document: dict[str, Any], edits: tuple[Edit, ...]) -> dict[str, Any]:
    """The document after typed edits, one after the other; the one given stays as it is.

    document: a whole plan, with every field in it. Raises BadInput where an edit means what has gone.
    """
    for edit in edits:
        document = changed(document, patch_of(document, edit))
    return document


def patch_of(document: dict[str, Any], edit: Edit) -> tuple[Change, ...]:
    """A typed edit as a JSON Patch of a document. Raises BadInput where what it means has gone."""
    element = _pointer(document, edit.of)
    match edit:
        case Put():
            return (Change(op="replace", path=f"{element}/{edit.field}", value=edit.value),)
        case Add():
            path = f"{element}/{edit.to}"
            at = "-" if edit.before is None else _number(_list(document, path), edit.before)
            return (Change(op="add", path=f"{path}/{at}", value=edit.value),)
        case Arrange():
            path = f"{element}/{edit.what}"
            there = _list(document, path)
            if sorted(_called(one) for one in there) != sorted(edit.order):
                raise _gone(f"the list {edit.what} of {edit.of.setup or 'the plan'} has others in it")
            order = [there[_number(there, name)] for name in edit.order]
            return (Change(op="replace", path=path, value=order),)


def _pointer(document: dict[str, Any], of: Element) -> str:
    """Where an element stands, as a JSON Pointer; "" for the plan."""
    if of.tool is not None:
        return f"/tools/{_number(document['tools'], of.tool)}"
    if of.setup is None:
        return ""
    path = f"/setups/{_number(document['setups'], of.setup)}"
    for name, where in (
        (of.operation, "operations"),
        (of.item, "hold/items"),
        (of.position, "positions"),
        (of.zero, "seat/zeros"),
    ):
        if name is not None:
            return f"{path}/{where}/{_number(_list(document, f'{path}/{where}'), name)}"
    return path


def _list(document: dict[str, Any], path: str) -> list[Any]:
    found = JsonPointer(path).resolve(document, None)
    if not isinstance(found, list):
        raise _gone(f"the plan has no list {path}")
    return found


def _called(element: Any) -> str:
    """What an element of a list is told by: its id, or its name."""
    return str(element.get("id", element.get("name"))) if isinstance(element, dict) else str(element)


def _number(elements: list[Any], name: str) -> int:
    for number, element in enumerate(elements):
        if _called(element) == name:
            return number
    raise _gone(f"{name} is no longer in the plan")


def _gone(what: str) -> BadInput:
    return BadInput(
        "plan.gone", "/", f"{what}: this was proposed for an older state", "wait for what is proposed now"
    )


def places_changed(before: Any, after: Any) -> list[str]:
    """JSON Pointers of what differs between two documents, in their order."""
    return sorted({one["path"] or "/" for one in make_patch(before, after)})
