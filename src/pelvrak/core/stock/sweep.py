"""Where does one ray meet a convex body of revolution swept along one straight move? (compiled) The body is a
stack of frustums on the tool axis (`heights` ascending from the tip and `radii`, mm, the radius a concave
function of the height) and at most one ball (its centre's height and its radius, 0 for none) that makes a
convex whole with them. Its sweep along a straight move is convex, so a ray meets it in one interval, and
every end of that interval lies on one of: the body at either end of the move, a rim carried along the move, a
plane that touches the flank along the move, the ball carried along the move. All have closed forms; the
outermost crossings are the ends.

The ray is (x, y, h) + s (dx, 0, dh), a unit direction, in the tool's frame (e1, e2, axis) with the
tip at the start of the move at its origin; the move is (m0, m1, m2). An interval is two ends, each
(s, n0, n1, n2): its place on the ray and the body's outward unit normal there, in the tool's frame.
It is empty when the first end lies behind the second.
"""

import numpy as np
from numba import njit

MISS = 1e300
FREE_LOW = (MISS, 0.0, 0.0, 0.0)
FREE_HIGH = (-MISS, 0.0, 0.0, 0.0)
TINY = 1e-12
# A crossing this far outside its patch (as a share of it) still counts: patches share their seams.
SEAM = 1e-9


@njit(nogil=True, cache=True, error_model="numpy")
def lower(one, two):
    """Whichever end comes first."""
    return two if two[0] < one[0] else one


@njit(nogil=True, cache=True, error_model="numpy")
def higher(one, two):
    """Whichever end comes last."""
    return two if two[0] > one[0] else one


@njit(nogil=True, cache=True, error_model="numpy")
def _flank(s, grow, x, y, dx):
    """An end on the flank of a frustum whose radius grows by `grow` for each mm up."""
    px = x + s * dx
    r = np.sqrt(px * px + y * y)
    if r < TINY:
        return (s, 0.0, 0.0, -1.0 if grow > 0 else 1.0)
    length = np.sqrt(1 + grow * grow)
    return (s, px / (r * length), y / (r * length), -grow / length)


@njit(nogil=True, cache=True, error_model="numpy")
def _frustum(h0, r0, h1, r1, x, y, h, dx, dh):
    """Ray against one frustum standing still."""
    start, end = (-MISS, 0.0, 0.0, -1.0), (MISS, 0.0, 0.0, 1.0)
    if abs(dh) > TINY:
        one, two = (h0 - h) / dh, (h1 - h) / dh
        if one <= two:
            start, end = (one, 0.0, 0.0, -1.0), (two, 0.0, 0.0, 1.0)
        else:
            start, end = (two, 0.0, 0.0, 1.0), (one, 0.0, 0.0, -1.0)
    elif h < h0 or h > h1:
        return FREE_LOW, FREE_HIGH
    grow = (r1 - r0) / (h1 - h0)
    base = r0 + grow * (h - h0)
    a = dx * dx - grow * grow * dh * dh
    b = x * dx - base * grow * dh
    c = x * x + y * y - base * base
    enters, leaves = -MISS, MISS
    if abs(a) < TINY:
        if abs(b) < TINY:
            if c > 0:
                return FREE_LOW, FREE_HIGH
        elif b > 0:
            leaves = -c / (2 * b)
        else:
            enters = -c / (2 * b)
    else:
        root = b * b - a * c
        if a > 0:
            if root < 0:
                return FREE_LOW, FREE_HIGH
            root = np.sqrt(root)
            enters, leaves = (-b - root) / a, (-b + root) / a
        elif root > 0:
            # Outside the two roots; the slab holds the one nappe on which the radius is positive.
            root = np.sqrt(root)
            if grow * dh > 0:
                enters = (-b - root) / a
            else:
                leaves = (-b + root) / a
    if max(enters, start[0]) > min(leaves, end[0]):
        return FREE_LOW, FREE_HIGH
    if enters > start[0]:
        start = _flank(enters, grow, x, y, dx)
    if leaves < end[0]:
        end = _flank(leaves, grow, x, y, dx)
    return start, end


