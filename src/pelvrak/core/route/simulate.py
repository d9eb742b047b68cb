"""What happens when one operation is run: its moves planned, cut, tested, and kept so that any moment comes back?"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from shapely import from_wkb, to_wkb

from pelvrak.core.cutting.feeds import CuttingData
from pelvrak.core.cutting.job import Job, plan_operation
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.standing import UP, is_square, standing, standing_square
from pelvrak.core.cutting.toolpath import CHORD_ERROR_MM, Chords, Path, Round, chord_ends_s, chords
from pelvrak.core.cutting.tools import Tool, body_profiles, core_radius, cutter_profile
from pelvrak.core.cutting.wrapped import farthest, placed, rolled
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, box, transformed, with_label
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.holding.facts import HoldFacts, PieceFact
from pelvrak.core.machine.index import Turned, TurningLine, reach_of, turning_lines
from pelvrak.core.machine.machine import Machine
from pelvrak.core.machine.slides import met_by_slides, slides
from pelvrak.core.machine.travel import check_travel
from pelvrak.core.route.naming import (
    SETUP,
    TOOL,
    bare_hold,
    nameless_operation,
    nameless_position,
    nameless_tool,
)
from pelvrak.core.route.pictures import drawn, surface_of
from pelvrak.core.route.pieces import FACTS, FIELD, INCOMING, LOAD, MOMENTS, PART, PATH, SURFACE, PlannedPath
from pelvrak.core.route.removal import removal_findings
from pelvrak.core.route.report import WrappedFact
from pelvrak.core.route.station import Station, held_solids, holding_field, round_the_work, station_from
from pelvrak.core.stock.compare import signed_distance
from pelvrak.core.stock.cut import RAPID, STOPPED, Hits, Sweep, cut, test
from pelvrak.core.stock.field import RayField, extents
from pelvrak.core.stock.moments import Moments, Recorder
from pelvrak.core.stock.questions import pieces

PLAN_CELL_MM = 0.5
MEETS_MM = 0.05
# A loose piece below this many cells is a crumb of the rays, not a slug.
CRUMB_CELLS = 8
LOAD_BINS = 160
# A zero this far from the top of a cylinder is on top of it, mm.
ZERO_OFF_MM = 0.02
TILTED_MM = 0.01


@dataclass(frozen=True)
class PathGiven:
    """What an operation's path is planned from. zero_from_work: of the plane it is cut in; stock: that comes in; surface: the same,

    where the plane does not lie along its rays or the work turns under the tool; data: of cutting; nest: as `Station.nest`, regions
    as WKB (ISO 13249-3); turning: the rotary axes that can turn the work.
    """

    part: Content
    stock: Content
    surface: Content | None
    zero_from_work: Floats
    operation: Operation
    tool: Tool
    data: CuttingData
    nest: tuple[tuple[str, bytes, float], ...]
    turning: tuple[TurningLine, ...]


@dataclass(frozen=True)
class CutGiven:
    """What an operation is cut from. zero_from_work: of the setup's zero; solids, hold: what holds the work; at: how the work is turned;

    maker: the number its surfaces get.
    """

    path: PathGiven
    zero_from_work: Floats
    solids: Content | None
    hold: HoldFacts
    machine: Machine
    at: Turned
    maker: int


def path_given(
    engine: Engine,
    part: Content,
    incoming: Result,
    operation: Operation,
    tool: Tool,
    data: CuttingData,
    station: Station,
) -> PathGiven:
    """The input of an operation's planning at a station, without names. incoming: the stock that comes in."""
    wrapped = operation.turns_work
    square = is_square(station.zero_from_work)
    lines = (
        []
        if station.zero_on_table is None
        else turning_lines(station.machine, station.zero_on_table, station.at)
    )
    return PathGiven(
        part,
        incoming.content(FIELD),
        None if square and not wrapped else surface_of(engine, incoming.key).content(SURFACE),
        station.zero_from_work,
        nameless_operation(operation),
        nameless_tool(tool, TOOL),
        data,
        tuple((name, to_wkb(region), floor) for name, (region, floor) in station.nest().items()),
        tuple(lines) if wrapped else (),
    )


