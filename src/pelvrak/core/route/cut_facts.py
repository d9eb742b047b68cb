"""What did an operation meet and take off while it was cut? Facts without a name or a sentence; `cut_checks`
says what is wrong with them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.toolpath import Chords, Round
from pelvrak.core.engine.step import Piece
from pelvrak.core.geometry.mesh import Floats, Mesh, box, transformed, with_label
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.machine.slides import met_by_slides, slides
from pelvrak.core.route.station import Station, solids_of
from pelvrak.core.stock.compare import signed_distance
from pelvrak.core.stock.cut import RAPID, STOPPED, Hits, Sweep
from pelvrak.core.stock.field import RayField, extents
from pelvrak.core.stock.questions import pieces

MEETS_MM = 0.05
# A loose piece below this many cells is a crumb of the rays, not a slug.
CRUMB_CELLS = 8
# How the work is called among what slides may run into.
WORK = "work"

Part = Literal["rapid", "stopped", "above_flutes", "cutter", "shank", "holder", "spindle", "core"]


class Meeting(Frozen):
    """Where a part of the tool met most of what it must not: how deep, mm, in how many moves, and the deepest
    of them.

    piece: of the holding, by its number; None for the stock. place: of the tool's tip, work frame, mm;
    time_s: from the operation's start.
    """

    part: Part
    piece: int | None = None
    depth: float
    moves: int
    move: int
    time_s: float
    place: Vector


class SlideMeeting(Frozen):
    """A slide of the machine that runs into a piece of the holding, by its number, or into the work (None):
    depth, mm; where the tip stands, work frame.
    """

    slide: str
    piece: int | None
    depth: float
    place: Vector


class LoosePiece(Frozen):
    """A piece that was set free: its size, mm, volume, mm³, and middle, work frame."""

    size: Vector
    volume: float
    middle: Vector


class HoleCut(Frozen):
    """A hole and what was taken off in it, mm³; heights and place in the zero frame, mm."""

    x: float
    y: float
    start: float
    bottom: float
    removed: float


class Laid(Frozen):
    """How a flat path lies round its cylinder: the rotary axis, mm below zero; the cylinder's radius; how far
    the stock comes from the axis, mm; from where to where it turns, degrees.
    """

    axis: str
    below: float
    radius: float
    outside: float
    turns: tuple[float, float]


class CutFacts(Frozen):
    """What came of cutting an operation. Zero frame, mm, but where it says else.

    most_removal_cm3_min: the greatest at any moment; low, high: of the tip; cut_z: lowest and highest where
    it took something off; least, most: X, Y and Z of the machine; cell: between the rays that amounts are
    known by; feeds: moves that are not rapid; in_cut_s: how long it took something off. removed_mm3: by the
    surfaces before and after; taken_mm3: by the rays its moves met.
    """

    time_s: float = 0.0
    most_removal_cm3_min: float = 0.0
    low: Vector | None = None
    high: Vector | None = None
    cut_z: tuple[float, float] | None = None
    least: Vector | None = None
    most: Vector | None = None
    laid: Laid | None = None
    in_stock: tuple[Meeting, ...] = ()
    in_holding: tuple[Meeting, ...] = ()
    slides: tuple[SlideMeeting, ...] = ()
    loose: tuple[LoosePiece, ...] = ()
    removed_mm3: float = 0.0
    taken_mm3: float = 0.0
    feeds: int = 0
    in_cut_s: float = 0.0
    holes: tuple[HoleCut, ...] = ()
    cell: float = 0.0


@dataclass(frozen=True)
class Moves:
    """The moves of an operation that were run: in the zero frame (lines) and the work frame (sweep), and when
    each ends, s.
    """

    lines: Chords
    sweep: Sweep
    ends_at: Floats

    def deepest(
        self, part: Part, depths: Floats, piece: Callable[[Floats], int | None] = lambda tip: None
    ) -> list[Meeting]:
        """The deepest of the depths (one for each chord, mm); none when none is deep enough.

        piece: which of the holding is met where the tip stands, zero frame.
        """
        worst = int(np.argmax(depths))
        if depths[worst] <= MEETS_MM:
            return []
        return [
            Meeting(
                part=part,
                piece=piece(self.lines.ends[worst]),
                depth=float(depths[worst]),
                moves=len(np.unique(self.lines.move[depths > MEETS_MM])),
                move=int(self.lines.move[worst]),
                time_s=round(float(self.ends_at[worst]), 3),
                place=as_vector(self.sweep.ends[worst]),
            )
        ]


def met_in_stock(moves: Moves, hits: Hits) -> list[Meeting]:
    """What the tool met in the stock that it must not meet."""
    what, flutes, shank = moves.sweep.what, hits.bodies[:, 0], hits.bodies[:, 1]
    return [
        *moves.deepest("rapid", np.where(what == RAPID, hits.rapid, 0.0)),
        *moves.deepest("stopped", np.where(what == STOPPED, hits.rapid, 0.0)),
        *moves.deepest("above_flutes", flutes),
        *moves.deepest("shank", np.where(shank > flutes + MEETS_MM, shank, 0.0)),
        *moves.deepest("holder", hits.bodies[:, 2]),
        *moves.deepest("spindle", hits.bodies[:, 3]),
        *moves.deepest("core", hits.core),
    ]


def met_in_holding(moves: Moves, station: Station, met: Hits) -> list[Meeting]:
    """Every part of the tool that met the holding or the table, and the piece nearest to where it did."""
    depths: tuple[tuple[Part, Floats], ...] = (
        ("cutter", met.rapid),
        ("shank", np.maximum(met.bodies[:, 0], met.bodies[:, 1])),
        ("holder", met.bodies[:, 2]),
        ("spindle", met.bodies[:, 3]),
    )
    return [
        found
        for part, deep in depths
        for found in moves.deepest(part, deep, lambda tip: _nearest_piece(station, tip))
    ]


def _nearest_piece(station: Station, at: Floats) -> int:
    """The number of the holding's solid nearest to a point of the zero frame."""
    mesh = station.solids()
    assert mesh is not None
    away = [float(signed_distance(at[None], with_label(mesh, i))[0]) for i in range(len(station.hold.pieces))]
    return int(np.argmin(away))


