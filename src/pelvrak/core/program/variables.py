"""Which variables does a control keep itself? Where the probe touched, and what its registers hold: NIST IR
6556, table 2; registers beyond the six, and the program's own alarm, alike with several makers of controls,
from memory.
"""

from __future__ import annotations

import re
from collections.abc import Callable

# Where the probe touched, X, and on to C: as the program counts.
TOUCHED = 5061
# Of G54, X; each register has its twenty.
STANDARD, APART = 5221, 20
# Of G54.1 P1, X.
EXTENDED, MOST_EXTENDED = 7001, 300
# Variables a macro has for itself: #1 to this one.
MOST_OWN = 33
# What these hold outlasts a program, and counts as 0 where nothing was ever put into them: alike with several
# makers of controls, from memory.
LASTING = range(500, 1000)
# Putting a number into it stops the program.
ALARM = 3000


def variable_of(register: str, axis: int) -> int:
    """The variable that holds an axis of a register. axis: 0 for X, to 5 for C."""
    level, number = level_of(register)
    first = STANDARD if level == 2 else EXTENDED
    return first + APART * (number - 1) + axis


def level_of(register: str) -> tuple[int, int]:
    """L and P by which G10 sets a register."""
    extended = re.fullmatch(r"G54\.1 P(\d+)", register)
    return (20, int(extended[1])) if extended else (2, int(register[1:]) - 53)


def register_at(variable: int) -> tuple[str, int] | None:
    """The register a variable belongs to, and which of its axes; None for another variable."""
    for first, most, name in ((STANDARD, 6, "G{}"), (EXTENDED, MOST_EXTENDED, "G54.1 P{}")):
        number, axis = divmod(variable - first, APART)
        if 0 <= number < most and axis < 6:
            return name.format(number + (54 if first == STANDARD else 1)), axis
    return None


def named_by(level: float | None, number: int) -> str | None:
    """The register that G10 sets with L and P; None where it sets none."""
    if level == 2 and 1 <= number <= 6:
        return f"G{53 + number}"
    return f"G54.1 P{number}" if level == 20 and 1 <= number <= MOST_EXTENDED else None


class Variables:
    """A control's variables by number or name. registers: those it keeps, mm, which some variables are; unit:
    mm of one length as the program counts.
    """

    def __init__(self, registers: dict[str, dict[str, float]], unit: Callable[[], float]) -> None:
        self._registers, self._unit = registers, unit
        self._kept: dict[int | str, float] = {}
        self._own: list[dict[int | str, float]] = []

    def value(self, index: int | str) -> float:
        """What a variable holds. Raises ValueError where nothing was put into it."""
        place = register_at(index) if isinstance(index, int) else None
        if place is None:
            kept = self._of(index)
            if index not in kept and isinstance(index, int) and index in LASTING:
                return 0.0
            if index not in kept:
                raise ValueError(f"variable #{index} is used before anything is put into it")
            return kept[index]
        name, axis = place
        if name not in self._registers:
            raise ValueError(f"variable #{index} is of {name}, which has not been set")
        held = self._registers[name].get("XYZABC"[axis], 0.0)
        return held / self._unit() if axis < 3 else held

    def put(self, index: int | str, value: float) -> None:
        """A value into a variable; into one of a register sets it. Raises ValueError for the alarm."""
        if index == ALARM:
            raise ValueError(f"the program stops itself with its alarm {value:g}")
        place = register_at(index) if isinstance(index, int) else None
        if place is None:
            self._of(index)[index] = value
            return
        name, axis = place
        self._registers.setdefault(name, {})["XYZABC"[axis]] = value * (self._unit() if axis < 3 else 1.0)

    def _of(self, index: int | str) -> dict[int | str, float]:
        """Where a variable is kept: those of a macro's own with its call."""
        mine = isinstance(index, int) and 1 <= index <= MOST_OWN and bool(self._own)
        return self._own[-1] if mine else self._kept

    def enter(self, arguments: dict[int | str, float]) -> None:
        """A macro is called, with what is put into its own variables."""
        self._own.append(arguments)

    def leave(self) -> None:
        """It has ended."""
        self._own.pop()

    def touched(self, at: tuple[float, ...]) -> None:
        """Where the probe touched: X to C as the program counts, mm and degrees."""
        for axis, value in enumerate(at):
            self._kept[TOUCHED + axis] = value / self._unit() if axis < 3 else value
