"""How do the jaws of a vise stand, and how do they close on the work? All in the layout frame.

A vise has a fixed jaw at its back, or centres the work between two jaws that close alike, or is double: two
stations back to back at one block, one of which has the work.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, joined, levels, mesh_of, transformed
from pelvrak.core.geometry.rigid import moved, rigid, rotation_about_z, turned
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import Build, CutJaws, Piece
from pelvrak.core.holding.contact import travel
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.kinds import Solid

# What the jaw at the back is called where it does not move.
FIXED = "fixed jaw"
# Lifted by this while it is pushed along something, so that what it slides on does not stop it, mm.
SLIDE_MM = 0.02
# How far cut jaws stand open before they close, and what a surface may be off there, mm.
CUT_OPEN_MM, OVERLAP_MM = 1.0, 0.1
DOWN, UP = np.array([0.0, 0, -1]), np.array([0.0, 0, 1])
# How far the station of a double vise that has no work stands open, of what it can.
IDLE_OPEN = 0.5


@dataclass(frozen=True)
class JawPair:
    """The jaws on a vise: the blank at the back and the one at the front, and how far each is set in from
    where it is screwed on, mm.
    """

    item: Item
    fixed: kinds.Jaws
    moving: kinds.Jaws

    @property
    def rear(self) -> float:
        """From the mounting face at the back to the face that grips there, mm."""
        return self.fixed.thickness + self.item.set_in

    @property
    def front(self) -> float:
        """The same at the front."""
        return self.moving.thickness + self.item.set_in_moving

    @property
    def thick(self) -> float:
        """What both take of the opening, mm."""
        return self.rear + self.front


def vise_of(build: Build, item: Item) -> kinds.Vise:
    """The vise that an item of the plan is."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Vise)
    return one


def pair_of(item: Item, fixtures: dict[str, kinds.Fixture]) -> JawPair | None:
    """The pair an item of a plan is; None where it is no jaws. Raises BadInput where the front one is not
    known, or no jaws.
    """
    one = fixtures.get(item.fixture)
    if not isinstance(one, kinds.Jaws):
        return None
    other = one if item.moving is None else fixtures.get(item.moving)
    if not isinstance(other, kinds.Jaws):
        raise BadInput(
            "hold.unknown_fixture",
            "hold.items",
            f"{item.id}: there are no jaws {item.moving!r} for the front",
            "choose jaws from the library",
        )
    return JawPair(item, one, other)


def jaws_on(build: Build, vise: Item) -> JawPair | None:
    """The jaws on a vise; None when it has none."""
    pairs = (pair_of(item, build.fixtures) for item in build.hold.items if item.on == vise.id)
    return next((pair for pair in pairs if pair is not None), None)


def _bed(build: Build, vise: Item, y: float = 0.0) -> Floats:
    """The vise's bed, y mm behind the mounting face at the back; 4×4."""
    return build.poses[vise.id] @ rigid(np.eye(3), np.array([0.0, y, vise_of(build, vise).bed_height]))


def _frames(one: kinds.Vise, item: Item, opening: float, x: float = 0.0) -> tuple[Floats, Floats]:
    """Where the jaw at the back and the one at the front stand in a vise's frame, 4×4, with the mounting face
    at the back in y 0. x: how far along.
    """
    rear = np.array([x, -item.set_in, one.bed_height])
    front = np.array([x, item.set_in_moving - opening, one.bed_height])
    return rigid(np.eye(3), rear), rigid(rotation_about_z(180.0), front)


@dataclass(frozen=True)
class _Open:
    """Both jaws as far open as they go, still uncut or cut to the work, each before what rides on it; layout
    frame.
    """

    rear: tuple[Piece, ...]
    front: tuple[Piece, ...]
    pair: JawPair
    cut: CutJaws | None

    def meshes(self) -> tuple[Mesh, Mesh]:
        """All of the one at the back, and of the one at the front."""
        return joined([p.mesh for p in self.rear]), joined([p.mesh for p in self.front])


