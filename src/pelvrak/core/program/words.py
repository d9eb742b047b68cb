"""What does a line of a program say? Words, comments, settings of variables, conditions and jumps.

The form of a line is that of RS274/NGC (T. R. Kramer, F. M. Proctor, E. Messina, The NIST RS274NGC
Interpreter - Version 3, NIST IR 6556, 2000, section 3.3, from memory); conditions, loops and jumps as several
makers of controls write them alike.
"""

from __future__ import annotations

import math
import operator
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache
from pathlib import Path
from typing import NamedTuple, overload

import numpy as np
from lark import Lark, Token, Tree, UnexpectedInput

from pelvrak.core.errors import BadInput
from pelvrak.core.program.scan_kernel import NOTHING, OTHER, PLAIN, scan

# A line may not be longer than this: NIST IR 6556 3.3.1 allows 256 characters, today's controls more.
LONGEST_LINE = 1000
# How far a number may be off a whole one that is meant: NIST IR 6556 3.3.2.1.
WHOLE = 1e-4
# Lines whose numbers are made ready at once.
AT_ONCE = 4096
# A value that is worked out where the line is run.
Worked = Tree[Token]
Value = float | Worked

_NAMED = re.compile(r"^:(?=\s*\d)")
_BEFORE_STATEMENT = re.compile(r"\s*N\s*(\d+)\s*(?=IF|GOTO|WHILE|DO\d|END\d)", re.ASCII)
_PLAIN = re.compile(r"\s*(?:/([1-9]?)\s*)?((?:[A-Z]\s*[+-]?(?:\d+\.?\d*|\.\d+)\s*)*)", re.ASCII)
_WORD = re.compile(r"([A-Z])\s*([+-]?(?:\d+\.?\d*|\.\d+))", re.ASCII)
_COMMENT = re.compile(r"\(([^()]*)\)|;(.*)$")


class Line(NamedTuple):
    """One line as it is written. number: from 1; skip: its block delete level, 0 where it is always run;
    words: letter and value, in order; settings: of variables, index and value; statement: a condition, loop
    or jump; comments: what stands in brackets.
    """

    number: int
    words: tuple[tuple[str, Value], ...] = ()
    comments: tuple[str, ...] = ()
    skip: int = 0
    settings: tuple[tuple[Value | str, Value], ...] = ()
    statement: Worked | None = None


@cache
def _grammar() -> Lark:
    text = Path(__file__).with_name("grammar.lark").read_text("utf-8")
    return Lark(text, start="line", parser="lalr", maybe_placeholders=False)


def read_line(text: str, number: int) -> Line:
    """A line of a program, without its end. number: from 1. Raises BadInput, with the column and what could
    have stood there.
    """
    if len(text) > LONGEST_LINE:
        raise Unreadable(
            number, LONGEST_LINE, f"the line is longer than {LONGEST_LINE} characters", "break it up"
        )
    plain = _plain(text, number, ())
    if plain is not None:
        return plain
    comments: list[str] = []

    def take(found: re.Match[str]) -> str:
        comments.append((found[1] if found[1] is not None else found[2]).strip())
        return " " * len(found[0])

    bare = _COMMENT.sub(take, text).upper()
    for bracket, what in (("(", "a comment is not closed"), (")", "a comment is closed that was not begun")):
        if bracket in bare:
            raise Unreadable(
                number, bare.index(bracket) + 1, what, "write it between ( and ), none within another"
            )
    # A program's number, with several makers of controls, where ISO 6983-1 has the alignment function.
    bare = _NAMED.sub("O", bare)
    return _plain(bare, number, tuple(comments)) or _parsed(bare, number, tuple(comments))


def _plain(text: str, number: int, comments: tuple[str, ...]) -> Line | None:
    """A line of letters and numbers alone, as nearly all are; None for any other."""
    found = _PLAIN.fullmatch(text)
    if found is None:
        return None
    words = tuple([(letter, float(value)) for letter, value in _WORD.findall(found[2])])
    return Line(number, words, comments, 0 if found[1] is None else int(found[1] or 1))