def cut_given(
    engine: Engine, path: PathGiven, station: Station, setup_zero: Floats, hold: HoldFacts, maker: int
) -> CutGiven:
    """The input of an operation's cutting. setup_zero: 4×4, of the setup's zero; hold: as it holds in the zero frame."""
    solids = None if hold.key is None else Result(hold.key, engine).content(SURFACE)
    return CutGiven(
        path, setup_zero, solids, bare_hold(hold), station.machine, nameless_position(station.at), maker
    )


def _plan(given: PathGiven, reads: Reads) -> Pieces:
    """The path of one operation. Raises BadInput when it cannot be planned."""
    lying = (
        None
        if given.surface is None
        else transformed(reads.read(given.surface, SURFACE), given.zero_from_work)
    )
    if is_square(given.zero_from_work):
        here = standing_square(reads.read(given.stock, FIELD), given.zero_from_work)
    else:
        assert lying is not None
        here = standing(lying, PLAN_CELL_MM)
    if here is None:
        raise BadInput(
            "stock.none", given.operation.name, "no stock is left to cut", "check the operations before"
        )
    job = Job(
        reads.read(given.part, PART),
        given.zero_from_work,
        here,
        given.tool,
        given.data,
        SETUP,
        given.operation,
        Path((0.0, 0.0, float(here.high[2]) + given.operation.clearance + 50.0)),
        {name: (from_wkb(region), floor) for name, region, floor in given.nest},
        list(given.turning),
        lying,
    )
    plan_operation(job)
    return {
        PATH: PlannedPath(job.path, job.holes, np.zeros(0)),
        FACTS: {"findings": [f.model_dump(mode="json") for f in job.findings]},
    }


PLAN_PATH = Step("path", 1, PathGiven, _plan)


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


@dataclass(frozen=True)
class OperationGiven:
    """An operation to be cut, with its planned path, what planning it found, and what stands round the work on its rays."""

    cut: CutGiven
    path: Content
    findings: Content
    obstacle: Content | None


