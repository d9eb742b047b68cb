"""In which passes does a cutter clear a plane region, none of them wider than stated?

Where the middle of the cutter has been is a region. It grows as far as the cutter can go with its rim no more
in material than a pass of the stated width along a straight wall has it; the edge of what is then reached is
the next pass. So the rim meets as much on straights, in corners and in slots, which come to be cut in arcs
across them. A strip along a wall thinner than the width is left to a pass along the wall.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import shapely
from contourpy import FillType, contour_generator
from numpy.typing import NDArray
from shapely import LineString, Point, Polygon, maximum_inscribed_circle
from shapely.geometry.base import BaseGeometry, BaseMultipartGeometry
from shapely.ops import linemerge, nearest_points, substring

from pelvrak.core.cutting import fronts_kernel as kernel
from pelvrak.core.cutting.passes import started_near
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.planar import pieces

# Chords of a growing edge stay so near to it, as a share of the width of cut.
EDGE_SHARE = 0.005
# Shorter than this no pass is worth its way there, mm.
SHORTEST_MM = 0.05
# The grid on which a room is looked at: cells in a radius of the cutter and in a width of cut at least, and
# points round the cutter's rim.
CELLS_A_RADIUS, CELLS_A_WIDTH, RIM_POINTS = 20, 5, 96
# Less than this gained, as a share of the width squared, is no pass.
LEAST_SHARE = 0.01
# Points of the way in to a pass.
LEAD_POINTS = 17
# Passes aim at a little less than the width stated, so that what a grid knows of them does not go over it.
AIM_SHARE = 0.97
# So far from walls passes keep, and so near to them their arcs have to be followed only, mm.
LOOSE_MM = 0.02
# Behind a pass so much is cleared, as a share of its width: a little more, so that nothing lies between two.
STRIP_SHARE = 1.1
# Between what two passes have cleared lies less than this, where nothing does, mm.
CRACK_MM = 0.05
# A way back goes round corners known this well, mm.
CORNER_MM = 0.02
# More passes than any room that a machine holds can need.
MOST_FRONTS = 20_000


@dataclass(frozen=True)
class Cut:
    """Width of cut and radius of the cutter, mm."""

    width: float
    radius: float

    @property
    def step(self) -> float:
        """From one pass to the next along a straight wall, mm."""
        return AIM_SHARE * self.width

    @cached_property
    def lead(self) -> tuple[Floats, Floats]:
        """The way in to a pass: how far along it, and how deep in the material, (n,) each, mm.

        Going in at an angle β with d deep already, the rim stands in the material over arccos(1 − d/R) + β:
        that is kept as it is in the pass itself, so it goes in steeply at first and then along.
        """
        depth = self.step * np.linspace(0.0, 0.97, LEAD_POINTS)
        whole = np.arccos(1 - self.step / self.radius)
        middles = (depth[1:] + depth[:-1]) / 2
        slope = np.tan(whole - np.arccos(1 - middles / self.radius))
        along = np.concatenate([[0.0], np.cumsum(np.diff(depth) / slope)])
        last = along[-1] + (along[-1] - along[-2]) / 2
        return np.append(along, last), np.append(depth, self.width)


@dataclass(frozen=True, eq=False)
class Front:
    """One pass of the cutter's middle. way: (n, 2), what has been cut lies on its left; closed: it ends where
    it began; cut: what it comes in to, None where there is no coming in; before, after: where the cutter's
    middle has been then, about it.
    """

    way: Floats
    closed: bool
    cut: Cut | None
    before: BaseGeometry
    after: BaseGeometry

    @cached_property
    def line(self) -> LineString:
        return LineString(self.way)

    def led(self, at: Floats) -> tuple[Floats, Floats]:
        """Points from where the cutter has been, its width growing from nothing, and the pass from there on,
        (n, 2) each. at: where the cutter stands, which chooses where a closed one begins.
        """
        way = started_near(self.way, (float(at[0]), float(at[1]))) if self.closed else self.way
        if self.cut is None:
            return way[:1], way
        line, most = LineString(way), 0.5 if self.closed else 1.0
        along, depth = self.cut.lead
        deep = float(shapely.distance(shapely.Point(way[0]), self.before))
        if not self.closed:
            # It goes in backwards to where it begins, at a wall: there it may be less deep.
            length = float(np.interp(min(deep, self.cut.step), depth, along))
            along, depth = (
                np.linspace(0, length, LEAD_POINTS),
                np.interp(np.linspace(0, length, LEAD_POINTS), along, depth),
            )
        if along[-1] < SHORTEST_MM:
            near, _ = nearest_points(self.before, shapely.Point(way[0]))
            return np.array([near.coords[0], way[0]]), way
        # Where there is no room for it, it goes in more steeply.
        along = along * min(1.0, line.length * most / along[-1])
        places = along if self.closed else along[-1] - along
        points = shapely.get_coordinates(shapely.line_interpolate_point(line, places))
        nearest = shapely.get_coordinates(shapely.shortest_line(shapely.points(points), self.before))
        away = nearest.reshape(-1, 2, 2)[:, 1] - points
        apart = np.hypot(*away.T)
        share = np.maximum(apart - depth, 0.0) / np.maximum(apart, 1e-12)
        share[-1] = 0.0
        points = points + away * share[:, None]
        if not self.closed:
            return points, way
        # Forward along the ring, and on round it.
        begun, rest = substring(line, along[-1], line.length), substring(line, 0.0, along[-1])
        return points, np.concatenate([np.array(begun.coords), np.array(rest.coords)[1:]])


@dataclass
class Cleared:
    """Where the cutter's middle has been, and may go again without cutting."""

    region: BaseGeometry
    strips: list[BaseGeometry] = field(default_factory=list)

    def add(self, front: Front) -> None:
        self.strips.append(front.after)

    def holds(self, start: Floats, end: Floats) -> bool:
        """Whether the way between two points lies in it."""
        if float(np.hypot(*(end - start))) < 1e-6:
            return True
        left: BaseGeometry = LineString([start, end]).difference(self.region)
        if left.length > 1e-6 and self.strips:
            met = np.array(self.strips)[shapely.intersects(np.array(self.strips), left)]
            if len(met):
                left = left.difference(shapely.union_all(met))
        parts = left.geoms if isinstance(left, BaseMultipartGeometry) else (left,)
        return all(part.length < CRACK_MM for part in parts)

    def way(self, start: Floats, end: Floats) -> Floats | None:
        """A way through what is cleared from one place to another, (n, 2): straight where that goes, else
        round its corners by the shortest way; None where there is none. Its first and last steps may lead
        out of it.
        """
        place = np.asarray(start)
        if self.holds(place, end):
            return np.array([place, end])
        joined = shapely.union_all([self.region, *self.strips])
        whole = joined.buffer(CRACK_MM, join_style="mitre").buffer(-CRACK_MM - CORNER_MM, join_style="mitre")
        ends = [nearest_points(whole, shapely.Point(one))[0].coords[0] for one in (place, end)]
        nodes = np.concatenate([ends, _inward_corners(whole.simplify(CORNER_MM / 2))])
        shapely.prepare(wide := whole.buffer(CORNER_MM, join_style="mitre"))
        found = _shortest(nodes, wide)
        return None if found is None else np.concatenate([[place], found, [end]])


