"""How long does planning passes take, how evenly do they cut, and how exact is surface finishing?

Run: bin/pelvrak bench cutting [--json]. References in the same run: the simulation of the same path;
drop-cutter contact by dense sampling of the same mesh with embreex rays. Ratios only mean something within
one run.
"""

from __future__ import annotations

import argparse
import json
import time
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from OCP.BRepPrimAPI import BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt
from tests import solids
from trimesh.ray.ray_pyembree import RayMeshIntersector

from pelvrak.core.cutting.drop_cutter import Rounded, drop, laid_out
from pelvrak.core.cutting.feeds import cutting_data, material_of
from pelvrak.core.cutting.job import Job, plan_operation
from pelvrak.core.cutting.operations import Clearing
from pelvrak.core.cutting.standing import UP, standing_square
from pelvrak.core.cutting.toolpath import Path, chords
from pelvrak.core.cutting.tools import cutter_profile, tool_shelf
from pelvrak.core.geometry.part import PartModel
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.stock.cut import CUT, Sweep, cut
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_block

SIZE = (200.0, 150.0, 50.0)
# The stock as the aim has it: known to 0.2 mm.
CELL = 0.2
STRETCH_MM, SHALLOW_MM = 0.4, 2.0


def pocketed() -> PartModel:
    """A block of SIZE less 5 mm all round and 2 on top, with 30 pockets of four sizes and depths."""
    shape = solids.box((5, 5, 0), (SIZE[0] - 5, SIZE[1] - 5, SIZE[2] - 2))
    for n in range(30):
        x, y = 10 + 31 * (n % 6), 9 + 27 * (n // 6)
        wide, high, deep = 18 + 2 * (n % 4), 16 + 2 * (n % 3), 12 + 5 * (n % 5)
        shape = solids.minus(shape, rounded_pocket((x, y), (wide, high), 5.5, SIZE[2] - 2 - deep))
    return model_of_solid(shape, "0" * 64, "millimetre")


def rounded_pocket(
    corner: tuple[float, float], size: tuple[float, float], radius: float, floor: float
) -> Any:
    """What is taken out for a pocket with round corners."""
    (x, y), (w, h), top = corner, size, SIZE[2] + 1
    ends = [(x + a, y + b) for a in (radius, w - radius) for b in (radius, h - radius)]
    return solids.plus(
        solids.box((x + radius, y, floor), (x + w - radius, y + h, top)),
        solids.box((x, y + radius, floor), (x + w, y + h - radius, top)),
        *[solids.cylinder((a, b, floor), radius, top - floor) for a, b in ends],
    )


def clearing(part: PartModel, field: RayField) -> dict[str, Any]:
    """Time of the path as a share of the time of simulating it, and how much of it keeps the stated width."""
    tool = tool_shelf()["em10"]
    operation = Clearing(id="c", name="clear", tool="em10", step_down=12, step_over=0.2, bottom=None)
    here = standing_square(field, np.eye(4))
    assert here is not None
    data = cutting_data(tool, material_of("EN AW-6082"), machine_of("vertical-760"))
    job = Job(part, np.eye(4), here, tool, data, "OP10", operation, Path((0.0, 0.0, 150.0)))
    began = time.perf_counter()
    plan_operation(job)
    planned = time.perf_counter() - began
    lines = chords(job.path)
    sweep = Sweep(lines.starts, lines.ends, lines.what, UP, cutter_profile(tool))
    began = time.perf_counter()
    cut(field, sweep, 257)
    simulated = time.perf_counter() - began
    return {
        "moves": len(job.path.moves),
        "path_to_simulation": round(planned / simulated, 3),
        **widths(field, sweep, operation.step_over * tool.DC),
        "planned_s": round(planned, 2),
        "simulated_s": round(simulated, 2),
        "findings": sorted({found.code for found in job.findings}),
    }


def widths(field: RayField, sweep: Sweep, width: float) -> dict[str, Any]:
    """How wide the level cuts of a path are, as shares of their length.

    A move has one width, the widest it met: so it is asked of stretches of STRETCH_MM. The ring at the foot
    of a helix, shallower than SHALLOW_MM, is a slot and no pass; less than a hundredth of the width is none.
    """
    lengths = np.linalg.norm(sweep.ends - sweep.starts, axis=1)
    parts = np.where(sweep.what == CUT, np.ceil(lengths / STRETCH_MM), 1).astype(int).clip(1)
    own = np.repeat(np.arange(len(lengths)), parts)
    nth = np.arange(len(own)) - np.repeat(np.cumsum(parts) - parts, parts)
    along = (sweep.ends - sweep.starts)[own] / parts[own, None]
    starts = sweep.starts[own] + along * nth[:, None]
    short = replace(sweep, starts=starts, ends=starts + along, what=sweep.what[own])
    _, hits = cut(field, short, 257)
    length = np.linalg.norm(along, axis=1)
    level = (short.what == CUT) & (np.abs(along[:, 2]) < 1e-9) & (hits.depth > SHALLOW_MM)
    cutting = level & (hits.removed > 0.01 * width * length * hits.depth)
    share, length = hits.width[cutting] / width, length[cutting]
    return {
        "cutting_m": round(float(length.sum()) / 1000, 2),
        **{
            name: round(float(length[chosen].sum() / length.sum()), 4)
            for name, chosen in (
                ("within_10_percent", np.abs(share - 1) <= 0.1),
                ("narrower", share < 0.9),
                ("wider", share > 1.1),
                ("half_as_wide_again", share > 1.5),
            )
        },
    }


def finishing() -> dict[str, Any]:
    """Drop-cutter contact by closed form beside dense sampling of the same mesh with Embree rays, both held
    against a sphere: seconds for as many places, and how far each is off.
    """
    radius, ball = 20.0, 5.0
    part = model_of_solid(BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 0), radius).Shape(), "0" * 64, "millimetre")
    laid = laid_out(part.mesh, ball)
    places = np.random.default_rng(5).uniform(-9, 9, (400, 2))
    exact = np.sqrt((radius + ball) ** 2 - (places**2).sum(axis=1)) - ball
    drop(laid, Rounded(0.0, ball), places[:2])
    began = time.perf_counter()
    heights, _ = drop(laid, Rounded(0.0, ball), places)
    own_s, own_off = time.perf_counter() - began, float(np.abs(heights - exact).max())
    sampled = trimesh.Trimesh(part.mesh.vertices, part.mesh.triangles, process=False)
    rays = RayMeshIntersector(sampled)
    out: dict[str, Any] = {"places": len(places), "own_off_mm": round(own_off, 4)}
    for spacing in (0.2, 0.1):
        x, y = np.meshgrid(*[np.arange(-ball, ball + spacing / 2, spacing)] * 2)
        inside = x**2 + y**2 <= ball**2
        offsets = np.column_stack([x[inside], y[inside]])
        rise = ball - np.sqrt(np.maximum(ball**2 - (offsets**2).sum(axis=1), 0.0))
        origins = np.concatenate(
            [places[:, None] + offsets, np.full((len(places), len(offsets), 1), 100.0)], 2
        )
        began = time.perf_counter()
        flat = origins.reshape(-1, 3)
        hit, which, _ = rays.intersects_location(flat, np.tile([0.0, 0.0, -1.0], (len(flat), 1)), False)
        top = np.full(len(flat), -np.inf)
        top[which] = hit[:, 2]
        found = (top.reshape(len(places), -1) - rise).max(axis=1)
        took = time.perf_counter() - began
        out[f"sampled_{spacing}_times_longer"] = round(took / own_s, 1)
        out[f"sampled_{spacing}_off_mm"] = round(float(np.abs(found - exact).max()), 4)
    return out


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    given = parser.parse_args()
    low, high = np.zeros(3), np.array(SIZE)
    field = field_of_block(grid_around(low, high, CELL), low, high)
    results = {"finishing": finishing(), "clearing": clearing(pocketed(), field)}
    if given.json:
        print(json.dumps(results))
        return
    for name, rows in results.items():
        print(name)
        for key, value in rows.items():
            print(f"  {key}: {value}")


if __name__ == "__main__":
    main()