@njit(nogil=True, cache=True, error_model="numpy")
def _on_rim(s, c0, c1, m0, m1, m2):
    """An end where a rim is carried along: c0, c1 is the unit radius there, the normal is square to rim and
    move.
    """
    n2 = -c0 * m0 - c1 * m1
    length = np.sqrt((c0 * c0 + c1 * c1) * m2 * m2 + n2 * n2)
    if m2 < 0:
        length = -length
    return (s, c0 * m2 / length, c1 * m2 / length, n2 / length)


@njit(nogil=True, cache=True, error_model="numpy")
def _rim_level(hr, r, facing, x, y, h, dx, dh, m0, m1):
    """Ray against a disc carried along a level move."""
    if abs(dh) < TINY:
        return FREE_LOW, FREE_HIGH
    s = (hr - h) / dh
    px = x + s * dx
    length2 = m0 * m0 + m1 * m1
    t = 0.0
    if length2 > TINY * TINY:
        t = min(1.0, max(0.0, (px * m0 + y * m1) / length2))
    ax, ay = px - t * m0, y - t * m1
    if ax * ax + ay * ay <= r * r * (1 + SEAM):
        end = (s, 0.0, 0.0, facing)
        return end, end
    return FREE_LOW, FREE_HIGH


@njit(nogil=True, cache=True, error_model="numpy")
def _rim_by_place(hr, r, x, y, h, dx, dh, m0, m1, m2):
    """Ray against a carried rim by the place on the ray: for one that is all but across, the share of the
    move would lose its digits.
    """
    low, high = FREE_LOW, FREE_HIGH
    start, end, slack = -MISS, MISS, 0.0
    t0, t1 = (h - hr) / m2, dh / m2
    if abs(dh) > TINY:
        one, two = -t0 / t1, (1 - t0) / t1
        start, end = min(one, two), max(one, two)
        slack = SEAM * (end - start)
    elif t0 < 0 or t0 > 1:
        return low, high
    ux, uy = dx - t1 * m0, -t1 * m1
    px, py = x - t0 * m0, y - t0 * m1
    a = ux * ux + uy * uy
    if a < TINY * TINY:
        return low, high  # along the carried rim: the discs at the ends of the move have it
    b = px * ux + py * uy
    root = b * b - a * (px * px + py * py - r * r)
    if root < 0:
        return low, high
    root = np.sqrt(root)
    for at in ((-b - root) / a, (-b + root) / a):
        if start - slack <= at <= end + slack:
            met = _on_rim(at, (px + at * ux) / r, (py + at * uy) / r, m0, m1, m2)
            low, high = lower(low, met), higher(high, met)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _rim_by_share(hr, r, x, y, h, dx, dh, m0, m1, m2):
    """The same by the share of the move, from where the ray meets the disc's plane at its start: for a
    move that is all but level the place on the ray would lose its digits.
    """
    low, high = FREE_LOW, FREE_HIGH
    s = (hr - h) / dh
    px = x + s * dx
    ux, uy = m2 * dx / dh - m0, -m1
    a = ux * ux + uy * uy
    if a < TINY * TINY:
        return low, high
    b = px * ux + y * uy
    root = b * b - a * (px * px + y * y - r * r)
    if root < 0:
        return low, high
    root = np.sqrt(root)
    for t in ((-b - root) / a, (-b + root) / a):
        if -SEAM <= t <= 1 + SEAM:
            met = _on_rim(s + t * m2 / dh, (px + t * ux) / r, (y + t * uy) / r, m0, m1, m2)
            low, high = lower(low, met), higher(high, met)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _rim(hr, r, facing, x, y, h, dx, dh, m0, m1, m2):
    """Ray against a disc of radius r at height hr carried along the move; facing: the side of a level sweep,
    ±1.
    """
    if r <= 0:
        return FREE_LOW, FREE_HIGH
    if abs(m2) < TINY:
        return _rim_level(hr, r, facing, x, y, h, dx, dh, m0, m1)
    if abs(dh) <= TINY or abs(m2) >= abs(dh):
        return _rim_by_place(hr, r, x, y, h, dx, dh, m0, m1, m2)
    return _rim_by_share(hr, r, x, y, h, dx, dh, m0, m1, m2)


