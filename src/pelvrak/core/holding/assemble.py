"""Where does everything stand? The holding built up in its order by contact, the work laid in, the clamps closed.

All in the layout frame: the table's top is z 0, its front left corner the origin, the axes those of the
machine. The work comes in the setup's orientation and is only ever moved, never turned.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import manifold3d
import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import Floats, Mesh, joined, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import inverse, moved, rigid, rotation_about_z, turned
from pelvrak.core.holding import kinds
from pelvrak.core.holding.contact import travel
from pelvrak.core.holding.hold import Hold, Item, Pinned
from pelvrak.core.holding.kinds import Fixture, Role, Solid
from pelvrak.core.holding.pins import PinFit, pin_fit
from pelvrak.core.holding.settling import settled
from pelvrak.core.stock.compare import signed_distance

# A pin is met by its top only within this of its diameter; a hole counts as there when a core so much thinner goes through
# all but a share of it, mm.
SLIM_PIN_MM, CORE_PIN_MM, CORE_SHARE = 0.4, 0.15, 0.002
# Lifted by this while it is pushed along something, so that what it slides on does not stop it, mm.
SLIDE_MM = 0.02
# How far cut jaws stand open before they close, and what a surface may be off there, mm.
CUT_OPEN_MM, OVERLAP_MM = 1.0, 0.1
WAYS: dict[str, Floats] = {
    "left": np.array([-1.0, 0, 0]), "right": np.array([1.0, 0, 0]),
    "front": np.array([0, -1.0, 0]), "back": np.array([0, 1.0, 0]),
}  # fmt: skip
DOWN, UP = np.array([0.0, 0, -1]), np.array([0.0, 0, 1])
# Common practice, no source: a bolt holds in as many turns as its diameter is long, and lightly by half of it.
THREAD_HOLDS = 1.0


@dataclass(frozen=True)
class Piece:
    """One solid of the holding as it stands. item: the one it belongs to; push: where a clamp drives it (unit), with its force in N."""

    item: str
    name: str
    role: Role
    mesh: Mesh
    push: Floats | None = None
    force: float = 0.0


@dataclass
class Trouble:
    """What went wrong while building up, to be told as a finding."""

    code: str
    sentence: str
    measured: float | None = None
    limit: float | None = None
    place: Floats | None = None
    cure: tuple[str, str, Any] | None = None


@dataclass
class Assembly:
    """The holding and the work as they stand; layout frame, mm.

    shift: what takes the work from where it came to where it lies. opening: between a vise's mounting faces, and
    what it can take. met: what the moving jaw met. jaw_low, jaw_top: heights of the jaws; jaw_span: low and high of
    the fixed jaw's face. closing: the way the moving jaw goes. vise: its name. free_gap: left between the jaws.
    pins: the holes of the work that are on pins. carrier: the item in the vise that carries the work, which the jaws close on.
    """

    pieces: list[Piece] = field(default_factory=list)
    shift: Floats = field(default_factory=lambda: np.zeros(3))
    trouble: list[Trouble] = field(default_factory=list)
    opening: tuple[float, float] | None = None
    met: list[str] = field(default_factory=list)
    jaw_top: float | None = None
    jaw_low: float | None = None
    jaw_span: tuple[Floats, Floats] | None = None
    closing: Floats | None = None
    vise: str | None = None
    free_gap: float | None = None
    pins: list[PinFit] = field(default_factory=list)
    carrier: str | None = None


@dataclass(frozen=True)
class CutJaws:
    """Jaws or a nest as they have been cut: `fixed` and `moving` each in the frame of an uncut fixed jaw (the
    moving one turned half round), or one nest block in `fixed`. place: takes the setup-oriented work into the
    vise's frame over its bed (or the block's frame). opening: between the mounting faces as they were cut."""

    fixed: Mesh
    moving: Mesh | None
    place: Floats
    opening: float = 0.0


@dataclass
class _Build:
    hold: Hold
    fixtures: dict[str, Fixture]
    work: Mesh
    holes: dict[int, UprightHole]
    own: dict[str, Mesh]
    cut: dict[str, CutJaws]
    out: Assembly = field(default_factory=Assembly)
    poses: dict[str, Floats] = field(default_factory=dict)

    def fixture(self, item: Item) -> Fixture:
        found = self.fixtures.get(item.fixture)
        if found is None:
            raise BadInput(
                "hold.unknown_fixture", "hold.items", f"{item.id}: there is no fixture {item.fixture!r}", "choose one from the library"
            )  # fmt: skip
        return found

    def base(self, item: Item) -> Item:
        return next(one for one in self.hold.items if one.id == item.on)

    def add(self, item: Item, solid: Solid, pose: Floats, **more: Any) -> None:
        self.out.pieces.append(
            Piece(item.id, solid.name, solid.role, transformed(mesh_of(solid.body), pose), **more)
        )

    def said(self, code: str, sentence: str, **more: Any) -> None:
        self.out.trouble.append(Trouble(code, sentence, **more))


def assemble(
    hold: Hold, fixtures: dict[str, Fixture], work: Mesh, holes: dict[int, UprightHole] | None = None,
    own: dict[str, Mesh] | None = None, cut: dict[str, CutJaws] | None = None,
) -> Assembly:  # fmt: skip
    """Build up a holding round the work.

    work: its surface in the setup's orientation. holes: the part's upright holes by face number, same frame. own: meshes of the shop's own solids by item. cut: soft jaws and
    nests by item. Raises BadInput for fixtures that are not there or do not go together.
    """
    build = _Build(hold, fixtures, work, holes or {}, own or {}, cut or {})
    for item in hold.items:
        _stand(build, item)
    if not hold.items:
        return build.out
    _lay_in(build)
    for item in hold.items:
        if isinstance(build.fixture(item), kinds.Clamp):
            _close_clamp(build, item)
        if isinstance(build.fixture(item), kinds.Chuck):
            _close_chuck(build, item)
        if isinstance(build.fixture(item), kinds.Bolt):
            _drive_bolt(build, item)
    return build.out


def standing_at(hold: Hold, fixtures: dict[str, Fixture], item_id: str) -> Floats:
    """layout_from_item, 4×4, of an item that does not wait for the work."""
    build = _Build(
        hold, fixtures, Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int64), np.zeros(0, np.int64)), {}, {}, {}
    )
    for item in hold.items:
        build.poses[item.id] = _pose(build, item, build.fixture(item))
        if item.id == item_id:
            break
    return build.poses[item_id]


def _stand(build: _Build, item: Item) -> None:
    """Put one fixture where it stands, unless it waits for the work."""
    one = build.fixture(item)
    pose = _pose(build, item, one)
    build.poses[item.id] = pose
    if one.waits:
        return
    if isinstance(one, kinds.Jaws):
        if not isinstance(build.fixture(build.base(item)) if item.on != "table" else None, kinds.Vise):
            raise BadInput(
                "hold.jaws_need_vise",
                "hold.items",
                f"{item.id}: jaws are screwed to a vise",
                "put them on a vise",
            )
        return
    if isinstance(one, kinds.Own):
        mesh = build.own.get(item.id)
        if mesh is None:
            raise BadInput(
                "hold.no_file", "hold.items", f"{item.id}: {one.file} is not here", "bring the file again"
            )
        build.out.pieces.append(Piece(item.id, one.name, "locates", transformed(mesh, pose)))
        return
    if isinstance(one, kinds.Block) and item.cut is not None and item.id in build.cut:
        build.out.pieces.append(
            Piece(item.id, "nest", "locates", transformed(build.cut[item.id].fixed, pose))
        )
        return
    for solid in one.solids(item.height):
        build.add(item, solid, pose)


def _pose(build: _Build, item: Item, one: Fixture) -> Floats:
    """layout_from_item, 4×4."""
    turn = rotation_about_z(item.turn_deg)
    at = np.array([item.x, item.y, item.z])
    if isinstance(one, kinds.Riser) and item.height is not None and item.height not in one.heights:
        raise BadInput("hold.height", "hold.items", f"{item.id}: {one.name} has no height {item.height:g} mm",
                       "one of " + ", ".join(f"{h:g}" for h in one.heights))  # fmt: skip
    if item.on == "table":
        return rigid(turn, at)
    base = build.base(item)
    under, pose = build.fixture(base), build.poses[base.id]
    if isinstance(under, kinds.Plate):
        middle = np.array([0.0, 0.0, under.thickness])
        if item.hole is not None:
            grid = kinds.plate_holes(under)
            if item.hole[0] >= grid.shape[0] or item.hole[1] >= grid.shape[1]:
                raise BadInput("hold.no_hole", "hold.items", f"{item.id}: {under.name} has {grid.shape[0]} × {grid.shape[1]} holes",
                               "choose a hole of the plate")  # fmt: skip
            middle[:2] = grid[item.hole]
            _hole_suits(build, item, one, under)
        return np.asarray(pose @ rigid(turn, middle + at))
    if isinstance(under, kinds.Vise):
        bed = np.array([0.0, 0.0, under.bed_height])
        if isinstance(one, kinds.Stop):
            sign = 1.0 if item.side == "right" else -1.0
            jaws = next((build.fixture(i) for i in build.hold.items if i.on == base.id and isinstance(build.fixture(i), kinds.Jaws)), None)  # fmt: skip
            wide, thick = (
                (jaws.width, jaws.thickness) if isinstance(jaws, kinds.Jaws) else (under.jaw_width, 0.0)
            )
            tip = np.array(
                [
                    sign * (wide / 2 - 5.0),
                    -thick - one.tip_diameter / 2 - 2.0,
                    under.jaw_height - one.tip_diameter / 2,
                ]
            )
            return np.asarray(pose @ rigid(rotation_about_z(0.0 if sign > 0 else 180.0), bed + tip + at))
        if isinstance(one, (kinds.VBlock, kinds.ColletBlock, kinds.Riser, kinds.Block)):
            wide = one.across if isinstance(one, kinds.ColletBlock) else one.width
            c, t = abs(np.cos(np.radians(item.turn_deg))), abs(np.sin(np.radians(item.turn_deg)))
            beside = (build.fixture(i) for i in build.hold.items if i.on == base.id)
            thick = max((jaw.thickness for jaw in beside if isinstance(jaw, kinds.Jaws)), default=0.0)
            # Its side against the fixed jaw.
            return np.asarray(
                pose @ rigid(turn, bed + [0.0, -thick - (c * wide + t * one.length) / 2, 0.0] + at)
            )
        return np.asarray(pose @ rigid(turn, bed + at))
    tall = {
        kinds.VBlock: "height",
        kinds.Chuck: "height",
        kinds.ColletBlock: "across",
        kinds.Block: "height",
    }.get(type(under))
    top = getattr(under, tall) if tall else (base.height or 0.0)
    return np.asarray(pose @ rigid(turn, np.array([0.0, 0.0, float(top)]) + at))


def _hole_suits(build: _Build, item: Item, one: Fixture, plate: kinds.Plate) -> None:
    """Pins stand in dowel holes, bolts in tapped ones: of a plate they take turns."""
    assert item.hole is not None
    tapped = sum(item.hole) % 2 == 0
    column, row = item.hole
    beside = [column + 1 if column + 1 < kinds.plate_holes(plate).shape[0] else column - 1, row]
    if isinstance(one, kinds.Pin) and tapped:
        build.said("hold.pin_in_thread", f"The pin {item.id} stands in a tapped hole {plate.thread} of {plate.name}, not in a dowel hole Ø{plate.dowel:g}.",
                   measured=None, limit=None, place=None, cure=("The dowel hole beside it", f"items/{item.id}/hole", beside))  # fmt: skip
    if isinstance(one, kinds.Bolt) and not tapped:
        build.said("hold.bolt_in_dowel", f"The bolt {item.id} goes into a dowel hole Ø{plate.dowel:g} of {plate.name}, which has no thread.",
                   measured=None, limit=None, place=None, cure=("The tapped hole beside it", f"items/{item.id}/hole", beside))  # fmt: skip


def _closed(pieces: list[Piece]) -> Mesh:
    return joined([piece.mesh for piece in pieces])


def _lay_in(build: _Build) -> None:
    """The work onto what it rests on, against what it is pushed, and the vise closed on it."""
    out, hold = build.out, build.hold
    vise_item = next((i for i in hold.items if isinstance(build.fixture(i), kinds.Vise)), None)
    nest_item = next((i for i in hold.items if i.id in build.cut), None)
    lying = build.work
    low, high = lying.vertices.min(axis=0), lying.vertices.max(axis=0)
    if nest_item is not None:
        block = vise_item is None or isinstance(build.fixture(nest_item), kinds.Block)
        base = build.poses[nest_item.id] if vise_item is None or block else build.poses[vise_item.id]
        above = (
            np.zeros(3)
            if vise_item is None or block
            else np.array([0, 0, _vise(build, vise_item).bed_height])
        )
        cut = build.cut[nest_item.id]
        # The turn was taken into the work before; only its place is left.
        out.shift = moved(base, cut.place + above)
        if vise_item is not None:
            _close_vise(build, vise_item, transformed(lying, rigid(np.eye(3), out.shift)))
        return
    collet = next((i for i in hold.items if isinstance(build.fixture(i), kinds.ColletBlock)), None)
    if collet is not None:
        _into_collet(build, collet)
        if vise_item is not None:
            _close_vise(build, vise_item, transformed(lying, rigid(np.eye(3), out.shift)))
        return
    host = _host(build, vise_item)
    middle = (low + high) / 2
    shift = np.array([*(host - middle)[:2], 0.0])
    pinned = _on_pins(build)
    if pinned is not None:
        shift[:2] = pinned
    entering = _entering(build)
    rests = _under_the_work(build, entering)
    flat = _flat_parallels(build, vise_item)
    shift = shift + _drop(build, transformed(lying, rigid(np.eye(3), shift)), [*rests, *flat])
    pushes: list[tuple[str, Floats]] = [(way, WAYS[way]) for way in hold.work.pushed]
    jaw = None if vise_item is None else _jaw_pieces(build, vise_item)
    if vise_item is not None:
        out.closing = turned(build.poses[vise_item.id], np.array([0.0, 1.0, 0.0]))
        if jaw is not None:
            pushes.insert(0, ("the fixed jaw", out.closing))
    carrier = _carrier(build)
    if carrier is not None:
        out.carrier = carrier.id
        # The holder is against the jaw; the work lies where the holder wants it.
        pushes = pushes[1:] if pushes and pushes[0][0] == "the fixed jaw" else pushes
        if not hold.work.pushed:
            shift = shift + settled(transformed(lying, rigid(np.eye(3), shift)), _closed(rests))
    for name, way in pushes:
        shift = shift + _push(build, lying, shift, way, name, jaw)
    out.shift = shift
    _pins_entered(build, entering)
    if vise_item is not None:
        _close_vise(build, vise_item, transformed(lying, rigid(np.eye(3), shift)))
        parallels = _parallels(build, vise_item)
        if parallels:
            # Only now it is known where the front one stands: the work comes down onto the real ones.
            if carrier is None:
                out.shift = out.shift + _drop(
                    build, transformed(lying, rigid(np.eye(3), out.shift)), [*rests, *parallels]
                )
            out.pieces += parallels


def _into_collet(build: _Build, item: Item) -> None:
    """Round work into a collet block: its axis in the block's, its middle `work.x` from the block's, the collet closed on it."""
    one, pose = build.fixture(item), build.poses[item.id]
    assert isinstance(one, kinds.ColletBlock)
    # The work as the block sees it: only turned.
    seen = transformed(build.work, inverse(rigid(pose[:3, :3], np.zeros(3))))
    low, high = seen.vertices.min(axis=0), seen.vertices.max(axis=0)
    along = build.hold.work.x - (low[0] + high[0]) / 2
    half = one.length / 2
    solid = to_solid(seen).translate([float(along), 0.0, 0.0])
    within = solid.trim_by_plane([1.0, 0.0, 0.0], -half).trim_by_plane([-1.0, 0.0, 0.0], -half)
    if within.is_empty():
        build.said("hold.collet_empty", f"Nothing of the work is within {one.name}.", place=pose[:3, 3])
        build.out.shift = pose[:3, 3] + turned(pose, np.array([along, 0.0, 0.0]))
        return
    box = np.array(within.bounding_box()).reshape(2, 3)
    middle, size = box.mean(axis=0), float(np.ptp(box[:, 1:], axis=0).max())
    place = np.array([along, -middle[1], one.across / 2 - middle[2]])
    if size > one.bore_max + 1e-3:
        build.said("hold.collet_bore", f"The work is {size:.2f} mm across where {one.name} takes it; its collets take {one.bore_max:g}.",
                   measured=round(size, 4), limit=one.bore_max, place=moved(pose, np.array([0.0, 0.0, one.across / 2])))  # fmt: skip
    build.out.shift = pose[:3, 3] + turned(pose, place)
    force = (item.force_kn or one.force_kn) * 1000 / 2
    for quarter, way in kinds.collet_quarters(one, to_solid(seen).translate([float(v) for v in place])):
        # A collet centres: two of its quarters count as what the work is pressed against by the other two.
        presses = way.sum() < 0
        push = turned(pose, way) if presses else None
        build.out.pieces.append(Piece(item.id, "collet", "clamps" if presses else "locates", transformed(mesh_of(quarter), pose), push, force if presses else 0.0))  # fmt: skip


def _vise(build: _Build, item: Item) -> kinds.Vise:
    one = build.fixture(item)
    assert isinstance(one, kinds.Vise)
    return one


def _host(build: _Build, vise: Item | None) -> Floats:
    """Where the work's middle goes before it is pushed."""
    hold = build.hold
    chosen = next((i for i in hold.items if i.id == hold.work.on), None)
    if chosen is None:
        suits = (kinds.VBlock, kinds.Chuck, kinds.Block, kinds.ColletBlock)
        chosen = next((i for i in hold.items if isinstance(build.fixture(i), suits)), None) or vise
        chosen = chosen or next(
            (i for i in hold.items if isinstance(build.fixture(i), kinds.Plate)), hold.items[0]
        )
    pose = build.poses[chosen.id]
    offset = np.array([hold.work.x, hold.work.y, 0.0])
    if isinstance(build.fixture(chosen), kinds.Vise):
        # Along the jaws; across, it will be pushed against the fixed one.
        return np.asarray(moved(pose, np.array([hold.work.x, -60.0, 0.0])))
    return np.asarray(pose[:3, 3] + turned(pose, offset))


