"""What comes of the billet: its stock, its margins, and whether the part is in it?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.billet.block import SIDES, Block, check_fit, margins
from pelvrak.core.billet.forms import Billet, Model, Raw, raw_of
from pelvrak.core.cures import Element, put
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.geometry.part import PartModel, as_vector
from pelvrak.core.geometry.several import piece_mesh
from pelvrak.core.geometry.visibility import places_on
from pelvrak.core.route.pictures import surface_of, volume_of
from pelvrak.core.route.pieces import FACTS, FIELD, PART, SIMPLIFY_MM, SURFACE
from pelvrak.core.route.report import BilletReport
from pelvrak.core.route.run import Run, as_came, part_result
from pelvrak.core.stock.compare import Rough, signed_distance
from pelvrak.core.stock.field import error_of, grid_around, memory_estimate
from pelvrak.core.stock.shapes import field_of_block, field_of_mesh, minus, volume_without
from pelvrak.core.stock.surface import surface

INCH_MM = 25.4
# So near the rim of a face that stays as it came nothing is said of cover, mm.
ROUGH_RIM_MM = 1.0
# The longest side of a stock against the part's, where the two are of one unit: stocks are a little larger.
LIKE_PART = (0.95, 4.0)


@dataclass(frozen=True)
class BilletGiven:
    """A billet as the plan says it, its rays' distance (mm), and the part where its size follows from it.

    low, high: its box, mm; spec: None for a block, which is its box; mesh: of the part file that a model
    billet is.
    """

    low: tuple[float, ...]
    high: tuple[float, ...]
    cell: float
    spec: Billet | None
    part: Content | None
    mesh: Content | None


@dataclass(frozen=True)
class CoverGiven:
    """A billet's stock and the part it has to cover; cell: distance of the rays, mm; as_came: faces that need
    no cover.
    """

    stock: Content
    part: Content
    low: tuple[float, ...]
    high: tuple[float, ...]
    cell: float
    as_came: tuple[int, ...]


def _billet(given: BilletGiven, reads: Reads) -> Pieces:
    grid = grid_around(np.array(given.low), np.array(given.high), given.cell)
    if given.spec is None:
        return {FIELD: field_of_block(grid, np.array(given.low), np.array(given.high))}
    assert given.part is not None
    mesh = given.mesh

    def read_mesh(data: bytes, name: str) -> Mesh:
        assert mesh is not None
        return reads.read(mesh, PART).mesh

    return {FIELD: raw_of(given.spec, reads.read(given.part, PART), reads.file, read_mesh).field(grid)}


def _covered(given: CoverGiven, reads: Reads) -> Pieces:
    """Where a billet that is no block does not cover the part: by how much, and how much is missing in
    all.
    """
    part, stock = reads.read(given.part, PART), reads.read(given.stock, SURFACE)
    known = error_of(given.cell) + SIMPLIFY_MM
    both = grid_around(
        np.minimum(part.part.low, given.low), np.maximum(part.part.high, given.high), given.cell
    )
    wanted, there = field_of_mesh(both, part.mesh), field_of_mesh(both, stock)
    missing = volume_without(wanted, there, known)
    lacking = surface(minus(wanted, there), SIMPLIFY_MM).vertices if missing > 0 else np.zeros((0, 3))
    places, _, faces = places_on(part.mesh, len(part.part.faces))
    points = np.concatenate([places[~np.isin(faces, given.as_came)], part.mesh.vertices, lacking])
    if given.as_came:
        # By the rim of a rough face the stock may lack as much as that face is off.
        points = points[Rough(part.mesh, given.as_came).nearer(points) < -ROUGH_RIM_MM]
        if not len(points):
            return {FACTS: {"short": 0.0, "missing": 0.0, "place": (0.0, 0.0, 0.0), "known": known}}
    short = signed_distance(points, stock)
    worst = int(np.argmax(short))
    facts = {
        "short": float(short[worst]),
        "missing": float(missing),
        "place": as_vector(points[worst]),
        "known": known,
    }
    return {FACTS: facts}


BILLET = Step("billet", 2, BilletGiven, _billet)
COVER = Step("billet cover", 2, CoverGiven, _covered)


def billet_report(run: Run, density: float) -> BilletReport:
    """The billet on its rays, its margins and what is wrong with it. density: kg/mm³."""
    part, spec = run.part.part, run.plan.billet
    raw = run.raw
    if isinstance(raw, BadInput):
        return BilletReport(
            low=part.low,
            high=part.high,
            volume_mm3=0.0,
            mass_kg=0.0,
            margins={},
            stated_error_mm=0.0,
            field_bytes=0,
            findings=(of_bad_input(raw, None, None, "incoming"),),
        )
    low, high = as_vector(raw.low), as_vector(raw.high)
    findings = check_fit(spec, part, _at_the_sides(run.part)) if isinstance(spec, Block) else []
    key = None
    amount = 0.0
    cell = run.plan.resolution_mm
    needed = memory_estimate(np.ceil((np.array(high) - low) / cell).astype(int) + 2)
    try:
        grid_around(np.array(low), np.array(high), cell)
        key = raw_stock(run, spec, raw).key
        run.done += 1
        amount = volume_of(run.engine, key)
        if not isinstance(spec, Block):
            told = unit_told(run, spec, raw, Element(), "billet/scale")
            findings += told or cover_of(run, raw, key, "billet.too_small", "The billet")
    except BadInput as bad:
        findings.append(of_bad_input(bad, None, None, "incoming"))
    return BilletReport(
        key=key,
        low=low,
        high=high,
        volume_mm3=amount,
        mass_kg=amount * density,
        margins={k: round(v, 4) for k, v in margins(part, low, high).items()},
        findings=tuple(findings),
        stated_error_mm=error_of(cell) + SIMPLIFY_MM,
        field_bytes=needed,
    )


def _at_the_sides(model: PartModel) -> dict[str, str]:
    """Of several parts in a billet, which lies nearest to each of its sides."""
    ends = {}
    for name in model.part.pieces:
        mesh = piece_mesh(model, name)
        used = mesh.vertices[np.unique(mesh.triangles)]
        ends[name] = (used.min(axis=0), -used.max(axis=0))
    return {
        side: f"piece {min(ends, key=lambda name: ends[name][side[1] == '+']['xyz'.index(side[0])])}"
        for side in (SIDES if ends else ())
    }


def raw_stock(run: Run, spec: Billet, raw: Raw) -> Result:
    """A stock on its rays, from what says how it is made. Raises BadInput where it would be too large."""
    low, high, cell = as_vector(raw.low), as_vector(raw.high), run.plan.resolution_mm
    # Refused here where it is too large, and not by a step.
    grid_around(np.array(low), np.array(high), cell)
    if isinstance(spec, Block):
        given = BilletGiven(low, high, cell, None, None, None)
    else:
        mesh = None
        if isinstance(spec, Model):
            data = run.files(spec.sha256, spec.file)
            mesh = part_result(data, spec.file, run.engine).content(PART)
        same = spec.model_copy(update={"material": ""})
        given = BilletGiven(low, high, cell, same, run.part_content, mesh)
    return run.engine.run(BILLET, given, "billet")


def unit_told(run: Run, spec: Billet, raw: Raw, of: Element, field: str) -> list[Finding]:
    """Whether a model seems to have been read in another unit: by its longest side against the part's.

    of, field: where its scale stands, for the cure.
    """
    if not isinstance(spec, Model):
        return []
    part = run.part.part
    ratio = float(np.max(raw.high - raw.low) / np.max(np.subtract(part.high, part.low)))
    likely = [times for times in (INCH_MM, 1 / INCH_MM) if LIKE_PART[0] <= ratio * times <= LIKE_PART[1]]
    if not likely:
        return []
    times = likely[0]
    read, meant, large = ("inches", "mm", "small") if times > 1 else ("mm", "inches", "large")
    scale = round(spec.scale * times, 9)
    return [
        Finding(
            code="stock.unit",
            severity="error" if times > 1 else "warning",
            stage="incoming",
            sentence=f"The longest side of {spec.file} is {ratio:.3g} times the part's, {INCH_MM:g} times too"
            f" {large} it seems: {read} that were read as {meant}?",
            measured=round(ratio, 4),
            limit=1.0,
            cures=(put(f"All its lengths times {scale:.6g}", of, field, scale),),
        )
    ]


def cover_of(run: Run, raw: Raw, key: str, code: str, said: str) -> list[Finding]:
    """Where a stock does not cover the part. key: of its result; said: what it is called."""
    stock = surface_of(run.engine, key).content(SURFACE)
    given = CoverGiven(
        stock,
        run.part_content,
        as_vector(raw.low),
        as_vector(raw.high),
        run.plan.resolution_mm,
        as_came(run),
    )
    facts = run.engine.run(COVER, given, "billet round the part").value(FACTS)
    if facts["short"] <= facts["known"]:
        return []
    return [
        Finding(
            code=code,
            severity="error",
            stage="incoming",
            sentence=(
                f"{said} does not cover the part: up to {facts['short']:.2f} mm is missing,"
                f" {facts['missing']:.0f} mm³ in all."
            ),
            measured=round(-facts["short"], 4),
            limit=0.0,
            unit="mm",
            place=(tuple(facts["place"]),),
        )
    ]
