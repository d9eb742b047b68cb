"""What would keep the holding out of a tool's way: the work raised, the vise turned, thinner parallels?"""

from __future__ import annotations

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.holding import kinds
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.holding.hold import Hold
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.route.naming import SETUP

LEAST_MM = 0.05


def raised(spec: Hold, fixtures: dict[str, Fixture], name: str, depth: float) -> tuple[Cure, ...]:
    """What takes a jaw out of the cutter's way: the next higher pair of the set, or the vise turned a
    quarter.
    """
    if "jaw" not in name:
        return ()
    out: list[Cure] = []
    for item in spec.items:
        one, of = fixtures.get(item.fixture), Element(setup=SETUP, item=item.id)
        if isinstance(one, kinds.Parallels):
            now = item.height if item.height is not None else one.heights[0]
            higher = min((h for h in one.heights if h >= now + depth + LEAST_MM), default=None)
            if higher is not None:
                out.append(put(f"Raise it {higher - now:g} mm: parallels {higher:g}", of, "height", higher))
        if isinstance(one, kinds.Vise):
            turn = 0.0 if abs(item.turn_deg) > 45 else 90.0
            out.append(put("Turn the vise a quarter", of, "turn_deg", turn))
    return tuple(out)


def thinner(
    spec: Hold, hold: HoldFacts, name: str, at: Floats, diameter: float, fixtures: dict[str, Fixture]
) -> tuple[Cure, ...]:
    """A thinner set of parallels of the same height that lets the drill pass between jaw and parallel, or
    beside it.
    """
    for item in spec.items:
        one = fixtures.get(item.fixture)
        if not isinstance(one, kinds.Parallels) or "parallel" not in name:
            continue
        piece = next(p for p in hold.pieces if p.name == name)
        across = 1 if piece.high[0] - piece.low[0] > piece.high[1] - piece.low[1] else 0
        jaw = piece.high[across] if name.startswith("rear") else piece.low[across]
        room = abs(jaw - float(at[across])) - diameter / 2
        for other in fixtures.values():
            fits = (
                isinstance(other, kinds.Parallels) and other.thickness < room and item.height in other.heights
            )
            if fits and other.id != one.id:
                return (put(f"Use {other.name}", Element(setup=SETUP, item=item.id), "fixture", other.id),)
    return ()
