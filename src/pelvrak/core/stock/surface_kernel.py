"""How are the surface's vertices found, thinned out and joined, brick by brick? (compiled) Cells are dealt
into bricks of BRICK³; only bricks with surface in them are worked on, each by one thread. Cell corners are
numbered x + 2y + 4z. A node is inside when the z bundle says so.
"""

from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from pelvrak.core.stock.intervals import decode_normal

BRICK = 16
LEVELS = 5  # cells of 1, 2, 4, 8 and 16
# One cell's tangent planes summed: normals' products (6), normals by distances (3), distances squared,
# places (3), how many.
SUMS = 14
EMPTY, LEAF, MIXED = 0, 1, 2
MANY_MAKERS = -2
# Bricks are dealt to this many lanes; a lane is what one thread takes at a time.
LANES = 8


class Rays(NamedTuple):
    """The three bundles, along x, y and z: counts, positions, normals and makers of their ends."""

    c0: NDArray[Any]
    p0: NDArray[Any]
    n0: NDArray[Any]
    m0: NDArray[Any]
    c1: NDArray[Any]
    p1: NDArray[Any]
    n1: NDArray[Any]
    m1: NDArray[Any]
    c2: NDArray[Any]
    p2: NDArray[Any]
    n2: NDArray[Any]
    m2: NDArray[Any]


class Grid(NamedTuple):
    """Where the nodes lie: the first, mm, how far apart, and how many along x, y and z."""

    origin: NDArray[Any]
    cell: float
    shape: NDArray[Any]


class Table(NamedTuple):
    """Of each pattern of a cell's corners: the piece of surface of each edge, and how many; edges (12, 2):
    their corners; edge_of (3, 2, 2): an edge's number in the cell that lies so far back from it.
    """

    pieces: NDArray[Any]
    piece_count: NDArray[Any]
    edges: NDArray[Any]
    edge_of: NDArray[Any]


class Vertices(NamedTuple):
    """What `brick_vertices` fills."""

    vertices: NDArray[Any]
    used: NDArray[Any]
    leaf: NDArray[Any]
    patterns: NDArray[Any]


class Triangles(NamedTuple):
    """What `brick_triangles` fills."""

    corners: NDArray[Any]
    makers: NDArray[Any]
    ends: NDArray[Any]
    normals: NDArray[Any]
    counts: NDArray[Any]


@njit(nogil=True, cache=True, error_model="numpy")
def _nearest_end(count, position, row, column, middle):
    """Index of the ray's end nearest to a place; -1 on an empty ray."""
    best, gap = -1, 1e300
    for e in range(2 * count[row, column]):
        away = abs(position[row, column, e] - middle)
        if away < gap:
            best, gap = e, away
    return best


@njit(nogil=True, cache=True, error_model="numpy")
def _columns(count, position, origin, cell, shape, bx, by, bz, out):
    """Which of a brick's nodes lie in material: bit k of out[j, i] (17, 17). Returns whether the brick has
    surface.
    """
    k0 = bz * BRICK
    whole = (1 << (BRICK + 1)) - 1
    none = True
    every = True
    for j in range(BRICK + 1):
        for i in range(BRICK + 1):
            row, column = by * BRICK + j, bx * BRICK + i
            bits = 0
            if row < shape[1] and column < shape[0]:
                for n in range(count[row, column]):
                    first = max(0, int(np.ceil((position[row, column, 2 * n] - origin) / cell)) - k0)
                    last = min(BRICK, int(np.floor((position[row, column, 2 * n + 1] - origin) / cell)) - k0)
                    if last >= first:
                        bits |= ((1 << (last - first + 1)) - 1) << first
            out[j, i] = bits
            none &= bits == 0
            every &= bits == whole
    return not none and not every


@njit(nogil=True, cache=True, error_model="numpy")
def _inside(columns, i, j, k):
    return (columns[j, i] >> k) & 1