@njit(nogil=True, cache=True, error_model="numpy")
def _flank_plane(side, h0, r0, h1, r1, x, y, h, dx, dh, m0, m1, m2):
    """Ray against one of the two planes (side ±1) that touch a frustum's flank along the move."""
    level = np.sqrt(m0 * m0 + m1 * m1)
    if level < TINY:
        return FREE_LOW, FREE_HIGH
    grow = (r1 - r0) / (h1 - h0)
    share = grow * m2 / level
    if abs(share) >= 1:
        return FREE_LOW, FREE_HIGH
    across = side * np.sqrt(1 - share * share)
    a0, a1 = m0 / level, m1 / level
    cx, cy = share * a0 - across * a1, share * a1 + across * a0
    steep = cx * dx - grow * dh
    if abs(steep) < TINY:
        return FREE_LOW, FREE_HIGH
    s = (r0 - (cx * x + cy * y) - grow * (h0 - h)) / steep
    px, ph = x + s * dx, h + s * dh
    t = (cx * y - cy * px) / (cx * m1 - cy * m0)
    up = (ph - h0 - t * m2) / (h1 - h0)
    if t < -SEAM or t > 1 + SEAM or up < -SEAM or up > 1 + SEAM:
        return FREE_LOW, FREE_HIGH
    length = np.sqrt(1 + grow * grow)
    end = (s, cx / length, cy / length, -grow / length)
    return end, end


@njit(nogil=True, cache=True, error_model="numpy")
def _any_frustum(h0, r0, h1, r1, lowest, highest, x, y, h, dx, dh, m0, m1, m2):
    """Any ray against any frustum carried along the move; lowest, highest: whether nothing of the body lies
    beyond.
    """
    low, high = _frustum(h0, r0, h1, r1, x, y, h, dx, dh)
    a, b = _frustum(h0, r0, h1, r1, x - m0, y - m1, h - m2, dx, dh)
    low, high = lower(low, a), higher(high, b)
    a, b = _flank_plane(-1.0, h0, r0, h1, r1, x, y, h, dx, dh, m0, m1, m2)
    low, high = lower(low, a), higher(high, b)
    a, b = _flank_plane(1.0, h0, r0, h1, r1, x, y, h, dx, dh, m0, m1, m2)
    low, high = lower(low, a), higher(high, b)
    if lowest or m2 != 0.0:
        a, b = _rim(h0, r0, -1.0, x, y, h, dx, dh, m0, m1, m2)
        low, high = lower(low, a), higher(high, b)
    if highest or m2 != 0.0:
        a, b = _rim(h1, r1, 1.0, x, y, h, dx, dh, m0, m1, m2)
        low, high = lower(low, a), higher(high, b)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _cylinder_along(h0, h1, r, x, y, h, dh, m0, m1, m2):
    """Ray along the axis against a cylinder carried along the move."""
    a = m0 * m0 + m1 * m1
    c = x * x + y * y - r * r
    first, last, first_rim, last_rim = 0.0, 1.0, False, False
    if a > TINY * TINY:
        b = x * m0 + y * m1
        root = b * b - a * c
        if root < 0:
            return FREE_LOW, FREE_HIGH
        root = np.sqrt(root)
        one, two = (b - root) / a, (b + root) / a
        if one > 1 or two < 0:
            return FREE_LOW, FREE_HIGH
        if one > 0:
            first, first_rim = one, m2 != 0.0
        if two < 1:
            last, last_rim = two, m2 != 0.0
    elif c > 0:
        return FREE_LOW, FREE_HIGH
    if m2 <= 0:
        first, last, first_rim, last_rim = last, first, last_rim, first_rim
    bottom = ((first * m2 + h0 - h) * dh, 0.0, 0.0, -1.0)
    if first_rim:
        bottom = _on_rim(bottom[0], (x - first * m0) / r, (y - first * m1) / r, m0, m1, m2)
    top = ((last * m2 + h1 - h) * dh, 0.0, 0.0, 1.0)
    if last_rim:
        top = _on_rim(top[0], (x - last * m0) / r, (y - last * m1) / r, m0, m1, m2)
    return (bottom, top) if dh > 0 else (top, bottom)


