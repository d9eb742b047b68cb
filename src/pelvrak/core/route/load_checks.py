"""Does a load stand: its places clear of each other, on the table, and within the travels?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    joined,
    to_solid,
    transformed,
    volume,
    with_label,
)
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.load.load import Load
from pelvrak.core.machine.index import reach_of
from pelvrak.core.machine.travel import check_table
from pelvrak.core.route.load_places import Stood, wrong, zero_of
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FIELD, SURFACE
from pelvrak.core.route.report import OperationReport, SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.station import compact, held_solids, holding_field
from pelvrak.core.route.swinging import swung_with
from pelvrak.core.route.together import SHARED_MM3

# What a finding tells beside its words.
More = dict[str, Any]
# EN 10025: 7850 kg/m³ for structural steel (from memory).
STEEL_KG_MM3 = 7.85e-6


@dataclass(frozen=True)
class BodyGiven:
    """What stands at a place, zero frame. stock: surface that comes in, None: without; solids: of the
    holding; shift: of the frame they are kept in; kept: numbers of its pieces that are told.
    """

    stock: Content | None
    zero_from_work: Floats
    solids: Content | None
    shift: Vector
    kept: tuple[int, ...]


def _body(given: BodyGiven, reads: Reads) -> Pieces:
    out = []
    if given.stock is not None:
        work = transformed(reads.read(given.stock, SURFACE), given.zero_from_work)
        out = [Mesh(work.vertices, work.triangles, np.zeros(len(work.triangles), np.int64))]
    if given.solids is not None:
        holding = held_solids(reads, given.solids, given.shift)
        out += [compact(with_label(holding, n), 1) for n in given.kept]
    return {SURFACE: joined(out)}


PLACE_BODY = Step("what stands at a place", 2, BodyGiven, _body)


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
class Standing:
    """Something that stands on the table. called: as findings call it; body: labelled 0 where it is work, 1
    where it holds, in a frame whose zero lies at `at`, mm on the table; low, high: of it, mm on the table.
    """

    called: str
    body: Result
    at: Vector
    low: Floats
    high: Floats

    @property
    def stands(self) -> str:
        """What it is, in a sentence."""
        return self.called


@dataclass(frozen=True)
class Occupied(Standing):
    """A place with what stands there, work and holding, without the table and what it has in common with
    others.
    """

    one: Stood

    @property
    def stands(self) -> str:
        return f"what stands at {self.called}"


def occupied(run: Run, stood: list[Stood]) -> list[Occupied]:
    """What stands at each place: like places have one body."""
    bodies: dict[str, tuple[Result, Floats, Floats]] = {}
    out = []
    for one in stood:
        if one.place.cut_as not in bodies:
            body = _body_of(run, one, stays=False)
            corners = body.value(SURFACE).vertices
            bodies[one.place.cut_as] = body, corners.min(axis=0), corners.max(axis=0)
        body, low, high = bodies[one.place.cut_as]
        at = zero_of(one)
        out.append(Occupied(one.place.key, body, at, low + at, high + at, one))
    return out


def in_common(run: Run, places: list[Occupied]) -> dict[str, Standing]:
    """What stands once for all places of a setup, where the setup is planned, by its name."""
    out: dict[str, Standing] = {}
    for there in places:
        one = there.one
        if one.place.setup in out or not one.place.stays:
            continue
        body = _body_of(run, one, stays=True)
        corners = body.value(SURFACE).vertices
        if not len(corners):
            continue
        at = np.subtract(zero_of(one), one.shift)
        called = f"what all places of {one.place.setup} have in common"
        low, high = corners.min(axis=0) + at, corners.max(axis=0) + at
        out[one.place.setup] = Standing(called, body, as_vector(at), low, high)
    return out


def _body_of(run: Run, one: Stood, stays: bool) -> Result:
    """Work and holding of a place, or what of the holding stays where it is."""
    hold, shared = one.cut.turning.hold, one.place.stays
    own = [n for n, piece in enumerate(hold.pieces) if piece.item not in ("table", "machine")]
    given = BodyGiven(
        None if stays else surface_of(run.engine, one.cut.incoming_key).content(SURFACE),
        one.cut.turning.zero_from_work,
        None if hold.key is None else Result(hold.key, run.engine).content(SURFACE),
        hold.shift,
        tuple(n for n in own if (hold.pieces[n].item in shared) == stays),
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
        for told, planned in cut_there(one, setups):
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


def cut_there(one: Stood, setups: dict[str, SetupReport]) -> list[tuple[OperationReport, Tool]]:
    """What is cut at a place, each with its tool."""
    tools = {planned.run: planned.tool for planned in one.cut.planned}
    return [(told, tools[told.run]) for told in setups[one.place.cut_as].operations if told.run in tools]


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
