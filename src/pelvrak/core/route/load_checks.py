"""Does a load stand: its places clear of each other, on the table, within the travels, and no tool at one
place in what stands at another?
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import Chords, chords, swept_by
from pelvrak.core.cutting.tools import Tool, body_profiles
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    box_corners,
    joined,
    to_solid,
    transformed,
    volume,
    with_label,
)
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.load.load import Load
from pelvrak.core.machine.index import Turned, reach_of
from pelvrak.core.machine.slides import Slide, met_by_slides, slides
from pelvrak.core.machine.travel import check_table
from pelvrak.core.route.load_places import Stood, wrong, zero_of
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, FIELD, PATH, SURFACE
from pelvrak.core.route.report import OperationReport, SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.station import compact, held_solids, holding_field
from pelvrak.core.route.swinging import swung_with
from pelvrak.core.route.together import SHARED_MM3
from pelvrak.core.route.turning import Turning
from pelvrak.core.stock.cut import RAPID, test
from pelvrak.core.stock.field import error_of
from pelvrak.core.stock.profile import Profile

# Room wanted between a tool at one place and what stands at another, mm: common practice, no source.
ROOM_MM = 3.0
# What a finding tells beside its words.
More = dict[str, Any]
# EN 10025: 7850 kg/m³ for structural steel (from memory).
STEEL_KG_MM3 = 7.85e-6
# A gap is known to this, mm.
NEAR_MM = 0.1


@dataclass(frozen=True)
class BodyGiven:
    """What stands at a place, zero frame. stock: surface that comes in; solids: of the holding; shift: of the
    frame they are kept in; kept: numbers of its pieces that are each place's own.
    """

    stock: Content
    zero_from_work: Floats
    solids: Content | None
    shift: Vector
    kept: tuple[int, ...]


def _body(given: BodyGiven, reads: Reads) -> Pieces:
    work = transformed(reads.read(given.stock, SURFACE), given.zero_from_work)
    out = [Mesh(work.vertices, work.triangles, np.zeros(len(work.triangles), np.int64))]
    if given.solids is not None:
        holding = held_solids(reads, given.solids, given.shift)
        out += [compact(with_label(holding, n), 1) for n in given.kept]
    return {SURFACE: joined(out)}


PLACE_BODY = Step("what stands at a place", 1, BodyGiven, _body)


@dataclass(frozen=True)
class FieldGiven:
    """What stands at a place, to be put on rays."""

    body: Content


def _field(given: FieldGiven, reads: Reads) -> Pieces:
    field = holding_field(reads.read(given.body, SURFACE))
    assert field is not None
    return {FIELD: field}


PLACE_FIELD = Step("rays of a place", 1, FieldGiven, _field)


@dataclass(frozen=True)
class Occupied:
    """A place with what stands there. body: work and holding, zero frame, labelled 0 and 1, without the table
    and what it has in common with others; low, high: of them, mm on the table.
    """

    one: Stood
    body: Result
    low: Floats
    high: Floats


def occupied(run: Run, stood: list[Stood]) -> list[Occupied]:
    """What stands at each place: like places have one body."""
    bodies: dict[str, tuple[Result, Floats, Floats]] = {}
    out = []
    for one in stood:
        if one.place.cut_as not in bodies:
            body = _body_of(run, one)
            corners = body.value(SURFACE).vertices
            bodies[one.place.cut_as] = body, corners.min(axis=0), corners.max(axis=0)
        body, low, high = bodies[one.place.cut_as]
        at = np.array(zero_of(one))
        out.append(Occupied(one, body, low + at, high + at))
    return out


def _body_of(run: Run, one: Stood) -> Result:
    hold = one.cut.turning.hold
    kept = tuple(n for n, p in enumerate(hold.pieces) if p.item not in ("table", "machine", *one.place.stays))
    given = BodyGiven(
        surface_of(run.engine, one.cut.incoming_key).content(SURFACE),
        one.cut.turning.zero_from_work,
        None if hold.key is None else Result(hold.key, run.engine).content(SURFACE),
        hold.shift,
        kept,
    )
    return run.engine.run(PLACE_BODY, given, f"{one.place.setup}: what stands at a place")


def overlaps(load: Load, places: list[Occupied]) -> list[Finding]:
    """Places where works or holdings stand in each other."""
    out = []
    seen: dict[tuple[str, str, tuple[float, ...]], float] = {}
    for n, there in enumerate(places):
        for here in places[:n]:
            if (there.low >= here.high - 1e-6).any() or (there.high <= here.low + 1e-6).any():
                continue
            one, two = here.one, there.one
            between = np.subtract(zero_of(two), zero_of(one))
            key = one.place.cut_as, two.place.cut_as, tuple(np.round(between, 4).tolist())
            if key not in seen:
                solids = [
                    to_solid(transformed(at.body.value(SURFACE), rigid(np.eye(3), by)))
                    for at, by in ((here, np.zeros(3)), (there, between))
                ]
                seen[key] = float((solids[0] ^ solids[1]).volume())
            if seen[key] > SHARED_MM3:
                said = (
                    f"What stands at {one.place.key} and {two.place.key} of {load.name} is in one place:"
                    f" {seen[key] / 1000:.1f} cm³ of both."
                )
                told: dict[str, Any] = {
                    "measured": round(seen[key], 1),
                    "limit": 0.0,
                    "unit": "mm³",
                    "stage": "hold",
                }
                out.append(wrong(two.place, "load.overlap", said, **told))
    return out


def off_the_table(load: Load, stood: list[Stood]) -> list[Finding]:
    """Places whose holding hangs over the table's edge, further than it does as its setup is planned."""
    out = []
    for one in stood:
        hold, machine, setup = one.turning.hold, one.turning.machine, one.place.setup
        standing = [(p.name, p.item, p.low, p.high) for p in hold.pieces if p.name != "table"]
        planned = one.cut.turning.zero_on_table
        assert planned is not None
        own = [found.measured or 0.0 for found in check_table(machine, planned, standing, setup)]
        for found in check_table(machine, zero_of(one), standing, setup):
            if (found.measured or 0.0) <= max(own, default=0.0) + 1e-6:
                continue
            said = f"At {one.place.key} of {load.name}: {found.sentence}"
            told: dict[str, Any] = {
                "measured": found.measured,
                "limit": found.limit,
                "unit": found.unit,
                "stage": "hold",
            }
            out.append(wrong(one.place, "load.off_table", said, **told))
    return out


