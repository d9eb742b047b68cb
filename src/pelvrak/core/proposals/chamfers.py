"""Which chamfers that the part is drawn with look to the spindle, and with which cutter are they made?"""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
import shapely
from shapely import Polygon

from pelvrak.core.cutting.operations.chamfering import TIP_MM, DrawnChamfer, drawn_chamfer
from pelvrak.core.errors import BadInput
from pelvrak.core.proposals import choosing
from pelvrak.core.proposals.choosing import Missing
from pelvrak.core.proposals.steps import STANDS_MM, Cuttable, Passed, Plane, Shop, told_faces


def chamfers_in(plane: Plane, shop: Shop) -> Iterator[Cuttable | Passed]:
    """Chamfers that look to the spindle and still stand in the stock, those alike together; the others with
    why they are passed by.
    """
    alike: dict[tuple[float, float], list[tuple[int, DrawnChamfer]]] = {}
    for chamfer in plane.features.chamfers:
        if not plane.looks_up(chamfer.sides):
            continue
        face = plane.model.part.faces[chamfer.face]
        try:
            drawn = drawn_chamfer(plane.model.part, face, plane.zero_from_work, "chamfer")
        except BadInput:
            # It slopes along the spindle too: a surface to be finished.
            continue
        what = chamfer_called(drawn)
        if (by := plane.cut_already((chamfer.face,))) is not None:
            yield Passed(what=what, why=f"cut by {by}", faces=(chamfer.face,))
        elif not _stands(plane, chamfer.face, drawn):
            yield Passed(what=what, why="already there", faces=(chamfer.face,))
        else:
            alike.setdefault((round(_angle(drawn), 1), round(drawn.width, 3)), []).append(
                (chamfer.face, drawn)
            )
    for (angle, width), own in alike.items():
        yield _offered(plane, shop, own, angle, width)


def chamfer_called(drawn: DrawnChamfer) -> str:
    """A chamfer in words."""
    angle = _angle(drawn)
    return f"chamfer {drawn.width:.4g}" + ("" if abs(angle - 45) < 0.05 else f" at {angle:.4g}°")


def _angle(drawn: DrawnChamfer) -> float:
    """To the spindle, degrees."""
    return math.degrees(math.atan(drawn.slope))


def _stands(plane: Plane, face: int, drawn: DrawnChamfer) -> bool:
    """Whether anything stands over a chamfer. One between two rays is taken to be there still."""
    region = shapely.union_all([Polygon(three) for three in plane.corners(face)[:, :, :2]])
    x, y = plane.stock.field.grid.nodes(0), plane.stock.field.grid.nodes(1)
    left, low, right, high = region.bounds
    (i0, i1), (j0, j1) = np.searchsorted(x, [left, right]), np.searchsorted(y, [low, high])
    xs, ys = np.meshgrid(x[i0:i1], y[j0:j1])
    inside = shapely.contains_xy(region, xs, ys)
    if not inside.any():
        return True
    lower = shapely.union_all(drawn.lower)
    away = shapely.distance(shapely.points(xs[inside], ys[inside]), lower)
    top = plane.stock_top[j0:j1, i0:i1][inside]
    return bool((top > drawn.foot + away / drawn.slope + STANDS_MM).any())


def _offered(
    plane: Plane, shop: Shop, own: list[tuple[int, DrawnChamfer]], angle: float, width: float
) -> Cuttable:
    """Chamfers that are alike, in one operation."""
    numbers = tuple(face for face, _ in own)
    faces = plane.refs(numbers)
    base = Cuttable(
        what=chamfer_called(own[0][1]),
        kind="chamfer",
        count=len(own),
        faces=faces,
        all_faces=numbers,
        position=plane.position,
        chain="along its lower edge",
        source="common practice, no source",
    )
    try:
        tool = choosing.chamfer_cutter(shop.tools, angle, width + TIP_MM * own[0][1].slope)
    except Missing as missing:
        return base.model_copy(update={"chain": "", "wanted": missing.wanted})
    told = {"kind": "chamfering", "name": base.what.capitalize(), "faces": told_faces(faces)}
    return base.model_copy(update={"steps": (shop.step(tool, "finish", told),)})
