"""How long do contact truth and nests take beside simulating the setup, and is what touches the same however
far apart the rays are?

On the organic part of the demo, in the nest of its OP20. Ratios within one run: the holding built up and
judged against the setup's cuts simulated again; the nest solved, with and without the break under its rim,
against the same. Facts: the demo at rays 1.0, 0.5 and 0.25 mm apart; kinds of contact and ranks that differ,
and the largest difference of an area of a contact on faces. Run: python bench/holding.py [--json] [--rays]
"""

from __future__ import annotations

import argparse
from pathlib import Path

import numpy as np
from measuring import best, tell

from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.holes import upright_holes
from pelvrak.core.geometry.mesh import transformed
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.holding.soft_jaws import solve
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import SURFACE
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.route.report import Report
from pelvrak.core.seat.seating import lay

DEMO = Path(__file__).resolve().parents[1] / "demo" / "float-carrier"


def measured() -> dict[str, float]:
    """The shares, and the seconds they are of."""
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    data = (DEMO / plan.part.file).read_bytes()
    store = MemoryStore()
    report = evaluate(plan, data, store)
    index = next(i for i, setup in enumerate(plan.setups) if any(item.cut for item in setup.hold.items))
    setup, cut_in = plan.setups[index], report.setups[index]

    def again(dropped: set[str]) -> float:
        def run() -> None:
            only = MemoryStore()
            only.named, only.contents = dict(store.named), dict(store.contents)
            only.keys = store.keys - dropped
            evaluate(plan, data, only)

        return best(run)

    simulated = again({one.key for one in cut_in.operations if one.key}) - again(set())
    part = read_step(data, plan.part.file).part
    lying = rigid(lay(setup.seat, part), np.zeros(3))
    assert cut_in.incoming_key is not None
    engine = Engine(store)
    surface = surface_of(engine, cut_in.incoming_key).content(SURFACE)
    stock = transformed(engine.read(surface, SURFACE), lying)
    shop = fixtures_of(plan.fixtures)
    item = next(one for one in setup.hold.items if one.cut)
    assert item.cut is not None
    block, spec = shop[item.fixture], item.cut
    nest = solve(stock, spec, block, None)  # type: ignore[arg-type]
    assert nest.jaws is not None
    shapes = Shapes(upright_holes(part, lying), cut={item.id: nest.jaws})
    hold_work(setup.hold, shop, stock, "OP20", shapes)
    held = best(lambda: hold_work(setup.hold, shop, stock, "OP20", shapes))
    whole = best(lambda: solve(stock, spec.model_copy(update={"edge_break": 1.0}), block, None))  # type: ignore[arg-type]
    plain = best(lambda: solve(stock, spec.model_copy(update={"edge_break": 0.0}), block, None))  # type: ignore[arg-type]
    return {
        "holding_share": held / simulated,
        "nest_share": whole / simulated,
        "rim_break_of_nest": (whole - plain) / plain,
        "simulated_s": simulated,
        "holding_s": held,
        "nest_s": whole,
    }


def at_rays() -> dict[str, float]:
    """How far what touches differs between rays 1.0, 0.5 and 0.25 mm apart, over both demos' setups."""
    kinds, ranks, areas, seen = 0, 0, 0.0, 0
    for demo in (DEMO, DEMO.with_name("encoder-housing")):
        plan = plan_from_json((demo / "plan.json").read_bytes())
        data = (demo / plan.part.file).read_bytes()
        reports: list[Report] = []
        for cell in (0.25, 0.5, 1.0):
            same = plan.model_copy(update={"resolution_mm": cell})
            reports.append(evaluate(same, data, MemoryStore()))
        for fine, *coarser in zip(*(one.setups for one in reports), strict=True):
            for other in coarser:
                a, b = (sorted((c.name, c.kind) for c in one.hold.contacts) for one in (fine, other))
                kinds += a != b
                ranks += (fine.hold.locating and fine.hold.locating.rank) != (
                    other.hold.locating and other.hold.locating.rank
                )
                for name in {c.name for c in fine.hold.contacts if c.kind == "face"}:
                    one, two = (
                        sum(c.area for c in got.hold.contacts if c.name == name and c.kind == "face")
                        for got in (fine, other)
                    )
                    if abs(two / one - 1) > areas:
                        print(demo.name, fine.name, name, round(one, 1), round(two, 1))
                    areas, seen = max(areas, abs(two / one - 1)), seen + 1
    return {"other_kinds": kinds, "other_ranks": ranks, "area_off": areas, "areas_compared": seen}


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--rays", action="store_true", help="the facts at three distances, some minutes")
    chosen = parser.parse_args()
    tell(measured() | (at_rays() if chosen.rays else {}), chosen.json)
