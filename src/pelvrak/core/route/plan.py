"""What does a plan say? One document for one part's whole route."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError, model_validator

from pelvrak.core.billet.block import Block
from pelvrak.core.billet.chosen import Chosen
from pelvrak.core.billet.forms import Billet
from pelvrak.core.billet.several import Several
from pelvrak.core.cutting.feeds import Material
from pelvrak.core.cutting.finish import USUAL, Finish, finished
from pelvrak.core.cutting.group import Group, shared
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput, json_from, plain, refuse_unkept
from pelvrak.core.geometry.callout import Callout
from pelvrak.core.geometry.part import FaceRef, Frozen
from pelvrak.core.holding.hold import Hold
from pelvrak.core.holding.kinds import Fixture, Ident
from pelvrak.core.load.load import Different, Load
from pelvrak.core.machine.machine import Machine, Register
from pelvrak.core.program.dialects import AnyDialect
from pelvrak.core.program.own_text import OwnText
from pelvrak.core.route.positions import IndexPosition
from pelvrak.core.seat.seating import Seat

Name = Annotated[str, Field(min_length=1, max_length=80)]


class PartFile(Frozen):
    """The part to be made. file: beside the plan document; sha256: of its bytes, once known; callouts:
    tolerances and threads typed on its faces; as_came: faces that stay as they came, rough.

    revision: letter or number of the drawing's state.
    """

    file: Annotated[str, Field(min_length=1, max_length=200)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None
    revision: Annotated[str, Field(max_length=20)] = "A"
    callouts: Annotated[tuple[Callout, ...], Field(max_length=500)] = ()
    as_came: Annotated[tuple[FaceRef, ...], Field(max_length=2000)] = ()


class Makes(Frozen):
    """The soft jaws (or nest) a setup cuts: for a later setup, and which item of its holding.

    setup: the later one, by its name; item: of its holding.
    """

    setup: Annotated[str, Field(min_length=1, max_length=20)]
    item: Ident


RotaryRun = Literal["register_each", "centre", "tilted_plane"]


class Setup(Frozen):
    """One clamping on one machine. makes: it cuts soft jaws for a later setup; the part only passes by.

    positions: how the work can be turned to the spindle; rotary_run: how the program runs them: each with its
    register, all from the rotary centre, or in a plane the control turns; order: each operation through all
    its positions, or all that is cut at one position before the work turns. program_number: of its program;
    None: by its name, next to those taken. load: setups of one name stand on the machine together and share
    its registers; "": alone. name: on the card and in the program; title: said in the program's head;
    machine: by its id in the plan or the library; offset_register: its zero is kept in; incoming: the stock
    it begins with; None: carried from the setup before. seat: how the work lies; hold: what holds it;
    operations: what is cut, in order; groups: of them, by name; text: that runs in place of the program
    written from them; set_tools: its program begins with touching each tool on the machine's setter;
    features_called: what it cuts alike at several places is written once and called with a shift.
    """

    name: Annotated[str, Field(pattern="^[A-Za-z0-9_-]{1,20}$")]
    title: Annotated[str, Field(max_length=60)] = ""
    program_number: Annotated[int, Field(ge=1, le=99_999)] | None = None
    machine: str = "vertical-760"
    offset_register: Register = "G54"
    incoming: Chosen | None = None
    seat: Seat = Seat()
    hold: Hold = Hold()
    makes: Makes | None = None
    positions: Annotated[tuple[IndexPosition, ...], Field(max_length=60)] = ()
    rotary_run: RotaryRun = "register_each"
    order: Literal["operations", "positions"] = "operations"
    load: Annotated[str, Field(pattern="^[A-Za-z0-9_-]{0,20}$")] = ""
    operations: Annotated[tuple[Operation, ...], Field(max_length=200)] = ()
    groups: Annotated[tuple[Group, ...], Field(max_length=60)] = ()
    text: OwnText | None = None
    set_tools: bool = False
    features_called: bool = False

    @model_validator(mode="after")
    def _operations_are_told_apart(self) -> Setup:
        named = [position.name for position in self.positions]
        for what, names in (
            ("operations", [operation.id for operation in self.operations]),
            ("index positions", named),
            ("groups", [group.id for group in self.groups]),
            ("groups", [group.name for group in self.groups]),
        ):
            twice = next((name for name in names if names.count(name) > 1), None)
            if twice is not None:
                raise ValueError(f"two {what} of {self.name} are called {twice}: give each its own")
        if self.makes is not None and self.text is not None:
            raise ValueError(f"{self.name} cuts jaws by what is written for them: it takes no other text")
        known = {group.id for group in self.groups}
        for operation in self.operations:
            everywhere = (operation.position or "", *operation.repeated_at)
            stray = next((name for name in everywhere if name and name not in named), None)
            if stray is not None:
                raise ValueError(
                    f"{operation.name} is cut at {stray}, and {self.name} has no such index position"
                )
            if operation.group is not None and operation.group not in known:
                raise ValueError(f"{operation.name} is in a group that {self.name} has not got")
        return self

    def group_of(self, operation: Operation) -> Group | None:
        """The group an operation belongs to."""
        return next((group for group in self.groups if group.id == operation.group), None)

    def is_on(self, operation: Operation) -> bool:
        """Whether an operation is cut: neither it nor its group is switched off."""
        group = self.group_of(operation)
        return not (operation.off or (group is not None and group.off))


class Plan(Frozen):
    """The plan document; lengths mm, angles degrees. fixtures, machines and dialects: the plan's own, before
    those of the library; resolution_mm: distance of the stock's rays.

    schema_version: of this document; name: what the project is called; part: what is made; billet: what it is
    made from; pieces: of several parts in it; tools: used in any setup; finishes: stages that operations
    name; materials: its own, before those that ship; setups: in the order they are run; loads: how setups
    that stand together do, where that is more than each once as it is planned.
    """

    schema_version: Literal[1] = 1
    name: Name
    part: PartFile
    billet: Billet = Block()
    pieces: Several | None = None
    tools: Annotated[tuple[Tool, ...], Field(max_length=400)] = ()
    fixtures: Annotated[tuple[Fixture, ...], Field(max_length=200)] = ()
    machines: Annotated[tuple[Machine, ...], Field(max_length=20)] = ()
    dialects: Annotated[tuple[AnyDialect, ...], Field(max_length=20)] = ()
    setups: Annotated[tuple[Setup, ...], Field(max_length=40)] = ()
    loads: Annotated[tuple[Load, ...], Field(max_length=20)] = ()
    finishes: Annotated[tuple[Finish, ...], Field(max_length=20)] = USUAL
    materials: Annotated[tuple[Material, ...], Field(max_length=50)] = ()
    resolution_mm: Annotated[float, Field(ge=0.1, le=5)] = 0.5

    @model_validator(mode="after")
    def _names_are_told_apart(self) -> Plan:
        for what, names in (
            ("setups", [setup.name for setup in self.setups]),
            ("tools", [tool.id for tool in self.tools]),
            ("fixtures", [fixture.id for fixture in self.fixtures]),
            ("machines", [machine.id for machine in self.machines]),
            ("dialects", [dialect.id for dialect in self.dialects]),
            ("loads", [load.name for load in self.loads]),
            ("finishes", [finish.id for finish in self.finishes]),
            ("materials", [material.name for material in self.materials]),
            (
                "programs",
                [f"O{setup.program_number:04d}" for setup in self.setups if setup.program_number is not None],
            ),
        ):
            twice = sorted({name for name in names if names.count(name) > 1})
            if twice:
                raise ValueError(f"two {what} are called {twice[0]}: give each its own")
        self._tools_have_their_places()
        self._loads_are_of_setups()
        self._pieces_come_apart()
        known = {finish.id for finish in self.finishes}
        for setup in self.setups:
            named = [(o.finish, o.name) for o in setup.operations] + [
                (g.finish, g.name) for g in setup.groups
            ]
            for finish, name in named:
                if finish is not None and finish not in known:
                    raise ValueError(f"{name} of {setup.name} names a finish the plan has not got")
        return self

    def _tools_have_their_places(self) -> None:
        """Tools may share a place of the changer as long as they are not in it for one load."""
        tools = {tool.id: tool for tool in self.tools}
        loads: dict[tuple[str, str], dict[int, Tool]] = {}
        for setup in self.setups:
            there = loads.setdefault((setup.load, "" if setup.load else setup.name), {})
            for tool in (tools[one.tool] for one in setup.operations if one.tool in tools):
                for place in tool.places:
                    if there.setdefault(place, tool).id != tool.id:
                        raise ValueError(
                            f"{there[place].name} and {tool.name} are both in place {place}, and {setup.name}"
                            " needs both: give each its own"
                        )

    def _loads_are_of_setups(self) -> None:
        """What a load says is of the plan's setups and their operations. Of one that stands elsewhere now it
        is kept for when it comes back.
        """
        here = {setup.name: setup for setup in self.setups}
        for load in self.loads:
            for stand in load.stands:
                if stand.setup not in here:
                    raise ValueError(f"load {load.name} has places for {stand.setup}: there is no such setup")
                known = {operation.id for operation in here[stand.setup].operations}
                stray = [name for one in stand.different for name in one.left_out if name not in known]
                if stray:
                    raise ValueError(f"{stand.setup} has no operation {stray[0]!r} to be left out")
                for one in stand.different:
                    ids = [*known, *(operation.id for operation in one.added)]
                    if len(set(ids)) < len(ids):
                        raise ValueError(
                            f"an operation added at place {one.place} of {stand.setup} is called as another"
                            " there: give it its own id"
                        )

    def _pieces_come_apart(self) -> None:
        """The billet is divided after a setup that cuts it."""
        division = None if self.pieces is None else self.pieces.division
        if division is not None and not any(
            one.name == division.after and one.makes is None for one in self.setups
        ):
            raise ValueError(
                f"the billet is divided after {division.after}: there is no setup of the part of that name"
            )

    @property
    def taken_places(self) -> set[int]:
        """Places of the changer that hold a tool or a twin of one."""
        return {place for tool in self.tools for place in tool.places}

    def finish_of(self, operation: Operation) -> Finish | None:
        """The finish an operation names."""
        return next((finish for finish in self.finishes if finish.id == operation.finish), None)

    def shares_of(self, operation: Operation) -> tuple[float, float]:
        """Of the computed speed and feed, what an operation's finish takes."""
        finish = self.finish_of(operation)
        return (1.0, 1.0) if finish is None else (finish.speed_share, finish.feed_share)

    def settled(self) -> Plan:
        """The plan as it is cut: without what is switched off, and with what operations leave to their groups
        and finishes said by themselves.
        """

        def cut(setup: Setup) -> Setup:
            on = [shared(one, setup.group_of(one)) for one in setup.operations if setup.is_on(one)]
            told = tuple(finished(one, self.finish_of(one)) for one in on)
            return setup.model_copy(update={"operations": told, "groups": ()})

        def added(one: Different) -> Different:
            told = tuple(finished(o, self.finish_of(o)) for o in one.added if not o.off)
            return one.model_copy(update={"added": told})

        def there(load: Load) -> Load:
            stands = tuple(
                stand.model_copy(update={"different": tuple(added(one) for one in stand.different)})
                for stand in load.stands
            )
            return load.model_copy(update={"stands": stands})

        setups, loads = tuple(cut(one) for one in self.setups), tuple(there(one) for one in self.loads)
        return self.model_copy(update={"setups": setups, "loads": loads})


