"""Does a hole that goes through run into what stands under the work? Known before anything is cut."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from pelvrak.core.cutting.operations import Drilling
from pelvrak.core.cutting.tools import Tool, tip_length
from pelvrak.core.findings import Cure, Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, to_solid, with_label
from pelvrak.core.geometry.part import PartModel, as_vector
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.holding import fixture as kinds
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.holding.fixture import Fixture
from pelvrak.core.route.plan import Setup

LEAST_MM = 0.05


def through_into(
    setup: Setup, tools: dict[str, Tool], part: PartModel, hold: HoldFacts, solids: Callable[[], Mesh | None], zero_from_work: Floats,
    fixtures: dict[str, Fixture],
) -> list[Finding]:  # fmt: skip
    """Findings of drilled through holes that reach into a piece of the holding. solids: gives it, labelled by piece, zero frame."""
    out = []
    for operation in setup.operations:
        tool = tools.get(operation.tool)
        if not isinstance(operation, Drilling) or operation.cycle not in ("drill", "peck") or tool is None:
            continue
        for ref in operation.faces:
            hole = next((h for h in part.part.holes if h.through and ref.face in h.faces), None)
            face = part.part.faces[ref.face] if ref.face < len(part.part.faces) else None
            if hole is None or face is None or face.axis is None or face.axis_point is None:
                continue
            if abs(turned(zero_from_work, np.array(face.axis))[2]) < 0.9999:
                continue
            at = moved(zero_from_work, np.array(face.axis_point))
            mouth = float(moved(zero_from_work, np.array([face.low, face.high]))[:, 2].min())
            low = mouth - operation.below - tip_length(tool)
            found = _met(hold, solids(), at, tool.DC, low, mouth)
            if found is not None:
                name, depth = found
                out.append(Finding(
                    code="hold.under_the_drill", severity="error", setup=setup.name, operation=operation.id, stage="hold",
                    sentence=f"{operation.name} comes out of the work over the {name} and runs {depth:.2f} mm into it.",
                    measured=round(depth, 3), limit=0.0, unit="mm",
                    place=(as_vector(np.round([at[0], at[1], mouth], 4)),), cures=_thinner(setup, hold, name, at, tool.DC, fixtures),
                ))  # fmt: skip
                break
    return out


def _met(
    hold: HoldFacts, solids: Mesh | None, at: Floats, diameter: float, low: float, high: float
) -> tuple[str, float] | None:
    if solids is None:
        return None
    drill = kinds.rod(diameter, low, high, float(at[0]), float(at[1]))
    for i, piece in enumerate(hold.pieces):
        a, b = np.array(piece.low), np.array(piece.high)
        near = np.maximum(a[:2] - at[:2], at[:2] - b[:2]).max()
        if near > diameter or a[2] > high or b[2] < low:
            continue
        body = to_solid(with_label(solids, i))
        both = drill ^ body
        if not both.is_empty() and both.volume() > 1e-3:
            box = both.bounding_box()
            if box[5] - low > LEAST_MM:
                return piece.name, float(box[5] - low)
    return None


def _thinner(
    setup: Setup, hold: HoldFacts, name: str, at: Floats, diameter: float, fixtures: dict[str, Fixture]
) -> tuple[Cure, ...]:
    """A thinner set of parallels of the same height that lets the drill pass between jaw and parallel, or beside it."""
    for i, item in enumerate(setup.hold.items):
        one = fixtures.get(item.fixture)
        if not isinstance(one, kinds.Parallels) or "parallel" not in name:
            continue
        piece = next(p for p in hold.pieces if p.name == name)
        across = 1 if piece.high[0] - piece.low[0] > piece.high[1] - piece.low[1] else 0
        jaw = piece.high[across] if name.startswith("rear") else piece.low[across]
        room = abs(jaw - float(at[across])) - diameter / 2
        for other in fixtures.values():
            fits = isinstance(other, kinds.Parallels) and other.thickness < room and item.height in other.heights
            if fits and other.id != one.id:
                return (Cure(label=f"Use {other.name}", path=f"hold/items/{i}/fixture", value=other.id),)
    return ()
