"""How are the surface's vertices found and joined, cell by cell? (compiled)"""

import numpy as np
from numba import njit, prange

from pelvrak.core.stock.intervals import decode_normal


@njit(nogil=True, cache=True, parallel=True)
def inside_nodes(count, position, origin, cell, shape):
    """Which nodes lie in material, by the z bundle: uint8 (nz, ny, nx)."""
    nodes = np.zeros((shape[2], shape[1], shape[0]), np.uint8)
    for j in prange(shape[1]):
        for i in range(shape[0]):
            for n in range(count[j, i]):
                first = max(0, int(np.ceil((position[j, i, 2 * n] - origin) / cell)))
                last = min(shape[2] - 1, int(np.floor((position[j, i, 2 * n + 1] - origin) / cell)))
                for k in range(first, last + 1):
                    nodes[k, j, i] = 1
    return nodes


@njit(nogil=True, cache=True)
def _nearest_end(count, position, low, high):
    """Index of the ray end between low and high, else the one nearest to their middle; -1 on an empty ray."""
    best, gap = -1, 1e300
    middle = (low + high) / 2
    for e in range(2 * count):
        away = abs(position[e] - middle)
        if away < gap:
            best, gap = e, away
    return best


@njit(nogil=True, cache=True)
def _pattern(nodes, i, j, k):
    bits = 0
    for c in range(8):
        if nodes[k + (c >> 2 & 1), j + (c >> 1 & 1), i + (c & 1)]:
            bits |= 1 << c
    return bits


@njit(nogil=True, cache=True, parallel=True)
def first_vertices(nodes, piece_count):
    """Number of surface pieces in each cell of each layer, and the index of a cell's first vertex within its layer."""
    nz, ny, nx = nodes.shape
    start = np.full((nz - 1, ny - 1, nx - 1), -1, np.int32)
    total = np.zeros(nz - 1, np.int64)
    for k in prange(nz - 1):
        n = 0
        for j in range(ny - 1):
            for i in range(nx - 1):
                bits = _pattern(nodes, i, j, k)
                if bits != 0 and bits != 255:
                    start[k, j, i] = n
                    n += piece_count[bits]
        total[k] = n
    return start, total


@njit(nogil=True, cache=True)
def _least_squares(ata, atb, middle, share):
    """Point nearest to all tangent planes, staying at `middle` along directions they do not fix."""
    vectors = np.eye(3)
    a = ata.copy()
    for _ in range(12):  # Jacobi rotations
        off = abs(a[0, 1]) + abs(a[0, 2]) + abs(a[1, 2])
        if off < 1e-12:
            break
        for p in range(2):
            for q in range(p + 1, 3):
                if abs(a[p, q]) < 1e-15:
                    continue
                theta = (a[q, q] - a[p, p]) / (2 * a[p, q])
                t = (1.0 if theta >= 0 else -1.0) / (abs(theta) + np.sqrt(theta * theta + 1))
                c = 1 / np.sqrt(t * t + 1)
                s = t * c
                for r in range(3):
                    one, two = a[r, p], a[r, q]
                    a[r, p], a[r, q] = c * one - s * two, s * one + c * two
                for r in range(3):
                    one, two = a[p, r], a[q, r]
                    a[p, r], a[q, r] = c * one - s * two, s * one + c * two
                for r in range(3):
                    one, two = vectors[r, p], vectors[r, q]
                    vectors[r, p], vectors[r, q] = c * one - s * two, s * one + c * two
    largest = max(a[0, 0], a[1, 1], a[2, 2])
    rest = atb - ata @ middle
    out = middle.copy()
    for e in range(3):
        if a[e, e] > share * share * largest:
            along = vectors[0, e] * rest[0] + vectors[1, e] * rest[1] + vectors[2, e] * rest[2]
            for r in range(3):
                out[r] += vectors[r, e] * along / a[e, e]
    return out


