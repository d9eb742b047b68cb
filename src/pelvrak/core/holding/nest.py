"""What do soft jaws, or a nest block, look like once they are solved? Their regions and heights, and the
solids these make.

All lengths mm. The frame of the solution is the vise's over its bed (x along the jaws, y 0 in the fixed jaw's
mounting face, the jaws closing to +y) or the block's (x, y 0 in its middle, z 0 its bottom).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import manifold3d
import numpy as np
from shapely import Polygon
from shapely import box as box_shape
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, transformed
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.rigid import inverse, rigid, rotation_about_z
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import CutJaws
from pelvrak.core.holding.hold import SoftCut

# The cutter that relieves the floor's rim.
RIM_CUTTER_MM = 3.0
# How far a chamfer's cone goes on over its edge, and how well its way fits the edge, mm.
FLARED_OVER_MM, FLARED_FIT_MM = 0.5, 0.01
BOSS_ROOM_MM, STEP_DEEP_MM = 1.0, 2.0
QUAD = 24
# What is left of a block beside the head of a screw, mm, and the fewest screws that hold it: common practice,
# no source.
BESIDE_HEAD_MM, FEWEST_SCREWS = 2.0, 2
BLOCK_SCREW = "block screw"
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

    @property
    def whole(self) -> bool:
        """Whether every gripped wall lies on a jaw for the most part."""
        return self.back >= SEATED_SHARE * self.back_of > 0 and self.front >= SEATED_SHARE * self.front_of > 0


@dataclass(frozen=True)
class Bore:
    """An upright hole in a block: middle, diameter, from and to which height, mm."""

    x: float
    y: float
    diameter: float
    low: float
    high: float


@dataclass(frozen=True)
class Under:
    """What is screwed through a nest block from what it stands on. bolts: place (n, 3, setup's orientation)
    and diameter of those that come from below into the work; tapped (n, 2): holes of the plate, in the
    block's frame, of a thread; plate: what it is called.
    """

    bolts: tuple[tuple[Floats, float], ...] = ()
    tapped: Floats = field(default_factory=lambda: np.zeros((0, 2)))
    thread: str = "M8"
    plate: str = ""


@dataclass
class Nest:
    """A solved nest.

    turn_deg: the work turned, seen from above; between_deg: angle between the gripped walls. work: the turned
    work in the solution's frame. outline: of what goes in; wanted: outline with clearance and reliefs; left:
    what the cutter leaves open of it; boss: deeper room; rest, top, floor: heights. edge: height of the edge
    at the work's bottom; grip: straight wall held. split: y of the gap's middle, gap; walls: least jaw behind
    the nest (fixed, moving). place: takes the setup-oriented, turned work into the frame (of the block itself
    for one cut on its end, whose frame lies in the block's by `frame`, 4×4). half: length, height and
    thickness of the blank at the back, or of the block; front: of the blank at the front. bores: in a block,
    there before the nest is cut.
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
    front: tuple[float, float, float] = (0.0, 0.0, 0.0)
    frame: Floats = field(default_factory=lambda: np.eye(4))
    bores: list[Bore] = field(default_factory=list)

    @property
    def on_end(self) -> bool:
        """Whether it is a block that is cut standing on its end."""
        return self.spec.shape != "nest" and self.gap == 0

    @property
    def lying(self) -> tuple[float, float, float]:
        """Length, height and width of a block as it lies, mm."""
        wide, long, high = self.half
        return (long, high, wide) if self.on_end else self.half

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

    def tell(
        self, code: str, severity: str, sentence: str, measured: float | None, limit: float | None
    ) -> None:
        """What is wrong with it, to be told as a finding; mm."""
        self.trouble.append((code, severity, sentence, measured, limit))


def extruded(region: BaseGeometry, low: float, high: float) -> manifold3d.Manifold:
    """A plane region as a solid between two heights, its holes kept."""
    rings = []
    for piece in region.geoms if hasattr(region, "geoms") else [region]:
        if piece.is_empty or piece.geom_type != "Polygon":
            continue
        piece = orient(piece)
        rings += [np.array(piece.exterior.coords)[:-1], *(np.array(i.coords)[:-1] for i in piece.interiors)]
    return manifold3d.CrossSection(rings).extrude(high - low).translate([0.0, 0.0, low])


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
    if nest.spec.mouth > 0:
        tools.append(flared(nest.left, nest.top - nest.spec.mouth, nest.spec.mouth))
    return manifold3d.Manifold.batch_boolean(tools, manifold3d.OpType.Add)


def flared(region: BaseGeometry, low: float, wide: float) -> manifold3d.Manifold:
    """What a cone of 90° takes that goes round the edge of a region: as wide at its top, low + wide, as high;
    mm.
    """
    cone = manifold3d.Manifold.cylinder(wide + FLARED_OVER_MM, 1e-3, wide + FLARED_OVER_MM, 4 * QUAD)
    out = []
    for piece in region.geoms if hasattr(region, "geoms") else [region]:
        for ring in (piece.exterior, *piece.interiors):
            corners = np.array(ring.simplify(FLARED_FIT_MM).coords)
            at = [cone.translate([float(x), float(y), low]) for x, y in corners]
            out += [manifold3d.Manifold.batch_hull(list(pair)) for pair in zip(at, at[1:], strict=False)]
    return manifold3d.Manifold.batch_boolean(out, manifold3d.OpType.Add)


def judge_edges(nest: Nest) -> None:
    """Own edges of a block that it has no room for."""
    said = no_room_for_edges(nest.lying, nest.spec)
    if said is not None:
        nest.tell("jaws.no_edges", "error", said, None, None)


def body_of(nest: Nest) -> manifold3d.Manifold:
    """A nest block as it comes to its cutting: with its own edges and what is drilled for screws; the
    solution's frame.
    """
    body = block_body(nest.lying, nest.spec)
    if nest.on_end:
        return body.transform(inverse(nest.frame)[:3])
    for bore in nest.bores:
        body -= kinds.rod(bore.diameter, bore.low - 1e-3, bore.high + 1e-3, bore.x, bore.y)
    return body


def blanks(nest: Nest) -> tuple[manifold3d.Manifold, manifold3d.Manifold]:
    """The two uncut blanks as they stand when they grip: fixed, moving."""
    width, height, t = nest.half
    fixed = kinds.cuboid((-width / 2, -t, 0), (width / 2, 0, height))
    width, height, _ = nest.front
    moving = kinds.cuboid((-width / 2, -nest.opening, 0), (width / 2, -t - nest.gap, height))
    return fixed, moving


def no_room_for_edges(half: tuple[float, float, float], spec: SoftCut) -> str | None:
    """What is wrong with a block's own edges where they leave nothing of a side. half: length, height, width,
    mm.
    """
    length, height, width = half
    radius, chamfer = spec.own_edges
    if 2 * max(radius, chamfer) < min(length, width) and chamfer < height:
        return None
    return (
        f"A block {length:g} × {width:g} × {height:g} has no room for corners R{radius:g} and edges"
        f" {chamfer:g} × 45°: it is taken without them."
    )


def edges_of(half: tuple[float, float, float], spec: SoftCut) -> tuple[float, float]:
    """Corner radius and edge chamfer that a block gets: its own, where there is room for them."""
    return (0.0, 0.0) if no_room_for_edges(half, spec) else spec.own_edges


def block_body(half: tuple[float, float, float], spec: SoftCut) -> manifold3d.Manifold:
    """A nest block before anything is let into it: its upright edges rounded, those round its top chamfered,
    where there is room for them. half: length, height, width, mm.
    """
    length, height, width = half
    radius, chamfer = edges_of(half, spec)

    def slab(inset: float, low: float, high: float) -> manifold3d.Manifold:
        sharp = box_shape(-length / 2 + radius, -width / 2 + radius, length / 2 - radius, width / 2 - radius)
        outline = sharp.buffer(radius, quad_segs=QUAD) if radius > 0 else sharp
        inner = outline.buffer(-inset, join_style="mitre") if inset > 0 else outline
        return extruded(inner, low, high)

    if chamfer <= 0:
        return slab(0.0, 0.0, height)
    thin = slab(chamfer, height - 1e-6, height)
    return manifold3d.Manifold.batch_hull([slab(0.0, 0.0, height - chamfer), thin])


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
