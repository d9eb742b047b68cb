"""What holds the work in a setup of the route, kept by what it was computed from."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.callout import check_callout
from pelvrak.core.geometry.holes import upright_holes
from pelvrak.core.geometry.mesh import Floats, Mesh, box_corners, crease_lines, joined, to_glb, transformed, with_label
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.holding.assemble import CutJaws, Piece
from pelvrak.core.holding.clamping import holding_from
from pelvrak.core.holding.contact import NEAR_MM
from pelvrak.core.holding.facts import HoldFacts, PieceFact, SafetyFact
from pelvrak.core.holding.fixture import Own
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.holding.holding import Held, hold_work, united
from pelvrak.core.route.jaws import Solved
from pelvrak.core.route.loads import load_of, safeties, told
from pelvrak.core.route.naming import SETUP, named, names_of
from pelvrak.core.route.pieces import SIMPLIFY_MM, digest_of, mesh_bytes, mesh_from_bytes
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import OperationReport
from pelvrak.core.route.run import VERSION, Run, matrix, mesh_in
from pelvrak.core.route.store import key_of
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_mesh

HOLDING_CELL_MM = 1.0


@dataclass
class Kept:
    """A holding out of the store: facts and findings in the setup's orientation."""

    facts: HoldFacts
    findings: list[Finding]


def held_in(
    run: Run, setup: Setup, incoming_key: str, incoming: Mesh, lying: Floats, density: float, cut: dict[str, CutJaws],
    cut_from: list[str],
) -> Kept:  # fmt: skip
    """What holds the work in a setup.

    lying: 4×4, the setup's orientation from the work frame. cut: soft jaws and nests by item, cut_from: what they
    were made from, as keys.
    """
    fixtures = fixtures_of(run.plan.fixtures)
    own = {
        item.id: mesh_in(run.files(one.sha256, one.file), one.file, run.store)
        for item in setup.hold.items if isinstance(one := fixtures.get(item.fixture), Own)
    }  # fmt: skip
    sizes = sizes_typed(run)
    key = key_of(
        "hold",
        VERSION,
        run.part_key,
        incoming_key,
        matrix(lying),
        setup.hold,
        # What is proposed comes from the whole library.
        sorted(fixtures.items()),
        run.material,
        cut_from,
        sorted(sizes.items()),
    )

    def compute() -> dict[str, bytes]:
        held = hold_work(
            setup.hold, fixtures, transformed(incoming, lying), SETUP, density, run.material.name,
            upright_holes(run.part.part, lying, sizes), own, cut,
            # Cut to the work, both surfaces are only known to what their pictures are simplified to.
            NEAR_MM + 2 * SIMPLIFY_MM if cut else NEAR_MM,
        )  # fmt: skip
        return hold_pieces(held, key)

    facts = run.step(f"{setup.name} holding", key, compute)
    told = named(facts, names_of(setup.name))
    return Kept(HoldFacts.model_validate(told["facts"]), [Finding.model_validate(f) for f in told["findings"]])


def sizes_typed(run: Run) -> dict[int, tuple[float, float]]:
    """Limits of size that were typed on the part's faces, by face number, mm; lost and senseless ones are told elsewhere."""
    out = {}
    for callout in run.plan.part.callouts:
        try:
            meant = check_callout(run.part.part, callout)
        except BadInput:
            continue
        if meant.kind == "limits":
            out[callout.face.face] = (meant.low, meant.high)
    return out


def hold_pieces(held: Held, key: str) -> dict[str, bytes]:
    """A holding as a result: its solids, its contacts as a picture, and what clamping is reckoned from."""
    solids = joined(
        [replace(p.mesh, label=np.full(len(p.mesh.triangles), i, np.int64)) for i, p in enumerate(held.pieces)]
    )
    corners = [patch.triangles for patch in held.patches]
    flat = np.concatenate(corners).reshape(-1, 3) if corners else np.zeros((0, 3))
    owner = np.repeat(np.arange(len(corners)), [len(c) for c in corners]).astype(np.int64)
    touching = Mesh(flat, np.arange(len(flat)).reshape(-1, 3).astype(np.int64), owner)
    facts = held.facts.model_copy(update={"key": key if held.pieces else None, "digest": digest_of(solids)})
    told = {"facts": facts.model_dump(mode="json"), "findings": [f.model_dump(mode="json") for f in held.findings]}
    return {
        "surface.npz": mesh_bytes(solids),
        "surface.glb": to_glb(solids, crease_lines(solids)),
        "contacts.glb": to_glb(touching, np.zeros((0, 2, 3))),
        "clamping.json": json.dumps(held.problem.as_json() if held.problem else None).encode(),
        "facts.json": json.dumps(told).encode(),
    }