@njit(nogil=True, cache=True, error_model="numpy")
def _pattern(columns, i, j, k, size):
    """Corner pattern of the cell of `size` at a brick's node i, j, k."""
    bits = 0
    for c in range(8):
        if _inside(columns, i + size * (c & 1), j + size * (c >> 1 & 1), k + size * (c >> 2 & 1)):
            bits |= 1 << c
    return bits


@njit(nogil=True, cache=True, error_model="numpy")
def _mixed(columns, i, j):
    """Which cells up the column at i, j have corners inside and corners outside: bit k."""
    a, b, c, d = columns[j, i], columns[j, i + 1], columns[j + 1, i], columns[j + 1, i + 1]
    some, every = a | b | c | d, a & b & c & d
    return (some | some >> 1) & ~(every & every >> 1) & ((1 << BRICK) - 1)


@njit(nogil=True, cache=True, error_model="numpy")
def _cell(level, i, j, k):
    """Where a cell of a level is kept: levels one after the other, cells of 1 first."""
    per = BRICK >> level
    first = 0
    for below in range(level):
        first += (BRICK >> below) ** 3
    return first + (k * per + j) * per + i


@njit(nogil=True, cache=True, parallel=True, error_model="numpy")
def active_bricks(count, position, origin, cell, shape, piece_count, bricks):
    """Pieces of surface in every brick, int32 (nz, ny, nx)."""
    out = np.zeros((bricks[2], bricks[1], bricks[0]), np.int32)
    for slab in prange(bricks[2] * bricks[1]):
        bz, by = slab // bricks[1], slab % bricks[1]
        columns = np.empty((BRICK + 1, BRICK + 1), np.int64)
        for bx in range(bricks[0]):
            if not _columns(count, position, origin, cell, shape, bx, by, bz, columns):
                continue
            n = 0
            for j in range(BRICK):
                for i in range(BRICK):
                    mixed = _mixed(columns, i, j)
                    k = 0
                    while mixed:
                        if mixed & 1:
                            n += piece_count[_pattern(columns, i, j, k, 1)]
                        mixed >>= 1
                        k += 1
            out[bz, by, bx] = n
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def mark_changed(axis, origin, cell, c0, p0, n0, m0, c1, p1, n1, m1, out):
    """Marks in out (nz, ny, nx) the bricks with an end on a bundle's rays that one of two fields has and the
    other has not.

    origin: of the rays along their axis, mm; count, position, normal and maker of the first and the second.
    """
    for row in range(c0.shape[0]):
        for column in range(c0.shape[1]):
            i, j = 0, 0
            ends, others = 2 * c0[row, column], 2 * c1[row, column]
            while i < ends or j < others:
                if i < ends and j < others:
                    at, other = p0[row, column, i], p1[row, column, j]
                    if (
                        at == other
                        and n0[row, column, i, 0] == n1[row, column, j, 0]
                        and n0[row, column, i, 1] == n1[row, column, j, 1]
                        and m0[row, column, i] == m1[row, column, j]
                    ):
                        i += 1
                        j += 1
                        continue
                if j >= others or (i < ends and p0[row, column, i] <= p1[row, column, j]):
                    at = p0[row, column, i]
                    i += 1
                else:
                    at = p1[row, column, j]
                    j += 1
                # An end in a node counts for the cells on both sides of it, a ray for those it runs between.
                along = (at - origin) / cell
                for a in (int(np.floor(along - 1e-6)), int(np.floor(along + 1e-6))):
                    for v in (row - 1, row):
                        for u in (column - 1, column):
                            x, y, z = (a, u, v) if axis == 0 else (v, a, u) if axis == 1 else (u, v, a)
                            bx, by, bz = x // BRICK, y // BRICK, z // BRICK
                            if 0 <= bx < out.shape[2] and 0 <= by < out.shape[1] and 0 <= bz < out.shape[0]:
                                out[bz, by, bx] = True


@njit(nogil=True, cache=True, error_model="numpy")
def _rotated(a, vectors, p, q):
    """One Jacobi rotation that clears a[p, q] of a symmetric 3×3 matrix, gathered into `vectors`."""
    if abs(a[p, q]) < 1e-15:
        return
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


