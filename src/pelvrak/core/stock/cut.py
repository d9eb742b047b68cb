"""What do the moves of one tool take off the stock, and what do they run into?"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.errors import Stopped
from pelvrak.core.stock import cutting_kernel as kernel
from pelvrak.core.stock.cutting_kernel import CUT, RAPID, STOPPED
from pelvrak.core.stock.field import Bundle, Floats, RayField, copied, grown
from pelvrak.core.stock.profile import Groups, Profile, groups
from pelvrak.core.stock.sweep import MISS, TINY

__all__ = ["CUT", "RAPID", "STOPPED", "Hits", "Profile", "Sweep", "Touched", "cut", "test"]

ALIGNED = 1e-9
# A batch ends after this many moves or about this many rays visited: progress is told, and stopping heard, in
# between.
BATCH_MOVES = 4000
BATCH_RAYS = 1_000_000

Touched = tuple[NDArray[np.uint8], NDArray[np.uint8], NDArray[np.uint8]]
# Called after every batch: moves done so far, the field as it stands (changed by later batches),
# and which rays of each bundle were changed since the last call.
Record = Callable[[int, RayField, Touched], None]


@dataclass(frozen=True)
class Sweep:
    """Moves of one tool in the work frame.

    starts, ends: tip positions, mm, (n, 3); what: CUT, RAPID or STOPPED (feed with the spindle
    standing), (n,); axis: unit vector from the tip to the spindle, (3,), or one for each move, (n, 3);
    cutter: what cuts; bodies: what only turns (neck, shank, holder, spindle nose), measured from the
    tip; core: radius within which the cutter cannot cut on its way down, mm.
    """

    starts: Floats
    ends: Floats
    what: NDArray[np.uint8]
    axis: Floats
    cutter: Profile
    bodies: tuple[Profile, ...] = ()
    core: float = 0.0

    def part(self, chosen: slice) -> Sweep:
        """Some of the moves."""
        axis = self.axis if self.axis.ndim == 1 else self.axis[chosen]
        return replace(
            self, starts=self.starts[chosen], ends=self.ends[chosen], what=self.what[chosen], axis=axis
        )


@dataclass(frozen=True)
class Hits:
    """What every move did and met, n moves and k bodies.

    rapid (n,): deepest overlap of the cutter in moves that must not cut, mm; bodies (n, k): deepest
    overlap of each body with what stood, mm; removed (n,): volume taken off, mm³; depth, width (n,):
    of engagement along the tool and square to the move, mm; core (n,): depth cut going down where
    the cutter cannot, mm.
    """

    rapid: Floats
    bodies: Floats
    removed: Floats
    depth: Floats
    width: Floats
    core: Floats

    @property
    def deepest(self) -> Floats:
        """How deep each move comes in with what must not: its cutter in rapid, its bodies, mm, (n,)."""
        return np.asarray(np.maximum(self.rapid, self.bodies.max(axis=1, initial=0.0)))


@lru_cache(maxsize=1024)
def _frame(x: float, y: float, z: float, ray: int) -> Floats:
    """The frame (rows e1, e2, axis) of a tool whose axis is x, y, z, with e1 along the ray as far as it
    can.
    """
    axis = np.array([x, y, z])
    direction = np.zeros(3)
    direction[ray] = 1.0
    along = float(axis @ direction)
    if abs(abs(along) - 1) < ALIGNED:
        first = np.zeros(3)
        first[(ray + 1) % 3] = 1.0
        exact = direction * np.sign(along)
        return np.array([first, np.cross(exact, first), exact])
    if abs(along) < ALIGNED:
        return np.array([direction, np.cross(axis, direction), axis])
    first = direction - along * axis
    first /= np.linalg.norm(first)
    return np.array([first, np.cross(axis, first), axis])


def _runs(sweep: Sweep) -> Iterator[tuple[int, int, Floats]]:
    """Stretches of moves that share one tool axis: (first, past the last, axis)."""
    if sweep.axis.ndim == 1:
        yield 0, len(sweep.what), sweep.axis
        return
    changes = np.flatnonzero((np.diff(sweep.axis, axis=0) != 0).any(axis=1)) + 1
    limits = [0, *changes.tolist(), len(sweep.what)]
    for first, last in zip(limits, limits[1:], strict=False):
        yield first, last, sweep.axis[first]


def _chained(starts: Floats, moves: Floats, what: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Moves that go on cutting level from where the one before ended cutting level."""
    level = (np.abs(moves[:, 2]) < TINY) & (what == CUT)
    out = np.zeros(len(what), np.uint8)
    joined = np.abs(starts[1:] - starts[:-1] - moves[:-1]).max(axis=1) < 1e-12
    out[1:] = level[1:] & level[:-1] & joined
    return out


