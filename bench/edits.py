"""Random edits of a demo's plan, one after the other: what the warm store gives must be what an empty one
gives, bit for bit.

Run: .venv/bin/python bench/edits.py [--edits 200] [--seed 1] [--demo encoder-housing].
"""

from __future__ import annotations

import argparse
import json
import random
import sys
import time
from pathlib import Path
from typing import Any

TOP = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(TOP))

from tests.edits import computed, edited  # noqa: E402

from pelvrak.core.engine.store import MemoryStore  # noqa: E402
from pelvrak.core.route.plan import Plan, plan_from  # noqa: E402


def main() -> int:
    """Print what differs; 1 when anything does."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--edits", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--demo", default="encoder-housing")
    chosen = parser.parse_args()
    folder, chance = TOP / "demo" / chosen.demo, random.Random(chosen.seed)
    document = plan_from(json.loads((folder / "plan.json").read_text())).model_dump(mode="json")
    store, wrong = MemoryStore(), 0

    def run(plan: Plan, on: MemoryStore) -> tuple[Any, dict[str, dict[str, str]], int]:
        return computed(
            plan, (folder / plan.part.file).read_bytes(), on, lambda _, name: (folder / name).read_bytes()
        )

    run(plan_from(document), store)
    for number in range(1, chosen.edits + 1):
        said, now, plan = edited(document, chance)
        began = time.perf_counter()
        warm = run(plan, store)
        took = time.perf_counter() - began
        cold = run(plan, MemoryStore())
        same = warm[:2] == cold[:2]
        wrong += not same
        print(f"{number}: {'same' if same else 'DIFFERS'}, {warm[2]} steps, {took:.1f} s: {said}", flush=True)
        if chance.random() < 0.5:
            document = now
    print(f"{chosen.edits} edits, {wrong} differ")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
