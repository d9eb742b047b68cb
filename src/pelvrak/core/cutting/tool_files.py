"""How are tools brought in and taken out: as a table (CSV, RFC 4180) and as JSON, both with the property
names of ISO 13399?
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterable, Iterator
from typing import Any

from pydantic import ValidationError

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput

MOST_BYTES, MOST_TOOLS = 2_000_000, 5_000
INCH_MM = 25.4
# Lengths, which may be in inches.
LENGTHS = ("DC", "LCF", "OAL", "DCON", "TP", "RE", "CW", "DCN", "DCX", "DN", "LU", "overhang")
COLUMNS = (
    "id",
    "name",
    "kind",
    "place",
    "DC",
    "LCF",
    "OAL",
    "DCON",
    "NOF",
    "SIG",
    "TP",
    "RE",
    "KAPR",
    "CW",
    "DCN",
    "DCX",
    "DN",
    "LU",
    "taper_deg",
    "material",
    "cuts_at_centre",
    "overhang",
    "life_min",
    "twin_places",
    "holder",
    "holder_stack",
    "unit",
)
NEEDED = ("id", "name", "kind", "DC", "LCF", "OAL", "DCON", "NOF", "overhang")
_TRUE, _FALSE = ("yes", "true", "1", "x"), ("no", "false", "0", "")
_STEP = re.compile(r"^\s*([\d.,]+)\s*[x×]\s*([\d.,]+)\s*$")


def tools_to_csv(tools: Iterable[Tool]) -> str:
    """Tools as a table, a row each, mm. A form tool's outline has no place in it, and is left out with it."""
    out = io.StringIO()
    rows = csv.DictWriter(out, COLUMNS, lineterminator="\r\n")
    rows.writeheader()
    for tool in tools:
        if tool.outline is not None:
            continue
        told = tool.model_dump(mode="json", exclude_none=True)
        row = {name: told[name] for name in COLUMNS if name in told and name != "holder"}
        row["cuts_at_centre"] = "yes" if tool.cuts_at_centre else "no"
        row["twin_places"] = " ".join(str(place) for place in tool.twin_places)
        row["holder"] = tool.holder.name
        row["holder_stack"] = " ".join(f"{length:g}x{wide:g}" for length, wide in tool.holder.stack)
        row["unit"] = "mm"
        rows.writerow(row)
    return out.getvalue()


def tools_to_json(tools: Iterable[Tool]) -> str:
    """Tools as JSON, everything of them."""
    return json.dumps([tool.model_dump(mode="json", exclude_none=True) for tool in tools], indent=1)


def tools_from(data: bytes, name: str) -> list[Tool]:
    """The tools in a file, CSV or JSON by what it begins with. Raises BadInput with the row and column."""
    if len(data) > MOST_BYTES:
        raise BadInput(
            "tools.too_large", name, f"it holds {len(data) / 1e6:.1f} MB", f"up to {MOST_BYTES / 1e6:.0f} MB"
        )
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as bad:
        raise BadInput("tools.text", name, f"byte {bad.start} is not UTF-8 text", "save it as UTF-8") from bad
    rows = _json_rows(text, name) if text.lstrip()[:1] in ("[", "{") else list(_csv_rows(text, name))
    if len(rows) > MOST_TOOLS:
        raise BadInput("tools.too_many", name, f"it holds {len(rows)} tools", f"up to {MOST_TOOLS} in a file")
    tools = [_tool(row, where) for where, row in rows]
    seen: dict[str, str] = {}
    for tool, (where, _) in zip(tools, rows, strict=True):
        if tool.id in seen:
            raise BadInput(
                "tools.twice", where, f"tool {tool.id} is also {seen[tool.id]}", "give it another id"
            )
        seen[tool.id] = where
    return tools


def _json_rows(text: str, name: str) -> list[tuple[str, dict[str, Any]]]:
    try:
        read = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as bad:
        raise BadInput("tools.json", name, f"it is no JSON: {bad}", "mend it there") from bad
    if not isinstance(read, list) or not all(isinstance(row, dict) for row in read):
        raise BadInput("tools.json", name, "it holds no list of tools", "give a list, each tool an object")
    return [(f"{name}, tool {number}", row) for number, row in enumerate(read, start=1)]


