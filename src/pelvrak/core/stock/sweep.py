"""Where does one ray meet a tool swept along one straight move? (compiled)

A tool here is a convex body of revolution: a stack of frustums given by `heights`
(ascending from the tip, mm) and `radii` (not falling, mm). Its sweep along a straight
move is convex, so a ray meets it in one interval.
"""

import numpy as np
from numba import njit

MISS = 1e300


@njit(nogil=True, cache=True)
def radius_at(heights, radii, h):
    """Tool radius at height h above the tip."""
    for i in range(len(heights) - 1):
        if h <= heights[i + 1]:
            span = heights[i + 1] - heights[i]
            if span <= 0:
                continue
            return radii[i] + (radii[i + 1] - radii[i]) * (h - heights[i]) / span
    return radii[-1]


@njit(nogil=True, cache=True)
def height_at(heights, radii, r):
    """Lowest height at which the tool is at least r wide, and the profile's slope dr/dh there (0: flat end)."""
    if r <= radii[0]:
        return heights[0], 0.0
    for i in range(len(heights) - 1):
        rise = radii[i + 1] - radii[i]
        if r <= radii[i + 1] and rise > 0:
            span = heights[i + 1] - heights[i]
            if span <= 0:
                return heights[i], 0.0
            return heights[i] + span * (r - radii[i]) / rise, rise / span
    return heights[-1], 0.0


@njit(nogil=True, cache=True)
def _depth_at(heights, radii, x, y, mx, my, mh, t):
    rx, ry = x - t * mx, y - t * my
    height, slope = height_at(heights, radii, np.sqrt(rx * rx + ry * ry))
    return t * mh + height, slope


@njit(nogil=True, cache=True)
def parallel_interval(heights, radii, x, y, mx, my, mh):
    """Sweep met by a ray along the tool axis.

    x, y: ray position square to the axis, from the tip at the start of the move.
    mx, my, mh: the move. Returns (low, high, t, slope): heights above the starting tip, and
    where along the move (0…1) and at which profile slope the low end is made; low is MISS when
    the ray passes by.
    """
    widest = radii[-1]
    a = mx * mx + my * my
    first, last = 0.0, 1.0
    if a > 1e-18:
        b = x * mx + y * my
        c = x * x + y * y - widest * widest
        root = b * b - a * c
        if root < 0:
            return MISS, MISS, 0.0, 0.0
        root = np.sqrt(root)
        first, last = max(0.0, (b - root) / a), min(1.0, (b + root) / a)
        if first > last:
            return MISS, MISS, 0.0, 0.0
    elif x * x + y * y > widest * widest:
        return MISS, MISS, 0.0, 0.0
    high = max(first * mh, last * mh) + heights[-1]
    if radii[0] >= widest:
        t = first if mh > 0 else last
        return t * mh + heights[0], high, t, 0.0
    if abs(mh) < 1e-12:
        t = first
        if a > 1e-18:
            t = min(last, max(first, (x * mx + y * my) / a))
        low, slope = _depth_at(heights, radii, x, y, mx, my, 0.0, t)
        return low, high, t, slope
    if a <= 1e-18:
        t = first if mh > 0 else last
        low, slope = _depth_at(heights, radii, x, y, mx, my, mh, t)
        return low, high, t, slope
    start, end = first, last
    for _ in range(48):  # the depth is convex along the move
        one = start + (end - start) / 3
        two = end - (end - start) / 3
        if _depth_at(heights, radii, x, y, mx, my, mh, one)[0] < _depth_at(heights, radii, x, y, mx, my, mh, two)[0]:
            end = two
        else:
            start = one
    t = (start + end) / 2
    low, slope = _depth_at(heights, radii, x, y, mx, my, mh, t)
    return low, high, t, slope


@njit(nogil=True, cache=True)
def line_and_hull(y, sa, ya, ra, sb, yb, rb):
    """Line at height y against the convex hull of two discs: (low, high, low normal, high normal) in the plane."""
    low, high = MISS, -MISS
    lns, lny, hns, hny = -1.0, 0.0, 1.0, 0.0
    dy = y - ya
    if abs(dy) <= ra and ra > 0:
        w = np.sqrt(ra * ra - dy * dy)
        low, high = sa - w, sa + w
        lns, lny, hns, hny = -w / ra, dy / ra, w / ra, dy / ra
    dy = y - yb
    if abs(dy) <= rb and rb > 0:
        w = np.sqrt(rb * rb - dy * dy)
        if sb - w < low:
            low, lns, lny = sb - w, -w / rb, dy / rb
        if sb + w > high:
            high, hns, hny = sb + w, w / rb, dy / rb
    ds, dy = sb - sa, yb - ya
    apart = np.sqrt(ds * ds + dy * dy)
    if apart > 1e-12 and apart > abs(ra - rb):
        us, uy = ds / apart, dy / apart
        along = (ra - rb) / apart
        across = np.sqrt(max(0.0, 1 - along * along))
        for side in (-1.0, 1.0):
            ns, ny = us * along - side * uy * across, uy * along + side * us * across
            y0, y1 = ya + ra * ny, yb + rb * ny
            if (y0 - y) * (y1 - y) <= 0 and abs(y1 - y0) > 1e-15:
                s = (sa + ra * ns) + (sb + rb * ns - sa - ra * ns) * (y - y0) / (y1 - y0)
                if s < low and ns <= 0:
                    low, lns, lny = s, ns, ny
                if s > high and ns >= 0:
                    high, hns, hny = s, ns, ny
    return low, high, lns, lny, hns, hny


