"""What does a plan say of a setup's holding? A list of fixtures in the order they are built up, and how the
work goes in.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, Frozen
from pelvrak.core.holding.kinds import Fixture, Ident, fixtures_shipped
from pelvrak.core.holding.mating import Mate

Offset = Annotated[float, Field(ge=-3000, le=3000)]
Angle = Annotated[float, Field(ge=-360, le=360)]
FROM_THERE = "from the place it would have there"
Way = Literal["left", "right", "front", "back"]
# Common practice, no source: about 5 mm (3/16 in) of straight wall in soft jaws.
STRAIGHT_WALL_MM = 5.0
# Jaws that close nearer than this before they grip have nothing left to close by, mm.
CLOSED_MM = 0.5
# Work standing more than this many grips above the jaws is at risk: common practice, no source.
STAND_OUT_RATIO = 8.0


class SoftCut(Frozen):
    """How soft jaws, or a nest block, are cut to the work. What is None is solved.

    turn_deg: of the work, seen from above, beyond its seat; grip: straight wall held, mm, above the edge at
    the bottom; gap: between the jaws as they grip; shift: of the work along the jaws, mm; cutter: diameter
    that cuts the nest; clearance: where the nest should not touch; relief: of corners tighter than the
    cutter; floor: the work stands on the whole floor, or on a step of `step` mm along the wall; edge_break:
    width of the groove under the floor's rim, mm, 0 for none; fill: dents of the work narrower than this are
    not printed into the jaws. shape: of a block: a nest the work is let into, or a vee (of an angle, or the
    work's own) or the work's profile all along it; corner_radius, edge_chamfer: of the block itself, its
    upright edges and those round its top, mm; slip: room on each side of a nest that the work drops into, mm;
    mouth: chamfer of 45° round the nest's opening, mm; screwed: a block is screwed to the plate it stands on.
    angle_deg: of a vee; split: where the gap's middle lies across the jaws, mm; step: width of the ledge
    the work stands on, mm; least_wall: that may stay beside the nest, mm.
    """

    shape: Literal["nest", "vee", "profile"] = "nest"
    angle_deg: Annotated[float, Field(ge=60, le=150)] | None = None
    turn_deg: Annotated[float, Field(ge=-45, le=45)] | None = None
    grip: Annotated[float, Field(gt=0, le=200)] | None = None
    gap: Annotated[float, Field(ge=0, le=200)] | None = None
    split: Offset | None = None
    shift: Offset = 0.0
    cutter: Annotated[float, Field(ge=1, le=40)] = 10.0
    clearance: Annotated[float, Field(ge=0, le=10)] = 0.5
    relief: Literal["round", "slot", "none"] = "round"
    floor: Literal["floor", "step"] = "floor"
    step: Annotated[float, Field(ge=1, le=60)] = 6.0
    edge_break: Annotated[float, Field(ge=0, le=5)] = 1.0
    fill: Annotated[float, Field(ge=0, le=100)] | None = None
    least_wall: Annotated[float, Field(ge=1, le=60)] = 6.0
    corner_radius: Annotated[float, Field(ge=0, le=60)] = 0.0
    edge_chamfer: Annotated[float, Field(ge=0, le=20)] = 0.0
    slip: Annotated[float, Field(ge=0, le=1)] = 0.0
    mouth: Annotated[float, Field(ge=0, le=20)] = 0.0
    screwed: bool = False

    @property
    def own_edges(self) -> tuple[float, float]:
        """Corner radius and edge chamfer of the block itself, mm."""
        return self.corner_radius, self.edge_chamfer


class Item(Frozen):
    """One fixture of a holding.

    on: "table", or the item it stands on; x, y, z, turn_deg: from the place it would have there, mm and
    degrees (on the table: from its front left corner; on a plate: from its middle, or from a hole). hole:
    column and row of a plate's hole, from 0 at the front left. station: of a double vise, that has the work;
    rides: the jaw that half of a holder goes with, whose frame it then stands in, at its gripping face;
    moving: the jaw at the front by its id, where it is another than the one at the back; set_in,
    set_in_moving: how far each jaw stands in from where it is screwed on, mm; stand_off: how far the work's
    end is off a chuck's face, mm. id: never changes; fixture: by its id in the plan or the library.
    """

    id: Ident
    fixture: Ident
    on: Ident = "table"
    x: Offset = asked(0.0, title="X", help=FROM_THERE, unit="mm")
    y: Offset = asked(0.0, title="Y", help=FROM_THERE, unit="mm")
    z: Annotated[float, Field(ge=-500, le=500)] = asked(0.0, title="Z", help=FROM_THERE, unit="mm")
    turn_deg: Angle = asked(0.0, title="Turned", help="seen from above, from how it would stand", unit="°")
    hole: tuple[Annotated[int, Field(ge=0, le=500)], Annotated[int, Field(ge=0, le=500)]] | None = None
    height: Annotated[float, Field(gt=0, le=1000)] | None = asked(
        None, title="Height", help="of parallels and step blocks: one of the set's", widget="heights"
    )
    station: Literal["front", "rear"] = asked(
        "front",
        title="Work in the",
        help="the station of a double vise that has the work",
        called={"front": "front station", "rear": "rear station"},
        when={"style": ["double"]},
    )
    rides: Literal["rear", "front"] | None = asked(
        None,
        title="Rides on",
        help="one half of a holder in two pieces, screwed to a jaw that it stands on",
        called={"rear": "the rear jaw", "front": "the front jaw"},
        empty="by itself",
    )
    moving: Ident | None = asked(
        None, title="Front jaw", help="another blank than the one at the back", widget="other jaw"
    )
    set_in: Annotated[float, Field(ge=0, le=500)] = asked(
        0.0, title="Set in", help="the jaw at the back, from where it is screwed on", unit="mm"
    )
    set_in_moving: Annotated[float, Field(ge=0, le=500)] = asked(
        0.0, title="Front set in", help="the jaw at the front, from where it is screwed on", unit="mm"
    )
    stand_off: Annotated[float, Field(ge=0, le=500)] = asked(
        0.0, title="Stand-off", help="the work's end over the chuck's face", unit="mm"
    )
    side: Literal["left", "right"] = asked(
        "left",
        title="At the",
        help="the end of the jaws a stop stands at",
        called={"left": "left end", "right": "right end"},
    )
    into: FaceRef | None = asked(
        None,
        title="Into",
        help="the hole of the part a bolt goes into from below",
        widget="hole",
        pick="Which hole does the bolt go into from below?",
    )
    force_kn: Annotated[float, Field(gt=0, le=500)] | None = asked(
        None,
        title="Force",
        help="it is closed or tightened with, in place of the fixture's own",
        unit="kN",
        empty="by size",
    )
    torque_nm: Annotated[float, Field(gt=0, le=2000)] | None = asked(
        None,
        title="Torque",
        help="its screw is tightened with, where no force is given: force = torque / (0.2 · diameter)",
        unit="Nm",
        empty="by force",
    )
    mates: Annotated[tuple[Mate, ...], Field(max_length=3)] = asked(
        (), title="Placed", help="by what was picked on it and on others", widget="none"
    )
    cut: SoftCut | None = asked(
        None,
        title="Shape",
        help="how soft jaws or a nest block are cut to the work",
        widget="cut",
        when={"style": ["soft", "none"]},
    )

    @model_validator(mode="after")
    def _cut_jaws_stand_as_they_were_cut(self) -> Item:
        if self.cut is not None and (self.set_in > 0 or self.set_in_moving > 0):
            where = f"{self.id} is cut to the work where it is screwed on"
            raise ValueError(f"{where}: leave set in at 0, or take thicker blanks")
        return self


class Pinned(Frozen):
    """A hole of the part on a pin of the holding.

    hole: a round wall of the part; pin: an item of the holding.
    """

    hole: FaceRef
    pin: Ident


class WorkPlace(Frozen):
    """How the work goes in.

    on: the item whose middle it is laid on (None: the one that suits); x, y: its middle from there, mm.
    pinned: holes on pins, which then decide. pushed: towards what it is pushed, in order, until it touches.
    """

    on: Ident | None = None
    x: Offset = 0.0
    y: Offset = 0.0
    pinned: Annotated[tuple[Pinned, ...], Field(max_length=4)] = ()
    pushed: Annotated[tuple[Way, ...], Field(max_length=4)] = ()


class Hold(Frozen):
    """The holding of a setup; no items: nothing holds the work yet.

    items: what stands on the table and on each other; work: where the work lies in them.
    """

    items: Annotated[tuple[Item, ...], Field(max_length=60)] = ()
    work: WorkPlace = WorkPlace()

    def under(self, item: str) -> tuple[str, ...]:
        """What an item stands on, from the table up, and the item itself; nothing for what is no item."""
        on = {one.id: one.on for one in self.items}
        out: list[str] = []
        while item in on:
            out.insert(0, item)
            item = on[item]
        return tuple(out)

    @model_validator(mode="after")
    def _stands_on_what_was_built_before(self) -> Hold:
        seen = {"table"}
        for item in self.items:
            if item.on not in seen:
                raise ValueError(
                    f"{item.id} stands on {item.on}, which is not built before it: put it further down the"
                    " list"
                )
            stray = next((mate.item for mate in item.mates if mate.item not in seen), None)
            if stray is not None:
                raise ValueError(f"{item.id} is put against {stray}, which is not built before it")
            if item.id in seen:
                raise ValueError(f"two items are called {item.id}: give each its own name")
            seen.add(item.id)
        for name in (self.work.on, *(one.pin for one in self.work.pinned)):
            if name is not None and name not in seen:
                raise ValueError(f"the work is put on {name}, which is not in the list")
        return self


def fixtures_of(own: tuple[Fixture, ...]) -> dict[str, Fixture]:
    """The fixtures a plan can name: its own copies before the shipped ones."""
    return {**fixtures_shipped(), **{one.id: one for one in own}}


def vise_hold(
    vise: str = "bench-160",
    jaws: str = "hard-160",
    parallels: str | None = "par-150x8",
    height: float = 44.0,
    at: tuple[float, float] = (450.0, 380.0),
    closes: Literal["y", "x"] = "y",
    along: float = 0.0,
) -> Hold:
    """The everyday holding: hard jaws in a vise on the table, and a pair of parallels.

    at: where the vise stands, mm; closes "y": fixed jaw at the back; along: shift of the work along the jaws.
    """
    items = [
        Item(id="vise", fixture=vise, x=at[0], y=at[1], turn_deg=0.0 if closes == "y" else 90.0),
        Item(id="jaws", fixture=jaws, on="vise"),
    ]
    if parallels is not None:
        items.append(Item(id="parallels", fixture=parallels, on="vise", height=height))
    return Hold(items=tuple(items), work=WorkPlace(x=along))
