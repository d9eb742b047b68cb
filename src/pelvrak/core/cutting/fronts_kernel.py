"""Kernels of fronts.py: plane regions on a grid, and how far round a cutter stands in the material."""

from __future__ import annotations

import numpy as np
from numba import njit

# Lines of a cell along which its share of a region is measured.
LINES = 4


@njit(nogil=True, cache=True, error_model="numpy")
def coverage(starts, ends, x0, y0, cell, rows, columns):
    """Share of each cell, middle at a node, that lies in a region given by the segments of its rings, (n, 2) each:
    (rows, columns), 0 to 1.
    """
    out = np.zeros((rows, columns), np.float32)
    crossed = np.empty(len(starts) + 1)
    for line in range(rows * LINES):
        row = line // LINES
        y = y0 + cell * (row - 0.5 + (line % LINES + 0.5) / LINES)
        count = 0
        for n in range(len(starts)):
            a, b = starts[n, 1], ends[n, 1]
            if (a <= y) != (b <= y):
                crossed[count] = starts[n, 0] + (y - a) / (b - a) * (ends[n, 0] - starts[n, 0])
                count += 1
        places = np.sort(crossed[:count])
        for k in range(count // 2):
            low = (places[2 * k] - x0) / cell + 0.5
            high = (places[2 * k + 1] - x0) / cell + 0.5
            first, last = max(0, int(np.floor(low))), min(columns - 1, int(np.floor(high)))
            for i in range(first, last + 1):
                share = min(high, i + 1.0) - max(low, float(i))
                if share > 0:
                    out[row, i] += share / LINES
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def stamp(starts, ends, reach, x0, y0, cell, apart):
    """Lower the distances at the nodes, (rows, columns), to those from segments, up to `reach`."""
    rows, columns = apart.shape
    for n in range(len(starts)):
        ax, ay = starts[n]
        bx, by = ends[n]
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        i0 = max(0, int(np.floor((min(ax, bx) - reach - x0) / cell)))
        i1 = min(columns - 1, int(np.ceil((max(ax, bx) + reach - x0) / cell)))
        j0 = max(0, int(np.floor((min(ay, by) - reach - y0) / cell)))
        j1 = min(rows - 1, int(np.ceil((max(ay, by) + reach - y0) / cell)))
        for j in range(j0, j1 + 1):
            y = y0 + cell * j
            for i in range(i0, i1 + 1):
                x = x0 + cell * i
                t = 0.0
                if length > 0:
                    t = min(1.0, max(0.0, ((x - ax) * dx + (y - ay) * dy) / length))
                d = np.sqrt((ax + t * dx - x) ** 2 + (ay + t * dy - y) ** 2)
                if d < apart[j, i]:
                    apart[j, i] = d


@njit(nogil=True, cache=True, error_model="numpy")
def standing_share(stock, apart, radius, cell):
    """What stands of each cell when the cutter has been wherever the distance is 0: (rows, columns), 0 to 1."""
    out = np.empty_like(stock)
    rows, columns = stock.shape
    for j in range(rows):
        for i in range(columns):
            out[j, i] = stock[j, i] * min(1.0, max(0.0, (apart[j, i] - radius) / cell + 0.5))
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def beyond(standing, apart, room, width, radius, turn, cell, round_x, round_y):
    """How far over the edge of what may be reached next the nodes lie: negative within it, (rows, columns).

    It is reached where the cutter's rim stands in material over no more than `turn` of its round (rad), and where
    it is no farther than `width` from where it has been. room: share of each cell in the room and about its walls,
    outside of which nothing is asked; round_x, round_y: directions round the rim.
    """
    rows, columns = apart.shape
    out = np.empty((rows, columns))
    count = len(round_x)
    near, most = cell / width, 2.0 * turn / (2 * np.pi) * count
    for j in range(rows):
        for i in range(columns):
            far = apart[j, i] / width - 1.0
            out[j, i] = min(far, 1.0)
            if far > near or apart[j, i] == 0.0 or room[j, i] == 0.0:
                continue
            met = 0.0
            for n in range(count):
                x, y = i + round_x[n] * radius / cell, j + round_y[n] * radius / cell
                left, low = int(x), int(y)
                u, v = x - left, y - low
                met += (standing[low, left] * (1 - u) + standing[low, left + 1] * u) * (1 - v) + (
                    standing[low + 1, left] * (1 - u) + standing[low + 1, left + 1] * u
                ) * v
                if met > most:
                    break
            out[j, i] = max(far, met / count * 2 * np.pi / turn - 1.0)
    return out
