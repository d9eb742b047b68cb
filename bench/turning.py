"""How fast are index positions solved, and what is seen at them? Ratios against ray casting by trimesh with
Embree, in one run.

Run: python bench/turning.py [--json].
"""

from __future__ import annotations

import argparse
import json
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import numpy as np
import trimesh
from trimesh.ray.ray_pyembree import RayMeshIntersector

from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.geometry.visibility import FACING, OFF_MM, Caster, places_on, visible
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import solve_direction
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.reaching import PIECE_MM, stops_on
from pelvrak.core.route.set_cover import set_cover
from pelvrak.core.route.simulate import Station
from pelvrak.core.stock.compare import refined

DEMO = Path(__file__).resolve().parents[1] / "demo" / "encoder-housing" / "encoder-housing.step"
RUNS = 5


def timed(what: Callable[[], object]) -> float:
    """Seconds of one run: the median of some."""
    what()
    times = []
    for _ in range(RUNS):
        started = time.perf_counter()
        what()
        times.append(time.perf_counter() - started)
    return median(times)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    chosen = parser.parse_args()
    model = read_step(DEMO.read_bytes(), DEMO.name)
    normals_of = (f.normal for f in model.part.faces if f.normal)
    sensor = next(n for n in normals_of if abs(n[1] - 0.5) < 1e-3 and n[2] > 0.8)
    way = np.array(sensor)
    points, normals, _ = places_on(model.mesh, len(model.part.faces))
    points = (points + OFF_MM * normals)[normals @ way > -FACING]
    rays = np.tile(way, (len(points), 1))
    scene = RayMeshIntersector(trimesh.Trimesh(model.mesh.vertices, model.mesh.triangles, process=False))
    alike = np.isinf(Caster(model.mesh).distance(points, way)) == ~scene.intersects_any(points, rays)
    reference = timed(lambda: scene.intersects_any(points, rays))
    machine, features = machine_of("trunnion-ac"), features_of(model)
    picture = timed(lambda: visible(model, [sensor]))
    # A drill in its chuck stood at every small piece of the part's faces, nothing round it.
    plane = np.eye(4)
    plane[:3, :3] = square_to(way)
    nothing = Station(
        "",
        model,
        machine,
        plane,
        HoldFacts(),
        None,
        Turned("", {}, np.eye(4), (0.0, 0.0, 1.0)),
        lambda: None,
        lambda: None,
    )
    pieces, tool = refined(model.mesh, PIECE_MM), tool_shelf()["dr5"]
    standing = timed(lambda: stops_on(pieces, model, nothing, tool))
    corners = pieces.vertices[pieces.triangles].mean(axis=1)
    as_many = timed(lambda: scene.intersects_any(corners, np.tile(way, (len(corners), 1))))
    told = {
        "rays": len(rays),
        "answered alike": float(alike.mean()),
        "rays, over Embree's": timed(lambda: Caster(model.mesh).distance(points, way)) / reference,
        "reach picture, over Embree's rays": picture / reference,
        "index solving, over the reach picture": timed(lambda: solve_direction(machine, sensor)) / picture,
        "fewest positions and setups, over the reach picture": timed(
            lambda: set_cover(features, machine, np.eye(4))
        )
        / picture,
        "places of a tool": len(corners),
        "what a tool reaches, over as many of Embree's rays": standing / as_many,
    }
    print(
        json.dumps(told, indent=2)
        if chosen.json
        else "\n".join(f"{name}: {value:.4g}" for name, value in told.items())
    )


if __name__ == "__main__":
    main()