def _cut(given: OperationGiven, reads: Reads) -> Pieces:
    """One operation cut and tested; all moments of it kept."""
    wanted, operation, tool = given.cut, given.cut.path.operation, given.cut.path.tool
    stock = reads.read(wanted.path.stock, FIELD)
    planned = reads.read(given.path, PATH)
    path, holes = planned.path, planned.holes
    told = [Finding.model_validate(one) for one in reads.read(given.findings, FACTS)["findings"]]
    if not path.moves:
        facts: dict[str, Any] = {"time_s": 0.0, "most_removal_cm3_min": 0.0, "low": None, "high": None}
        facts["findings"] = [f.model_dump(mode="json") for f in told]
        return {FIELD: stock, FACTS: facts, PATH: planned}
    station = station_from(
        reads, wanted.path.part, wanted.machine, wanted.zero_from_work, wanted.hold, wanted.solids, wanted.at
    )
    surface = wanted.path.surface
    lines = chords(path)
    ends_at = chord_ends_s(path, lines, station.machine.rapid_mm_min, station.machine.acceleration_mm_s2)
    moves_end = _ends_of_moves(lines, ends_at, len(path.moves))
    flat, flat_ends, axes, lie = lines, ends_at, UP, path.round

    @cache
    def lying() -> Mesh:
        """The stock that comes in as it lies, made where it is needed."""
        mesh = drawn(stock) if surface is None else reads.read(surface, SURFACE)
        return transformed(mesh, station.zero_from_work)

    if lie is not None:
        lines, axes, ends_at = _laid(flat, lie, lying(), tool.DC / 2, ends_at)
    work_from_zero = inverse(station.zero_from_work)
    bodies = body_profiles(tool, station.machine.spindle.nose)
    sweep = Sweep(
        moved(work_from_zero, lines.starts),
        moved(work_from_zero, lines.ends),
        lines.what,
        turned(work_from_zero, axes),
        cutter_profile(tool),
        bodies,
        core_radius(tool),
    )

    def going_on(share: float) -> bool:
        reads.tell(0.9 * share)
        return True

    recorder = Recorder()
    after, hits = cut(stock, sweep, wanted.maker, going_on, recorder)
    trouble = Trouble(operation, station.setup, lines, sweep, ends_at)
    findings = [*told, *stock_trouble(trouble, hits), *loose_pieces(trouble, stock, after)]
    if lie is not None:
        # As the machine's slides go, the work not turned.
        lines = placed(flat, lie)
        standing_still = replace(
            trouble,
            lines=lines,
            sweep=replace(sweep, ends=moved(work_from_zero, lines.ends)),
            ends_at=flat_ends,
        )
        findings += _zero_off_top(operation, station.setup, lie, farthest(lying(), lie))
        findings += rotary_limits(trouble, station, lie, flat)
        findings += wrapped_trouble(trouble, standing_still, station, lie.axis, axes)
    elif given.obstacle is not None:
        in_zero = Sweep(lines.starts, lines.ends, lines.what, UP, sweep.cutter, bodies)
        findings += holding_trouble(trouble, station, test(reads.read(given.obstacle, FIELD), in_zero))
    low, high = lines.ends.min(axis=0), lines.ends.max(axis=0)
    travel = None
    if station.zero_on_table is not None:
        least, most = reach_of(
            station.machine, station.zero_on_table, station.at, low, high, tool.gauge_length
        )
        findings += check_travel(station.machine, least, most, station.setup, operation.name)
        findings += slides_trouble(trouble, station, lines, lying, stock, tool.gauge_length)
        travel = [least.tolist(), most.tolist()]
    findings += removal_findings(
        operation,
        tool,
        station.setup,
        holes,
        trouble.lines,
        hits.removed,
        float(ends_at[-1]),
        station.zero_from_work,
        stock.grid.cell,
    )
    # Laid round an axis, a chord of the flat becomes several.
    took = hits.removed > 0 if lie is None else np.isin(flat.move, trouble.lines.move[hits.removed > 0])
    loads = load_over_time(hits, ends_at)
    facts = {
        "time_s": float(ends_at[-1]),
        "most_removal_cm3_min": max(loads["removal"]),
        "low": low.tolist(),
        "high": high.tolist(),
        "cut_z": _cut_z(flat, took),
        "travel": travel,
    }
    if lie is not None:
        facts["wrapped"] = wrapped_fact(lie, flat).model_dump(mode="json")
    facts["findings"] = [
        f.model_copy(update={"operation": operation.id}).model_dump(mode="json") for f in findings
    ]
    return {
        FIELD: after,
        FACTS: facts,
        PATH: PlannedPath(path, holes, moves_end),
        MOMENTS: Moments(sweep, ends_at, wanted.maker, tuple(recorder.kept)),
        INCOMING: wanted.path.stock.digest,
        LOAD: {"seconds": float(ends_at[-1]), **loads},
    }


CUT_OPERATION = Step("cut", 1, OperationGiven, _cut)


def cut_operation(engine: Engine, given: CutGiven, called: str) -> Result:
    """What comes of an operation, its path with it. Raises BadInput when it cannot be planned."""
    planned = engine.run(PLAN_PATH, given.path, f"{called}: path")
    obstacle = None
    if given.solids is not None and not given.path.operation.turns_work:
        stands = ObstacleGiven(given.solids, given.hold, given.machine, given.at)
        obstacle = engine.run(OBSTACLE, stands, "what stands round the work").content(FIELD)
    wanted = OperationGiven(given, planned.content(PATH), planned.content(FACTS), obstacle)
    return engine.run(CUT_OPERATION, wanted, called)


