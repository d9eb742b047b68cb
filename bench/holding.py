"""How long do contact truth and soft jaws take, beside computing the demo's route?

Ratios within one run: the holding of the demo's OP20 after its work was moved by 1 mm, against the whole
route computed anew; the soft jaws solved, against simulating the setup that grips with them. Run: python
bench/holding.py [--json]
"""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path

import numpy as np

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.mesh import transformed
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding.hold import SoftCut, fixtures_of, vise_hold
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.soft_jaws import solve
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import mesh_from_bytes
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.seat.seating import lay

DEMO = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing"
TIMES = 5


def measured() -> dict[str, float]:
    """The numbers; seconds of the reference with them."""
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    data = (DEMO / plan.part.file).read_bytes()
    evaluate(plan, data, MemoryStore())  # kernels loaded
    store, started = MemoryStore(), time.perf_counter()
    report = evaluate(plan, data, store)
    whole = time.perf_counter() - started
    last = plan.setups[-1]
    started = time.perf_counter()
    only = MemoryStore()
    only.kept = dict(store.kept.items())
    for operation in report.setups[-1].operations:
        for name in [name for name in only.kept if name[0] == operation.key]:
            del only.kept[name]
    evaluate(plan, data, only)
    simulated = time.perf_counter() - started
    key = report.setups[0].outgoing_key
    assert key is not None
    piece = piece_of(store, key, "surface.npz")
    assert piece is not None
    from pelvrak.core.geometry.step_file import read_step

    lying = transformed(
        mesh_from_bytes(piece), rigid(lay(last.seat, read_step(data, plan.part.file).part), np.zeros(3))
    )
    shop = fixtures_of(plan.fixtures)
    contact, solving = [], []
    for i in range(TIMES):
        started = time.perf_counter()
        hold_work(vise_hold(height=38.0, along=float(i)), shop, lying, "OP20")
        contact.append(time.perf_counter() - started)
        started = time.perf_counter()
        solve(lying, SoftCut(shift=float(i)), shop["soft-160x45"], shop["bench-160"])
        solving.append(time.perf_counter() - started)
    return {
        "contact_share_of_route": float(np.median(contact)) / whole,
        "soft_jaws_share_of_setup": float(np.median(solving)) / simulated,
        "contact_s": float(np.median(contact)),
        "soft_jaws_s": float(np.median(solving)),
        "route_s": whole,
        "setup_s": simulated,
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    numbers = measured()
    if parser.parse_args().json:
        print(json.dumps(numbers, indent=2))
    else:
        for name, value in numbers.items():
            print(f"{name}: {value:.4f}")