def _on_pins(build: _Build) -> Floats | None:
    """The shift in x and y that puts the first hole on its pin; others that then miss are told."""
    pinned = build.hold.work.pinned
    if not pinned:
        return None
    first: Floats | None = None
    spare = 0.0
    for one in pinned:
        hole, pin, fit = _pairing(build, one)
        at = build.poses[one.pin][:3, 3]
        shift = (at - hole.axis)[:2]
        if fit.most < 0:
            build.said("hold.pin_too_big", f"The pin does not go into its hole: {fit.said}, {-fit.most:.3f} mm too big at best.",
                       measured=round(pin.diameter, 4), limit=round(hole.diameter, 4), place=at)  # fmt: skip
        elif fit.least < -1e-9:
            build.said("hold.pin_tight", f"The pin may not go into its hole by hand: {fit.said}, from {-fit.least * 1000:.0f} µm too big to {fit.most * 1000:.0f} µm of play.",
                       measured=round(fit.least, 4), limit=0.0, place=at)  # fmt: skip
        play = max(fit.least, 0.0) / 2
        if first is None:
            first, spare = shift, play
            continue
        # A relieved pin has room along the line it is relieved on.
        apart = shift - first if fit.way is None else fit.way[:2] * ((shift - first) @ fit.way[:2])
        off = float(np.linalg.norm(apart))
        if off > play + spare + 1e-6:
            build.said(
                "hold.contradiction", f"The work cannot be on both pins: with its hole on {pinned[0].pin}, the one for {one.pin} is {off:.3f} mm off.",
                measured=round(off, 4), limit=round(play + spare, 4), place=at,
            )  # fmt: skip
    return first


