"""What shape must soft jaws, or a nest block, have to catch the work as it is when it comes to the setup?

Everything is found from the incoming stock: how the walls lean, where the straight wall begins, the outline
that has to go in, what a round cutter can leave of it, how much jaw is left. All lengths mm. The frame of the
solution is the vise's over its bed (x along the jaws, y 0 in the fixed jaw's mounting face, the jaws closing
to +y) or the block's (x, y 0 in its middle, z 0 its bottom).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import manifold3d
import numpy as np
from shapely import LineString, MultiLineString, Point, Polygon, unary_union
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient
from shapely.ops import nearest_points

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, levels, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding import kinds
from pelvrak.core.holding.block_screws import screwed_down
from pelvrak.core.holding.build import CutJaws, sound_solid
from pelvrak.core.holding.hold import STAND_OUT_RATIO, STRAIGHT_WALL_MM, SoftCut
from pelvrak.core.holding.nest import (
    QUAD,
    Bore,
    Nest,
    Reason,
    Seat,
    Under,
    body_of,
    cut_away,
    drawn,
    judge_edges,
)
from pelvrak.core.holding.nest_checks import judge_block, judge_grip, judge_jaws

# Walls within this of square to the jaws' way are gripped; others get clearance.
GRIPPED_DEG = 40.0
# Sections that differ less than this from one another, on average over their length, are one wall.
SAME_WALL_MM = 0.03
SAME_LEAN_DEG = 0.5
# A wall seen to lean within this of a face of the part is that face.
KNOWN_WALL_DEG = 0.05
LEVEL_MM = 0.25
# What stands out less than this below what the work rests on needs no room of its own.
LEVEL_ROOM_MM = 0.05
HIGHEST_EDGE_MM = 15.0
# Common practice, no source: gap left so that the jaws can close on work a little under size.
GAP_LEAST_MM = 2.0
GAP_SHARE = 0.12
SEATED_MM = 0.02


def walls_of(outline: Polygon, exact: Floats | None = None) -> tuple[float | None, float | None]:
    """The lean of the back (+y) and the front wall of an outline, degrees: the turn of their normals from +y
    and -y.

    Of the edges that face that way, the longest is taken, and those that lean like it. None without any.
    exact: angles (n,) at which faces of the part are known to look, degrees; one of them, where it is the
    wall's to what an outline shows.
    """
    plain, plain_length = _edge_leans(outline.simplify(SAME_WALL_MM / 3))
    leans, lengths = _edge_leans(outline)
    out: list[float | None] = []
    for facing in (90.0, -90.0):
        near = np.abs(_between(plain, facing)) < GRIPPED_DEG
        # Short edges are a round corner's, not a wall's.
        if not near.any() or plain_length[near].max() < 0.1 * np.ptp(outline.exterior.xy[0]):
            out.append(None)
            continue
        longest = plain[near][int(np.argmax(plain_length[near]))]
        alike = np.abs(_between(leans, longest)) < SAME_LEAN_DEG
        mean = longest + np.average(_between(leans, longest)[alike], weights=lengths[alike])
        if exact is not None and len(exact):
            nearest = exact[int(np.argmin(np.abs(_between(exact, mean))))]
            mean = nearest if abs(_between(nearest, mean)) < KNOWN_WALL_DEG else mean
        out.append(float(_between(mean, facing)))
    return out[0], out[1]


def _between(angle: Floats | float, other: float) -> Floats:
    """Angles from another one, degrees, -180 … 180."""
    return np.asarray((np.asarray(angle) - other + 180) % 360 - 180)


def _edge_leans(outline: Polygon) -> tuple[Floats, Floats]:
    """The angle of each edge's outward normal, degrees, and its length."""
    edges = np.diff(np.array(orient(outline).exterior.coords), axis=0)
    length = np.hypot(*edges.T)
    edges, length = edges[length > 1e-6], length[length > 1e-6]
    return np.degrees(np.arctan2(-edges[:, 0], edges[:, 1])), length


def even_turn(outline: Polygon, exact: Floats | None = None) -> tuple[float, float]:
    """The turn (degrees, from above) that lets both gripped walls lean alike, and the angle between them;
    exact: as in `walls_of`.

    Common practice, no source: walls 20° apart, 10° each.
    """
    back, front = walls_of(outline, exact)
    if back is None or front is None:
        return 0.0, 0.0
    # Alike means as mirrored: one leans one way as the other does the other way.
    return -(back + front) / 2, abs(back - front)


