"""What does an edit of the demo's route compute, and how soon does one see it? Ratios within one run.

steps_after_rename: steps computed after another name, by what was renamed; undo_steps: after an edit taken
back; first_picture_share: a millimetre on the billet, time to its new billet over time of the whole route;
seated_share: to the first setup seated and held; edit_share: an edit of OP30's last operation over the whole
route; route_to_cutting: the whole route, cold, over the processor's time in its cutting kernels; busy_ratio:
an edit of a small project while another's whole route is computed, over the same alone. Run: .venv/bin/python
bench/route.py [--json].
"""

from __future__ import annotations

import argparse
import copy
import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from busy import busy_ratio

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.holding.kinds import fixtures_shipped
from pelvrak.core.route import simulate
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import Report

FOLDER = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing"
Document = dict[str, Any]


class Route:
    """The demo's route on one store."""

    def __init__(self) -> None:
        self.document: Document = json.loads((FOLDER / "plan.json").read_text())
        self.part = (FOLDER / "encoder-housing.step").read_bytes()
        self.store = MemoryStore()

    def run(self, change: Callable[[Document], None] | None = None) -> tuple[Report, float, dict[str, float]]:
        """The report of the changed plan, how long it took, and when each thing was first seen, s."""
        document = copy.deepcopy(self.document)
        if change is not None:
            change(document)
        plan, began = plan_from(document), time.perf_counter()
        seen: dict[str, float] = {}

        def partly(report: Report) -> None:
            what = "billet" if not report.setups else report.begun or f"{report.setups[-1].name} cut"
            seen.setdefault(what, time.perf_counter() - began)

        report = evaluate(plan, self.part, self.store, partly=partly)
        return report, time.perf_counter() - began, seen


def renames() -> dict[str, Callable[[Document], None]]:
    """Edits that change what something is called and nothing else."""

    def tool_id(d: Document) -> None:
        own = d["tools"][0]
        for operation in (o for s in d["setups"] for o in s["operations"] if o["tool"] == own["id"]):
            operation["tool"] = "renamed"
        own["id"] = "renamed"

    spare = {**tool_shelf()["dr5"].model_dump(mode="json"), "id": "spare", "place": 23}
    return {
        "setup": lambda d: d["setups"][0].update(name="OP70"),
        "operation": lambda d: d["setups"][0]["operations"][0].update(name="Another name"),
        "operation id": lambda d: d["setups"][0]["operations"][0].update(id="another"),
        "tool": lambda d: d["tools"][0].update(name="Another cutter"),
        "tool id": tool_id,
        "fixture": lambda d: d["fixtures"].append(
            {**fixtures_shipped()["par-150x8"].model_dump(mode="json"), "name": "Another name of theirs"}
        ),
        "changer place": lambda d: d["tools"][0].update(place=22),
        "title": lambda d: d["setups"][0].update(title="Another title"),
        "plan": lambda d: d.update(name="Another plan"),
        "unused tool": lambda d: d["tools"].append(spare),
    }


def measured() -> dict[str, Any]:
    """All numbers of one run."""
    route, cutting = Route(), 0.0
    kernels = {name: getattr(simulate, name) for name in ("cut", "test")}

    def timed(of: Callable[..., Any]) -> Callable[..., Any]:
        def call(*arguments: Any) -> Any:
            nonlocal cutting
            # Of the processor, on all cores: only kernels run meanwhile but for a volume beside them.
            began = time.process_time()
            try:
                return of(*arguments)
            finally:
                cutting += time.process_time() - began

        return call

    # A first run compiles and loads; the second is cold in nothing but its results.
    route.run()
    route.store = MemoryStore()
    for name, kernel in kernels.items():
        setattr(simulate, name, timed(kernel))
    report, whole, seen = route.run()
    for name, kernel in kernels.items():
        setattr(simulate, name, kernel)
    steps = {name: list(route.run(change)[0].computed) for name, change in renames().items()}
    _, edit_s, _ = route.run(lambda d: d["setups"][-1]["operations"][-1].update(clearance=6.5))
    _, billet_s, billet_seen = route.run(lambda d: d["billet"]["sizing"]["size"].__setitem__(0, 131.0))
    undone, _, _ = route.run()
    return {
        "steps": len(report.computed),
        "whole_s": whole,
        "cutting_s": cutting,
        "route_to_cutting": whole / cutting,
        "steps_after_rename": steps,
        "undo_steps": len(undone.computed),
        "edit_share": edit_s / whole,
        "first_picture_share": billet_seen["billet"] / billet_s,
        "seated_share": billet_seen[report.setups[0].name] / billet_s,
        "seen_s": seen,
    }


def main() -> int:
    """Print the numbers."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    chosen = parser.parse_args()
    found = measured() | busy_ratio()
    if chosen.json:
        print(json.dumps(found, indent=2))
    else:
        for name, value in found.items():
            print(f"{name}: {value if not isinstance(value, float) else round(value, 4)}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
