"""Where in a program is the control, and where do its jumps lead?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pelvrak.core.program.words import Line


@dataclass
class Call:
    """A program under way: its lines, where it is, how often it is still to run."""

    lines: Sequence[Line]
    at: int = 0
    left: int = 1

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
            if told is not None and told.data == what and str(told.children[-1]) == name:
                self.at = i + 1
                return
        raise ValueError(f"DO{name} has no END{name}")

    def back(self, name: str) -> None:
        """Back to where a loop begins. Raises ValueError where it does not."""
        for i in range(self.at - 2, -1, -1):
            told = self.lines[i].statement
            if told is not None and told.data in ("while_do", "do") and str(told.children[-1]) == name:
                self.at = i
                return
        raise ValueError(f"END{name} has no DO{name}")


def named(whole: Sequence[Line], number: float) -> Sequence[Line]:
    """The lines of a program of a number, as far as the next begins."""
    starts = [i for i, line in enumerate(whole) if any(letter == "O" for letter, _ in line.words)]
    for place, start in enumerate(starts):
        if ("O", number) in whole[start].words:
            end = starts[place + 1] if place + 1 < len(starts) else len(whole)
            return whole[start + 1 : end]
    raise ValueError(f"there is no program O{number:g} to be called")
