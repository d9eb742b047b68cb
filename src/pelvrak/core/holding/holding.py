"""Does the holding hold the work: what touches, how deep is the grip, is it located, does it rock, can it be
loaded?
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import manifold3d
import numpy as np

from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    box,
    mesh_of,
    to_solid,
    transformed,
    volume,
    with_label,
)
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding.assemble import assemble
from pelvrak.core.holding.build import Assembly, Piece, Shapes
from pelvrak.core.holding.chucks import centre_patch
from pelvrak.core.holding.clamping import (
    GRAVITY,
    PRESSED_COS,
    Holding,
    holding_of,
    programme,
)
from pelvrak.core.holding.contact import NEAR_MM, Patch, patches
from pelvrak.core.holding.drawing import as_patch, friction_in, pulls_of
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.holding.hold import Hold
from pelvrak.core.holding.judged import OWN_THREAD, Judged
from pelvrak.core.holding.kinds import POINT, Fixture
from pelvrak.core.holding.pins import bore_patch
from pelvrak.core.holding.settling import FORM_MM
from pelvrak.core.stock.questions import centre_of_mass

# ISO 11228-1, the mass nobody lifts more than by hand (from memory).
LIFT_KG = 25.0
TABLE_MARGIN_MM, TABLE_THICK_MM = 60.0, 12.0


@dataclass
class Held:
    """A holding computed: its facts and findings, and the pieces themselves, all in the frame of the stock
    that was given.
    """

    facts: HoldFacts
    findings: list[Finding]
    pieces: list[Piece]
    patches: list[Patch]
    problem: Holding | None


def united(mesh: Mesh) -> Mesh:
    """Solids that touch and overlap, told apart by label, as one closed solid."""
    bodies = [to_solid(with_label(mesh, i)) for i in np.unique(mesh.label)]
    return mesh_of(manifold3d.Manifold.batch_boolean(bodies, manifold3d.OpType.Add))


@dataclass(frozen=True)
class Metal:
    """What the work is of: kg/mm³, its name, and whether a magnet draws it."""

    density: float = 2.7e-6
    name: str = "EN AW-6082"
    magnetic: bool = False


@dataclass(frozen=True)
class BuiltUp:
    """A holding built up round the work, and what of it touches the work, all in the frame of the stock that
    was given; before anything is judged. finished: faces of the part that are to be as drawn.
    """

    stock: Mesh
    assembly: Assembly
    pieces: list[Piece]
    patches: list[Patch]
    finished: Mesh | None = None


def hold_work(
    hold: Hold,
    fixtures: dict[str, Fixture],
    stock: Mesh,
    setup: str,
    shapes: Shapes | None = None,
    metal: Metal = Metal(),
    near: float = NEAR_MM,
) -> Held:
    """Facts and findings of a holding.

    stock: what comes in, in the setup's orientation, mm; all facts are in its frame. near: what counts as
    touching, mm.
    """
    if not hold.items:
        return held_by_nothing(setup)
    return judge(hold, fixtures, built_up(hold, fixtures, stock, shapes, near), setup, metal)


def heavy(setup: str, mass: float, centre: Floats) -> list[Finding]:
    """Work that nobody should lift by hand. mass: kg."""
    if mass <= LIFT_KG:
        return []
    said = f"The work weighs {mass:.1f} kg: it takes a hoist, or two people, to lay it in."
    place = (as_vector(np.round(centre, 4)),)
    more = {"measured": round(mass, 2), "limit": LIFT_KG, "unit": "kg"}
    return [
        Finding(
            code="hold.heavy", severity="note", setup=setup, stage="hold", sentence=said, place=place, **more
        )
    ]


def held_by_nothing(setup: str) -> Held:
    """What is said of a setup without a holding."""
    said = "Nothing holds the work in this setup."
    nothing = Finding(code="hold.nothing", severity="error", setup=setup, stage="hold", sentence=said)
    return Held(HoldFacts(), [nothing], [], [], None)


def standing(
    hold: Hold, fixtures: dict[str, Fixture], stock: Mesh, shapes: Shapes | None
) -> tuple[Assembly, list[Piece]]:
    """A holding of at least one fixture built up, and all that stands, the table last, in the stock's
    frame.
    """
    assembly = assemble(hold, fixtures, stock, shapes)
    back = rigid(np.eye(3), -assembly.shift)
    return assembly, [
        replace(piece, mesh=transformed(piece.mesh, back))
        for piece in (*assembly.pieces, _table(assembly, stock))
    ]


def built_up(
    hold: Hold, fixtures: dict[str, Fixture], stock: Mesh, shapes: Shapes | None, near: float = NEAR_MM
) -> BuiltUp:
    """What stands, and its contacts, as of `hold_work`."""
    assembly, pieces = standing(hold, fixtures, stock, shapes)
    formed = near + 2 * FORM_MM
    found = patches(
        stock, [p.mesh for p in pieces], [formed if p.item == assembly.carrier else near for p in pieces]
    )
    found = _with_centres(_with_pins(found, assembly, pieces), assembly, pieces)
    found += [_threaded(i, piece) for i, piece in enumerate(pieces) if piece.name == OWN_THREAD]
    return BuiltUp(stock, assembly, pieces, found, None if shapes is None else shapes.finished)


def judge(hold: Hold, fixtures: dict[str, Fixture], at: BuiltUp, setup: str, metal: Metal) -> Held:
    """Facts and findings of a holding that was built up, as of `hold_work`."""
    stock, assembly, pieces, found = at.stock, at.assembly, at.pieces, at.patches
    mass = volume(stock) * metal.density
    centre = centre_of_mass(stock)
    pulls = pulls_of(stock, pieces, found, metal.magnetic)
    checked = Judged(
        hold,
        fixtures,
        stock,
        setup,
        assembly,
        pieces,
        found,
        centre,
        metal.name,
        metal.magnetic,
        pulls,
        at.finished,
    )
    clamps, owners = _clamps_of(assembly, pieces, found)
    problem = holding_of(
        [*found, *(as_patch(pull, found[pull.patch]) for pull in pulls)],
        [*owners, *range(len(clamps), len(clamps) + len(pulls))],
        [(piece.push, piece.force) for piece in clamps if piece.push is not None]
        + [(-found[pull.patch].normal, pull.force) for pull in pulls],
        mass * GRAVITY,
        centre,
        [*(friction_in(pieces, patch) for patch in found), *[0.0] * len(pulls)],
    )
    set_up = programme(problem)
    facts = checked.facts(set_up, problem)
    findings = checked.findings(facts, set_up)
    facts = facts.model_copy(update={"proposals": tuple(checked.proposals(facts)), "mass_kg": round(mass, 4)})
    findings += heavy(setup, mass, centre)
    return Held(facts, findings, pieces, found, problem)


def _clamps_of(assembly: Assembly, pieces: list[Piece], found: list[Patch]) -> tuple[list[Piece], list[int]]:
    """The clamps that press on the work, and which of them each contact belongs to, -1 for what only stands
    there.

    Jaws that close on what carries the work press through it, where it has the work between two walls; else
    not at all.
    """
    # The jaw comes first, and what rides on it presses with it.
    riding = [piece for piece in pieces if piece.jaw == "moving"][1:]
    clamps = [piece for piece in pieces if piece.push is not None and not any(piece is one for one in riding)]
    through: set[int] = set()
    if assembly.carrier is not None and assembly.closing is not None:
        jaw = next((piece for piece in clamps if piece.jaw == "moving"), None)
        own = {
            i: float(p.normal @ assembly.closing)
            for i, p in enumerate(found)
            if pieces[p.piece].item == assembly.carrier
        }
        if own and max(own.values()) > PRESSED_COS and min(own.values()) < -PRESSED_COS:
            through = {i for i, facing in own.items() if facing > PRESSED_COS}
        elif jaw is not None and not any(pieces[p.piece] is jaw for p in found):
            clamps.remove(jaw)
    numbers = {id(piece): i for i, piece in enumerate(clamps)}
    pressing = next((i for i, piece in enumerate(clamps) if piece.jaw == "moving"), -1)
    numbers |= {id(piece): pressing for piece in riding}
    return clamps, [
        pressing if i in through else numbers.get(id(pieces[p.piece]), -1) for i, p in enumerate(found)
    ]


def _with_pins(found: list[Patch], assembly: Assembly, pieces: list[Piece]) -> list[Patch]:
    """Contacts with each pin that stands in its hole taken from the two cylinders; its sides as drawn say
    nothing.
    """
    out = found
    for fit in assembly.pins:
        number = next(i for i, piece in enumerate(pieces) if piece.item == fit.pin)
        here = replace(
            fit,
            at=fit.at - assembly.shift,
            low=fit.low - assembly.shift[2],
            high=fit.high - assembly.shift[2],
        )
        out = [p for p in out if p.piece != number or abs(p.normal[2]) > 0.5] + [bore_patch(number, here)]
    return out


def _with_centres(found: list[Patch], assembly: Assembly, pieces: list[Piece]) -> list[Patch]:
    """Contacts with a tailstock's point taken from its cone and the rim of its hole."""
    out = found
    for item, (tip, radius, half) in assembly.centres.items():
        number = next(i for i, piece in enumerate(pieces) if piece.item == item and piece.name == POINT)
        out = [p for p in out if p.piece != number]
        out.append(centre_patch(number, tip - assembly.shift, radius, half))
    return out


def _threaded(number: int, piece: Piece) -> Patch:
    """What a bolt that goes into the work's own thread does: it pulls there."""
    assert piece.push is not None
    low, high = piece.mesh.vertices.min(axis=0), piece.mesh.vertices.max(axis=0)
    at = np.array([*(low + high)[:2] / 2, high[2]])
    return Patch(
        number,
        0.0,
        at,
        piece.push,
        "thread",
        0.0,
        0.0,
        np.array([1.0, 0, 0]),
        at[None],
        piece.push[None],
        np.zeros((0, 3, 3)),
    )


def _table(assembly: Assembly, stock: Mesh) -> Piece:
    """The machine's table under the holding; layout frame."""
    meshes = [stock.vertices + assembly.shift, *(piece.mesh.vertices for piece in assembly.pieces)]
    low = np.min([v.min(axis=0) for v in meshes], axis=0) - TABLE_MARGIN_MM
    high = np.max([v.max(axis=0) for v in meshes], axis=0) + TABLE_MARGIN_MM
    low[2], high[2] = -TABLE_THICK_MM, 0.0
    return Piece("table", "table", "rests", box(low, high))
