"""Which findings are there? The register of all checks, by the code of what they find.

A finding whose code, severity or stage is not registered is refused where it is made, so the catalogue
printed from here is whole.
"""

from __future__ import annotations

import ast
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

Stage = Literal["incoming", "seat", "hold", "reach", "cut", "outgoing", "part"]
COUNTED = "counted, no limit of its own"


@dataclass(frozen=True)
class Check:
    """One thing that is looked for.

    severities: that it is found with; finds: what is wrong then, in a machinist's words; limit: what is
    measured against; source: of the limit; cure: what would put it right, and whether an edit that does so is
    offered (with "offered: ").
    """

    code: str
    stage: Stage
    severities: tuple[str, ...]
    finds: str
    limit: str = "none"
    source: str = COUNTED
    cure: str = ""


def _read() -> dict[str, Check]:
    """The register as it is shipped: a line for each code."""
    rows = json.loads(Path(__file__).with_name("checks.json").read_text())
    return {row["code"]: Check(**{**row, "severities": tuple(row["severities"])}) for row in rows}


CHECKS: dict[str, Check] = _read()


@dataclass(frozen=True)
class Refusal:
    """Input that is refused, and how to mend it; … stands for what is told with it."""

    code: str
    what: str
    mend: str


def refusals() -> list[Refusal]:
    """Every refusal of the core and the server, as its source says it where it first stands."""
    found: dict[str, Refusal] = {}
    for path in sorted(Path(__file__).parents[1].rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not (
                isinstance(node, ast.Call)
                and ast.unparse(node.func) in ("BadInput", "Refused", "super().__init__")
                and len(node.args) >= 4
            ):
                continue
            code, _, what, mend = node.args[-4:]
            if isinstance(code, ast.Constant) and isinstance(code.value, str):
                found.setdefault(code.value, Refusal(code.value, _said(what), _said(mend)))
    return sorted(found.values(), key=lambda one: one.code)


def _said(node: ast.expr) -> str:
    """A text in the source, its places for values as …"""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "…" for part in node.values)
    if isinstance(node, ast.BinOp):
        return _said(node.left) + _said(node.right)
    return "…"


def catalogue() -> str:
    """All checks and refusals as a page of Markdown."""
    out = [
        "# Checks",
        "",
        "Printed by `bin/pelvrak checks`; not edited by hand.",
        "",
        (
            f"{len(CHECKS)} things are looked for in a plan and its stock. A cure that is *offered* is an"
            " edit of the plan, one click away."
        ),
        "",
    ]
    for stage in dict.fromkeys(check.stage for check in CHECKS.values()):
        out += [
            f"## {stage.capitalize()}",
            "",
            "| code | severity | finds that | limit | source | cure |",
            "|---|---|---|---|---|---|",
        ]
        out += [
            f"| `{c.code}` | {' or '.join(c.severities)} | {c.finds} | {c.limit} | {c.source} | {c.cure} |"
            for c in CHECKS.values()
            if c.stage == stage
        ]
        out.append("")
    found = refusals()
    out += [
        "## What is refused",
        "",
        f"{len(found)} kinds of input that cannot be used; each says what, where and how to mend it.",
        "",
        "| code | what | mend |",
        "|---|---|---|",
    ]
    out += [f"| `{one.code}` | {_cell(one.what)} | {_cell(one.mend)} |" for one in found]
    return "\n".join(out) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")
