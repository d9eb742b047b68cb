"""What does a billet say of itself once a side of it has been pulled?"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pelvrak.core.billet.block import (
    SIDES,
    Block,
    ByAllowance,
    ByCorners,
    BySides,
    BySize,
    Sizing,
    Span,
    margins,
)
from pelvrak.core.billet.forms import Bar, Billet, Extrusion, circle_round
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Part, PartModel, Vector

DIGITS = 4
# A side is never pulled so far that less than this is left, mm.
LEAST_MM = 0.1


def pulled(billet: Billet, model: PartModel, low: Vector, high: Vector, asked: Mapping[str, float]) -> Billet:
    """The billet with other margins on some of its sides, mm, said in its own way; the others stay.

    low, high: its box now. Raises BadInput "billet.not_pulled" for a side that no number of this kind moves,
    or one pulled past the other.
    """
    strange = [side for side in asked if side not in SIDES]
    if strange:
        raise BadInput("billet.not_pulled", strange[0], "there is no such side", "one of " + ", ".join(SIDES))
    now = {**margins(model.part, low, high), **asked}
    for axis, name in enumerate("xyz"):
        if model.part.size[axis] + now[f"{name}-"] + now[f"{name}+"] < LEAST_MM:
            raise BadInput(
                "billet.not_pulled", f"{name}-", "nothing would be left of the billet", "pull less far"
            )
    if isinstance(billet, Block):
        return billet.model_copy(update={"sizing": _sized(billet.sizing, model.part, now, set(asked))})
    if isinstance(billet, (Bar, Extrusion)):
        return _lengthwise(billet, model, margins(model.part, low, high), asked)
    raise BadInput(
        "billet.not_pulled",
        "billet",
        f"a {billet.called} keeps its shape",
        "move it by its own fields, or choose a block",
    )


def _sized(sizing: Sizing, part: Part, now: Mapping[str, float], pulled_sides: set[str]) -> Sizing:
    """A block's sizing that gives some margins."""

    def told(value: float) -> float:
        return round(value, DIGITS) + 0.0

    if isinstance(sizing, ByAllowance):
        return ByAllowance(
            **{side.replace("-", "_minus").replace("+", "_plus"): told(now[side]) for side in SIDES}
        )
    if isinstance(sizing, ByCorners):
        low = tuple(told(part.low[axis] - now[f"{name}-"]) for axis, name in enumerate("xyz"))
        high = tuple(told(part.high[axis] + now[f"{name}+"]) for axis, name in enumerate("xyz"))
        return ByCorners(low=low, high=high)
    sizes = tuple(part.size[axis] + now[f"{name}-"] + now[f"{name}+"] for axis, name in enumerate("xyz"))
    if isinstance(sizing, BySize) and all(one >= 0 for one in now.values()):
        shares = tuple(
            now[f"{name}-"] / (size - own) if size - own > 1e-9 else 0.5
            for name, size, own in zip("xyz", sizes, part.size, strict=True)
        )
        kept = tuple(
            share if {f"{name}-", f"{name}+"} & pulled_sides else old
            for name, share, old in zip("xyz", shares, sizing.place, strict=True)
        )
        return BySize(size=tuple(told(one) for one in sizes), place=kept)
    spans: dict[str, Any] = {}
    for axis, name in enumerate("xyz"):
        below, above = told(now[f"{name}-"]), told(now[f"{name}+"])
        before = sizing.spans[axis] if isinstance(sizing, BySides) else Span(below=below, above=above)
        if not {f"{name}-", f"{name}+"} & pulled_sides:
            spans[name] = before
        elif before.size is None or (before.below is None and before.above is None):
            spans[name] = Span(below=below, above=above)
        elif before.below is not None:
            spans[name] = Span(size=told(sizes[axis]), below=below)
        else:
            spans[name] = Span(size=told(sizes[axis]), above=above)
    return BySides(**spans)


def _lengthwise(
    billet: Bar | Extrusion, model: PartModel, before: Mapping[str, float], asked: Mapping[str, float]
) -> Billet:
    """A bar or a profile: its ends, and a bar's diameter by any other side."""
    axis, new = billet.axis, {}
    for side, value in asked.items():
        if side[0] == axis:
            new["plus" if side[1] == "+" else "minus"] = round(value, DIGITS)
        elif isinstance(billet, Extrusion):
            raise BadInput(
                "billet.not_pulled", side, "a profile is pulled at its ends only", "choose another profile"
            )
        elif billet.diameter is None:
            new["allowance"] = round(billet.allowance + value - before[side], DIGITS)
        else:
            new["diameter"] = round(billet.diameter + 2 * (value - before[side]), DIGITS)
    changed = billet.model_copy(update=new)
    if isinstance(changed, Bar):
        across = circle_round(model, axis)[2] + 2 * changed.allowance
        if (across if changed.diameter is None else changed.diameter) < LEAST_MM:
            raise BadInput("billet.not_pulled", "billet", "nothing would be left of the bar", "pull less far")
    # Checked as if it had been typed.
    return type(billet).model_validate(changed.model_dump())