@njit(nogil=True, cache=True, error_model="numpy")
def _disc_across(y, r, rim, t, x, m0, m1, m2):
    """Ray along e1 against the disc of radius r as it lies at share t of the move."""
    dy = y - t * m1
    if abs(dy) > r:
        return FREE_LOW, FREE_HIGH
    w = np.sqrt(r * r - dy * dy)
    one, two = t * m0 - w - x, t * m0 + w - x
    if rim:
        return _on_rim(one, -w / r, dy / r, m0, m1, m2), _on_rim(two, w / r, dy / r, m0, m1, m2)
    return (one, -w / r, dy / r, 0.0), (two, w / r, dy / r, 0.0)


@njit(nogil=True, cache=True, error_model="numpy")
def _cylinder_across(h0, h1, r, x, y, h, m0, m1, m2):
    """Ray along e1 against a cylinder carried along the move: a disc between the moments the ray's height is
    reached.
    """
    first, last, first_rim, last_rim = 0.0, 1.0, False, False
    if abs(m2) > TINY:
        one, two = (h - h1) / m2, (h - h0) / m2
        if one > two:
            one, two = two, one
        if one > 1 or two < 0:
            return FREE_LOW, FREE_HIGH
        if one > 0:
            first, first_rim = one, True
        if two < 1:
            last, last_rim = two, True
    elif h < h0 or h > h1:
        return FREE_LOW, FREE_HIGH
    low, high = _disc_across(y, r, first_rim, first, x, m0, m1, m2)
    if last > first:
        a, b = _disc_across(y, r, last_rim, last, x, m0, m1, m2)
        low, high = lower(low, a), higher(high, b)
        a, b = _tangents(y, r, first, last, x, m0, m1)
        low, high = lower(low, a), higher(high, b)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _tangents(y, r, first, last, x, m0, m1):
    """Ray along e1 against the two lines that touch a disc on its way from share `first` to `last` of the
    move.
    """
    low, high = FREE_LOW, FREE_HIGH
    if abs(m1) < TINY:
        return low, high
    length = np.sqrt(m0 * m0 + m1 * m1)
    n0, n1 = m1 / length, -m0 / length
    t = (y - r * n1) / m1
    if first - SEAM <= t <= last + SEAM:
        low = high = (r * n0 + t * m0 - x, n0, n1, 0.0)
    t = (y + r * n1) / m1
    if first - SEAM <= t <= last + SEAM:
        end = (t * m0 - r * n0 - x, -n0, -n1, 0.0)
        low, high = lower(low, end), higher(high, end)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def _still_ball(radius, x, y, h, dx, dh):
    b = x * dx + h * dh
    root = b * b - (x * x + y * y + h * h - radius * radius)
    if root < 0:
        return FREE_LOW, FREE_HIGH
    root = np.sqrt(root)
    one, two = -b - root, -b + root
    return (
        (one, (x + one * dx) / radius, y / radius, (h + one * dh) / radius),
        (two, (x + two * dx) / radius, y / radius, (h + two * dh) / radius),
    )