def _zero_off_top(operation: Operation, setup: str, lie: Round, outside: float) -> list[Finding]:
    """Where zero is on top neither of the cylinder the flat lies on nor of the stock (radius outside), every depth counts from elsewhere."""
    below = -lie.centre[2]
    if min(abs(below - lie.radius), abs(below - outside)) <= ZERO_OFF_MM:
        return []
    return [
        Finding(
            code="wrap.zero_height",
            severity="note",
            setup=setup,
            operation=operation.id,
            stage="cut",
            sentence=f"The rotary axis lies {below:.3f} mm below zero; on top of Ø{2 * lie.radius:g} it would be {lie.radius:g}: the depths do not count from there.",
            measured=round(below, 4),
            limit=lie.radius,
            unit="mm",
        )
    ]


def wrapped_fact(lie: Round, flat: Chords) -> WrappedFact:
    """How a flat path is laid out on its cylinder."""
    diameter, below = 2 * lie.radius, -lie.centre[2]
    ends = sorted(lie.angle_at(float(y)) for y in (flat.ends[:, 1].min(), flat.ends[:, 1].max()))
    return WrappedFact(
        axis=lie.axis,
        turns=(round(ends[0], 4), round(ends[1], 4)),
        flat_length=Reckoned(
            value=round(math.pi * diameter, 4),
            unit="mm",
            formula="once round = π·d",
            with_values=f"π·{diameter:g}",
            source="circumference of a circle",
        ),
        centre_below=Reckoned(
            value=round(below, 4),
            unit="mm",
            formula="centre below zero = d / 2 where zero is on top",
            with_values=f"d / 2 = {lie.radius:g}",
            source="common practice, no source",
        ),
    )


def _ends_of_moves(lines: Chords, ends_at: Floats, moves: int) -> Floats:
    """When each move of a path ends, s."""
    out = np.zeros(moves)
    np.maximum.at(out, lines.move, ends_at)
    return np.maximum.accumulate(out)


def _laid(
    flat: Chords, lie: Round, stock: Mesh, radius: float, ends_at: Floats
) -> tuple[Chords, Floats, Floats]:
    """A flat path laid round its axis: chords in the zero frame, the tool's axis of each, and when each ends, s. radius: of the cutter, mm.

    A chord's axis is that of its middle: it is so short that the cutter's rim is not tilted by more than TILTED_MM at its ends.
    """
    number = Chords(flat.starts, flat.ends, flat.what, np.arange(len(flat.what)))
    reach = farthest(stock, lie)
    error = min(CHORD_ERROR_MM, reach * (1 - math.cos(math.asin(min(1.0, TILTED_MM / radius)))))
    lines, axes = rolled(number, lie, reach, error)
    parts = np.bincount(lines.move, minlength=len(flat.what))
    before = np.concatenate([[0.0], ends_at[:-1]])
    share = (
        np.arange(len(lines.move)) - np.concatenate([[0], np.cumsum(parts)[:-1]])[lines.move] + 1
    ) / parts[lines.move]
    ends = before[lines.move] + share * (ends_at - before)[lines.move]
    return Chords(lines.starts, lines.ends, lines.what, flat.move[lines.move]), axes, ends


def _cut_z(lines: Chords, took: NDArray[np.bool_]) -> list[float] | None:
    """Lowest and highest Z that the program says where it took something off, mm from zero. took: of each chord."""
    if not took.any():
        return None
    return [float(np.minimum(lines.starts, lines.ends)[took, 2].min()), float(lines.ends[took, 2].max())]


@dataclass(frozen=True)
class Trouble:
    """What a trouble is told with: the operation, its moves in the zero frame (lines) and the work frame (sweep)."""

    operation: Operation
    setup: str
    lines: Chords
    sweep: Sweep
    ends_at: Floats

    def found(self, code: str, sentence: str, depths: Floats) -> list[Finding]:
        """A finding at the deepest of the depths (one for each chord, mm); none when none is deep enough.

        The sentence may name {depth} and {moves}.
        """
        worst = int(np.argmax(depths))
        if depths[worst] <= MEETS_MM:
            return []
        moves = len(np.unique(self.lines.move[depths > MEETS_MM]))
        # Not by format(): the sentence holds the operation's name, which may have braces of its own.
        told = sentence.replace("{depth}", f"{depths[worst]:.2f} mm")
        told = told.replace("{moves}", "1 move" if moves == 1 else f"{moves} moves")
        return [
            Finding(
                code=code,
                severity="error",
                setup=self.setup,
                operation=self.operation.id,
                stage="cut",
                sentence=told,
                measured=round(float(depths[worst]), 3),
                limit=0.0,
                unit="mm",
                place=(as_vector(self.sweep.ends[worst]),),
                move=int(self.lines.move[worst]),
                time_s=round(float(self.ends_at[worst]), 3),
            )
        ]


