"""What do many moves take off all rays of one bundle, and what do they run into? (compiled) Threads own rows
of rays, not moves: each row sees the moves in their order, so the result is the same bit for bit on any
number of threads. A row whose rays run out of room keeps its `redo` mark; run again with more room it ends as
if there had been room at once, for cutting twice changes nothing.

Rays are given by their two lateral coordinates (outer, inner). `turn` (3, 3) has the tool's frame
(e1, e2, axis) as rows and the ray's, the outer's and the inner's unit vectors as columns; e1 lies
along the ray as far as it can. Bodies come as convex groups: heights and radii (g, points) with
`points` (g,) of them in use and ball (g, 2), see sweep.py.
"""

from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from pelvrak.core.stock.intervals import overlap, spares, subtract
from pelvrak.core.stock.sweep import (
    MISS,
    TINY,
    ball_places,
    level_across,
    level_along,
    level_places,
    radius_at,
    ramp_across,
    ramp_along,
    sweep_interval,
    touch_lines,
)

CUT, RAPID, STOPPED = 0, 1, 2
# Rows are dealt to this many lanes; a lane is what one thread takes at a time.
LANES = 16
# Rays of a row whose tops are known together.
TILE = 16
SAME_MM = 1e-4
# Walls that wait on one row of rays before they are taken off.
WALLS = 8
# Intervals that wait on one ray before they are taken off.
WAITING = 4
# Parts of a ray's length in which material is looked for, a bit each.
PARTS = 64
# Columns of what a move did: removed length on all rays, the longest on one ray, least and greatest
# distance of those rays to the left of the move, deepest cut within the core.
REMOVED, DEPTH, RIGHT, LEFT, CORE = 0, 1, 2, 3, 4


class Rays(NamedTuple):
    """The rays of one bundle, changed in place.

    count: intervals held, (rows, columns); position, normal, maker: of their ends, flat, the same room for
    every ray; touched: marks the rays that were cut; by: who cuts, written on every new end.
    """

    count: NDArray[Any]
    position: NDArray[Any]
    normal: NDArray[Any]
    maker: NDArray[Any]
    touched: NDArray[Any]
    by: Any


class Lie(NamedTuple):
    """How the rays lie to the tool. outer_origin, inner_origin: of the rows and of the rays in them, mm, cell
    apart; turn (3, 3), as above; frame (3, 3): the tool's axes in the work frame.
    """

    outer_origin: float
    inner_origin: float
    cell: float
    turn: NDArray[Any]
    frame: NDArray[Any]


class Moves(NamedTuple):
    """Moves of one tool. starts, moves: (n, 3) tip and travel in the tool's frame, mm; offsets, listed: those
    that can touch each row, as of `moves_by_row`.
    """

    starts: NDArray[Any]
    moves: NDArray[Any]
    offsets: NDArray[Any]
    listed: NDArray[Any]


class Waiting(NamedTuple):
    """Intervals that wait on the rays of a row, (rays, WAITING): where they begin and end, mm, and by which
    move and group.
    """

    lows: NDArray[Any]
    highs: NDArray[Any]
    low_codes: NDArray[Any]
    high_codes: NDArray[Any]


class Bodies(NamedTuple):
    """A tool's convex groups: heights, radii (g, points), of which `points` (g,) are in use, and ball (g, 2),
    see sweep.py; covers: shadows of each under each move.
    """

    heights: NDArray[Any]
    radii: NDArray[Any]
    points: NDArray[Any]
    ball: NDArray[Any]
    covers: NDArray[Any]


