"""Where do rays cross triangles, and which stretches of one bundle are not in another? (compiled)"""

import numpy as np
from numba import njit

from pelvrak.core.stock.intervals import SAME_MM, encode_normal


@njit(nogil=True, cache=True)
def _left(ax, ay, bx, by, px, py):
    """Whether p lies left of a → b; a point on the line is judged as if moved by (ε, ε²)."""
    value = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
    if value != 0:
        return value > 0
    if by != ay:
        return by < ay
    return bx > ax


@njit(nogil=True, cache=True)
def crossings(vertices, triangles, axis, u_origin, v_origin, cell, columns, rows):
    """Every ray-triangle crossing: (ray, position, triangle, whether the triangle faces up the axis).

    A ray on a shared edge or corner is given to exactly one triangle: each edge is judged in one
    direction only, whichever of its two triangles asks, and the three judgements alone say which
    way the triangle faces.
    """
    u, v = (axis + 1) % 3, (axis + 2) % 3
    room = 1024
    rays, places, owners = np.empty(room, np.int64), np.empty(room, np.float64), np.empty(room, np.int64)
    upward = np.empty(room, np.bool_)
    found = 0
    for t in range(triangles.shape[0]):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        pu = (vertices[i, u], vertices[j, u], vertices[k, u])
        pv = (vertices[i, v], vertices[j, v], vertices[k, v])
        area = (pu[1] - pu[0]) * (pv[2] - pv[0]) - (pv[1] - pv[0]) * (pu[2] - pu[0])
        first_u = max(0, int(np.ceil((min(pu) - u_origin) / cell - 1e-6)))
        last_u = min(columns - 1, int(np.floor((max(pu) - u_origin) / cell + 1e-6)))
        first_v = max(0, int(np.ceil((min(pv) - v_origin) / cell - 1e-6)))
        last_v = min(rows - 1, int(np.floor((max(pv) - v_origin) / cell + 1e-6)))
        corner = (i, j, k)
        for row in range(first_v, last_v + 1):
            y = v_origin + cell * row
            for column in range(first_u, last_u + 1):
                x = u_origin + cell * column
                positive = 0
                for e in range(3):
                    a, b = e, (e + 1) % 3
                    if corner[a] < corner[b]:
                        positive += _left(pu[a], pv[a], pu[b], pv[b], x, y)
                    else:
                        positive += not _left(pu[b], pv[b], pu[a], pv[a], x, y)
                if positive == 1 or positive == 2:
                    continue
                if area == 0.0:
                    area = 1e-300
                w1 = ((x - pu[0]) * (pv[2] - pv[0]) - (y - pv[0]) * (pu[2] - pu[0])) / area
                w2 = ((pu[1] - pu[0]) * (y - pv[0]) - (pv[1] - pv[0]) * (x - pu[0])) / area
                if found == room:
                    room *= 2
                    rays = np.concatenate((rays, np.empty(found, np.int64)))
                    places = np.concatenate((places, np.empty(found, np.float64)))
                    owners = np.concatenate((owners, np.empty(found, np.int64)))
                    upward = np.concatenate((upward, np.empty(found, np.bool_)))
                rays[found] = row * columns + column
                w1, w2 = min(1.0, max(0.0, w1)), min(1.0, max(0.0, w2))
                places[found] = (
                    vertices[i, axis]
                    + w1 * (vertices[j, axis] - vertices[i, axis])
                    + w2 * (vertices[k, axis] - vertices[i, axis])
                )
                owners[found] = t
                upward[found] = positive == 3
                found += 1
    return rays[:found], places[:found], owners[:found], upward[:found]


@njit(nogil=True, cache=True)
def fill(rays, places, normals, upward, count, position, normal):
    """Sorted crossings to intervals; returns the number of rays whose crossings do not pair."""
    columns = count.shape[1]
    unpaired = 0
    i = 0
    while i < rays.shape[0]:
        j = i
        while j < rays.shape[0] and rays[j] == rays[i]:
            j += 1
        row, column = rays[i] // columns, rays[i] % columns
        depth = 0
        n = 0
        for c in range(i, j):
            before = depth
            depth += -1 if upward[c] else 1
            if (before == 0 and depth == 1) or (before == 1 and depth == 0):
                slot = 2 * n + (1 if depth == 0 else 0)
                if slot >= position.shape[2]:
                    return -1
                position[row, column, slot] = places[c]
                normal[row, column, slot, 0], normal[row, column, slot, 1] = encode_normal(
                    normals[c, 0], normals[c, 1], normals[c, 2]
                )
                if depth == 0:
                    if position[row, column, slot] - position[row, column, slot - 1] > SAME_MM:
                        n += 1
        if depth != 0:
            unpaired += 1
        count[row, column] = n
        i = j
    return unpaired


@njit(nogil=True, cache=True)
def length_without(count_a, position_a, count_b, position_b, least):
    """Total length in a and not in b, counting only stretches longer than `least`."""
    total = 0.0
    for row in range(count_a.shape[0]):
        for column in range(count_a.shape[1]):
            j = 0
            for i in range(count_a[row, column]):
                start, end = position_a[row, column, 2 * i], position_a[row, column, 2 * i + 1]
                while j < count_b[row, column] and position_b[row, column, 2 * j + 1] <= start:
                    j += 1
                k = j
                while k < count_b[row, column] and position_b[row, column, 2 * k] < end:
                    if position_b[row, column, 2 * k] - start > least:
                        total += position_b[row, column, 2 * k] - start
                    start = max(start, position_b[row, column, 2 * k + 1])
                    k += 1
                if end - start > least:
                    total += end - start
    return total
