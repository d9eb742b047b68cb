"""Kernel of above.py: where the outline of what stands above a height crosses the grid's lines."""

from __future__ import annotations

import numpy as np
from numba import njit

from pelvrak.core.stock.intervals import decode_normal

# An end of material this near beside a node still belongs to the stretch between two, mm.
SEAM = 1e-4


@njit(nogil=True, cache=True, error_model="numpy")
def outline_crossings(stands, along, across, first, last, count, position, normal, flipped):
    """Crossings between neighbours of which one stands and one does not, along the rays of one lying bundle.

    stands: bool (n_across, n_along), by the upright rays; along, across: coordinates of the nodes, mm; first,
    last: rows of rays over the height, from first up to before last; count, position, normal: of the bundle;
    flipped: its rays are ordered (height, across) rather than (across, height). Returns (n_across, n_along -
    1, 3): the coordinate along, and the normal's components along and across; NaN where nothing is crossed.
    """
    rows, columns = stands.shape
    out = np.full((rows, columns - 1, 3), np.nan)
    for j in range(rows):
        for i in range(columns - 1):
            if stands[j, i] == stands[j, i + 1]:
                continue
            leaves = stands[j, i]
            low, high = along[i], along[i + 1]
            # Material thinner than the rays lie apart is met by none of them: up to the next node then.
            best = high if leaves else low
            found, na, nc = False, 1.0 if leaves else -1.0, 0.0
            for k in range(first, last):
                v, u = (j, k) if flipped else (k, j)
                for n in range(count[v, u]):
                    end = 2 * n + (1 if leaves else 0)
                    place = position[v, u, end]
                    if place < low - SEAM or place > high + SEAM:
                        continue
                    if found and ((leaves and place <= best) or (not leaves and place >= best)):
                        continue
                    found, best = True, place
                    x, y, z = decode_normal(normal[v, u, end, 0], normal[v, u, end, 1])
                    na, nc = (y, x) if flipped else (x, y)
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = min(max(best, low), high), na, nc
    return out