def _opened(build: Build, vise: Item) -> _Open | None:
    """The jaws of a vise, open; None when it has none."""
    pair = jaws_on(build, vise)
    if pair is None:
        return None
    one, item = vise_of(build, vise), pair.item
    cut = build.shapes.cut.get(item.id)
    rear = cut.fixed if cut is not None else mesh_of(kinds.jaw(pair.fixed))
    front = cut.moving if cut is not None and cut.moving is not None else mesh_of(kinds.jaw(pair.moving))
    # Cut ones grip where they were cut.
    along = item.x if cut is None else 0.0
    at_rear, at_front = (build.poses[vise.id] @ at for at in _frames(one, item, one.opening_max, along))
    closing = turned(build.poses[vise.id], np.array([0.0, 1.0, 0.0]))
    names = ("rear jaw", "front jaw") if one.centres else (FIXED, "moving jaw")
    back = Piece(
        item.id,
        names[0],
        "locates",
        transformed(rear, at_rear),
        jaw="fixed",
        moves=one.centres,
        back=_back(one, closing, True),
    )
    ahead = Piece(
        item.id,
        names[1],
        "clamps",
        transformed(front, at_front),
        closing,
        (vise.force_kn or one.force_kn) * 1000,
        jaw="moving",
        moves=True,
        back=_back(one, closing, False),
    )
    sides = []
    for whole, at, jaw, which in (
        (back, at_rear, pair.fixed, "rear"),
        (ahead, at_front, pair.moving, "front"),
    ):
        own = replace(whole, bites=jaw.bites, friction=jaw.friction)
        riders = [one for one in build.hold.items if one.rides == which and one.on == item.id]
        # What rides on a jaw presses with the jaw's force, and not with one more.
        sides.append((own, *(_riding(build, rider, replace(whole, force=0.0), at, jaw) for rider in riders)))
    return _Open(sides[0], sides[1], pair, cut)


def _back(one: kinds.Vise, closing: Floats, rear: bool) -> Floats | None:
    """Where a jaw goes for each mm that a vise opens, mm; None where it stays. rear: the one at the back."""
    if one.centres:
        return closing / 2 if rear else -closing / 2
    return None if rear else -closing


def _riding(build: Build, item: Item, jaw_piece: Piece, at: Floats, jaw: kinds.Jaws) -> Piece:
    """What rides on a jaw that stands at a place (4×4), as a piece that goes with it."""
    mesh, stands = _rider(build, item, jaw)
    name = build.fixture(item).name
    return replace(jaw_piece, item=item.id, name=name, mesh=transformed(mesh, at @ stands))


def _rider(build: Build, item: Item, jaw: kinds.Jaws) -> tuple[Mesh, Floats]:
    """What rides on a jaw, and where it stands in the jaw's frame: at its gripping face. Raises BadInput for
    what is no solid to be screwed on, and for one that is not here.
    """
    one = build.fixture(item)
    if not isinstance(one, (kinds.Own, kinds.Block)):
        raise BadInput(
            "hold.cannot_ride",
            "hold.items",
            f"{item.id}: a {one.called} does not ride on a jaw",
            "let it stand by itself, or choose a solid of your own",
        )
    mesh = build.shapes.own.get(item.id) if isinstance(one, kinds.Own) else mesh_of(one.solids()[0].body)
    if mesh is None:
        raise BadInput(
            "hold.no_file", "hold.items", f"{item.id}: {one.name} is not here", "bring the file again"
        )
    at = np.array([item.x, item.y - jaw.thickness, item.z])
    return mesh, rigid(rotation_about_z(item.turn_deg), at)


def fixed_jaw(build: Build, vise: Item) -> Piece | None:
    """The jaw at the back, put on a vise that does not move it; None when it has none, or moves it."""
    found = None if vise_of(build, vise).centres else _opened(build, vise)
    return None if found is None else replace(found.rear[0], mesh=found.meshes()[0])


def centred(build: Build, vise: Item, lying: Mesh) -> Floats:
    """What takes work that lies between the jaws of a vise that centres to where they bring it."""
    found = _opened(build, vise)
    closing = turned(build.poses[vise.id], np.array([0.0, 1.0, 0.0]))
    if found is None:
        return np.zeros(3)
    raised = transformed(lying, rigid(np.eye(3), UP * SLIDE_MM))
    rear_mesh, front_mesh = found.meshes()
    back, front = travel(raised, rear_mesh, closing), travel(front_mesh, raised, closing)
    return np.zeros(3) if back is None or front is None else closing * (back[0] - front[0]) / 2