@njit(nogil=True, cache=True, error_model="numpy")
def _ball(hc, radius, x, y, h, dx, dh, m0, m1, m2):
    """Ray against a ball carried along the move."""
    h = h - hc
    low, high = _still_ball(radius, x, y, h, dx, dh)
    a, b = _still_ball(radius, x - m0, y - m1, h - m2, dx, dh)
    low, high = lower(low, a), higher(high, b)
    length2 = m0 * m0 + m1 * m1 + m2 * m2
    if length2 < TINY * TINY:
        return low, high
    # Square to the move: what is left of place and direction.
    pm, dm = (x * m0 + y * m1 + h * m2) / length2, (dx * m0 + dh * m2) / length2
    ux, uy, uh = dx - dm * m0, -dm * m1, dh - dm * m2
    px, py, ph = x - pm * m0, y - pm * m1, h - pm * m2
    square = ux * ux + uy * uy + uh * uh
    if square < TINY:
        return low, high
    along = px * ux + py * uy + ph * uh
    root = along * along - square * (px * px + py * py + ph * ph - radius * radius)
    if root < 0:
        return low, high
    root = np.sqrt(root)
    s = (-along - root) / square
    if -SEAM <= pm + s * dm <= 1 + SEAM:
        low = lower(low, (s, (px + s * ux) / radius, (py + s * uy) / radius, (ph + s * uh) / radius))
    s = (-along + root) / square
    if -SEAM <= pm + s * dm <= 1 + SEAM:
        high = higher(high, (s, (px + s * ux) / radius, (py + s * uy) / radius, (ph + s * uh) / radius))
    return low, high


@njit(nogil=True, cache=True, error_model="numpy")
def ramp_along(h0, h1, r, x, y, h, dh, m0, m1, m2, length2):
    """Places alone of a cylinder's sweep on a ray along its axis: (low, high), the low one behind when they
    do not meet.
    """
    c = x * x + y * y - r * r
    first, last = 0.0, 1.0
    if length2 > TINY * TINY:
        b = x * m0 + y * m1
        root = b * b - length2 * c
        if root < 0:
            return MISS, -MISS
        root = np.sqrt(root)
        first, last = max(0.0, (b - root) / length2), min(1.0, (b + root) / length2)
        if first > last:
            return MISS, -MISS
    elif c > 0:
        return MISS, -MISS
    if m2 <= 0:
        first, last = last, first
    bottom, top = (first * m2 + h0 - h) * dh, (last * m2 + h1 - h) * dh
    return (bottom, top) if dh > 0 else (top, bottom)


@njit(nogil=True, cache=True, error_model="numpy")
def touch_lines(r, y, m0, m1):
    """Where along the move a line at height y is touched by the disc's two tangents, and at what place: (t,
    s, t, s).
    """
    if abs(m1) < TINY:
        return MISS, 0.0, MISS, 0.0
    length = np.sqrt(m0 * m0 + m1 * m1)
    n0, n1 = m1 / length, -m0 / length
    one, two = (y - r * n1) / m1, (y + r * n1) / m1
    return one, r * n0 + one * m0, two, two * m0 - r * n0


@njit(nogil=True, cache=True, error_model="numpy")
def ramp_across(h0, h1, r, x, y, h, m0, m1, inverse, touches):
    """Places alone of a cylinder's sloping sweep on a ray along e1; inverse: 1 / m2; touches: its
    touch_lines.
    """
    one, two = (h - h1) * inverse, (h - h0) * inverse
    first, last = max(0.0, min(one, two)), min(1.0, max(one, two))
    low, high = MISS, -MISS
    if first > last:
        return low, high
    dy = y - first * m1
    w = r * r - dy * dy
    if w >= 0:
        w = np.sqrt(w)
        low, high = first * m0 - w, first * m0 + w
    dy = y - last * m1
    w = r * r - dy * dy
    if w >= 0:
        w = np.sqrt(w)
        low, high = min(low, last * m0 - w), max(high, last * m0 + w)
    if first - SEAM <= touches[0] <= last + SEAM:
        low, high = min(low, touches[1]), max(high, touches[1])
    if first - SEAM <= touches[2] <= last + SEAM:
        low, high = min(low, touches[3]), max(high, touches[3])
    return low - x, high - x