def stock_trouble(trouble: Trouble, hits: Hits) -> list[Finding]:
    """What the tool met in the stock that it must not meet."""
    name = trouble.operation.name
    what = trouble.sweep.what
    out = []
    for code, sentence, depths in (
        (
            "cut.rapid_in_stock",
            "A rapid move runs {depth} into the stock",
            np.where(what == RAPID, hits.rapid, 0.0),
        ),
        (
            "cut.spindle_stopped",
            "The tool is fed {depth} into the stock with the spindle stopped",
            np.where(what == STOPPED, hits.rapid, 0.0),
        ),
        ("cut.stock_above_flutes", "The cut stands {depth} above the flutes", hits.bodies[:, 0]),
        (
            "cut.shank_in_stock",
            "The shank runs {depth} into the stock",
            np.where(hits.bodies[:, 1] > hits.bodies[:, 0] + MEETS_MM, hits.bodies[:, 1], 0.0),
        ),
        ("cut.holder_in_stock", "The holder runs {depth} into the stock", hits.bodies[:, 2]),
        ("cut.spindle_in_stock", "The spindle nose runs {depth} into the stock", hits.bodies[:, 3]),
        (
            "cut.plunge_off_centre",
            "The tool goes straight down {depth} deep, and cannot cut at its centre",
            hits.core,
        ),
    ):
        out += trouble.found(code, f"{sentence} in {name} ({{moves}}).", depths)
    return out


def holding_trouble(trouble: Trouble, station: Station, met: Hits) -> list[Finding]:
    """Every part of the tool that met the holding or the table, with the name of what it met."""
    out = []
    shank = np.maximum(met.bodies[:, 0], met.bodies[:, 1])
    for what, depths in (
        ("cutter", met.rapid),
        ("shank", shank),
        ("holder", met.bodies[:, 2]),
        ("spindle", met.bodies[:, 3]),
    ):
        worst = int(np.argmax(depths))
        if depths[worst] <= MEETS_MM:
            continue
        named = "spindle nose" if what == "spindle" else what
        solid = _nearest_piece(station, trouble.lines.ends[worst])
        out += trouble.found(
            f"cut.{what}_in_holding",
            f"The {named} runs {{depth}} into the {solid} in {trouble.operation.name}.",
            depths,
        )
    return out


def wrapped_trouble(
    trouble: Trouble, still: Trouble, station: Station, axis: str, axes: Floats
) -> list[Finding]:
    """What the tool meets while the work turns under it.

    trouble: its moves as the work sees them, along axes (n, 3), for all that turns about the axis with the work; still: as the slides make
    them, for what stands still.
    """
    mesh = station.solids()
    if mesh is None:
        return []
    machine = station.machine
    rides = {solid.name: [one.name for one in machine.chain(solid.rides)] for solid in machine.solids}
    stands = [piece.item == "machine" and axis not in rides[piece.name] for piece in station.hold.pieces]
    out = []
    for told, way, own in (
        (trouble, axes, [i for i, one in enumerate(stands) if not one]),
        (still, UP, [i for i, one in enumerate(stands) if one]),
    ):
        mine = np.isin(mesh.label, own)
        field = (
            holding_field(Mesh(mesh.vertices, mesh.triangles[mine], mesh.label[mine])) if mine.any() else None
        )
        if field is not None:
            path, sweep = told.lines, told.sweep
            met = test(field, Sweep(path.starts, path.ends, path.what, way, sweep.cutter, sweep.bodies))
            out += holding_trouble(told, station, met)
    return out