def on_the_table(
    run: Run, load: Load, places: list[Occupied], setups: dict[str, SetupReport]
) -> tuple[float, list[Finding]]:
    """What stands on the table in all, kg, holdings taken as of steel; and whether that is too much for
    it.
    """
    works = holdings = 0.0
    own: dict[str, float] = {}
    once: dict[tuple[str, tuple[float, ...]], float] = {}
    for there in places:
        one, name = there.one, there.one.place.cut_as
        works += setups[name].incoming_mass_kg
        known = name in own
        if not known:
            own[name] = volume(with_label(there.body.value(SURFACE), 1))
        holdings += own[name]
        hold = one.cut.turning.hold
        stays = [n for n, piece in enumerate(hold.pieces) if piece.item in one.place.stays]
        # What stays stands where the setup is planned, for all its places.
        if known or hold.key is None or not stays:
            continue
        solids = Result(hold.key, run.engine).value(SURFACE)
        zero = np.subtract(zero_of(one), one.shift)
        for n in stays:
            at = tuple(np.round(np.add(hold.pieces[n].low, zero), 2).tolist())
            once[hold.pieces[n].name, at] = volume(with_label(solids, n))
    mass = works + (holdings + sum(once.values())) * STEEL_KG_MM3
    table = places[0].one.turning.machine.table
    if table.load_kg is None or mass <= table.load_kg:
        return round(mass, 2), []
    said = f"{mass:.0f} kg stand on the table in {load.name}, holdings taken as of steel; it takes"
    told: dict[str, Any] = {"measured": round(mass, 1), "limit": table.load_kg, "unit": "kg"}
    first = places[0].one.place
    return round(mass, 2), [
        wrong(first, "load.too_heavy", f"{said} {table.load_kg:g}.", stage="hold", **told)
    ]


