"""How far apart are the stocks that two texts of one setup leave?"""

from __future__ import annotations

from dataclasses import replace

from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.route.pieces import FIELD, PROGRAM
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.proving import proof_given, proof_of
from pelvrak.core.route.report import Proof, SetupReport
from pelvrak.core.route.wrongly import SET_WRONGLY


def against(plan: Plan, told: SetupReport, engine: Engine, text: str) -> Proof:
    """What another text leaves, run with the same registers and tools, against what the setup's own program
    leaves; its key is that of the other's stock. Raises BadInput, and the control's alarms.
    """
    mine = proof_given(plan, told, engine)
    own = replace(mine, wanted=mine.wanted or mine.stock)
    left = engine.run(SET_WRONGLY, own, f"{told.name}: its program").content(FIELD)
    other = replace(proof_given(plan, told, engine, text), wanted=left)
    return proof_of(told, engine.run(SET_WRONGLY, other, f"{told.name}: another text"))


def written_text(told: SetupReport, engine: Engine) -> str | None:
    """The program that is written from a setup's operations, where it has any."""
    key = told.written_key or told.program_key
    return None if key is None else Result(key, engine).value(PROGRAM)
