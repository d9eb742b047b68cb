"""What holds the work in a setup of the route, kept by what it was computed from."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.callout import tolerances
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.holes import upright_holes
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    box_corners,
    crease_lines,
    joined,
    transformed,
    with_label,
)
from pelvrak.core.geometry.part import PartModel, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.holding.build import CutJaws, Piece, Shapes
from pelvrak.core.holding.clamping import Load, holding_from
from pelvrak.core.holding.contact import NEAR_MM
from pelvrak.core.holding.facts import HoldFacts, PieceFact, SafetyFact
from pelvrak.core.holding.hold import Hold, fixtures_of
from pelvrak.core.holding.holding import Held, Metal, built_up, held_by_nothing, judge
from pelvrak.core.holding.kinds import Fixture, Own
from pelvrak.core.holding.nest import BLOCK_SCREW
from pelvrak.core.route.jaws import Solved
from pelvrak.core.route.loads import load_of, safeties, told
from pelvrak.core.route.naming import SETUP, named, nameless_fixtures
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import CLAMPING, CONTACTS, FACTS, PART, PICTURE, SIMPLIFY_MM, SURFACE
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import OperationReport
from pelvrak.core.route.run import Run, mesh_in
from pelvrak.core.route.station import held_solids


@dataclass
class Kept:
    """A holding out of the store: facts and findings in the setup's orientation."""

    facts: HoldFacts
    findings: list[Finding]


@dataclass(frozen=True)
class HoldGiven:
    """What holds the work in a setup: nothing here has a name but its items.

    part: its holes; stock: surface of what comes in; lying: 4×4, the setup's orientation from the work frame;
    fixtures: the whole library, out of which things are proposed; sizes: limits typed on the part's faces,
    mm; density kg/mm³; own: solids of the shop by item; cut: soft jaws and nests by item; as_came: faces that
    stay as they came, rough.
    """

    part: Content
    stock: Content
    lying: Floats
    hold: Hold
    fixtures: tuple[Fixture, ...]
    sizes: dict[int, tuple[float, float]]
    density: float
    material: str
    magnetic: bool
    own: dict[str, Mesh]
    cut: dict[str, CutJaws]
    as_came: tuple[int, ...]


def _finished(part: PartModel, as_came: tuple[int, ...], lying: Floats) -> Mesh:
    """The faces of the part that are to be as drawn."""
    kept = ~np.isin(part.mesh.label, as_came)
    return transformed(Mesh(part.mesh.vertices, part.mesh.triangles[kept], part.mesh.label[kept]), lying)


def _slip(hold: Hold) -> float:
    """The room that a nest leaves the work on each side, mm: its walls hold it within that."""
    return max((item.cut.slip for item in hold.items if item.cut is not None), default=0.0)


def _hold(given: HoldGiven, reads: Reads) -> Pieces:
    if not given.hold.items:
        return hold_pieces(held_by_nothing(SETUP))
    model = reads.read(given.part, PART)
    fixtures = {one.id: one for one in given.fixtures}
    built = built_up(
        given.hold,
        fixtures,
        transformed(reads.read(given.stock, SURFACE), given.lying),
        Shapes(
            upright_holes(model.part, given.lying, given.sizes),
            given.own,
            given.cut,
            _finished(model, given.as_came, given.lying),
        ),
        # Cut to the work, both surfaces are only known to what their pictures are simplified to.
        NEAR_MM + 2 * SIMPLIFY_MM + _slip(given.hold) if given.cut else NEAR_MM,
    )
    # Half of it: who is not wanted any more ends here.
    reads.tell(0.5)
    held = judge(given.hold, fixtures, built, SETUP, Metal(given.density, given.material, given.magnetic))
    return hold_pieces(held)


HOLD = Step("hold", 7, HoldGiven, _hold)


