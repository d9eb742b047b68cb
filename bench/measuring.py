"""What the benches share: the quickest of some runs, and their numbers told."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any


def best(what: Callable[[], Any], times: int = 5) -> float:
    """Seconds of the quickest of some runs: what else the machine does only adds to it."""
    took = []
    for _ in range(times):
        started = time.perf_counter()
        what()
        took.append(time.perf_counter() - started)
    return min(took)


def tell(numbers: dict[str, float], as_json: bool) -> None:
    """Print numbers by their names."""
    if as_json:
        print(json.dumps(numbers, indent=2))
    else:
        for name, value in numbers.items():
            print(f"{name}: {value:.3f}")
