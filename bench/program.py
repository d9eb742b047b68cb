"""How fast are programs read and proved?

Reading: lines a second against a general-purpose parser of the registry (pygcode) on the same lines
of the demo. Proving: its longest program run and cut again, as a share of simulating its setup.
Growth: a program of ten times as many short moves against one, by time a line. Ratios within one run.
Run: PYTHONPATH=. python bench/program.py [--json]
"""

from __future__ import annotations

import argparse
from pathlib import Path

import pygcode
from measuring import best, tell

from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.program.control import Control, Held
from pelvrak.core.program.words import read_line
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import PROGRAM
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.route.proving import proved

DEMO = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing"
HELD = Held({"G54": {}}, {1: 100.0})


def short_moves(count: int) -> str:
    """A program of moves of 0.2 mm."""
    head = "G21 G90 G54 T1 M6\nG0 X0 Y0\nG43 H1 Z5\nG1 Z-1 F500\n"
    return head + "".join(f"X{0.2 * (i % 500):.3f} Y{0.2 * (i // 500):.3f}\n" for i in range(count)) + "M30\n"


def measured() -> dict[str, float]:
    """The ratios, and the seconds they are of."""
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    data, store = (DEMO / plan.part.file).read_bytes(), MemoryStore()
    report = evaluate(plan, data, store)
    texts = {one.name: Result(one.program_key or "", Engine(store)).value(PROGRAM) for one in report.setups}
    longest = max(report.setups, key=lambda one: texts[one.name].count("\n"))
    lines = [line for line in texts[longest.name].splitlines() if line.strip("%")]
    ours = best(lambda: [read_line(line, 1) for line in lines])
    theirs = best(lambda: [pygcode.Line(line) for line in lines])

    def again() -> None:
        only = MemoryStore()
        only.named, only.contents = dict(store.named), dict(store.contents)
        only.keys = store.keys - {one.key for one in longest.operations if one.key}
        evaluate(plan, data, only)

    simulating = best(again, 3) - best(lambda: evaluate(plan, data, store), 3)

    def proving_again() -> None:
        only = MemoryStore()
        only.named, only.contents = dict(store.named), dict(store.contents)
        only.keys = store.keys - {longest.proof.key if longest.proof else None}
        proved(plan, longest, only)

    proving = best(proving_again)
    few, many = (best(lambda n=n: Control(HELD).run(short_moves(n)), 1) / n for n in (20_000, 200_000))
    return {
        "lines_a_second": len(lines) / ours,
        "reading_over_parser": theirs / ours,
        "proving_of_simulating": proving / simulating,
        "line_of_many_over_few": many / few,
        "proving_s": proving,
        "simulating_s": simulating,
        "lines": float(len(lines)),
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    as_json = parser.parse_args().json
    tell(measured(), as_json)
