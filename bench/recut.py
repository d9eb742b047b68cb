"""Every program of the demo routes, cut once more by the tests' independent cutter.

Prints for each setup the mean and largest distance between the stock it leaves and the planned one, mm. Exit
code 1 when one is further off than the tests allow. Run: .venv/bin/python bench/recut.py [--json] [--only
part-of-a-name].
"""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.test_recut import MEAN_MM, MOST_MM
from tests.recut import recut

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from_json

DEMO = Path(__file__).resolve().parents[1] / "demo"


def main() -> int:
    """Print the distances."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--only", default="", help="cut only the setups whose plan and name hold this")
    chosen, told, bad = parser.parse_args(), {}, False
    for file in sorted(DEMO.glob("*/*.json")):
        plan = plan_from_json(file.read_bytes())
        data = (file.parent / plan.part.file).read_bytes()
        store = MemoryStore()
        report = evaluate(plan, data, store)
        for setup in report.setups:
            name = f"{plan.name}, {setup.name}"
            if setup.program_key is None:
                print(f"{name}: no program", file=sys.stderr)
                bad = True
                continue
            if chosen.only not in name:
                continue
            laid = recut(store, plan, setup)
            bad |= laid.mean_mm > MEAN_MM or laid.most_mm > MOST_MM
            told[name] = asdict(laid)
            if not chosen.json:
                print(
                    f"{name}: mean {laid.mean_mm:.4f} mm, most {laid.most_mm:.3f} mm, {laid.moves} moves",
                    flush=True,
                )
    if chosen.json:
        print(json.dumps(told, indent=2))
    return int(bad)


if __name__ == "__main__":
    raise SystemExit(main())
