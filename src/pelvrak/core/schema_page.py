"""The plan document on a page: every model, every field with its type, limits, default and meaning."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

Schema = dict[str, Any]
LIMITS = (
    ("minimum", "≥ {}"),
    ("exclusiveMinimum", "> {}"),
    ("maximum", "≤ {}"),
    ("exclusiveMaximum", "< {}"),
    ("minLength", "at least {} long"),
    ("maxLength", "at most {} long"),
    ("minItems", "at least {}"),
    ("maxItems", "at most {}"),
    ("pattern", "written as {}"),
)


def schema_page(schema: Schema) -> str:
    """A Markdown page of a JSON Schema (draft 2020-12, as Pydantic writes it)."""
    models = {schema["title"]: schema, **schema["$defs"]}
    lines = [
        "# The plan document",
        "",
        (
            "Printed by `bin/pelvrak schema --page`; not edited by hand. Lengths in mm, angles in degrees,"
            " time in seconds."
        ),
        "`bin/pelvrak schema` prints the same as JSON Schema, by which an editor can check a document.",
    ]
    for name, model in models.items():
        if "properties" not in model:
            continue
        first = model.get("description", "").split("\n\n")[0].split("\n")
        lines += ["", f"## {_called(name)}", "", " ".join(part.strip() for part in first), ""]
        lines += ["| field | type | limits | default | meaning |", "|---|---|---|---|---|"]
        needed = model.get("required", [])
        lines += [_row(field, told, field in needed) for field, told in model["properties"].items()]
    return "\n".join(lines) + "\n"


def _called(name: str) -> str:
    """A model's name without the module that tells two of one name apart, which follows it."""
    module, _, own = name.rpartition("__")
    return f"{own} ({module.split('__')[-1]})" if module else own


def _row(name: str, told: Schema, needed: bool) -> str:
    default = "needed" if needed else _value(told.get("default"))
    unit = told.get("x-unit", "")
    cells = (f"`{name}`", _type(told) + (f", {unit}" if unit else ""), "; ".join(_limits(told)), default)
    return (
        "| " + " | ".join(cell.replace("|", "\\|") for cell in (*cells, told.get("description", ""))) + " |"
    )


def _value(value: Any) -> str:
    return "none" if value is None else f"`{json.dumps(value, ensure_ascii=False)}`"


def _link(ref: str) -> str:
    called = _called(ref.rsplit("/", 1)[1])
    anchor = "".join(c for c in called.lower().replace(" ", "-") if c.isalnum() or c in "-_")
    return f"[{called}](#{anchor})"


def _type(told: Schema) -> str:
    if "$ref" in told:
        return _link(told["$ref"])
    if "const" in told:
        return _value(told["const"])
    if "enum" in told:
        return " · ".join(_value(value) for value in told["enum"])
    for several in ("anyOf", "oneOf"):
        if several in told:
            return " or ".join("none" if one.get("type") == "null" else _type(one) for one in told[several])
    if told.get("type") == "array":
        inner = told.get("prefixItems")
        if inner:
            return "(" + ", ".join(_type(one) for one in inner) + ")"
        return f"list of {_type(told.get('items', {}))}"
    if told.get("type") == "object":
        return f"by name: {_type(told.get('additionalProperties', {}))}"
    return str(told.get("type", "any"))


def _limits(told: Schema) -> Iterator[str]:
    """Limits of a field and of what it holds, each said once."""
    said: set[str] = set()
    inner = [
        *told.get("anyOf", ()),
        *told.get("prefixItems", ()),
        *([told["items"]] if "items" in told else []),
    ]
    for one in (told, *inner):
        if one.get("type") == "array" and "prefixItems" in one:
            continue  # its length is told by its type
        for key, words in LIMITS:
            if key in one and (text := words.format(one[key])) not in said:
                said.add(text)
                yield text
