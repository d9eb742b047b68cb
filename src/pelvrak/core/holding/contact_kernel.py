"""Compiled kernels of contact: triangles clipped against triangles, and the way to first contact."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from pelvrak.core.stock.shapes_kernel import root


@njit(cache=True, nogil=True)
def _clip(px, py, pz, count, a, b, g, c, qx, qy, qz):
    """A convex polygon (x, y and a value z linear over it) cut by a·x + b·y + g·z + c ≥ 0; returns the new
    count.
    """
    out = 0
    for i in range(count):
        j = i + 1 if i + 1 < count else 0
        s = a * px[i] + b * py[i] + g * pz[i] + c
        e = a * px[j] + b * py[j] + g * pz[j] + c
        if s >= 0:
            qx[out], qy[out], qz[out] = px[i], py[i], pz[i]
            out += 1
        if (s >= 0) != (e >= 0):
            t = s / (s - e)
            qx[out] = px[i] + t * (px[j] - px[i])
            qy[out] = py[i] + t * (py[j] - py[i])
            qz[out] = pz[i] + t * (pz[j] - pz[i])
            out += 1
    for i in range(out):
        px[i], py[i], pz[i] = qx[i], qy[i], qz[i]
    return out


@njit(cache=True, nogil=True)
def meeting(one_low, one_high, two_low, two_high):
    """Pairs (k, 2) of boxes of two sets, corners (n, 3) and (m, 3), that meet; rims count."""
    count = len(one_low)
    if count == 0 or len(two_low) == 0:
        return np.empty((0, 2), np.int64)
    left, front = one_low[:, 0].min(), one_low[:, 1].min()
    fields = min(256, max(1, int(math.sqrt(count))))
    wide = max((one_high[:, 0].max() - left) / fields, 1e-6)
    deep = max((one_high[:, 1].max() - front) / fields, 1e-6)
    # Which of the first set lie over each field of a grid: rows of one list, by field.
    spans = np.empty((count, 4), np.int64)
    starts = np.zeros(fields * fields + 1, np.int64)
    for i in range(count):
        spans[i, 0] = min(fields - 1, int((one_low[i, 0] - left) / wide))
        spans[i, 1] = min(fields - 1, int((one_high[i, 0] - left) / wide))
        spans[i, 2] = min(fields - 1, int((one_low[i, 1] - front) / deep))
        spans[i, 3] = min(fields - 1, int((one_high[i, 1] - front) / deep))
        for y in range(spans[i, 2], spans[i, 3] + 1):
            for x in range(spans[i, 0], spans[i, 1] + 1):
                starts[y * fields + x + 1] += 1
    for i in range(fields * fields):
        starts[i + 1] += starts[i]
    members, filled = np.empty(starts[-1], np.int64), starts[:-1].copy()
    for i in range(count):
        for y in range(spans[i, 2], spans[i, 3] + 1):
            for x in range(spans[i, 0], spans[i, 1] + 1):
                members[filled[y * fields + x]] = i
                filled[y * fields + x] += 1
    pairs, found = np.empty((1024, 2), np.int64), 0
    for k in range(len(two_low)):
        x0 = min(fields - 1, max(0, math.floor((two_low[k, 0] - left) / wide)))
        x1 = min(fields - 1, max(-1, math.floor((two_high[k, 0] - left) / wide)))
        y0 = min(fields - 1, max(0, math.floor((two_low[k, 1] - front) / deep)))
        y1 = min(fields - 1, max(-1, math.floor((two_high[k, 1] - front) / deep)))
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                for at in range(starts[y * fields + x], starts[y * fields + x + 1]):
                    i = members[at]
                    # Once, in the first field that both lie over.
                    if x != max(x0, spans[i, 0]) or y != max(y0, spans[i, 2]):
                        continue
                    apart = False
                    for d in range(3):
                        apart |= one_high[i, d] < two_low[k, d] or one_low[i, d] > two_high[k, d]
                    if apart:
                        continue
                    if found == len(pairs):
                        more = np.empty((2 * found, 2), np.int64)
                        more[:found] = pairs
                        pairs = more
                    pairs[found, 0], pairs[found, 1] = i, k
                    found += 1
    return pairs[:found]


@njit(cache=True, nogil=True)
def touching(one, two, pairs, near, least_cos):
    """Where triangles of two bodies lie on each other.

    one (n, 3, 3), two (m, 3, 3): corners, mm; pairs (k, 2): which to look at. Their planes look at each other
    to within least_cos, and the gap along the first's normal is at most `near` either way. Returns for each
    pair that touches: its row, the polygon's corners (9, 3) and how many, on the first's plane, and the gap
    at each.
    """
    rows = np.empty(len(pairs), np.int64)
    corners = np.empty((len(pairs), 9, 3))
    counts = np.empty(len(pairs), np.int64)
    gaps = np.zeros((len(pairs), 9))
    found = 0
    px, py, pz = np.empty(16), np.empty(16), np.empty(16)
    qx, qy, qz = np.empty(16), np.empty(16), np.empty(16)
    u, v, n, w = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for row in range(len(pairs)):
        a, b = one[pairs[row, 0]], two[pairs[row, 1]]
        for d in range(3):
            u[d], v[d] = a[1, d] - a[0, d], a[2, d] - a[0, d]
        n[0], n[1], n[2] = u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]
        length = math.sqrt(n[0] ** 2 + n[1] ** 2 + n[2] ** 2)
        side = math.sqrt(u[0] ** 2 + u[1] ** 2 + u[2] ** 2)
        if length < 1e-12 or side < 1e-9:
            continue
        for d in range(3):
            n[d] /= length
            u[d] /= side
        v[0], v[1], v[2] = n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]
        e, f = b[1] - b[0], b[2] - b[0]
        w[0], w[1], w[2] = e[1] * f[2] - e[2] * f[1], e[2] * f[0] - e[0] * f[2], e[0] * f[1] - e[1] * f[0]
        other = math.sqrt(w[0] ** 2 + w[1] ** 2 + w[2] ** 2)
        if other < 1e-12 or -(w[0] * n[0] + w[1] * n[1] + w[2] * n[2]) < least_cos * other:
            continue
        # The second triangle in the first's plane, walked the other way round because it looks back.
        low, high = 1e300, -1e300
        for i in range(3):
            k = 2 - i
            px[i] = py[i] = pz[i] = 0.0
            for d in range(3):
                away = b[k, d] - a[0, d]
                px[i] += away * u[d]
                py[i] += away * v[d]
                pz[i] += away * n[d]
            low, high = min(low, pz[i]), max(high, pz[i])
        if low > near or high < -near:
            continue
        ax, ay, bx, by = side, 0.0, 0.0, 0.0
        for d in range(3):
            bx += (a[2, d] - a[0, d]) * u[d]
            by += (a[2, d] - a[0, d]) * v[d]
        count = _clip(px, py, pz, 3, 0.0, 1.0, 0.0, 0.0, qx, qy, qz)
        long = math.sqrt((bx - ax) ** 2 + (by - ay) ** 2)
        count = _clip(
            px,
            py,
            pz,
            count,
            -(by - ay) / long,
            (bx - ax) / long,
            0.0,
            ((by - ay) * ax - (bx - ax) * ay) / long,
            qx,
            qy,
            qz,
        )
        long = math.sqrt(bx**2 + by**2)
        count = _clip(px, py, pz, count, by / long, -bx / long, 0.0, 0.0, qx, qy, qz)
        if count >= 3:
            count = _clip(px, py, pz, count, 0.0, 0.0, -1.0, near, qx, qy, qz)
        if count >= 3:
            count = _clip(px, py, pz, count, 0.0, 0.0, 1.0, near, qx, qy, qz)
        if count < 3 or count > 9:
            continue
        rows[found], counts[found] = row, count
        for i in range(count):
            gaps[found, i] = pz[i]
            for d in range(3):
                corners[found, i, d] = a[0, d] + px[i] * u[d] + py[i] * v[d]
        found += 1
    return rows[:found], corners[:found], counts[:found], gaps[:found]


@njit(cache=True, nogil=True)
def hanging(work, theirs, looks, polygon, corners):
    """Which polygons hang together: those that look alike and are of one triangle of either body, or share
    a corner.

    work, theirs (p): triangle of each polygon; looks (p, 3): how it looks; polygon (t): which polygon a
    triangle of the fans is of, corners (t, 3, 3): in steps. Returns for each polygon the first of its group.
    """
    count, fans = len(work), len(polygon)
    parent = np.arange(count)
    size = 16
    while size < 2 * (2 * count + 3 * fans):
        size *= 2
    # By what they have in common: its kind and numbers, how they look, and who came first with it.
    keys, first = np.empty((size, 7), np.int64), np.full(size, -1)
    key = np.empty(7, np.int64)
    for entry in range(2 * count + 3 * fans):
        if entry < 2 * count:
            own = entry % count
            key[0], key[2], key[3] = entry // count, 0, 0
            key[1] = work[own] if entry < count else theirs[own]
        else:
            row, corner = (entry - 2 * count) // 3, (entry - 2 * count) % 3
            own, key[0] = polygon[row], 2
            for d in range(3):
                key[1 + d] = corners[row, corner, d]
        hashed = np.uint64(1469598103934665603)
        for d in range(7):
            if d >= 4:
                key[d] = looks[own, d - 4]
            hashed = (hashed ^ np.uint64(key[d])) * np.uint64(1099511628211)
            hashed ^= hashed >> np.uint64(29)
        at = np.int64(hashed & np.uint64(size - 1))
        while first[at] >= 0:
            same = True
            for d in range(7):
                same &= keys[at, d] == key[d]
            if same:
                break
            at = at + 1 if at + 1 < size else 0
        if first[at] < 0:
            first[at] = own
            for d in range(7):
                keys[at, d] = key[d]
            continue
        a, b = root(parent, first[at]), root(parent, own)
        parent[max(a, b)] = min(a, b)
    for i in range(count):
        parent[i] = root(parent, i)
    return parent


@njit(cache=True, nogil=True)
def at_corners(edge, points, normals, join):
    """Of each corner of a rim, edge (e, 2): the height of the nearest of the points (3t, 3: x, y, height), and
    the sum of the normals (t, 3) of the triangles with a corner as near to within join.
    """
    heights, looks = np.zeros(len(edge)), np.zeros((len(edge), 3))
    for e in range(len(edge)):
        nearest = 1e300
        for i in range(len(points)):
            away = (points[i, 0] - edge[e, 0]) ** 2 + (points[i, 1] - edge[e, 1]) ** 2
            if away < nearest:
                nearest, heights[e] = away, points[i, 2]
        reach = (math.sqrt(nearest) + join) ** 2
        for i in range(len(points)):
            if (points[i, 0] - edge[e, 0]) ** 2 + (points[i, 1] - edge[e, 1]) ** 2 < reach:
                for d in range(3):
                    looks[e, d] += normals[i // 3, d]
    return heights, looks


@njit(cache=True, nogil=True)
def _over(x, y, t, slack):
    """Height of a triangle (3, 3) over a point of the plane, and whether it lies there."""
    ax, ay, bx, by, cx, cy = t[0, 0], t[0, 1], t[1, 0], t[1, 1], t[2, 0], t[2, 1]
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if abs(area) < 1e-12:
        return False, 0.0
    v = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
    w = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
    if v < -slack or w < -slack or v + w > 1 + slack:
        return False, 0.0
    return True, t[0, 2] + v * (t[1, 2] - t[0, 2]) + w * (t[2, 2] - t[0, 2])


@njit(cache=True, nogil=True)
def way_to(below, above, best, least):
    """How far the first triangles can go up (z) before they meet the second: the least gap, and where.

    below (n, 3, 3) and above (m, 3, 3): corners; best: what is looked for at most, least: at least. Gaps are
    measured between corners and triangles and between crossing edges; what overlaps has a gap below 0.
    """
    place = np.zeros(3)
    low_b, high_b = np.empty((len(above), 2)), np.empty((len(above), 2))
    for j in range(len(above)):
        for d in range(2):
            low_b[j, d], high_b[j, d] = above[j, :, d].min(), above[j, :, d].max()
    order = np.argsort(low_b[:, 0])
    longest = 0.0
    for j in range(len(above)):
        longest = max(longest, high_b[j, 0] - low_b[j, 0])
    sorted_low = low_b[order, 0]
    for i in range(len(below)):
        s = below[i]
        lx, hx, ly, hy = s[:, 0].min(), s[:, 0].max(), s[:, 1].min(), s[:, 1].max()
        top = s[:, 2].max()
        for k in range(np.searchsorted(sorted_low, lx - longest), len(order)):
            j = order[k]
            if low_b[j, 0] >= hx:
                break
            if high_b[j, 0] <= lx or low_b[j, 1] >= hy or high_b[j, 1] <= ly:
                continue
            t = above[j]
            if t[:, 2].min() - top >= best:
                continue
            for a in range(3):
                on, z = _over(s[a, 0], s[a, 1], t, 1e-9)
                if on and least <= z - s[a, 2] < best:
                    best = z - s[a, 2]
                    place[0], place[1], place[2] = s[a, 0], s[a, 1], z
                on, z = _over(t[a, 0], t[a, 1], s, 1e-9)
                if on and least <= t[a, 2] - z < best:
                    best = t[a, 2] - z
                    place[0], place[1], place[2] = t[a, 0], t[a, 1], t[a, 2]
                b = a + 1 if a < 2 else 0
                for c in range(3):
                    d = c + 1 if c < 2 else 0
                    rx, ry = s[b, 0] - s[a, 0], s[b, 1] - s[a, 1]
                    qx, qy = t[d, 0] - t[c, 0], t[d, 1] - t[c, 1]
                    cross = rx * qy - ry * qx
                    if abs(cross) < 1e-12:
                        continue
                    ox, oy = t[c, 0] - s[a, 0], t[c, 1] - s[a, 1]
                    p, q = (ox * qy - oy * qx) / cross, (ox * ry - oy * rx) / cross
                    if 1e-9 < p < 1 - 1e-9 and 1e-9 < q < 1 - 1e-9:
                        z = t[c, 2] + q * (t[d, 2] - t[c, 2])
                        gap = z - (s[a, 2] + p * (s[b, 2] - s[a, 2]))
                        if least <= gap < best:
                            best = gap
                            place[0], place[1], place[2] = s[a, 0] + p * rx, s[a, 1] + p * ry, z
    return best, place
