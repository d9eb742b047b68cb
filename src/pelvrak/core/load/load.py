"""What stands on a machine at once? Setups at places, each as it is planned, some several times."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, model_validator

from pelvrak.core.billet.forms import Billet
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.machine.machine import Register

Shift = Annotated[float, Field(ge=-5000, le=5000)]
Count = Annotated[int, Field(ge=1, le=40)]
Pitch = Annotated[float, Field(ge=0, le=2000)]
SetupName = Annotated[str, Field(pattern="^[A-Za-z0-9_-]{1,20}$")]
MOST_PLACES = 60


class Different(Frozen):
    """A place that is not like the others of its setup. place: its number, from 1, row by row; empty: nothing
    stands there; by_x, by_y: how far it lies from where the pattern has it, mm; offset_register: its zero is
    kept in, None: the next free; left_out: operations that are not cut there, by their id; added: more that
    are, after the others; stock: what comes in there, a measured casting say, None: as everywhere.
    """

    place: Annotated[int, Field(ge=1, le=1600)]
    empty: bool = False
    by_x: Shift = 0.0
    by_y: Shift = 0.0
    offset_register: Register | None = None
    left_out: Annotated[tuple[str, ...], Field(max_length=200)] = ()
    added: Annotated[tuple[Operation, ...], Field(max_length=50)] = ()
    stock: Billet | None = None

    @property
    def cut_otherwise(self) -> bool:
        """Whether it is cut by itself: what is planned for the others does not tell what becomes of it."""
        return bool(self.left_out or self.added or self.stock is not None)


class Stand(Frozen):
    """Where a setup stands in a load, as a pattern. setup: which; at_x, at_y: where its first place lies from
    where the setup is planned, mm on the table; columns, pitch_x: along X, mm; rows, pitch_y: along Y, mm;
    stays: items of its holding that are there once, as a plate is; different: places that are not like the
    others.
    """

    setup: SetupName
    at_x: Shift = 0.0
    at_y: Shift = 0.0
    columns: Count = 1
    rows: Count = 1
    pitch_x: Pitch = 0.0
    pitch_y: Pitch = 0.0
    stays: Annotated[tuple[str, ...], Field(max_length=40)] = ()
    different: Annotated[tuple[Different, ...], Field(max_length=100)] = ()

    @model_validator(mode="after")
    def _places_are_apart(self) -> Stand:
        for count, pitch, what in (
            (self.columns, self.pitch_x, "columns"),
            (self.rows, self.pitch_y, "rows"),
        ):
            if count > 1 and pitch <= 0:
                raise ValueError(
                    f"{count} {what} of {self.setup} want a pitch: they would stand in one place"
                )
        numbers = [one.place for one in self.different]
        twice = next((one for one in numbers if numbers.count(one) > 1), None)
        if twice is not None:
            raise ValueError(f"place {twice} of {self.setup} is told twice: tell it once")
        return self


class Guest(Stand):
    """A setup of another plan that stands in a load, read only. name: it is called by; plan: the number of
    its project, or the file of the plan beside this one; setup: of that; at_x and the others: as of a setup
    of this plan.
    """

    name: SetupName
    plan: Annotated[str, Field(min_length=1, max_length=200)]

    @model_validator(mode="after")
    def _only_read(self) -> Guest:
        if any(one.cut_otherwise for one in self.different):
            raise ValueError(f"{self.name} is planned elsewhere: change there what is cut")
        return self

    @property
    def called(self) -> str:
        """The setup as this load calls it."""
        return f"{self.name}.{self.setup}"


class Load(Frozen):
    """What stands on the machine together: the setups that have its name. name: by which they do; stands:
    where each stands, once as it is planned where nothing is told; guests: setups of other plans that stand
    there too; order: all of a place before the next, each tool at all places, the fastest of all, or by hand;
    hand: places and operations in their order, as "place operation"; between: the way from place to place
    with one tool, by the top of Z or just over all that stands; program: one for all of it, or one for each
    setup; subprograms: like places are written once and called; shifts: what is called with a shift (G52)
    rather than written or kept in a register for each, places of a setup, or like features of a place; stops:
    the operator may stop it between places; counts: a counter of cycles is kept on the control; loading_s: to
    load and unload one piece, s; setup_min: to build it up once, for the whole lot, min; lot: how many parts
    are wanted.
    """

    name: Annotated[str, Field(pattern="^[A-Za-z0-9_-]{1,20}$")]
    stands: Annotated[tuple[Stand, ...], Field(max_length=20)] = ()
    guests: Annotated[tuple[Guest, ...], Field(max_length=10)] = ()
    order: Literal["places", "tools", "fastest", "hand"] = "places"
    hand: Annotated[tuple[str, ...], Field(max_length=4000)] = ()
    between: Literal["top", "over"] = "top"
    program: Literal["one", "each"] = "one"
    subprograms: bool = True
    shifts: Literal["no", "places", "features"] = "no"
    stops: bool = False
    counts: bool = False
    loading_s: Annotated[float, Field(ge=0, le=36_000)] = 60.0
    setup_min: Annotated[float, Field(ge=0, le=10_000)] = 0.0
    lot: Annotated[int, Field(ge=1, le=1_000_000)] | None = None

    @model_validator(mode="after")
    def _each_setup_once(self) -> Load:
        names = [one.setup for one in self.stands]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"{twice} stands in {self.name} twice: give it one pattern")
        guests = [one.name for one in self.guests]
        twice = next((name for name in guests if guests.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"two guests of {self.name} are called {twice}: give each its own name")
        return self


@dataclass(frozen=True)
class Place:
    """One work in a load. key: tells it from the others; setup: whose it is; number: of its setup's places,
    from 1; at: from where the setup is planned, mm on the table; register: it is told to use, None: the next
    free; stays: items of the holding that it has in common with the others; otherwise: how it is cut, where
    that is not as the others; guest: its setup is another plan's.
    """

    key: str
    setup: str
    number: int
    at: tuple[float, float]
    register: str | None = None
    stays: tuple[str, ...] = ()
    otherwise: Different | None = None
    guest: bool = False

    @property
    def cut_as(self) -> str:
        """Under which name what was cut there is kept: its setup's, or its own."""
        return self.setup if self.otherwise is None else self.key


def places_of(load: Load, setups: tuple[str, ...]) -> list[Place]:
    """All places of a load, setup after setup, row by row. setups: that stand in it, in their order, guests
    as they are called there.
    """
    told = {one.setup: one for one in load.stands} | {one.called: one for one in load.guests}
    guests = {one.called for one in load.guests}
    out = []
    for setup in setups:
        stand = told[setup] if setup in told else Stand(setup=setup)
        own = {one.place: one for one in stand.different}
        for number in range(1, stand.columns * stand.rows + 1):
            row, column = divmod(number - 1, stand.columns)
            here = own.get(number, Different(place=number))
            if here.empty:
                continue
            at = (
                stand.at_x + column * stand.pitch_x + here.by_x,
                stand.at_y + row * stand.pitch_y + here.by_y,
            )
            key = f"{setup}/{number}"
            otherwise = here if here.cut_otherwise else None
            guest = setup in guests
            out.append(Place(key, setup, number, at, here.offset_register, stand.stays, otherwise, guest))
    return out