@njit(nogil=True, cache=True, error_model="numpy")
def _solved(sums, share, a, vectors):
    """Point nearest to all summed planes, staying in the middle along directions they do not fix: (x, y, z,
    error).

    error: the squared distances it leaves. a and vectors (3, 3) are room to work in.
    """
    a[0, 0], a[0, 1], a[0, 2], a[1, 1], a[1, 2], a[2, 2] = (
        sums[0],
        sums[1],
        sums[2],
        sums[3],
        sums[4],
        sums[5],
    )
    a[1, 0], a[2, 0], a[2, 1] = sums[1], sums[2], sums[4]
    for r in range(3):
        for c in range(3):
            vectors[r, c] = 1.0 if r == c else 0.0
    for _ in range(12):
        if abs(a[0, 1]) + abs(a[0, 2]) + abs(a[1, 2]) < 1e-12:
            break
        _rotated(a, vectors, 0, 1)
        _rotated(a, vectors, 0, 2)
        _rotated(a, vectors, 1, 2)
    m0, m1, m2 = sums[10] / sums[13], sums[11] / sums[13], sums[12] / sums[13]
    rest0 = sums[6] - sums[0] * m0 - sums[1] * m1 - sums[2] * m2
    rest1 = sums[7] - sums[1] * m0 - sums[3] * m1 - sums[4] * m2
    rest2 = sums[8] - sums[2] * m0 - sums[4] * m1 - sums[5] * m2
    least = share * share * max(a[0, 0], a[1, 1], a[2, 2])
    x, y, z = m0, m1, m2
    for e in range(3):
        if a[e, e] > least:
            along = (vectors[0, e] * rest0 + vectors[1, e] * rest1 + vectors[2, e] * rest2) / a[e, e]
            x += vectors[0, e] * along
            y += vectors[1, e] * along
            z += vectors[2, e] * along
    error = sums[9] - 2 * (x * sums[6] + y * sums[7] + z * sums[8])
    error += (
        x * x * sums[0]
        + y * y * sums[3]
        + z * z * sums[5]
        + 2 * (x * y * sums[1] + x * z * sums[2] + y * z * sums[4])
    )
    return x, y, z, error


@njit(nogil=True, cache=True, error_model="numpy")
def _place(vertices, at, best, base, cell, size, i, j, k):
    """Write a solved point, kept within its cell."""
    for d in range(3):
        low = cell * (size * (i, j, k)[d] - BRICK / 2)
        vertices[at, d] = base[d] + min(low + size * cell, max(low, best[d]))


