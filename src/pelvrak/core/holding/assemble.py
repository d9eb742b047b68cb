"""Where does everything stand? The holding built up in its order by contact, the work laid in, the clamps
closed.

All in the layout frame: the table's top is z 0, its front left corner the origin, the axes those of the
machine. The work comes in the setup's orientation and is only ever moved, never turned.
"""

from __future__ import annotations

from dataclasses import replace

import manifold3d
import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import Floats, Mesh, joined, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import moved, rigid, rotation_about_z, turned
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import Assembly, Build, Piece, Shapes
from pelvrak.core.holding.chucks import close_chuck, into_collet, press_centre
from pelvrak.core.holding.closing import close_clamp, drive_bolt, holder_of
from pelvrak.core.holding.contact import travel
from pelvrak.core.holding.fixture import drawn_solids
from pelvrak.core.holding.hold import Hold, Item, Pinned
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.holding.mating import placed
from pelvrak.core.holding.nest import BLOCK_SCREW
from pelvrak.core.holding.pins import PinFit, pin_fit
from pelvrak.core.holding.settling import settled
from pelvrak.core.holding.vises import (
    DOWN,
    OVERLAP_MM,
    SLIDE_MM,
    UP,
    centred,
    close_vise,
    fixed_jaw,
    flat_parallels,
    jaws_on,
    parallel_items,
    parallels_under,
    rear_after,
    step_of,
    vise_of,
)
from pelvrak.core.stock.compare import signed_distance

# A pin is met by its top only within this of its diameter; a hole counts as there when a core so much thinner
# goes through all but a share of it, mm.
SLIM_PIN_MM, CORE_PIN_MM, CORE_SHARE = 0.4, 0.15, 0.002
WAYS: dict[str, Floats] = {
    "left": np.array([-1.0, 0, 0]),
    "right": np.array([1.0, 0, 0]),
    "front": np.array([0, -1.0, 0]),
    "back": np.array([0, 1.0, 0]),
}


def assemble(hold: Hold, fixtures: dict[str, Fixture], work: Mesh, shapes: Shapes | None = None) -> Assembly:
    """Build up a holding round the work.

    work: its surface in the setup's orientation. Raises BadInput for fixtures that are not there or do not go
    together.
    """
    build = Build(hold, fixtures, work, shapes or Shapes())
    for item in hold.items:
        _stand(build, item)
    if not hold.items:
        return build.out
    _lay_in(build)
    close = {
        kinds.Clamp: close_clamp,
        kinds.Chuck: close_chuck,
        kinds.Tailstock: press_centre,
        kinds.Bolt: drive_bolt,
    }
    for item in hold.items:
        closes = next((how for kind, how in close.items() if isinstance(build.fixture(item), kind)), None)
        if closes is not None:
            closes(build, item)
    return build.out


def standing_at(hold: Hold, fixtures: dict[str, Fixture], item_id: str) -> Floats:
    """layout_from_item, 4×4, of an item that does not wait for the work."""
    build = Build(
        hold, fixtures, Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int64), np.zeros(0, np.int64)), Shapes()
    )
    for item in hold.items:
        build.poses[item.id] = _pose(build, item, build.fixture(item))
        if item.id == item_id:
            break
    return build.poses[item_id]


def _stand(build: Build, item: Item) -> None:
    """Put one fixture where it stands, unless it waits for the work."""
    one = build.fixture(item)
    pose = _pose(build, item, one)
    build.poses[item.id] = pose
    if one.waits or (item.rides is not None and _on_jaws(build, item)):
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
        mesh = build.shapes.own.get(item.id)
        if mesh is None:
            raise BadInput(
                "hold.no_file", "hold.items", f"{item.id}: {one.file} is not here", "bring the file again"
            )
        build.out.pieces.append(Piece(item.id, one.name, "locates", transformed(mesh, pose)))
        return
    if isinstance(one, kinds.Block) and item.cut is not None and item.id in build.shapes.cut:
        nest = build.shapes.cut[item.id]
        build.out.pieces.append(Piece(item.id, "nest", "locates", transformed(nest.fixed, pose)))
        for screw in nest.screws:
            build.out.pieces.append(Piece(item.id, BLOCK_SCREW, "body", transformed(screw, pose)))
        return
    for solid, mesh in drawn_solids(one, item.height):
        standing = transformed(mesh, pose)
        build.out.pieces.append(Piece(item.id, solid.name, solid.role, standing, draws=one.draws()))


