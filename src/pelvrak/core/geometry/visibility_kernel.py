"""How far up is free above points, past a set of triangles? (compiled)"""

import numpy as np
from numba import njit


@njit(nogil=True, cache=True, error_model="numpy")
def _cell(value, low, size, count):
    return min(max(int((value - low) / size), 0), count - 1)


@njit(nogil=True, cache=True, error_model="numpy")
def bins(corners, low, size, nx, ny):
    """Triangles by the cells of a grid over x and y that they touch: (offsets (nx * ny + 1,), triangles)."""
    offsets = np.zeros(nx * ny + 1, np.int64)
    filled = offsets
    listed = np.empty(0, np.int32)
    for turn in range(2):
        if turn == 1:
            for c in range(nx * ny):
                offsets[c + 1] += offsets[c]
            filled = offsets[:-1].copy()
            listed = np.empty(offsets[-1], np.int32)
        for t in range(corners.shape[0]):
            y0 = _cell(min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]), low[1], size, ny)
            y1 = _cell(max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]), low[1], size, ny)
            for y in range(y0, y1 + 1):
                # What of the triangle lies in this row of cells, with a little to spare.
                bottom, top = low[1] + (y - 1e-6) * size, low[1] + (y + 1 + 1e-6) * size
                left, right = np.inf, -np.inf
                for e in range(3):
                    px, py = corners[t, e, 0], corners[t, e, 1]
                    qx, qy = corners[t, (e + 1) % 3, 0], corners[t, (e + 1) % 3, 1]
                    first, last = 0.0, 1.0
                    if py == qy:
                        if py < bottom or py > top:
                            continue
                    else:
                        one, two = (bottom - py) / (qy - py), (top - py) / (qy - py)
                        first, last = max(0.0, min(one, two)), min(1.0, max(one, two))
                        if first > last:
                            continue
                    a, b = px + first * (qx - px), px + last * (qx - px)
                    left, right = min(left, a, b), max(right, a, b)
                if left > right:
                    continue
                x0, x1 = (
                    _cell(left - 1e-6 * size, low[0], size, nx),
                    _cell(right + 1e-6 * size, low[0], size, nx),
                )
                for x in range(x0, x1 + 1):
                    if turn == 0:
                        offsets[y * nx + x + 1] += 1
                    else:
                        listed[filled[y * nx + x]] = t
                        filled[y * nx + x] += 1
    return offsets, listed


@njit(nogil=True, cache=True, error_model="numpy")
def nearest_above(points, corners, low, size, nx, ny, offsets, listed):
    """Height of the nearest triangle (m, 3, 3) above each point (n, 3), from the point; infinite where none
    is.
    """
    out = np.full(points.shape[0], np.inf)
    for p in range(points.shape[0]):
        x, y, z = points[p, 0], points[p, 1], points[p, 2]
        cell = _cell(y, low[1], size, ny) * nx + _cell(x, low[0], size, nx)
        for index in range(offsets[cell], offsets[cell + 1]):
            t = listed[index]
            ax, ay, az = corners[t, 0, 0] - x, corners[t, 0, 1] - y, corners[t, 0, 2]
            bx, by, bz = corners[t, 1, 0] - x, corners[t, 1, 1] - y, corners[t, 1, 2]
            cx, cy, cz = corners[t, 2, 0] - x, corners[t, 2, 1] - y, corners[t, 2, 2]
            u, v, w = bx * cy - by * cx, cx * ay - cy * ax, ax * by - ay * bx
            area = u + v + w
            if area == 0.0 or (min(u, v, w) < 0.0 and max(u, v, w) > 0.0):
                continue
            above = (u * az + v * bz + w * cz) / area - z
            if 0.0 < above < out[p]:
                out[p] = above
    return out