@njit(nogil=True, cache=True, error_model="numpy")
def row_bounds(centres, reach_low, reach_high, origin, cell, rows):
    """First and last row each move can touch, int64 (n, 2)."""
    out = np.empty((centres.shape[0], 2), np.int64)
    for m in range(centres.shape[0]):
        low = min(centres[m, 0], centres[m, 1]) + reach_low
        high = max(centres[m, 0], centres[m, 1]) + reach_high
        out[m, 0] = max(0, int(np.ceil((low - origin) / cell - 1e-9)))
        out[m, 1] = min(rows - 1, int(np.floor((high - origin) / cell + 1e-9)))
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def moves_by_row(bounds, rows):
    """For each row the moves that can touch it, in order: (offsets, moves)."""
    offsets = np.zeros(rows + 1, np.int64)
    for m in range(bounds.shape[0]):
        for r in range(bounds[m, 0], bounds[m, 1] + 1):
            offsets[r + 1] += 1
    for r in range(rows):
        offsets[r + 1] += offsets[r]
    filled = offsets[:-1].copy()
    listed = np.empty(offsets[-1], np.int32)
    for m in range(bounds.shape[0]):
        for r in range(bounds[m, 0], bounds[m, 1] + 1):
            listed[filled[r]] = m
            filled[r] += 1
    return offsets, listed


@njit(nogil=True, cache=True, error_model="numpy")
def shadows(moves, dx, dh, heights, radii, points, ball):
    """What each group and move covers, seen along the ray: (g, n, 8).

    Seen so, a place has y across and q = x dh - h dx. Columns: least and greatest y, least and
    greatest q, the direction (y, q) square to the move, and least and greatest along that.
    """
    groups, n = heights.shape[0], moves.shape[0]
    out = np.empty((groups, n, 8))
    for m in range(n):
        my, mq = moves[m, 1], moves[m, 0] * dh - moves[m, 2] * dx
        length = np.sqrt(my * my + mq * mq)
        wy, wq = (1.0, 0.0) if length < TINY else (-mq / length, my / length)
        lean = -wq * dx  # of that direction along the axis
        across = np.sqrt(max(0.0, 1 - lean * lean))
        for g in range(groups):
            widest, q_low, q_high, w_low, w_high = 0.0, MISS, -MISS, MISS, -MISS
            for i in range(points[g]):
                h, r = heights[g, i], radii[g, i]
                widest = max(widest, r)
                q_low, q_high = min(q_low, -h * dx - r * abs(dh)), max(q_high, -h * dx + r * abs(dh))
                w_low, w_high = min(w_low, h * lean - r * across), max(w_high, h * lean + r * across)
            if ball[g, 1] > 0:
                h, r = ball[g, 0], ball[g, 1]
                widest = max(widest, r)
                q_low, q_high = min(q_low, -h * dx - r), max(q_high, -h * dx + r)
                w_low, w_high = min(w_low, h * lean - r), max(w_high, h * lean + r)
            out[g, m, 0], out[g, m, 1] = min(0.0, my) - widest, max(0.0, my) + widest
            out[g, m, 2], out[g, m, 3] = min(0.0, mq) + q_low, max(0.0, mq) + q_high
            out[g, m, 4], out[g, m, 5] = wy, wq
            out[g, m, 6], out[g, m, 7] = w_low, w_high
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def _narrowed(first, last, at, step, low, high):
    """The part of first…last where low <= at + step * i <= high."""
    if abs(step) < 1e-13:
        if at < low - 1e-9 or at > high + 1e-9:
            return first, first - 1
        return first, last
    one, two = (low - at) / step, (high - at) / step
    if one > two:
        one, two = two, one
    if one > last or two < first:
        return first, first - 1
    return max(first, int(np.ceil(one - 1e-9))), min(last, int(np.floor(two + 1e-9)))


@njit(nogil=True, cache=True, error_model="numpy")
def _covered(shadow, y, y_step, q, q_step, count):
    """First and last of `count` rays along the row that the shadow can cover."""
    first, last = _narrowed(0, count - 1, y, y_step, shadow[0], shadow[1])
    if first <= last:
        first, last = _narrowed(first, last, q, q_step, shadow[2], shadow[3])
    if first <= last:
        wy, wq = shadow[4], shadow[5]
        first, last = _narrowed(first, last, wy * y + wq * q, wy * y_step + wq * q_step, shadow[6], shadow[7])
    return first, last