def program_numbers(plan: Plan) -> dict[str, int]:
    """The number of every setup's program, each another: as typed, else by the digits of its name, else the
    next that is free.
    """
    taken = {setup.program_number for setup in plan.setups if setup.program_number is not None}
    out: dict[str, int] = {}
    for setup in plan.setups:
        number = setup.program_number
        if number is None:
            digits = int("".join(c for c in setup.name if c.isdigit())[:6] or "1")
            number = digits if 1 <= digits <= 9999 else 1
            while number in taken:
                number += 1
            taken.add(number)
        out[setup.name] = number
    return out


def load_numbers(plan: Plan) -> dict[str, int]:
    """The number of every load's program: by the digits of its name, else the next that no other has."""
    taken = set(program_numbers(plan).values())
    out: dict[str, int] = {}
    for one in plan.loads:
        number = int("".join(c for c in one.name if c.isdigit())[:4] or "1") or 1
        while number in taken:
            number += 1
        taken.add(number)
        out[one.name] = number
    return out


def numbers_taken(plan: Plan) -> set[int]:
    """Numbers that programs of setups and loads have: no subprogram gets one of them."""
    return {*program_numbers(plan).values(), *load_numbers(plan).values()}


def plan_from_json(text: str | bytes, where: str = "plan") -> Plan:
    """A plan from its document. Raises BadInput naming the first field that is wrong."""
    return plan_from(json_from(text, where, "plan.invalid"), where)