@njit(nogil=True, cache=True)
def square_interval(heights, radii, s, y, h, ms, my, mh):
    """Sweep met by a ray square to the tool axis.

    The ray runs along s; (y, h) is its place across and along the tool axis, from the tip at
    the start of the move, and s the place of that tip along the ray, so the answer is in ray
    coordinates. Returns (low, high, normal at low (3), normal at high (3)), normals as (s, y, h)
    pointing out of the tool; low is MISS when the ray passes by.
    """
    low, high = MISS, -MISS
    la, lb, lc, ha, hb, hc = -1.0, 0.0, 0.0, 1.0, 0.0, 0.0
    for i in range(len(heights) - 1):
        bottom, top = heights[i], heights[i + 1]
        if top <= bottom:
            continue
        first, last = 0.0, 1.0
        if abs(mh) < 1e-12:
            if h < bottom or h > top:
                continue
            r0 = radii[i] + (radii[i + 1] - radii[i]) * (h - bottom) / (top - bottom)
            r1 = r0
        else:
            one, two = (h - top) / mh, (h - bottom) / mh
            first, last = max(0.0, min(one, two)), min(1.0, max(one, two))
            if first > last:
                continue
            grow = (radii[i + 1] - radii[i]) / (top - bottom)
            r0 = radii[i] + grow * (h - first * mh - bottom)
            r1 = radii[i] + grow * (h - last * mh - bottom)
        lo, hi, a, b, c, d = line_and_hull(y, s + first * ms, first * my, r0, s + last * ms, last * my, r1)
        slope = (radii[i + 1] - radii[i]) / (top - bottom)
        length = np.sqrt(1 + slope * slope)
        if lo < low:
            low, la, lb, lc = lo, a / length, b / length, -slope / length
        if hi > high:
            high, ha, hb, hc = hi, c / length, d / length, -slope / length
    if low > high:
        return MISS, MISS, la, lb, lc, ha, hb, hc
    return low, high, la, lb, lc, ha, hb, hc


@njit(nogil=True, cache=True)
def _still(heights, radii, x, y, h, dx, dh):
    """Ray (x, y, h) + s (dx, 0, dh) against the tool standing still at the origin: (low, high)."""
    low, high = MISS, -MISS
    for i in range(len(heights) - 1):
        bottom, top = heights[i], heights[i + 1]
        if top <= bottom:
            continue
        grow = (radii[i + 1] - radii[i]) / (top - bottom)
        base = radii[i] + grow * (h - bottom)
        one, two = (bottom - h) / dh, (top - h) / dh
        start, end = min(one, two), max(one, two)
        a = dx * dx - grow * grow * dh * dh
        b = x * dx - base * grow * dh
        c = x * x + y * y - base * base
        if abs(a) < 1e-15:
            if abs(b) < 1e-15:
                if c > 0:
                    continue
            elif b > 0:
                end = min(end, -c / (2 * b))
            else:
                start = max(start, -c / (2 * b))
        else:
            root = b * b - a * c
            if a > 0:
                if root < 0:
                    continue
                root = np.sqrt(root)
                start, end = max(start, (-b - root) / a), min(end, (-b + root) / a)
            elif root > 0:
                # Outside the two roots; the slab keeps one nappe of the cone.
                root = np.sqrt(root)
                left, right = (-b + root) / a, (-b - root) / a
                middle = (start + end) / 2
                if end <= left or start >= right:
                    pass
                elif start < left and end > right:
                    if base + grow * dh * (left - 1e-9) >= 0 and start < left:
                        end = left
                    if middle > right:
                        end = max(one, two)
                elif start < left:
                    end = left
                elif end > right:
                    start = right
                else:
                    continue
        if start <= end:
            low, high = min(low, start), max(high, end)
    return low, high


@njit(nogil=True, cache=True)
def oblique_interval(heights, radii, x, y, h, dx, dh, mx, my, mh, samples):
    """Sweep met by a ray neither along nor square to the tool axis.

    The ray is (x, y, h) + s (dx, 0, dh) in the tool's frame. Both ends are convex along the
    move: they are sampled and refined, so each is short of the true end by no more than the
    refinement leaves (below 1e-6 of the move), and a graze shorter than the sample spacing can
    be missed. Returns (low, high, t at low, t at high).
    """
    widest = radii[-1]
    first, last = 0.0, 1.0
    if abs(my) > 1e-12:
        one, two = (y - widest) / my, (y + widest) / my
        first, last = max(0.0, min(one, two)), min(1.0, max(one, two))
    elif abs(y) > widest:
        return MISS, MISS, 0.0, 0.0
    if first > last:
        return MISS, MISS, 0.0, 0.0
    low, high, at_low, at_high = MISS, -MISS, 0.0, 0.0
    step = (last - first) / samples
    for i in range(samples + 1):
        t = first + step * i
        a, b = _still(heights, radii, x - t * mx, y - t * my, h - t * mh, dx, dh)
        if a <= b:
            if a < low:
                low, at_low = a, t
            if b > high:
                high, at_high = b, t
    if low > high:
        return MISS, MISS, 0.0, 0.0
    for end in range(2):
        t = at_low if end == 0 else at_high
        width = step
        for _ in range(24):
            width *= 0.6
            for side in (-1.0, 1.0):
                u = min(last, max(first, t + side * width))
                a, b = _still(heights, radii, x - u * mx, y - u * my, h - u * mh, dx, dh)
                if a <= b:
                    if end == 0 and a < low:
                        low, at_low, t = a, u, u
                    elif end == 1 and b > high:
                        high, at_high, t = b, u, u
    return low, high, at_low, at_high