@njit(nogil=True, cache=True, error_model="numpy")
def _stock_normal(n0, n1, n2, frame):
    """Outward normal of the stock where the tool's is n, from the tool's frame to the work frame."""
    return (
        -(n0 * frame[0, 0] + n1 * frame[1, 0] + n2 * frame[2, 0]),
        -(n0 * frame[0, 1] + n1 * frame[1, 1] + n2 * frame[2, 1]),
        -(n0 * frame[0, 2] + n1 * frame[1, 2] + n2 * frame[2, 2]),
    )


@njit(nogil=True, cache=True, error_model="numpy")
def _interval(tool, g, x, y, h, dx, dh, m0, m1, m2):
    """What one group of a tool covers of a ray in one move, as of `sweep_interval`."""
    last, ball_height, ball_radius = tool.points[g] - 1, tool.ball[g, 0], tool.ball[g, 1]
    heights, radii = tool.heights[g], tool.radii[g]
    return sweep_interval(heights, radii, 0, last, ball_height, ball_radius, x, y, h, dx, dh, m0, m1, m2)


@njit(nogil=True, cache=True, error_model="numpy")
def _taken(rays, held, base, room, low, high, frame):
    """An interval, its ends with the tool's normals, taken off a ray: intervals held, -1 where there is no
    room, and the length that is gone.
    """
    below = _stock_normal(low[1], low[2], low[3], frame)
    above = _stock_normal(high[1], high[2], high[3], frame)
    return subtract(
        held,
        rays.position,
        rays.normal,
        rays.maker,
        base,
        room,
        low[0],
        high[0],
        below,
        above,
        rays.by,
    )


