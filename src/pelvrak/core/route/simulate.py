"""What happens when one operation is run: its moves cut, tested, and kept so that any moment comes back?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import (
    Chords,
    Round,
    chord_ends_s,
    chords,
    ends_of_moves,
    swept_by,
    tilted_error,
)
from pelvrak.core.cutting.tools import Tool, cutter_profile
from pelvrak.core.cutting.wrapped import farthest, placed, rolled
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.geometry.mesh import Floats, Mesh, transformed
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.index import Turned, reach_of
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.cut_facts import (
    CUT_FACTS,
    CutFacts,
    Meeting,
    Moves,
    depth_cut,
    holes_cut,
    laid,
    loose_pieces,
    met_by_machine,
    met_in_holding,
    met_in_stock,
)
from pelvrak.core.route.naming import bare_hold, nameless_position
from pelvrak.core.route.pictures import drawn
from pelvrak.core.route.pieces import FIELD, INCOMING, JOIN_MM, LOAD, MOMENTS, PATH, SURFACE, PlannedPath
from pelvrak.core.route.station import Station, held_solids, holding_field, round_the_work, station_from
from pelvrak.core.stock.cut import RAPID, Hits, Sweep, cut, test
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.moments import Moments, Recorder
from pelvrak.core.stock.profile import outline
from pelvrak.core.stock.surface import removed_between

LOAD_BINS = 160


@dataclass(frozen=True)
class Clamped:
    """How the work is clamped while it is cut, without names. zero_from_work: of the setup's zero; solids,
    hold: what holds the work; at: how the work is turned.
    """

    zero_from_work: Floats
    solids: Content | None
    hold: HoldFacts
    machine: Machine
    at: Turned


def clamped(engine: Engine, station: Station, setup_zero: Floats, hold: HoldFacts) -> Clamped:
    """The same of a station, without names. setup_zero: 4×4, of the setup's zero; hold: as it holds in the
    zero frame.
    """
    solids = None if hold.key is None else Result(hold.key, engine).content(SURFACE)
    return Clamped(
        setup_zero, solids, bare_hold(hold), station.machine.as_built, nameless_position(station.at)
    )


@dataclass(frozen=True)
class ObstacleGiven:
    """What stands round the work at a position of a machine. solids, hold: as in `CutGiven`."""

    solids: Content
    hold: HoldFacts
    machine: Machine
    at: Turned


def _obstacle(given: ObstacleGiven, reads: Reads) -> Pieces:
    _, solids = round_the_work(
        given.machine, given.hold, lambda: held_solids(reads, given.solids, given.hold.shift), given.at
    )
    field = holding_field(solids())
    assert field is not None
    return {FIELD: field}


OBSTACLE = Step("obstacle", 1, ObstacleGiven, _obstacle)


def obstacle_of(engine: Engine, held: Clamped) -> Content | None:
    """What stands round the work on its rays, None where nothing does."""
    if held.solids is None:
        return None
    stands = ObstacleGiven(held.solids, held.hold, held.machine, held.at)
    return engine.run(OBSTACLE, stands, "what stands round the work").content(FIELD)


@dataclass(frozen=True)
class CutGiven:
    """What an operation is cut from. stock: that comes in; surface: the same where it was planned on;
    obstacle: what stands round the work on its rays; maker: the number its surfaces get.
    """

    stock: Content
    surface: Content | None
    path: Content
    tool: Tool
    clamped: Clamped
    obstacle: Content | None
    maker: int


@dataclass(frozen=True)
class _AsRun:
    """How a path is run: its chords flat, and when each ends; its moves as the work sees them, with the
    tool's axis of each in the zero frame; as the machine's slides make them, the work not turned; how it lies
    round a rotary axis.
    """

    flat: Chords
    moves: Moves
    machine: Moves
    axes: Floats
    lie: Round | None
    flat_ends_at: Floats


def _cut(given: CutGiven, reads: Reads) -> Pieces:
    """One operation cut and tested; all moments of it kept."""
    stock, planned = reads.read(given.stock, FIELD), reads.read(given.path, PATH)
    if not planned.path.moves:
        return {FIELD: stock, CUT_FACTS: CutFacts(), PATH: planned}
    held = given.clamped
    station = station_from(reads, held.machine, held.zero_from_work, held.hold, held.solids, held.at)

    @cache
    def lying() -> Mesh:
        """The stock that comes in as it lies, made where it is needed."""
        mesh = drawn(stock) if given.surface is None else reads.read(given.surface, SURFACE)
        return transformed(mesh, station.zero_from_work)

    run, lie = _as_run(planned, given.tool, station, lying), planned.path.round

    def going_on(share: float) -> bool:
        reads.tell(0.9 * share)
        return True

    recorder = Recorder()
    after, hits = cut(stock, run.moves.sweep, given.maker, going_on, recorder)
    obstacle = None if given.obstacle is None else reads.read(given.obstacle, FIELD)
    ends_at = run.moves.ends_at
    loads = load_over_time(hits, ends_at)
    facts = CutFacts(
        time_s=float(ends_at[-1]),
        most_removal_cm3_min=max(loads["removal"]),
        in_stock=tuple(met_in_stock(run.moves, hits)),
        loose=tuple(loose_pieces(stock, after)),
        in_holding=tuple(_met_round_the_work(run, station, obstacle)),
        cell=stock.grid.cell,
        removed_mm3=removed_between(stock, after, JOIN_MM),
        laid=None if lie is None else laid(lie, run.flat, farthest(lying(), lie)),
        **_taken_off(run, planned, hits.removed),
        **_as_the_machine_goes(run, station, given.tool, stock, lying),
    )
    return {
        FIELD: after,
        CUT_FACTS: facts,
        PATH: replace(
            planned,
            ends_s=ends_of_moves(run.flat, run.flat_ends_at, len(planned.path.moves)),
            in_air=_in_air(run, hits.removed, given.tool, stock.grid.cell),
        ),
        MOMENTS: Moments(run.moves.sweep, ends_at, given.maker, tuple(recorder.kept)),
        INCOMING: given.stock.digest,
        LOAD: {"seconds": float(ends_at[-1]), **loads},
    }


CUT_OPERATION = Step("cut", 7, CutGiven, _cut)


@dataclass(frozen=True)
class OnStock:
    """What a path is cut with. stock: that comes in; surface: the same where it is asked for; turns: the work
    turns under the tool.
    """

    stock: Content
    surface: Content | None
    tool: Tool
    turns: bool


def cut_operation(
    engine: Engine, planned: OnStock, path: Content, held: Clamped, maker: int, called: str
) -> Result:
    """What comes of an operation, its path with it. path: as it was planned; maker: the number its surfaces
    get.
    """
    obstacle = None if planned.turns else obstacle_of(engine, held)
    given = CutGiven(planned.stock, planned.surface, path, planned.tool, held, obstacle, maker)
    return engine.run(CUT_OPERATION, given, called)


def _laid(
    flat: Chords, lie: Round, stock: Mesh, radius: float, ends_at: Floats
) -> tuple[Chords, Floats, Floats]:
    """A flat path laid round its axis: chords in the zero frame, the tool's axis of each, and when each ends,
    s. radius: of the cutter, mm.

    A chord's axis is that of its middle: it is so short that the cutter's rim is not tilted by more than
    TILTED_MM at its ends.
    """
    number = Chords(flat.starts, flat.ends, flat.what, np.arange(len(flat.what)))
    reach = farthest(stock, lie)
    lines, axes = rolled(number, lie, reach, tilted_error(reach, radius))
    parts = np.bincount(lines.move, minlength=len(flat.what))
    before = np.concatenate([[0.0], ends_at[:-1]])
    share = (
        np.arange(len(lines.move)) - np.concatenate([[0], np.cumsum(parts)[:-1]])[lines.move] + 1
    ) / parts[lines.move]
    ends = before[lines.move] + share * (ends_at - before)[lines.move]
    return Chords(lines.starts, lines.ends, lines.what, flat.move[lines.move]), axes, ends


def _as_run(planned: PlannedPath, tool: Tool, station: Station, lying: Callable[[], Mesh]) -> _AsRun:
    """A path's moves in the frames they are needed in. lying: the stock that comes in, zero frame."""
    path = planned.path
    machine, lie = station.machine, path.round
    flat = chords(path)
    if planned.measured is not None:
        # A probe cuts nothing, and may meet nothing but what it touches.
        flat = replace(flat, what=np.full(len(flat.what), RAPID, np.uint8))
    flat_ends = chord_ends_s(path, flat, machine.rapid_mm_min, machine.acceleration_mm_s2)
    work_from_zero = inverse(station.zero_from_work)

    def moves(lines: Chords, axes: Floats, ends_at: Floats) -> Moves:
        starts, ends = (moved(work_from_zero, places) for places in (lines.starts, lines.ends))
        sweep = swept_by(tool, machine.spindle.nose, starts, ends, lines.what, turned(work_from_zero, axes))
        return Moves(lines, sweep, ends_at)

    if lie is None:
        straight = moves(flat, UP, flat_ends)
        return _AsRun(flat, straight, straight, UP, None, flat_ends)
    lines, axes, ends_at = _laid(flat, lie, lying(), tool.DC / 2, flat_ends)
    return _AsRun(
        flat, moves(lines, axes, ends_at), moves(placed(flat, lie), UP, flat_ends), axes, lie, flat_ends
    )