def _shortest(nodes: Floats, region: BaseGeometry) -> Floats | None:
    """The shortest way from the first node (n, 2) to the second by straight lines within a region from node
    to node, (k, 2); None where there is none. What is seen from a node is asked only when the search comes to
    it.
    """
    left = np.hypot(*(nodes - nodes[1]).T)
    gone, came = np.full(len(nodes), np.inf), np.zeros(len(nodes), np.int64)
    gone[0] = 0.0
    open_ = np.ones(len(nodes), bool)
    while True:
        here = int(np.argmin(np.where(open_, gone + left, np.inf)))
        if not open_[here] or not np.isfinite(gone[here]):
            return None
        if here == 1:
            break
        open_[here] = False
        steps = gone[here] + np.hypot(*(nodes - nodes[here]).T)
        nearer = np.flatnonzero(open_ & (steps < gone))
        lines = shapely.linestrings(
            np.stack([np.broadcast_to(nodes[here], (len(nearer), 2)), nodes[nearer]], 1)
        )
        seen = nearer[shapely.covers(region, lines)]
        gone[seen], came[seen] = steps[seen], here
    way = [1]
    while way[-1] != 0:
        way.append(int(came[way[-1]]))
    return np.asarray(nodes[way[::-1]])


def _inward_corners(region: BaseGeometry) -> Floats:
    """The corners of a region that stand into it, (n, 2): a shortest way turns round no others."""
    found = [np.zeros((0, 2))]
    for edge in _edges(region):
        ring = np.array(edge.coords)[:-1]
        came, goes = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
        found.append(ring[came[:, 0] * goes[:, 1] - came[:, 1] * goes[:, 0] < 0])
    return np.concatenate(found)


