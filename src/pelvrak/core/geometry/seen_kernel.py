"""Which points see out along the third axis past a set of triangles? (compiled)"""

import numpy as np
from numba import njit


@njit(nogil=True, cache=True, error_model="numpy")
def _cell(value, low, size, count):
    return min(max(int((value - low) / size), 0), count - 1)


@njit(nogil=True, cache=True, error_model="numpy")
def bins(corners, low, size, nx, ny):
    """Triangles by the cells of a grid over x and y that their boxes touch: (offsets (nx * ny + 1,), triangles)."""
    offsets = np.zeros(nx * ny + 1, np.int64)
    for turn in range(2):
        if turn == 1:
            for c in range(nx * ny):
                offsets[c + 1] += offsets[c]
            filled = offsets[:-1].copy()
            listed = np.empty(offsets[-1], np.int32)
        for t in range(corners.shape[0]):
            x0 = _cell(min(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]), low[0], size, nx)
            x1 = _cell(max(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]), low[0], size, nx)
            y0 = _cell(min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]), low[1], size, ny)
            y1 = _cell(max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]), low[1], size, ny)
            for y in range(y0, y1 + 1):
                for x in range(x0, x1 + 1):
                    if turn == 0:
                        offsets[y * nx + x + 1] += 1
                    else:
                        listed[filled[y * nx + x]] = t
                        filled[y * nx + x] += 1
    return offsets, listed


@njit(nogil=True, cache=True, error_model="numpy")
def free_above(points, corners, low, size, nx, ny):
    """Whether nothing of the triangles (m, 3, 3) lies above each point (n, 3), bool (n,)."""
    offsets, listed = bins(corners, low, size, nx, ny)
    out = np.ones(points.shape[0], np.bool_)
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
            if (u * az + v * bz + w * cz) / area > z:
                out[p] = False
                break
    return out