def rotary_limits(trouble: Trouble, station: Station, lie: Round, flat: Chords) -> list[Finding]:
    """Whether the rotary axis can turn as far as a wrapped path asks."""
    axis = station.machine.axis(lie.axis)
    asked = [lie.angle_at(float(y)) for y in (flat.ends[:, 1].min(), flat.ends[:, 1].max())]
    out = []
    for value, limit, past in (
        (min(asked), axis.low, axis.low - min(asked)),
        (max(asked), axis.high, max(asked) - axis.high),
    ):
        if past > 1e-6 and not axis.endless:
            out.append(
                Finding(
                    code="reach.travel",
                    severity="error",
                    setup=trouble.setup,
                    operation=trouble.operation.name,
                    stage="reach",
                    sentence=f"{trouble.operation.name} needs {lie.axis} {value:.1f}°; {station.machine.name} stops at {limit:.1f}°.",
                    measured=round(value, 3),
                    limit=limit,
                    unit="°",
                )
            )
    return out


def slides_trouble(
    trouble: Trouble,
    station: Station,
    lines: Chords,
    lying: Callable[[], Mesh],
    stock: RayField,
    gauge: float,
) -> list[Finding]:
    """What head, column and slides of the machine run into while the tool goes along its path.

    stock: as it comes in; lying: its surface in the zero frame, made when they come near its box.
    """
    assert station.zero_on_table is not None
    # The table that stands for the machine's own where it does not turn is its table.
    still = [*((piece.name, solid) for piece, solid in solids_of(station) if piece.item != "table")]
    up = np.array([0.0, 0.0, gauge])
    moving = slides(station.machine, station.zero_on_table, station.at)
    starts, ends = lines.starts + up, lines.ends + up
    bounds = extents(stock)
    if bounds is not None and met_by_slides(
        moving, starts, ends, [("work", transformed(box(*bounds), station.zero_from_work))]
    ):
        still = [("work", lying()), *still]
    return [
        Finding(
            code="reach.slide_meets",
            severity="error",
            setup=station.setup,
            operation=trouble.operation.id,
            stage="reach",
            sentence=f"In {trouble.operation.name} the machine's {met.slide} runs {met.depth:.1f} mm into the {met.what}.",
            measured=round(met.depth, 3),
            limit=0.0,
            unit="mm",
            place=(as_vector(moved(inverse(station.zero_from_work), met.nose - up)),),
        )
        for met in met_by_slides(moving, starts, ends, still)
    ]


def solids_of(station: Station) -> list[tuple[PieceFact, Mesh]]:
    """Every solid that stands round the work, with what it is."""
    mesh = station.solids()
    return (
        [] if mesh is None else [(piece, with_label(mesh, i)) for i, piece in enumerate(station.hold.pieces)]
    )


def _nearest_piece(station: Station, at: Floats) -> str:
    """The name of the holding's solid nearest to a point of the zero frame."""
    mesh = station.solids()
    assert mesh is not None
    away = [float(signed_distance(at[None], with_label(mesh, i))[0]) for i in range(len(station.hold.pieces))]
    return station.hold.pieces[int(np.argmin(away))].name


def loose_pieces(trouble: Trouble, before: RayField, after: RayField) -> list[Finding]:
    """Pieces that this operation set free: a slug under a through cut, a corner cut off."""
    least = CRUMB_CELLS * after.grid.cell**3
    stood = [piece for piece in pieces(before) if piece.volume > least]
    now = [piece for piece in pieces(after) if piece.volume > least]
    out = []
    for piece in now[max(1, len(stood)) :]:
        size = " × ".join(f"{length:.1f}" for length in piece.high - piece.low)
        out.append(
            Finding(
                code="cut.loose_piece",
                severity="warning",
                setup=trouble.setup,
                operation=trouble.operation.id,
                stage="cut",
                sentence=f"{trouble.operation.name} sets a piece of {size} mm free ({piece.volume / 1000:.2f} cm³).",
                measured=round(piece.volume, 1),
                limit=0.0,
                unit="mm³",
                place=(as_vector((piece.low + piece.high) / 2),),
            )
        )
    return out


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
