"""What else looks to the spindle and still stands: floors round bosses, bosses' tops, free surfaces."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from pelvrak.core.geometry.callout import SCALLOP_RA
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face
from pelvrak.core.geometry.rigid import turned
from pelvrak.core.proposals import choosing
from pelvrak.core.proposals.choosing import Missing
from pelvrak.core.proposals.steps import (
    ALONG,
    DOWN_SHARE,
    STANDS_MM,
    Cuttable,
    Passed,
    Plane,
    Shop,
    told_faces,
)

# Cleared by no wider cutter, finished by no wider ball, mm; without a hollow of known radius by this one.
WIDEST_MM, WIDEST_BALL_MM, BALL_MM = 20.0, 10.0, 6.0
# Width of a clearing pass as a share of the cutter, and from one finishing line to the next, mm: common
# practice, no source.
CLEARED_SHARE, LINES_MM = 0.2, 0.3
# A face over which the stock is higher than this anywhere stands in it, mm.
OVER_MM = 0.5


def rest_in(plane: Plane, shop: Shop, known: set[int]) -> Iterator[Cuttable | Passed]:
    """The faces of no feature that are reached from the spindle and over which something stands, in one.

    known: faces of what is offered, or passed by, as features.
    """
    directions = np.array(plane.features.directions).reshape(-1, 3)
    up = np.flatnonzero(directions @ plane.up > ALONG)
    if len(up) == 0:
        return
    theirs = {edge for number in known for edge in plane.model.part.faces[number].edges}
    standing = [
        face
        for face in plane.model.part.faces
        if face.number not in known
        and int(up[0]) in plane.features.reach[face.number]
        # The floor of a counterbore lies between walls of its hole, and is cut with it.
        and not (face.edges and theirs.issuperset(face.edges))
        and _stands(plane, face)
    ]
    cut = {face.number: by for face in standing if (by := plane.cut_already((face.number,))) is not None}
    if cut:
        yield Passed(what="what else stands", why=f"cut by {next(iter(cut.values()))}", faces=tuple(cut))
    left = [face for face in standing if face.number not in cut]
    if left:
        yield _offered(plane, shop, left)


def _is_flat(plane: Plane, face: Face) -> bool:
    return face.normal is not None and bool(turned(plane.zero_from_work, np.array(face.normal))[2] > ALONG)


def _areas(corners: Floats) -> Floats:
    """The areas of triangles (n, 3, 3) along their normals, (n, 3), mm²."""
    areas: Floats = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]) / 2
    return areas


def _stands(plane: Plane, face: Face) -> bool:
    """Whether the face looks up somewhere, lower than the part's top, with stock over it."""
    corners = plane.corners(face.number)
    areas = _areas(corners)
    sees = areas[:, 2] > 1e-3 * np.linalg.norm(areas, axis=1)
    middles = corners.mean(axis=1)
    if not sees.any() or (_is_flat(plane, face) and middles[:, 2].max() > plane.heights[1] - STANDS_MM):
        return False
    grid = plane.stock.field.grid
    i, j = (np.rint((middles[sees, d] - grid.origin[d]) / grid.cell).astype(int) for d in (0, 1))
    over = plane.stock_top
    inside = (i >= 0) & (j >= 0) & (i < over.shape[1]) & (j < over.shape[0])
    return bool((over[j[inside], i[inside]] - middles[sees][inside, 2] > OVER_MM).any())


def _offered(plane: Plane, shop: Shop, left: list[Face]) -> Cuttable:
    """Cleared by layers, and what is not flat finished by lines."""
    free = [face for face in left if not _is_flat(plane, face)]
    numbers = tuple(face.number for face in left)
    corners = np.concatenate([plane.corners(number) for number in numbers])
    depth = float(plane.stock.high[2]) - float(corners[:, :, 2].min())
    what = "round what stands up"
    if free:
        what = f"{len(free)} free surfaces" if len(free) > 1 else "a free surface"
    base = Cuttable(
        what=f"{what}, {depth:.4g} deep",
        kind="rest",
        faces=plane.refs(numbers),
        all_faces=numbers,
        position=plane.position,
        chain="cleared and finished by lines" if free else "cleared",
        source="common practice, no source",
    )
    try:
        mill = choosing.end_mill(shop.tools, WIDEST_MM / choosing.FITS_SHARE, depth)
        ball = choosing.ball(shop.tools, _tightest(free), depth) if free else None
    except Missing as missing:
        return base.model_copy(update={"chain": "", "wanted": missing.wanted})
    down = round(DOWN_SHARE * mill.DC, 3)
    told = {"faces": told_faces(base.faces), "within": "faces", "leave_side": 0.0, "leave_floor": 0.0}
    clear = {"kind": "clearing", "name": "Clear", "step_down": down, "step_over": CLEARED_SHARE, **told}
    steps = [shop.step(mill, "rough" if free else "finish", clear)]
    if ball is not None:
        finish = {
            "kind": "surfacing",
            "name": "Finish surfaces" if len(free) > 1 else "Finish surface",
            "faces": told_faces(plane.refs(tuple(face.number for face in free))),
            "within": "faces",
            "step": LINES_MM,
            "scallop": _scallop(plane, free),
        }
        steps.append(shop.step(ball, "finish", finish))
    return base.model_copy(update={"steps": tuple(steps)})


def _scallop(plane: Plane, free: list[Face]) -> float | None:
    """The height between two lines that leaves no surface rougher than it may be, mm; None where none is
    told.
    """
    told = [plane.rough[face.number] for face in free if face.number in plane.rough]
    return round(SCALLOP_RA * min(told) / 1000, 5) if told else None


def _tightest(free: list[Face]) -> float:
    """Diameter of the widest ball that gets into every hollow of known radius, mm."""
    hollow = [face.minor_radius or face.radius or BALL_MM / 2 for face in free if face.hollow]
    other = any(face.radius is None and face.normal is None for face in free)
    return min([WIDEST_BALL_MM, *(2 * one for one in hollow), *([BALL_MM] if other else [])])