@njit(nogil=True, cache=True, error_model="numpy")
def level_places(r, x, y, m0, m1, length, touching):
    """Places alone of a level disc sweep on a ray along e1; length: of the move; touching: 1 / m1, 0 along
    the ray.
    """
    low, high = MISS, -MISS
    w = r * r - y * y
    if w >= 0:
        w = np.sqrt(w)
        low, high = -w, w
    dy = y - m1
    w = r * r - dy * dy
    if w >= 0:
        w = np.sqrt(w)
        low, high = min(low, m0 - w), max(high, m0 + w)
    if touching != 0.0:
        n0, n1 = r * m1 / length, -r * m0 / length
        t = (y - n1) * touching
        if -SEAM <= t <= 1 + SEAM:
            low, high = min(low, n0 + t * m0), max(high, n0 + t * m0)
        t = (y + n1) * touching
        if -SEAM <= t <= 1 + SEAM:
            low, high = min(low, t * m0 - n0), max(high, t * m0 - n0)
    return low - x, high - x


@njit(nogil=True, cache=True, error_model="numpy")
def ball_places(radius, x, y, h, dx, dh, m0, m1, m2, over_length2):
    """Places alone of a ball's sweep on any ray; h from its centre; over_length2: 1 / the move's length², 0
    for none.
    """
    low, high = MISS, -MISS
    b = x * dx + h * dh
    root = b * b - (x * x + y * y + h * h - radius * radius)
    if root >= 0:
        root = np.sqrt(root)
        low, high = -b - root, -b + root
    px, py, ph = x - m0, y - m1, h - m2
    b = px * dx + ph * dh
    root = b * b - (px * px + py * py + ph * ph - radius * radius)
    if root >= 0:
        root = np.sqrt(root)
        low, high = min(low, -b - root), max(high, -b + root)
    if over_length2 == 0.0:
        return low, high
    pm, dm = (x * m0 + y * m1 + h * m2) * over_length2, (dx * m0 + dh * m2) * over_length2
    ux, uy, uh = dx - dm * m0, -dm * m1, dh - dm * m2
    px, py, ph = x - pm * m0, y - pm * m1, h - pm * m2
    square = ux * ux + uy * uy + uh * uh
    if square < TINY:
        return low, high
    along = px * ux + py * uy + ph * uh
    root = along * along - square * (px * px + py * py + ph * ph - radius * radius)
    if root < 0:
        return low, high
    root = np.sqrt(root)
    s = (-along - root) / square
    if -SEAM <= pm + s * dm <= 1 + SEAM:
        low = min(low, s)
    s = (-along + root) / square
    if -SEAM <= pm + s * dm <= 1 + SEAM:
        high = max(high, s)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy", inline="always")
def sweep_interval(heights, radii, first, last, ball_height, ball_radius, x, y, h, dx, dh, m0, m1, m2):
    """Any ray against any sweep: (low end, high end). The body's outline is points first…last of heights and
    radii.
    """
    low, high = FREE_LOW, FREE_HIGH
    for i in range(first, last):
        h0, r0, h1, r1 = heights[i], radii[i], heights[i + 1], radii[i + 1]
        if r0 == r1 and abs(dx) < TINY:
            a, b = _cylinder_along(h0, h1, r0, x, y, h, dh, m0, m1, m2)
        elif r0 == r1 and abs(dh) < TINY:
            a, b = _cylinder_across(h0, h1, r0, x, y, h, m0, m1, m2)
        else:
            a, b = _any_frustum(h0, r0, h1, r1, i == first, i == last - 1, x, y, h, dx, dh, m0, m1, m2)
        low, high = lower(low, a), higher(high, b)
    if ball_radius > 0:
        a, b = _ball(ball_height, ball_radius, x, y, h, dx, dh, m0, m1, m2)
        low, high = lower(low, a), higher(high, b)
    return low, high