def held_for_cutting(run: Run, setup: Setup, used: HoldFacts, solved: Solved, block: Mesh | None) -> HoldFacts:
    """What holds soft jaws while they are cut: the vise of their use without them, and a spacer between (zero frame)."""
    assert used.key is not None
    whole = transformed(mesh_from_bytes(run.piece(used.key, "surface.npz")), rigid(np.eye(3), np.array(used.shift)))
    kept = [
        (fact, with_label(whole, i))
        for i, fact in enumerate(used.pieces) if fact.item != solved.item.id and fact.role != "clamps"
    ]  # fmt: skip
    named = [Piece(fact.item, fact.name, "body", mesh) for fact, mesh in kept]
    if block is not None:
        named.append(Piece("spacer", "spacer", "body", block))
    key = key_of("jaws hold", VERSION, used.key, used.shift, solved.key, setup.name)
    facts = HoldFacts(
        opening=used.opening, opening_max=used.opening_max, zero_on_table=used.zero_on_table, jaw_top=used.jaw_top,
        pieces=tuple(
            PieceFact(name=p.name, item=p.item, role=p.role, low=as_vector(p.mesh.vertices[np.unique(p.mesh.triangles)].min(axis=0)),
                      high=as_vector(p.mesh.vertices[np.unique(p.mesh.triangles)].max(axis=0)))
            for p in named
        ),
    )  # fmt: skip
    told = run.step(f"{setup.name} holding", key, lambda: hold_pieces(Held(facts, [], named, [], None), key))
    return HoldFacts.model_validate(told["facts"])


def safety_of(
    run: Run,
    setup: Setup,
    hold: HoldFacts,
    box: tuple[Floats, Floats],
    reports: list[OperationReport],
    tools: dict[str, Tool],
    planes: dict[str, Floats],
) -> tuple[SafetyFact, ...]:
    """How well the holding stands each operation. box: of the stock, zero frame; planes: by index position, 4×4 from the zero frame."""
    out: list[SafetyFact] = []
    for name, plane in planes.items():
        there = [report for report in reports if (report.position or "") == name]
        ends = moved(plane, box_corners(as_vector(box[0]), as_vector(box[1])))
        back = inverse(plane)
        for fact in _safety_at(run, setup, hold, (ends.min(axis=0), ends.max(axis=0)), there, tools, plane):
            out.append(fact.model_copy(update={
                "place": as_vector(np.round(moved(back, np.array(fact.place)), 3) + 0.0),
                "force": as_vector(np.round(turned(back, np.array(fact.force)), 1) + 0.0),
            }))  # fmt: skip
    return tuple(out)


def _safety_at(
    run: Run, setup: Setup, hold: HoldFacts, box: tuple[Floats, Floats], reports: list[OperationReport], tools: dict[str, Tool],
    plane: Floats,
) -> tuple[SafetyFact, ...]:  # fmt: skip
    if hold.key is None or not reports:
        return ()
    loads = [
        load for report in reports
        if report.tool in tools and (load := load_of(report, tools[report.tool], run.material, *box))
    ]  # fmt: skip
    shift = np.array(hold.shift)
    asked = [
        (load.operation, load.name, load.across, load.along, load.torque, (load.places - shift).round(6).tolist())
        for load in loads
    ]
    key = key_of("safety", VERSION, hold.key, asked, matrix(plane))

    def compute() -> dict[str, bytes]:
        kept = json.loads(run.piece(hold.key or "", "clamping.json"))
        holding = holding_from(kept)
        # As the tool sees it: what hangs down hangs along the tool, as it does on machines that turn the work under it.
        holding = replace(
            holding, points=moved(plane, holding.points + shift), centre=moved(plane, holding.centre + shift),
            normals=turned(plane, holding.normals), clamps=tuple((turned(plane, push), force) for push, force in holding.clamps),
        )  # fmt: skip
        return {"facts.json": json.dumps([fact.model_dump() for fact in told(safeties(holding, loads))]).encode()}

    kept = run.store.get(key, "facts.json")
    if kept is None:
        run.tell(f"{setup.name} clamping")
        pieces = compute()
        run.store.put(key, pieces)
        kept = pieces["facts.json"]
    facts = [SafetyFact.model_validate(fact) for fact in json.loads(kept)]
    return tuple(facts)


def holding_mesh(run: Run, hold: HoldFacts) -> Mesh | None:
    """All solids of the holding in the zero frame, labelled by piece."""
    if hold.key is None:
        return None
    mesh = mesh_from_bytes(run.piece(hold.key, "surface.npz"))
    return transformed(mesh, rigid(np.eye(3), np.array(hold.shift)))


def holding_field(mesh: Mesh | None) -> RayField | None:
    """The same as a field for testing tools against."""
    if mesh is None:
        return None
    solid = united(mesh)
    return field_of_mesh(grid_around(solid.vertices.min(axis=0), solid.vertices.max(axis=0), HOLDING_CELL_MM), solid)