def past_the_travels(load: Load, stood: list[Stood], setups: dict[str, SetupReport]) -> list[Finding]:
    """Operations that would go past an axis's limit at a place, where they do not as their setup is
    planned.
    """
    out = []
    for one in stood:
        machine = one.turning.machine
        least, most = machine.limits()
        for told, planned in _cut_there(one, setups):
            at = one.turning.turned.get(told.position or "")
            if told.low is None or told.high is None or at is None:
                continue
            low, high = reach_of(
                machine,
                zero_of(one),
                at,
                np.array(told.low),
                np.array(told.high),
                planned.gauge_length,
            )
            over = np.maximum(np.maximum(least - low, high - most), 0.0)
            axis = int(np.argmax(over))
            if over[axis] > 1e-6:
                said = (
                    f"{told.name} at {one.place.key} of {load.name} goes {over[axis]:.1f} mm past the end of"
                    f" {'XYZ'[axis]}."
                )
                more: dict[str, Any] = {
                    "measured": round(float(over[axis]), 2),
                    "limit": 0.0,
                    "unit": "mm",
                    "stage": "reach",
                }
                out.append(wrong(one.place, "load.travel", said, operation=told.id, **more))
    return out


def _cut_there(one: Stood, setups: dict[str, SetupReport]) -> list[tuple[OperationReport, Tool]]:
    """What is cut at a place, each with its tool."""
    tools = {planned.run: planned.tool for planned in one.cut.planned}
    return [(told, tools[told.run]) for told in setups[one.place.cut_as].operations if told.run in tools]


@dataclass(frozen=True)
class NeighbourGiven:
    """A path at one place, and what stands at another. body: there, its zero frame; field: the same on rays;
    from_local: 4×4, of the plane the path is in to that zero frame; slides: of the machine that could come
    near it.
    """

    path: Content
    tool: Tool
    nose: tuple[float, float]
    body: Content
    field: Content
    from_local: Floats
    slides: tuple[Slide, ...]


def _passed(given: NeighbourGiven, reads: Reads) -> Pieces:
    """How near the tool comes sideways, mm, None where there is room enough; into: how deep it comes in;
    slide: what of the machine does, and how deep.
    """
    field, path = reads.read(given.field, FIELD), reads.read(given.path, PATH).path
    flat = chords(path)
    slide = _slide_met(given, flat, reads)
    starts, ends = (moved(given.from_local, places) for places in (flat.starts, flat.ends))
    what = np.full(len(flat.what), RAPID, np.uint8)
    bare = swept_by(given.tool, given.nose, starts, ends, what, turned(given.from_local, UP))
    known = error_of(field.grid.cell)

    def met(by: float) -> float:
        """How deep a tool comes in that is so much wider all round, mm."""
        bodies = tuple(_wider(one, by) for one in bare.bodies)
        hits = test(field, replace(bare, cutter=_wider(bare.cutter, by), bodies=bodies))
        return float(hits.deepest.max())

    into = met(0.0)
    if into > known:
        return {FACTS: {"gap": 0.0, "into": round(into, 3), "slide": slide}}
    if met(ROOM_MM) <= known:
        return {FACTS: {"gap": None, "into": 0.0, "slide": slide}}
    free, taken = 0.0, ROOM_MM
    while taken - free > NEAR_MM:
        middle = (free + taken) / 2
        free, taken = (free, middle) if met(middle) > known else (middle, taken)
    return {FACTS: {"gap": round(free, 3), "into": 0.0, "slide": slide}}


def _slide_met(given: NeighbourGiven, flat: Chords, reads: Reads) -> list[Any] | None:
    """Which slide runs deepest into what stands there, and how deep, mm; None where none does."""
    if not given.slides:
        return None
    body = transformed(reads.read(given.body, SURFACE), inverse(given.from_local))
    up = np.array([0.0, 0.0, given.tool.gauge_length])
    met = met_by_slides(list(given.slides), flat.starts + up, flat.ends + up, [("there", body)])
    worst = max(met, key=lambda one: one.depth, default=None)
    return None if worst is None else [worst.slide, round(worst.depth, 3)]


