"""How fast and how exact is the stock engine, against exact mesh booleans of the same sweeps in the same run?

Run: python bench/stock.py [--json] [--moves 1000,5000,20000]. References: manifold3d, hull of the
tool at both ends of each move, union of all sweeps, subtracted from the block; scikit-image's
marching cubes over a voxel grid of the same resolution. Ratios only mean something within one run.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import platform
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import manifold3d
import numba
import numpy as np
from skimage.measure import marching_cubes

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.geometry.mesh import volume
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.moment import MomentReader
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.stock.cut import CUT, Sweep, cut
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.profile import Profile, ball_nose, flat
from pelvrak.core.stock.shapes import field_of_block
from pelvrak.core.stock.surface import simplified, surface

SIZE = np.array([100.0, 80.0, 30.0])
CELL = 0.25
RADIUS, LENGTH = 5.0, 40.0
UP = np.array([0.0, 0.0, 1.0])
CIRCLE_SIDES = 64
DEMO = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing"


def tool_path(moves: int) -> np.ndarray:
    """Tip positions of a path as tool paths are: rings of short chords, level by level, with ramps between;
    (moves + 1, 3).
    """
    rng = np.random.default_rng(7)
    points = [np.array([20.0, 20.0, 27.0])]
    while len(points) <= moves:
        centre = np.array([*rng.uniform([15, 15], [85, 65]), rng.uniform(18, 27)])
        ring = rng.uniform(4, 14)
        for angle in np.linspace(0, 2 * math.pi, 40):
            points.append(centre + [ring * math.cos(angle), ring * math.sin(angle), 0.0])
    return np.array(points[: moves + 1])


def block(cell: float = CELL) -> RayField:
    return field_of_block(grid_around(np.zeros(3), SIZE, cell), np.zeros(3), SIZE)


def sweep_of(points: np.ndarray, cutter: Profile) -> Sweep:
    return Sweep(points[:-1], points[1:], np.full(len(points) - 1, CUT, np.uint8), UP, cutter)


def timed(what: Callable[[], Any], times: int = 1) -> tuple[float, Any]:
    """Shortest of so many runs, s, and what the last gave."""
    best = math.inf
    for _ in range(times):
        began = time.perf_counter()
        out = what()
        best = min(best, time.perf_counter() - began)
    return best, out


def by_rays(points: np.ndarray, cutter: Profile, cell: float = CELL, times: int = 3) -> tuple[float, float]:
    """(seconds, volume left) of the ray field; the surface is not timed, as the booleans' reading is not."""
    start, sweep = block(cell), sweep_of(points, cutter)
    seconds, (after, _) = timed(lambda: cut(start, sweep, 1), times)
    return seconds, volume(surface(after))


def solid_tool(kind: str) -> manifold3d.Manifold:
    """The tool as a mesh, its circle as a polygon of equal area."""
    share = math.sqrt(2 * math.pi / CIRCLE_SIDES / math.sin(2 * math.pi / CIRCLE_SIDES))
    if kind == "flat":
        return manifold3d.Manifold.cylinder(LENGTH, RADIUS * share, RADIUS * share, CIRCLE_SIDES)
    rod = manifold3d.Manifold.cylinder(LENGTH - RADIUS, RADIUS * share, RADIUS * share, CIRCLE_SIDES)
    ball = manifold3d.Manifold.sphere(RADIUS * share, CIRCLE_SIDES)
    return manifold3d.Manifold.batch_hull([ball.translate((0, 0, RADIUS)), rod.translate((0, 0, RADIUS))])


def by_booleans(points: np.ndarray, kind: str) -> tuple[float, float]:
    """(seconds, volume left) of exact booleans of the same sweeps."""

    def run() -> float:
        tool = solid_tool(kind)
        sweeps = [
            manifold3d.Manifold.batch_hull([tool.translate(a.tolist()), tool.translate(b.tolist())])
            for a, b in zip(points[:-1], points[1:], strict=True)
        ]
        joined = manifold3d.Manifold.batch_boolean(sweeps, manifold3d.OpType.Add)
        return float((manifold3d.Manifold.cube(SIZE.tolist()) - joined).volume())

    return timed(run)