def filled(rings: list[Floats]) -> Polygon | None:
    """The largest outline among some rings, without its holes."""
    whole = unary_union([Polygon(ring) for ring in rings if len(ring) > 2 and Polygon(ring).area > 1e-3])
    if whole.is_empty:
        return None
    pieces = list(whole.geoms) if hasattr(whole, "geoms") else [whole]
    return Polygon(max(pieces, key=lambda p: p.area).exterior)


def outline_below(solid: manifold3d.Manifold, height: float) -> Polygon | None:
    """The outline, seen from above, of everything below a height."""
    return filled(solid.trim_by_plane([0.0, 0.0, -1.0], -height).project().to_polygons())


def _edge_height(solid: manifold3d.Manifold, bottom: float, top: float) -> float:
    """How high the edge (radius, chamfer) at the bottom goes before the wall stands straight."""
    levels = np.arange(0.02, min(HIGHEST_EDGE_MM, (top - bottom) * 0.8), LEVEL_MM)
    sections = [filled(solid.slice(bottom + h).to_polygons()) for h in levels]
    kept = [(h, s) for h, s in zip(levels, sections, strict=True) if s is not None]
    if len(kept) < 3:
        return 0.0
    after = max(1, round(2.0 / LEVEL_MM))
    for i, (h, section) in enumerate(kept):
        other = kept[min(i + after, len(kept) - 1)][1]
        if section.symmetric_difference(other).area < SAME_WALL_MM * section.length:
            return 0.0 if i == 0 else float(h)
    return float(kept[-1][0])


def rest_level(mesh: Mesh, bottom: float) -> float:
    """The height of the plane the work stands on: the largest plane that looks down, or its lowest point."""
    heights, area = levels(mesh, up=False, digits=2)
    lowest_third = heights < bottom + (mesh.vertices[:, 2].max() - bottom) / 3
    if not lowest_third.any():
        return bottom
    return float(heights[lowest_third][int(np.argmax(area[lowest_third]))])


def _gripped(outline: Polygon, kept: Polygon) -> tuple[list[LineString], list[LineString]]:
    """Edges of an outline that face the back and the front jaw and lie on the work itself."""
    ring = np.array(orient(outline).exterior.coords)
    limit = np.cos(np.radians(GRIPPED_DEG))
    back: list[LineString] = []
    front: list[LineString] = []
    rim = kept.exterior
    for a, b in zip(ring, ring[1:], strict=False):
        way = b - a
        length = float(np.hypot(*way))
        if length < 1e-6:
            continue
        look = -way[0] / length  # y of the outward normal
        if abs(look) < limit or rim.distance(Point((a + b) / 2)) > 0.005:
            continue
        (back if look > 0 else front).append(LineString([a, b]))
    return back, front


def opened(region: BaseGeometry, radius: float) -> BaseGeometry:
    """What a round cutter of a radius can clear of a region: shrunk and grown again (morphological
    opening).
    """
    return region.buffer(-radius, quad_segs=QUAD).buffer(radius, quad_segs=QUAD)


def reliefs(wanted: Polygon, work: Polygon, radius: float, kind: str) -> list[Polygon]:
    """Room for the corners of the work that the cutter would leave metal in, each joined to what is cut
    anyway.
    """
    reach = opened(wanted, radius)
    if reach.is_empty:
        return []  # narrower than the cutter: told where it is cut
    tight = work.difference(reach.buffer(0.005))
    out = []
    for corner in tight.geoms if hasattr(tight, "geoms") else [tight]:
        if corner.is_empty or corner.area < 1e-3:
            continue
        points = np.array(corner.exterior.coords)
        tip = points[int(np.argmax([reach.distance(Point(p)) for p in points]))]
        near = np.array(nearest_points(reach, Point(tip))[0].coords[0])
        inward = (near - tip) / max(float(np.linalg.norm(near - tip)), 1e-9)
        room = radius + 0.05
        if kind == "slot":
            # Along one wall: the cutter's middle runs on that wall's inside until it has passed the corner.
            walls = np.array(
                [
                    [inward[0] - inward[1], inward[1] + inward[0]],
                    [inward[0] + inward[1], inward[1] - inward[0]],
                ]
            )
            walls /= np.linalg.norm(walls, axis=1, keepdims=True)
            along = walls[int(np.argmax(np.abs(walls[:, 0])))]
            centre = tip + along * room
        else:
            centre = tip + inward * room
        inside = near + inward * 2 * radius
        out.append(LineString([centre, inside]).buffer(room, quad_segs=QUAD))
    return out


