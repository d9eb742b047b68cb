"""What do many moves take off all rays of one bundle, and what do they run into? (compiled)

Threads own rows of rays, not moves: each row sees the moves in their order, so the
result is the same bit for bit on any number of threads.
"""

import numpy as np
from numba import njit, prange

from pelvrak.core.stock.intervals import overlap, spares, subtract
from pelvrak.core.stock.sweep import (
    MISS,
    line_and_hull,
    oblique_interval,
    parallel_interval,
    square_interval,
)

CUT, RAPID = 0, 1
OBLIQUE_SAMPLES = 24
# Rows are dealt to this many lanes; a lane is what one thread takes at a time.
LANES = 16


@njit(nogil=True, cache=True)
def row_bounds(centres, reach_low, reach_high, origin, cell, rows):
    """First and last row each move can touch, int64 (n, 2)."""
    out = np.empty((centres.shape[0], 2), np.int64)
    for m in range(centres.shape[0]):
        low = min(centres[m, 0], centres[m, 1]) + reach_low
        high = max(centres[m, 0], centres[m, 1]) + reach_high
        out[m, 0] = max(0, int(np.ceil((low - origin) / cell - 1e-9)))
        out[m, 1] = min(rows - 1, int(np.floor((high - origin) / cell + 1e-9)))
    return out


@njit(nogil=True, cache=True)
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


@njit(nogil=True, cache=True)
def _columns(low, high, origin, cell, columns):
    """First and last ray between two places along the row."""
    first = max(0, int(np.ceil((low - origin) / cell - 1e-9)))
    last = min(columns - 1, int(np.floor((high - origin) / cell + 1e-9)))
    return first, last


@njit(nogil=True, cache=True)
def _turned(a, b, c, frame, out):
    """Stock normal in the work frame from a tool normal (a, b, c) in the tool's frame, into out."""
    for axis in range(3):
        out[axis] = -(a * frame[0, axis] + b * frame[1, axis] + c * frame[2, axis])


@njit(nogil=True, cache=True, parallel=True)
def sweep_parallel(
    count, position, normal, maker, u_origin, v_origin, cell, offsets, listed,
    starts, moves, what, by, frame, sign, heights, radii, body_heights, body_radii, cut,
):  # fmt: skip
    """Cut and test with rays along the tool axis.

    count … maker: one bundle, all but count flat, changed in place when `cut`. starts, moves: (n, 3) tip and travel in
    the tool's frame, whose rows e1, e2, axis stand in `frame`; e1 is the row direction u, e2 is
    sign * v, the axis is sign * the ray. what: CUT or RAPID. body_heights, body_radii (k, points):
    what follows the cutter. Returns (hits (LANES, n, 1 + k), overflow): hits column 0 is the cutter
    in rapid moves, the others the bodies in any move, deepest overlap in mm, against what stands
    once the cutter of that same move has passed.
    """
    rows, columns = count.shape
    room = position.shape[0] // count.size
    bodies = body_heights.shape[0]
    hits = np.zeros((LANES, starts.shape[0], 1 + bodies))
    overflow = np.zeros(LANES, np.int32)
    widest, flat = radii[-1], radii[0] >= radii[-1]
    for lane in prange(LANES):
        low_normal = np.zeros(3)
        high_normal = np.zeros(3)
        for row in range(lane, rows, LANES):
            y = sign * (v_origin + cell * row)
            for index in range(offsets[row], offsets[row + 1]):
                m = listed[index]
                m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
                p0, p2 = starts[m, 0], starts[m, 2]
                dy = y - starts[m, 1]
                lo, hi, _, _, _, _ = line_and_hull(dy, 0.0, 0.0, widest, m0, m1, widest)
                level = flat and abs(m2) < 1e-12
                if lo <= hi and (cut or what[m] == RAPID):
                    start, end = _columns(lo + p0, hi + p0, u_origin, cell, columns)
                    for column in range(start, end + 1):
                        held = count[row, column]
                        if held == 0:
                            continue
                        base = (row * columns + column) * room
                        rx = u_origin + cell * column - p0
                        if level:
                            low, high, t, slope = heights[0], heights[-1], 0.0, 0.0
                        else:
                            low, high, t, slope = parallel_interval(heights, radii, rx, dy, m0, m1, m2)
                            if low == MISS:
                                continue
                        near, far = (low + p2) * sign, (high + p2) * sign
                        if sign < 0:
                            near, far = far, near
                        if what[m] == RAPID:
                            deep = overlap(held, position, base, near, far)
                            if deep > hits[lane, m, 0]:
                                hits[lane, m, 0] = deep
                            continue
                        if spares(held, position, base, near, far):
                            continue
                        a, b, c = 0.0, 0.0, -1.0
                        if slope > 0:
                            ax, ay = rx - t * m0, dy - t * m1
                            r = max(1e-12, np.sqrt(ax * ax + ay * ay))
                            length = np.sqrt(1 + slope * slope)
                            a, b, c = ax / r / length, ay / r / length, -slope / length
                        if sign > 0:
                            _turned(a, b, c, frame, low_normal)
                            _turned(0.0, 0.0, 1.0, frame, high_normal)
                        else:
                            _turned(0.0, 0.0, 1.0, frame, low_normal)
                            _turned(a, b, c, frame, high_normal)
                        held = subtract(
                            held, position, normal, maker, base, room,
                            near, far, low_normal, high_normal, by,
                        )  # fmt: skip
                        if held < 0:
                            overflow[lane] = 1
                        else:
                            count[row, column] = held
                for body in range(bodies):
                    reach = body_radii[body, -1]
                    lo, hi, _, _, _, _ = line_and_hull(dy, 0.0, 0.0, reach, m0, m1, reach)
                    if lo > hi:
                        continue
                    start, end = _columns(lo + p0, hi + p0, u_origin, cell, columns)
                    lowest = p2 + min(0.0, m2) + body_heights[body, 0]
                    for column in range(start, end + 1):
                        held = count[row, column]
                        if held == 0:
                            continue
                        base = (row * columns + column) * room
                        top = position[base + 2 * held - 1] if sign > 0 else -position[base]
                        if top <= lowest:
                            continue
                        low, high, t, slope = parallel_interval(
                            body_heights[body], body_radii[body], u_origin + cell * column - p0, dy, m0, m1, m2
                        )
                        if low != MISS:
                            near, far = (low + p2) * sign, (high + p2) * sign
                            if sign < 0:
                                near, far = far, near
                            deep = overlap(held, position, base, near, far)
                            if deep > hits[lane, m, 1 + body]:
                                hits[lane, m, 1 + body] = deep
    return hits, overflow.max()


