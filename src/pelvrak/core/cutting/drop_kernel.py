"""Kernels of drop_cutter.py: how low a cutter can go over a mesh."""

from __future__ import annotations

import numpy as np
from numba import njit

# A facet steeper than this has no top to stand on: its edges are met first.
STEEP = 1e-9
# Halvings of the stretch of an edge in which a rounded corner touches it: to a millionth of it.
HALVINGS = 24


@njit(nogil=True, cache=True, error_model="numpy")
def rise(distance, flat, corner):
    """How far over the tip the cutter's surface lies at a distance from its axis, mm. flat: radius of its flat
    bottom; corner: radius of its corner.
    """
    over = distance - flat
    if over <= 0.0 or corner == 0.0:
        return 0.0
    return corner - np.sqrt(max(0.0, corner * corner - over * over))


@njit(nogil=True, cache=True, error_model="numpy")
def _on_facet(x, y, n, a, b, c, flat, corner):
    """Height of the tip where the cutter rests on the inside of a facet, -inf where it does not."""
    across = np.sqrt(n[0] * n[0] + n[1] * n[1])
    ux, uy = (n[0] / across, n[1] / across) if across > 1e-12 else (0.0, 0.0)
    px, py = x - ux * flat - corner * n[0], y - uy * flat - corner * n[1]
    s = (b[0] - a[0]) * (py - a[1]) - (b[1] - a[1]) * (px - a[0])
    t = (c[0] - b[0]) * (py - b[1]) - (c[1] - b[1]) * (px - b[0])
    u = (a[0] - c[0]) * (py - c[1]) - (a[1] - c[1]) * (px - c[0])
    if s < -1e-12 or t < -1e-12 or u < -1e-12:
        return -np.inf
    height = a[2] - ((px - a[0]) * n[0] + (py - a[1]) * n[1]) / n[2]
    return height + corner * n[2] - corner


@njit(nogil=True, cache=True, error_model="numpy")
def _on_edge(x, y, a, b, flat, corner):
    """Height of the tip where the cutter rests on an edge, its ends with it, -inf where it passes by.

    Along the edge its height goes evenly and the cutter's rise over it bends up: one greatest difference, found
    where the slopes are alike.
    """
    dx, dy = b[0] - a[0], b[1] - a[1]
    length = np.sqrt(dx * dx + dy * dy)
    radius = flat + corner
    if length < 1e-12:
        away = np.sqrt((a[0] - x) ** 2 + (a[1] - y) ** 2)
        return max(a[2], b[2]) - rise(away, flat, corner) if away <= radius else -np.inf
    dx, dy = dx / length, dy / length
    first = (a[0] - x) * dx + (a[1] - y) * dy
    beside = abs((a[0] - x) * dy - (a[1] - y) * dx)
    if beside > radius:
        return -np.inf
    reach = np.sqrt(radius * radius - beside * beside)
    low, high = max(first, -reach), min(first + length, reach)
    if low > high:
        return -np.inf
    slope = (b[2] - a[2]) / length
    if corner == 0.0:
        best = high if slope > 0 else low
    elif flat == 0.0:
        best = slope * np.sqrt(max(0.0, corner * corner - beside * beside)) / np.sqrt(1 + slope * slope)
        best = min(max(best, low), high)
    else:
        left, right = low, high
        for _ in range(HALVINGS):
            middle = (left + right) / 2
            away = np.sqrt(middle * middle + beside * beside)
            over = away - flat
            steep = 0.0
            if over > 0 and away > 0:
                steep = over / np.sqrt(max(1e-18, corner * corner - over * over)) * middle / away
            if steep < slope:
                left = middle
            else:
                right = middle
        best = (left + right) / 2
    away = np.sqrt(best * best + beside * beside)
    return a[2] + (best - first) * slope - rise(away, flat, corner)