def _on_jaws(build: Build, item: Item) -> bool:
    """Whether an item stands on the jaws of a vise; it then goes with the one it rides on."""
    return item.on != "table" and isinstance(build.fixture(build.base(item)), kinds.Jaws)


def _pose(build: Build, item: Item, one: Fixture) -> Floats:
    """layout_from_item, 4×4."""
    turn = rotation_about_z(item.turn_deg)
    at = np.array([item.x, item.y, item.z])
    if isinstance(one, kinds.Riser) and item.height is not None and item.height not in one.heights:
        raise BadInput(
            "hold.height",
            "hold.items",
            f"{item.id}: {one.name} has no height {item.height:g} mm",
            "one of " + ", ".join(f"{h:g}" for h in one.heights),
        )
    if item.mates:
        return _stationed(item, one, placed(item.mates, build.poses, item.id))
    if item.on == "table":
        return _stationed(item, one, rigid(turn, at))
    base = build.base(item)
    under, pose = build.fixture(base), build.poses[base.id]
    if isinstance(under, kinds.Plate):
        stands = rigid(turn, _on_plate(build, item, one, under) + at)
    elif isinstance(under, kinds.Vise):
        stands = _in_vise(build, item, one, under)
    else:
        stands = rigid(turn, np.array([0.0, 0.0, under.top(base.height)]) + at)
    return _stationed(item, one, np.asarray(pose @ stands))


def _stationed(item: Item, one: Fixture, pose: Floats) -> Floats:
    """A double vise as its station at the back sees it, where the work is in that one: turned half round its
    middle block, it is the same vise.
    """
    if not isinstance(one, kinds.Vise) or one.style != "double" or item.station == "front":
        return pose
    return np.asarray(pose @ rigid(rotation_about_z(180.0), np.array([0.0, one.block, 0.0])))


def _on_plate(build: Build, item: Item, one: Fixture, plate: kinds.Plate) -> Floats:
    """Where on a plate an item stands: in its middle, or at one of its holes."""
    middle = np.array([0.0, 0.0, plate.thickness])
    if item.hole is None:
        return middle
    grid = kinds.plate_holes(plate)
    if item.hole[0] >= grid.shape[0] or item.hole[1] >= grid.shape[1]:
        raise BadInput(
            "hold.no_hole",
            "hold.items",
            f"{item.id}: {plate.name} has {grid.shape[0]} × {grid.shape[1]} holes",
            "choose a hole of the plate",
        )
    middle[:2] = grid[item.hole]
    _hole_suits(build, item, one, plate)
    return middle


def _in_vise(build: Build, item: Item, one: Fixture, vise: kinds.Vise) -> Floats:
    """vise_from_item, 4×4: on its bed, a stop at the end of its jaws, what the jaws hold with its side
    against the fixed one.
    """
    turn = rotation_about_z(item.turn_deg)
    bed, at = np.array([0.0, 0.0, vise.bed_height]), np.array([item.x, item.y, item.z])
    jaws = jaws_on(build, build.base(item))
    # Between jaws that both move, things stand in the middle.
    middle = -vise.opening_max / 2
    if isinstance(one, kinds.Stop):
        sign = 1.0 if item.side == "right" else -1.0
        wide, thick = (jaws.fixed.width, jaws.rear) if jaws else (vise.jaw_width, 0.0)
        half = one.tip_diameter / 2
        y = middle if vise.centres else -thick - half - 2.0
        tip = np.array([sign * (wide / 2 - 5.0), y, vise.jaw_height - half])
        return rigid(rotation_about_z(0.0 if sign > 0 else 180.0), bed + tip + at)
    if isinstance(one, (kinds.VBlock, kinds.ColletBlock, kinds.Riser, kinds.Block)):
        wide = one.across if isinstance(one, kinds.ColletBlock) else one.width
        c, t = abs(np.cos(np.radians(item.turn_deg))), abs(np.sin(np.radians(item.turn_deg)))
        y = -(jaws.rear if jaws else 0.0) - (c * wide + t * one.length) / 2
        return rigid(turn, bed + [0.0, middle if vise.centres else y, 0.0] + at)
    return rigid(turn, bed + at)