@njit(nogil=True, cache=True, parallel=True)
def sweep_square(
    count, position, normal, maker, swapped, outer_origin, inner_origin, cell, bounds, offsets, listed,
    starts, moves, by, frame, sign, outer_way, inner_way, heights, radii,
):  # fmt: skip
    """Cut with rays square to the tool axis; e1 is sign * the ray.

    Rays are walked along the inner direction, threads own the outer ones; swapped: the outer
    direction is the bundle's column, not its row. outer_way, inner_way: (2,) the two directions as
    (e2, axis) components. bounds: (n, 2) first and last inner ray of each move. Other arguments as
    in sweep_parallel; all moves cut. Returns the overflow flag.
    """
    rows, columns = count.shape
    room = position.shape[0] // count.size
    outers = columns if swapped else rows
    overflow = np.zeros(LANES, np.int32)
    flat = radii[0] >= radii[-1]
    upright = abs(inner_way[0]) < 1e-12  # a step inwards is a step along the tool axis
    for lane in prange(LANES):
        low_normal = np.zeros(3)
        high_normal = np.zeros(3)
        for outer in range(lane, outers, LANES):
            v = outer_origin + cell * outer
            for index in range(offsets[outer], offsets[outer + 1]):
                m = listed[index]
                m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
                p0, p1, p2 = starts[m, 0], starts[m, 1], starts[m, 2]
                # A level move of a flat cutter: one interval for every ray between tip and top.
                same = upright and flat and abs(m2) < 1e-12
                near, far, a, b, c, d, e, f = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
                if same:
                    near, far, a, b, c, d, e, f = square_interval(
                        heights, radii, p0, v * outer_way[0] - p1, (heights[0] + heights[-1]) / 2, m0, m1, m2
                    )
                    if near == MISS:
                        continue
                    if sign < 0:
                        near, far = -far, -near
                        a, b, c, d, e, f = d, e, f, a, b, c
                    _turned(a, b, c, frame, low_normal)
                    _turned(d, e, f, frame, high_normal)
                for inner in range(bounds[m, 0], bounds[m, 1] + 1):
                    row, column = (inner, outer) if swapped else (outer, inner)
                    held = count[row, column]
                    if held == 0:
                        continue
                    base = (row * columns + column) * room
                    u = inner_origin + cell * inner
                    dh = u * inner_way[1] + v * outer_way[1] - p2
                    if same:
                        if dh < heights[0] or dh > heights[-1]:
                            continue
                    else:
                        dy = u * inner_way[0] + v * outer_way[0] - p1
                        near, far, a, b, c, d, e, f = square_interval(heights, radii, p0, dy, dh, m0, m1, m2)
                        if near == MISS:
                            continue
                        if sign < 0:
                            near, far = -far, -near
                            a, b, c, d, e, f = d, e, f, a, b, c
                    if spares(held, position, base, near, far):
                        continue
                    if not same:
                        _turned(a, b, c, frame, low_normal)
                        _turned(d, e, f, frame, high_normal)
                    held = subtract(held, position, normal, maker, base, room, near, far, low_normal, high_normal, by)
                    if held < 0:
                        overflow[lane] = 1
                    else:
                        count[row, column] = held
    return overflow.max()