def _met_round_the_work(run: _AsRun, station: Station, obstacle: RayField | None) -> list[Meeting]:
    """What the tool meets in the holding. obstacle: the holding on its rays, where the work does not turn
    under the tool.
    """
    if run.lie is not None:
        return _met_while_turning(run, run.lie, station)
    if obstacle is None:
        return []
    return met_in_holding(run.moves, station, test(obstacle, _in_zero(run.moves, UP)))


def _in_zero(moves: Moves, axes: Floats) -> Sweep:
    """Moves in the zero frame, to be tested against what stands there."""
    lines = moves.lines
    return Sweep(lines.starts, lines.ends, lines.what, axes, moves.sweep.cutter, moves.sweep.bodies)


def _met_while_turning(run: _AsRun, lie: Round, station: Station) -> list[Meeting]:
    """What the tool meets while the work turns under it: of what turns with the work as the work sees the
    moves, of what stands still as the slides make them.
    """
    mesh = station.solids()
    if mesh is None:
        return []
    machine = station.machine
    rides = {solid.name: [one.name for one in machine.chain(solid.rides)] for solid in machine.solids}
    stands = [piece.item == "machine" and lie.axis not in rides[piece.name] for piece in station.hold.pieces]
    out = []
    for moves, axes, still in ((run.moves, run.axes, False), (run.machine, UP, True)):
        mine = np.isin(mesh.label, [i for i, one in enumerate(stands) if one == still])
        if mine.any():
            field = holding_field(Mesh(mesh.vertices, mesh.triangles[mine], mesh.label[mine]))
            assert field is not None
            out += met_in_holding(moves, station, test(field, _in_zero(moves, axes)))
    return out


