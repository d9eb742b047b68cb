"""How do clamps and bolts close on the work? All in the layout frame."""

from __future__ import annotations

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, transformed
from pelvrak.core.geometry.rigid import rigid, turned
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import Build, Piece
from pelvrak.core.holding.contact import travel
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.kinds import Solid
from pelvrak.core.holding.vises import DOWN, SLIDE_MM

# From so far away a clamp goes forward until it meets something, mm.
FAR_MM = 2000.0
# Common practice, no source: a bolt holds in as many turns as its diameter is long, and lightly by half of
# it.
THREAD_HOLDS = 1.0


def close_clamp(build: Build, item: Item) -> None:
    """A clamp onto the work, or onto what carries it where that is met first: a strap or toggle comes down, a
    toe or side clamp goes forward against it.
    """
    one = build.fixture(item)
    assert isinstance(one, kinds.Clamp)
    if one.bolted:
        bolt = build.screwed(item, one.thread, one.force_kn * 1000)
    else:
        bolt = (item.force_kn or one.force_kn) * 1000
    force = one.nose_force(bolt)
    lying = build.lying(build.out.shift)
    sideways = one.style in ("toe", "side")
    (_forward if sideways else _downward)(build, item, one, lying, force)


def _met_first(build: Build, moving: Mesh, lying: Mesh, way: Floats) -> tuple[float, bool] | None:
    """How far something goes until it meets the work, or what carries it; and whether it is the work. None
    where it goes past both.
    """
    carrier = holder_of(build)
    holder = [] if carrier is None else [p for p in build.out.pieces if p.item == carrier.id]
    ways = [(travel(moving, lying, way), True)]
    ways += [(travel(moving, piece.mesh, way), False) for piece in holder]
    met = [(found[0], work) for found, work in ways if found is not None]
    # What stands level with the work does not take it from the clamp.
    return min(met, key=lambda one: one[0] - (SLIDE_MM if one[1] else 0.0), default=None)


def holder_of(build: Build) -> Item | None:
    """The item the work is put into that carries it: a shop's own solid, or a block that was not cut to
    it.
    """
    chosen = next((i for i in build.hold.items if i.id == build.hold.work.on), None)
    carries = chosen is not None and isinstance(build.fixture(chosen), (kinds.Own, kinds.Block))
    return chosen if carries else None


def _pressing(
    build: Build, item: Item, name: str, mesh: Mesh, push: Floats, force: float, work: bool
) -> None:
    """What presses, as a piece: on the work, or on what carries it, which then is all it holds."""
    if not work:
        carrier = holder_of(build)
        assert carrier is not None
        build.out.beside[item.id] = build.fixture(carrier).name
    piece = Piece(item.id, name, "clamps", mesh, push if work else None, force if work else 0.0)
    build.out.pieces.append(piece)


def _forward(build: Build, item: Item, one: kinds.Clamp, lying: Mesh, force: float) -> None:
    """A toe, or a side clamp's plunger, against the side of the work."""
    pose = build.poses[item.id]
    way = turned(pose, np.array([0.0, 1.0, 0.0]))
    name = f"{one.style} clamp"
    tip = kinds.clamp_arm(one) if one.style == "toe" else kinds.plunger(one, 0.0)
    start = transformed(mesh_of(tip), rigid(np.eye(3), -FAR_MM * way) @ pose)
    found = _met_first(build, start, lying, way)
    if found is None:
        build.said("hold.clamp_misses", f"{one.name} ({item.id}) goes past the work.", place=pose[:3, 3])
    goes, work = (FAR_MM, True) if found is None else found
    out = goes - FAR_MM
    down = np.radians(one.down_deg)
    push = way * np.cos(down) + DOWN * np.sin(down)
    if one.style == "toe":
        at = rigid(np.eye(3), way * out) @ pose
        _pressing(build, item, name, transformed(mesh_of(tip), at), push, force, work)
        return
    build.add(item, Solid("side clamp body", "body", kinds.clamp_body(one)), pose)
    if found is not None and not one.rise_min <= out <= one.rise_max:
        _out_of_reach(build, item, one, out, pose)
    mesh = transformed(mesh_of(kinds.plunger(one, float(np.clip(out, 0.0, one.rise_max)))), pose)
    _pressing(build, item, name, mesh, push, force, work)


def _out_of_reach(build: Build, item: Item, one: kinds.Clamp, out: float, pose: Floats) -> None:
    """Told where a side clamp's plunger would have to come out too far, or not at all, with where it would
    stand well.
    """
    wanted = (one.rise_min + one.rise_max) / 2
    way = turned(pose, np.array([0.0, 1.0, 0.0]))
    along = int(np.argmax(np.abs(way)))
    goes = (out - wanted) * float(way[along])
    field, value = ("x", item.x) if along == 0 else ("y", item.y)
    square = abs(way[along]) > 1 - 1e-9 and along < 2 and item.on == "table"
    build.said(
        "hold.clamp_rise",
        f"The plunger of {one.name} ({item.id}) would come out {out:.1f} mm; it takes {one.rise_min:g} to"
        f" {one.rise_max:g}.",
        measured=round(out, 3),
        limit=one.rise_max,
        place=pose[:3, 3],
        cure=(f"Move it to {field.upper()} {value + goes:.1f}", item.id, field, round(value + goes, 2))
        if square
        else None,
    )


