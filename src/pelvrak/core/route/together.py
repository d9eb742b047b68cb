"""Do the works of one load stand clear of each other? Setups that share a load are on the machine at once."""

from __future__ import annotations

import numpy as np

from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid, transformed
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid
from pelvrak.core.route.registers import Load, Standing

# Less in common than this is what surfaces are off, mm³.
SHARED_MM3 = 1.0


def works_apart(
    load: Load, setup: str, incoming: Mesh, zero_from_work: Floats, zero_on_table: Vector | None
) -> list[Finding]:
    """Findings (work frame) where the work of a setup stands in that of another of its load; adds it to the
    load.
    """
    if zero_on_table is None:
        return []
    table_from_work = rigid(np.eye(3), np.array(zero_on_table)) @ zero_from_work
    here = transformed(incoming, table_from_work)
    low, high = here.vertices.min(axis=0), here.vertices.max(axis=0)
    solid = to_solid(here)
    out = []
    for other in load.standing:
        if (low >= other.high).any() or (high <= other.low).any():
            continue
        both = solid ^ other.solid
        amount = both.volume()
        if amount <= SHARED_MM3:
            continue
        middle = mesh_of(both).vertices.mean(axis=0)
        out.append(
            Finding(
                code="load.same_place",
                severity="error",
                setup=setup,
                stage="hold",
                sentence=(
                    f"The works of {other.setup} and {setup} stand in one place on the machine:"
                    f" {amount / 1000:.1f} cm³ of both. Give them places, or loads, of their own."
                ),
                measured=round(amount, 1),
                limit=0.0,
                unit="mm³",
                place=(as_vector(moved(inverse(table_from_work), middle)),),
            )
        )
    load.standing.append(Standing(setup, solid, low, high))
    return out