@njit(nogil=True, cache=True, error_model="numpy")
def _keeps_shape(columns, i, j, k, size, pattern):
    """Whether the middles of a cell's edges, faces and the cell agree with one of their corners.

    The test of Ju et al. 2002, section 4.2: then joining the cell's eight parts changes no topology.
    """
    half = size // 2
    for x in range(3):
        for y in range(3):
            for z in range(3):
                if x != 1 and y != 1 and z != 1:
                    continue
                middle = _inside(columns, i + half * x, j + half * y, k + half * z)
                agrees = False
                for c in range(8):
                    if (
                        (x != 1 and x // 2 != (c & 1))
                        or (y != 1 and y // 2 != (c >> 1 & 1))
                        or (z != 1 and z // 2 != (c >> 2 & 1))
                    ):
                        continue
                    agrees |= (pattern >> c & 1) == middle
                if not agrees:
                    return False
    return True


@njit(nogil=True, cache=True, error_model="numpy")
def _end_on(axis, i, j, k, origin, cell, rays):
    """The ray end on the grid edge from node i, j, k along an axis: (row, column, index or -1, place)."""
    if axis == 0:
        low = origin[0] + cell * i
        end = _nearest_end(rays.c0, rays.p0, k, j, low + cell / 2)
        row, column, place = k, j, rays.p0[k, j, end] if end >= 0 else low + cell / 2
    elif axis == 1:
        low = origin[1] + cell * j
        end = _nearest_end(rays.c1, rays.p1, i, k, low + cell / 2)
        row, column, place = i, k, rays.p1[i, k, end] if end >= 0 else low + cell / 2
    else:
        low = origin[2] + cell * k
        end = _nearest_end(rays.c2, rays.p2, j, i, low + cell / 2)
        row, column, place = j, i, rays.p2[j, i, end] if end >= 0 else low + cell / 2
    return row, column, end, min(low + cell, max(low, place))


@njit(nogil=True, cache=True, error_model="numpy")
def _add_edge(sums, piece, axis, i, j, k, base, origin, cell, rays):
    """Sum the tangent plane of one crossed grid edge into a piece, places counted from `base`; its maker."""
    row, column, end, place = _end_on(axis, i, j, k, origin, cell, rays)
    at = max(end, 0)
    if axis == 0:
        x, y, z = decode_normal(rays.n0[row, column, at, 0], rays.n0[row, column, at, 1])
        maker = rays.m0[row, column, at]
        px, py, pz = place - base[0], origin[1] + cell * j - base[1], origin[2] + cell * k - base[2]
    elif axis == 1:
        x, y, z = decode_normal(rays.n1[row, column, at, 0], rays.n1[row, column, at, 1])
        maker = rays.m1[row, column, at]
        px, py, pz = origin[0] + cell * i - base[0], place - base[1], origin[2] + cell * k - base[2]
    else:
        x, y, z = decode_normal(rays.n2[row, column, at, 0], rays.n2[row, column, at, 1])
        maker = rays.m2[row, column, at]
        px, py, pz = origin[0] + cell * i - base[0], origin[1] + cell * j - base[1], place - base[2]
    away = x * px + y * py + z * pz
    sums[piece, 0] += x * x
    sums[piece, 1] += x * y
    sums[piece, 2] += x * z
    sums[piece, 3] += y * y
    sums[piece, 4] += y * z
    sums[piece, 5] += z * z
    sums[piece, 6] += x * away
    sums[piece, 7] += y * away
    sums[piece, 8] += z * away
    sums[piece, 9] += away * away
    sums[piece, 10] += px
    sums[piece, 11] += py
    sums[piece, 12] += pz
    sums[piece, 13] += 1
    return np.int64(maker) if end >= 0 else 0


@njit(nogil=True, cache=True, error_model="numpy")
def _vertices_of_lane(lane, places, offsets, table, grid, tolerance, share, rays, out):
    """The vertices of one lane's bricks, as of `brick_vertices`."""
    pieces, piece_count, edges, _ = table
    origin, cell, shape = grid
    vertices, used, leaf, patterns = out
    columns = np.empty((BRICK + 1, BRICK + 1), np.int64)
    cells = _cell(LEVELS, 0, 0, 0)
    sums, kind, maker = np.zeros((cells, SUMS)), np.zeros(cells, np.uint8), np.zeros(cells, np.int64)
    piece_sums, base = np.zeros((4, SUMS)), np.zeros(3)
    a, vectors = np.empty((3, 3)), np.empty((3, 3))
    for b in range(lane, places.shape[0], LANES):
        bx, by, bz = places[b, 0], places[b, 1], places[b, 2]
        _columns(rays.c2, rays.p2, origin[2], cell, shape, bx, by, bz, columns)
        x0, y0, z0 = bx * BRICK, by * BRICK, bz * BRICK
        for d in range(3):
            base[d] = origin[d] + cell * (places[b, d] * BRICK + BRICK / 2)
        for q in range(cells):
            kind[q] = EMPTY
        n = 0
        for j in range(BRICK):
            for i in range(BRICK):
                mixed = _mixed(columns, i, j)
                k = -1
                while mixed:
                    k += 1
                    take = mixed & 1
                    mixed >>= 1
                    if not take:
                        continue
                    bits = _pattern(columns, i, j, k, 1)
                    patterns[b, k, j, i] = bits
                    several = piece_count[bits] > 1
                    for piece in range(piece_count[bits]):
                        for q in range(SUMS):
                            piece_sums[piece, q] = 0.0
                    who = -1
                    for e in range(12):
                        piece = pieces[bits, e]
                        if piece < 0:
                            continue
                        corner = edges[e, 0]
                        by_whom = _add_edge(
                            piece_sums,
                            piece if several else 0,
                            e // 4,
                            x0 + i + (corner & 1),
                            y0 + j + (corner >> 1 & 1),
                            z0 + k + (corner >> 2 & 1),
                            base,
                            origin,
                            cell,
                            rays,
                        )
                        who = by_whom if who == -1 or who == by_whom else MANY_MAKERS
                    own = _cell(0, i, j, k)
                    kind[own] = MIXED if several else LEAF
                    maker[own] = who
                    if not several:
                        for q in range(SUMS):
                            sums[own, q] = piece_sums[0, q]
                        continue
                    leaf[b, k, j, i] = n
                    for piece in range(piece_count[bits]):
                        best = _solved(piece_sums[piece], share, a, vectors)
                        _place(vertices, offsets[b] + n, best, base, cell, 1, i, j, k)
                        n += 1
        top = 0
        if tolerance > 0:
            top = _joined(columns, sums, kind, maker, piece_count, cell, tolerance, share, a, vectors)
        # The largest leaf over each cell gives the cell its vertex.
        for level in range(top, -1, -1):
            size = 1 << level
            per = BRICK // size
            for k in range(per):
                for j in range(per):
                    for i in range(per):
                        own = _cell(level, i, j, k)
                        if kind[own] != LEAF:
                            continue
                        best = _solved(sums[own], share, a, vectors)
                        _place(vertices, offsets[b] + n, best, base, cell, size, i, j, k)
                        if level == 0:
                            leaf[b, k, j, i] = n
                        else:
                            _take(kind, leaf[b], level, i, j, k, n)
                        n += 1
        used[b] = n


@njit(nogil=True, cache=True, parallel=True, error_model="numpy")
def brick_vertices(places, offsets, table, grid, tolerance, share, rays):
    """Vertices of all bricks with surface.

    places (b, 3): the bricks' x, y, z; offsets (b,): where each one's vertices begin. Returns vertices,
    used (b,): how many of each brick, leaf (b, BRICK, BRICK, BRICK): a cell's (first) vertex within
    its brick, -1 for none, and pattern likewise (k, j, i).
    """
    bricks = places.shape[0]
    vertices = np.empty((offsets[-1], 3))
    used = np.zeros(bricks, np.int32)
    leaf = np.full((bricks, BRICK, BRICK, BRICK), -1, np.int32)
    patterns = np.zeros((bricks, BRICK, BRICK, BRICK), np.uint8)
    out = Vertices(vertices, used, leaf, patterns)
    for lane in prange(LANES):
        _vertices_of_lane(lane, places, offsets, table, grid, tolerance, share, rays, out)
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def _take(kind, leaf, level, i, j, k, vertex):
    """All cells with surface below a joined one take its vertex and are done with."""
    for lower in range(level - 1, -1, -1):
        part = 1 << (level - lower)
        for kk in range(k * part, (k + 1) * part):
            for jj in range(j * part, (j + 1) * part):
                for ii in range(i * part, (i + 1) * part):
                    own = _cell(lower, ii, jj, kk)
                    if lower == 0 and kind[own] == LEAF:
                        leaf[kk, jj, ii] = vertex
                    kind[own] = EMPTY


@njit(nogil=True, cache=True, error_model="numpy")
def _joined(columns, sums, kind, maker, piece_count, cell, tolerance, share, a, vectors):
    """Join cells upwards where one maker's planes pass within the tolerance of one point; the highest level
    reached.
    """
    top = 0
    for level in range(1, LEVELS):
        size = 1 << level
        per = BRICK // size
        for k in range(per):
            for j in range(per):
                for i in range(per):
                    own = _cell(level, i, j, k)
                    who = -1
                    fits = True
                    for c in range(8):
                        part = _cell(level - 1, 2 * i + (c & 1), 2 * j + (c >> 1 & 1), 2 * k + (c >> 2 & 1))
                        if kind[part] == EMPTY:
                            continue
                        fits &= (
                            kind[part] == LEAF
                            and maker[part] != MANY_MAKERS
                            and (who == -1 or who == maker[part])
                        )
                        who = maker[part]
                    if who == -1:
                        continue
                    kind[own] = MIXED
                    if not fits:
                        continue
                    bits = _pattern(columns, i * size, j * size, k * size, size)
                    if bits == 0 or bits == 255 or piece_count[bits] != 1:
                        continue
                    if not _keeps_shape(columns, i * size, j * size, k * size, size, bits):
                        continue
                    for q in range(SUMS):
                        sums[own, q] = 0.0
                    for c in range(8):
                        part = _cell(level - 1, 2 * i + (c & 1), 2 * j + (c >> 1 & 1), 2 * k + (c >> 2 & 1))
                        if kind[part] == LEAF:
                            for q in range(SUMS):
                                sums[own, q] += sums[part, q]
                    best = _solved(sums[own], share, a, vectors)
                    inside = True
                    for d in range(3):
                        low = cell * (size * (i, j, k)[d] - BRICK / 2)
                        inside &= low <= best[d] <= low + size * cell
                    if inside and best[3] <= tolerance * tolerance:
                        kind[own] = LEAF
                        maker[own] = who
                        top = level
        if top < level:
            break
    return top


@njit(nogil=True, cache=True, error_model="numpy")
def _corners(b, axis, i, j, k, places, index, starts, found_in, table, out):
    """The vertices round the grid edge from a brick's node i, j, k along an axis, without repeats, and how
    many.
    """
    leaf, patterns = found_in.leaf, found_in.patterns
    n = 0
    for c in range(4):
        du, dv = 1 if c in (1, 2) else 0, 1 if c >= 2 else 0
        # One back along u = axis + 1 and v = axis + 2.
        ci = i - (du if axis == 2 else dv if axis == 1 else 0)
        cj = j - (du if axis == 0 else dv if axis == 2 else 0)
        ck = k - (du if axis == 1 else dv if axis == 0 else 0)
        brick = b
        if ci < 0 or cj < 0 or ck < 0:
            brick = index[places[b, 2] - (ck < 0), places[b, 1] - (cj < 0), places[b, 0] - (ci < 0)]
            ci, cj, ck = ci & (BRICK - 1), cj & (BRICK - 1), ck & (BRICK - 1)
        vertex = starts[brick] + leaf[brick, ck, cj, ci]
        bits = patterns[brick, ck, cj, ci]
        if table.piece_count[bits] > 1:
            vertex += table.pieces[bits, table.edge_of[axis, du, dv]]
        if n == 0 or (out[n - 1] != vertex and (c < 3 or out[0] != vertex)):
            out[n] = vertex
            n += 1
    return n


@njit(nogil=True, cache=True, error_model="numpy")
def _crossed(columns, i, j, axis):
    """Which grid edges along an axis from the nodes of a column are crossed: bit k."""
    a = columns[j, i]
    if axis == 0:
        b = columns[j, i + 1]
    elif axis == 1:
        b = columns[j + 1, i]
    else:
        b = a >> 1
    return (a ^ b) & ((1 << BRICK) - 1)


@njit(nogil=True, cache=True, parallel=True, error_model="numpy")
def crossed_edges(places, origin, cell, shape, count, position):
    """How many grid edges are crossed in each brick."""
    out = np.zeros(places.shape[0], np.int64)
    for b in prange(places.shape[0]):
        columns = np.empty((BRICK + 1, BRICK + 1), np.int64)
        _columns(count, position, origin[2], cell, shape, places[b, 0], places[b, 1], places[b, 2], columns)
        n = 0
        for j in range(BRICK):
            for i in range(BRICK):
                for axis in range(3):
                    bits = _crossed(columns, i, j, axis)
                    while bits:
                        bits &= bits - 1
                        n += 1
        out[b] = n
    return out


@njit(nogil=True, cache=True, error_model="numpy")
def _triangles_of_lane(lane, places, index, starts, found_in, table, grid, offsets, rays, out):
    """The triangles of one lane's bricks, as of `brick_triangles`."""
    origin, cell, shape = grid
    triangles, makers, ends, normals, counts = out
    columns = np.empty((BRICK + 1, BRICK + 1), np.int64)
    corner = np.zeros(4, np.int64)
    for b in range(lane, places.shape[0], LANES):
        bx, by, bz = places[b, 0], places[b, 1], places[b, 2]
        _columns(rays.c2, rays.p2, origin[2], cell, shape, bx, by, bz, columns)
        at = offsets[b]
        for j in range(BRICK):
            for i in range(BRICK):
                for axis in range(3):
                    bits = _crossed(columns, i, j, axis)
                    k = -1
                    while bits:
                        k += 1
                        take = bits & 1
                        bits >>= 1
                        if not take:
                            continue
                        found = _corners(b, axis, i, j, k, places, index, starts, found_in, table, corner)
                        if found < 3:
                            continue
                        x, y, z = bx * BRICK + i, by * BRICK + j, bz * BRICK + k
                        row, column, end, along = _end_on(axis, x, y, z, origin, cell, rays)
                        maker, first, second = 0, 0, 0
                        if end >= 0 and axis == 0:
                            maker = rays.m0[row, column, end]
                            first, second = rays.n0[row, column, end, 0], rays.n0[row, column, end, 1]
                        elif end >= 0 and axis == 1:
                            maker = rays.m1[row, column, end]
                            first, second = rays.n1[row, column, end, 0], rays.n1[row, column, end, 1]
                        elif end >= 0:
                            maker = rays.m2[row, column, end]
                            first, second = rays.n2[row, column, end, 0], rays.n2[row, column, end, 1]
                        here = _inside(columns, i, j, k)
                        for t in range(found - 2):
                            triangles[at, 0] = corner[0]
                            triangles[at, 1] = corner[t + 1] if here else corner[t + 2]
                            triangles[at, 2] = corner[t + 2] if here else corner[t + 1]
                            makers[at] = maker
                            ends[at, 0] = along if axis == 0 else origin[0] + cell * x
                            ends[at, 1] = along if axis == 1 else origin[1] + cell * y
                            ends[at, 2] = along if axis == 2 else origin[2] + cell * z
                            normals[at, 0], normals[at, 1] = first, second
                            at += 1
        counts[b] = at - offsets[b]


@njit(nogil=True, cache=True, parallel=True, error_model="numpy")
def brick_triangles(places, index, starts, found_in, table, grid, offsets, rays):
    """One or two triangles round every crossed grid edge: (triangles, makers, ray ends, normals, how many in
    each brick).

    ray ends (t, 3): where the edge is crossed, mm; normals (t, 2): the end's, as it is kept; (0, 0) without
    one.

    found_in: of `brick_vertices`; offsets: where each brick's begin, with room for two an edge. Where three
    or four cells of one edge share a vertex nothing is drawn: the edge lies inside a joined cell.
    """
    bricks = places.shape[0]
    counts = np.zeros(bricks, np.int64)
    triangles, makers = np.empty((offsets[-1], 3), np.int64), np.empty(offsets[-1], np.int64)
    ends, normals = np.empty((offsets[-1], 3)), np.zeros((offsets[-1], 2), np.int16)
    out = Triangles(triangles, makers, ends, normals, counts)
    for lane in prange(LANES):
        _triangles_of_lane(lane, places, index, starts, found_in, table, grid, offsets, rays, out)
    return out