def one_piece(shape: BaseGeometry) -> Polygon:
    """The largest piece of a shape, without its holes."""
    pieces = list(shape.geoms) if hasattr(shape, "geoms") else [shape]
    largest = max(pieces, key=lambda p: p.area)
    return Polygon(largest.exterior)


def _length_on(lines: list[LineString], rim: BaseGeometry) -> float:
    if not lines:
        return 0.0
    return float(MultiLineString(lines).intersection(rim.buffer(SEATED_MM)).length)


def solve(
    work: Mesh,
    spec: SoftCut,
    blank: kinds.Jaws | kinds.Block | tuple[kinds.Jaws, kinds.Jaws],
    vise: kinds.Vise | None,
    turned_deg: float = 0.0,
    under: Under = Under(),
    exact: Floats | None = None,
) -> Nest:
    """The nest for a piece of work.

    work: in the setup's orientation; blank: of both jaws, of the one at the back and the one at the front, or
    of a nest block; turned_deg: how the vise stands on the table; under: what is screwed through a nest
    block; exact: angles at which the part's upright walls look, degrees from +x (setup's orientation). Raises
    BadInput when nothing of the work can be caught.
    """
    lying = transformed(work, rigid(rotation_about_z(-turned_deg), np.zeros(3)))
    solid = sound_solid(lying, "no nest can be made")
    at = _heights(lying, solid, spec)
    first = outline_below(solid, at.rest + at.depth)
    if first is None:
        raise BadInput(
            "hold.nest_empty", "hold", "there is nothing of the work below the jaws' top", "grip deeper"
        )
    turn, between = even_turn(first, None if exact is None else exact - turned_deg)
    if vise is None:
        turn = 0.0
    chosen = spec.turn_deg if spec.turn_deg is not None else round(turn, 4) + 0.0
    lying = transformed(lying, rigid(rotation_about_z(chosen), np.zeros(3)))
    solid = to_solid(lying)
    raw = outline_below(solid, at.rest + at.depth)
    assert raw is not None
    caught = _caught(raw, spec, vise is not None)
    caught.boss = _boss(solid, at, spec)
    caught.reasons[:0] = _why(spec, at, chosen, between, vise is not None)
    if at.rest > at.bottom + LEVEL_ROOM_MM:
        why = "what stands out below the resting face gets room of its own"
        caught.reasons.append(Reason(name="boss", value=round(at.rest - at.bottom, 3), unit="mm", why=why))
    lies = _Lies(at, chosen, between, turned_deg)
    if isinstance(blank, kinds.Block):
        return _in_block(spec, caught, lies, blank, under)
    assert vise is not None
    return _in_jaws(spec, caught, lies, blank if isinstance(blank, tuple) else (blank, blank), vise)


@dataclass(frozen=True)
class _Heights:
    """bottom: the work's lowest point, top: its highest; rest: what it stands on; edge: height of the edge
    above that; grip: straight wall held.
    """

    bottom: float
    top: float
    rest: float
    edge: float
    grip: float

    @property
    def high(self) -> float:
        """What the work is high above its edge."""
        return self.top - self.rest - self.edge

    @property
    def depth(self) -> float:
        """From the jaws' top to the nest's floor."""
        return self.edge + self.grip


@dataclass(frozen=True)
class _Lies:
    """How the work lies in the nest: its heights, how it is turned beyond its seat, the angle between the
    gripped walls; turned_deg: the vise on the table.
    """

    at: _Heights
    turn_deg: float
    between_deg: float
    turned_deg: float


@dataclass
class _Caught:
    """The regions of a nest where the work lies: as in `Nest`; back, front: the gripped walls."""

    outline: Polygon
    wanted: Polygon
    left: Polygon
    back: list[LineString]
    front: list[LineString]
    seat: Seat
    reasons: list[Reason]
    boss: BaseGeometry | None = None


def _heights(lying: Mesh, solid: manifold3d.Manifold, spec: SoftCut) -> _Heights:
    bottom, top = float(lying.vertices[:, 2].min()), float(lying.vertices[:, 2].max())
    rest = rest_level(lying, bottom)
    if rest - bottom < LEVEL_ROOM_MM:
        rest = bottom
    edge = _edge_height(solid, rest, top)
    high = top - rest - edge
    # Enough that the work does not stand out more than so many grips, in half millimetres.
    wanted = max(STRAIGHT_WALL_MM, float(np.ceil(2 * high / (STAND_OUT_RATIO + 1))) / 2)
    grip = spec.grip if spec.grip is not None else min(wanted, max(0.5, high * 0.8))
    return _Heights(bottom, top, rest, edge, grip)


