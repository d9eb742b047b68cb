"""Random edits of a plan document: any leaf changed a little, any element of a list left out."""

from __future__ import annotations

import copy
import random
from collections.abc import Iterator
from typing import Any

from pelvrak.core.billet.forms import Files
from pelvrak.core.cures import Cure
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.route.edits import edited as with_edits
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import Plan, plan_from

Place = tuple[str | int, ...]


def cured(document: dict[str, Any], cure: Cure) -> dict[str, Any]:
    """A plan document with a cure taken, every field in it."""
    return with_edits(plan_from(document).model_dump(mode="json"), cure.edits)


def places(value: Any, at: Place = ()) -> Iterator[tuple[Place, Any]]:
    """Every leaf and every list of a document with the way to it."""
    if isinstance(value, dict):
        for key, item in value.items():
            yield from places(item, (*at, key))
    elif isinstance(value, list):
        if value and at:
            yield at, value
        for number, item in enumerate(value):
            yield from places(item, (*at, number))
    else:
        yield at, value


def another(value: Any, chance: random.Random) -> Any:
    """A value of the same kind that is not the same."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + chance.choice((-2, -1, 1, 2))
    if isinstance(value, float):
        return round(value * chance.choice((0.7, 0.95, 1.05, 1.3)) + chance.choice((-0.5, 0.25, 1.0)), 3)
    if isinstance(value, str):
        return value + chance.choice("xyz7")
    if isinstance(value, list):
        left_out = chance.randrange(len(value))
        return [item for number, item in enumerate(value) if number != left_out]
    return chance.choice((1.0, 2, "x", True))


def edited(document: dict[str, Any], chance: random.Random) -> tuple[str, dict[str, Any], Plan]:
    """What was changed, and the document and plan with it: tried until one is a plan."""
    every = list(places(document))
    while True:
        place, value = chance.choice(every)
        if place == ("part", "sha256") or place[-1] == "schema_version":
            continue
        out = copy.deepcopy(document)
        holder: Any = out
        for key in place[:-1]:
            holder = holder[key]
        new = another(value, chance)
        holder[place[-1]] = new
        try:
            plan = plan_from(out)
        except BadInput:
            continue
        if isinstance(value, list):
            new = f"{len(new)} of {len(value)}"
            value = "all"
        return f"/{'/'.join(str(key) for key in place)}: {value!r} -> {new!r}", out, plan


def computed(
    plan: Plan, part: bytes, store: MemoryStore, files: Files | None = None
) -> tuple[Any, dict[str, dict[str, str]], int]:
    """The report but for what was computed and what was not, or the refusal; the contents of all results it
    used; how many steps ran.
    """
    keys: dict[str, str] = {}
    try:
        report = evaluate(plan, part, store, files=files, keys=keys)
    except BadInput as bad:
        return str(bad), {}, 0
    contents: dict[str, dict[str, str]] = {key: {} for key in keys}
    for (key, piece), digest in store.named.items():
        if key in contents:
            contents[key][piece] = digest
    told = report.model_copy(update={"computed": (), "reused": ()}).model_dump(mode="json")
    return told, contents, len(report.computed)
