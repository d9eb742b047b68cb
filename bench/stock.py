"""How fast and how exact is the stock engine, against exact mesh booleans of the same sweeps in the same run?

Run: python bench/stock.py [--json]. Reference: manifold3d, hull of the tool at both ends of each
move, union of all sweeps, subtracted from the block. Ratios only mean something within one run.
"""

from __future__ import annotations

import json
import math
import os
import platform
import sys
import time

import manifold3d
import numpy as np

from pelvrak.core.geometry.mesh import volume
from pelvrak.core.stock.cut import CUT, Profile, Sweep, cut
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_block
from pelvrak.core.stock.surface import surface

SIZE = np.array([100.0, 80.0, 30.0])
CELL = 0.25
RADIUS, LENGTH = 5.0, 40.0
UP = np.array([0.0, 0.0, 1.0])
CIRCLE_SIDES = 64


def tool_path(moves: int) -> np.ndarray:
    """Tip positions of a path as tool paths are: rings of short chords, level by level, with ramps between; (moves + 1, 3)."""
    rng = np.random.default_rng(7)
    points = [np.array([20.0, 20.0, 27.0])]
    while len(points) <= moves:
        centre = np.array([*rng.uniform([15, 15], [85, 65]), rng.uniform(18, 27)])
        ring = rng.uniform(4, 14)
        for angle in np.linspace(0, 2 * math.pi, 40):
            points.append(centre + [ring * math.cos(angle), ring * math.sin(angle), 0.0])
    return np.array(points[: moves + 1])


def block() -> RayField:
    return field_of_block(grid_around(np.zeros(3), SIZE, CELL), np.zeros(3), SIZE)


def by_rays(points: np.ndarray) -> tuple[float, float]:
    """(seconds, volume left) of the ray field; the surface is not timed, as the booleans' reading is not."""
    start = block()
    sweep = Sweep(
        points[:-1], points[1:], np.full(len(points) - 1, CUT, np.uint8), UP, Profile((0.0, LENGTH), (RADIUS, RADIUS))
    )
    began = time.perf_counter()
    after, _ = cut(start, sweep, 1)
    return time.perf_counter() - began, volume(surface(after))


def by_booleans(points: np.ndarray) -> tuple[float, float]:
    """(seconds, volume left) of exact booleans of the same sweeps, the circle as a polygon of equal area."""
    share = math.sqrt(2 * math.pi / CIRCLE_SIDES / math.sin(2 * math.pi / CIRCLE_SIDES))
    began = time.perf_counter()
    tool = manifold3d.Manifold.cylinder(LENGTH, RADIUS * share, RADIUS * share, CIRCLE_SIDES)
    sweeps = [
        manifold3d.Manifold.batch_hull([tool.translate(a.tolist()), tool.translate(b.tolist())])
        for a, b in zip(points[:-1], points[1:], strict=True)
    ]
    left = manifold3d.Manifold.cube(SIZE.tolist()) - manifold3d.Manifold.batch_boolean(sweeps, manifold3d.OpType.Add)
    left_volume = left.volume()
    return time.perf_counter() - began, left_volume


def closed_forms() -> dict[str, float]:
    """Relative error of the removed volume where the exact value is known."""
    cases = {
        "plunge": ([(50, 40, 40), (50, 40, 8.3)], math.pi * 25 * 21.7),
        "slot": (
            [(20.1, 20.2, 17.7), (74.3, 57.9, 17.7)],
            (10 * math.dist((20.1, 20.2), (74.3, 57.9)) + math.pi * 25) * 12.3,
        ),
    }
    out = {}
    for name, (points, exact) in cases.items():
        _, left = by_rays(np.array(points, float))
        out[name] = abs((SIZE.prod() - left) / exact - 1)
    return out


def measure() -> dict[str, object]:
    by_rays(tool_path(50))  # compile first
    ratios, errors = {}, {}
    for moves in (1000, 5000):
        points = tool_path(moves)
        mine, left = min(by_rays(points) for _ in range(2))
        theirs, exact = by_booleans(points)
        ratios[str(moves)] = round(theirs / mine, 1)
        errors[str(moves)] = abs(left - exact) / (SIZE.prod() - exact)
    return {
        "machine": f"{platform.processor() or platform.machine()}, {os.cpu_count()} cores",
        "cell_mm": CELL,
        "ratio_vs_mesh_boolean": ratios,
        "volume_error_vs_mesh_boolean": errors,
        "volume_error": closed_forms(),
    }


def main() -> int:
    result = measure()
    if "--json" in sys.argv:
        print(json.dumps(result, indent=2))
        return 0
    print(f"{result['machine']}, {CELL} mm cells, Ø{2 * RADIUS:g} flat end mill in {SIZE.tolist()} mm")
    for moves, ratio in result["ratio_vs_mesh_boolean"].items():  # type: ignore[attr-defined]
        error = result["volume_error_vs_mesh_boolean"][moves]  # type: ignore[index]
        print(f"{moves:>6} moves: {ratio:6.1f} times faster than mesh booleans; removed volume differs by {error:.4%}")
    for name, error in result["volume_error"].items():  # type: ignore[attr-defined]
        print(f"{name:>6}: removed volume off its closed form by {error:.4%}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