def _pairing(build: _Build, one: Pinned) -> tuple[UprightHole, kinds.Pin, PinFit]:
    """A hole and the pin it goes on, with the work where it lies now."""
    hole = build.holes.get(one.hole.face)
    if hole is None:
        raise BadInput("hold.not_a_hole", "hold.work.pinned", f"face {one.hole.face} is no upright hole in this setup", "pick the wall of a hole")  # fmt: skip
    pin = next(build.fixture(i) for i in build.hold.items if i.id == one.pin)
    if not isinstance(pin, kinds.Pin):
        raise BadInput("hold.not_a_pin", "hold.work.pinned", f"{one.pin} is a {pin.called} and no pin", "choose a pin")  # fmt: skip
    return hole, pin, pin_fit(one.pin, pin, build.poses[one.pin], one.hole.face, hole, build.out.shift)


def _entering(build: _Build) -> dict[str, kinds.Pin]:
    """The pins that go into their holes: small enough, and the hole is in the work as it is now. What is not so is told."""
    out: dict[str, kinds.Pin] = {}
    solid = to_solid(build.work) if build.hold.work.pinned else None
    for one in build.hold.work.pinned:
        hole, pin, fit = _pairing(build, one)
        if fit.most < 0 or solid is None:
            continue
        core = kinds.rod(
            max(0.5, hole.diameter - CORE_PIN_MM), hole.low, min(hole.high, hole.low + pin.height)
        ).translate([float(hole.axis[0]), float(hole.axis[1]), 0.0])
        stands_in = (core ^ solid).volume()
        if stands_in > CORE_SHARE * core.volume():
            build.said("hold.hole_not_there", f"The work has no hole Ø{hole.diameter:g} for the pin {one.pin} yet: {stands_in:.0f} mm³ of material stand where the pin goes.",
                       measured=round(float(stands_in), 2), limit=0.0, place=fit.at)  # fmt: skip
            continue
        out[one.pin] = pin
    return out