@dataclass
class _Laid:
    """One bundle under one run of moves: what both kernels are given. outer: the axis across its rows."""

    outer: int
    lie: kernel.Lie
    path: kernel.Moves
    tool: kernel.Bodies


def _lay(field: RayField, bundle: Bundle, axis: Floats, sweep: Sweep, shapes: Groups, in_turn: bool) -> _Laid:
    grid, ray = field.grid, bundle.axis
    u, v = (ray + 1) % 3, (ray + 2) % 3
    # Walk the rays of a row along the tool axis where they all see the same of a level move.
    outer, inner = (u, v) if not in_turn and abs(axis[v]) > abs(axis[u]) else (v, u)
    frame = _frame(*axis.tolist(), ray)
    low, high = shapes.extent(float(axis[outer]))
    bounds = kernel.row_bounds(
        np.stack([sweep.starts[:, outer], sweep.ends[:, outer]], axis=1),
        low,
        high,
        grid.origin[outer],
        grid.cell,
        grid.shape[outer],
    )
    turn = np.ascontiguousarray(frame[:, [ray, outer, inner]])
    starts = np.ascontiguousarray(sweep.starts @ frame.T)
    moves = np.ascontiguousarray((sweep.ends - sweep.starts) @ frame.T)
    moves[np.abs(moves) < TINY] = 0.0
    covers = kernel.shadows(
        moves, turn[0, 0], turn[2, 0], shapes.heights, shapes.radii, shapes.points, shapes.ball
    )
    rows = kernel.moves_by_row(bounds, grid.shape[outer])
    return _Laid(
        outer,
        kernel.Lie(grid.origin[outer], grid.origin[inner], grid.cell, turn, frame),
        kernel.Moves(starts, moves, *rows),
        kernel.Bodies(shapes.heights, shapes.radii, shapes.points, shapes.ball, covers),
    )


def _rays(bundle: Bundle, touched: NDArray[np.uint8], maker: int) -> kernel.Rays:
    return kernel.Rays(
        bundle.count,
        bundle.position.reshape(-1),
        bundle.normal.reshape(-1),
        bundle.maker.reshape(-1),
        touched,
        np.uint16(maker),
    )


def _in_turn(
    field: RayField,
    bundle: Bundle,
    axis: Floats,
    sweep: Sweep,
    maker: int,
    touched: NDArray[np.uint8],
    cutting: bool,
) -> tuple[Bundle, Floats, Floats]:
    """The bundle nearest to the tool axis: (bundle, hits (n, 1 + k), load (n, 5))."""
    shapes = groups((sweep.cutter, *sweep.bodies), tuple(range(-1, len(sweep.bodies))))
    laid = _lay(field, bundle, axis, sweep, shapes, True)
    redo = np.ones(bundle.count.shape[0], np.uint8)
    all_hits = np.zeros((len(sweep.what), 1 + len(sweep.bodies)))
    all_load = np.zeros((len(sweep.what), 5))
    all_load[:, kernel.RIGHT], all_load[:, kernel.LEFT] = MISS, -MISS
    while True:
        hits, load = kernel.cut_in_turn(
            _rays(bundle, touched, maker),
            redo,
            laid.lie,
            laid.path,
            sweep.what,
            _chained(laid.path.starts, laid.path.moves, sweep.what),
            laid.tool,
            shapes.owner,
            len(sweep.bodies),
            sweep.core,
            cutting,
        )
        np.maximum(all_hits, hits.max(axis=0), out=all_hits)
        all_load[:, kernel.REMOVED] += load[:, :, kernel.REMOVED].sum(axis=0)
        for column in (kernel.DEPTH, kernel.LEFT, kernel.CORE):
            np.maximum(all_load[:, column], load[:, :, column].max(axis=0), out=all_load[:, column])
        np.minimum(
            all_load[:, kernel.RIGHT], load[:, :, kernel.RIGHT].min(axis=0), out=all_load[:, kernel.RIGHT]
        )
        if not redo.any():
            return bundle, all_hits, all_load
        bundle = grown(bundle, 2 * bundle.capacity)