def _why(spec: SoftCut, at: _Heights, turn: float, between: float, in_jaws: bool) -> list[Reason]:
    """Why the work is turned and gripped as it is."""
    turned = (
        f"the gripped walls stand {between:.1f}° apart: turned so, each leans {between / 2:.1f}° and the jaws"
        " push evenly"
        if in_jaws
        else "a nest block does not push"
    )
    gripped = (
        f"the edge at the bottom goes {at.edge:.2f} mm up; above it {STRAIGHT_WALL_MM:g} mm of straight wall"
        f" are common practice, and work {at.high:.0f} mm high is not to stand more than"
        f" {STAND_OUT_RATIO:g} grips out"
    )
    return [
        Reason(name="turn", value=round(turn, 3), unit="°", solved=spec.turn_deg is None, why=turned),
        Reason(name="grip", value=round(at.grip, 3), unit="mm", solved=spec.grip is None, why=gripped),
    ]


def _caught(raw: Polygon, spec: SoftCut, in_jaws: bool) -> _Caught:
    """The regions of a nest for an outline, where the work lies. Raises BadInput when the cutter does not get
    in.
    """
    radius, fill = spec.cutter / 2, spec.cutter if spec.fill is None else spec.fill
    outline = one_piece(raw.buffer(fill / 2, quad_segs=QUAD).buffer(-fill / 2, quad_segs=QUAD)).union(raw)
    outline = one_piece(outline).simplify(0.002)
    why = "holes and dents narrower than the cutter do not print into the jaws"
    reason = Reason(name="fill", value=round(fill, 3), unit="mm", solved=spec.fill is None, why=why)
    if not in_jaws and spec.slip > 0:
        outline = one_piece(outline.buffer(spec.slip, quad_segs=QUAD, join_style="mitre"))
    back, front = _gripped(outline, raw)
    wide = outline.buffer(spec.clearance, quad_segs=QUAD)
    held = [*back, *front] if in_jaws else [LineString(outline.exterior)]
    strips = (
        unary_union([line.buffer(spec.clearance + 0.2, cap_style="flat") for line in held])
        if held
        else Polygon()
    )
    wanted = one_piece(outline.union(wide.difference(strips)).buffer(0)) if spec.clearance > 0 else outline
    if spec.relief != "none":
        wanted = one_piece(unary_union([wanted, *reliefs(wanted, outline, radius, spec.relief)]))
    left = opened(wanted, radius)
    if left.is_empty:
        raise BadInput(
            "hold.nest_not_cuttable",
            "hold",
            f"a Ø{spec.cutter:g} cutter does not get into the nest",
            "choose a smaller cutter",
        )
    left = one_piece(left)
    seat = Seat(
        back=_length_on(back, left.exterior),
        back_of=sum(line.length for line in back),
        front=_length_on(front, left.exterior),
        front_of=sum(line.length for line in front),
        steepest_deg=max((abs(lean) for lean in walls_of(outline) if lean is not None), default=0.0),
    )
    return _Caught(outline, wanted, left, back, front, seat, [reason])


def _boss(solid: manifold3d.Manifold, at: _Heights, spec: SoftCut) -> BaseGeometry | None:
    """Deeper room for what stands out below the resting face; None without any."""
    if at.rest <= at.bottom + LEVEL_ROOM_MM:
        return None
    low_part = outline_below(solid, at.rest - LEVEL_ROOM_MM)
    if low_part is None:
        return None
    room = low_part.buffer(spec.clearance + 0.5)
    return opened(room, spec.cutter / 2).union(low_part.buffer(spec.clearance))


def _shared(spec: SoftCut, caught: _Caught, lies: _Lies, place: Floats, blank: str) -> dict[str, Any]:
    """What a nest in jaws and one in a block have alike; place: takes the work into the solution's frame."""

    def shifted(region: Any) -> Any:
        return None if region is None else translate(region, place[0], place[1])

    return {
        "spec": spec,
        "turn_deg": lies.turn_deg,
        "between_deg": lies.between_deg,
        "outline": shifted(caught.outline),
        "wanted": shifted(caught.wanted),
        "left": shifted(caught.left),
        "boss": shifted(caught.boss),
        "edge": lies.at.edge,
        "grip": lies.at.grip,
        "seat": caught.seat,
        "blank": blank,
        "place": place,
        "reasons": caught.reasons,
    }