def _csv_rows(text: str, name: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Each line of a table as a tool's fields."""
    head = text.split("\n", 1)[0]
    # Where decimals are written with a comma, columns are parted by a semicolon or a tab.
    apart = max(",;\t", key=head.count)
    table = csv.reader(io.StringIO(text), delimiter=apart)
    try:
        columns = [cell.strip() for cell in next(table, [])]
        _known(columns, name)
        for cells in table:
            if not any(cell.strip() for cell in cells):
                continue
            where = f"{name}, line {table.line_num}"
            if len(cells) > len(columns):
                raise BadInput(
                    "tools.columns",
                    where,
                    f"it has {len(cells)} columns, and the head {len(columns)}",
                    "put text that holds the separator in quotes",
                )
            yield where, _row(dict(zip(columns, (cell.strip() for cell in cells), strict=False)), where)
    except csv.Error as bad:
        raise BadInput("tools.csv", f"{name}, line {table.line_num}", str(bad), "mend it there") from bad


def _known(columns: list[str], name: str) -> None:
    """Raises BadInput for a head that names a column twice, or one that is not known, or lacks one."""
    for column in columns:
        if column not in COLUMNS or columns.count(column) > 1:
            said = "twice" if columns.count(column) > 1 else "not known"
            raise BadInput(
                "tools.columns",
                f"{name}, line 1",
                f"column {column or 'without a name'} is {said}",
                f"name columns as ISO 13399 does: {', '.join(COLUMNS)}",
            )
    lacking = [
        column
        for column in ("id", "name", "kind", "DC", "LCF", "OAL", "DCON", "NOF", "overhang")
        if column not in columns
    ]
    if lacking:
        raise BadInput("tools.columns", f"{name}, line 1", f"column {lacking[0]} is missing", "add it")


def _row(cells: dict[str, str], where: str) -> dict[str, Any]:
    """A line's cells as a tool's fields, mm."""
    unit = cells.pop("unit", "").lower() or "mm"
    if unit not in ("mm", "in", "inch"):
        raise BadInput("tools.unit", f"{where}, column unit", f"{unit} is no unit here", "write mm or in")
    factor = 1.0 if unit == "mm" else INCH_MM
    stack = cells.pop("holder_stack", "")
    out: dict[str, Any] = {}
    for column, cell in cells.items():
        if cell == "" and column != "cuts_at_centre":
            continue
        if column in LENGTHS:
            out[column] = round(_number(cell, where, column) * factor, 6)
        elif column == "twin_places":
            out[column] = [_whole(one, where, column) for one in cell.split()]
        elif column in ("SIG", "KAPR", "taper_deg", "life_min"):
            out[column] = _number(cell, where, column)
        elif column in ("NOF", "place"):
            out[column] = _whole(cell, where, column)
        elif column == "cuts_at_centre":
            if cell.lower() not in (*_TRUE, *_FALSE):
                raise BadInput(
                    "tools.yes_no", f"{where}, column {column}", f"{cell} is no answer", "yes or no"
                )
            if cell:
                out[column] = cell.lower() in _TRUE
        else:
            out[column] = cell
    steps = [_step(step, where, factor) for step in stack.split()]
    out["holder"] = {"name": cells.get("holder") or "holder", "stack": steps or [(30.0, 40.0)]}
    out.setdefault("place", 1)
    return out


def _number(cell: str, where: str, column: str) -> float:
    try:
        value = float(cell.replace(",", "."))
        if math.isfinite(value):
            return value
        raise ValueError
    except ValueError:
        raise BadInput(
            "tools.number", f"{where}, column {column}", f"{cell!r} is no number", "write digits only"
        ) from None


def _whole(cell: str, where: str, column: str) -> int:
    value = _number(cell, where, column)
    if value != int(value):
        raise BadInput(
            "tools.number", f"{where}, column {column}", f"{cell} is no whole number", "write a whole number"
        )
    return int(value)


def _step(step: str, where: str, factor: float) -> tuple[float, float]:
    found = _STEP.match(step)
    if found is None:
        raise BadInput(
            "tools.holder",
            f"{where}, column holder_stack",
            f"{step!r} is no step of a holder",
            "write length × diameter of each step from the nose up, as 30x40 30x50",
        )
    length, wide = (float(part.replace(",", ".")) * factor for part in found.groups())
    return round(length, 6), round(wide, 6)


def _tool(row: dict[str, Any], where: str) -> Tool:
    try:
        return Tool.model_validate(row)
    except ValidationError as wrong:
        first = wrong.errors()[0]
        at = ".".join(str(part) for part in first["loc"])
        raise BadInput(
            "tools.tool",
            f"{where}, {at}" if at else where,
            str(first["msg"]).removeprefix("Value error, "),
            "give another value there",
        ) from wrong
