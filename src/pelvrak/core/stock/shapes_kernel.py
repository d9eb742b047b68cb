"""Where do rays cross triangles, and which stretches of one bundle are not in another? (compiled)"""

import numpy as np
from numba import njit, prange

from pelvrak.core.stock.intervals import SAME_MM, decode_normal, encode_normal

# Whether a ray passes left or right of an edge is judged on a lattice of so many steps to the mm, in whole
# numbers and so exactly: up to 4 m no product overflows.
LATTICE = 131_072.0


@njit(nogil=True, cache=True)
def _left(ax, ay, bx, by, px, py):
    """Whether p lies left of a → b, whole numbers; a point on the line is judged as if moved by (ε, ε²)."""
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
        qu = (round(pu[0] * LATTICE), round(pu[1] * LATTICE), round(pu[2] * LATTICE))
        qv = (round(pv[0] * LATTICE), round(pv[1] * LATTICE), round(pv[2] * LATTICE))
        area = (pu[1] - pu[0]) * (pv[2] - pv[0]) - (pv[1] - pv[0]) * (pu[2] - pu[0])
        first_u = max(0, int(np.ceil((min(pu) - u_origin) / cell - 1e-3)))
        last_u = min(columns - 1, int(np.floor((max(pu) - u_origin) / cell + 1e-3)))
        first_v = max(0, int(np.ceil((min(pv) - v_origin) / cell - 1e-3)))
        last_v = min(rows - 1, int(np.floor((max(pv) - v_origin) / cell + 1e-3)))
        corner = (i, j, k)
        for row in range(first_v, last_v + 1):
            y = v_origin + cell * row
            for column in range(first_u, last_u + 1):
                x = u_origin + cell * column
                at_u, at_v = round(x * LATTICE), round(y * LATTICE)
                positive = 0
                for e in range(3):
                    a, b = e, (e + 1) % 3
                    if corner[a] < corner[b]:
                        positive += _left(qu[a], qv[a], qu[b], qv[b], at_u, at_v)
                    else:
                        positive += not _left(qu[b], qv[b], qu[a], qv[a], at_u, at_v)
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
def lowest_and_highest(rays, places, bottom, top):
    """The lowest and the highest crossing of every ray, written over what stands in bottom and top (by
    ray).
    """
    for i in range(rays.shape[0]):
        bottom[rays[i]] = min(bottom[rays[i]], places[i])
        top[rays[i]] = max(top[rays[i]], places[i])


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


UNION, DIFFERENCE, INTERSECTION = 0, 1, 2


@njit(nogil=True, cache=True, parallel=True)
def combine(
    how,
    count_a,
    position_a,
    normal_a,
    maker_a,
    count_b,
    position_b,
    normal_b,
    maker_b,
    count,
    position,
    normal,
    maker,
):
    """Two bundles into a third with room for all ends of both; ends within SAME_MM of each other are one
    place.
    """
    rows, columns = count.shape
    for row in prange(rows):
        for column in range(columns):
            ends_a, ends_b = 2 * count_a[row, column], 2 * count_b[row, column]
            i, j, n = 0, 0, 0
            in_a, in_b, inside = False, False, False
            while i < ends_a or j < ends_b:
                at_a = position_a[row, column, i] if i < ends_a else np.inf
                at_b = position_b[row, column, j] if j < ends_b else np.inf
                from_b = at_b < at_a
                at = at_b if from_b else at_a
                own_i, own_j = i, j
                if at_a <= at + SAME_MM:
                    in_a = not in_a
                    i += 1
                if at_b <= at + SAME_MM:
                    in_b = not in_b
                    j += 1
                if how == UNION:
                    now = in_a or in_b
                elif how == DIFFERENCE:
                    now = in_a and not in_b
                else:
                    now = in_a and in_b
                if now == inside:
                    continue
                inside = now
                if not now and at - position[row, column, n - 1] <= SAME_MM:
                    n -= 1  # nothing between the two
                    continue
                # The face is the one that changed; both at once: the first field's.
                if i == own_i:
                    position[row, column, n] = at_b
                    maker[row, column, n] = maker_b[row, column, own_j]
                    for d in range(2):
                        normal[row, column, n, d] = normal_b[row, column, own_j, d]
                    if how == DIFFERENCE:
                        x, y, z = decode_normal(normal[row, column, n, 0], normal[row, column, n, 1])
                        normal[row, column, n, 0], normal[row, column, n, 1] = encode_normal(-x, -y, -z)
                else:
                    position[row, column, n] = at_a
                    maker[row, column, n] = maker_a[row, column, own_i]
                    for d in range(2):
                        normal[row, column, n, d] = normal_a[row, column, own_i, d]
                n += 1
            count[row, column] = n // 2


@njit(nogil=True, cache=True)
def length(count, position):
    """Total length of material in a bundle, mm."""
    total = 0.0
    for row in range(count.shape[0]):
        for column in range(count.shape[1]):
            for i in range(count[row, column]):
                total += np.float64(position[row, column, 2 * i + 1]) - np.float64(
                    position[row, column, 2 * i]
                )
    return total


