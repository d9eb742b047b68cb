"""Can the work be put in and taken out along a straight way, and how far must the jaws open?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from pelvrak.core.geometry.mesh import Floats, Mesh, joined, transformed
from pelvrak.core.geometry.rigid import rigid, square_to
from pelvrak.core.holding.assemble import WAYS
from pelvrak.core.holding.build import Assembly, Piece
from pelvrak.core.stock.shapes_kernel import crossings, lowest_and_highest

CELL_MM = 0.5
TOUCH_MM = 0.1
OPENINGS_MM = (0.0, 0.5, 1.0, 2.0, 3.0, 5.0, 8.0, 12.0, 20.0, 30.0, 50.0, 80.0, 120.0)


@dataclass(frozen=True)
class WayOut:
    """One straight way: free or not, the piece that stands in it, where, and how far the jaws must open for
    it, mm.
    """

    way: str
    free: bool
    blocked_by: str | None
    place: Floats | None
    opening: float | None


def _columns(mesh: Mesh, low: Floats, shape: tuple[int, ...], side: int) -> Floats:
    """Lowest (side -1) or highest (1) crossing of every column along z; inf or -inf where there is none."""
    bottom, top = np.full(shape[0] * shape[1], np.inf), np.full(shape[0] * shape[1], -np.inf)
    a, b, c = (mesh.vertices[mesh.triangles[:, k], :2] for k in range(3))
    # Of a closed surface the lowest looks down, the highest up.
    looks = side * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]) > 0
    if looks.any():
        rays, places, _, _ = crossings(
            mesh.vertices, mesh.triangles[looks], 2, low[0], low[1], CELL_MM, shape[1], shape[0]
        )
        lowest_and_highest(rays, places, bottom, top)
    return (bottom if side < 0 else top).reshape(shape)


@dataclass(frozen=True)
class Underside:
    """The work as it is seen along a way: a turn (4×4) that brings the way up, and how low the work comes
    over a grid from low, by rows.
    """

    turn: Floats
    low: Floats
    lowest: Floats


def underside(work: Mesh, way: Floats) -> Underside:
    """The work's underside along a straight way."""
    turn = np.eye(4)
    turn[:3, :3] = square_to(way)
    lying = transformed(work, turn)
    # Off the round numbers that faces lie on.
    low = lying.vertices.min(axis=0) - np.array([0.137, 0.171, 0.0])
    size = np.ceil((lying.vertices.max(axis=0) - low) / CELL_MM).astype(int)[:2] + 1
    return Underside(turn, low, _columns(lying, low, (int(size[1]), int(size[0])), -1))


def blocked(work: Underside, piece: Mesh) -> Floats | None:
    """A place where a piece stands in the work's straight way out; None when the way is clear."""
    highest = _columns(transformed(piece, work.turn), work.low, work.lowest.shape, 1)
    stands = np.isfinite(work.lowest) & (highest > work.lowest + TOUCH_MM)
    thick = ndimage.binary_erosion(stands, np.ones((2, 2)))
    if not thick.any():
        return None
    places = np.argwhere(thick)
    j, i = places[len(places) // 2]
    at = np.array([work.low[0] + i * CELL_MM, work.low[1] + j * CELL_MM, highest[j, i]])
    place: Floats = work.turn[:3, :3].T @ at
    return place


def ways_out(work: Mesh, assembly: Assembly) -> list[WayOut]:
    """Up, and to the four sides, with what clamps from outside taken away and the jaws opened as far as it
    takes.
    """
    # A jaw goes back with its slide, and of a vise that centres both do.
    opens = [(p, p.back) for p in assembly.pieces if p.back is not None]
    # A clamp goes with its stud and heel; a chuck's jaws stay.
    clamping = {p.item for p in assembly.pieces if p.role == "clamps"}
    still = [
        p
        for p in assembly.pieces
        if p.back is None
        and (p.role != "clamps" or p.name.startswith("jaw "))
        and (p.role != "body" or p.item not in clamping)
    ]
    low, high = work.vertices.min(axis=0), work.vertices.max(axis=0)
    out = []
    for name, way in (("up", np.array([0.0, 0, 1])), *WAYS.items()):
        ahead = [p for p in still if _can_stand_ahead(p, low, high, way)]
        seen = underside(work, way)
        stopped = next(((p, at) for p in ahead if (at := blocked(seen, p.mesh)) is not None), None)
        if stopped is not None:
            out.append(WayOut(name, False, stopped[0].name, stopped[1], None))
            continue
        opening, place = _least_opening(seen, opens, assembly)
        if opening is None:
            front = next(p.name for p, _ in opens if p.jaw == "moving")
            out.append(WayOut(name, False, front, place, None))
        else:
            out.append(WayOut(name, True, None, None, opening))
    return out


def _can_stand_ahead(piece: Piece, low: Floats, high: Floats, way: Floats) -> bool:
    mine = np.where(way > 0, low, high) @ np.abs(way) * way[int(np.argmax(np.abs(way)))]
    return bool((piece.mesh.vertices @ way).max() > mine)


def _least_opening(
    work: Underside, opens: list[tuple[Piece, Floats]], assembly: Assembly
) -> tuple[float | None, Floats | None]:
    if not opens or assembly.opening is None:
        return 0.0, None
    place: Floats | None = None
    for opening in OPENINGS_MM:
        if assembly.opening[0] + opening > assembly.opening[1] + 1e-6:
            break
        jaws = [transformed(piece.mesh, rigid(np.eye(3), opening * back)) for piece, back in opens]
        place = blocked(work, joined(jaws))
        if place is None:
            return opening, None
    return None, place
