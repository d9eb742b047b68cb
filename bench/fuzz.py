"""Does anything go wrong in a million random moves: a piece lost, a crash, memory that grows?

Run: python bench/fuzz.py [MOVES]. Random tools, directions and moves into a block that is put back
when little is left; after every thousand moves the field's promises are checked.
"""

from __future__ import annotations

import resource
import sys
import time

import numpy as np

from pelvrak.core.stock.cut import CUT, RAPID, Sweep, cut
from pelvrak.core.stock.field import RayField, bundle_volumes, grid_around
from pelvrak.core.stock.profile import ball_nose, corner_radius, flat, lollipop, pointed, slot_cutter, tapered
from pelvrak.core.stock.shapes import field_of_block

SIZE = np.array([30.0, 24.0, 18.0])
CELL = 0.75
EACH = 1000
TOOLS = (
    flat(3, 12),
    ball_nose(4, 12),
    pointed(3, 118, 12),
    corner_radius(4, 1, 12, 0.02),
    tapered(2, 9, 9, ball=True),
    slot_cutter(5, 1.2),
    lollipop(3),
)


def check(before: RayField, after: RayField, axis: np.ndarray, removed: np.ndarray) -> None:
    seen, was = bundle_volumes(after), bundle_volumes(before)
    for bundle, one, two in zip(after.bundles, seen, was, strict=True):
        if one > two + 1e-6:
            raise SystemExit(f"material grew along {'xyz'[bundle.axis]}: {two} to {one}")
        used = np.arange(2 * bundle.capacity) < 2 * bundle.count[:, :, None]
        if not (np.diff(bundle.position, axis=2)[used[:, :, 1:]] > 0).all():
            raise SystemExit("ray ends out of order")
    # The bundles may differ by what a layer of rays along the cut surface holds.
    if max(seen) - min(seen) > 0.05 * SIZE.prod():
        raise SystemExit(f"the bundles disagree: {seen}")
    # What every move says it took is what is gone: nothing is lost in silence.
    nearest = int(np.argmax(np.abs(axis)))
    gone = was[nearest] - seen[nearest]
    if removed.min(initial=0.0) < 0 or abs(removed.sum() - gone) > 1e-3 * gone + 0.05:
        raise SystemExit(f"moves took {removed.sum()} mm³, {gone} mm³ are gone")


def main(arguments: list[str]) -> int:
    wanted = int(arguments[0]) if arguments else 1_000_000
    rng = np.random.default_rng(20)
    fresh = field_of_block(grid_around(np.zeros(3), SIZE, CELL), np.zeros(3), SIZE)
    stock, done, blocks = fresh, 0, 1
    began, first_memory = time.monotonic(), 0
    while done < wanted:
        axis = rng.normal(size=3)
        if rng.random() < 0.4:
            axis = np.eye(3)[rng.integers(3)] * rng.choice([-1.0, 1.0])
        axis /= np.linalg.norm(axis)
        tips = rng.uniform(-2, SIZE + 2, (EACH, 3))
        ends = tips + rng.normal(scale=2.0, size=(EACH, 3)) * rng.choice([0.0, 1.0], (EACH, 3), p=[0.3, 0.7])
        what = np.where(rng.random(EACH) < 0.1, RAPID, CUT).astype(np.uint8)
        tool = TOOLS[rng.integers(len(TOOLS))]
        # Most moves stay near the skin, so that a block lasts.
        keep = slice(0, int(rng.integers(20, 60))) if rng.random() < 0.9 else slice(0, EACH)
        sweep = Sweep(tips, ends, what, axis, tool).part(keep)
        before = stock
        stock, hits = cut(before, sweep, 1 + blocks % 60000)
        again, _ = cut(stock, sweep, 2)
        if bundle_volumes(again) != bundle_volumes(stock):
            raise SystemExit("cutting twice changed the stock")
        check(before, stock, axis, hits.removed)
        done += 2 * len(sweep.what)
        if bundle_volumes(stock)[2] < 0.25 * SIZE.prod():
            stock, blocks = fresh, blocks + 1
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        if done > wanted // 10 and not first_memory:
            first_memory = memory
    grown = (memory - first_memory) / 1024
    print(
        f"{done} moves, {blocks} blocks, {time.monotonic() - began:.0f} s; most memory grew by"
        f" {grown:.1f} MiB after the first tenth"
    )
    return 1 if grown > 64 else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