def _downward(build: Build, item: Item, one: kinds.Clamp, lying: Mesh, force: float) -> None:
    """A strap, or a toggle's spindle, from above."""
    pose = build.poses[item.id]
    name = f"{one.style} clamp"
    arm = mesh_of(kinds.clamp_arm(one))
    high = float(lying.vertices[:, 2].max()) + 500
    raised = rigid(pose[:3, :3], np.array([*pose[:2, 3], high]))
    low, before = (-one.nose - 1, one.nose) if one.style == "toggle" else (-1, 1)
    reach = kinds.cuboid((-one.width, -one.nose, low), (one.width, before, one.thickness + 1))
    nose = mesh_of(kinds.clamp_arm(one) ^ reach)
    found = _met_first(build, transformed(nose, raised), lying, DOWN)
    if found is None:
        build.said(
            "hold.clamp_misses", f"{one.name} ({item.id}) does not reach over the work.", place=pose[:3, 3]
        )
        _pressing(build, item, name, transformed(arm, pose), DOWN, force, True)
        return
    goes, work = found
    # Of a toggle the spindle's end is what is as high as it can take.
    rise = high - goes - pose[2, 3] - (one.nose if one.style == "toggle" else 0.0)
    at = rigid(pose[:3, :3], np.array([*pose[:2, 3], high - goes]))
    if not one.rise_min <= rise <= one.rise_max:
        build.said(
            "hold.clamp_rise",
            f"{one.name} ({item.id}) would stand {rise:.1f} mm high; it takes {one.rise_min:g} to"
            f" {one.rise_max:g}.",
            measured=round(float(rise), 3),
            limit=one.rise_max,
            place=at[:3, 3],
        )
    _pressing(build, item, name, transformed(arm, at), DOWN, force, work)
    stands = float(at[2, 3] - pose[2, 3])
    if stands > 1.0:
        heel = kinds.cuboid(
            (-one.width / 2, -one.heel_from_nose - 12, -stands),
            (one.width / 2, -one.heel_from_nose + 8, 0.25 * one.thickness),
        )
        build.add(item, Solid("heel block" if one.bolted else "toggle base", "body", heel), at)
    if not one.bolted:
        return
    d, head, tall, _ = kinds.SCREWS[one.thread]
    stud = kinds.rod(d, -stands, one.thickness + tall, 0.0, -one.bolt_from_nose) + kinds.rod(
        head, one.thickness, one.thickness + tall, 0.0, -one.bolt_from_nose
    )
    build.add(item, Solid("stud", "body", stud), at)


def drive_bolt(build: Build, item: Item) -> None:
    """A bolt from below into the part's own thread, or through a hole of the work from above."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Bolt)
    if item.into is None:
        _from_above(build, item, one)
    else:
        _from_below(build, item, one, item.into.face)


def _from_below(build: Build, item: Item, one: kinds.Bolt, face: int) -> None:
    """Into a thread of the part. face: the wall of its hole."""
    d, head, tall, _ = kinds.SCREWS[one.thread]
    pose = build.poses[item.id].copy()
    # Its head lies under what it goes through.
    if item.on != "table":
        pose[2, 3] = build.poses[item.on][2, 3] + item.z
    axis = build.shapes.holes.get(face)
    if axis is None:
        raise BadInput(
            "hold.not_a_hole",
            "hold.items",
            f"{item.id}: face {face} is no upright hole in this setup",
            "pick the wall of a hole",
        )
    at, mouth = axis.axis + build.out.shift, axis.low + build.out.shift[2]
    pose[:2, 3] = at[:2]
    _thread_held(build, item, one, float(pose[2, 3] + one.length - mouth), at)
    body = kinds.rod(kinds.core_diameter(one.thread), 0, one.length) + kinds.rod(head, -tall, 0)
    force = build.screwed(item, one.thread, 100 * d * d)
    build.out.pieces.append(
        Piece(item.id, "bolt from below", "clamps", transformed(mesh_of(body), pose), DOWN, force)
    )


def _from_above(build: Build, item: Item, one: kinds.Bolt) -> None:
    """Through a hole of the work, its head down on it."""
    d, head, tall, _ = kinds.SCREWS[one.thread]
    pose = build.poses[item.id]
    lying = build.lying(build.out.shift)
    high = float(lying.vertices[:, 2].max()) + 500
    raised = rigid(np.eye(3), np.array([*pose[:2, 3], high]))
    washer = mesh_of(kinds.rod(head, 0, tall) - kinds.rod(d * 0.9, -1, tall + 1))
    found = travel(transformed(washer, raised), lying, DOWN)
    if found is None:
        said = f"{one.name} ({item.id}) has no work under its head."
        build.said("hold.clamp_misses", said, place=pose[:3, 3])
        return
    top = high - found[0]
    _thread_held(build, item, one, float(one.length - (top - pose[2, 3])), pose[:3, 3])
    at = rigid(np.eye(3), np.array([*pose[:2, 3], top]))
    force = build.screwed(item, one.thread, 100 * d * d)
    body = kinds.rod(d * 0.85, -one.length, 0) + kinds.rod(head, 0, tall)
    build.out.pieces.append(Piece(item.id, "bolt", "clamps", transformed(mesh_of(body), at), DOWN, force))


def _thread_held(build: Build, item: Item, one: kinds.Bolt, held: float, place: Floats) -> None:
    """Told where a bolt holds in too little thread, mm."""
    wanted = THREAD_HOLDS * kinds.SCREWS[one.thread][0]
    if held >= wanted:
        return
    build.said(
        "hold.bolt_short",
        f"{one.name} ({item.id}) holds in {max(0.0, held):.1f} mm of thread; {wanted:g} wanted.",
        measured=round(held, 3),
        limit=wanted,
        place=place,
    )
