"""How is a field of the plan put before people? Its label, its unit and its help stand in the schema beside
it.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field
from pydantic_core import PydanticUndefined

# Where in a form: what is worked on and with, what is peculiar to the kind, how fast and how far away, what
# else the program says.
Place = Literal["where", "what", "feeds", "program"]


def asked(
    default: Any = PydanticUndefined,
    *,
    title: str,
    help: str,
    unit: str = "",
    empty: str = "",
    below: str = "",
    place: Place | None = None,
    widget: str = "",
    pick: str = "",
    when: dict[str, list[str]] | None = None,
    parts: tuple[str, ...] | dict[str, tuple[str, ...]] = (),
    called: dict[str, str] | None = None,
) -> Any:
    """A field of a document, as people are asked for it.

    Parameters
    ----------
    title, help: its label, and what it says, in a machinist's words.
    unit: as shown; "" for a number without one.
    empty: what holds while it is empty; a field with these words can be emptied.
    below: the computed value shown under it, by its name in the report.
    place: where in the form it stands; None: it is in none.
    widget: what it is edited by, where its type alone does not say; "share": numbers from 0 to 1, shown in
        percent.
    pick: what to pick in the picture for it.
    when: shown only where one of these fields has one of its values: {"cycle": ["peck"], "tool.kind":
        ["chamfer_mill"]};
        "given" and "none" tell whether a number is there, or anything stands in a list.
    parts: what the numbers of a tuple are called, each; or by the value of the field `axis`.
    called: what each value of a choice is called, where that is not the value itself.
    """
    said = {
        "unit": unit,
        "empty": empty,
        "below": below,
        "place": place,
        "widget": widget,
        "pick": pick,
        "when": when,
        "parts": parts,
        "called": called,
    }
    extra: dict[str, Any] = {f"x-{name}": value for name, value in said.items() if value}
    return Field(default, title=title, description=help, json_schema_extra=extra)