def _in_jaws(
    spec: SoftCut, caught: _Caught, lies: _Lies, pair: tuple[kinds.Jaws, kinds.Jaws], vise: kinds.Vise
) -> Nest:
    """The nest let into two jaws, the one at the back and the one at the front, that close on the work."""
    blank, front = pair
    x0, y0, x1, y1 = caught.outline.bounds
    # The gap lies clear of both gripped walls, so that each jaw catches its wall whole.
    inner_back = min((line.bounds[1] for line in caught.back), default=(y0 + y1) / 2 + 1)
    inner_front = max((line.bounds[3] for line in caught.front), default=(y0 + y1) / 2 - 1)
    split = spec.split if spec.split is not None else (inner_back + inner_front) / 2
    room = max(0.0, inner_back - inner_front)
    usual = float(np.clip(GAP_SHARE * (y1 - y0), GAP_LEAST_MM, max(GAP_LEAST_MM, 0.8 * room)))
    gap = round(spec.gap if spec.gap is not None else usual, 2)
    t, depth = blank.thickness, lies.at.depth
    place = np.array([-(x0 + x1) / 2 + spec.shift, -t - gap / 2 - split, blank.height - depth - lies.at.rest])
    shared = _shared(spec, caught, lies, place, blank.id)
    _, low, _, high = shared["left"].bounds
    both = t + front.thickness
    walls = (-high, low + both + gap)
    nest = Nest(
        **shared,
        floor=blank.height - depth,
        top=blank.height,
        split=-t - gap / 2,
        gap=gap,
        walls=walls,
        opening=both + gap,
    )
    nest.half, nest.front = ((one.width, one.height, one.thickness) for one in pair)
    clear = (
        f"clear of both gripped walls ({room:.1f} mm lie between them), and enough to close on work under"
        " size"
    )
    midway = "midway between the gripped walls"
    behind = [f"what is left of {one.thickness:g} mm behind the nest" for one in pair]
    nest.reasons += [
        Reason(name="gap", value=gap, unit="mm", solved=spec.gap is None, why=clear),
        Reason(name="split", value=round(split, 3), unit="mm", solved=spec.split is None, why=midway),
        Reason(name="wall, fixed jaw", value=round(walls[0], 2), unit="mm", why=behind[0]),
        Reason(name="wall, moving jaw", value=round(walls[1], 2), unit="mm", why=behind[1]),
        Reason(name="depth", value=round(depth, 3), unit="mm", why="edge and straight wall together"),
    ]
    judge_jaws(nest, pair, vise, inner_back - inner_front)
    judge_grip(nest, walls_of(nest.outline))
    nest.jaws = drawn(nest)
    return nest


def _in_block(spec: SoftCut, caught: _Caught, lies: _Lies, block: kinds.Block, under: Under) -> Nest:
    """A drop-in nest: one block with the outline let into it, deeper where the work stands out below."""
    x0, y0, x1, y1 = caught.outline.bounds
    at = lies.at
    place = np.array([-(x0 + x1) / 2 + spec.shift, -(y0 + y1) / 2, block.height - at.depth - at.rest])
    shared = _shared(spec, caught, lies, place, block.id)
    left, front, right, back = shared["left"].bounds
    wall = min(block.length / 2 - max(-left, right), block.width / 2 - max(-front, back))
    nest = Nest(
        **shared,
        floor=block.height - at.depth,
        top=block.height,
        split=0.0,
        gap=0.0,
        walls=(wall, wall),
        opening=0.0,
    )
    nest.half = (block.length, block.height, block.width)
    if spec.slip > 0:
        why = "room on each side for the work to drop in: it can lie so far off, either way"
        nest.reasons.append(Reason(name="slip", value=spec.slip, unit="mm", solved=False, why=why))
    nest.reasons += [
        Reason(name="wall", value=round(wall, 2), unit="mm", why="the thinnest wall round the nest"),
        Reason(name="depth", value=round(at.depth, 3), unit="mm", why="edge and straight wall together"),
    ]
    judge_block(nest, at.rest - at.bottom)
    judge_edges(nest)
    turn = rotation_about_z(lies.turn_deg - lies.turned_deg)
    for bolt, size in under.bolts:
        x, y = ((turn @ bolt)[:2] + place[:2]).tolist()
        nest.bores += [Bore(x, y, size + 0.5, 0.0, block.height), Bore(x, y, 2 * size, 0.0, 1.2 * size)]
    screws = screwed_down(nest, under) if spec.screwed else ()
    nest.jaws = CutJaws(mesh_of(body_of(nest) - cut_away(nest)), None, place, screws=screws)
    return nest