def steady_fronts(
    room: Polygon, begun: BaseGeometry, wanted: BaseGeometry, stock: BaseGeometry, cut: Cut
) -> Iterator[Front]:
    """The passes that clear a room, in an order in which each begins where the cutter has been.

    room: where the cutter's middle may go; begun: where it has been, within the room; wanted: where it would
    cut; stock: what stands.
    """
    ground = _Ground(room, begun, stock, cut)
    waves: list[list[Front]] = []
    reached, touched = begun, wanted.buffer(EDGE_SHARE * cut.width)
    within = room.buffer(-LOOSE_MM).intersection(touched)
    for _ in range(MOST_FRONTS):
        if wanted.difference(reached).area < 1e-3:
            break
        fresh = shapely.union(reached, ground.next().intersection(room)).simplify(EDGE_SHARE * cut.width)
        wave = list(_wave(reached, fresh, within, cut))
        if not wave or fresh.area - reached.area < LEAST_SHARE * cut.width**2:
            break
        reached = fresh
        ground.reach(fresh, [front.line for front in wave])
        waves.append(wave)
    yield from _ordered(waves, cut.width)
    yield from _along_walls(room, touched, cut.width)


class _Ground:
    """A room on a grid: where the cutter has been, and what stands."""

    def __init__(self, room: Polygon, begun: BaseGeometry, stock: BaseGeometry, cut: Cut) -> None:
        self.cut = cut
        # The step of the grid: fine enough for the width, and for the rim of the cutter.
        self.cell = min(cut.radius / CELLS_A_RADIUS, cut.width / CELLS_A_WIDTH)
        margin = cut.radius + 5 * self.cell
        left, low, right, high = room.bounds
        self.x0, self.y0 = left - margin, low - margin
        self.columns = int(np.ceil((right + margin - self.x0) / self.cell)) + 1
        self.rows = int(np.ceil((high + margin - self.y0) / self.cell)) + 1
        seen = shapely.box(left - margin, low - margin, right + margin, high + margin)
        self.stock = self._share(stock.intersection(seen))
        self.room = self._share(room.buffer(2 * self.cell))
        self.apart = np.full(self.stock.shape, np.inf)
        around = np.linspace(0, 2 * np.pi, RIM_POINTS, endpoint=False)
        self.round_x, self.round_y = np.cos(around), np.sin(around)
        self.reach(begun, list(_edges(begun)))

    def _share(self, region: BaseGeometry) -> NDArray[np.float32]:
        starts, ends = _segments(_edges(region), np.inf)
        return np.asarray(kernel.coverage(starts, ends, self.x0, self.y0, self.cell, self.rows, self.columns))

    def reach(self, region: BaseGeometry, edges: Iterable[LineString]) -> None:
        """The cutter has been within a region. edges: of it that are new."""
        starts, ends = _segments(edges, self.cut.radius)
        reach = self.cut.radius + 2 * self.cell
        kernel.stamp(starts, ends, reach, self.x0, self.y0, self.cell, self.apart)
        self.apart[self._share(region) > 0.5] = 0.0

    def next(self) -> BaseGeometry:
        """Where it may go next."""
        cut = self.cut
        standing = kernel.standing_share(self.stock, self.apart, cut.radius, self.cell)
        turn = 2 * np.arccos(1 - cut.step / cut.radius)
        over = kernel.beyond(
            standing,
            self.apart,
            self.room,
            cut.width,
            cut.radius,
            turn,
            self.cell,
            self.round_x,
            self.round_y,
        )
        x = self.x0 + self.cell * np.arange(self.columns)
        y = self.y0 + self.cell * np.arange(self.rows)
        made = contour_generator(x, y, over, fill_type=FillType.OuterOffset)
        filled = made.filled(-2.0, 0.0)
        shapes = []
        for points, ends in zip(*filled[:2], strict=True):
            assert points is not None and ends is not None
            rings = [points[a:b] for a, b in zip(ends, ends[1:], strict=False)]
            shapes.append(Polygon(rings[0], rings[1:]).buffer(0))
        return shapely.union_all(shapes)


