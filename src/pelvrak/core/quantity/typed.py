"""What did someone mean who typed this into a length or angle field?"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, Literal

import pint
from lark import Lark, Token, Tree, UnexpectedInput

from pelvrak.core.errors import BadInput

FieldUnit = Literal["mm", "in", "°", "°/mm", "rpm", "mm/min", "mm²", "s", "min", "%", "kN", "× DC", ""]
MOST_CHARACTERS = 120
# How the units people type are called in the unit library.
_NAMES = {
    "mm": "mm",
    "cm": "cm",
    "m": "m",
    "µm": "um",
    "um": "um",
    "in": "inch",
    "inch": "inch",
    "inches": "inch",
    "ft": "foot",
    "foot": "foot",
    "feet": "foot",
    "thou": "thou",
    "mil": "thou",
    "″": "inch",
    '"': "inch",
    "′": "foot",
    "'": "foot",
    "°": "degree",
    "deg": "degree",
    "degree": "degree",
    "degrees": "degree",
    "rad": "radian",
}


class NotUnderstood(BadInput):
    """A typed text that means nothing; at: the first character that does not fit, counted from 0."""

    def __init__(self, what: str, mend: str, at: int) -> None:
        super().__init__("field.not_understood", "field", what, mend)
        self.at = at

    def told(self) -> dict[str, str]:
        return {**super().told(), "at": str(self.at)}


@dataclass(frozen=True)
class Understood:
    """A value in the field's own unit."""

    value: float
    unit: str


@cache
def _parser() -> Lark:
    grammar = Path(__file__).with_name("length.lark").read_text("utf-8")
    return Lark(grammar, parser="lalr", propagate_positions=True)


@cache
def _units() -> Any:
    return pint.UnitRegistry()


def understood(text: str, unit: FieldUnit = "mm") -> Understood:
    """The value of arithmetic such as "25 + 3/16 in", in `unit`; numbers without a unit are in `unit` too.

    Adding a number without a unit to a length takes it in the field's unit; multiplying and dividing
    take it as a plain number. Raises NotUnderstood with the character that does not fit.
    """
    if len(text) > MOST_CHARACTERS:
        raise NotUnderstood(f"more than {MOST_CHARACTERS} characters", "type a shorter sum", MOST_CHARACTERS)
    if not text.strip():
        raise NotUnderstood("nothing is typed", "type something like 12.5 or 3/16 in", 0)
    try:
        tree = _parser().parse(_mixed(text) if _kind_of(unit) == (1, 0) else text)
    except UnexpectedInput as wrong:
        at = (
            wrong.pos_in_stream if wrong.pos_in_stream is not None and wrong.pos_in_stream >= 0 else len(text)
        )
        if isinstance(getattr(wrong, "token", None), Token) and wrong.token.type == "$END":  # type: ignore[attr-defined]
            at = len(text)
        at = min(at, len(text))
        found = f"“{text[at]}” does not fit here" if at < len(text) else "the sum stops too early"
        raise NotUnderstood(found, "type something like 12.5, 25 + 3/16 in or (40 - 6)/2", at) from wrong
    amount = _worth(tree.children[0], unit)
    wanted = _kind_of(unit)
    if amount.plain:
        amount = Amount(amount.number, *wanted)
    elif (amount.lengths, amount.angles) == wanted:
        amount = Amount(amount.number / _factor(unit), *wanted)
    else:
        raise NotUnderstood(
            f"this is {_called(amount.lengths, amount.angles)}, not {_called(*wanted)}",
            f"give it in {unit}",
            0,
        )
    if not math.isfinite(amount.number):
        raise NotUnderstood("this is too large a number", "type a smaller one", 0)
    return Understood(amount.number, unit)


def _mixed(text: str) -> str:
    """1-1/2 as the trade writes one and a half: a hyphen right between a whole number and a fraction below
    one is no minus.
    """

    def joined(found: re.Match[str]) -> str:
        whole, top, bottom = found[1], found[2], found[3]
        return f"{whole} {top}/{bottom}" if int(top) < int(bottom) else found[0]

    return re.sub(r"(?<![\d.,/)])(\d+)-(\d+)/(\d+)(?![\d.,])", joined, text)


@dataclass(frozen=True)
class Amount:
    """A number of mm to the power `lengths` times degrees to the power `angles`; plain when both are 0."""

    number: float
    lengths: int = 0
    angles: int = 0

    @property
    def plain(self) -> bool:
        return self.lengths == 0 and self.angles == 0


def _kind_of(unit: str) -> tuple[int, int]:
    return (1, 0) if unit in ("mm", "in") else (0, 1) if unit == "°" else (0, 0)


def _called(lengths: int, angles: int) -> str:
    names = {
        (0, 0): "a plain number",
        (1, 0): "a length",
        (2, 0): "an area",
        (3, 0): "a volume",
        (0, 1): "an angle",
    }
    return names.get((lengths, angles), "a mix of units")


@cache
def _factor(unit: str) -> float:
    """Millimetres or degrees in one of a unit."""
    if unit not in _NAMES:
        return 1.0  # a field of plain numbers
    quantity = _units()(_NAMES[unit])
    return float(quantity.to("degree" if _angular(unit) else "mm").magnitude)


def _angular(unit: str) -> bool:
    return _NAMES[unit] in ("degree", "radian")


def _worth(node: Tree[Token] | Token, unit: str) -> Amount:
    """What a part of the sum comes to, in mm and degrees; unit: of the field, for numbers added without
    one.
    """
    assert isinstance(node, Tree)
    if node.data == "number":
        return Amount(_number(str(node.children[0]), _at(node)))
    if node.data == "with_unit":
        amount, token = _worth(node.children[0], unit), node.children[1]
        if not amount.plain:
            raise NotUnderstood("a unit stands here twice", "give one unit", _at(token))
        name = str(token).lower()
        return Amount(amount.number * _factor(name), *((0, 1) if _angular(name) else (1, 0)))
    if node.data == "negative":
        amount = _worth(node.children[0], unit)
        return Amount(-amount.number, amount.lengths, amount.angles)
    one, two = (_worth(child, unit) for child in node.children)
    if node.data in ("plus", "minus"):
        if one.plain != two.plain:  # the one without a unit is in the field's
            kind, factor = _kind_of(unit), _factor(unit)
            one = Amount(one.number * factor, *kind) if one.plain else one
            two = Amount(two.number * factor, *kind) if two.plain else two
        if (one.lengths, one.angles) != (two.lengths, two.angles):
            what = f"{_called(two.lengths, two.angles)} cannot be added to {_called(one.lengths, one.angles)}"
            raise NotUnderstood(what, "use one kind of unit", _at(node.children[1]))
        sign = 1 if node.data == "plus" else -1
        return Amount(one.number + sign * two.number, one.lengths, one.angles)
    if node.data == "times":
        return Amount(one.number * two.number, one.lengths + two.lengths, one.angles + two.angles)
    if two.number == 0:
        raise NotUnderstood("this divides by zero", "divide by something else", _at(node.children[1]))
    return Amount(one.number / two.number, one.lengths - two.lengths, one.angles - two.angles)


def _number(text: str, at: int) -> float:
    text = text.replace(",", ".")
    if "/" not in text:
        return float(text)
    top, bottom = text.split("/")
    *before, top = top.split()
    if float(bottom) == 0:
        raise NotUnderstood("this divides by zero", "divide by something else", at)
    return (float(before[0]) if before else 0.0) + float(top) / float(bottom)


def _at(node: Tree[Token] | Token) -> int:
    if isinstance(node, Token):
        return node.start_pos or 0
    return int(getattr(node.meta, "start_pos", 0))