@njit(nogil=True, cache=True)
def _skin_normal(x, y, h, heights, radii):
    """Outward tool normal at a point of its skin, in the tool's frame."""
    r = np.sqrt(x * x + y * y)
    if h > heights[-1] - 1e-4:
        return 0.0, 0.0, 1.0
    if h < heights[0] + 1e-4 or r < 1e-9:
        return 0.0, 0.0, -1.0
    slope = 0.0
    for i in range(len(heights) - 1):
        if heights[i] <= h <= heights[i + 1] and heights[i + 1] > heights[i]:
            slope = (radii[i + 1] - radii[i]) / (heights[i + 1] - heights[i])
    length = np.sqrt(1 + slope * slope)
    return x / r / length, y / r / length, -slope / length


@njit(nogil=True, cache=True, parallel=True)
def sweep_oblique(
    count, position, normal, maker, u_origin, v_origin, cell, bounds_u, offsets, listed,
    starts, moves, what, by, frame, uv, heights, radii, body_heights, body_radii, cut,
):  # fmt: skip
    """Cut and test with rays neither along nor square to the tool axis.

    uv: (3, 3), rows ray, u and v in the tool's frame. Other arguments and result as in sweep_parallel.
    """
    rows, columns = count.shape
    room = position.shape[0] // count.size
    bodies = body_heights.shape[0]
    hits = np.zeros((LANES, starts.shape[0], 1 + bodies))
    overflow = np.zeros(LANES, np.int32)
    for lane in prange(LANES):
        low_normal = np.zeros(3)
        high_normal = np.zeros(3)
        for row in range(lane, rows, LANES):
            v = v_origin + cell * row
            for index in range(offsets[row], offsets[row + 1]):
                m = listed[index]
                m0, m1, m2 = moves[m, 0], moves[m, 1], moves[m, 2]
                for column in range(bounds_u[m, 0], bounds_u[m, 1] + 1):
                    held = count[row, column]
                    if held == 0:
                        continue
                    base = (row * columns + column) * room
                    u = u_origin + cell * column
                    x = u * uv[1, 0] + v * uv[2, 0] - starts[m, 0]
                    y = u * uv[1, 1] + v * uv[2, 1] - starts[m, 1]
                    h = u * uv[1, 2] + v * uv[2, 2] - starts[m, 2]
                    near, far, t, w = MISS, MISS, 0.0, 0.0
                    if cut or what[m] == RAPID:
                        near, far, t, w = oblique_interval(
                            heights, radii, x, y, h, uv[0, 0], uv[0, 2], m0, m1, m2, OBLIQUE_SAMPLES
                        )
                    if near != MISS and what[m] == RAPID:
                        deep = overlap(held, position, base, near, far)
                        if deep > hits[lane, m, 0]:
                            hits[lane, m, 0] = deep
                    elif near != MISS and not spares(held, position, base, near, far):
                        a, b, c = _skin_normal(
                            x + near * uv[0, 0] - t * m0, y - t * m1, h + near * uv[0, 2] - t * m2, heights, radii
                        )
                        _turned(a, b, c, frame, low_normal)
                        a, b, c = _skin_normal(
                            x + far * uv[0, 0] - w * m0, y - w * m1, h + far * uv[0, 2] - w * m2, heights, radii
                        )
                        _turned(a, b, c, frame, high_normal)
                        held = subtract(
                            held, position, normal, maker, base, room,
                            near, far, low_normal, high_normal, by,
                        )  # fmt: skip
                        if held < 0:
                            overflow[lane] = 1
                            continue
                        count[row, column] = held
                    for body in range(bodies):
                        near, far, t, w = oblique_interval(
                            body_heights[body], body_radii[body], x, y, h,
                            uv[0, 0], uv[0, 2], m0, m1, m2, OBLIQUE_SAMPLES,
                        )  # fmt: skip
                        if near != MISS:
                            deep = overlap(held, position, base, near, far)
                            if deep > hits[lane, m, 1 + body]:
                                hits[lane, m, 1 + body] = deep
    return hits, overflow.max()
