"""Along which lines does a cutter go round a part at one height?"""

from __future__ import annotations

import math

import numpy as np
import shapely
from contourpy import LineType, contour_generator
from numpy.typing import NDArray
from shapely import LineString
from shapely.geometry.base import BaseGeometry, BaseMultipartGeometry

from pelvrak.core.cutting.drop_cutter import Laid, Rounded, drop
from pelvrak.core.geometry.mesh import Floats

# Heights are looked at on a grid of this share of the cutter's radius, and no coarser than LOOK_MM.
GRID_SHARE, LOOK_MM = 0.15, 0.8
# A line is brought onto its height to a grid cell divided by 2 this often.
HALVINGS = 9
# Rounds in which a line gets a point more where it is off between two.
ROUNDS = 6
# The slope of a place is that over so far to either side, mm.
SLOPE_MM = 0.05
# Places beside the part lie this far under it, mm.
BESIDE_MM = 1e4


class LevelLines:
    """The heights a cutter may go down to, as a grid whose lines are brought onto the mesh.

    highest: greatest of them, mm.
    """

    def __init__(self, laid: Laid, cutter: Rounded, region: BaseGeometry, leave: float) -> None:
        self.laid, self.cutter, self.region, self.leave = laid, cutter, region, leave
        self.cell = min(LOOK_MM, GRID_SHARE * cutter.radius)
        left, low, right, high = region.bounds
        # A little off round numbers, where a wall may stand just on a node.
        self.x = left - 2.03 * self.cell + self.cell * np.arange(math.ceil((right - left) / self.cell) + 5)
        self.y = low - 2.07 * self.cell + self.cell * np.arange(math.ceil((high - low) / self.cell) + 5)
        across, up = np.meshgrid(self.x, self.y)
        heights = self._heights(np.column_stack([across.ravel(), up.ravel()]))
        self.grid = heights.reshape(across.shape)
        self.highest = float(self.grid.max())

    def _heights(self, places: Floats) -> Floats:
        heights, _ = drop(self.laid, self.cutter, places)
        return np.where(np.isfinite(heights), heights + self.leave, -BESIDE_MM)

    def at(self, z: float, error: float, slopes: tuple[float, float]) -> list[Floats]:
        """Lines (n, 2) at a height, the part on their right, within an error and between slopes (degrees)."""
        # A wall is a leap: its line lies halfway then, to begin with.
        near = np.clip(self.grid, z - self.cell, z + self.cell)
        made = contour_generator(self.x, self.y, near, line_type=LineType.Separate)
        out: list[Floats] = []
        for line in made.lines(z):
            if len(line) < 3:
                continue
            placed = self._oriented(self._onto(np.asarray(line), z))
            fresh = np.ones(max(len(placed) - 1, 0), np.bool_)
            for _ in range(ROUNDS):
                placed, fresh = self._fuller(placed, fresh, z, error)
                if not fresh.any():
                    break
            out += self._chosen(placed, slopes)
        return out

    def _onto(self, line: Floats, z: float) -> Floats:
        """A line brought onto its height, on the side where the cutter is clear."""
        right = self._right(line)
        side = self._heights(line + right * self.cell) - self._heights(line - right * self.cell)
        towards = right * np.where(side >= 0, 1.0, -1.0)[:, None]
        placed, fits = self._placed(line, towards, self.cell, z)
        placed = placed[fits]
        if len(placed) and np.allclose(line[0], line[-1]) and not np.array_equal(placed[0], placed[-1]):
            placed = np.concatenate([placed, placed[:1]])
        return placed

    def _fuller(
        self, line: Floats, fresh: NDArray[np.bool_], z: float, error: float
    ) -> tuple[Floats, NDArray[np.bool_]]:
        """The line, the part on its right, with a point more wherever halfway between two it is off by more
        than an error, and which of its stretches are new. fresh: those to be looked at.
        """
        step = line[1:] - line[:-1]
        length = np.hypot(*step.T)
        at = np.flatnonzero(fresh & (length > 4 * error))
        none = np.zeros(len(fresh), np.bool_)
        if len(at) == 0:
            return line, none
        middles = (line[at + 1] + line[at]) / 2
        right = np.column_stack([step[at, 1], -step[at, 0]]) / length[at, None]
        inner, outer = (self._heights(middles + right * side * error) for side in (1, -1))
        off = (self._heights(middles) > z) | ((inner <= z) & (outer <= z))
        at, middles = at[off], middles[off]
        if len(at) == 0:
            return line, none
        placed, fits = self._placed(middles, right[off], np.minimum(self.cell, length[at] / 2), z)
        again = np.insert(none, at[fits], True)
        again[at[fits] + np.arange(fits.sum()) + 1] = True
        return np.insert(line, at[fits] + 1, placed[fits], axis=0), again

    def _placed(
        self, places: Floats, towards: Floats, reach: float | Floats, z: float
    ) -> tuple[Floats, NDArray[np.bool_]]:
        """Places moved to where the cutter is just clear at a height, and which have such in reach."""
        low, high = np.broadcast_to(-np.asarray(reach), len(places)), np.broadcast_to(reach, len(places))
        fits = (self._heights(places + towards * low[:, None]) <= z) & (
            self._heights(places + towards * high[:, None]) > z
        )
        for _ in range(HALVINGS):
            middle = (low + high) / 2
            free = self._heights(places + towards * middle[:, None]) <= z
            low, high = np.where(free, middle, low), np.where(free, high, middle)
        return places + towards * low[:, None], fits

    @staticmethod
    def _right(line: Floats) -> Floats:
        """Unit normals to the right at the points of a line."""
        along = np.gradient(line, axis=0)
        along /= np.maximum(np.hypot(*along.T), 1e-12)[:, None]
        return np.column_stack([along[:, 1], -along[:, 0]])

    def _oriented(self, line: Floats) -> Floats:
        """The line with the part on its right."""
        if len(line) < 2:
            return line
        right = self._right(line) * self.cell / 2
        side = self._heights(line + right) - self._heights(line - right)
        return line if np.sign(side).sum() >= 0 else line[::-1]

    def _chosen(self, line: Floats, slopes: tuple[float, float]) -> list[Floats]:
        """The stretches of a line within the region and between two slopes."""
        if len(line) < 2:
            return []
        right = self._right(line) * SLOPE_MM
        rise = self._heights(line + right) - self._heights(line - right)
        slope = np.degrees(np.arctan2(rise, 2 * SLOPE_MM))
        good = (slope >= slopes[0]) & (slope <= slopes[1] + 1e-9)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], good.astype(np.int8), [0]])))
        out: list[Floats] = []
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            if last - first < 2:
                continue
            stretch = LineString(line[first:last])
            met = stretch if self.region.covers(stretch) else stretch.intersection(self.region)
            parts = met.geoms if isinstance(met, BaseMultipartGeometry) else (met,)
            out += [shapely.get_coordinates(part) for part in parts if part.length > self.cell / 4]
        return out
