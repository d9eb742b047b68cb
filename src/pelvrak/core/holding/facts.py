"""What is known of a holding, as it is told: contacts, pieces, locating, ways out, safety, proposals."""

from __future__ import annotations

import numpy as np

from pelvrak.core.cures import Cure
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.holding.build import Jaw
from pelvrak.core.holding.screws import ScrewFact
from pelvrak.core.holding.stack import StackFact


class Contact(Frozen):
    """One contact patch; zero frame, mm, mm². angle_deg: between the face and square to the clamp's push;
    None where no clamp pushes. force: what the clamps and the weight alone press it with, N; drawn: what a
    vacuum, a magnet or tape draws the work with there, N.
    """

    piece: int
    name: str
    item: str
    kind: str
    area: float
    length: float
    width: float
    centre: Vector
    normal: Vector
    angle_deg: float | None
    force: float | None = None
    drawn: float | None = None


class PieceFact(Frozen):
    """One solid of the holding: its box in the zero frame, mm. jaw: which of a vise's it is, if any; moves:
    it stands where the work lets it.
    """

    name: str
    item: str
    role: str
    jaw: Jaw | None = None
    moves: bool = False
    low: Vector
    high: Vector


class LocatingFact(Frozen):
    """The locators together: degrees of freedom they take (of 6), conditioning, motions left free, and fought
    over.
    """

    rank: int
    condition: float | None
    free: tuple[str, ...]
    fought: tuple[str, ...]


class WayFact(Frozen):
    """One straight way out. opening: how far the jaws must open for it, mm."""

    way: str
    free: bool
    blocked_by: str | None = None
    opening: float | None = None


class ThinFact(Frozen):
    """A thin wall behind a clamp and how far it bends, mm."""

    piece: str
    thickness: float
    span: float
    height: float
    bends: float
    how: str


class Proposal(Frozen):
    """Something the user can accept: why, and what it writes."""

    reason: str
    cure: Cure


class SafetyFact(Frozen):
    """How often the cutting force of an operation could be had before the work moves; force N, place in the
    zero frame.
    """

    operation: str
    name: str
    factor: float
    force: Vector
    place: Vector


class BesideFact(Frozen):
    """The least room between a clamp and any tool on its planned moves, mm; below 0 the tool is in it."""

    item: str
    name: str
    operation: str
    operation_name: str
    clearance: float


class PinFact(Frozen):
    """A pin in a hole of the work: how much play there is at least and at most, and how far the work has to
    be lifted to come off it, mm. turns_deg: how far the work can turn on this pin and the one before it.
    """

    item: str
    said: str
    least: float
    most: float
    lifts_off: float
    turns_deg: float | None = None


class HoldFacts(Frozen):
    """What the holding does to the work, all from the incoming stock; lengths mm, areas mm², zero frame.

    key: of its result (pieces surface.glb, contacts.glb), whose frame lies at `shift`. jaw_top, rest:
    heights. zero_on_table: work zero from the table's front left corner. jaw: (low, high) of the fixed jaw's
    face above what the work rests on. screws: how hard each is tightened; pins: those in holes; mass_kg: of
    the work; sequence: in which order things are tightened; stack: what the work stands on, from the table
    up.
    """

    key: str | None = None
    shift: Vector = (0.0, 0.0, 0.0)
    opening: float | None = None
    opening_max: float | None = None
    grip_depth: float = 0.0
    grip_length: float = 0.0
    stands_above: float = 0.0
    sticks_out_left: float = 0.0
    sticks_out_right: float = 0.0
    contact_fixed: float = 0.0
    contact_moving: float = 0.0
    jaw_top: float | None = None
    rest: float | None = None
    zero_on_table: Vector | None = None
    jaw: tuple[Vector, Vector] | None = None
    pieces: tuple[PieceFact, ...] = ()
    contacts: tuple[Contact, ...] = ()
    locating: LocatingFact | None = None
    ways: tuple[WayFact, ...] = ()
    thin: ThinFact | None = None
    proposals: tuple[Proposal, ...] = ()
    safety: tuple[SafetyFact, ...] = ()
    beside: tuple[BesideFact, ...] = ()
    friction: float | None = None
    screws: tuple[ScrewFact, ...] = ()
    pins: tuple[PinFact, ...] = ()
    mass_kg: float = 0.0
    sequence: tuple[str, ...] = ()
    stack: StackFact | None = None


def in_frame(facts: HoldFacts, shift: Floats) -> HoldFacts:
    """The same facts with every place moved by `shift`."""

    def at(place: Vector) -> Vector:
        return as_vector(np.round(np.add(place, shift), 6) + 0.0)

    def up(height: float | None) -> float | None:
        return None if height is None else round(height + float(shift[2]), 6)

    on_table = facts.zero_on_table
    return facts.model_copy(
        update={
            "jaw_top": up(facts.jaw_top),
            "rest": up(facts.rest),
            "shift": at(facts.shift),
            "zero_on_table": None
            if on_table is None
            else as_vector(np.round(np.subtract(on_table, shift), 3) + 0.0),
            "jaw": None if facts.jaw is None else (at(facts.jaw[0]), at(facts.jaw[1])),
            "pieces": tuple(
                p.model_copy(update={"low": at(p.low), "high": at(p.high)}) for p in facts.pieces
            ),
            "contacts": tuple(c.model_copy(update={"centre": at(c.centre)}) for c in facts.contacts),
        }
    )