def _parsed(text: str, number: int, comments: tuple[str, ...]) -> Line:
    words: list[tuple[str, Value]] = []
    named = _BEFORE_STATEMENT.match(text)
    if named is not None:
        # A statement with a number of its own, which jumps lead to.
        words.append(("N", float(named[1])))
        text = " " * named.end() + text[named.end() :]
    try:
        tree = _grammar().parse(text)
    except UnexpectedInput as wrong:
        token = getattr(wrong, "token", None)
        ends = wrong.column is None or wrong.column < 1 or (token is not None and token.type == "$END")
        column = len(text.rstrip()) + 1 if ends else wrong.column
        raise Unreadable(number, column, _what(text, column), f"expected {_expected(wrong)}") from None
    except RecursionError:
        raise Unreadable(
            number, 1, "brackets lie too deep in one another", "use a variable in between"
        ) from None
    settings: list[tuple[Value | str, Value]] = []
    skip, statement = 0, None
    for child in tree.children:
        assert isinstance(child, Tree)
        if child.data == "skip":
            skip = int(child.children[0]) if child.children else 1  # type: ignore[arg-type]
        elif child.data == "word":
            words.append((str(child.children[0]), _value(child.children[1])))
        elif child.data == "setting":
            settings.append((_value(child.children[0]), _value(child.children[1])))
        else:
            statement = child
    return Line(number, tuple(words), comments, skip, tuple(settings), statement)


def _value(tree: Token | Worked) -> Value:
    """A number as such."""
    assert isinstance(tree, Tree)
    return _number(tree) if tree.data == "number" else tree


def _number(tree: Worked) -> float:
    return float(re.sub(r"\s", "", str(tree.children[0])))


# What people call what the grammar does.
_CALLED = {
    "MINUS": "-",
    "ATAN": "ATAN",
    "LETTER": "a letter",
    "SIGNED": "a number",
    "INT": "a whole number",
    "NAME": "a <name>",
    "HASH": "#",
    "LSQB": "[",
    "RSQB": "]",
    "EQUAL": "=",
    "COMPARE": "EQ, NE, GT, GE, LT or LE",
    "ADD": "+, -, OR, XOR or AND",
    "MULTIPLY": "*, / or MOD",
    "POWER": "**",
    "FUNCTION": "a function",
    "LEVEL": "a digit",
    "SLASH": "/",
    "$END": "the end of the line",
}


def _expected(wrong: UnexpectedInput) -> str:
    names = (
        getattr(wrong, "accepts", None) or getattr(wrong, "expected", None) or getattr(wrong, "allowed", ())
    )
    told = sorted({_CALLED.get(str(name), str(name).lower()) for name in names or ()})
    return " or ".join(told[:6]) if told else "something else"


def _what(text: str, column: int) -> str:
    at = text[column - 1 : column + 11].strip()
    return f"this cannot stand here: {at}" if at else "the line ends too soon"


class Unreadable(BadInput):
    """A line that cannot be read, at a column from 1."""

    def __init__(self, line: int, column: int, what: str, mend: str) -> None:
        super().__init__("program.unreadable", f"line {line}, column {column}", what, mend)
        self.line, self.column = line, column


# What makes a program go back or elsewhere.
_TURNS = re.compile(r"GOTO|WHILE|\bDO\s*\d|M\s*9[89]|\bCALL\b", re.IGNORECASE | re.ASCII)


class Lines(Sequence[Line]):
    """The lines of a program, each read as it is asked for: a long one is never whole in memory but as
    its text and the words in it.
    """

    def __init__(self, text: str) -> None:
        self.text = text.split("\n")
        data = np.frombuffer(text.encode("ascii", "replace"), np.uint8)
        # A word is a letter and a digit at least.
        room = len(data) // 2 + 1
        self.starts = np.empty(len(self.text) + 1, np.int64)
        self.kinds = np.empty(len(self.text), np.uint8)
        letters, values = np.empty(room, np.uint8), np.empty(room)
        count = scan(data, LONGEST_LINE, self.starts, self.kinds, letters, values)
        self.letters, self.values = letters[:count].tobytes().decode(), values[:count].copy()
        self._block, self._from = -1, 0
        self._held, self._starts = list[float](), list[int]()

    def __len__(self) -> int:
        return len(self.text)

    @overload
    def __getitem__(self, at: int) -> Line: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Line]: ...
    def __getitem__(self, at: int | slice) -> Line | Sequence[Line]:
        """A line. Raises BadInput where it cannot be read."""
        if isinstance(at, slice):
            return [self[i] for i in range(*at.indices(len(self.text)))]
        kind = self.kinds[at]
        if kind == OTHER:
            return read_line(self.text[at].rstrip("\r"), at + 1)
        if kind == NOTHING:
            return Line(at + 1)
        block, within = divmod(at, AT_ONCE)
        if block != self._block:
            # Numbers as Python has them, so many lines at once.
            self._block = block
            self._starts = self.starts[block * AT_ONCE : (block + 1) * AT_ONCE + 1].tolist()
            self._from = self._starts[0]
            self._held = self.values[self._from : self._starts[-1]].tolist()
        first, last = self._starts[within], self._starts[within + 1]
        return Line(
            at + 1,
            tuple(
                zip(self.letters[first:last], self._held[first - self._from : last - self._from], strict=True)
            ),
        )

    def said(self) -> Iterator[Line]:
        """Those that say something. Raises BadInput at the first that cannot be read."""
        for begin in range(0, len(self.text), AT_ONCE):
            kinds = self.kinds[begin : begin + AT_ONCE].tolist()
            starts = self.starts[begin : begin + AT_ONCE + 1].tolist()
            words = list(
                zip(
                    self.letters[starts[0] : starts[-1]],
                    self.values[starts[0] : starts[-1]].tolist(),
                    strict=True,
                )
            )
            first = starts[0]
            for at, kind in enumerate(kinds):
                if kind == PLAIN:
                    yield Line(begin + at + 1, tuple(words[starts[at] - first : starts[at + 1] - first]))
                elif kind == OTHER:
                    yield self[begin + at]