def _hole_suits(build: Build, item: Item, one: Fixture, plate: kinds.Plate) -> None:
    """Pins stand in dowel holes, bolts in tapped ones: of a plate they take turns."""
    assert item.hole is not None
    tapped = sum(item.hole) % 2 == 0
    column, row = item.hole
    beside = [column + 1 if column + 1 < kinds.plate_holes(plate).shape[0] else column - 1, row]
    if isinstance(one, kinds.Pin) and tapped:
        build.said(
            "hold.pin_in_thread",
            f"The pin {item.id} stands in a tapped hole {plate.thread} of {plate.name}, not in a dowel hole"
            f" Ø{plate.dowel:g}.",
            measured=None,
            limit=None,
            place=None,
            cure=("The dowel hole beside it", item.id, "hole", beside),
        )
    if isinstance(one, kinds.Bolt) and not tapped:
        build.said(
            "hold.bolt_in_dowel",
            f"The bolt {item.id} goes into a dowel hole Ø{plate.dowel:g} of {plate.name}, which has no"
            " thread.",
            measured=None,
            limit=None,
            place=None,
            cure=("The tapped hole beside it", item.id, "hole", beside),
        )


def _closed(pieces: list[Piece]) -> Mesh:
    return joined([piece.mesh for piece in pieces])


def _lay_in(build: Build) -> None:
    """The work onto what it rests on, against what it is pushed, and the vise closed on it."""
    hold = build.hold
    vise_item = next((i for i in hold.items if isinstance(build.fixture(i), kinds.Vise)), None)
    nest_item = next((i for i in hold.items if i.id in build.shapes.cut), None)
    collet = next((i for i in hold.items if isinstance(build.fixture(i), kinds.ColletBlock)), None)
    rests: list[Piece] = []
    if nest_item is not None:
        _into_nest(build, nest_item, vise_item)
    elif collet is not None:
        into_collet(build, collet)
    else:
        rests = _onto_rests(build, vise_item)
    if vise_item is None:
        return
    close_vise(build, vise_item, build.lying(build.out.shift))
    parallels = [] if nest_item is not None or collet is not None else parallels_under(build, vise_item)
    # Only now it is known where the front one stands: the work comes down onto the real ones.
    on_steps = parallels and step_of(build, vise_item) > max(h for *_, h in parallel_items(build, vise_item))
    if parallels and not on_steps and build.out.carrier is None:
        build.out.shift = build.out.shift + _drop(build, build.lying(build.out.shift), [*rests, *parallels])
    build.out.pieces += parallels


def _into_nest(build: Build, nest_item: Item, vise_item: Item | None) -> None:
    """Into cut jaws, or a nest block; the turn was taken into the work before, only its place is left."""
    place = build.shapes.cut[nest_item.id].place
    if vise_item is None or isinstance(build.fixture(nest_item), kinds.Block):
        build.out.shift = moved(build.poses[nest_item.id], place)
    else:
        one = vise_of(build, vise_item)
        bed = np.array([0.0, rear_after(one, build.shapes.cut[nest_item.id].opening), one.bed_height])
        build.out.shift = moved(build.poses[vise_item.id], place + bed)


def _onto_rests(build: Build, vise_item: Item | None) -> list[Piece]:
    """Down onto pins, pads and parallels, then against jaw, stops and holder; what it rests on."""
    out, hold = build.out, build.hold
    middle = (build.work.vertices.min(axis=0) + build.work.vertices.max(axis=0)) / 2
    shift = np.array([*(_host(build, vise_item) - middle)[:2], 0.0])
    pinned = _on_pins(build)
    if pinned is not None:
        shift[:2] = pinned
    entering = _entering(build)
    rests = _under_the_work(build, entering)
    shift = shift + _drop(build, build.lying(shift), [*rests, *flat_parallels(build, vise_item)])
    pushes: list[tuple[str, Floats]] = [(way, WAYS[way]) for way in hold.work.pushed]
    jaw = None if vise_item is None else fixed_jaw(build, vise_item)
    carrier = _carrier(build)
    if vise_item is not None:
        out.closing = turned(build.poses[vise_item.id], np.array([0.0, 1.0, 0.0]))
        if jaw is not None and carrier is None:
            pushes.insert(0, ("the fixed jaw", out.closing))
    if carrier is not None:
        out.carrier = carrier.id
        # The holder is against the jaw; the work lies where the holder wants it.
        if not hold.work.pushed:
            shift = shift + settled(build.lying(shift), _closed(rests))
    if vise_item is not None and carrier is None and vise_of(build, vise_item).centres:
        shift = shift + centred(build, vise_item, build.lying(shift))
    for name, way in pushes:
        shift = shift + _push(build, build.work, shift, way, name, jaw)
    off = next((i.stand_off for i in hold.items if isinstance(build.fixture(i), kinds.Chuck)), 0.0)
    out.shift = shift + UP * off
    _pins_entered(build, entering)
    return rests


