"""How are pieces taken off and put on one ray? (compiled)"""

import numpy as np
from numba import njit

# Ends closer than this are one end: a few roundings of a float32 coordinate at 500 mm.
SAME_MM = 1e-4


@njit(nogil=True, cache=True, inline="always")
def encode_normal(x, y, z):
    """Unit vector to two int16: octahedral map (Cigolle et al., JCGT 3(2), 2014)."""
    total = abs(x) + abs(y) + abs(z)
    if total == 0.0:
        return np.int16(0), np.int16(0)
    a, b = x / total, y / total
    if z < 0:
        a, b = (1 - abs(b)) * (1.0 if a >= 0 else -1.0), (1 - abs(a)) * (1.0 if b >= 0 else -1.0)
    return np.int16(np.rint(a * 32767)), np.int16(np.rint(b * 32767))


@njit(nogil=True, cache=True, inline="always")
def decode_normal(first, second):
    """Two int16 back to a unit vector."""
    a, b = first / 32767.0, second / 32767.0
    z = 1 - abs(a) - abs(b)
    if z < 0:
        a, b = (1 - abs(b)) * (1.0 if a >= 0 else -1.0), (1 - abs(a)) * (1.0 if b >= 0 else -1.0)
    length = np.sqrt(a * a + b * b + z * z)
    return a / length, b / length, z / length


@njit(nogil=True, cache=True)
def overlap(count, position, low, high):
    """Longest stretch of material between low and high on one ray, mm."""
    longest = 0.0
    for i in range(count):
        start = max(low, position[2 * i])
        end = min(high, position[2 * i + 1])
        if end - start > longest:
            longest = end - start
    return longest


@njit(nogil=True, cache=True)
def subtract(count, position, normal, maker, low, high, low_normal, high_normal, by):
    """Take low…high (mm) off one ray, in place.

    position (2*capacity,), normal (2*capacity, 2), maker (2*capacity,) are the ray's ends.
    low_normal and high_normal are the stock's outward normals where the cut leaves an end
    below `low` and above `high`. Returns the new count, or -1 when there is no room.
    """
    i = 0
    while i < count and position[2 * i + 1] <= low + SAME_MM:
        i += 1
    if i == count or position[2 * i] >= high - SAME_MM:
        return count
    first = i
    keeps_head = position[2 * i] < low - SAME_MM
    while i < count and position[2 * i] < high - SAME_MM:
        i += 1
    last = i - 1
    keeps_tail = position[2 * last + 1] > high + SAME_MM
    left = (1 if keeps_head else 0) + (1 if keeps_tail else 0)
    change = left - (last - first + 1)
    if change == 1:
        if 2 * (count + 1) > position.shape[0]:
            return -1
        for j in range(2 * count - 1, 2 * first, -1):
            position[j + 2] = position[j]
            maker[j + 2] = maker[j]
            normal[j + 2, 0] = normal[j, 0]
            normal[j + 2, 1] = normal[j, 1]
    slot = 2 * first
    tail_position, tail_maker = position[2 * last + 1], maker[2 * last + 1]
    tail_a, tail_b = normal[2 * last + 1, 0], normal[2 * last + 1, 1]
    if change == 1:
        tail_position, tail_maker = position[slot + 3], maker[slot + 3]
        tail_a, tail_b = normal[slot + 3, 0], normal[slot + 3, 1]
    if keeps_head:
        position[slot + 1] = low
        maker[slot + 1] = by
        normal[slot + 1, 0], normal[slot + 1, 1] = encode_normal(low_normal[0], low_normal[1], low_normal[2])
        slot += 2
    if keeps_tail:
        position[slot] = high
        maker[slot] = by
        normal[slot, 0], normal[slot, 1] = encode_normal(high_normal[0], high_normal[1], high_normal[2])
        position[slot + 1] = tail_position
        maker[slot + 1] = tail_maker
        normal[slot + 1, 0], normal[slot + 1, 1] = tail_a, tail_b
        slot += 2
    if change < 0:
        for j in range(2 * (last + 1), 2 * count):
            position[slot] = position[j]
            maker[slot] = maker[j]
            normal[slot, 0] = normal[j, 0]
            normal[slot, 1] = normal[j, 1]
            slot += 1
    return count + change
