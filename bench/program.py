"""How fast are programs read and proved?

Reading: lines a second against a general-purpose parser of the registry (pygcode) on the same lines
of the demo. Proving: its longest program run and cut again, as a
share of simulating its setup. Growth: a block cut by a million moves of 0.2 mm against a hundred thousand, by
time a line and by the memory of a process that does nothing else. Ratios within one run.
Run: PYTHONPATH=. python bench/program.py [--json]
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
import sys
import time
from pathlib import Path

import pygcode
from measuring import best, tell

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.words import Lines
from pelvrak.core.route.cut_file import cut_file
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pieces import PROGRAM
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.route.proving import proved

DEMO = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing"


def short_moves(count: int) -> str:
    """A program of moves of 0.2 mm."""
    head = "G21 G90 G54 T1 M6\nG0 X0 Y0\nG43 H1 Z5\nG1 Z-1 F500\n"
    return head + "".join(f"X{0.2 * (i % 500):.3f} Y{0.2 * (i // 500):.3f}\n" for i in range(count)) + "M30\n"


def long_one(count: int) -> dict[str, float]:
    """A block cut by that many short moves: seconds and the most memory, MB."""
    text = short_moves(count).replace("T1 M6", "T1 M6\nS9 M3")
    tool = tool_shelf()["em3"].model_copy(update={"place": 1})
    began = time.perf_counter()
    cut_file(text, (100.0, 100.0, 20.0), [tool], {"G54": (0.0, 0.0, 20.0)}, machine_of("vertical-760"), 1.0)
    took = time.perf_counter() - began
    # Not by getrusage, which counts what the parent held as it forked.
    told = Path("/proc/self/status").read_text()
    return {"s": took, "mb": int(re.search(r"VmHWM:\s*(\d+)", told)[1]) / 1024}


def long_in_own(count: int) -> dict[str, float]:
    """The same in a process of its own."""
    told = subprocess.run(
        [sys.executable, __file__, "--long", str(count)], check=True, capture_output=True, text=True
    )
    return dict(json.loads(told.stdout))


def measured() -> dict[str, float]:
    """The ratios, and the seconds they are of."""
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    data, store = (DEMO / plan.part.file).read_bytes(), MemoryStore()
    report = evaluate(plan, data, store)
    texts = {one.name: Result(one.program_key or "", Engine(store)).value(PROGRAM) for one in report.setups}
    longest = max(report.setups, key=lambda one: texts[one.name].count("\n"))
    text = texts[longest.name]
    lines = [line for line in text.splitlines() if line.strip("%")]
    ours = best(lambda: list(Lines(text).said()))
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

    few, many = long_in_own(100_000), long_in_own(1_000_000)
    return {
        "lines_a_second": len(lines) / ours,
        "reading_over_parser": theirs / ours,
        "proving_of_simulating": proving / simulating,
        "line_of_million_over_100k": many["s"] / few["s"] / 10,
        "memory_of_million_over_100k": many["mb"] / few["mb"],
        "million_s": many["s"],
        "million_mb": many["mb"],
        "proving_s": proving,
        "simulating_s": simulating,
        "lines": float(len(lines)),
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--long", type=int, help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.long:
        print(json.dumps(long_one(asked.long)))
    else:
        tell(measured(), asked.json)
