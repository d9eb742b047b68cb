"""What comes of the billet: its stock, its margins, and whether the part is in it?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.billet.block import Block, check_fit, margins
from pelvrak.core.billet.forms import Raw
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.seen import places_on
from pelvrak.core.route.pieces import SIMPLIFY_MM, mesh_from_bytes, stock_pieces
from pelvrak.core.route.report import BilletReport
from pelvrak.core.route.run import VERSION, Run
from pelvrak.core.route.store import key_of
from pelvrak.core.stock.compare import signed_distance
from pelvrak.core.stock.field import error_of, grid_around, memory_estimate
from pelvrak.core.stock.shapes import field_of_mesh, minus, volume_without
from pelvrak.core.stock.surface import surface


def billet_report(run: Run, density: float) -> BilletReport:
    """The billet on its rays, its margins and what is wrong with it. density: kg/mm³."""
    part, spec = run.part.part, run.plan.billet
    raw = run.raw
    if isinstance(raw, BadInput):
        return BilletReport(
            low=part.low, high=part.high, volume_mm3=0.0, mass_kg=0.0, margins={}, stated_error_mm=0.0, field_bytes=0,
            findings=(of_bad_input(raw, None, None, "incoming"),),
        )  # fmt: skip
    low, high = as_vector(raw.low), as_vector(raw.high)
    findings = check_fit(spec, part) if isinstance(spec, Block) else []
    key = None
    amount = 0.0
    cell = run.plan.resolution_mm
    needed = memory_estimate(np.ceil((np.array(high) - low) / cell).astype(int) + 2)
    try:
        grid = grid_around(np.array(low), np.array(high), cell)
        same = spec.model_copy(update={"material": ""})
        key = key_of("billet", VERSION, low, high, cell, None if isinstance(spec, Block) else same)
        facts = run.step("billet", key, lambda: stock_pieces(raw.field(grid), {}))
        amount = facts["volume_mm3"]
        if not isinstance(spec, Block):
            findings += _cover(run, raw, key)
    except BadInput as bad:
        findings.append(of_bad_input(bad, None, None, "incoming"))
    return BilletReport(
        key=key, low=low, high=high, volume_mm3=amount, mass_kg=amount * density,
        margins={k: round(v, 4) for k, v in margins(part, low, high).items()}, findings=tuple(findings),
        stated_error_mm=error_of(cell) + SIMPLIFY_MM, field_bytes=needed,
    )  # fmt: skip


def _cover(run: Run, raw: Raw, billet_key: str) -> list[Finding]:
    """Where a billet that is no block does not cover the part: by how much, and how much is missing in all."""
    part = run.part
    stock = mesh_from_bytes(run.piece(billet_key, "surface.npz"))
    known = error_of(run.plan.resolution_mm) + SIMPLIFY_MM
    both = grid_around(np.minimum(part.part.low, raw.low), np.maximum(part.part.high, raw.high), run.plan.resolution_mm)
    wanted, there = field_of_mesh(both, part.mesh), field_of_mesh(both, stock)
    missing = volume_without(wanted, there, known)
    lacking = surface(minus(wanted, there), SIMPLIFY_MM).vertices if missing > 0 else np.zeros((0, 3))
    points = np.concatenate([places_on(part.mesh, len(part.part.faces))[0], part.mesh.vertices, lacking])
    short = signed_distance(points, stock)
    worst = int(np.argmax(short))
    if short[worst] <= known:
        return []
    return [
        Finding(
            code="billet.too_small", severity="error", stage="incoming",
            sentence=f"The billet does not cover the part: up to {short[worst]:.2f} mm is missing, {missing:.0f} mm³ in all.",
            measured=round(-float(short[worst]), 4), limit=0.0, unit="mm", place=(as_vector(points[worst]),),
        )
    ]  # fmt: skip