def _under_the_work(build: _Build, entering: dict[str, kinds.Pin]) -> list[Piece]:
    """What the work can come to rest on. A pin that goes into its hole is only met by its top, as in a hole that is not deep enough."""
    out = []
    for piece in build.out.pieces:
        if piece.role == "body" and piece.name != "vise body":
            continue
        pin = entering.get(piece.item)
        if pin is not None:
            slim = mesh_of(kinds.rod(max(0.5, pin.diameter - SLIM_PIN_MM), 0, pin.height))
            piece = replace(piece, mesh=transformed(slim, build.poses[piece.item]))
        out.append(piece)
    return out


def _pins_entered(build: _Build, entering: dict[str, kinds.Pin]) -> None:
    """How far each pin stands in its hole now that the work lies."""
    for one in build.hold.work.pinned:
        if one.pin not in entering:
            continue
        hole, pin, fit = _pairing(build, one)
        if fit.depth <= 0:
            build.said("hold.pin_short", f"The pin {one.pin} does not reach into its hole Ø{hole.diameter:g}.", measured=0.0, limit=round(pin.diameter / 2, 3), place=fit.at)  # fmt: skip
            continue
        build.out.pins.append(fit)


def _carrier(build: _Build) -> Item | None:
    """The item that the work is put into and a vise holds: a shop's own solid, or a block that was not cut to the work."""
    chosen = next((i for i in build.hold.items if i.id == build.hold.work.on), None)
    if chosen is None or not isinstance(build.fixture(chosen), (kinds.Own, kinds.Block)):
        return None
    under = chosen
    while under.on != "table":
        under = build.base(under)
        if isinstance(build.fixture(under), kinds.Vise):
            return chosen
    return None


