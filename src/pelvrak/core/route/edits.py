"""What does an edit change in a plan document? JSON Patch (RFC 6902), without the operations that copy or
move.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from jsonpatch import JsonPatch, JsonPatchException, make_patch
from jsonpointer import JsonPointerException
from pydantic import BaseModel, ConfigDict, Field

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


def places_changed(before: Any, after: Any) -> list[str]:
    """JSON Pointers of what differs between two documents, in their order."""
    return sorted({one["path"] or "/" for one in make_patch(before, after)})
