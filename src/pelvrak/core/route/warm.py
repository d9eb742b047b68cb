"""Compiles every kernel into its cache, so that the first one who needs it does not wait.

Run: python -m pelvrak.core.route.warm. Compiling uses one core: half of the kernels are compiled beside the
other half.
"""

from __future__ import annotations

import multiprocessing

import numpy as np
from shapely import Point

from pelvrak.core.cutting.drop_cutter import Rounded, drop, follow, laid_out
from pelvrak.core.cutting.fronts import Cut, steady_fronts
from pelvrak.core.cutting.toolpath import fitted
from pelvrak.core.geometry.mesh import box
from pelvrak.core.geometry.visibility import Caster
from pelvrak.core.holding.hold import fixtures_of, vise_hold
from pelvrak.core.holding.holding import hold_work
from pelvrak.core.program.words import Lines
from pelvrak.core.stock.above import region_above
from pelvrak.core.stock.compare import compare
from pelvrak.core.stock.cut import CUT, Profile, Sweep, cut, test
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.moments import Moments, Recorder, stock_at
from pelvrak.core.stock.profile import ball_nose, flat
from pelvrak.core.stock.questions import deepest_overlap, pieces, thinnest
from pelvrak.core.stock.shapes import field_of_block
from pelvrak.core.stock.surface import simplified, surface

UP = np.array([0.0, 0.0, 1.0])
LOW, HIGH = np.zeros(3), np.array([12.0, 10.0, 8.0])
GRID = grid_around(LOW, HIGH, 1.0)


def compile_cutting() -> None:
    """Touch the kernels that cut: rays along, square to and across the tool; moments."""
    start = field = field_of_block(GRID, LOW, HIGH)
    holder = Profile((6.0, 9.0), (4.0, 4.0))
    lean = np.array([0.3, 0.2, 1.0]) / np.linalg.norm([0.3, 0.2, 1.0])
    starts, ends = np.array([[3.0, 3, 6], [8, 6, 5]]), np.array([[8.0, 6, 5], [9, 6, 5]])
    recorder = Recorder()
    for axis in (UP, lean):
        for tool in (flat(2, 8), ball_nose(2, 8)):
            sweep = Sweep(starts, ends, np.full(2, CUT, np.uint8), axis, tool, (holder,))
            field, _ = cut(field, sweep, 1, None, recorder)
    test(field, sweep)
    stock_at(start, Moments(sweep, np.array([1.0, 2.0]), 1, tuple(recorder.kept[:1])), 1.5)


def compile_others() -> None:
    """Touch the others: surface, questions, comparison, contact, arcs."""
    start, field = field_of_block(GRID, LOW, HIGH), field_of_block(GRID, LOW, np.array([12.0, 10.0, 6.0]))
    list(Lines("G0 X1.\n%"))
    fitted(np.column_stack([np.cos(np.linspace(0, 3, 20)), np.sin(np.linspace(0, 3, 20))]))
    deepest_overlap(field, start)
    thinnest(field, UP)
    laid = laid_out(box(LOW, HIGH), 2.0)
    follow(laid, Rounded(1.0, 1.0), LOW[:2], HIGH[:2], 0.01)
    drop(laid, Rounded(1.0, 1.0), HIGH[None, :2])
    room, begun = Point(0.0, 0.0).buffer(3.0), Point(0.0, 0.0).buffer(1.0)
    list(steady_fronts(room, begun, room, region_above(field, 3.0), Cut(1.0, 2.0)))
    pieces(field)
    Caster(surface(start)).distance(LOW[None], UP)
    compare(field, simplified(surface(field, 0.01), 0.01), surface(start))
    hold_work(vise_hold(), fixtures_of(()), box(np.array([-50.0, -30, -40]), np.array([50.0, 30, 0])), "OP10")


def compile_all() -> None:
    """All of them, in two processes."""
    context = multiprocessing.get_context("spawn")
    beside = context.Process(target=compile_others)
    beside.start()
    compile_cutting()
    beside.join()
    if beside.exitcode:
        raise SystemExit(beside.exitcode)


if __name__ == "__main__":
    compile_all()