def met_by_machine(
    station: Station, lines: Chords, stock: RayField, gauge: float, lying: Callable[[], Mesh]
) -> list[SlideMeeting]:
    """What head, column and slides of the machine run into while the tool goes along its path.

    stock: as it comes in; gauge: the tool's length, mm; lying: the stock's surface in the zero frame, made
    when they come near its box.
    """
    assert station.zero_on_table is not None
    # The table that stands for the machine's own where it does not turn is its table.
    still = [(str(i), solid) for i, piece, solid in solids_of(station) if piece.item != "table"]
    up = np.array([0.0, 0.0, gauge])
    moving = slides(station.machine, station.zero_on_table, station.at)
    starts, ends = lines.starts + up, lines.ends + up
    bounds = extents(stock)
    if bounds is not None and met_by_slides(
        moving, starts, ends, [(WORK, transformed(box(*bounds), station.zero_from_work))]
    ):
        still = [(WORK, lying()), *still]
    return [
        SlideMeeting(
            slide=met.slide,
            piece=None if met.what == WORK else int(met.what),
            depth=met.depth,
            place=as_vector(moved(inverse(station.zero_from_work), met.nose - up)),
        )
        for met in met_by_slides(moving, starts, ends, still)
    ]


def loose_pieces(before: RayField, after: RayField) -> list[LoosePiece]:
    """Pieces that were set free: a slug under a through cut, a corner cut off."""
    least = CRUMB_CELLS * after.grid.cell**3
    stood = [piece for piece in pieces(before) if piece.volume > least]
    now = [piece for piece in pieces(after) if piece.volume > least]
    return [
        LoosePiece(
            size=as_vector(piece.high - piece.low),
            volume=piece.volume,
            middle=as_vector((piece.low + piece.high) / 2),
        )
        for piece in now[max(1, len(stood)) :]
    ]


def holes_cut(holes: list[Hole], lines: Chords, removed: Floats) -> list[HoleCut]:
    """What was taken off in each hole. removed: by each chord, mm³."""
    out = []
    for hole in holes:
        near = np.hypot(lines.ends[:, 0] - hole.x, lines.ends[:, 1] - hole.y) < 1e-3
        out.append(
            HoleCut(
                x=hole.x, y=hole.y, start=hole.start, bottom=hole.bottom, removed=float(removed[near].sum())
            )
        )
    return out


def depth_cut(lines: Chords, took: NDArray[np.bool_]) -> tuple[float, float] | None:
    """Lowest and highest Z that the program says where it took something off, mm from zero. took: of each
    chord.
    """
    if not took.any():
        return None
    return float(np.minimum(lines.starts, lines.ends)[took, 2].min()), float(lines.ends[took, 2].max())


def laid(lie: Round, flat: Chords, outside: float) -> Laid:
    """How a flat path is laid out on its cylinder. outside: how far the stock comes from the axis, mm."""
    low, high = sorted(lie.angle_at(float(y)) for y in (flat.ends[:, 1].min(), flat.ends[:, 1].max()))
    return Laid(axis=lie.axis, below=-lie.centre[2], radius=lie.radius, outside=outside, turns=(low, high))


CUT_FACTS: Piece[CutFacts] = Piece(
    "facts.json", lambda made: made.model_dump_json().encode(), CutFacts.model_validate_json
)