@njit(nogil=True, cache=True, error_model="numpy")
def _lane_in_turn(lane, rays, redo, lie, path, what, chained, tool, owner, core, cut, hits, load):
    """The rows of one lane, as of `cut_in_turn`."""
    count, position = rays.count, rays.position
    starts, moves, offsets, listed = path
    heights, radii, points, ball, covers = tool
    outer_origin, inner_origin, cell, turn, frame = lie
    rows, columns = count.shape
    room = position.shape[0] // count.size
    groups = heights.shape[0]
    dx, dh = turn[0, 0], turn[2, 0]
    parallel = abs(dx) < TINY
    tiles = (columns + TILE - 1) // TILE
    tops = np.empty(tiles)
    for row in range(lane, rows, LANES):
        if redo[row] == 0:
            continue
        redo[row] = 0
        v = outer_origin + cell * row
        if offsets[row] == offsets[row + 1]:
            continue
        tops[:] = MISS  # not looked at yet
        for index in range(offsets[row], offsets[row + 1]):
            m = listed[index]
            m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
            x0 = turn[0, 1] * v + turn[0, 2] * inner_origin - starts[m, 0]
            y0 = turn[1, 1] * v + turn[1, 2] * inner_origin - starts[m, 1]
            h0 = turn[2, 1] * v + turn[2, 2] * inner_origin - starts[m, 2]
            x_step, y_step, h_step = cell * turn[0, 2], cell * turn[1, 2], cell * turn[2, 2]
            level = parallel and abs(m2) < TINY
            length2 = m0 * m0 + m1 * m1
            length = np.sqrt(length2)
            over_length2 = 1 / (length2 + m2 * m2) if length2 + m2 * m2 > TINY * TINY else 0.0
            cutting = cut and what[m] == CUT
            for phase in range(3):  # bodies first, the cutter, bodies last
                if (phase == 0 and m2 < 0 and cutting) or (phase == 2 and not (m2 < 0 and cutting)):
                    continue
                for g in range(groups):
                    if (owner[g] < 0) != (phase == 1):
                        continue
                    first, last = _covered(
                        covers[g, m], y0, y_step, x0 * dh - h0 * dx, x_step * dh - h_step * dx, columns
                    )
                    if first > last:
                        continue
                    n = points[g]
                    ball_height, ball_radius = ball[g, 0], ball[g, 1]
                    flat = n == 2 and radii[g, 0] == radii[g, 1] and ball_radius == 0.0
                    plain = parallel and n == 2 and radii[g, 0] == radii[g, 1]
                    plain &= ball_radius == 0.0 or ball_radius == radii[g, 0]
                    lowest = min(0.0, m2) + starts[m, 2]
                    lowest += (
                        min(heights[g, 0], ball_height - ball_radius) if ball_radius > 0 else heights[g, 0]
                    )
                    if not parallel:
                        lowest -= max(radii[g, :n].max(), ball_radius)
                    # Where the move before has been, as deep: the rays of its last stand, or those behind
                    # it.
                    skip = chained[m] == 1 and phase == 1 and level
                    skip_first, skip_last = columns, -1
                    if skip and flat:
                        skip = False
                        half = radii[g, 0] * radii[g, 0] - y0 * y0
                        if half > 0:
                            half = np.sqrt(half)
                            skip_first = int(np.ceil((-half - x0) / x_step))
                            skip_last = int(np.floor((half - x0) / x_step))
                    column = first
                    while column <= last:
                        if skip_first <= column <= skip_last:
                            column = skip_last + 1
                            continue
                        if tops[column // TILE] == MISS:
                            tops[column // TILE] = -MISS
                            for at in range(column // TILE * TILE, min(columns, (column // TILE + 1) * TILE)):
                                held = count[row, at]
                                if held > 0:
                                    base = (row * columns + at) * room
                                    top = dh * (position[base + 2 * held - 1] if dh > 0 else position[base])
                                    top += turn[2, 1] * v + turn[2, 2] * (inner_origin + cell * at)
                                    tops[column // TILE] = max(tops[column // TILE], top)
                        if tops[column // TILE] <= lowest:
                            column = (column // TILE + 1) * TILE
                            continue
                        at = column
                        column += 1
                        held = count[row, at]
                        if held == 0:
                            continue
                        x, y, h = x0 + x_step * at, y0 + y_step * at, h0 + h_step * at
                        if skip and x * m0 + y * m1 <= 0:
                            continue
                        base = (row * columns + at) * room
                        if level and flat:
                            if length2 > 0:
                                t = min(1.0, max(0.0, (x * m0 + y * m1) / length2))
                                x, y = x - t * m0, y - t * m1
                            if x * x + y * y > radii[g, 0] * radii[g, 0]:
                                continue
                            low, high = (
                                ((heights[g, 0] - h) * dh, 0.0, 0.0, -1.0),
                                ((heights[g, 1] - h) * dh, 0.0, 0.0, 1.0),
                            )
                            if dh < 0:
                                low, high = high, low
                        elif level:
                            if plain and phase == 1 and cutting:
                                t = 0.0
                                if length2 > 0:
                                    t = min(1.0, max(0.0, (x * m0 + y * m1) / length2))
                                rx, ry = x - t * m0, y - t * m1
                                up = ball_radius * ball_radius - rx * rx - ry * ry
                                if up < 0:
                                    continue
                                a, b = (ball_height - np.sqrt(up) - h) * dh, (heights[g, 1] - h) * dh
                                if spares(held, position, (row * columns + at) * room, min(a, b), max(a, b)):
                                    continue
                            low, high = level_along(
                                heights[g],
                                radii[g],
                                0,
                                n - 1,
                                ball_height,
                                ball_radius,
                                x,
                                y,
                                h,
                                dh,
                                m0,
                                m1,
                                length2,
                            )
                        else:
                            if plain and phase == 1 and cutting:
                                near, far = ramp_along(
                                    heights[g, 0],
                                    heights[g, 1],
                                    radii[g, 0],
                                    x,
                                    y,
                                    h,
                                    dh,
                                    m0,
                                    m1,
                                    m2,
                                    length2,
                                )
                                if ball_radius > 0:
                                    a, b = ball_places(
                                        ball_radius,
                                        x,
                                        y,
                                        h - ball_height,
                                        dx,
                                        dh,
                                        m0,
                                        m1,
                                        m2,
                                        over_length2,
                                    )
                                    near, far = min(near, a), max(far, b)
                                if near > far or spares(
                                    held, position, (row * columns + at) * room, near, far
                                ):
                                    continue
                            low, high = _interval(tool, g, x, y, h, dx, dh, m0, m1, m2)
                        near, far = low[0], high[0]
                        if near > far:
                            continue
                        if phase != 1 or not cutting:
                            deep = overlap(held, position, base, near, far)
                            if deep > hits[lane, m, 1 + owner[g]]:
                                hits[lane, m, 1 + owner[g]] = deep
                            continue
                        if spares(held, position, base, near, far):
                            continue
                        held, gone = _taken(rays, held, base, room, low, high, frame)
                        if held < 0:
                            redo[row] = 1
                            continue
                        count[row, at] = held
                        rays.touched[row * columns + at] = 1
                        load[lane, m, REMOVED] += gone
                        load[lane, m, DEPTH] = max(load[lane, m, DEPTH], gone)
                        if length > TINY:
                            left = (m0 * (y0 + y_step * at) - m1 * (x0 + x_step * at)) / length
                            load[lane, m, RIGHT] = min(load[lane, m, RIGHT], left)
                            load[lane, m, LEFT] = max(load[lane, m, LEFT], left)
                        if core > 0 and m2 < 0 and length < core:
                            away2 = (x - m0) * (x - m0) + (y - m1) * (y - m1)
                            if away2 < core * core:
                                load[lane, m, CORE] = max(load[lane, m, CORE], gone)


@njit(nogil=True, cache=True, error_model="numpy", parallel=True)
def cut_in_turn(rays, redo, lie, path, what, chained, tool, owner, bodies, core, cut):
    """Cut move by move, test move by move, and say what each move did.

    The bundle is the one nearest to the tool axis; outer is its row; changed when `cut`. what: CUT, RAPID
    or STOPPED. chained: whether a move goes on level from where the one before it cut level. owner (g,):
    -1 for groups of the cutter, else the body. core: radius of the cutter that cannot cut on its way down.
    Returns (hits (LANES, n, 1 + bodies), load (LANES, n, 5)): hits column 0 is the cutter in moves that
    must not cut, the others the bodies, deepest overlap in mm with what stands before the move, or after
    it when the tool goes down: then the cutter has been there first.
    """
    hits = np.zeros((LANES, path.starts.shape[0], 1 + bodies))
    load = np.zeros((LANES, path.starts.shape[0], 5))
    load[:, :, RIGHT], load[:, :, LEFT] = MISS, -MISS
    for lane in prange(LANES):
        _lane_in_turn(lane, rays, redo, lie, path, what, chained, tool, owner, core, cut, hits, load)
    return hits, load


@njit(nogil=True, cache=True, error_model="numpy")
def _flush(rays, row, column, room, low, high, frame):
    """Take one pending interval off its ray; whether there was room."""
    held = rays.count[row, column]
    ray = row * rays.count.shape[1] + column
    if held == 0 or spares(held, rays.position, ray * room, low[0], high[0]):
        return True
    held, _ = _taken(rays, held, ray * room, room, low, high, frame)
    if held < 0:
        return False
    rays.count[row, column] = held
    rays.touched[ray] = 1
    return True


@njit(nogil=True, cache=True, error_model="numpy")
def _end(waiting, inner, side):
    """One end of the interval that waits on a ray."""
    return (
        waiting[inner, side],
        waiting[inner, side + 1],
        waiting[inner, side + 2],
        waiting[inner, side + 3],
    )


@njit(nogil=True, cache=True, error_model="numpy")
def _wait(waiting, inner, side, end):
    for d in range(4):
        waiting[inner, side + d] = end[d]


@njit(nogil=True, cache=True, error_model="numpy")
def _flush_walls(rays, swapped, outer, first, last, room, walls, standing, frame):
    """Take the first `standing` walls off all rays first…last of an outer row; whether there was room."""
    fits = True
    for inner in range(first, last + 1):
        row, column = (inner, outer) if swapped else (outer, inner)
        if rays.count[row, column] == 0:
            continue
        for w in range(standing):
            if not _flush(rays, row, column, room, _end(walls, w, 0), _end(walls, w, 4), frame):
                fits = False
    return fits


@njit(nogil=True, cache=True, error_model="numpy")
def _ends_by(code, v, inner, lie, path, tool):
    """Both ends, with normals, of what one group of one move covers on one ray; code: move * groups +
    group.
    """
    starts, moves, turn = path.starts, path.moves, lie.turn
    heights, radii, points, ball = tool.heights, tool.radii, tool.points, tool.ball
    m, g = code // heights.shape[0], code % heights.shape[0]
    m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
    dx, dh = turn[0, 0], turn[2, 0]
    u = lie.inner_origin + lie.cell * inner
    x = turn[0, 1] * v + turn[0, 2] * u - starts[m, 0]
    y = turn[1, 1] * v + turn[1, 2] * u - starts[m, 1]
    h = turn[2, 1] * v + turn[2, 2] * u - starts[m, 2]
    last, ball_height, ball_radius = points[g] - 1, ball[g, 0], ball[g, 1]
    if abs(dh) < TINY and abs(m2) < TINY:
        radius, slope = radius_at(heights[g], radii[g], 0, last, ball_height, ball_radius, h)
        low, high = level_across(radius, slope, x, y, m0, m1)
    else:
        low, high = _interval(tool, g, x, y, h, dx, dh, m0, m1, m2)
    if low[0] > high[0]:  # a graze that rounding has taken away
        return (0.0, -dx, 0.0, -dh), (0.0, dx, 0.0, dh)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _flush_waiting(rays, swapped, outer, inner, room, waits, waiting, lie, path, tool):
    """Take all intervals that wait on a ray off it; whether there was room. Only now are their normals asked
    for.
    """
    fits = True
    row, column = (inner, outer) if swapped else (outer, inner)
    v, ray = lie.outer_origin + lie.cell * outer, row * rays.count.shape[1] + column
    for k in range(waits):
        near, far = waiting.lows[inner, k], waiting.highs[inner, k]
        held = rays.count[row, column]
        if held == 0 or spares(held, rays.position, ray * room, near, far):
            continue
        code, other = waiting.low_codes[inner, k], waiting.high_codes[inner, k]
        low, high = _ends_by(code, v, inner, lie, path, tool)
        if other != code:
            _, high = _ends_by(other, v, inner, lie, path, tool)
        low, high = (near, low[1], low[2], low[3]), (far, high[1], high[2], high[3])
        if not _flush(rays, row, column, room, low, high, lie.frame):
            fits = False
    return fits


@njit(nogil=True, cache=True, error_model="numpy")
def _parts(low, high):
    """Bits low…high of 64."""
    return (~np.uint64(0) << np.uint64(low)) & (~np.uint64(0) >> np.uint64(63 - high))


@njit(nogil=True, cache=True, error_model="numpy")
def reached(starts, moves, dx, dh, low, high, along):
    """Parts of the rays' length that each move can reach, uint64 (n,), a bit each.

    low, high: least and greatest of the tool along the ray, from its tip; along: where the first part
    begins, mm, and parts per mm.
    """
    out = np.empty(starts.shape[0], np.uint64)
    for m in range(starts.shape[0]):
        one = starts[m, 0] * dx + starts[m, 2] * dh
        two = one + moves[m, 0] * dx + moves[m, 2] * dh
        first = int(np.floor((min(one, two) + low - 1e-6 - along[0]) * along[1]))
        last = int(np.floor((max(one, two) + high + 1e-6 - along[0]) * along[1]))
        out[m] = _parts(min(max(first, 0), PARTS - 1), min(max(last, 0), PARTS - 1))
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def _material(rays, room, swapped, outer, tile, inners, along):
    """Parts of the rays' length that hold material on any ray of a tile of an outer row of `inners`."""
    out = np.uint64(0)
    for inner in range(tile * TILE, min(inners, (tile + 1) * TILE)):
        row, column = (inner, outer) if swapped else (outer, inner)
        base = (row * rays.count.shape[1] + column) * room
        for i in range(rays.count[row, column]):
            low = int((rays.position[base + 2 * i] - along[0]) * along[1])
            high = int((rays.position[base + 2 * i + 1] - along[0]) * along[1])
            out |= _parts(min(max(low, 0), PARTS - 1), min(max(high, 0), PARTS - 1))
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def _lane_together(lane, rays, redo, swapped, lie, path, tool, reach, along):
    """The rows of one lane, as of `cut_together`."""
    count, position = rays.count, rays.position
    starts, moves, offsets, listed = path
    heights, radii, points, ball, covers = tool
    outer_origin, inner_origin, cell, turn, _ = lie
    rows, columns = count.shape
    room = position.shape[0] // count.size
    outers, inners = (columns, rows) if swapped else (rows, columns)
    dx, dh = turn[0, 0], turn[2, 0]
    square = abs(dh) < TINY
    # A step inwards is a step along the axis.
    upright = square and abs(turn[1, 2]) < TINY and abs(turn[0, 2]) < TINY
    tiles = (inners + TILE - 1) // TILE
    waits = np.zeros(inners, np.int64)
    lows, highs = np.empty((inners, WAITING)), np.empty((inners, WAITING))
    low_codes, high_codes = np.empty((inners, WAITING), np.int64), np.empty((inners, WAITING), np.int64)
    walls = np.empty((WALLS, 8))
    waiting = Waiting(lows, highs, low_codes, high_codes)
    known, material = np.empty(tiles, np.uint8), np.empty(tiles, np.uint64)
    for outer in range(lane, outers, LANES):
        if redo[outer] == 0:
            continue
        redo[outer] = 0
        if offsets[outer] == offsets[outer + 1]:
            continue
        v = outer_origin + cell * outer
        waits[:] = 0
        known[:] = 0
        used_first, used_last = inners, -1
        wall_first, wall_last, standing = 0, -1, 0
        for index in range(offsets[outer], offsets[outer + 1]):
            m = listed[index]
            m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
            x0 = turn[0, 1] * v + turn[0, 2] * inner_origin - starts[m, 0]
            y0 = turn[1, 1] * v + turn[1, 2] * inner_origin - starts[m, 1]
            h0 = turn[2, 1] * v + turn[2, 2] * inner_origin - starts[m, 2]
            x_step, y_step, h_step = cell * turn[0, 2], cell * turn[1, 2], cell * turn[2, 2]
            level = square and abs(m2) < TINY
            for g in range(heights.shape[0]):
                first, last = _covered(
                    covers[g, m], y0, y_step, x0 * dh - h0 * dx, x_step * dh - h_step * dx, inners
                )
                if first > last:
                    continue
                n, ball_height, ball_radius = points[g], ball[g, 0], ball[g, 1]
                if upright and level and n == 2 and radii[g, 0] == radii[g, 1] and ball_radius == 0.0:
                    there = np.uint64(0)
                    for tile in range(first // TILE, last // TILE + 1):
                        if known[tile] == 0:
                            known[tile] = 1
                            material[tile] = _material(rays, room, swapped, outer, tile, inners, along)
                        there |= material[tile]
                    if there & reach[m] == 0:
                        continue
                    low, high = level_across(radii[g, 0], 0.0, x0, y0, m0, m1)
                    if low[0] > high[0]:
                        continue
                    if wall_first == first and wall_last == last:
                        w = 0
                        while w < standing and (
                            low[0] > walls[w, 4] + SAME_MM or high[0] < walls[w, 0] - SAME_MM
                        ):
                            w += 1
                        if w < standing:
                            if low[0] < walls[w, 0]:
                                _wait(walls, w, 0, low)
                            if high[0] > walls[w, 4]:
                                _wait(walls, w, 4, high)
                            continue
                    if standing == WALLS or wall_first != first or wall_last != last:
                        if not _flush_walls(
                            rays, swapped, outer, wall_first, wall_last, room, walls, standing, lie.frame
                        ):
                            redo[outer] = 1
                        standing = 0
                    wall_first, wall_last = first, last
                    _wait(walls, standing, 0, low)
                    _wait(walls, standing, 4, high)
                    standing += 1
                    continue
                used_first, used_last = min(used_first, first), max(used_last, last)
                # Flat and ball tools: places first, for most rays have been cut there, or wait to be.
                plain = upright and n == 2 and radii[g, 0] == radii[g, 1]
                wide = radii[g, 0]
                inverse = 1 / m2 if not level else 0.0
                touches = touch_lines(wide, y0, m0, m1)
                length2 = m0 * m0 + m1 * m1 + m2 * m2
                length = np.sqrt(length2)
                over_length2 = 1 / length2 if length2 > TINY * TINY else 0.0
                touching = 1 / m1 if abs(m1) > TINY else 0.0
                step = first
                while step <= last:
                    inner, tile = step, step // TILE
                    step += 1
                    if known[tile] == 0:
                        known[tile] = 1
                        material[tile] = _material(rays, room, swapped, outer, tile, inners, along)
                    if material[tile] & reach[m] == 0:
                        step = (tile + 1) * TILE
                        continue
                    if plain:
                        h = h0 + h_step * inner
                        if level:
                            radius = wide
                            if h < heights[g, 0]:
                                radius = ball_radius * ball_radius - (h - ball_height) * (h - ball_height)
                                if radius <= 0:
                                    continue
                                radius = np.sqrt(radius)
                            near, far = level_places(radius, x0, y0, m0, m1, length, touching)
                        else:
                            near, far = ramp_across(
                                heights[g, 0], heights[g, 1], wide, x0, y0, h, m0, m1, inverse, touches
                            )
                            if ball_radius > 0:
                                a, b = ball_places(
                                    ball_radius, x0, y0, h - ball_height, dx, dh, m0, m1, m2, over_length2
                                )
                                near, far = min(near, a), max(far, b)
                        if near > far:
                            continue
                        if waits[inner] == 0:
                            row, column = (inner, outer) if swapped else (outer, inner)
                            held = count[row, column]
                            if held == 0 or spares(
                                held, position, (row * columns + column) * room, near, far
                            ):
                                continue
                    else:
                        x, y, h = x0 + x_step * inner, y0 + y_step * inner, h0 + h_step * inner
                        if level:
                            radius, slope = radius_at(
                                heights[g], radii[g], 0, n - 1, ball_height, ball_radius, h
                            )
                            if radius <= 0:
                                continue
                            low, high = level_across(radius, slope, x, y, m0, m1)
                        else:
                            low, high = _interval(tool, g, x, y, h, dx, dh, m0, m1, m2)
                        near, far = low[0], high[0]
                        if near > far:
                            continue
                    code = m * heights.shape[0] + g
                    k = 0
                    while k < waits[inner] and (
                        near > highs[inner, k] + SAME_MM or far < lows[inner, k] - SAME_MM
                    ):
                        k += 1
                    if k < waits[inner]:
                        if near < lows[inner, k]:
                            lows[inner, k], low_codes[inner, k] = near, code
                        if far > highs[inner, k]:
                            highs[inner, k], high_codes[inner, k] = far, code
                        continue
                    if k == WAITING:
                        if not _flush_waiting(rays, swapped, outer, inner, room, k, waiting, lie, path, tool):
                            redo[outer] = 1
                        k = 0
                    lows[inner, k], highs[inner, k] = near, far
                    low_codes[inner, k], high_codes[inner, k] = code, code
                    waits[inner] = k + 1
        if not _flush_walls(rays, swapped, outer, wall_first, wall_last, room, walls, standing, lie.frame):
            redo[outer] = 1
        for inner in range(used_first, used_last + 1):
            if waits[inner] > 0:
                if not _flush_waiting(
                    rays, swapped, outer, inner, room, waits[inner], waiting, lie, path, tool
                ):
                    redo[outer] = 1


@njit(nogil=True, cache=True, error_model="numpy", parallel=True)
def cut_together(rays, redo, swapped, lie, path, tool, reach, along):
    """Cut with all moves at once: on each ray, what consecutive moves cover is joined before it is taken off.

    So the work on the stock grows with the surface swept, not with the number of moves. Level moves
    of a flat cutter leave the same on every ray up the tool: they wait as walls, first…last rays
    high. Rays with nothing where a move can reach are passed over, a tile at a time. swapped: the outer
    direction is the bundle's column, not its row. All moves cut. reach, along: as of `reached`.
    Groups are the cutter's alone.
    """
    for lane in prange(LANES):
        _lane_together(lane, rays, redo, swapped, lie, path, tool, reach, along)