def _host(build: Build, vise: Item | None) -> Floats:
    """Where the work's middle goes before it is pushed."""
    hold = build.hold
    chosen = next((i for i in hold.items if i.id == hold.work.on), None)
    if chosen is None:
        suits = (kinds.VBlock, kinds.Chuck, kinds.Block, kinds.ColletBlock)
        chosen = next((i for i in hold.items if _takes_work(build.fixture(i), suits)), None) or vise
        chosen = chosen or next(
            (i for i in hold.items if isinstance(build.fixture(i), kinds.Plate)), hold.items[0]
        )
    pose = build.poses[chosen.id]
    offset = np.array([hold.work.x, hold.work.y, 0.0])
    if isinstance(build.fixture(chosen), kinds.Vise):
        # Along the jaws; across, it will be pushed against the fixed one, or brought to the middle.
        one = vise_of(build, chosen)
        return np.asarray(moved(pose, np.array([hold.work.x, -one.opening_max / 2, 0.0])))
    return np.asarray(pose[:3, 3] + turned(pose, offset))


def _takes_work(one: Fixture, suits: tuple[type[Fixture], ...]) -> bool:
    """Whether work is laid into a fixture before it is laid on others: one of these kinds, or one that draws
    it.
    """
    return isinstance(one, suits) or one.draws() is not None


def _on_pins(build: Build) -> Floats | None:
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
            build.said(
                "hold.pin_too_big",
                f"The pin does not go into its hole: {fit.said}, {-fit.most:.3f} mm too big at best.",
                measured=round(pin.diameter, 4),
                limit=round(hole.diameter, 4),
                place=at,
                cure=_other_pin(build, one, pin, hole),
            )
        elif fit.least < -1e-9:
            build.said(
                "hold.pin_tight",
                f"The pin may not go into its hole by hand: {fit.said}, from {-fit.least * 1000:.0f} µm too"
                f" big to {fit.most * 1000:.0f} µm of play.",
                measured=round(fit.least, 4),
                limit=0.0,
                place=at,
                cure=_other_pin(build, one, pin, hole),
            )
        play = max(fit.least, 0.0) / 2
        if first is None:
            first, spare = shift, play
            continue
        # A relieved pin has room along the line it is relieved on.
        apart = shift - first if fit.way is None else fit.way[:2] * ((shift - first) @ fit.way[:2])
        off = float(np.linalg.norm(apart))
        if off > play + spare + 1e-6:
            build.said(
                "hold.contradiction",
                f"The work cannot be on both pins: with its hole on {pinned[0].pin}, the one for {one.pin} is"
                f" {off:.3f} mm off.",
                measured=round(off, 4),
                limit=round(play + spare, 4),
                place=at,
            )
    return first


def _other_pin(
    build: Build, one: Pinned, pin: kinds.Pin, hole: UprightHole
) -> tuple[str, str, str, str] | None:
    """The library's pin that goes into a hole with the least play, of the kind of the one that does not."""
    fits: list[tuple[float, str, kinds.Pin]] = []
    for other in build.fixtures.values():
        if not isinstance(other, kinds.Pin) or other.relieved != pin.relieved:
            continue
        fit = pin_fit(one.pin, other, build.poses[one.pin], one.hole.face, hole, build.out.shift)
        if fit.least >= -1e-9:
            fits.append((fit.most, other.id, other))
    if not fits:
        return None
    best = min(fits)[2]
    return f"Use {best.name}: {min(fits)[0] * 1000:.0f} µm of play at most", one.pin, "fixture", best.id


def _pairing(build: Build, one: Pinned) -> tuple[UprightHole, kinds.Pin, PinFit]:
    """A hole and the pin it goes on, with the work where it lies now."""
    hole = build.shapes.holes.get(one.hole.face)
    if hole is None:
        raise BadInput(
            "hold.not_a_hole",
            "hold.work.pinned",
            f"face {one.hole.face} is no upright hole in this setup",
            "pick the wall of a hole",
        )
    pin = next(build.fixture(i) for i in build.hold.items if i.id == one.pin)
    if not isinstance(pin, kinds.Pin):
        raise BadInput(
            "hold.not_a_pin", "hold.work.pinned", f"{one.pin} is a {pin.called} and no pin", "choose a pin"
        )
    return hole, pin, pin_fit(one.pin, pin, build.poses[one.pin], one.hole.face, hole, build.out.shift)