def closed_forms() -> dict[str, float]:
    """Relative error of the removed volume where the exact value is known."""
    slot = [(20.1, 20.2, 17.7), (74.3, 57.9, 17.7)]
    cases = {
        "plunge": ([(50, 40, 40), (50, 40, 8.3)], flat(10, 40), math.pi * 25 * 21.7),
        "slot": (slot, flat(10, 40), (10 * math.dist(slot[0], slot[1]) + math.pi * 25) * 12.3),
        "ball cap": ([(50, 40, 40), (50, 40, 26.2)], ball_nose(10, 40), math.pi * 3.8**2 * (5 - 3.8 / 3)),
    }
    out = {}
    for name, (points, cutter, exact) in cases.items():
        _, left = by_rays(np.array(points, float), cutter, times=1)
        out[name] = abs((SIZE.prod() - left) / exact - 1)
    return out


def against_booleans(moves: list[int]) -> dict[str, Any]:
    ratios: dict[str, dict[str, float]] = {}
    errors: dict[str, dict[str, float]] = {}
    for kind, cutter in (("flat", flat(2 * RADIUS, LENGTH)), ("ball", ball_nose(2 * RADIUS, LENGTH))):
        for n in moves:
            points = tool_path(n)
            mine, left = by_rays(points, cutter)
            theirs, exact = by_booleans(points, kind)
            ratios.setdefault(kind, {})[str(n)] = round(theirs / mine, 1)
            errors.setdefault(kind, {})[str(n)] = abs(left - exact) / (SIZE.prod() - exact)
            print(f"{kind} {n}: {mine:.3f} s, booleans {theirs:.1f} s", file=sys.stderr, flush=True)
    return {"ratio_vs_mesh_boolean": ratios, "volume_error_vs_mesh_boolean": errors}


@numba.njit(parallel=True)
def _arithmetic(steps: int) -> float:
    out = np.zeros(16)
    for lane in numba.prange(16):
        total = 0.0
        for i in range(steps):
            total += np.sin(i * 0.001 + lane)
        out[lane] = total
    return out.sum()


def threads() -> dict[str, float]:
    """One thread's time over two threads', and what the machine gives arithmetic that touches no memory."""
    points, cutter = tool_path(5000), flat(2 * RADIUS, LENGTH)
    _arithmetic(10)
    mine, ceiling = [], []
    for _ in range(9):  # one right after the other: the machine is not equally fast all the time
        took = {}
        for n in (1, 2):
            numba.set_num_threads(min(n, numba.config.NUMBA_NUM_THREADS))
            took[n] = by_rays(points, cutter, 0.125, 1)[0], timed(lambda: _arithmetic(1_000_000))[0]
        mine.append(took[1][0] / took[2][0])
        ceiling.append(took[1][1] / took[2][1])
    return {
        "thread_speedup": round(float(np.median(mine)), 2),
        "thread_speedup_of_arithmetic": round(float(np.median(ceiling)), 2),
    }


def curves() -> dict[str, dict[str, float]]:
    """Time against resolution, moves and tool size, each over its own first value."""
    points = tool_path(2000)
    out: dict[str, dict[str, float]] = {"cell_mm": {}, "moves": {}, "tool_mm": {}}
    for cell in (1.0, 0.5, 0.25, 0.125):
        out["cell_mm"][str(cell)] = by_rays(points, flat(10, 40), cell)[0]
    for n in (500, 1000, 2000, 4000, 8000, 16000):
        out["moves"][str(n)] = by_rays(tool_path(n), flat(10, 40))[0]
    for size in (2.0, 4.0, 8.0, 16.0):
        out["tool_mm"][str(size)] = by_rays(points, flat(size, 40))[0]
    return {
        name: {at: round(seconds / next(iter(row.values())), 2) for at, seconds in row.items()}
        for name, row in out.items()
    }


