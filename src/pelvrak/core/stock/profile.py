"""What shape does a tool, or a part of it, turn?

Bodies of revolution on the tool axis, measured in mm from the tip up. Curved outlines that are
not balls become chords, half inside and half outside, within the error the caller states.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.errors import BadInput

Floats = NDArray[np.float64]

OUTLINE_ERROR_MM = 0.001


@dataclass(frozen=True)
class Profile:
    """A body of revolution: its outline, and a ball that belongs to the outline's lowest convex piece.

    heights: rising from the tip, two alike for a step, mm; radii: there, mm; ball: height of its
    centre and its radius, mm, or None. The outline may narrow upwards (slot cutters, lollipops).
    """

    heights: tuple[float, ...]
    radii: tuple[float, ...]
    ball: tuple[float, float] | None = None

    @property
    def widest(self) -> float:
        """Greatest radius, mm."""
        return max(*self.radii, *(self.ball or (0.0,))[1:], 0.0)

    def radius_at(self, heights: Floats) -> Floats:
        """How wide it is at heights over the tip, mm; below zero where it is not."""
        out: Floats = np.interp(heights, self.heights, self.radii, -1.0, -1.0)
        if self.ball is not None:
            middle, radius = self.ball
            square = radius * radius - (heights - middle) ** 2
            out = np.where(square > 0, np.maximum(out, np.sqrt(np.maximum(square, 0.0))), out)
        return out


@dataclass(frozen=True, eq=False)
class Groups:
    """Profiles as convex pieces, as the kernels take them; shared, so not to be changed.

    heights, radii (g, p); points (g,) in use; ball (g, 2) with radius 0 for none; owner (g,): which profile.
    """

    heights: Floats
    radii: Floats
    points: NDArray[np.int64]
    ball: Floats
    owner: NDArray[np.int64]

    @property
    def widest(self) -> float:
        """Greatest radius, mm."""
        return float(max(self.radii.max(initial=0.0), self.ball[:, 1].max(initial=0.0)))

    @lru_cache(maxsize=1024)  # noqa: B019  the cache is bounded, and asked with the same directions all the time
    def extent(self, along: float) -> tuple[float, float]:
        """How far the pieces stretch from the tip in a direction whose cosine to the axis is `along`, mm:
        (least, most).
        """
        across = math.sqrt(max(0.0, 1 - along * along))
        used = np.arange(self.heights.shape[1]) < self.points[:, None]
        centres, sides = self.heights[used] * along, self.radii[used] * across
        balls = self.ball[self.ball[:, 1] > 0]
        centres, sides = np.append(centres, balls[:, 0] * along), np.append(sides, balls[:, 1])
        return float((centres - sides).min()), float((centres + sides).max())


def _convex_pieces(profile: Profile) -> list[tuple[list[float], list[float]]]:
    """The outline cut where it would not be convex: at steps and where it opens again."""
    pieces: list[tuple[list[float], list[float]]] = []
    slope = -math.inf
    for (h0, r0), (h1, r1) in zip(
        zip(profile.heights, profile.radii, strict=True),
        list(zip(profile.heights, profile.radii, strict=True))[1:],
        strict=False,
    ):
        if h1 - h0 < 1e-9:
            slope = -math.inf
            continue
        grow = (r1 - r0) / (h1 - h0)
        if grow > slope + 1e-9:
            pieces.append(([h0], [r0]))
        pieces[-1][0].append(h1)
        pieces[-1][1].append(r1)
        slope = grow
    return pieces


@lru_cache(maxsize=256)
def groups(profiles: tuple[Profile, ...], owners: tuple[int, ...]) -> Groups:
    """Convex pieces of profiles; owners: the number each profile goes by."""
    rows: list[tuple[list[float], list[float], tuple[float, float], int]] = []
    for profile, owner in zip(profiles, owners, strict=True):
        pieces = _convex_pieces(profile)
        ball = profile.ball or (0.0, 0.0)
        if not pieces and profile.ball:
            pieces = [([ball[0]], [0.0])]
        rows += [(h, r, ball if i == 0 else (0.0, 0.0), owner) for i, (h, r) in enumerate(pieces)]
    width = max((len(h) for h, _, _, _ in rows), default=1)
    heights, radii = np.zeros((len(rows), width)), np.zeros((len(rows), width))
    for g, (h, r, _, _) in enumerate(rows):
        heights[g, : len(h)], radii[g, : len(r)] = h, r
    return Groups(
        heights,
        radii,
        np.array([len(h) for h, _, _, _ in rows], np.int64),
        np.array([ball for _, _, ball, _ in rows], np.float64).reshape(-1, 2),
        np.array([owner for _, _, _, owner in rows], np.int64),
    )


def _length(what: str, value: float, least: float = 0.0) -> float:
    if not (math.isfinite(value) and value > least):
        raise BadInput(
            "tool.shape", what, f"{value:g} mm has no meaning here", f"give more than {least:g} mm"
        )
    return value


def flat(diameter: float, length: float) -> Profile:
    """End mill with sharp corners; also a reamer or a plain shank."""
    radius = _length("diameter", diameter) / 2
    return Profile((0.0, _length("length", length)), (radius, radius))


def ball_nose(diameter: float, length: float) -> Profile:
    """End mill with a ball tip. Raises BadInput when the flutes are shorter than the diameter."""
    radius = _length("diameter", diameter) / 2
    return Profile(
        (radius, _length("length", length, diameter * (1 - 1e-9))), (radius, radius), (radius, radius)
    )


def corner_radius(diameter: float, corner: float, length: float, error: float = OUTLINE_ERROR_MM) -> Profile:
    """End mill with rounded corners, the rounding within `error`."""
    radius = _length("diameter", diameter) / 2
    if not 0 < corner < radius:
        raise BadInput(
            "tool.shape",
            "corner radius",
            f"{corner:g} mm does not fit Ø{diameter:g}",
            "give less than half the diameter",
        )
    heights, radii = _rounding(radius - corner, corner, error)
    return Profile((*heights, _length("length", length, corner)), (*radii, radius))


def _rounding(inner: float, corner: float, error: float) -> tuple[list[float], list[float]]:
    """Quarter circle from (height 0, radius inner) outwards and up to height `corner`."""
    step = 2 * math.acos(max(0.0, 1 - error / corner)) if error < corner else math.pi / 2
    n = max(2, math.ceil(math.pi / 2 / step))
    out = corner * (1 + (1 - math.cos(math.pi / 4 / n)) * 2 / 3)
    heights, radii = [0.0], [inner]
    for i in range(1, n):
        angle = math.pi / 2 * i / n
        heights.append(corner - out * math.cos(angle))
        radii.append(inner + out * math.sin(angle))
    return [*heights, corner], [*radii, inner + corner]


def pointed(diameter: float, angle_deg: float, length: float, tip_diameter: float = 0.0) -> Profile:
    """Drill, spot drill, countersink or chamfer cutter: a cone of the included angle under a cylinder."""
    radius, tip = _length("diameter", diameter) / 2, tip_diameter / 2
    if not 0 < angle_deg < 180:
        raise BadInput(
            "tool.shape", "point angle", f"{angle_deg:g}° is no point", "give more than 0° and less than 180°"
        )
    if not 0 <= tip < radius:
        raise BadInput(
            "tool.shape",
            "tip diameter",
            f"Ø{tip_diameter:g} is not below Ø{diameter:g}",
            "give a smaller tip",
        )
    point = (radius - tip) / math.tan(math.radians(angle_deg / 2))
    return Profile((0.0, point, max(_length("length", length), point + 0.1)), (tip, radius, radius))


def tapered(tip_diameter: float, half_angle_deg: float, length: float, ball: bool = False) -> Profile:
    """Tapered end mill, its flank leaning by `half_angle_deg`; with a flat or a ball tip of
    `tip_diameter`.
    """
    radius, lean = _length("tip diameter", tip_diameter) / 2, math.radians(half_angle_deg)
    if not 0 < half_angle_deg < 60:
        raise BadInput(
            "tool.shape", "taper", f"{half_angle_deg:g}° is no taper", "give more than 0° and less than 60°"
        )
    if not ball:
        return Profile((0.0, _length("length", length)), (radius, radius + length * math.tan(lean)))
    # The cone touches the ball where the ball's outward normal is square to the flank.
    height, touch = radius * (1 - math.sin(lean)), radius * math.cos(lean)
    top = _length("length", length, 2 * radius)
    return Profile((height, top), (touch, touch + (top - height) * math.tan(lean)), (radius, radius))


def face_mill(diameter: float, depth: float, lead_deg: float) -> Profile:
    """Face mill: `diameter` at the bottom, opening upwards at the lead angle (90°: square shoulder) over
    `depth`.
    """
    radius = _length("diameter", diameter) / 2
    if not 10 <= lead_deg <= 90:
        raise BadInput("tool.shape", "lead angle", f"{lead_deg:g}° is no face mill", "give 10° to 90°")
    if lead_deg == 90:
        return flat(diameter, depth)
    wide = radius + _length("depth", depth) / math.tan(math.radians(lead_deg))
    return Profile((0.0, depth), (radius, wide))


def slot_cutter(diameter: float, width: float) -> Profile:
    """T-slot or disc cutter: a disc; its neck only turns."""
    return flat(diameter, width)


def lollipop(diameter: float) -> Profile:
    """A ball on a neck; the neck only turns."""
    radius = _length("diameter", diameter) / 2
    return Profile((), (), (radius, radius))


def thread_mill(diameter: float, pitch: float, teeth: int) -> Profile:
    """Rings of 60° teeth: ISO 68-1 outline with flats of pitch/8 at the crest and depth 5/8 of the sharp
    height.
    """
    radius = _length("diameter", diameter) / 2
    depth = 5 / 8 * math.sqrt(3) / 2 * _length("pitch", pitch)
    heights, radii = [], []
    for i in range(teeth):
        for share, out in ((0.0, 0.0), (5 / 16, 1.0), (7 / 16, 1.0), (3 / 4, 0.0)):
            heights.append((i + share) * pitch)
            radii.append(radius - depth * (1 - out))
    return ground((*heights, teeth * pitch), (*radii, radius - depth))


def ground(heights: tuple[float, ...], radii: tuple[float, ...]) -> Profile:
    """A form ground to an outline. Raises BadInput when it does not rise or has no width."""
    if len(heights) != len(radii) or len(heights) < 2:
        raise BadInput(
            "tool.shape", "outline", "an outline needs as many radii as heights, two at least", "add points"
        )
    if any(not math.isfinite(v) for v in (*heights, *radii)) or min(radii) < 0 or max(radii) <= 0:
        raise BadInput("tool.shape", "outline", "a radius is missing or below zero", "give radii from 0 up")
    if any(b < a for a, b in zip(heights, heights[1:], strict=False)) or heights[-1] <= heights[0]:
        raise BadInput("tool.shape", "outline", "the heights do not rise", "order the points from the tip up")
    return Profile(tuple(heights), tuple(radii))


def drawn(profile: Profile, facets: int = 12) -> tuple[tuple[float, float], ...]:
    """The outline as (radius, height) points from the axis at the tip to the axis at the top, mm; a ball as
    chords.
    """
    points: list[tuple[float, float]] = []
    if profile.ball:
        height, radius = profile.ball
        last = math.pi
        if profile.heights:  # up to where the outline takes over
            last = math.acos(min(1.0, max(-1.0, (height - profile.heights[0]) / radius)))
        for i in range(facets + 1):
            angle = last * i / facets
            points.append((radius * math.sin(angle), height - radius * math.cos(angle)))
    points += [(r, h) for h, r in zip(profile.heights, profile.radii, strict=True)]
    return ((0.0, points[0][1]), *((round(r, 4), round(h, 4)) for r, h in points), (0.0, points[-1][1]))


def outline(profile: Profile, h: float) -> float:
    """Radius of a profile at height h, mm; 0 where there is none."""
    radius = 0.0
    if profile.ball and abs(h - profile.ball[0]) < profile.ball[1]:
        radius = math.sqrt(profile.ball[1] ** 2 - (h - profile.ball[0]) ** 2)
    for (h0, r0), (h1, r1) in zip(
        zip(profile.heights, profile.radii, strict=True),
        list(zip(profile.heights, profile.radii, strict=True))[1:],
        strict=False,
    ):
        if h0 <= h <= h1 and h1 > h0:
            radius = max(radius, r0 + (r1 - r0) * (h - h0) / (h1 - h0))
    return radius
