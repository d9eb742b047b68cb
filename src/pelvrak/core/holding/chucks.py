"""How do chucks, collets and a tailstock's point close on the work? All in the layout frame."""

from __future__ import annotations

import numpy as np

from pelvrak.core.geometry.mesh import Floats, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import inverse, moved, rigid, rotation_about_z, turned
from pelvrak.core.holding import kinds
from pelvrak.core.holding.build import Build, Piece
from pelvrak.core.holding.contact import Patch, travel
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.vises import DOWN, SLIDE_MM, UP

# A centre hole is one where no more than this share of a core so thick stands in the work, so deep, mm.
CORE_MM, CORE_DEEP_MM, CORE_SHARE = 1.0, 1.0, 0.3
# The cone of a point touches at so many places round it.
CONE_PLACES = 8


def into_collet(build: Build, item: Item) -> None:
    """Round work into a collet block: its axis in the block's, its middle `work.x` from the block's, the
    collet closed on it.
    """
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
        build.said(
            "hold.collet_bore",
            f"The work is {size:.2f} mm across where {one.name} takes it; its collets take {one.bore_max:g}.",
            measured=round(size, 4),
            limit=one.bore_max,
            place=moved(pose, np.array([0.0, 0.0, one.across / 2])),
        )
    build.out.shift = pose[:3, 3] + turned(pose, place)
    named = _collet_for(build, one, size, moved(pose, np.array([0.0, 0.0, one.across / 2])))
    force = (item.force_kn or one.force_kn) * 1000 / 2
    for quarter, way in kinds.collet_quarters(one, to_solid(seen).translate([float(v) for v in place])):
        # A collet centres: two of its quarters count as what the work is pressed against by the other two.
        presses = way.sum() < 0
        push = turned(pose, way) if presses else None
        build.out.pieces.append(
            Piece(
                item.id,
                named,
                "clamps" if presses else "locates",
                transformed(mesh_of(quarter), pose),
                push,
                force if presses else 0.0,
                moves=True,
            )
        )


def _collet_for(build: Build, one: kinds.ColletBlock, size: float, place: Floats) -> str:
    """The collet that takes work of a size, mm, by its name; where the set has none, that is told."""
    if not one.collets or size > one.bore_max + 1e-3:
        return "collet"
    fits = [nominal for nominal in one.collets if size - 1e-3 <= nominal <= size + one.closes + 1e-3]
    if fits:
        return f"collet Ø{min(fits):g}"
    near = min(one.collets, key=lambda nominal: abs(nominal - size))
    build.said(
        "hold.collet_size",
        f"No collet of {one.name} closes on Ø{size:.2f}: each takes its own size and {one.closes:g} mm less,"
        f" the nearest is Ø{near:g}.",
        measured=round(size, 3),
        limit=near,
        place=place,
    )
    return "collet"


def close_chuck(build: Build, item: Item) -> None:
    """All jaws of a chuck go in together until the first touches."""
    one = build.fixture(item)
    assert isinstance(one, kinds.Chuck)
    pose = build.poses[item.id]
    lying = build.lying(build.out.shift)
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
        build.said(
            "hold.opening",
            f"{one.name} does not open wide enough: {-min(inward):.1f} mm more on each jaw.",
            measured=round(-min(inward), 3),
            limit=0.0,
        )
    distance = min(inward, default=0.0)
    force = (item.force_kn or one.force_kn) * 1000
    for k, (start, way) in enumerate(zip(starts, ways, strict=True)):
        mesh = transformed(start, rigid(np.eye(3), way * distance))
        # A chuck centres: some of its jaws count as what the work is pressed against by the others.
        if k < one.jaws // 2:
            build.out.pieces.append(Piece(item.id, f"jaw {k + 1}", "clamps", mesh, way, force))
        else:
            build.out.pieces.append(Piece(item.id, f"jaw {k + 1}", "locates", mesh))
    build.out.chuck = one.name
    build.out.jaw_top = float(pose[2, 3]) + one.height + one.jaw_height


def press_centre(build: Build, item: Item) -> None:
    """A tailstock's point, from above into the centre hole of the work."""
    one, pose = build.fixture(item), build.poses[item.id]
    assert isinstance(one, kinds.Tailstock)
    lying = build.lying(build.out.shift)
    high = float(lying.vertices[:, 2].max()) + 500
    raised = rigid(pose[:3, :3], np.array([*pose[:2, 3], high]))
    cone = mesh_of(kinds.point_of(one))
    found = travel(transformed(cone, raised), lying, DOWN)
    if found is None:
        said = f"The point of {one.name} ({item.id}) goes past the work."
        build.said("hold.clamp_misses", said, place=pose[:3, 3])
        return
    at = rigid(pose[:3, :3], np.array([*pose[:2, 3], high - found[0]]))
    radius = float(np.linalg.norm((found[1] - at[:3, 3])[:2]))
    if _solid_under(build, lying.vertices[:, 2].max(), at[:3, 3]):
        build.said(
            "hold.no_centre",
            f"There is no centre hole where the point of {one.name} ({item.id}) comes: it would stand on the"
            " face.",
            measured=round(2 * radius, 3),
            limit=CORE_MM,
            place=at[:3, 3],
        )
        radius = 0.0
    force = (item.force_kn or one.force_kn) * 1000
    build.out.pieces.append(Piece(item.id, kinds.POINT, "clamps", transformed(cone, at), DOWN, force))
    build.out.centres[item.id] = (at[:3, 3], radius, np.radians(one.point_deg / 2))
    for solid in kinds.tailstock_body(one):
        build.add(item, solid, at)


def _solid_under(build: Build, top: float, tip: Floats) -> bool:
    """Whether the work is solid where a point comes: no hole lets it in."""
    core = kinds.rod(CORE_MM, 0.0, CORE_DEEP_MM).translate(
        [float(tip[0]), float(tip[1]), float(top) - CORE_DEEP_MM]
    )
    both = core ^ to_solid(build.lying(build.out.shift))
    return bool(both.volume() > CORE_SHARE * core.volume())


def centre_patch(number: int, tip: Floats, radius: float, half: float) -> Patch:
    """What a point does to the work: it presses down and outward all round the rim of its hole.

    tip: of the cone; radius: of the rim it lies on, mm; half: half the angle of the cone, radians.
    """
    angle = np.linspace(0, 2 * np.pi, CONE_PLACES, endpoint=False)
    out = np.column_stack([np.cos(angle), np.sin(angle), np.zeros(CONE_PLACES)])
    looks = np.cos(half) * out + np.sin(half) * DOWN
    if radius <= 0:
        looks = np.tile(DOWN, (CONE_PLACES, 1))
    rim = tip + radius * out + UP * (radius / np.tan(half))
    middle = rim.mean(axis=0)
    long = np.array([1.0, 0, 0])
    return Patch(
        number, 0.0, middle, DOWN, "bore", 2 * radius, 2 * radius, long, rim, looks, np.zeros((0, 3, 3))
    )
