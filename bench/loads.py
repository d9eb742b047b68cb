"""What do many like places cost? A load of twenty against the same load with one, computed anew each time:
its setup, what meets what, the order and the program with its proof. Ratios within one run.
Run: PYTHONPATH=. python bench/loads.py [--json]
"""

from __future__ import annotations

import argparse
import time

from measuring import best, tell
from tests.core import test_removal as plate
from tests.core.test_load import plan

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import Plan


def with_places(columns: int, rows: int) -> Plan:
    """So many vises on a table that has room for them."""
    stand = {"setup": "OP10", "columns": columns, "rows": rows, "pitch_x": 160.0, "pitch_y": 380.0}
    told = plan({"stands": [stand], "order": "tools"})
    machine = machine_of("vertical-760")
    table = machine.table.model_copy(update={"length": 3000.0, "depth": 3000.0})
    control = machine.control.model_copy(update={"extended": 48})
    # So many in Y would stand in its column.
    solids = tuple(one for one in machine.solids if one.name != "column")
    wide = machine.model_copy(update={"id": "wide", "table": table, "control": control, "solids": solids})
    setup = told.setups[0].model_copy(update={"machine": "wide"})
    return told.model_copy(update={"machines": (wide,), "setups": (setup,)})


def seconds(one: Plan) -> float:
    """To compute it from nothing."""
    began = time.perf_counter()
    evaluate(one, plate.DATA, MemoryStore())
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    as_json = parser.parse_args().json
    one, twenty = with_places(1, 1), with_places(5, 4)
    seconds(one)
    found = {"twenty places against one": best(lambda: seconds(twenty), 3) / best(lambda: seconds(one), 3)}
    tell(found, as_json)


if __name__ == "__main__":
    main()