def _wider(profile: Profile, by: float) -> Profile:
    """A body wider all round."""
    ball = None if profile.ball is None else (profile.ball[0], profile.ball[1] + by)
    return Profile(profile.heights, tuple(radius + by for radius in profile.radii), ball)


PASS_NEIGHBOUR = Step("past a neighbour", 3, NeighbourGiven, _passed)


class _Slides:
    """The slides of a setup's machine as they lie at its places: with all angles as they are, a shift on the
    table shifts them by as much for each mm.
    """

    def __init__(self, turning: Turning, at: Turned) -> None:
        assert turning.zero_on_table is not None
        self.planned = np.array(turning.zero_on_table)
        self.here = slides(turning.machine, as_vector(self.planned), at)
        self.by = [
            np.column_stack([b.mesh.vertices[0] - a.mesh.vertices[0] for b in (x, y)])
            for a, x, y in zip(
                self.here,
                *(slides(turning.machine, as_vector(self.planned + way), at) for way in np.eye(3)[:2]),
                strict=True,
            )
        ]

    def at(self, shift: tuple[float, float]) -> list[Slide]:
        """At a place. shift: from where the setup is planned, mm."""
        return [
            replace(one, mesh=transformed(one.mesh, rigid(np.eye(3), np.round(by @ np.array(shift), 6))))
            for one, by in zip(self.here, self.by, strict=True)
        ]


def neighbours(run: Run, load: Load, places: list[Occupied], setups: dict[str, SetupReport]) -> list[Finding]:
    """Tools at one place, and slides of the machine, that come into, or near to, what stands at another."""
    out = []
    known: dict[tuple[str, str], _Slides] = {}
    boxes = np.array([box_corners(there.low, there.high) for there in places])
    for here in places:
        one = here.one
        for told, tool in _cut_there(one, setups):
            position = told.position or ""
            at = one.turning.turned.get(position)
            if told.key is None or told.low is None or told.high is None or at is None:
                continue
            key = one.place.cut_as, position
            if key not in known:
                known[key] = _Slides(one.cut.turning, at)
            moving = known[key].at(one.place.at)
            for number, could in _come_near(here, boxes, (told, tool), at, moving):
                there = places[number]
                if there is here:
                    continue
                given = _past(run, here, there, (told, tool), at, could)
                called = f"{told.name} at {one.place.key} past {there.one.place.key}"
                facts = run.engine.run(PASS_NEIGHBOUR, given, called).value(FACTS)
                if facts["gap"] is not None:
                    out.append(_near_finding(load, one, there.one, told, facts))
                if facts["slide"] is not None:
                    out.append(_slide_finding(load, one, there.one, told, facts["slide"]))
    return out


def _come_near(
    here: Occupied,
    boxes: Floats,
    cut: tuple[OperationReport, Tool],
    at: Turned,
    moving: list[Slide],
) -> Iterator[tuple[int, tuple[Slide, ...]]]:
    """The places that tool or slides come near to anywhere in an operation, by their boxes, and which slides.
    boxes: (places, 8, 3) on the table, mm.
    """
    (told, tool), machine, zero = cut, here.one.turning.machine, np.array(zero_of(here.one))
    assert told.low is not None and told.high is not None
    lying = moved(at.local_from_zero, boxes.reshape(-1, 3) - zero).reshape(boxes.shape)
    lows, highs = lying.min(axis=1), lying.max(axis=1)
    reach = max(tool.DC / 2, *(_widest(tool, machine.spindle.nose))) + ROOM_MM
    tips = moved(inverse(at.local_from_zero), box_corners(told.low, told.high)) + zero
    least, most = tips.min(axis=0) - reach, tips.max(axis=0) + reach
    # Whatever is over the tip is tool: only from below is there always room.
    near = (least[:2] < boxes.max(axis=1)[:, :2]).all(axis=1) & (most[:2] > boxes.min(axis=1)[:, :2]).all(
        axis=1
    )
    near &= least[2] < boxes.max(axis=1)[:, 2]
    noses = box_corners(told.low, told.high) + [0.0, 0.0, tool.gauge_length]
    could = []
    for slide in moving:
        goes = noses @ slide.follows.T
        low = slide.mesh.vertices.min(axis=0) + goes.min(axis=0)
        high = slide.mesh.vertices.max(axis=0) + goes.max(axis=0)
        could.append((low < highs).all(axis=1) & (high > lows).all(axis=1))
    for number in range(len(boxes)):
        mine = tuple(slide for slide, meets in zip(moving, could, strict=True) if meets[number])
        if mine or near[number]:
            yield number, mine