@njit(nogil=True, cache=True, error_model="numpy")
def drop(x, y, corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner):
    """Lowest height of the tip at one place, and the triangle it rests on, -1 for none.

    corners: (m, 3, 3); normals: (m, 3), unit; tops: (m,), greatest heights; convex: (m, 3), which sides can be
    met; bins: triangles of each bin of the plane one after the other, the highest first; starts: (rows, columns +
    1), where each begins; left, low: corner of the first bin; flat, corner: the cutter's.
    """
    radius = flat + corner
    rows, columns = starts.shape[0], starts.shape[1] - 1
    best, which = -np.inf, -1
    i0 = max(0, int(np.floor((x - radius - left) / cell)))
    i1 = min(columns - 1, int(np.floor((x + radius - left) / cell)))
    j0 = max(0, int(np.floor((y - radius - low) / cell)))
    j1 = min(rows - 1, int(np.floor((y + radius - low) / cell)))
    for j in range(j0, j1 + 1):
        for i in range(i0, i1 + 1):
            for k in range(starts[j, i], starts[j, i + 1]):
                m = bins[k]
                if tops[m] <= best:
                    break
                a, b, c = corners[m, 0], corners[m, 1], corners[m, 2]
                if (
                    min(a[0], b[0], c[0]) > x + radius
                    or max(a[0], b[0], c[0]) < x - radius
                    or min(a[1], b[1], c[1]) > y + radius
                    or max(a[1], b[1], c[1]) < y - radius
                ):
                    continue
                height = -np.inf
                if normals[m, 2] > STEEP:
                    height = _on_facet(x, y, normals[m], a, b, c, flat, corner)
                if convex[m, 0]:
                    height = max(height, _on_edge(x, y, a, b, flat, corner))
                if convex[m, 1]:
                    height = max(height, _on_edge(x, y, b, c, flat, corner))
                if convex[m, 2]:
                    height = max(height, _on_edge(x, y, c, a, flat, corner))
                if height > best:
                    best, which = height, m
    return best, which


@njit(nogil=True, cache=True, error_model="numpy")
def drop_all(xs, ys, corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner):
    """The same at many places: heights (n,) and triangles (n,)."""
    heights, which = np.empty(len(xs)), np.empty(len(xs), np.int64)
    for n in range(len(xs)):
        heights[n], which[n] = drop(
            xs[n], ys[n], corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner
        )
    return heights, which


@njit(nogil=True, cache=True, error_model="numpy")
def follow(
    x0, y0, x1, y1, step, error, corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner
):
    """Along a straight line of the plane: x, y, height and triangle at places so near to each other that halfway
    between two the height is off the straight by no more than `error`, (n, 4).
    """
    count = max(1, int(np.ceil(np.hypot(x1 - x0, y1 - y0) / step)))
    least = 1.0 / count / 256
    out = np.empty((64 + 4 * count, 4))
    size = 0
    # Stretches still to be looked at, the next one last.
    waiting = np.empty((32, 3))
    share = 0.0
    height, which = drop(x0, y0, corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner)
    out[0, 0], out[0, 1], out[0, 2], out[0, 3] = x0, y0, height, which
    size = 1
    for n in range(count):
        end = (n + 1) / count
        z, m = drop(
            x0 + (x1 - x0) * end,
            y0 + (y1 - y0) * end,
            corners,
            normals,
            tops,
            convex,
            bins,
            starts,
            left,
            low,
            cell,
            flat,
            corner,
        )
        waiting[0, 0], waiting[0, 1], waiting[0, 2] = end, z, m
        held = 1
        while held > 0:
            end, z, m = waiting[held - 1, 0], waiting[held - 1, 1], waiting[held - 1, 2]
            half = (share + end) / 2
            x, y = x0 + (x1 - x0) * half, y0 + (y1 - y0) * half
            split = False
            if end - share > least and held < 31:
                middle, found = drop(
                    x, y, corners, normals, tops, convex, bins, starts, left, low, cell, flat, corner
                )
                split = not (abs(middle - (height + z) / 2) <= error) and not (
                    middle == -np.inf and height == -np.inf and z == -np.inf
                )
                if split:
                    waiting[held, 0], waiting[held, 1], waiting[held, 2] = half, middle, found
                    held += 1
            if not split:
                held -= 1
                share, height = end, z
                if size == len(out):
                    grown = np.empty((2 * size, 4))
                    grown[:size] = out
                    out = grown
                out[size, 0], out[size, 1] = x0 + (x1 - x0) * end, y0 + (y1 - y0) * end
                out[size, 2], out[size, 3] = z, m
                size += 1
    return out[:size].copy()