def surfaces() -> dict[str, float]:
    """Surface of a field of two million rays against marching cubes over as many voxels."""
    cell = math.sqrt((SIZE[0] * SIZE[1] + SIZE[1] * SIZE[2] + SIZE[2] * SIZE[0]) / 2e6)
    stock, _ = cut(block(cell), sweep_of(tool_path(400), flat(2 * RADIUS, LENGTH)), 1)
    mine, mesh = timed(lambda: simplified(surface(stock, cell / 4), cell / 4), 2)
    nx, ny, nz = stock.grid.shape
    voxels = np.zeros((nx, ny, nz), np.float32)
    bundle, z = stock.bundles[2], stock.grid.nodes(2)
    for row in range(ny):
        for column in range(nx):
            for i in range(bundle.count[row, column]):
                a, b = np.searchsorted(z, bundle.position[row, column, 2 * i : 2 * i + 2])
                voxels[column, row, a:b] = 1
    theirs, (_, faces, _, _) = timed(lambda: marching_cubes(voxels, 0.5))
    return {
        "rays": int(nx * ny + ny * nz + nz * nx),
        "surface_time_ratio": round(mine / theirs, 3),
        "surface_triangle_ratio": round(len(faces) / len(mesh.triangles), 1),
    }


def moments() -> dict[str, float]:
    """The stock at 50 random moments of the demo's longest setup, over cutting that setup whole."""
    plan = plan_from_json((DEMO / "plan.json").read_bytes())
    part = (DEMO / plan.part.file).read_bytes()
    store = MemoryStore()
    report = evaluate(plan, part, store)
    setup = max(report.setups, key=lambda s: s.time_s)
    operations = [o for o in setup.operations if o.key and o.moving_s > 0]

    reader = MomentReader(store)
    whole = 0.0
    for operation in operations:
        reader.stock(str(operation.key), 0.0)
        incoming, own = reader.moments[str(operation.key)]
        whole += timed(lambda i=incoming, o=own: cut(reader.fields[i], o.sweep, o.maker), 2)[0]  # type: ignore[misc]
    reader = MomentReader(store)
    rng = np.random.default_rng(3)
    ends = np.cumsum([o.moving_s for o in operations])
    took = []
    for at in rng.uniform(0, ends[-1], 50):
        n = int(np.searchsorted(ends, at))
        took.append(
            timed(lambda k=str(operations[n].key), s=at - (ends[n - 1] if n else 0.0): reader.stock(k, s))[0]
        )  # type: ignore[misc]
    bytes_out = {
        s.name: len(piece_of(store, str(s.outgoing_key), "surface.glb") or b"") for s in report.setups
    }
    return {
        "moment_time_share": round(float(np.median(took)) / whole, 4),
        "picture_bytes": bytes_out,  # type: ignore[dict-item]
    }


def measure(moves: list[int]) -> dict[str, Any]:
    for cutter in (flat(2 * RADIUS, LENGTH), ball_nose(2 * RADIUS, LENGTH)):
        by_rays(tool_path(50), cutter, times=1)  # compile first
    return {
        "machine": f"{platform.processor() or platform.machine()}, {os.cpu_count()} cores",
        "cell_mm": CELL,
        **threads(),
        "cost_over_first": curves(),
        **surfaces(),
        **moments(),
        "volume_error": closed_forms(),
        **against_booleans(moves),
    }


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--moves", default="1000,5000,20000")
    chosen = parser.parse_args(arguments)
    result = measure([int(n) for n in chosen.moves.split(",")])
    if chosen.json:
        print(json.dumps(result, indent=2))
        return 0
    for name, value in result.items():
        print(f"{name}: {json.dumps(value)}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