def _segments(edges: Iterable[LineString], longest: float) -> tuple[Floats, Floats]:
    """The segments of lines, none longer than told, (n, 2) each."""
    lines = [
        np.array((shapely.segmentize(edge, longest) if np.isfinite(longest) else edge).coords)
        for edge in edges
    ]
    if not lines:
        return np.zeros((0, 2)), np.zeros((0, 2))
    return np.concatenate([line[:-1] for line in lines]), np.concatenate([line[1:] for line in lines])


def _lines(shape: BaseGeometry) -> list[LineString]:
    """The lines of any shape, joined where they meet."""
    parts = list(shape.geoms) if isinstance(shape, BaseMultipartGeometry) else [shape]
    lines = [part for part in parts if isinstance(part, LineString) and part.length > 0]
    if not lines:
        return []
    merged = linemerge(lines) if len(lines) > 1 else lines[0]
    return list(merged.geoms) if isinstance(merged, BaseMultipartGeometry) else [merged]


def _edges(region: BaseGeometry) -> Iterator[LineString]:
    """The rings of a region, what is in it on their left."""
    for piece in pieces(region):
        oriented = shapely.geometry.polygon.orient(piece)
        yield LineString(oriented.exterior.coords)
        for hole in oriented.interiors:
            yield LineString(hole.coords)


def _wave(reached: BaseGeometry, fresh: BaseGeometry, within: BaseGeometry, cut: Cut) -> Iterator[Front]:
    """The passes along the edge of what is reached next."""
    for edge in _edges(fresh):
        for line in _lines(edge.intersection(within)):
            if line.length > SHORTEST_MM:
                way, closed = _directed(line, edge), bool(line.is_closed)
                after = line.buffer(cut.width * STRIP_SHARE).intersection(fresh)
                yield Front(way, closed, cut, reached, after)


def _directed(line: LineString, edge: LineString) -> Floats:
    """The points of a piece of an edge, in the edge's direction."""
    way = np.array(line.coords)
    middle = line.interpolate(0.5, normalized=True)
    step = min(0.01, line.length / 4)
    ahead = line.interpolate(line.length / 2 + step)
    first, second = edge.project(middle), edge.project(ahead)
    turned_back = second < first if abs(second - first) < edge.length / 2 else second > first
    return way[::-1] if turned_back else way


def _ordered(waves: list[list[Front]], width: float) -> Iterator[Front]:
    """Every pass after those that it begins beside, one branch to its end before the next."""
    waiting: dict[int, int] = {}
    after: dict[int, list[Front]] = {}
    ready: list[Front] = list(reversed(waves[0])) if waves else []
    for before, wave in zip(waves, waves[1:], strict=False):
        for front in wave:
            parents = [other for other in before if other.line.distance(front.line) < 1.05 * width]
            waiting[id(front)] = len(parents)
            for parent in parents:
                after.setdefault(id(parent), []).append(front)
            if not parents:
                ready.insert(0, front)
    while ready:
        front = ready.pop()
        yield front
        for child in after.get(id(front), []):
            waiting[id(child)] -= 1
            if waiting[id(child)] == 0:
                ready.append(child)


def _along_walls(room: Polygon, touched: BaseGeometry, width: float) -> Iterator[Front]:
    """Once along the walls of a room, where there was something to be cut."""
    for edge in _edges(room):
        for line in _lines(edge.intersection(touched)):
            if line.length > SHORTEST_MM:
                way = _directed(line, edge)
                after = line.buffer(width * STRIP_SHARE).intersection(room)
                yield Front(way, bool(line.is_closed), None, Polygon(), after)


def core(room: Polygon, widest: float, cut: Cut) -> tuple[Point, float, Polygon]:
    """Where to begin in a room that is closed all round: middle and radius of a round, and the middle of the
    room in which that round just fits, from which passes end on its straight walls.

    widest: the greatest radius the round may have, mm.
    """
    circle = maximum_inscribed_circle(room)
    centre, size = Point(circle.coords[0]), float(circle.length)
    passes = max(0, int(np.ceil((size - widest) / cut.step - 1e-9)))
    start = size - passes * cut.step
    if passes == 0 or start < widest / 2:
        return centre, min(widest, size), room
    rounded = start * (1 - 1e-3)
    shrunk = room.buffer(-passes * cut.step - rounded, quad_segs=24).buffer(rounded, quad_segs=24)
    kept = (piece for piece in pieces(shrunk) if piece.distance(centre) < 1e-6)
    return centre, rounded, next(kept, room)