def _together(
    field: RayField,
    bundle: Bundle,
    axis: Floats,
    sweep: Sweep,
    shapes: Groups,
    maker: int,
    touched: NDArray[np.uint8],
) -> Bundle:
    """A bundle across the tool axis; all moves cut."""
    laid = _lay(field, bundle, axis, sweep, shapes, False)
    swapped = laid.outer == (bundle.axis + 1) % 3
    origin, steps = field.grid.origin[bundle.axis], field.grid.shape[bundle.axis] - 1
    along = (origin, kernel.PARTS / max(field.grid.cell * steps, TINY))
    low, high = shapes.extent(float(axis[bundle.axis]))
    turn, path = laid.lie.turn, laid.path
    reach = kernel.reached(path.starts, path.moves, turn[0, 0], turn[2, 0], low, high, along)
    redo = np.ones(field.grid.shape[laid.outer], np.uint8)
    while True:
        rays = _rays(bundle, touched, maker)
        kernel.cut_together(rays, redo, swapped, laid.lie, laid.path, laid.tool, reach, along)
        if not redo.any():
            return bundle
        bundle = grown(bundle, 2 * bundle.capacity)


def _batches(sweep: Sweep, cell: float, shapes: Groups) -> Iterator[slice]:
    """Stretches of moves of bounded work, whatever the machine."""
    wide = 2 * shapes.widest
    length = np.linalg.norm(sweep.ends - sweep.starts, axis=1)
    visits = np.cumsum((length + wide) * wide / cell**2 + 100.0)
    first = 0
    while first < len(visits):
        done = visits[first - 1] if first else 0.0
        last = int(np.searchsorted(visits, done + BATCH_RAYS))
        last = min(max(last, first + 1), first + BATCH_MOVES, len(visits))
        yield slice(first, last)
        first = last


def cut(
    field: RayField,
    sweep: Sweep,
    maker: int,
    progress: Callable[[float], bool] | None = None,
    record: Record | None = None,
) -> tuple[RayField, Hits]:
    """Take the cutting moves of a sweep off the field, in their order.

    maker: number written on every new surface. progress is called with the share of the moves done
    (0…1) and may return False to stop (raises Stopped); record is called after every batch. Returns
    the new field and what every move did; the given field is unchanged. Bodies are tested against
    what stands before the move is cut, or, going down, after it: then the cutter has passed first.
    """
    n = len(sweep.what)
    bundles = [copied(bundle) for bundle in field.bundles]
    touched = [np.zeros(bundle.count.size, np.uint8) for bundle in bundles]
    shapes = groups((sweep.cutter,), (-1,))
    hits, load = np.zeros((n, 1 + len(sweep.bodies))), np.zeros((n, 5))
    for chosen in _batches(sweep, field.grid.cell, shapes) if n else ():
        batch = sweep.part(chosen)
        for first, last, axis in _runs(batch):
            run = batch.part(slice(first, last))
            nearest = int(np.argmax(np.abs(axis)))
            at = slice(chosen.start + first, chosen.start + last)
            for ray in range(3):
                if ray == nearest:
                    bundles[ray], hits[at], load[at] = _in_turn(
                        field, bundles[ray], axis, run, maker, touched[ray], True
                    )
                elif (run.what == CUT).any():
                    only = replace(run, starts=run.starts[run.what == CUT], ends=run.ends[run.what == CUT])
                    bundles[ray] = _together(field, bundles[ray], axis, only, shapes, maker, touched[ray])
        if record is not None:
            record(chosen.stop, RayField(field.grid, (bundles[0], bundles[1], bundles[2])), tuple(touched))  # type: ignore[arg-type]
            for flags in touched:
                flags[:] = 0
        if progress is not None and not progress(chosen.stop / n):
            raise Stopped
    return RayField(field.grid, (bundles[0], bundles[1], bundles[2])), _hits(hits, load, field.grid.cell)


def _hits(hits: Floats, load: Floats, cell: float) -> Hits:
    cuts = load[:, kernel.REMOVED] > 0
    width = np.where(
        cuts & (load[:, kernel.LEFT] >= load[:, kernel.RIGHT]),
        load[:, kernel.LEFT] - load[:, kernel.RIGHT] + cell,
        0.0,
    )
    return Hits(
        hits[:, 0],
        hits[:, 1:],
        load[:, kernel.REMOVED] * cell**2,
        load[:, kernel.DEPTH],
        width,
        load[:, kernel.CORE],
    )


def test(field: RayField, sweep: Sweep) -> Hits:
    """What every move, cutting or rapid, runs into in a field that is not cut (holding, machine).

    `rapid` then holds the cutter's deepest overlap of every move.
    """
    every = replace(sweep, what=np.full(len(sweep.what), RAPID, np.uint8))
    hits, load = np.zeros((len(sweep.what), 1 + len(sweep.bodies))), np.zeros((len(sweep.what), 5))
    for first, last, axis in _runs(every):
        bundle = field.bundles[int(np.argmax(np.abs(axis)))]
        untouched = np.zeros(0, np.uint8)
        _, hits[first:last], load[first:last] = _in_turn(
            field, bundle, axis, every.part(slice(first, last)), 0, untouched, False
        )
    return _hits(hits, load, field.grid.cell)
