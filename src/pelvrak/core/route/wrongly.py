"""What do the cuts of a program come to when the machine is set up wrongly, or run otherwise: the work not
where its register says, a tool not as long as its H, feed or spindle turned, begun somewhere within?
"""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import numpy as np
from pydantic import Field

from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.step import Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.route.pieces import FIELD, PROOF
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.proving import (
    EQUAL_MM,
    ProofGiven,
    Seen,
    compared,
    lines_in,
    proof_given,
    proof_of,
    run_and_cut,
)
from pelvrak.core.route.report import Proof, SetupReport
from pelvrak.core.route.running import control_for, work_from_table

Off = Annotated[float, Field(ge=-50, le=50, allow_inf_nan=False)]


class ShortTool(Frozen):
    """A tool whose length in the table is wrong. number: its H; by: how much longer the tool is, mm."""

    number: Annotated[int, Field(ge=1, le=99_999)]
    by: Off


class Wrongly(Frozen):
    """How the machine is set up wrongly, or run otherwise. left, back: how far the work lies to the left and
    to the back of where its register says, mm; turned: about zero, seen from above, degrees; short: lengths
    in the table that are too short; feed, spindle: how they are turned, % of what is programmed; begins: the
    line that is searched for and begun at, 0: the first; block_delete: lines with / are left out.
    """

    left: Off = 0.0
    back: Off = 0.0
    turned: Annotated[float, Field(ge=-10, le=10, allow_inf_nan=False)] = 0.0
    short: Annotated[tuple[ShortTool, ...], Field(max_length=60)] = ()
    feed: Annotated[int, Field(ge=1, le=200)] = 100
    spindle: Annotated[int, Field(ge=1, le=200)] = 100
    begins: Annotated[int, Field(ge=0, le=100_000_000)] = 0
    block_delete: bool = True


def _cut_so(given: ProofGiven, reads: Reads) -> Pieces:
    """The stock that is left, and how far it is from the one wanted."""
    assert given.wanted is not None
    told, after, _ = run_and_cut(given, reads, control_for(given.text), Seen())
    told |= compared(after, reads.read(given.wanted, FIELD), EQUAL_MM)
    return {FIELD: after, PROOF: told}


SET_WRONGLY = Step("set up wrongly", 5, ProofGiven, _cut_so)


def set_up_wrongly(plan: Plan, told: SetupReport, engine: Engine, how: Wrongly) -> Proof:
    """What a setup's program leaves then, against what was planned; its key is that of the stock. Raises
    BadInput, and the control's alarms.
    """
    given = proof_given(plan, told, engine)
    if given.wanted is None:
        raise BadInput(
            "program.nothing_planned",
            told.name,
            "nothing is planned that it could be held against",
            "plan it",
        )
    # Left is against the machine's X, as its operator sees it.
    lies = rigid(rotation_about_z(how.turned), np.array([-how.left, how.back, 0.0]))
    short = tuple((one.number, one.by) for one in how.short)
    known = {number for number, _ in given.text.tools}
    stray = next((number for number, _ in short if number not in known), None)
    if stray is not None:
        raise BadInput(
            "program.no_length", f"H{stray}", f"{told.name} has no such tool", "choose one of its program's"
        )
    if how.begins > lines_in(given):
        raise BadInput(
            "program.no_line",
            f"line {how.begins}",
            f"the program of {told.name} has {lines_in(given)} lines",
            "begin at one of them",
        )
    text = replace(
        given.text,
        work_from_table=work_from_table(told, lies),
        short=short,
        feed_share=how.feed / 100,
        speed_share=how.spindle / 100,
        begins=how.begins,
        deletes=how.block_delete,
    )
    made = engine.run(SET_WRONGLY, replace(given, text=text), f"{told.name}: set up wrongly")
    return proof_of(told, made)
