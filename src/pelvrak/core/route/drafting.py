"""What does a fresh operation look like: its defaults, its name, and the tool it is cut with?"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable
from typing import Any

from pydantic import ValidationError

from pelvrak.core.cutting.operations import KINDS, Operation
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Frozen, Part
from pelvrak.core.route.plan import Plan, Setup, refusal

# One's own tool is taken as long as it suits no worse than one on the shelf by this: common practice, no
# source.
OWN_WORSE_MM = 2.0


class Draft(Frozen):
    """An operation ready to be put into a setup. tool: to be added to the plan with it; None: the plan has
    it.
    """

    operation: Operation
    tool: Tool | None = None


def drafted(
    plan: Plan, setup: Setup, told: dict[str, Any], part: Part | None, shelf: Iterable[Tool]
) -> Draft:
    """An operation from what is told of it: kind, and any of its fields.

    An id and a name that the setup has not got are made up; a tool that is not told, or cannot do it, becomes
    the one that suits best, of the plan's first. Raises BadInput naming the field that is wrong.
    """
    kind = KINDS.get(str(told.get("kind")))
    if kind is None:
        raise BadInput(
            "plan.unknown_kind",
            "kind",
            f"there is no kind of operation {told.get('kind')}",
            f"choose {', '.join(KINDS)}",
        )
    number = free_number({operation.id for operation in setup.operations}, str(told["kind"]))
    base = {"id": f"{told['kind']}-{number}", "name": f"{kind.called} {number}", "tool": ""}
    try:
        operation = kind.model_validate({**base, **told})
    except ValidationError as wrong:
        raise refusal(wrong, "operation") from wrong
    mine = next((tool for tool in plan.tools if tool.id == operation.tool), None)
    if mine is not None and mine.kind in operation.tool_kinds():
        return Draft(operation=operation)
    chosen = suited_tool(
        operation, plan.tools, [t for t in shelf if all(t.id != o.id for o in plan.tools)], part
    )
    if chosen is None:
        raise BadInput("cut.wrong_tool", operation.name, "no tool can do it", "add a tool to the plan first")
    operation = operation.model_copy(update={"tool": chosen.id})
    if chosen in plan.tools:
        return Draft(operation=operation)
    chosen = operation.adjusted(chosen, part)
    place = free_place(plan.taken_places)
    return Draft(operation=operation, tool=chosen.model_copy(update={"place": place}))


def free_number(taken: Collection[str], kind: str) -> int:
    """The number of a fresh operation of a kind: the first whose id is not taken."""
    return next(n for n in range(1, len(taken) + 2) if f"{kind}-{n}" not in taken)


def free_place(taken: Collection[int]) -> int:
    """The first place of a changer that is not taken."""
    return next(n for n in range(1, len(taken) + 2) if n not in taken)


def suited_tool(
    operation: Operation, own: Iterable[Tool], shelf: Iterable[Tool], part: Part | None
) -> Tool | None:
    """The tool that suits an operation best: of the right size among one's own, unless one on the shelf suits
    by more than OWN_WORSE_MM better, then of any size.
    """
    kinds = operation.tool_kinds()

    def best(tools: Iterable[Tool]) -> list[tuple[float, int, Tool]]:
        able = [tool for tool in tools if tool.kind in kinds]
        # The kind named first is the usual one: another is taken where there is none of it.
        first = next((kind for kind in kinds if any(tool.kind == kind for tool in able)), None)
        rows = [(operation.unsuitable(tool, part), tool.place, tool) for tool in able if tool.kind == first]
        return sorted(rows, key=lambda row: row[:2])

    mine, bought = best(own), best(shelf)
    fitting = [row for row in (*mine[:1], *bought[:1]) if math.isfinite(row[0])]
    if len(fitting) == 2 and fitting[0][0] > fitting[1][0] + OWN_WORSE_MM:
        fitting.reverse()
    ranked = fitting or [*mine, *bought]
    return ranked[0][2] if ranked else None
