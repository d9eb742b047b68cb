"""What is a setup's program, and where is it kept?"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.step import Kind
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.program.blocks import Blocks
from pelvrak.core.program.compose import Head, Planned, composed
from pelvrak.core.program.dialects import Dialect, dialect_of
from pelvrak.core.program.writing import Program
from pelvrak.core.route.pieces import LINES, PROGRAM
from pelvrak.core.route.plan import numbers_taken, program_numbers
from pelvrak.core.route.registers import held_by
from pelvrak.core.route.run import Run
from pelvrak.core.route.setting import setter_of
from pelvrak.core.route.turning import Turning


@dataclass(frozen=True)
class ProgramGiven:
    """A program, and the lines of each operation."""

    text: str
    lines: dict[str, list[int]]


PROGRAM_TEXT = Kind("program", 2, ProgramGiven)


def text_kept(engine: Engine, text: str, lines: dict[str, list[int]]) -> str:
    """The key a program is kept under. lines: of each operation's moves, from 0."""
    given = ProgramGiven(text, lines)
    return engine.keep(PROGRAM_TEXT, given, lambda: {PROGRAM: text, LINES: lines}).key


def program_of(run: Run, turning: Turning, planned: list[Planned], about: str) -> tuple[str, Program]:
    """The program of a setup and the key it is kept under. about: what is clamped, for its head."""
    setup = turning.setup
    used = dict.fromkeys([one.where.register for one in planned] or [setup.offset_register])
    turned_from = (
        setup.offset_register
        if any(r != setup.offset_register for r in used) and turning.machine.rotary
        else ""
    )
    if turned_from:
        used = dict.fromkeys([turned_from, *used])
    values = {register: held_by(turning, register) for register in used}
    written_in = dialect_of(turning.machine.control.dialect, run.plan.dialects)
    number = program_numbers(run.plan)[setup.name]
    said = composed(
        setup.name,
        setup.title,
        f"{run.plan.name} REV {run.plan.part.revision}",
        {
            register: as_vector(np.array([one.value for one in told]))
            for register, told in values.items()
            if told is not None
        },
        about,
        planned,
        replace(head_of(turning, number, numbers_taken(run.plan) - {number}), found_in=turned_from),
    )
    run.done += 1
    return written(run.engine, said, written_in)


def head_of(turning: Turning, number: int, others: Iterable[int]) -> Head:
    """What stands round the operations of a program on a setup's machine. number: of it; others: of the
    plan's other programs.
    """
    machine, home = turning.machine, turning.turned.get("")
    return Head(
        number,
        machine.control.program_digits,
        machine.control.last_block,
        home=()
        if home is None
        else tuple((a.name, home.angles[a.name], a.clamp, a.unclamp) for a in machine.rotary),
        taken=tuple(sorted(others)),
        setter=setter_of(turning),
        features=turning.setup.features_called,
    )


def written(engine: Engine, said: Blocks, dialect: Dialect) -> tuple[str, Program]:
    """Blocks written in a dialect, and the key the program is kept under."""
    program = dialect.writer(dialect).write(said)
    return text_kept(engine, program.text, program.lines), program


def beyond(run: Run, turning: Turning, program: Program) -> tuple[Finding, ...]:
    """What a program says that its dialect cannot."""
    dialect = dialect_of(turning.machine.control.dialect, run.plan.dialects)
    setup, out = turning.setup.name, list[Finding]()
    if turning.setup.features_called and not dialect.calls_features:
        said = (
            f"The dialect “{dialect.name}” has no subprograms with a shift: {setup} is written out at every"
        )
        out.append(_of_dialect("program.no_shift", "warning", setup, f"{said} feature."))
    for what in program.beyond:
        said = f"{turning.machine.name} is programmed in the dialect “{dialect.name}”: {what}."
        said += " Plan it otherwise, or name the dialect its control is programmed in."
        out.append(_of_dialect("program.dialect", "error", setup, said))
    return tuple(out)


def _of_dialect(code: str, severity: Severity, setup: str, sentence: str) -> Finding:
    return Finding(code=code, severity=severity, setup=setup, stage="prove", sentence=sentence)
