"""Which screws hold a nest block to the plate it stands on?"""

from __future__ import annotations

from itertools import product

import numpy as np
from shapely import box as box_shape
from shapely import points
from shapely.ops import unary_union

from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of
from pelvrak.core.holding import kinds
from pelvrak.core.holding.fixture import LENGTHS, LET_IN
from pelvrak.core.holding.nest import BESIDE_HEAD_MM, FEWEST_SCREWS, Bore, Nest, Reason, Under
from pelvrak.core.holding.screws import most_force, torque_for


def screwed_down(nest: Nest, under: Under) -> tuple[Mesh, ...]:
    """The screws of a block, in its frame, with their bores put into the nest and what they are among its
    reasons: in tapped holes of the plate under it, as far out as their heads find room beside the nest. None,
    and told, where fewer than two do.
    """
    places = _places(nest, under)
    d, head, tall, _ = kinds.SCREWS[under.thread]
    through, sunk, over = LET_IN[under.thread]
    length, height, width = nest.half
    low = height - tall - over
    if len(places) < FEWEST_SCREWS or low < d:
        said = (
            f"The block cannot be screwed down: of the {under.thread} holes of {under.plate} {len(places)}"
            f" {'lies' if len(places) == 1 else 'lie'} under it with room for a head beside the nest;"
            f" {FEWEST_SCREWS} wanted."
            if under.plate
            else "The block cannot be screwed down: it stands on no plate with tapped holes."
        )
        nest.tell("jaws.no_screws", "error", said, None, None)
        return ()
    # As long as holds in the plate by its diameter: common practice, no source.
    long = next((one for one in LENGTHS if one >= low + d), LENGTHS[-1])
    for x, y in places.tolist():
        nest.bores += [Bore(x, y, through, 0.0, height), Bore(x, y, sunk, low, height)]
    at = ", ".join(f"X{x:+.4g} Y{y:+.4g}" for x, y in places.tolist())
    force = most_force(under.thread)
    why = (
        f"{under.thread} × {long} into {under.plate}; {torque_for(force, under.thread):.0f} Nm each;"
        f" drilled Ø{through:g} through and Ø{sunk:g} × {height - low:.4g} deep before the nest is cut, from"
        f" the block's middle at {at}"
    )
    nest.reasons.append(Reason(name="screws", value=float(len(places)), unit="", why=why))
    body = kinds.rod(kinds.core_diameter(under.thread), low - long, low) + kinds.rod(head, low, low + tall)
    return tuple(mesh_of(body.translate([x, y, 0.0])) for x, y in places.tolist())


def _places(nest: Nest, under: Under) -> Floats:
    """Where screws go: of the holes with room round the head those nearest to the corners, (n, 2)."""
    length, _, width = nest.half
    room = LET_IN[under.thread][1] / 2 + BESIDE_HEAD_MM
    within = box_shape(-length / 2, -width / 2, length / 2, width / 2).buffer(-room)
    taken = [
        nest.left.buffer(nest.spec.mouth),
        *(points(b.x, b.y).buffer(b.diameter / 2) for b in nest.bores),
    ]
    taken += [] if nest.boss is None else [nest.boss]
    free = within - unary_union(taken).buffer(room)
    holes = under.tapped[[bool(free.covers(one)) for one in points(under.tapped)]]
    out: list[tuple[float, float]] = []
    for x, y in product((-1, 1), repeat=2):
        ahead = holes[(holes[:, 0] * x >= 0) & (holes[:, 1] * y >= 0)]
        if len(ahead):
            best = ahead[int(np.argmax(ahead @ [x, y]))]
            out.append((float(best[0]), float(best[1])))
    return np.array(list(dict.fromkeys(out))).reshape(-1, 2)