def plan_from(value: Any, where: str = "plan") -> Plan:
    """A plan from JSON values. Raises BadInput naming the first field that is wrong."""
    refuse_unkept(value, where, "plan.invalid")
    try:
        return Plan.model_validate(value)
    except ValidationError as wrong:
        raise refusal(wrong, where) from wrong


def billet_from(text: str) -> Billet:
    """A billet from its document. Raises BadInput naming the first field that is wrong."""
    billet: Billet = _piece_from(text, "billet", TypeAdapter(Billet))
    return billet


def pieces_from(text: str) -> Several:
    """Several parts in one billet, from their document. Raises BadInput naming the first wrong field."""
    pieces: Several = _piece_from(text, "pieces", TypeAdapter(Several))
    return pieces


def hold_from(text: str) -> Hold:
    """A holding from its document. Raises BadInput naming the first field that is wrong."""
    hold: Hold = _piece_from(text, "hold", TypeAdapter(Hold))
    return hold


def _piece_from(text: str, where: str, kind: TypeAdapter[Any]) -> Any:
    value = json_from(text, where, "plan.invalid")
    refuse_unkept(value, where, "plan.invalid")
    try:
        return kind.validate_python(value)
    except ValidationError as wrong:
        raise refusal(wrong, where) from wrong


def refusal(wrong: ValidationError, where: str) -> BadInput:
    """The first error of a validation, as a refusal naming its field."""
    first = wrong.errors(include_url=False)[0]
    field = "/".join(str(step) for step in first["loc"]) or where
    what, mend = plain(first)
    given = first.get("input")
    shown = f" (got {given!r})" if isinstance(given, (int, float, str)) and len(str(given)) < 60 else ""
    return BadInput("plan.invalid", field, what + shown, mend)