def lines_of(text: str) -> Sequence[Line]:
    """A program's lines, read as they come where it only goes on. Raises BadInput where it goes back or
    calls, and one of them cannot be read.
    """
    lines = Lines(text)
    return lines if _TURNS.search(text) is None else list(lines.said())


def said(text: Iterable[str]) -> Iterator[tuple[int, str]]:
    """The lines of a program that say something, each with its number from 1."""
    for number, line in enumerate(text, start=1):
        if line.strip() not in ("%", ""):
            yield number, line.rstrip("\r\n")


# Functions of one value, angles in degrees: NIST IR 6556 3.3.2.4, table 3.
_FUNCTIONS: dict[str, Callable[[float], float]] = {
    "ABS": abs,
    "ACOS": lambda x: math.degrees(math.acos(x)),
    "ASIN": lambda x: math.degrees(math.asin(x)),
    "COS": lambda x: math.cos(math.radians(x)),
    "EXP": math.exp,
    "FIX": math.floor,
    "FUP": math.ceil,
    "LN": math.log,
    "ROUND": lambda x: math.floor(x + 0.5),
    "SIN": lambda x: math.sin(math.radians(x)),
    "SQRT": math.sqrt,
    "TAN": lambda x: math.tan(math.radians(x)),
}
# NIST IR 6556 3.3.2.3; logic takes what is not 0 for true. Comparisons: several makers of controls.
_CHAINED: dict[str, Callable[[float, float], float]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "**": operator.pow,
    "MOD": lambda a, b: a % abs(b),
    "AND": lambda a, b: float(a != 0 and b != 0),
    "OR": lambda a, b: float(a != 0 or b != 0),
    "XOR": lambda a, b: float((a != 0) != (b != 0)),
    "EQ": lambda a, b: float(a == b),
    "NE": lambda a, b: float(a != b),
    "GT": lambda a, b: float(a > b),
    "GE": lambda a, b: float(a >= b),
    "LT": lambda a, b: float(a < b),
    "LE": lambda a, b: float(a <= b),
}


def worked_out(value: Value, variable: Callable[[int | str], float]) -> float:
    """What a value comes to. variable: what a numbered or named one holds; may raise BadInput. Raises
    ValueError, with what is wrong, where it comes to no number.
    """
    if isinstance(value, float):
        return value
    try:
        found = _worked_out(value, variable)
    except (ArithmeticError, ValueError) as wrong:
        raise ValueError(f"this comes to no number: {wrong}") from None
    if isinstance(found, complex) or not math.isfinite(found):
        raise ValueError("this comes to no number")
    return found


def index_of(value: Value, variable: Callable[[int | str], float]) -> int | str:
    """The number or name of a variable. Raises ValueError where it is no whole number."""
    if isinstance(value, Tree) and value.data == "named":
        return str(value.children[0]).strip("<>").replace(" ", "").lower()
    number = worked_out(value, variable)
    if abs(number - round(number)) > WHOLE:
        raise ValueError(f"a variable has a whole number, not {number:g}")
    return round(number)


def _worked_out(tree: Worked, variable: Callable[[int | str], float]) -> float:
    told, children = tree.data, tree.children

    def each(at: int) -> float:
        child = children[at]
        assert isinstance(child, Tree)
        return _worked_out(child, variable)

    if told == "number":
        return _number(tree)
    if told in ("variable", "minus_variable"):
        (index,) = children
        assert isinstance(index, Tree)
        held = variable(index_of(index, variable))
        return held if told == "variable" else -held
    if told == "negative":
        return -each(0)
    if told == "arc_tangent":
        return math.degrees(math.atan2(each(1), each(2)))
    if told == "call":
        return float(_FUNCTIONS[str(children[0]).upper()](each(1)))
    assert len(children) == 3, told
    return float(_CHAINED[str(children[1]).upper()](each(0), each(2)))
