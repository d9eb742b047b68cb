"""What would a cure change, and what would it leave? Told before it is taken."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from jsonpointer import JsonPointer

from pelvrak.core.cures import Edit, Element, Put
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.route.alone import alone, told_alone
from pelvrak.core.route.edits import edited, patch_of
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import Report


class Tried(Frozen):
    """What edits change, in words, and what comes of them in one setup: findings that go, that come, and all
    that are left.
    """

    changes: tuple[str, ...]
    gone: tuple[Finding, ...]
    new: tuple[Finding, ...]
    left: tuple[Finding, ...]


def tried(plan: Plan, edits: tuple[Edit, ...], setup: str, evaluate: Callable[[Plan], Report]) -> Tried:
    """What edits of a plan would do to a setup, in which it is computed alone with what comes before it.

    Raises BadInput for edits that mean what has gone, and for what is no plan afterwards.
    """
    document = plan.model_dump(mode="json")
    after = plan_from(edited(document, edits))
    found = []
    for one in (plan, after):
        only = alone(one, setup, None, None)
        found.append(told_alone(evaluate(only), only.setups[-1]).findings)
    before, left = found
    return Tried(
        changes=tuple(_words(document, edit) for edit in edits),
        gone=_beyond(before, left),
        new=_beyond(left, before),
        left=left,
    )


def _beyond(these: tuple[Finding, ...], others: tuple[Finding, ...]) -> tuple[Finding, ...]:
    """Findings that are not among others: of each code and operation as many as there are more."""
    spare = Counter(_alike(one) for one in others)
    out = []
    for one in these:
        spare[_alike(one)] -= 1
        if spare[_alike(one)] < 0:
            out.append(one)
    return tuple(out)


def _alike(one: Finding) -> tuple[str, str | None]:
    return one.code, one.operation


def _words(document: dict[str, Any], edit: Edit) -> str:
    """What an edit changes, as people say it."""
    called = _called(edit.of)
    if not isinstance(edit, Put):
        return (
            f"{called}: something put into its {edit.to}"
            if edit.kind == "add"
            else f"{called}: another order"
        )
    [change] = patch_of(document, edit)
    was = JsonPointer(change.path).resolve(document, None)
    field = edit.field.rsplit("/", 1)[-1].replace("_", " ").removesuffix(" deg").removesuffix(" kn")
    return f"{field} of {called}: {_value(was)} → {_value(edit.value)}"


def _called(of: Element) -> str:
    return of.item or of.operation or of.position or of.zero or of.tool or of.setup or "the plan"


def _value(value: Any) -> str:
    if value is None:
        return "as usual"
    if isinstance(value, float):
        return f"{value:g}"
    return str(value) if isinstance(value, (str, int)) else "another"