@njit(nogil=True, cache=True, error_model="numpy", inline="always")
def radius_at(heights, radii, first, last, ball_height, ball_radius, h):
    """Radius of the body at height h (below zero: none there), and how it grows with the height."""
    radius, slope = -1.0, 0.0
    if ball_radius > 0:
        up = h - ball_height
        square = ball_radius * ball_radius - up * up
        if square > 0:
            radius = np.sqrt(square)
            slope = -up / radius
    for i in range(first, last):
        if heights[i] <= h <= heights[i + 1]:
            grow = (radii[i + 1] - radii[i]) / (heights[i + 1] - heights[i])
            own = radii[i] + grow * (h - heights[i])
            if own > radius:
                radius, slope = own, grow
            break
    return radius, slope


@njit(nogil=True, cache=True, error_model="numpy", inline="always")
def level_along(heights, radii, first, last, ball_height, ball_radius, x, y, h, dh, m0, m1, length2):
    """Ray along the tool axis against a level move."""
    t = 0.0
    if length2 > TINY * TINY:
        t = min(1.0, max(0.0, (x * m0 + y * m1) / length2))
    x, y = x - t * m0, y - t * m1
    r = np.sqrt(x * x + y * y)
    c0, c1 = (x / r, y / r) if r > TINY else (0.0, 0.0)
    bottom, top = FREE_LOW, FREE_HIGH
    for i in range(first, last):
        h0, r0, h1, r1 = heights[i], radii[i], heights[i + 1], radii[i + 1]
        if r > r0 and r > r1:
            continue
        one, two = (h0, 0.0, 0.0, -1.0), (h1, 0.0, 0.0, 1.0)
        if r > r0 or r > r1:
            grow = (r1 - r0) / (h1 - h0)
            length = np.sqrt(1 + grow * grow)
            flank = (h0 + (r - r0) / grow, c0 / length, c1 / length, -grow / length)
            if r > r0:
                one = flank
            else:
                two = flank
        bottom, top = lower(bottom, one), higher(top, two)
    if r < ball_radius:
        up = np.sqrt(ball_radius * ball_radius - r * r)
        x, y, up = x / ball_radius, y / ball_radius, up / ball_radius
        bottom = lower(bottom, (ball_height - up * ball_radius, x, y, -up))
        top = higher(top, (ball_height + up * ball_radius, x, y, up))
    if bottom[0] > top[0]:
        return FREE_LOW, FREE_HIGH
    bottom = ((bottom[0] - h) * dh, bottom[1], bottom[2], bottom[3])
    top = ((top[0] - h) * dh, top[1], top[2], top[3])
    return (bottom, top) if dh > 0 else (top, bottom)


@njit(nogil=True, cache=True, error_model="numpy")
def level_across(radius, slope, x, y, m0, m1):
    """Ray along e1 against a level move of a body whose radius at the ray's height is `radius`, growing by
    `slope`.
    """
    low, high = _disc_across(y, radius, False, 0.0, x, m0, m1, 0.0)
    a, b = _disc_across(y, radius, False, 1.0, x, m0, m1, 0.0)
    low, high = lower(low, a), higher(high, b)
    a, b = _tangents(y, radius, 0.0, 1.0, x, m0, m1)
    low, high = lower(low, a), higher(high, b)
    if slope != 0.0 and low[0] <= high[0]:
        length = np.sqrt(1 + slope * slope)
        low = (low[0], low[1] / length, low[2] / length, -slope / length)
        high = (high[0], high[1] / length, high[2] / length, -slope / length)
    return low, high
