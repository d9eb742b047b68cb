"""Where in a program is the control, and where do its jumps lead?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from lark import Token, Tree

from pelvrak.core.program.words import Line


@dataclass
class Call:
    """A program under way: its lines, where it is, how often it is still to run. told_at: the line that
    called it, where it is in another file; macro: it has variables of its own; begins: its first line.
    """

    lines: Sequence[Line]
    at: int = 0
    left: int = 1
    told_at: int | None = None
    macro: bool = False
    begins: int = 0

    def number(self, line: Line) -> int:
        """A line's number as it is told: of the file that is run."""
        return line.number if self.told_at is None else self.told_at

    def jump(self, number: float) -> None:
        """To the line of a number N. Raises ValueError where there is none."""
        for i, line in enumerate(self.lines):
            if any(letter == "N" and value == number for letter, value in line.words):
                self.at = i
                return
        raise ValueError(f"there is no line N{number:g} to go to")

    def past(self, what: str, name: str) -> None:
        """Past the end of a loop. Raises ValueError where it has none."""
        for i in range(self.at, len(self.lines)):
            told = self.lines[i].statement
            if told is not None and told.data == what and _name(told) == name:
                self.at = i + 1
                return
        raise ValueError(f"DO{name} has no END{name}" if what == "end" else f"O{name} SUB has no ENDSUB")

    def back(self, name: str) -> None:
        """Back to where a loop begins. Raises ValueError where it does not."""
        for i in range(self.at - 2, -1, -1):
            told = self.lines[i].statement
            if told is not None and told.data in ("while_do", "do") and str(told.children[-1]) == name:
                self.at = i
                return
        raise ValueError(f"END{name} has no DO{name}")


def _name(statement: Tree[Token]) -> str:
    """The number by which loops and subroutines are told from each other."""
    numbers = [str(one) for one in statement.children if isinstance(one, Token) and one.type == "INT"]
    return numbers[-1] if numbers else ""


def within(by: Call, name: str) -> Call:
    """A subroutine of the same program, between O… SUB and O… ENDSUB. by: what calls it. Raises ValueError
    where there is none.
    """
    for i, line in enumerate(by.lines):
        told = line.statement
        if told is not None and told.data == "sub" and _name(told) == name:
            return Call(by.lines, i + 1, told_at=by.told_at, begins=i + 1)
    raise ValueError(f"there is no subroutine O{name} to be called")


# Which variable a letter of a call by G65 is put into: alike with several makers of controls, from memory.
ARGUMENTS = dict(
    zip("ABCIJKDEFHMQRSTUVWXYZ", (1, 2, 3, 4, 5, 6, 7, 8, 9, 11, 13, *range(17, 27)), strict=True)
)


def called(
    words: dict[str, float],
    by: Call,
    whole: Sequence[Line],
    line: int,
    beside: Sequence[Sequence[Line]],
    macro: bool,
) -> Call:
    """The program that P of M98 or G65 calls, L times: of the file that is run, else of those beside it. by:
    what calls it. Raises ValueError where there is none.
    """
    number = words.get("P", 0)
    times = max(1, round(words.get("L", 1)))
    for lines, told_at in ((whole, by.told_at), *((other, by.told_at or line) for other in beside)):
        found = named(lines, number)
        if found is not None:
            return Call(found, left=times, told_at=told_at, macro=macro)
    raise ValueError(f"there is no program O{number:g} to be called")


def named(whole: Sequence[Line], number: float) -> Sequence[Line] | None:
    """The lines of a program of a number, as far as the next begins; None where there is none."""
    starts = [i for i, line in enumerate(whole) if any(letter == "O" for letter, _ in line.words)]
    for place, start in enumerate(starts):
        if ("O", number) in whole[start].words:
            end = starts[place + 1] if place + 1 < len(starts) else len(whole)
            return whole[start + 1 : end]
    return None