@njit(nogil=True, cache=True, parallel=True)
def place_vertices(
    nodes, start, before, total, pieces, edges, origin, cell,
    c0, p0, n0, c1, p1, n1, c2, p2, n2, share,
):  # fmt: skip
    vertices = np.zeros((total, 3))
    nz, ny, nx = nodes.shape
    for k in prange(nz - 1):
        ata, atb, mass = np.zeros((4, 3, 3)), np.zeros((4, 3)), np.zeros((4, 4))
        point, normal, at = np.zeros(3), np.zeros(3), np.zeros(3, np.int64)
        for j in range(ny - 1):
            for i in range(nx - 1):
                if start[k, j, i] < 0:
                    continue
                bits = _pattern(nodes, i, j, k)
                ata[:], atb[:], mass[:] = 0.0, 0.0, 0.0
                for e in range(12):
                    piece = pieces[bits, e]
                    if piece < 0:
                        continue
                    axis = e // 4
                    corner = edges[e, 0]
                    at[0], at[1], at[2] = i + (corner & 1), j + (corner >> 1 & 1), k + (corner >> 2 & 1)
                    for d in range(3):
                        point[d] = origin[d] + cell * at[d]
                    low, high = point[axis], point[axis] + cell
                    if axis == 0:
                        end = _nearest_end(c0[at[2], at[1]], p0[at[2], at[1]], low, high)
                        place = p0[at[2], at[1], end] if end >= 0 else (low + high) / 2
                        code0, code1 = n0[at[2], at[1], max(end, 0), 0], n0[at[2], at[1], max(end, 0), 1]
                    elif axis == 1:
                        end = _nearest_end(c1[at[0], at[2]], p1[at[0], at[2]], low, high)
                        place = p1[at[0], at[2], end] if end >= 0 else (low + high) / 2
                        code0, code1 = n1[at[0], at[2], max(end, 0), 0], n1[at[0], at[2], max(end, 0), 1]
                    else:
                        end = _nearest_end(c2[at[1], at[0]], p2[at[1], at[0]], low, high)
                        place = p2[at[1], at[0], end] if end >= 0 else (low + high) / 2
                        code0, code1 = n2[at[1], at[0], max(end, 0), 0], n2[at[1], at[0], max(end, 0), 1]
                    point[axis] = min(high, max(low, place))
                    normal[0], normal[1], normal[2] = decode_normal(code0, code1)
                    distance = normal[0] * point[0] + normal[1] * point[1] + normal[2] * point[2]
                    for r in range(3):
                        mass[piece, r] += point[r]
                        atb[piece, r] += normal[r] * distance
                        for s in range(3):
                            ata[piece, r, s] += normal[r] * normal[s]
                    mass[piece, 3] += 1
                for piece in range(4):
                    if mass[piece, 3] == 0:
                        continue
                    middle = mass[piece, :3] / mass[piece, 3]
                    best = _least_squares(ata[piece], atb[piece], middle, share)
                    base = (origin[0] + cell * i, origin[1] + cell * j, origin[2] + cell * k)
                    for d in range(3):
                        vertices[before[k] + start[k, j, i] + piece, d] = min(base[d] + cell, max(base[d], best[d]))
    return vertices


@njit(nogil=True, cache=True)
def quads(nodes, start, before, pieces, edge_of, origin, cell, c0, p0, m0, c1, p1, m1, c2, p2, m2):
    """Two triangles for every crossed grid edge: (triangles, makers)."""
    nz, ny, nx = nodes.shape
    found = 0
    for k in range(nz - 1):
        for j in range(ny - 1):
            for i in range(nx - 1):
                here = nodes[k, j, i]
                found += (here != nodes[k, j, i + 1]) + (here != nodes[k, j + 1, i]) + (here != nodes[k + 1, j, i])
    triangles = np.empty((2 * found, 3), np.int64)
    makers = np.empty(triangles.shape[0], np.int64)
    n = 0
    corner = np.zeros(4, np.int64)
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        for k in range(nz):
            for j in range(ny):
                for i in range(nx):
                    at = (i, j, k)
                    size = (nx, ny, nz)
                    if at[axis] + 1 >= size[axis] or at[u] == 0 or at[v] == 0:
                        continue
                    if at[u] >= size[u] - 1 or at[v] >= size[v] - 1:
                        continue
                    here = nodes[k, j, i]
                    there = nodes[k + (axis == 2), j + (axis == 1), i + (axis == 0)]
                    if here == there:
                        continue
                    for c in range(4):
                        du = 1 if c == 0 or c == 3 else 0  # cells round the edge, counter-clockwise
                        dv = 1 if c == 0 or c == 1 else 0
                        ci, cj, ck = i, j, k
                        if u == 0:
                            ci -= du
                        elif u == 1:
                            cj -= du
                        else:
                            ck -= du
                        if v == 0:
                            ci -= dv
                        elif v == 1:
                            cj -= dv
                        else:
                            ck -= dv
                        edge = edge_of[axis, du, dv]
                        corner[c] = before[ck] + start[ck, cj, ci] + pieces[_pattern(nodes, ci, cj, ck), edge]
                    low = origin[axis] + cell * at[axis]
                    maker = 0
                    if axis == 0:
                        end = _nearest_end(c0[k, j], p0[k, j], low, low + cell)
                        maker = m0[k, j, end] if end >= 0 else 0
                    elif axis == 1:
                        end = _nearest_end(c1[i, k], p1[i, k], low, low + cell)
                        maker = m1[i, k, end] if end >= 0 else 0
                    else:
                        end = _nearest_end(c2[j, i], p2[j, i], low, low + cell)
                        maker = m2[j, i, end] if end >= 0 else 0
                    if here:
                        triangles[n] = (corner[0], corner[1], corner[2])
                        triangles[n + 1] = (corner[0], corner[2], corner[3])
                    else:
                        triangles[n] = (corner[0], corner[2], corner[1])
                        triangles[n + 1] = (corner[0], corner[3], corner[2])
                    makers[n], makers[n + 1] = maker, maker
                    n += 2
    return triangles[:n], makers[:n]