def _as_the_machine_goes(
    run: _AsRun, station: Station, tool: Tool, stock: RayField, lying: Callable[[], Mesh]
) -> dict[str, Any]:
    """Facts of how far the machine goes, and of what its slides run into."""
    lines = run.machine.lines
    low, high = lines.ends.min(axis=0), lines.ends.max(axis=0)
    out: dict[str, Any] = {"low": as_vector(low), "high": as_vector(high)}
    if station.zero_on_table is not None:
        least, most = reach_of(
            station.machine, station.zero_on_table, station.at, low, high, tool.gauge_length
        )
        out |= {
            "least": as_vector(least),
            "most": as_vector(most),
            "slides": tuple(met_by_machine(station, lines, stock, tool.gauge_length, lying)),
        }
    return out


def _taken_off(run: _AsRun, planned: PlannedPath, removed: Floats) -> dict[str, Any]:
    """Facts of what its moves took off. removed: by each chord, mm³."""
    lines, took = run.moves.lines, _took(run, removed)
    return {
        "taken_mm3": float(removed.sum()),
        "feeds": int((lines.what != RAPID).sum()),
        "in_cut_s": float(np.diff(run.moves.ends_at, prepend=0.0)[removed > 0].sum()),
        "holes": tuple(holes_cut(planned.holes, lines, removed)),
        "cut_z": depth_cut(run.flat, took),
    }


def _took(run: _AsRun, removed: Floats) -> NDArray[np.bool_]:
    """Which chords of the flat took something off. removed: by each chord as it is run, mm³."""
    took: NDArray[np.bool_] = removed > 0
    # Laid round an axis, a chord of the flat becomes several.
    return took if run.lie is None else np.isin(run.flat.move, run.moves.lines.move[took])


def _in_air(run: _AsRun, removed: Floats, tool: Tool, cell: float) -> tuple[int, ...]:
    """Numbers of the feed moves that took nothing off; none where the cutter is finer than the rays (cell,
    mm), which would not tell.
    """
    if outline(cutter_profile(tool), cell / 2) < cell:
        return ()
    feeds = np.unique(run.flat.move[run.flat.what != RAPID])
    return tuple(np.setdiff1d(feeds, run.flat.move[_took(run, removed)]).tolist())


def load_over_time(hits: Hits, ends_at: Floats) -> dict[str, list[float]]:
    """Load in equal spans of the operation's time: the mean removal, the greatest width and depth in each.

    removal in cm³/min, width and depth of engagement in mm.
    """
    times = np.concatenate([[0.0], ends_at])
    edges = np.linspace(0, float(ends_at[-1]), LOAD_BINS + 1)
    done = np.interp(edges, times, np.concatenate([[0.0], np.cumsum(hits.removed)]))
    span = float(ends_at[-1]) / LOAD_BINS
    out = {"removal": np.round(np.diff(done) / max(span, 1e-9) * 60 / 1000, 3).tolist()}
    first = np.clip(np.searchsorted(edges, times[:-1], side="right") - 1, 0, LOAD_BINS - 1)
    last = np.clip(np.searchsorted(edges, ends_at, side="left"), first + 1, LOAD_BINS)
    for name, values in (("width", hits.width), ("depth", hits.depth)):
        bins = np.zeros(LOAD_BINS)
        for a, b, value in zip(first, last, values, strict=True):
            if value > 0:
                bins[a:b] = np.maximum(bins[a:b], value)
        out[name] = np.round(bins, 3).tolist()
    return out