def rear_after(one: kinds.Vise, opening: float) -> float:
    """Where the mounting face at the back stands at an opening between mounting faces, y in the vise's frame,
    mm.
    """
    return (opening - one.opening_max) / 2 if one.centres else 0.0


def _ahead(one: kinds.Vise, cut: CutJaws | None) -> float:
    """How far jaws that were cut to the work go before they are just open: their walls may lean, and stand
    round it.
    """
    if cut is None or cut.moving is None:
        return 0.0
    room = max(0.0, one.opening_max - cut.opening - CUT_OPEN_MM)
    return room / 2 if one.centres else room


def _stops(build: Build, found: _Open, lying: Mesh, one: kinds.Vise) -> list[tuple[str, float]]:
    """What the jaws meet, with how far each of them that moves has gone there, mm."""
    closing = build.out.closing
    assert closing is not None
    ahead = _ahead(one, found.cut)
    # Lowered a touch: the work may stand on a floor that the jaw brings along.
    lowered = DOWN * SLIDE_MM
    least = -1e9 if ahead == 0.0 else -OVERLAP_MM
    rear, front = found.meshes()
    front = transformed(front, rigid(np.eye(3), lowered + closing * ahead))
    targets = [("work", lying)]
    targets += [(p.name, p.mesh) for p in build.out.pieces if p.role in ("locates", "rests")]
    stops = [
        (name, way[0] + ahead)
        for name, target in targets
        if (way := travel(front, target, closing, least)) is not None
    ]
    if one.centres:
        rear = transformed(rear, rigid(np.eye(3), lowered - closing * ahead))
        stops += [
            (name, way[0] + ahead)
            for name, target in targets
            if (way := travel(rear, target, -closing, least)) is not None
        ]
    meets = travel(front, rear, closing, least)
    if meets is not None:
        stops.append(("the other jaw", (meets[0] / 2 if one.centres else meets[0]) + ahead))
    return stops


def close_vise(build: Build, vise: Item, lying: Mesh) -> None:
    """Both jaws, driven until they meet something: the front one alone, or of a vise that centres both
    alike.
    """
    out, one = build.out, vise_of(build, vise)
    pose = build.poses[vise.id]
    out.vise = one.name
    out.closing = turned(pose, np.array([0.0, 1.0, 0.0]))
    found = _opened(build, vise)
    if found is None:
        build.said("hold.no_jaws", f"{one.name} has no jaws.")
        return
    pair, sides = found.pair, 2 if one.centres else 1
    stops = _stops(build, found, lying, one)
    distance = min((d for _, d in stops), default=0.0)
    out.met = [name for name, d in stops if d < distance + SLIDE_MM]
    out.free_gap = next(((d - distance) * sides for name, d in stops if name == "the other jaw"), None)
    out.opening = (float(one.opening_max - sides * distance), one.opening_max)
    out.jaws_thick = pair.thick
    goes = rigid(np.eye(3), -out.closing * distance if one.centres else np.zeros(3))
    out.pieces += [replace(p, mesh=transformed(p.mesh, goes)) for p in found.rear]
    comes = rigid(np.eye(3), out.closing * distance)
    out.pieces += [replace(p, mesh=transformed(p.mesh, comes)) for p in found.front]
    rear_y = rear_after(one, out.opening[0])
    for y, turn, rear in ((rear_y - out.opening[0], 0.0, False), (rear_y, 180.0, True))[:sides]:
        slide = pose @ rigid(rotation_about_z(turn), np.array([0.0, y, 0.0]))
        back = _back(one, out.closing, rear)
        build.add(vise, Solid("slide", "body", kinds.vise_slide(one)), slide, moves=True, back=back)
    _span(build, vise, pair, rear_y)
    if one.style == "double":
        _idle(build, vise, pair)


def _span(build: Build, vise: Item, pair: JawPair, rear_y: float) -> None:
    """Where the face at the back grips, and between which heights."""
    out, half = build.out, pair.fixed.width / 2
    on_bed = _bed(build, vise, rear_y)
    low, high = np.array([-half, -pair.rear, 0.0]), np.array([half, -pair.rear, pair.fixed.height])
    ends = moved(on_bed, np.array([low, high]) + [pair.item.x, 0.0, 0.0])
    out.jaw_low, out.jaw_top = float(on_bed[2, 3]), float(ends[1, 2])
    out.jaw_span = (ends.min(axis=0), ends.max(axis=0))


