"""How are pieces taken off and put on one ray? (compiled)"""

import numpy as np
from numba import njit

# Ends closer than this are one end: a few roundings of a float32 coordinate at 500 mm.
SAME_MM = 1e-4


@njit(nogil=True, cache=True, error_model="numpy")
def encode_normal(x, y, z):
    """Unit vector to two int16: octahedral map (Cigolle et al., JCGT 3(2), 2014)."""
    total = abs(x) + abs(y) + abs(z)
    if total == 0.0:
        return np.int16(0), np.int16(0)
    a, b = x / total, y / total
    if z < 0:
        a, b = (1 - abs(b)) * (1.0 if a >= 0 else -1.0), (1 - abs(a)) * (1.0 if b >= 0 else -1.0)
    return np.int16(np.rint(a * 32767)), np.int16(np.rint(b * 32767))


@njit(nogil=True, cache=True, error_model="numpy")
def decode_normal(first, second):
    """Two int16 back to a unit vector."""
    a, b = first / 32767.0, second / 32767.0
    z = 1 - abs(a) - abs(b)
    if z < 0:
        a, b = (1 - abs(b)) * (1.0 if a >= 0 else -1.0), (1 - abs(a)) * (1.0 if b >= 0 else -1.0)
    length = np.sqrt(a * a + b * b + z * z)
    return a / length, b / length, z / length


@njit(nogil=True, cache=True, error_model="numpy")
def overlap(count, position, base, low, high):
    """Longest stretch of material between low and high on the ray whose ends begin at `base`, mm."""
    longest = 0.0
    for i in range(count):
        start = max(low, position[base + 2 * i])
        end = min(high, position[base + 2 * i + 1])
        if end - start > longest:
            longest = end - start
    return longest


@njit(nogil=True, cache=True, error_model="numpy")
def spares(count, position, base, low, high):
    """Whether low…high holds no material on the ray whose ends begin at `base`; cheaper than asking
    `subtract`.
    """
    i = 0
    while i < count and position[base + 2 * i + 1] <= low + SAME_MM:
        i += 1
    return i == count or position[base + 2 * i] >= high - SAME_MM


@njit(nogil=True, cache=True, error_model="numpy")
def _put(position, normal, maker, at, place, direction, by):
    position[at] = place
    maker[at] = by
    normal[2 * at], normal[2 * at + 1] = encode_normal(direction[0], direction[1], direction[2])


@njit(nogil=True, cache=True, error_model="numpy")
def _move(position, normal, maker, target, source):
    position[target] = position[source]
    maker[target] = maker[source]
    normal[2 * target] = normal[2 * source]
    normal[2 * target + 1] = normal[2 * source + 1]


@njit(nogil=True, cache=True, error_model="numpy")
def subtract(count, position, normal, maker, base, room, low, high, low_normal, high_normal, by):
    """Take low…high (mm) off one ray, in place.

    position, maker (all ends of a bundle, flat) and normal (twice as long): the ray's ends begin at `base`
    and have room for `room`. count: intervals it holds. low_normal and high_normal are the stock's outward
    normals where the cut leaves an end below `low` and above `high`. Returns (new count, length taken off,
    mm); a count of -1 says that there was no room and nothing was changed.
    """
    first = 0
    while first < count and position[base + 2 * first + 1] <= low + SAME_MM:
        first += 1
    if first == count or position[base + 2 * first] >= high - SAME_MM:
        return count, 0.0
    last = first
    gone = min(high, position[base + 2 * first + 1]) - max(low, position[base + 2 * first])
    while last + 1 < count and position[base + 2 * last + 2] < high - SAME_MM:
        last += 1
        gone += min(high, position[base + 2 * last + 1]) - position[base + 2 * last]
    keeps_head = position[base + 2 * first] < low - SAME_MM
    keeps_tail = position[base + 2 * last + 1] > high + SAME_MM
    change = (1 if keeps_head else 0) + (1 if keeps_tail else 0) - (last - first + 1)
    if change == 1:
        if 2 * (count + 1) > room:
            return -1, 0.0
        for j in range(2 * count - 1, 2 * first, -1):
            _move(position, normal, maker, base + j + 2, base + j)
        _put(position, normal, maker, base + 2 * first + 1, low, low_normal, by)
        _put(position, normal, maker, base + 2 * first + 2, high, high_normal, by)
        return count + 1, gone
    slot = 2 * first
    if keeps_head:
        _put(position, normal, maker, base + slot + 1, low, low_normal, by)
        slot += 2
    if keeps_tail:
        _move(position, normal, maker, base + slot + 1, base + 2 * last + 1)
        _put(position, normal, maker, base + slot, high, high_normal, by)
        slot += 2
    if change < 0:
        for j in range(2 * (last + 1), 2 * count):
            _move(position, normal, maker, base + slot, base + j)
            slot += 1
    return count + change, gone
