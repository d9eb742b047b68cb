"""What can be cut of a part in one plane, and with which steps?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from shapely import maximum_inscribed_circle
from shapely.geometry import Polygon

from pelvrak.core.cutting.regions import (
    floor_region,
    offset,
    opening_region,
    silhouette,
    smallest_inner_radius,
)
from pelvrak.core.cutting.standing import top_within
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.features import Recess
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.proposals import choosing
from pelvrak.core.proposals.chamfers import chamfers_in
from pelvrak.core.proposals.choosing import Missing
from pelvrak.core.proposals.holes import hole_faces, holes_in
from pelvrak.core.proposals.rest import rest_in
from pelvrak.core.proposals.steps import (
    ALONG,
    DOWN_SHARE,
    OUTSIDE,
    OVER_SHARE,
    PAST_MM,
    STANDS_MM,
    TOP,
    Cuttable,
    Passed,
    Plane,
    Shop,
)
from pelvrak.core.stock.above import region_above

CLOSED = ("pocket", "slot", "opening", "through slot")
# Depth and width of a facing pass: mm, and a share of the cutter's diameter: common practice, no source.
FACED_MM, FACED_SHARE = 2.0, 0.7
# Beside what is open to a side a cutter may run out: so much wider a one fits.
OPEN_WIDER = 4.0
# Over what holds the work the outside is cut down to this, mm: common practice, no source.
OVER_HOLDING_MM = 1.0
# Less beside the part is nothing to be cut, mm².
BESIDE_MM2 = 5.0
# The outside is cut by no wider cutter, mm; a corner tighter than this is sharp, mm.
OUTSIDE_WIDEST_MM, SHARPEST_MM = 20.0, 0.2


def cuttable(plane: Plane, shop: Shop) -> tuple[tuple[Cuttable, ...], tuple[Passed, ...]]:
    """What can be cut in a plane, and what of it is not offered with why; what does not look to the spindle
    is in neither.
    """
    found = [
        *_top(plane, shop),
        *_outside(plane, shop),
        *_recesses(plane, shop),
        *holes_in(plane, shop),
        *chamfers_in(plane, shop),
    ]
    known = {face for one in found for face in (one.all_faces if isinstance(one, Cuttable) else one.faces)}
    known |= _of_features(plane)
    found += rest_in(plane, shop, known)
    offered = tuple(one for one in found if isinstance(one, Cuttable))
    return offered, tuple(one for one in found if isinstance(one, Passed))


def _of_features(plane: Plane) -> set[int]:
    """The faces of holes, recesses and chamfers, whichever way they look."""
    features = plane.features
    return {
        *(face for hole in features.holes for face in hole_faces(hole)),
        *(face for recess in features.recesses for face in recess_faces(recess)),
        *(chamfer.face for chamfer in features.chamfers),
    }


def _top(plane: Plane, shop: Shop) -> Iterator[Cuttable | Passed]:
    """What stands above the part all over, as the work is seated."""
    over = float(plane.stock.high[2]) - plane.heights[1]
    if over < STANDS_MM or plane.position:
        return
    what = f"the top, {over:.2f} mm"
    if (by := plane.cut_already((TOP,))) is not None:
        yield Passed(what=what, why=f"cut by {by}")
        return
    tool = shop.tools.best(("face_mill",), lambda tool: -tool.DC) or shop.tools.best(
        ("end_mill",), lambda tool: -tool.DC
    )
    base = Cuttable(what=what, kind="top", chain="faced", source="common practice, no source")
    if tool is None:
        yield base.model_copy(update={"wanted": "a face mill, or an end mill"})
        return
    down = min(FACED_MM, round(over, 3))
    told = {"kind": "facing", "name": "Face the top", "step_down": down, "step_over": FACED_SHARE}
    yield base.model_copy(update={"steps": (shop.step(tool, "finish", told),)})


def _outside(plane: Plane, shop: Shop) -> Iterator[Cuttable | Passed]:
    """What stands beside the part all round, seen along the spindle, as the work is seated: as far down as
    the holding leaves it free.
    """
    if plane.position:
        return
    (lowest, top), what = plane.heights, "the outside"
    low = max(lowest, plane.held_to + OVER_HOLDING_MM)
    if low >= top - STANDS_MM:
        yield Passed(what=what, why="the holding stands over it")
        return
    part = silhouette(plane.model.mesh, plane.zero_from_work)
    beside = region_above(plane.stock.field, low + STANDS_MM).difference(offset(part, STANDS_MM))
    if beside.area < BESIDE_MM2:
        return
    depth = top - low
    what = f"the outside, {depth:.4g} deep"
    if (by := plane.cut_already((OUTSIDE,))) is not None:
        yield Passed(what=what, why=f"cut by {by}")
        return
    base = Cuttable(what=what, kind="outside", source="common practice, no source")
    ring = offset(part, OUTSIDE_WIDEST_MM * 2).difference(part)
    corner = min(smallest_inner_radius(piece) for piece in pieces(ring))
    if corner < SHARPEST_MM:
        yield base.model_copy(update={"wanted": "no turning tool: two of its walls meet sharp"})
        return
    # From the bottom of the part up to where the holding ends it stays.
    below = lowest - low or PAST_MM
    try:
        rough = choosing.end_mill(shop.tools, OUTSIDE_WIDEST_MM, depth)
        fine = choosing.end_mill(shop.tools, OUTSIDE_WIDEST_MM, depth, corner)
    except Missing as missing:
        yield base.model_copy(update={"wanted": missing.wanted})
        return
    told = {"kind": "outline", "side": "outside", "below": round(below, 4)}
    down = round(DOWN_SHARE * rough.DC, 3)
    first = {**told, "name": "Rough the outside", "step_down": down, "step_over": OVER_SHARE}
    last = {**told, "name": "Finish the outside", "step_down": round(depth + 1.0, 3)}
    steps = (shop.step(rough, "rough", first), shop.step(fine, "finish", last))
    yield base.model_copy(update={"chain": "roughed and finished", "steps": steps})


def _recesses(plane: Plane, shop: Shop) -> Iterator[Cuttable | Passed]:
    """Pockets, slots, steps and openings that look to the spindle."""
    for recess in plane.features.recesses:
        through = recess.floor is None and plane.looks_up(recess.sides)
        if not through and float(np.dot(recess.opens, plane.up)) <= ALONG:
            continue
        faces = recess_faces(recess)
        what = recess_called(recess)
        if (by := plane.cut_already(faces)) is not None:
            yield Passed(what=what, why=f"cut by {by}", faces=faces)
            continue
        try:
            region, floor = _region(plane, recess)
        except BadInput as bad:
            yield Passed(what=what, why=bad.what, faces=faces)
            continue
        top = top_within(plane.stock, region)
        if top is None or top < floor + STANDS_MM:
            yield Passed(what=what, why="already there", faces=faces)
            continue
        yield _recess(plane, shop, recess, (region, top - floor))


def recess_called(recess: Recess) -> str:
    """A recess in words."""
    return f"{recess.kind}, {recess.depth:.4g} deep"


def recess_faces(recess: Recess) -> tuple[int, ...]:
    """All faces of a recess."""
    return (*(() if recess.floor is None else (recess.floor,)), *recess.walls, *recess.fillets)


def _region(plane: Plane, recess: Recess) -> tuple[Polygon, float]:
    """A recess from above, and the height of its floor, mm. Raises BadInput."""
    part = plane.model
    if recess.floor is not None:
        return floor_region(part.part, part.part.faces[recess.floor], plane.zero_from_work, recess.kind)
    wall = part.part.faces[recess.walls[0]]
    region, low, _ = opening_region(part, wall, plane.zero_from_work, recess.kind)
    return region, low


def _recess(plane: Plane, shop: Shop, recess: Recess, room: tuple[Polygon, float]) -> Cuttable:
    """How a recess is cut. room: its region from above, and the height that stands in it, mm."""
    region, depth = room
    faces = plane.refs((recess.walls[0],) if recess.floor is None else (recess.floor,))
    base = Cuttable(
        what=recess_called(recess),
        kind="recess",
        faces=faces,
        all_faces=recess_faces(recess),
        position=plane.position,
        source="common practice, no source",
    )
    if recess.corner_radius == 0.0:
        return base.model_copy(update={"wanted": "no turning tool: two of its walls meet sharp"})
    # Round an island there are more walls than an outline follows: it is cut like what is open.
    closed, foot = recess.kind in CLOSED, recess.floor_radius or 0.0
    by_walls = closed and recess.islands == 0
    wide = 2 * float(maximum_inscribed_circle(region).length) * (1 if closed else OPEN_WIDER)
    below = PAST_MM if recess.floor is None else 0.0
    try:
        fine = choosing.end_mill(shop.tools, wide, depth, recess.corner_radius, foot)
        if not by_walls:
            step = shop.milled(fine, faces, recess.kind.capitalize(), 0.0, below)
            return base.model_copy(update={"chain": "cut in one", "steps": (step,)})
        rough = choosing.end_mill(shop.tools, wide, depth, None, foot)
    except Missing as missing:
        return base.model_copy(update={"wanted": missing.wanted})
    steps = (
        shop.milled(rough, faces, f"Rough {recess.kind}", shop.rules.leave_mm, below),
        shop.walled(fine, faces, f"Finish {recess.kind}", depth, below),
    )
    return base.model_copy(update={"chain": "roughed and finished", "steps": steps})