def _drop(build: _Build, lying: Mesh, rests: list[Piece]) -> Floats:
    found = travel(lying, _closed(rests), DOWN) if rests else None
    if found is None:
        # Nothing under it: it lies on the table.
        return np.array([0.0, 0.0, -float(lying.vertices[:, 2].min())])
    return DOWN * found[0]


def _push(build: _Build, lying: Mesh, shift: Floats, way: Floats, name: str, jaw: Piece | None) -> Floats:
    out = build.out
    here = transformed(lying, rigid(np.eye(3), shift + UP * SLIDE_MM - (out.closing if out.closing is not None and name != "the fixed jaw" else 0.0) * SLIDE_MM))  # fmt: skip
    middle = here.vertices.mean(axis=0) @ way
    if name == "the fixed jaw":
        assert jaw is not None
        targets = [jaw]
    else:
        targets = [
            p
            for p in out.pieces
            if p.role == "locates" and p.mesh.vertices.mean(axis=0) @ way > middle and p is not jaw
        ]
    found = travel(here, _closed(targets), way) if targets else None
    if found is None:
        build.said("hold.nothing_to_push_at", f"Nothing stops the work when it is pushed to the {name.removeprefix('the ')}.")  # fmt: skip
        return np.zeros(3)
    # What the work lies in may stop it first: a V-block keeps it from the jaw.
    others = [p for p in out.pieces if p.role in ("locates", "rests") and p not in targets]
    stopped = travel(here, _closed(others), way, -SLIDE_MM) if others else None
    if stopped is None or stopped[0] >= found[0]:
        return way * found[0]
    # Lifted as it is, it slides that far up a flank it lies on already.
    return way * (stopped[0] if stopped[0] > 2 * SLIDE_MM else 0.0)


