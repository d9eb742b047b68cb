"""What do the planned moves of an operation pass? By the height of the tip, as lines seen from above."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.toolpath import Path, chords
from pelvrak.core.cutting.tools import Tool, body_profiles, cutter_profile
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.stock.cut import CUT

# Moves that slope are taken at steps of this height, the lower one.
SLOPE_MM = 0.5
MOST_PIECES = 400

# Height of the tip, the moves there as lines that know their neighbours, and their ends.
Level = tuple[float, shapely.STRtree, Floats]
Band = tuple[float, float, float]


@dataclass(frozen=True)
class Swept:
    """One operation's planned moves: by the height of the tip (mm, zero frame), as lines; and its tool as
    bands (from, to, radius) over the tip. cut: (low, high) of the feed moves in x and y.
    """

    operation: Operation
    levels: list[Level]
    bands: list[Band]
    cut: tuple[Floats, Floats] | None


def swept(path: Path, operation: Operation, tool: Tool, nose: tuple[float, float] | None) -> Swept:
    """The moves of a path by height."""
    lines = chords(path)
    starts, ends = _in_steps(lines.starts, lines.ends)
    low = np.minimum(starts[:, 2], ends[:, 2])
    level = np.abs(starts[:, 2] - ends[:, 2]) < 1e-9
    upright = _upright(starts, ends)
    stepped = np.maximum(np.floor(low / SLOPE_MM) * SLOPE_MM, low.min())
    height = np.round(np.where(level | upright, low, stepped), 4)
    levels = [
        (
            float(z),
            shapely.STRtree(_flat(starts[own, :2], ends[own, :2])),
            np.concatenate([starts[own, :2], ends[own, :2]]),
        )
        for z in np.unique(height)
        for own in [height == z]
    ]
    cutter = cutter_profile(tool)
    tall = max((*cutter.heights, sum(cutter.ball or (0.0,))))
    # The cutter as one cylinder: points and rounds are counted as wide as it is.
    bands: list[Band] = [(0.0, tall, cutter.widest)]
    for profile in body_profiles(tool, nose):
        for a, b, r, s in zip(
            profile.heights, profile.heights[1:], profile.radii, profile.radii[1:], strict=False
        ):
            if b > a:
                bands.append((a, b, max(r, s)))
        if profile.ball is not None:
            bands.append(
                (
                    max(0.0, profile.ball[0] - profile.ball[1]),
                    profile.ball[0] + profile.ball[1],
                    profile.ball[1],
                )
            )
    feeds = lines.what == CUT
    points = np.concatenate([lines.starts[feeds, :2], lines.ends[feeds, :2]])
    cut = (points.min(axis=0) - tool.DC / 2, points.max(axis=0) + tool.DC / 2) if len(points) else None
    return Swept(operation, levels, bands, cut)


def _upright(starts: Floats, ends: Floats) -> NDArray[np.bool_]:
    return np.asarray(np.abs(starts[:, :2] - ends[:, :2]).max(axis=1) < 1e-9)


def _in_steps(starts: Floats, ends: Floats) -> tuple[Floats, Floats]:
    """Long moves that slope in pieces, each no higher than a step, so that none counts as low as its lowest
    end all along.
    """
    high = np.abs(starts[:, 2] - ends[:, 2])
    count = np.where(_upright(starts, ends), 1, np.clip(np.ceil(high / SLOPE_MM), 1, MOST_PIECES)).astype(
        np.int64
    )
    move = np.repeat(np.arange(len(starts)), count)
    number = np.arange(len(move)) - np.repeat(np.cumsum(count) - count, count)
    way = (ends - starts)[move]
    first, last = (number / count[move])[:, None], ((number + 1) / count[move])[:, None]
    return starts[move] + first * way, starts[move] + last * way


def _flat(starts: Floats, ends: Floats) -> Any:
    """Moves as seen from above: lines, and points where the tool goes straight down."""
    upright = np.abs(starts - ends).max(axis=1) < 1e-9
    out = shapely.linestrings(np.stack([starts, ends], axis=1))
    out[upright] = shapely.points(ends[upright])
    return out


def distance(lines: shapely.STRtree, region: BaseGeometry) -> float:
    """Distance of a region from the nearest of some lines, mm."""
    return float(lines.query_nearest(region, return_distance=True, all_matches=False)[1][0])