def held_in(
    run: Run,
    setup: Setup,
    incoming_key: str,
    lying: Floats,
    density: float,
    cut: dict[str, CutJaws],
    rough: tuple[int, ...],
) -> Kept:
    """What holds the work in a setup.

    lying: 4×4, the setup's orientation from the work frame. cut: soft jaws and nests by item. rough: faces of
    the part that stay as they came, or are not there.
    """
    fixtures = fixtures_of(run.plan.fixtures)
    own = {
        item.id: mesh_in(run.files(one.sha256, one.file), one.file, run.engine)
        for item in setup.hold.items
        if isinstance(one := fixtures.get(item.fixture), Own)
    }
    stock = surface_of(run.engine, incoming_key).content(SURFACE)
    bare, names = nameless_fixtures(fixtures)
    given = HoldGiven(
        run.part_content,
        stock,
        lying,
        setup.hold,
        bare,
        sizes_typed(run),
        density,
        run.material.name,
        run.material.magnetic,
        own,
        cut,
        rough,
    )
    result = run.step(HOLD, given, f"{setup.name} holding")
    told = named(result.value(FACTS), {SETUP: setup.name, **names})
    facts = HoldFacts.model_validate(told["facts"])
    if facts.pieces:
        facts = facts.model_copy(update={"key": result.key})
    return Kept(facts, [Finding.model_validate(f) for f in told["findings"]])


def sizes_typed(run: Run) -> dict[int, tuple[float, float]]:
    """Limits of size of the part's faces, from its file or typed, by face number, mm; lost and senseless ones
    are told elsewhere.
    """
    found = tolerances(run.part.part, run.plan.part.callouts)
    return {face: (meant.low, meant.high) for face, meant in found.items() if meant.kind == "limits"}


def hold_pieces(held: Held) -> Pieces:
    """A holding as a result: its solids, its contacts as a picture, and what clamping is reckoned from."""
    solids = joined(
        [
            replace(p.mesh, label=np.full(len(p.mesh.triangles), i, np.int64))
            for i, p in enumerate(held.pieces)
        ]
    )
    # To a nanometre: the noise of a float's last digits is no other shape.
    solids = replace(solids, vertices=np.round(solids.vertices, 6) + 0.0)
    corners = [patch.triangles for patch in held.patches]
    flat = np.concatenate(corners).reshape(-1, 3) if corners else np.zeros((0, 3))
    owner = np.repeat(np.arange(len(corners)), [len(c) for c in corners]).astype(np.int64)
    touching = Mesh(flat, np.arange(len(flat)).reshape(-1, 3).astype(np.int64), owner)
    told = {
        "facts": held.facts.model_dump(mode="json"),
        "findings": [f.model_dump(mode="json") for f in held.findings],
    }
    return {
        SURFACE: solids,
        PICTURE: to_glb(solids, crease_lines(solids)),
        CONTACTS: to_glb(touching, np.zeros((0, 2, 3))),
        CLAMPING: held.problem.as_json() if held.problem else None,
        FACTS: told,
    }


@dataclass(frozen=True)
class JawHoldGiven:
    """What holds soft jaws while they are cut. used: solids of the holding they grip in later, which lies at
    shift; facts: of it; item: the jaws; block: what stands between them, zero frame.
    """

    used: Content
    shift: Vector
    facts: HoldFacts
    item: str
    block: Mesh | None


def _hold_jaws(given: JawHoldGiven, reads: Reads) -> Pieces:
    used = given.facts
    whole = held_solids(reads, given.used, given.shift)
    kept = [
        (fact, with_label(whole, i))
        for i, fact in enumerate(used.pieces)
        if (fact.item != given.item or fact.name == BLOCK_SCREW) and fact.role != "clamps"
    ]
    named = [Piece(fact.item, fact.name, "body", mesh) for fact, mesh in kept]
    if given.block is not None:
        named.append(Piece("spacer", "spacer", "body", given.block))
    facts = HoldFacts(
        opening=used.opening,
        opening_max=used.opening_max,
        zero_on_table=used.zero_on_table,
        jaw_top=used.jaw_top,
        pieces=tuple(
            PieceFact(
                name=p.name,
                item=p.item,
                role=p.role,
                low=as_vector(p.mesh.vertices[np.unique(p.mesh.triangles)].min(axis=0)),
                high=as_vector(p.mesh.vertices[np.unique(p.mesh.triangles)].max(axis=0)),
            )
            for p in named
        ),
    )
    return hold_pieces(Held(facts, [], named, [], None))


JAW_HOLD = Step("jaw holding", 2, JawHoldGiven, _hold_jaws)