def _jaw_item(build: _Build, vise: Item) -> tuple[Item, kinds.Jaws] | None:
    for item in build.hold.items:
        one = build.fixture(item)
        if item.on == vise.id and isinstance(one, kinds.Jaws):
            return item, one
    return None


def _jaw_pieces(build: _Build, vise: Item) -> Piece | None:
    """The fixed jaw, put on the vise; None when it has none."""
    found = _jaw_item(build, vise)
    if found is None:
        return None
    item, jaws = found
    pose = build.poses[vise.id] @ rigid(np.eye(3), np.array([0, 0, _vise(build, vise).bed_height]))
    cut = build.cut.get(item.id)
    mesh = cut.fixed if cut is not None else mesh_of(kinds.jaw(jaws))
    return Piece(item.id, "fixed jaw", "locates", transformed(mesh, pose))


def _close_vise(build: _Build, vise: Item, lying: Mesh) -> None:
    """Both jaws, the moving one driven until it meets something."""
    out, one = build.out, _vise(build, vise)
    pose = build.poses[vise.id]
    out.vise = one.name
    out.closing = turned(pose, np.array([0.0, 1.0, 0.0]))
    fixed = _jaw_pieces(build, vise)
    found = _jaw_item(build, vise)
    if fixed is None or found is None:
        build.said("hold.no_jaws", f"{one.name} has no jaws.")
        return
    item, jaws = found
    out.pieces.append(fixed)
    on_bed = pose @ rigid(np.eye(3), np.array([0.0, 0.0, one.bed_height]))
    back_to_front = rotation_about_z(180.0)
    widest = on_bed @ rigid(back_to_front, np.array([0.0, -one.opening_max, 0.0]))
    cut = build.cut.get(item.id)
    mesh = cut.moving if cut is not None and cut.moving is not None else mesh_of(kinds.jaw(jaws))
    waiting = transformed(mesh, widest)
    others = [p for p in out.pieces if p.role in ("locates", "rests") and p is not fixed]
    stops: list[tuple[str, float]] = []
    # Lowered a touch: the work may stand on a floor that the jaw brings along.
    # Jaws that were cut to the work go on it from just open: their walls may lean, and stand round it.
    ahead = (
        max(0.0, one.opening_max - cut.opening - CUT_OPEN_MM)
        if cut is not None and cut.moving is not None
        else 0.0
    )
    slid = transformed(waiting, rigid(np.eye(3), DOWN * SLIDE_MM + out.closing * ahead))
    for name, target in [("work", lying), ("the other jaw", fixed.mesh), *((p.name, p.mesh) for p in others)]:
        way = travel(slid, target, out.closing, -1e9 if ahead == 0.0 else -OVERLAP_MM)
        if way is not None:
            stops.append((name, way[0] + ahead))
    distance = min((d for _, d in stops), default=0.0)
    out.met = [name for name, d in stops if d < distance + SLIDE_MM]
    out.free_gap = next((d - distance for name, d in stops if name == "the other jaw"), None)
    out.opening = (float(one.opening_max - distance), one.opening_max)
    force = (vise.force_kn or one.force_kn) * 1000
    at = rigid(np.eye(3), out.closing * distance)
    out.pieces.append(Piece(item.id, "moving jaw", "clamps", transformed(waiting, at), out.closing, force))
    slide = pose @ rigid(np.eye(3), np.array([0.0, distance - one.opening_max, 0.0]))
    build.add(vise, Solid("slide", "body", kinds.vise_slide(one)), slide)
    out.jaw_low, out.jaw_top = float(on_bed[2, 3]), float(on_bed[2, 3] + jaws.height)
    ends = moved(
        on_bed,
        np.array([[-jaws.width / 2, -jaws.thickness, 0.0], [jaws.width / 2, -jaws.thickness, jaws.height]]),
    )
    out.jaw_span = (ends.min(axis=0), ends.max(axis=0))


def _parallel_items(build: _Build, vise: Item) -> list[tuple[Item, kinds.Parallels, float]]:
    out = []
    for item in build.hold.items:
        one = build.fixture(item)
        if isinstance(one, kinds.Parallels) and item.on == vise.id:
            out.append((item, one, one.heights[0] if item.height is None else item.height))
    return out


def _flat_parallels(build: _Build, vise: Item | None) -> list[Piece]:
    """A floor at the height of the parallels, for as long as it is not known how far apart they stand."""
    if vise is None:
        return []
    one, pieces = _vise(build, vise), []
    for item, _, height in _parallel_items(build, vise):
        floor = kinds.cuboid((-one.jaw_width, -one.body_length, 0), (one.jaw_width, 0, height))
        pose = build.poses[vise.id] @ rigid(np.eye(3), np.array([0.0, 0.0, one.bed_height]))
        pieces.append(Piece(item.id, "parallels", "rests", transformed(mesh_of(floor), pose)))
    return pieces


