"""How does what is computed stay the same under another name? It is computed without names, and told with
them.

Names, ids and changer places stand in no key of a cut or a contact: a step is given these tokens for them,
and whoever reads its findings puts in what things are called now.
"""

from __future__ import annotations

import re
from typing import Any

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.machine.index import Turned

# What stands in a program and moves nothing.
_SAID: dict[str, Any] = {
    "coolant": "flood",
    "spindle": "forward",
    "stop_before": "no",
    "stop_after": "no",
    "comment": "",
    "finish": None,
}
_TOKEN = re.compile(r"⟦[a-z]+(?: \d+)?⟧")
SETUP, OPERATION, TOOL = "⟦setup⟧", "⟦operation⟧", "⟦tool⟧"


def piece_token(number: int) -> str:
    """What a piece of a holding is called while nothing has a name."""
    return f"⟦piece {number}⟧"


def nameless_tool(tool: Tool, token: str) -> Tool:
    """A tool called by a token, in no changer place of its own, and as good as new."""
    new = {"place": 1, "twin_places": (), "life_min": None}
    return tool.model_copy(update={"id": token, "name": token, **new})


def bare_hold(hold: HoldFacts) -> HoldFacts:
    """What of a holding a tool can meet, each piece called by a token."""
    pieces = tuple(piece.model_copy(update={"name": piece_token(i)}) for i, piece in enumerate(hold.pieces))
    return HoldFacts(
        key=hold.key and "held", shift=hold.shift, zero_on_table=hold.zero_on_table, pieces=pieces
    )


def nameless_position(at: Turned) -> Turned:
    """How the work is turned, without the position's name and how it was solved."""
    return Turned("", at.angles, at.local_from_zero, at.direction)


def unregistered(operation: Operation) -> Operation:
    """An operation as it is cut: which register it counts from, where else it is repeated, and what only its
    program says, changes nothing of that.
    """
    return operation.model_copy(update={"repeated_at": (), "left_out": (), "offset_register": None, **_SAID})


def nameless_operation(operation: Operation) -> Operation:
    """An operation to be cut, without its name and its id."""
    return operation.model_copy(update={"id": "operation", "name": OPERATION, "tool": TOOL, "position": None})


def nameless_fixtures(fixtures: dict[str, Fixture]) -> tuple[tuple[Fixture, ...], dict[str, str]]:
    """Fixtures each called by a token, and what the tokens are called."""
    tokens = {one.id: f"⟦fixture {number}⟧" for number, one in enumerate(fixtures.values())}
    bare = tuple(one.model_copy(update={"name": tokens[one.id]}) for one in fixtures.values())
    return bare, {tokens[one.id]: one.name for one in fixtures.values()}


def names_of(
    setup: str, operation: Operation | None = None, tool: Tool | None = None, hold: HoldFacts | None = None
) -> dict[str, str]:
    """What each token is called now."""
    out = {SETUP: setup}
    if operation is not None:
        out[OPERATION] = operation.name
    if tool is not None:
        out[TOOL] = tool.name
    if hold is not None:
        out |= {piece_token(i): piece.name for i, piece in enumerate(hold.pieces)}
    return out


def named(value: Any, names: dict[str, str]) -> Any:
    """Plain values with every token in their texts as it is called now."""
    if isinstance(value, str):
        # In one go: a name that looks like a token is not looked at again.
        return _TOKEN.sub(lambda found: names.get(found[0], found[0]), value)
    if isinstance(value, dict):
        return {key: named(item, names) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [named(item, names) for item in value]
    return value


def named_refusal(bad: BadInput, names: dict[str, str]) -> BadInput:
    """A refusal of a nameless step, told with names."""
    return BadInput(bad.code, named(bad.where, names), named(bad.what, names), named(bad.mend, names))
