"""How hard do vacuum, magnets and tape draw the work, by the area that touches?

Pressure times area: F = p · A, at the middle of the area. Where air is drawn out, a dent in the work's
underside that is closed above is drawn on too, and an opening that goes through lets air in.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely
from shapely.geometry import Polygon

from pelvrak.core.geometry.mesh import Floats, Mesh, line_hits
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.holding.build import Piece
from pelvrak.core.holding.contact import Patch

# kPa are N/mm² times this.
KPA = 1e-3
# Gaps in a drawn area narrower than this are where its triangles meet, mm.
SEAM_MM = 0.01


@dataclass(frozen=True)
class Pull:
    """What draws the work at one patch. patch: number of it; area: that counts, mm²; force: N, against the
    patch's normal; at: where it acts; leaks: places where air gets in.
    """

    patch: int
    area: float
    force: float
    at: Floats
    leaks: tuple[Floats, ...] = ()


def pulls_of(stock: Mesh, pieces: list[Piece], found: list[Patch], magnetic: bool) -> list[Pull]:
    """What draws the work against the pieces of a holding. magnetic: whether the work is of iron or steel."""
    out = []
    for number, patch in enumerate(found):
        draws = pieces[patch.piece].draws
        if draws is None or patch.kind != "face" or (draws.steel_only and not magnetic):
            continue
        area, at, leaks = _sealed(stock, patch) if draws.seals else (patch.area, patch.centre, ())
        out.append(Pull(number, area, draws.kpa * KPA * area, at, leaks))
    return out


def as_patch(pull: Pull, patch: Patch) -> Patch:
    """A pull as what acts on the work: against the patch, in the middle of the area."""
    way = -patch.normal
    return replace(
        patch, kind="thread", centre=pull.at, normal=way, hull=pull.at[None], looks=way[None], area=0.0
    )


def friction_in(pieces: list[Piece], patch: Patch) -> float | None:
    """What a patch rubs with where it is not metal on metal: tape stands its shear for its pull, teeth hold
    as their fixture says.
    """
    piece = pieces[patch.piece]
    draws = piece.draws
    return piece.friction if draws is None or draws.shear_kpa is None else draws.shear_kpa / draws.kpa


def _sealed(stock: Mesh, patch: Patch) -> tuple[float, Floats, tuple[Floats, ...]]:
    """Area that air presses on: all within a patch's rim but for openings that go through the work; its
    middle; and where those are.
    """
    turn = square_to(patch.normal)
    level = float(turn[2] @ patch.centre)
    flat = [Polygon((triangle @ turn.T)[:, :2]) for triangle in patch.triangles]
    whole = shapely.union_all([one.buffer(SEAM_MM, join_style="mitre") for one in flat if one.area > 0])
    filled, leaks = [], []
    for part in getattr(whole, "geoms", [whole]):
        shape = Polygon(part.exterior)
        for ring in part.interiors:
            room = Polygon(ring)
            inside = room.representative_point()
            at = turn.T @ np.array([inside.x, inside.y, level])
            if _open(stock, at, patch.normal):
                shape -= room
                leaks.append(at)
        filled.append(shape)
    area = shapely.union_all(filled).buffer(-SEAM_MM, join_style="mitre")
    middle = area.centroid
    return float(area.area), turn.T @ np.array([middle.x, middle.y, level]), tuple(leaks)


def _open(stock: Mesh, at: Floats, way: Floats) -> bool:
    """Whether nothing of the work stands over a place."""
    return not (line_hits(stock, at, way) > SEAM_MM).any()