def _parallels(build: _Build, vise: Item) -> list[Piece]:
    """The pair against the jaws: rear at the fixed, front at the moving one."""
    out, one = build.out, _vise(build, vise)
    found = _jaw_item(build, vise)
    if found is None or out.opening is None:
        return []
    jaws = found[1]
    pose = build.poses[vise.id]
    pieces = []
    for item, pair, height in _parallel_items(build, vise):
        if height not in pair.heights:
            near = min(pair.heights, key=lambda h: abs(h - height))
            build.said("hold.height", f"{pair.name} has no pair {height:g} mm high.", measured=height, limit=near,
                       cure=(f"Parallels {near:g} mm", f"items/{item.id}/height", near))  # fmt: skip
        room = out.opening[0] - 2 * jaws.thickness
        if room < 2 * pair.thickness:
            build.said("hold.parallels_too_thick", f"Two parallels of {pair.thickness:g} mm do not fit between jaws {room:.1f} mm apart.",
                       measured=2 * pair.thickness, limit=round(room, 3))  # fmt: skip
            continue
        body = pair.solids(height)[0].body
        for name, y in (("rear parallel", -jaws.thickness - pair.thickness / 2),
                        ("front parallel", -out.opening[0] + jaws.thickness + pair.thickness / 2)):  # fmt: skip
            at = pose @ rigid(np.eye(3), np.array([item.x, y, one.bed_height]))
            pieces.append(Piece(item.id, name, "rests", transformed(mesh_of(body), at)))
    return pieces


def _close_clamp(build: _Build, item: Item) -> None:
    """A clamp onto the work: a strap comes down on it, a toe clamp goes forward against it."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Clamp)
    pose = build.poses[item.id]
    lying = transformed(build.work, rigid(np.eye(3), build.out.shift))
    arm = mesh_of(kinds.clamp_arm(one))
    force = (item.force_kn or one.force_kn) * 1000 * (1 - one.bolt_from_nose / one.heel_from_nose)
    if one.style == "toe":
        way = turned(pose, np.array([0.0, 1.0, 0.0]))
        start = transformed(arm, rigid(np.eye(3), -2000 * way) @ pose)
        found = travel(start, lying, way)
        if found is None:
            build.said("hold.clamp_misses", f"{one.name} ({item.id}) goes past the work.", place=pose[:3, 3])
            at = pose
        else:
            at = rigid(np.eye(3), way * (found[0] - 2000)) @ pose
        # A toe pushes down a little too: 15° is common practice, no source.
        push = way * np.cos(np.radians(15)) + DOWN * np.sin(np.radians(15))
        build.out.pieces.append(Piece(item.id, "toe clamp", "clamps", transformed(arm, at), push, force))
        return
    high = float(lying.vertices[:, 2].max()) + 500
    raised = rigid(pose[:3, :3], np.array([*pose[:2, 3], high]))
    nose = mesh_of(
        kinds.clamp_arm(one) ^ kinds.cuboid((-one.width, -one.nose, -1), (one.width, 1, one.thickness + 1))
    )
    found = travel(transformed(nose, raised), lying, DOWN)
    if found is None:
        build.said("hold.clamp_misses", f"{one.name} ({item.id}) does not reach over the work.", place=pose[:3, 3])  # fmt: skip
        build.out.pieces.append(Piece(item.id, "strap clamp", "clamps", transformed(arm, pose), DOWN, force))
        return
    rise = high - found[0] - pose[2, 3]
    at = rigid(pose[:3, :3], np.array([*pose[:2, 3], high - found[0]]))
    if not one.rise_min <= rise <= one.rise_max:
        build.said("hold.clamp_rise", f"{one.name} ({item.id}) would stand {rise:.1f} mm high; it takes {one.rise_min:g} to {one.rise_max:g}.",
                   measured=round(float(rise), 3), limit=one.rise_max, place=at[:3, 3])  # fmt: skip
    build.out.pieces.append(Piece(item.id, "strap clamp", "clamps", transformed(arm, at), DOWN, force))
    if rise > 1.0:
        heel = kinds.cuboid(
            (-one.width / 2, -one.heel_from_nose - 12, -rise),
            (one.width / 2, -one.heel_from_nose + 8, 0.25 * one.thickness),
        )
        build.add(item, Solid("heel block", "body", heel), at)
    d, head, tall, _ = kinds.SCREWS[one.thread]
    stud = kinds.rod(d, -rise, one.thickness + tall, 0.0, -one.bolt_from_nose) + kinds.rod(head, one.thickness, one.thickness + tall, 0.0, -one.bolt_from_nose)  # fmt: skip
    build.add(item, Solid("stud", "body", stud), at)


def _close_chuck(build: _Build, item: Item) -> None:
    """All jaws of a chuck go in together until the first touches."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Chuck)
    pose = build.poses[item.id]
    lying = transformed(build.work, rigid(np.eye(3), build.out.shift))
    jaw = mesh_of(kinds.chuck_jaw(one))
    ways, starts = [], []
    for k in range(one.jaws):
        turn = pose @ rigid(rotation_about_z(360.0 * k / one.jaws), np.zeros(3))
        ways.append(turned(turn, np.array([0.0, -1.0, 0.0])))
        starts.append(
            transformed(
                jaw, turn @ rigid(np.eye(3), np.array([0.0, one.diameter / 2 - one.jaw_length / 3, 0.0]))
            )
        )
    found = [
        travel(transformed(start, rigid(np.eye(3), UP * SLIDE_MM)), lying, way)
        for start, way in zip(starts, ways, strict=True)
    ]
    inward = [f[0] for f in found if f is not None]
    if not inward:
        build.said("hold.chuck_misses", f"The jaws of {one.name} close past the work.", place=pose[:3, 3])
    elif min(inward) < -1e-6:
        build.said("hold.opening", f"{one.name} does not open wide enough: {-min(inward):.1f} mm more on each jaw.",
                   measured=round(-min(inward), 3), limit=0.0)  # fmt: skip
    distance = min(inward, default=0.0)
    force = (item.force_kn or one.force_kn) * 1000
    for k, (start, way) in enumerate(zip(starts, ways, strict=True)):
        at = rigid(np.eye(3), way * distance)
        build.out.pieces.append(Piece(item.id, f"jaw {k + 1}", "clamps", transformed(start, at), way, force))


