"""What is in a program: its lines, what it uses and how far it goes, and what of it cannot be read?"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.machine.machine import Machine
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Alarm, Held
from pelvrak.core.program.words import Line, Lines, Unreadable

# More faults than this say nothing new.
MOST_FAULTS = 200


class Fault(Frozen):
    """A line that cannot be read or run: its number and column from 1 (0: the whole line), what is wrong and
    how to mend it.
    """

    line: int
    column: int
    what: str
    mend: str


class ReadProgram(Frozen):
    """What is in a program. lines: of the file; blocks: that say something; tools, registers: used, in order;
    low, high: how far it is sent in its own registers, mm; moves: that it makes; faults: what of it cannot be
    read, or, where all can, the first line that cannot be run.
    """

    lines: int = 0
    blocks: int = 0
    tools: tuple[int, ...] = ()
    registers: tuple[str, ...] = ()
    low: Vector | None = None
    high: Vector | None = None
    moves: int = 0
    faults: tuple[Fault, ...] = ()


def read_program(text: Iterable[str], machine: Machine | None = None) -> ReadProgram:
    """What is in the lines of a program. machine: that turns planes."""
    read: list[Line] = []
    faults: list[Fault] = []
    whole = Lines("\n".join(text))
    for at in range(len(whole)):
        try:
            line = whole[at]
        except Unreadable as bad:
            if len(faults) < MOST_FAULTS:
                faults.append(Fault(line=bad.line, column=bad.column, what=bad.what, mend=bad.mend))
            continue
        if line != Line(at + 1):
            read.append(line)
    told = ReadProgram(lines=len(whole), blocks=len(read), faults=tuple(faults))
    return told if faults else _run(read, told, machine)


def _run(read: list[Line], told: ReadProgram, machine: Machine | None) -> ReadProgram:
    """With what it does where every register stands at 0 and no tool has a length."""
    codes = {(letter, value) for line in read for letter, value in line.words if isinstance(value, float)}
    registers = {f"G{code:g}" for letter, code in codes if letter == "G" and 54 <= code < 60}
    registers |= {f"G54.1 P{value:g}" for letter, value in codes if letter == "P"}
    lengths = {round(value): 0.0 for letter, value in codes if letter in "HT"}
    control = Control(
        Held({name: {} for name in registers or {"G54"}}, lengths), unknown=True, machine=machine
    )
    faults: tuple[Fault, ...] = ()
    try:
        control.run_lines(read)
    except Alarm as bad:
        faults = (Fault(line=bad.line, column=0, what=bad.what, mend=bad.mend),)
    moves = [one for one in control.events if one.kind not in ("dwell", "stop")]
    ends = [one.end[:3] for one in moves if one.kind != "rapid"]
    low = high = None
    if ends:
        low, high = as_vector(np.min(ends, axis=0)), as_vector(np.max(ends, axis=0))
    return told.model_copy(
        update={
            "tools": tuple(dict.fromkeys(one.tool for one in control.events if one.tool)),
            "registers": tuple(dict.fromkeys(one.register for one in moves if one.register)),
            "low": low,
            "high": high,
            "moves": len(moves),
            "faults": faults,
        }
    )