def _entering(build: Build) -> dict[str, kinds.Pin]:
    """The pins that go into their holes: small enough, and the hole is in the work as it is now. What is not
    so is told.
    """
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
            build.said(
                "hold.hole_not_there",
                f"The work has no hole Ø{hole.diameter:g} for the pin {one.pin} yet: {stands_in:.0f} mm³ of"
                " material stand where the pin goes.",
                measured=round(float(stands_in), 2),
                limit=0.0,
                place=fit.at,
            )
            continue
        out[one.pin] = pin
    return out


def _under_the_work(build: Build, entering: dict[str, kinds.Pin]) -> list[Piece]:
    """What the work can come to rest on. A pin that goes into its hole is only met by its top, as in a hole
    that is not deep enough.
    """
    out = []
    for piece in build.out.pieces:
        if piece.role == "body" and piece.name != "vise body":
            continue
        pin = entering.get(piece.item) if piece.name == "pin" else None
        if pin is not None:
            slim = mesh_of(kinds.rod(max(0.5, pin.diameter - SLIM_PIN_MM), 0, pin.height))
            piece = replace(piece, mesh=transformed(slim, build.poses[piece.item]))
        out.append(piece)
    return out


def _pins_entered(build: Build, entering: dict[str, kinds.Pin]) -> None:
    """How far each pin stands in its hole now that the work lies."""
    for one in build.hold.work.pinned:
        if one.pin not in entering:
            continue
        hole, pin, fit = _pairing(build, one)
        if fit.depth <= 0:
            build.said(
                "hold.pin_short",
                f"The pin {one.pin} does not reach into its hole Ø{hole.diameter:g}.",
                measured=0.0,
                limit=round(pin.diameter / 2, 3),
                place=fit.at,
            )
            continue
        build.out.pins.append(fit)


def _carrier(build: Build) -> Item | None:
    """The item that the work is put into and a vise holds: a shop's own solid, or a block that was not cut to
    the work.
    """
    chosen = holder_of(build)
    if chosen is None:
        return None
    below = build.hold.under(chosen.id)[:-1]
    held = (isinstance(build.fixture(one), kinds.Vise) for one in build.hold.items if one.id in below)
    return chosen if any(held) else None


def _drop(build: Build, lying: Mesh, rests: list[Piece]) -> Floats:
    found = travel(lying, _closed(rests), DOWN) if rests else None
    if found is None:
        # Nothing under it: it lies on the table.
        return np.array([0.0, 0.0, -float(lying.vertices[:, 2].min())])
    return DOWN * found[0]


def _push(build: Build, lying: Mesh, shift: Floats, way: Floats, name: str, jaw: Piece | None) -> Floats:
    out = build.out
    here = transformed(
        lying,
        rigid(
            np.eye(3),
            shift
            + UP * SLIDE_MM
            - (out.closing if out.closing is not None and name != "the fixed jaw" else 0.0) * SLIDE_MM,
        ),
    )
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
        build.said(
            "hold.nothing_to_push_at",
            f"Nothing stops the work when it is pushed to the {name.removeprefix('the ')}.",
        )
        return np.zeros(3)
    # What the work lies in may stop it first: a V-block keeps it from the jaw.
    met = {id(p) for p in targets}
    others = [p for p in out.pieces if p.role in ("locates", "rests") and id(p) not in met]
    stopped = travel(here, _closed(others), way, -SLIDE_MM) if others else None
    if stopped is None or stopped[0] >= found[0]:
        return way * found[0]
    # Lifted as it is, it slides that far up a flank it lies on already.
    return way * (stopped[0] if stopped[0] > 2 * SLIDE_MM else 0.0)


def overlaps(
    work: Mesh, solid: manifold3d.Manifold, pieces: list[Piece]
) -> list[tuple[Piece, float, Floats]]:
    """Pieces that stand in the work: each with how deep and where. solid: the work for exact operations."""
    out = []
    low, high = work.vertices.min(axis=0), work.vertices.max(axis=0)
    for piece in pieces:
        common = np.minimum(high, piece.mesh.vertices.max(axis=0)) - np.maximum(
            low, piece.mesh.vertices.min(axis=0)
        )
        if common.min() <= OVERLAP_MM:
            continue
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