@njit(nogil=True, cache=True)
def longest(count, position):
    """Longest stretch of material in a bundle: (length, row, column, its middle)."""
    best, at_row, at_column, middle = 0.0, -1, -1, 0.0
    for row in range(count.shape[0]):
        for column in range(count.shape[1]):
            for i in range(count[row, column]):
                low, high = position[row, column, 2 * i], position[row, column, 2 * i + 1]
                if high - low > best:
                    best, at_row, at_column, middle = high - low, row, column, (low + high) / 2
    return best, at_row, at_column, middle


@njit(nogil=True, cache=True)
def thinnest(count, position, normal, axis, square):
    """Shortest stretch of a bundle whose two faces both look along the ray, their cosines at least `square`.

    Returns (length, row, column, middle); row is -1 when there is none.
    """
    best, at_row, at_column, middle = np.inf, -1, -1, 0.0
    for row in range(count.shape[0]):
        for column in range(count.shape[1]):
            for i in range(count[row, column]):
                low, high = position[row, column, 2 * i], position[row, column, 2 * i + 1]
                if high - low >= best:
                    continue
                a = decode_normal(normal[row, column, 2 * i, 0], normal[row, column, 2 * i, 1])
                b = decode_normal(normal[row, column, 2 * i + 1, 0], normal[row, column, 2 * i + 1, 1])
                if -a[axis] >= square and b[axis] >= square:
                    best, at_row, at_column, middle = high - low, row, column, (low + high) / 2
    return best, at_row, at_column, middle


@njit(nogil=True, cache=True)
def root(parent, i):
    """The first of the group that i is in, by the way from each to one before it; ways are shortened."""
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@njit(nogil=True, cache=True)
def pieces(count, position, first):
    """Which piece each interval of a bundle belongs to: neighbours overlap. first: index of each ray's first
    interval.
    """
    rows, columns = count.shape
    parent = np.arange(first[rows * columns])
    for row in range(rows):
        for column in range(columns):
            here = first[row * columns + column]
            for step in range(2):
                r, c = row + step, column + 1 - step
                if r >= rows or c >= columns:
                    continue
                there = first[r * columns + c]
                i = j = 0
                while i < count[row, column] and j < count[r, c]:
                    low = max(position[row, column, 2 * i], position[r, c, 2 * j])
                    high = min(position[row, column, 2 * i + 1], position[r, c, 2 * j + 1])
                    if high > low:
                        a, b = root(parent, here + i), root(parent, there + j)
                        if a != b:
                            parent[max(a, b)] = min(a, b)
                    if position[row, column, 2 * i + 1] < position[r, c, 2 * j + 1]:
                        i += 1
                    else:
                        j += 1
    for i in range(parent.shape[0]):
        parent[i] = root(parent, i)
    return parent


@njit(nogil=True, cache=True)
def taken_rays(index, count, position, normal, maker):
    """All ends of the chosen rays in a row: (position, normal, maker)."""
    columns = position.shape[1]
    total = 2 * count.sum()
    positions, normals, makers = (
        np.empty(total, np.float32),
        np.empty((total, 2), np.int16),
        np.empty(total, np.uint16),
    )
    n = 0
    for i in range(index.shape[0]):
        row, column = index[i] // columns, index[i] % columns
        for e in range(2 * count[i]):
            positions[n] = position[row, column, e]
            normals[n, 0], normals[n, 1] = normal[row, column, e, 0], normal[row, column, e, 1]
            makers[n] = maker[row, column, e]
            n += 1
    return positions, normals, makers


@njit(nogil=True, cache=True)
def put_rays(index, counts, positions, normals, makers, count, position, normal, maker):
    """Write rays that `taken_rays` took back to their places; count is flat."""
    columns = position.shape[1]
    n = 0
    for i in range(index.shape[0]):
        row, column = index[i] // columns, index[i] % columns
        count[index[i]] = counts[i]
        for e in range(2 * counts[i]):
            position[row, column, e] = positions[n]
            normal[row, column, e, 0], normal[row, column, e, 1] = normals[n, 0], normals[n, 1]
            maker[row, column, e] = makers[n]
            n += 1


@njit(nogil=True, cache=True)
def beside(count, position, origin, cell, points, reach, nearest, longest):
    """For points (along, u, v), work frame: the distance of the nearest stretch within `reach`, and the
    longest that comes so near.

    nearest and longest (n,) are made smaller and larger.
    """
    wide = int(np.ceil(reach / cell))
    for n in range(points.shape[0]):
        middle_u, middle_v = (points[n, 1] - origin[0]) / cell, (points[n, 2] - origin[1]) / cell
        for row in range(max(0, int(middle_v) - wide), min(count.shape[0], int(middle_v) + wide + 2)):
            for column in range(max(0, int(middle_u) - wide), min(count.shape[1], int(middle_u) + wide + 2)):
                across = ((column - middle_u) ** 2 + (row - middle_v) ** 2) * cell * cell
                if across > reach * reach:
                    continue
                for i in range(count[row, column]):
                    low, high = position[row, column, 2 * i], position[row, column, 2 * i + 1]
                    along = max(low - points[n, 0], 0.0, points[n, 0] - high)
                    away = np.sqrt(across + along * along)
                    if away <= reach:
                        nearest[n] = min(nearest[n], away)
                        longest[n] = max(longest[n], high - low)
