"""How does a holding look as it is typed, before anything is computed of it?"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.holes import upright_holes
from pelvrak.core.geometry.mesh import Floats, Mesh, joined, transformed
from pelvrak.core.geometry.part import Part
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding.build import Shapes
from pelvrak.core.holding.hold import Hold
from pelvrak.core.holding.holding import standing
from pelvrak.core.holding.kinds import Fixture

# What a solid is there for, in the order its label numbers it; the table last.
ROLES = ("body", "rests", "locates", "clamps", "table")


def typed_holding(
    hold: Hold,
    fixtures: dict[str, Fixture],
    stock: Mesh,
    part: Part,
    zero_from_work: Floats,
    own: dict[str, Mesh],
) -> Mesh:
    """All solids of a holding round the stock as it was last known, zero frame, labelled by ROLES: what
    stands where, without what touches.

    stock: work frame; zero_from_work: 4×4 as it was last computed; own: solids of the shop by item. Raises
    BadInput for what does not go together, and for jaws or a nest cut to the work, which have to be solved
    first.
    """
    if not hold.items or any(item.cut is not None for item in hold.items):
        raise BadInput(
            "hold.not_quick",
            "hold",
            "what is cut to the work is not drawn before it is solved",
            "wait until it is computed",
        )
    lying = np.eye(4)
    lying[:3, :3] = zero_from_work[:3, :3]
    work = transformed(stock, lying)
    _, pieces = standing(hold, fixtures, work, Shapes(upright_holes(part, lying), own, {}))
    labels = [*(ROLES.index(piece.role) for piece in pieces[:-1]), len(ROLES) - 1]
    to_zero = rigid(np.eye(3), zero_from_work[:3, 3])
    return joined(
        [
            replace(
                transformed(piece.mesh, to_zero), label=np.full(len(piece.mesh.triangles), label, np.int64)
            )
            for piece, label in zip(pieces, labels, strict=True)
        ]
    )
