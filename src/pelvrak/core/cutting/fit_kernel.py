"""Compiled loops: does a run of points lie on a line, or on a circle?"""

from __future__ import annotations

import math

from numba import njit


@njit(nogil=True, cache=True)
def is_line(points, tolerance):
    """Whether points (n, 2) go straight on from the first to the last, within a third of the tolerance."""
    n = points.shape[0]
    if n < 3:
        return True
    ax, ay = points[n - 1, 0] - points[0, 0], points[n - 1, 1] - points[0, 1]
    length = math.hypot(ax, ay)
    if length < 1e-9:
        return False
    before = -math.inf
    for i in range(1, n - 1):
        rx, ry = points[i, 0] - points[0, 0], points[i, 1] - points[0, 1]
        if not abs(rx * ay - ry * ax) / length < tolerance / 3:
            return False
        forward = (rx * ax + ry * ay) / length
        if forward - before < -1e-9:
            return False
        before = forward
    return True


@njit(nogil=True, cache=True)
def is_arc(points, tolerance, cx, cy, radius, turn):
    """Whether points (n, 2) and the middles between them lie on a circle, going round it one way by less than
    270 degrees.
    """
    n = points.shape[0]
    whole, before = 0.0, 0.0
    for i in range(n):
        x, y = points[i, 0] - cx, points[i, 1] - cy
        if abs(math.hypot(x, y) - radius) > tolerance:
            return False
        angle = math.atan2(y, x)
        if i > 0:
            mx = (points[i, 0] + points[i - 1, 0]) / 2 - cx
            my = (points[i, 1] + points[i - 1, 1]) / 2 - cy
            if abs(math.hypot(mx, my) - radius) > tolerance:
                return False
            step = angle - before
            step -= 2 * math.pi * round(step / (2 * math.pi))
            if step * turn <= 0:
                return False
            whole += step
        before = angle
    return abs(whole) < math.radians(270)
