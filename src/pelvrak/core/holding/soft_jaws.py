"""What shape must soft jaws, or a nest block, have to catch the work as it is when it comes to the setup?

Everything is found from the incoming stock: how the walls lean, where the straight wall begins, the outline
that has to go in, what a round cutter can leave of it, how much jaw is left. All lengths mm. The frame of the
solution is the vise's over its bed (x along the jaws, y 0 in the fixed jaw's mounting face, the jaws closing to
+y) or the block's (x, y 0 in its middle, z 0 its bottom).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import manifold3d
import numpy as np
from shapely import LineString, MultiLineString, Point, Polygon, unary_union
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient
from shapely.ops import nearest_points

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid, transformed, triangle_normals
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import CutJaws
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.hold import STAND_OUT_RATIO, STRAIGHT_WALL_MM, SoftCut

# Walls within this of square to the jaws' way are gripped; others get clearance.
GRIPPED_DEG = 40.0
# Sections that differ less than this from one another, on average over their length, are one wall.
SAME_WALL_MM = 0.03
SAME_LEAN_DEG = 0.5
# A wall seen to lean within this of a face of the part is that face.
KNOWN_WALL_DEG = 0.05
LEVEL_MM = 0.25
HIGHEST_EDGE_MM = 15.0
# Common practice, no source: gap left so that the jaws can close on work a little under size.
GAP_LEAST_MM = 2.0
GAP_SHARE = 0.12
# The cutter that relieves the floor's rim.
RIM_CUTTER_MM = 3.0
BOSS_ROOM_MM, STEP_DEEP_MM = 1.0, 2.0
QUAD = 24
SEATED_MM = 0.02
# Less of a gripped wall than this lying on the jaw as cut is a poor seat.
SEATED_SHARE = 0.6


class Reason(Frozen):
    """One choice of the solver: what, its value, and why."""

    name: str
    value: float
    unit: str
    why: str
    solved: bool = True


@dataclass
class Seat:
    """How the gripped walls lie on the jaw as cut; lengths along the outline, mm."""

    back: float = 0.0
    back_of: float = 0.0
    front: float = 0.0
    front_of: float = 0.0
    steepest_deg: float = 0.0


@dataclass
class Nest:
    """A solved nest.

    turn_deg: the work turned, seen from above; between_deg: angle between the gripped walls. work: the turned
    work in the solution's frame. outline: of what goes in; wanted: outline with clearance and reliefs; left: what
    the cutter leaves open of it; boss: deeper room; rest, top, floor: heights. edge: height of the edge at the
    work's bottom; grip: straight wall held. split: y of the gap's middle, gap; walls: least jaw behind the nest
    (fixed, moving). place: takes the setup-oriented, turned work into the frame (of the block itself for one cut on
    its end, whose frame lies in the block's by `frame`, 4×4).
    """

    spec: SoftCut
    turn_deg: float
    between_deg: float
    outline: Polygon
    wanted: Polygon
    left: Polygon
    boss: BaseGeometry | None
    floor: float
    top: float
    edge: float
    grip: float
    split: float
    gap: float
    walls: tuple[float, float]
    place: Floats
    opening: float
    seat: Seat
    blank: str
    reasons: list[Reason] = field(default_factory=list)
    trouble: list[tuple[str, str, str, float | None, float | None]] = field(default_factory=list)
    jaws: CutJaws | None = None
    half: tuple[float, float, float] = (0.0, 0.0, 0.0)
    frame: Floats = field(default_factory=lambda: np.eye(4))

    @property
    def depth(self) -> float:
        return self.top - self.floor

    @property
    def boss_floor(self) -> float:
        """How low the room for what stands out below goes; as low as the floor without one."""
        deep = next((reason.value + BOSS_ROOM_MM for reason in self.reasons if reason.name == "boss"), 0.0)
        return self.floor - deep

    @property
    def step_floor(self) -> float:
        """How low it is within the step."""
        return self.floor - STEP_DEEP_MM

    def step_region(self) -> BaseGeometry | None:
        """Where the floor goes deeper when the work stands on a step along the wall."""
        if self.spec.floor == "floor":
            return None
        inner = self.left.buffer(-self.spec.step)
        return None if inner.is_empty else inner


def walls_of(outline: Polygon, exact: Floats | None = None) -> tuple[float | None, float | None]:
    """The lean of the back (+y) and the front wall of an outline, degrees: the turn of their normals from +y and -y.

    Of the edges that face that way, the longest is taken, and those that lean like it. None without any. exact: angles (n,) at
    which faces of the part are known to look, degrees; one of them, where it is the wall's to what an outline shows.
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
    """The turn (degrees, from above) that lets both gripped walls lean alike, and the angle between them; exact: as in `walls_of`.

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
    down = triangle_normals(mesh)[:, 2] < -0.9999
    if not down.any():
        return bottom
    corners = mesh.vertices[mesh.triangles[down]]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    heights = np.round(corners[:, :, 2].mean(axis=1), 2)
    names, which = np.unique(heights, return_inverse=True)
    total = np.bincount(which, area)
    lowest_third = names < bottom + (mesh.vertices[:, 2].max() - bottom) / 3
    if not lowest_third.any():
        return bottom
    return float(names[lowest_third][int(np.argmax(total[lowest_third]))])


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
    """What a round cutter of a radius can clear of a region: shrunk and grown again (morphological opening)."""
    return region.buffer(-radius, quad_segs=QUAD).buffer(radius, quad_segs=QUAD)


def reliefs(wanted: Polygon, work: Polygon, radius: float, kind: str) -> list[Polygon]:
    """Room for the corners of the work that the cutter would leave metal in, each joined to what is cut anyway."""
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


def extruded(region: BaseGeometry, low: float, high: float) -> manifold3d.Manifold:
    """A plane region as a solid between two heights, its holes kept."""
    rings = []
    for piece in region.geoms if hasattr(region, "geoms") else [region]:
        if piece.is_empty or piece.geom_type != "Polygon":
            continue
        piece = orient(piece)
        rings += [np.array(piece.exterior.coords)[:-1], *(np.array(i.coords)[:-1] for i in piece.interiors)]
    return manifold3d.CrossSection(rings).extrude(high - low).translate([0.0, 0.0, low])


def solve(
    work: Mesh, spec: SoftCut, blank: kinds.Jaws | kinds.Block, vise: kinds.Vise | None, turned_deg: float = 0.0,
    bolts: list[tuple[Floats, float]] | None = None, exact: Floats | None = None,
) -> Nest:  # fmt: skip
    """The nest for a piece of work.

    work: in the setup's orientation; turned_deg: how the vise stands on the table; bolts: places (setup's
    orientation) and diameters of bolts that come from below into a nest block; exact: angles at which the part's upright
    walls look, degrees from +x (setup's orientation). Raises BadInput when nothing of the work can be caught.
    """
    back_turn = rigid(rotation_about_z(-turned_deg), np.zeros(3))
    lying = transformed(work, back_turn)
    solid = to_solid(lying)
    if solid.status() != manifold3d.Error.NoError:
        raise BadInput(
            "hold.not_computed",
            "hold",
            "the stock's surface touches itself, so no nest can be made",
            "choose a finer resolution",
        )
    bottom, top = float(lying.vertices[:, 2].min()), float(lying.vertices[:, 2].max())
    rest = rest_level(lying, bottom)
    if rest - bottom < 0.05:
        rest = bottom
    edge = _edge_height(solid, rest, top)
    high = top - rest - edge
    # Enough that the work does not stand out more than so many grips, in half millimetres.
    wanted_grip = max(STRAIGHT_WALL_MM, float(np.ceil(2 * high / (STAND_OUT_RATIO + 1))) / 2)
    grip = spec.grip if spec.grip is not None else min(wanted_grip, max(0.5, high * 0.8))
    depth = edge + grip
    first = outline_below(solid, rest + depth)
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
    raw = outline_below(solid, rest + depth)
    assert raw is not None
    reasons = [
        Reason(name="turn", value=round(chosen, 3), unit="°", solved=spec.turn_deg is None,
               why=f"the gripped walls stand {between:.1f}° apart: turned so, each leans {between / 2:.1f}° and the jaws push evenly"
               if vise is not None else "a nest block does not push"),
        Reason(name="grip", value=round(grip, 3), unit="mm", solved=spec.grip is None,
               why=f"the edge at the bottom goes {edge:.2f} mm up; above it {STRAIGHT_WALL_MM:g} mm of straight wall are common practice, and "
               f"work {high:.0f} mm high is not to stand more than {STAND_OUT_RATIO:g} grips out"),
    ]  # fmt: skip
    radius = spec.cutter / 2
    fill = spec.cutter if spec.fill is None else spec.fill
    outline = one_piece(raw.buffer(fill / 2, quad_segs=QUAD).buffer(-fill / 2, quad_segs=QUAD)).union(raw)
    outline = one_piece(outline).simplify(0.002)
    reasons.append(Reason(name="fill", value=round(fill, 3), unit="mm", solved=spec.fill is None,
                          why="holes and dents narrower than the cutter do not print into the jaws"))  # fmt: skip
    back, front = _gripped(outline, raw)
    wide = outline.buffer(spec.clearance, quad_segs=QUAD)
    held = [*back, *front] if vise is not None else [LineString(outline.exterior)]
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
    boss = None
    if rest > bottom + 0.05:
        low_part = outline_below(solid, rest - 0.05)
        boss = (
            None
            if low_part is None
            else opened(low_part.buffer(spec.clearance + 0.5), radius).union(low_part.buffer(spec.clearance))
        )
        reasons.append(
            Reason(
                name="boss",
                value=round(rest - bottom, 3),
                unit="mm",
                why="what stands out below the resting face gets room of its own",
            )
        )
    seat = Seat(
        back=_length_on(back, left.exterior), back_of=sum(line.length for line in back),
        front=_length_on(front, left.exterior), front_of=sum(line.length for line in front),
        steepest_deg=max((abs(lean) for lean in walls_of(outline) if lean is not None), default=0.0),
    )  # fmt: skip
    common: dict[str, Any] = {
        "spec": spec, "turn_deg": chosen, "between_deg": between, "outline": outline, "wanted": wanted, "left": left,
        "boss": boss, "edge": edge, "grip": grip, "seat": seat, "blank": blank.id, "reasons": reasons,
    }  # fmt: skip
    if isinstance(blank, kinds.Block):
        return _in_block(common, blank, lying, bottom, rest, depth, bolts or [], chosen, turned_deg)
    assert vise is not None
    return _in_jaws(common, blank, vise, lying, bottom, rest, depth, back, front)


def _shifted(common: dict[str, Any], dx: float, dy: float) -> dict[str, Any]:
    """The regions of a solution, moved into its frame."""
    out = dict(common)
    for name in ("outline", "wanted", "left", "boss"):
        if out[name] is not None:
            out[name] = translate(out[name], dx, dy)
    return out


def _in_jaws(
    common: dict[str, Any], blank: kinds.Jaws, vise: kinds.Vise, lying: Mesh, bottom: float, rest: float, depth: float,
    back: list[LineString], front: list[LineString],
) -> Nest:  # fmt: skip
    spec: SoftCut = common["spec"]
    x0, y0, x1, y1 = common["outline"].bounds
    # The gap lies clear of both gripped walls, so that each jaw catches its wall whole.
    inner_back = min((line.bounds[1] for line in back), default=(y0 + y1) / 2 + 1)
    inner_front = max((line.bounds[3] for line in front), default=(y0 + y1) / 2 - 1)
    split = spec.split if spec.split is not None else (inner_back + inner_front) / 2
    room = max(0.0, inner_back - inner_front)
    gap = (
        spec.gap
        if spec.gap is not None
        else float(np.clip(GAP_SHARE * (y1 - y0), GAP_LEAST_MM, max(GAP_LEAST_MM, 0.8 * room)))
    )
    gap = round(gap, 2)
    t = blank.thickness
    place = np.array([-(x0 + x1) / 2 + spec.shift, -t - gap / 2 - split, blank.height - depth - rest])
    moved_ = _shifted(common, place[0], place[1])
    left: Polygon = moved_["left"]
    lx0, ly0, lx1, ly1 = left.bounds
    floor, top = blank.height - depth, blank.height
    walls = (-ly1, ly0 + 2 * t + gap)
    opening = 2 * t + gap
    nest = Nest(
        **moved_, floor=floor, top=top, split=-t - gap / 2, gap=gap, walls=walls, place=place, opening=opening
    )
    nest.half = (blank.width, blank.height, t)
    nest.reasons += [
        Reason(name="gap", value=gap, unit="mm", solved=spec.gap is None,
               why=f"clear of both gripped walls ({room:.1f} mm lie between them), and enough to close on work under size"),
        Reason(name="split", value=round(split, 3), unit="mm", solved=spec.split is None, why="midway between the gripped walls"),
        Reason(name="wall, fixed jaw", value=round(walls[0], 2), unit="mm", why=f"what is left of {t:g} mm behind the nest"),
        Reason(name="wall, moving jaw", value=round(walls[1], 2), unit="mm", why=f"what is left of {t:g} mm behind the nest"),
        Reason(name="depth", value=round(depth, 3), unit="mm", why="edge and straight wall together"),
    ]  # fmt: skip
    for name, wall in zip(("fixed", "moving"), walls, strict=True):
        if wall < spec.least_wall:
            nest.trouble.append(("jaws.thin", "error" if wall < 1 else "warning",
                                 f"The {name} jaw is only {wall:.1f} mm thick behind the nest; {spec.least_wall:g} mm wanted.", wall, spec.least_wall))  # fmt: skip
    side = blank.width / 2 - max(abs(lx0), abs(lx1))
    if side < 0:
        nest.trouble.append(("jaws.too_short", "warning" if seat_whole(nest) else "error",
                             f"The nest runs {-side:.1f} mm out of the ends of the jaws: blanks {blank.width:g} mm long are short.", blank.width, blank.width - 2 * side))  # fmt: skip
    if floor < 5.0:
        nest.trouble.append(
            (
                "jaws.too_low",
                "error",
                f"The nest is {depth:.1f} mm deep and leaves {floor:.1f} mm under its floor.",
                floor,
                5.0,
            )
        )
    if opening > vise.opening_max:
        nest.trouble.append(("hold.opening", "error", f"The jaws stand {opening:.0f} mm apart with these blanks; {vise.name} opens {vise.opening_max:.0f} mm.", opening, vise.opening_max))  # fmt: skip
    if gap < 0.5:
        nest.trouble.append(
            (
                "hold.gap_closed",
                "error",
                f"The jaws meet before they grip: {gap:.2f} mm are left between them.",
                gap,
                0.5,
            )
        )
    if gap > inner_back - inner_front + 2 * depth and room <= 0:
        nest.trouble.append(
            (
                "jaws.wrap",
                "warning",
                "Both jaws would wrap round one wall: part of what they grip falls into the gap.",
                room,
                gap,
            )
        )
    seat = nest.seat
    for name, on, of in (("back", seat.back, seat.back_of), ("front", seat.front, seat.front_of)):
        if of <= 0:
            nest.trouble.append(
                (
                    "jaws.no_wall",
                    "error",
                    f"The work has no wall towards the {'fixed' if name == 'back' else 'moving'} jaw to be gripped by.",
                    0.0,
                    None,
                )
            )
        elif on < SEATED_SHARE * of:
            nest.trouble.append(("jaws.poor_seat", "warning", f"Only {on:.1f} of {of:.1f} mm of the {name} wall lies on the jaw as a Ø{nest.spec.cutter:g} cutter leaves it.", on, SEATED_SHARE * of))  # fmt: skip
    limit = float(np.degrees(np.arctan(FRICTION)))
    back_lean, front_lean = walls_of(nest.outline)
    lean = max(abs(back_lean or 0.0), abs(front_lean or 0.0))
    if lean > limit:
        nest.trouble.append(("jaws.slips_out", "warning", f"The gripped walls lean {lean:.1f}° to the jaws' way; above {limit:.1f}° friction alone does not keep the work from sliding along.", lean, limit))  # fmt: skip
    tight = nest.outline.difference(nest.left.buffer(0.01))
    if tight.area > 0.01:
        nest.trouble.append(("jaws.corners_ride", "warning", f"A Ø{nest.spec.cutter:g} cutter leaves {tight.area:.2f} mm² in corners that the work would ride on.", tight.area, 0.01))  # fmt: skip
    nest.jaws = drawn(nest)
    return nest


def seat_whole(nest: Nest) -> bool:
    """Whether every gripped wall lies on a jaw for the most part."""
    seat = nest.seat
    return seat.back >= SEATED_SHARE * seat.back_of > 0 and seat.front >= SEATED_SHARE * seat.front_of > 0


def cut_away(nest: Nest) -> manifold3d.Manifold:
    """Everything the jaws or the block lose, in the solution's frame."""
    tools = [extruded(nest.left, nest.floor, nest.top + 5)]
    if nest.spec.edge_break > 0:
        rim = nest.left.difference(nest.left.buffer(-RIM_CUTTER_MM, quad_segs=QUAD))
        tools.append(extruded(rim, nest.floor - nest.spec.edge_break, nest.floor + 0.5))
    step = nest.step_region()
    if step is not None:
        tools.append(extruded(step, nest.step_floor, nest.floor + 0.5))
    if nest.boss is not None:
        tools.append(extruded(nest.boss, nest.boss_floor, nest.floor + 0.5))
    return manifold3d.Manifold.batch_boolean(tools, manifold3d.OpType.Add)


def blanks(nest: Nest) -> tuple[manifold3d.Manifold, manifold3d.Manifold]:
    """The two uncut blanks as they stand when they grip: fixed, moving."""
    width, height, t = nest.half
    fixed = kinds.cuboid((-width / 2, -t, 0), (width / 2, 0, height))
    moving = kinds.cuboid((-width / 2, -2 * t - nest.gap, 0), (width / 2, -t - nest.gap, height))
    return fixed, moving


def drawn(nest: Nest) -> CutJaws:
    """The jaws as solved, before any cutter was at them."""
    fixed, moving = blanks(nest)
    away = cut_away(nest)
    return as_jaws(nest, mesh_of(fixed - away), mesh_of(moving - away))


def as_jaws(nest: Nest, fixed: Mesh, moving: Mesh) -> CutJaws:
    """Jaws standing as they grip (solution's frame), ready to be put into the vise."""
    turn = rigid(rotation_about_z(180.0), np.array([0.0, -nest.opening, 0.0]))
    # The moving jaw turned half round about the middle of the opening is an ordinary jaw.
    return CutJaws(fixed, transformed(moving, turn), nest.place, nest.opening)


def _in_block(
    common: dict[str, Any], block: kinds.Block, lying: Mesh, bottom: float, rest: float, depth: float,
    bolts: list[tuple[Floats, float]], chosen: float, turned_deg: float,
) -> Nest:  # fmt: skip
    """A drop-in nest: one block with the outline let into it, deeper where the work stands out below."""
    x0, y0, x1, y1 = common["outline"].bounds
    spec: SoftCut = common["spec"]
    place = np.array([-(x0 + x1) / 2 + spec.shift, -(y0 + y1) / 2, block.height - depth - rest])
    moved_ = _shifted(common, place[0], place[1])
    left: Polygon = moved_["left"]
    lx0, ly0, lx1, ly1 = left.bounds
    floor = block.height - depth
    wall = min(block.length / 2 - max(-lx0, lx1), block.width / 2 - max(-ly0, ly1))
    nest = Nest(
        **moved_,
        floor=floor,
        top=block.height,
        split=0.0,
        gap=0.0,
        walls=(wall, wall),
        place=place,
        opening=0.0,
    )
    deep = rest - bottom + BOSS_ROOM_MM if nest.boss is not None else 0.0
    nest.half = (block.length, block.height, block.width)
    nest.reasons += [
        Reason(name="wall", value=round(wall, 2), unit="mm", why="the thinnest wall round the nest"),
        Reason(name="depth", value=round(depth, 3), unit="mm", why="edge and straight wall together"),
    ]
    if wall < spec.least_wall:
        nest.trouble.append(("jaws.thin", "error" if wall < 1 else "warning", f"The nest's wall is only {wall:.1f} mm thick; {spec.least_wall:g} mm wanted.", wall, spec.least_wall))  # fmt: skip
    if floor - deep < 5.0:
        nest.trouble.append(
            (
                "jaws.too_low",
                "error",
                f"The nest leaves {floor - deep:.1f} mm under its deepest floor.",
                floor - deep,
                5.0,
            )
        )
    body = kinds.cuboid(
        (-block.length / 2, -block.width / 2, 0), (block.length / 2, block.width / 2, block.height)
    ) - cut_away(nest)
    turn = rotation_about_z(chosen - turned_deg)
    for at, size in bolts:
        x, y = (turn @ at)[:2] + place[:2]
        body -= kinds.rod(size + 0.5, -1.0, block.height + 1.0, float(x), float(y))
        body -= kinds.rod(2 * size, -1.0, 1.2 * size, float(x), float(y))
    nest.jaws = CutJaws(mesh_of(body), None, place)
    return nest