def _idle(build: Build, vise: Item, pair: JawPair) -> None:
    """The station of a double vise that has no work, half open."""
    one = vise_of(build, vise)
    other = rigid(rotation_about_z(180.0), np.array([0.0, one.block, 0.0]))
    opening = IDLE_OPEN * one.opening_max
    fixed, moving = _frames(one, pair.item, opening)
    pose = build.poses[vise.id] @ other
    for name, solid, at in (
        ("other station's jaw", kinds.jaw(pair.fixed), fixed),
        ("other station's jaw", kinds.jaw(pair.moving), moving),
        ("slide", kinds.vise_slide(one), rigid(np.eye(3), np.array([0.0, -opening, 0.0]))),
    ):
        build.add(vise, Solid(name, "body", solid), pose @ at, moves=True)


def parallel_items(build: Build, vise: Item) -> list[tuple[Item, kinds.Parallels, float]]:
    """The parallels in a vise, each with its height, mm."""
    out = []
    for item in build.hold.items:
        one = build.fixture(item)
        if isinstance(one, kinds.Parallels) and item.on == vise.id:
            out.append((item, one, one.heights[0] if item.height is None else item.height))
    return out


def step_of(build: Build, vise: Item) -> float:
    """How high over its bed the step of a vise's jaws is that the work rests on, the higher one, mm; 0 for
    none.
    """
    jaws = jaws_on(build, vise)
    if jaws is None:
        return 0.0
    riders = [item for item in build.hold.items if item.rides is not None and item.on == jaws.item.id]
    floors = [_floor(_rider(build, item, jaws.fixed)[0]) + item.z for item in riders]
    return max(jaws.fixed.floor or 0.0, jaws.moving.floor or 0.0, *floors)


def _floor(mesh: Mesh) -> float:
    """The height of the largest level face of a solid that looks up and is not its top, mm; 0 without one."""
    heights, area = levels(mesh, up=True, digits=3)
    below = heights < mesh.vertices[:, 2].max() - 1e-3
    return float(heights[below][np.argmax(area[below])]) if below.any() else 0.0


def parallels_under(build: Build, vise: Item) -> list[Piece]:
    """The pair against the jaws: rear at the one at the back, front at the other."""
    out, one, jaws = build.out, vise_of(build, vise), jaws_on(build, vise)
    if jaws is None or out.opening is None:
        return []
    rear_y = rear_after(one, out.opening[0])
    pieces = []
    for item, pair, height in parallel_items(build, vise):
        if height not in pair.heights:
            near = min(pair.heights, key=lambda h: abs(h - height))
            build.said(
                "hold.height",
                f"{pair.name} has no pair {height:g} mm high.",
                measured=height,
                limit=near,
                cure=(f"Parallels {near:g} mm", item.id, "height", near),
            )
        room = out.opening[0] - jaws.thick
        if room < 2 * pair.thickness:
            build.said(
                "hold.parallels_too_thick",
                f"Two parallels of {pair.thickness:g} mm do not fit between jaws {room:.1f} mm apart.",
                measured=2 * pair.thickness,
                limit=round(room, 3),
            )
            continue
        body = pair.solids(height)[0].body
        for name, y in (
            ("rear parallel", rear_y - jaws.rear - pair.thickness / 2),
            ("front parallel", rear_y - out.opening[0] + jaws.front + pair.thickness / 2),
        ):
            at = _bed(build, vise) @ rigid(np.eye(3), np.array([item.x, y, 0.0]))
            pieces.append(Piece(item.id, name, "rests", transformed(mesh_of(body), at)))
    return pieces


def flat_parallels(build: Build, vise: Item | None) -> list[Piece]:
    """A floor at the height of the parallels, or of the jaws' steps, for as long as it is not known how far
    apart they stand.
    """
    if vise is None:
        return []
    one, pieces = vise_of(build, vise), []
    floors = [(item, height) for item, _, height in parallel_items(build, vise)]
    step = step_of(build, vise)
    if step > 0:
        floors.append((vise, step))
    for item, height in floors:
        floor = kinds.cuboid((-one.jaw_width, -one.body_length, 0), (one.jaw_width, 0, height))
        pieces.append(Piece(item.id, "parallels", "rests", transformed(mesh_of(floor), _bed(build, vise))))
    return pieces