def held_for_cutting(
    run: Run, setup: Setup, used: HoldFacts, solved: Solved, block: Mesh | None
) -> HoldFacts:
    """What holds soft jaws while they are cut: the vise of their use without them, and a spacer between (zero
    frame).
    """
    assert used.key is not None
    content = Result(used.key, run.engine).content(SURFACE)
    bare = HoldFacts(
        opening=used.opening,
        opening_max=used.opening_max,
        zero_on_table=used.zero_on_table,
        jaw_top=used.jaw_top,
        pieces=used.pieces,
    )
    given = JawHoldGiven(content, used.shift, bare, solved.item.id, block)
    result = run.step(JAW_HOLD, given, f"{setup.name} holding")
    facts = HoldFacts.model_validate(result.value(FACTS)["facts"])
    return facts.model_copy(update={"key": result.key if facts.pieces else None})


def safety_of(
    run: Run,
    setup: Setup,
    hold: HoldFacts,
    box: tuple[Floats, Floats],
    reports: list[OperationReport],
    tools: dict[str, Tool],
    planes: dict[str, Floats],
) -> tuple[SafetyFact, ...]:
    """How well the holding stands each operation. box: of the stock, zero frame; planes: by index position,
    4×4 from the zero frame.
    """
    out: list[SafetyFact] = []
    for name, plane in planes.items():
        there = [report for report in reports if (report.position or "") == name]
        ends = moved(plane, box_corners(as_vector(box[0]), as_vector(box[1])))
        back = inverse(plane)
        for fact in _safety_at(run, setup, hold, (ends.min(axis=0), ends.max(axis=0)), there, tools, plane):
            out.append(
                fact.model_copy(
                    update={
                        "place": as_vector(np.round(moved(back, np.array(fact.place)), 3) + 0.0),
                        "force": as_vector(np.round(turned(back, np.array(fact.force)), 1) + 0.0),
                    }
                )
            )
    return tuple(out)


def _safety_at(
    run: Run,
    setup: Setup,
    hold: HoldFacts,
    box: tuple[Floats, Floats],
    reports: list[OperationReport],
    tools: dict[str, Tool],
    plane: Floats,
) -> tuple[SafetyFact, ...]:
    if hold.key is None or not reports:
        return ()
    loads = [
        load
        for report in reports
        if report.tool in tools and (load := load_of(report, tools[report.tool], run.material, *box))
    ]
    # Told by its number: what an operation is called changes nothing of how it is held.
    asked = tuple(replace(load, operation=str(i), name="") for i, load in enumerate(loads))
    given = SafetyGiven(Result(hold.key, run.engine).content(CLAMPING), hold.shift, asked, plane)
    facts = run.engine.run(SAFETY, given, f"{setup.name} clamping").value(FACTS)
    return tuple(
        SafetyFact.model_validate({**fact, "operation": load.operation, "name": load.name})
        for fact in facts
        for load in [loads[int(fact["operation"])]]
    )


@dataclass(frozen=True)
class SafetyGiven:
    """What clamping is reckoned from, the shift of its frame to the zero frame, what the operations load it
    with (in the plane of a position, 4×4 from the zero frame).
    """

    clamping: Content
    shift: Vector
    loads: tuple[Load, ...]
    plane: Floats


def _safety(given: SafetyGiven, reads: Reads) -> Pieces:
    holding = holding_from(reads.read(given.clamping, CLAMPING))
    plane = given.plane
    # As the tool sees it: what hangs down hangs along the tool, as it does on machines that turn the work
    # under it.
    holding = replace(
        holding,
        points=moved(plane, holding.points + np.array(given.shift)),
        centre=moved(plane, holding.centre + np.array(given.shift)),
        normals=turned(plane, holding.normals),
        clamps=tuple((turned(plane, push), force) for push, force in holding.clamps),
    )
    return {FACTS: [fact.model_dump(mode="json") for fact in told(safeties(holding, list(given.loads)))]}


SAFETY = Step("safety", 1, SafetyGiven, _safety)


def holding_mesh(run: Run, hold: HoldFacts) -> Mesh | None:
    """All solids of the holding in the zero frame, labelled by piece."""
    if hold.key is None:
        return None
    return held_solids(run.engine, Result(hold.key, run.engine).content(SURFACE), hold.shift)