def _past(
    run: Run,
    here: Occupied,
    there: Occupied,
    cut: tuple[OperationReport, Tool],
    at: Turned,
    could: tuple[Slide, ...],
) -> NeighbourGiven:
    """An operation at one place and what stands at another. could: slides that may come near it."""
    told, tool = cut
    assert told.key is not None
    to_table = rigid(np.eye(3), np.array(zero_of(here.one))) @ inverse(at.local_from_zero)
    frame = rigid(np.eye(3), -np.array(zero_of(there.one))) @ to_table
    body = there.body.content(SURFACE)
    rays = run.engine.run(PLACE_FIELD, FieldGiven(body), f"rays of {there.one.place.setup}")
    return NeighbourGiven(
        Result(told.key, run.engine).content(PATH),
        nameless_tool(tool, TOOL),
        here.one.turning.machine.spindle.nose,
        body,
        rays.content(FIELD),
        np.round(frame, 6),
        could,
    )


def _widest(tool: Tool, nose: tuple[float, float]) -> list[float]:
    return [profile.widest for profile in body_profiles(tool, nose)]


def _slide_finding(
    load: Load, one: Stood, other: Stood, told: OperationReport, met: tuple[str, float]
) -> Finding:
    said = (
        f"While {told.name} is cut at {one.place.key}, the {met[0]} of the machine runs {met[1]:.1f} mm into"
        f" what stands at {other.place.key}."
    )
    more: dict[str, Any] = {"measured": met[1], "limit": 0.0, "unit": "mm", "stage": "reach"}
    return wrong(one.place, "load.slide_meets", said, operation=told.id, **more)


def swung(run: Run, load: Load, places: list[Occupied], setups: dict[str, SetupReport]) -> list[Finding]:
    """What stands at one place and meets something while the work at another is turned: all that rides on one
    table is turned with it.
    """
    out, seen = [], set()
    for here in places:
        one = here.one
        if one.place.setup in seen or not one.turning.machine.rotary:
            continue
        seen.add(one.place.setup)
        tools = {planned.tool.id: planned.tool for planned in one.cut.planned}
        for there in places:
            if there is here:
                continue
            found = swung_with(
                run,
                one.turning,
                list(setups[one.place.cut_as].operations),
                tools,
                there.body.content(SURFACE),
                zero_of(there.one),
                f"work at {there.one.place.key}",
            )
            out += [
                finding.model_copy(update={"sentence": f"{load.name}: {finding.sentence}", "place": ()})
                for finding in found
            ]
    return out


def _near_finding(
    load: Load, one: Stood, other: Stood, told: OperationReport, facts: dict[str, float]
) -> Finding:
    into, gap = facts["into"], facts["gap"]
    said = (
        f"{told.tool_name} of {told.name} at {one.place.key} comes {into:.2f} mm into what stands at"
        f" {other.place.key}."
        if into
        else f"{told.tool_name} of {told.name} at {one.place.key} passes {other.place.key} by {gap:.1f} of"
        f" {ROOM_MM:g} mm."
    )
    more: dict[str, Any] = {
        "measured": -into if into else gap,
        "limit": ROOM_MM,
        "unit": "mm",
        "stage": "reach",
    }
    severity = "error" if into else "warning"
    return wrong(one.place, "load.neighbour", said, severity=severity, operation=told.id, **more)