def _drive_bolt(build: _Build, item: Item) -> None:
    """A bolt from below into the part's own thread, or through a hole of the work from above."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Bolt)
    d, head, tall, _ = kinds.SCREWS[one.thread]
    pose = build.poses[item.id].copy()
    shift = build.out.shift
    if item.into is not None:
        # Its head lies under what it goes through.
        if item.on != "table":
            pose[2, 3] = build.poses[item.on][2, 3] + item.z
        axis = build.holes.get(item.into.face)
        if axis is None:
            raise BadInput("hold.not_a_hole", "hold.items", f"{item.id}: face {item.into.face} is no upright hole in this setup", "pick the wall of a hole")  # fmt: skip
        at = axis.axis + shift
        mouth = axis.low + shift[2]
        held = pose[2, 3] + one.length - mouth
        pose[:2, 3] = at[:2]
        if held < THREAD_HOLDS * d:
            build.said("hold.bolt_short", f"{one.name} ({item.id}) holds in {max(0.0, held):.1f} mm of thread; {THREAD_HOLDS * d:g} wanted.",
                       measured=round(float(held), 3), limit=THREAD_HOLDS * d, place=at)  # fmt: skip
        body = kinds.rod(kinds.core_diameter(one.thread), 0, one.length) + kinds.rod(head, -tall, 0)
        force = (item.force_kn or 0.1 * d * d) * 1000
        build.out.pieces.append(
            Piece(item.id, "bolt from below", "clamps", transformed(mesh_of(body), pose), DOWN, force)
        )
        return
    lying = transformed(build.work, rigid(np.eye(3), shift))
    high = float(lying.vertices[:, 2].max()) + 500
    raised = rigid(np.eye(3), np.array([*pose[:2, 3], high]))
    washer = mesh_of(kinds.rod(head, 0, tall) - kinds.rod(d * 0.9, -1, tall + 1))
    found = travel(transformed(washer, raised), lying, DOWN)
    if found is None:
        build.said(
            "hold.clamp_misses", f"{one.name} ({item.id}) has no work under its head.", place=pose[:3, 3]
        )
        return
    top = high - found[0]
    held = one.length - (top - pose[2, 3])
    if held < THREAD_HOLDS * d:
        build.said("hold.bolt_short", f"{one.name} ({item.id}) holds in {max(0.0, held):.1f} mm of thread; {THREAD_HOLDS * d:g} wanted.",
                   measured=round(float(held), 3), limit=THREAD_HOLDS * d, place=pose[:3, 3])  # fmt: skip
    at = rigid(np.eye(3), np.array([*pose[:2, 3], top]))
    force = (item.force_kn or 0.1 * d * d) * 1000
    body = kinds.rod(d * 0.85, -one.length, 0) + kinds.rod(head, 0, tall)
    build.out.pieces.append(Piece(item.id, "bolt", "clamps", transformed(mesh_of(body), at), DOWN, force))


def overlaps(
    work: Mesh, solid: manifold3d.Manifold, pieces: list[Piece]
) -> list[tuple[Piece, float, Floats]]:
    """Pieces that stand in the work: each with how deep and where. solid: the work for exact operations."""
    out = []
    for piece in pieces:
        both = solid ^ to_solid(piece.mesh)
        if both.is_empty() or both.volume() < 1e-3:
            continue
        # The common part's corners on one's surface lie as deep in the other as it goes.
        points = mesh_of(both).vertices
        depth = np.maximum(-signed_distance(points, piece.mesh), -signed_distance(points, work))
        worst = int(np.argmax(depth))
        if depth[worst] > OVERLAP_MM:
            out.append((piece, float(depth[worst]), points[worst]))
    return out
